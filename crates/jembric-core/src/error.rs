//! The one error type. Each variant carries the facts: what happened, and where. `told` says them
//! in words.

mod told;

pub use told::{Advised, Smaller, Words, shortened};

use crate::{
    calendar::{Day, Grain, Span, notation::NotADate},
    dates::SuggestedReading,
    shape::Type,
};
use arrow_schema::ArrowError;
use std::{borrow::Cow, fmt};

/// A result whose error is [`enum@Error`].
pub type Result<T> = std::result::Result<T, Error>;

/// What can be wrong with a table or with what was asked of it.
#[derive(Debug)]
#[non_exhaustive]
pub enum Error {
    /// A column was named that the table does not have.
    NoSuchColumn {
        /// The file that the table came from.
        file: Option<String>,
        /// The name that was given.
        column: String,
        /// The names that come nearest to it, the nearest first.
        nearest: Vec<String>,
        /// All names there are.
        columns: Vec<String>,
    },
    /// A column holds another type than the operation can use.
    WrongType {
        /// The file that the table came from.
        file: Option<String>,
        /// The column's name.
        column: String,
        /// What it would have to hold.
        expected: Expected,
        /// What it holds.
        found: Type,
    },
    /// A text column was to be used as dates.
    NotDates(Box<NotDates>),
    /// A text column was to be used as numbers, and some of its cells are.
    NotNumbers(Box<NotNumbers>),
    /// Every cell of a column can be read with the day first and with the month first.
    AmbiguousDates(Box<AmbiguousDates>),
    /// A new column would have the name of one that is there.
    NameTaken {
        /// The name.
        name: String,
    },
    /// Two columns of one table have the same name.
    TwoColumnsOfOneName {
        /// The file that the table came from.
        file: Option<String>,
        /// The name.
        name: String,
    },
    /// The columns of one table have different lengths.
    UnequalLengths {
        /// The first column that differs.
        name: String,
        /// Its rows.
        rows: usize,
        /// The rows of the others.
        expected: usize,
    },
    /// A table has more rows than one piece can hold.
    TableTooLong {
        /// How many there are.
        rows: usize,
    },
    /// An Arrow type that is not a value with one cell a row.
    Unsupported {
        /// The column's name.
        column: String,
        /// Its Arrow type.
        data_type: String,
    },
    /// A date that came in lies outside the calendar.
    DateBeyondYears {
        /// The column's name.
        column: String,
        /// The row, from 1.
        row: usize,
    },
    /// A text that should have been a date, a span, a range ….
    Malformed {
        /// What was to be read.
        what: &'static str,
        /// The text.
        text: String,
        /// What would have been read.
        expected: &'static str,
    },
    /// A word that should have been one of a known few, or a name of many.
    Unknown {
        /// What it should have been.
        what: &'static str,
        /// What was given.
        text: String,
        /// The names that come nearest to it, the nearest first.
        nearest: Vec<String>,
        /// Which there are, in words.
        known: &'static str,
    },
    /// A column of periods has a day that is not the first of one.
    NotAFirstDay {
        /// The column's name.
        column: String,
        /// The row, from 1.
        row: usize,
        /// What stands there.
        day: Day,
        /// The size of the column's periods.
        grain: Grain,
    },
    /// What Arrow's metadata tell of a column's periods is none.
    NoSuchGrain {
        /// The column's name.
        column: String,
        /// What its metadata say.
        grain: String,
    },
    /// Something finer was asked of a column than it holds.
    TooFine {
        /// The column's name.
        column: String,
        /// The size of its periods.
        grain: Grain,
        /// What was asked, in words.
        asked: String,
    },
    /// The answer depends on the as-of date, and none was given.
    NoAsOf {
        /// What needs it.
        what: &'static str,
    },
    /// Numbers became too large to be exact.
    Overflow {
        /// What was done.
        what: String,
        /// The first row where it did, in words.
        example: String,
    },
    /// An expression cannot be understood, or not of these columns.
    Expression(Box<ExpressionError>),
    /// Intervals have no end, and such were to be refused.
    OpenRefused {
        /// The column of ends.
        end: String,
        /// How many rows have none.
        rows: u64,
        /// Where the first few stand.
        first: Vec<String>,
    },
    /// An answer would have more rows than it may.
    TooManyRows {
        /// How many rows it would have.
        rows: u64,
        /// How many it may have.
        most: u64,
        /// The interval that makes most of them, in words.
        widest: Option<String>,
        /// What else could be done about it.
        advice: Smaller,
    },
    /// An answer would take more memory than it may.
    TooMuchMemory {
        /// How many rows it would have.
        rows: u64,
        /// How many bytes it would take.
        bytes: u64,
        /// How many it may take.
        most: u64,
        /// What could be done about it.
        advice: Smaller,
    },
    /// Whatever takes the answer could not.
    Sink(Box<dyn std::error::Error + Send + Sync>),
    /// Files that are to be one table have columns of one name that hold different things.
    TypesClash {
        /// The column's name.
        column: String,
        /// What it holds in one table.
        one: Type,
        /// That table's name.
        in_one: String,
        /// What it holds in another.
        other: Type,
        /// That table's name.
        in_other: String,
    },
    /// Columns that are to be equal hold things that never are.
    KeysClash {
        /// The column of the events.
        column: String,
        /// What it holds.
        one: Type,
        /// One of its values.
        example: Option<String>,
        /// The column of the windows.
        of_windows: String,
        /// What that holds.
        other: Type,
        /// One of its values.
        other_example: Option<String>,
    },
    /// A setting has a value with which nothing can be done.
    Setting {
        /// The setting's name.
        setting: &'static str,
        /// The value given.
        value: String,
        /// What it may be.
        expected: Cow<'static, str>,
    },
    /// A setting has no effect without another one.
    SettingNeeds {
        /// The setting.
        setting: &'static str,
        /// What it needs, in words.
        needs: &'static str,
    },
    /// Two settings exclude each other.
    SettingsExclude {
        /// The setting.
        setting: &'static str,
        /// The other one, in words.
        other: &'static str,
    },
    /// An operation has no setting of this name.
    NoSuchSetting {
        /// The operation.
        operation: String,
        /// The name that was given.
        setting: String,
        /// The names that come nearest to it, the nearest first.
        nearest: Vec<String>,
        /// The settings that it has.
        settings: Vec<String>,
    },
    /// What is wrong with the value of a setting.
    InSetting {
        /// The setting.
        setting: &'static str,
        /// What is wrong.
        source: Box<Error>,
    },
    /// A plan was applied to a table of another shape than it was prepared for.
    OtherShape {
        /// What it was prepared for, in words.
        prepared: String,
        /// What the table has instead.
        found: String,
    },
    /// A text is no value of the column that it is for.
    NotAValue {
        /// The setting.
        setting: &'static str,
        /// What it says.
        text: String,
        /// The column.
        column: String,
        /// What that holds.
        kind: Type,
    },
    /// Several records stand where there may be one.
    CellTaken {
        /// How many cells have several records.
        cells: u64,
        /// The size of the periods.
        grain: Grain,
        /// The first few of them.
        named: Vec<String>,
    },
    /// A column that should say the same of an entity in every record does not.
    Varies {
        /// The setting.
        setting: &'static str,
        /// The column.
        column: String,
        /// The first entity for which it changes, in words.
        entity: String,
        /// One of its values.
        one: String,
        /// Another.
        other: String,
    },
    /// A column has too many values for each to become a column.
    TooManyColumns {
        /// The column.
        column: String,
        /// How many values it has.
        values: u64,
        /// How many there may be.
        most: u64,
    },
    /// A date reckoned with leads out of the calendar.
    BeyondCalendar {
        /// Where the reckoning began.
        from: Day,
        /// What was added.
        span: Span,
    },
    /// Records tie, and ties were to be refused.
    Tied {
        /// The date column.
        date: String,
        /// How many records tie.
        records: u64,
        /// How many entities have such records.
        entities: u64,
        /// The first few of them, each with its date.
        named: Vec<String>,
    },
    /// A column has no date at all, where its newest was asked for.
    NoNewest {
        /// The column's name.
        column: String,
    },
    /// An Arrow kernel refused.
    Arrow(ArrowError),
}

impl From<ArrowError> for Error {
    fn from(error: ArrowError) -> Error {
        Error::Arrow(error)
    }
}

impl Error {
    /// The same error, which knows the setting that caused it.
    #[must_use]
    pub fn of_setting(self, setting: &'static str) -> Error {
        match self.setting() {
            Some(_) => self,
            None => Error::InSetting { setting, source: Box::new(self) },
        }
    }

    /// The setting that caused it, where one did.
    pub fn setting(&self) -> Option<&str> {
        match self {
            Error::Setting { setting, .. }
            | Error::SettingNeeds { setting, .. }
            | Error::SettingsExclude { setting, .. }
            | Error::NotAValue { setting, .. }
            | Error::Varies { setting, .. }
            | Error::InSetting { setting, .. } => Some(setting),
            Error::NoSuchSetting { setting, .. } => Some(setting),
            _ => None,
        }
    }

    /// The file that it is about, where it is about one.
    pub fn file(&self) -> Option<&str> {
        match self.fact() {
            Error::NoSuchColumn { file, .. }
            | Error::WrongType { file, .. }
            | Error::TwoColumnsOfOneName { file, .. } => file.as_deref(),
            Error::NotDates(about) => about.file.as_deref(),
            Error::NotNumbers(about) => about.file.as_deref(),
            Error::AmbiguousDates(about) => about.file.as_deref(),
            _ => None,
        }
    }

    /// The error itself, without the setting that caused it.
    pub fn fact(&self) -> &Error {
        match self {
            Error::InSetting { source, .. } => source.fact(),
            error => error,
        }
    }
}

/// Whatever goes wrong here is caused by this setting.
pub(crate) fn in_setting<T>(setting: &'static str, check: impl FnOnce() -> Result<T>) -> Result<T> {
    check().map_err(|error| error.of_setting(setting))
}

/// The error that a setting has a value with which nothing can be done.
pub(crate) fn refuse<T>(
    setting: &'static str,
    value: impl Into<String>,
    expected: impl Into<Cow<'static, str>>,
) -> Result<T> {
    Err(Error::Setting { setting, value: value.into(), expected: expected.into() })
}

/// The error that a setting has no effect without another one.
pub(crate) fn needs<T>(setting: &'static str, needs: &'static str) -> Result<T> {
    Err(Error::SettingNeeds { setting, needs })
}

/// The error that two settings exclude each other.
pub(crate) fn excludes<T>(setting: &'static str, other: &'static str) -> Result<T> {
    Err(Error::SettingsExclude { setting, other })
}

/// What a column would have to hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Expected {
    /// Dates, moments or periods.
    Dates,
    /// Days, and not moments.
    Days,
    /// Numbers.
    Numbers,
}

impl fmt::Display for Expected {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Expected::Dates => "dates",
            Expected::Days => "days",
            Expected::Numbers => "numbers",
        })
    }
}

/// A text column was to be used as dates: how much of it is not a date, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct NotDates {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// How many cells have a value.
    pub values: u64,
    /// How many of them are no dates.
    pub bad: u64,
    /// The first three of those.
    pub first: Vec<BadCell>,
    /// How the column could be read, where that was found.
    pub suggested: Option<SuggestedReading>,
}

/// A text column that was to be used as numbers: how much of it is none, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct NotNumbers {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// How many cells have a value.
    pub values: u64,
    /// How many of them are no numbers.
    pub bad: u64,
    /// The first three of those.
    pub first: Vec<BadCell>,
    /// How the column could be read, where that was found.
    pub suggested: Option<SuggestedReading>,
}

/// A text column that was to be used as dates leaves open whether day or month comes first.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct AmbiguousDates {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// The first cell that can be read both ways.
    pub cell: BadCell,
    /// That cell with the day first.
    pub day_first: Day,
    /// That cell with the month first.
    pub month_first: Day,
}

/// What is wrong with an expression, and where in its text.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExpressionError {
    /// The whole text.
    pub text: String,
    /// The bytes of it that are meant.
    pub at: std::ops::Range<usize>,
    /// What is wrong there.
    pub problem: String,
    /// What to do about it, where that can be said.
    pub advice: Option<String>,
}

impl fmt::Display for ExpressionError {
    /// The problem, and below it the text with the place marked.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
        let note = self.advice.as_deref().unwrap_or_default();
        let mark = AnnotationKind::Primary.span(self.at.clone()).label(note);
        let group =
            Group::with_level(Level::ERROR).element(Snippet::source(&self.text).annotation(mark));
        write!(f, "{}\n{}", self.problem, Renderer::plain().render(&[group]))
    }
}

/// A cell that is not what it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct BadCell {
    /// Its row in the table, from 1.
    pub row: u64,
    /// Its line in the file, where the table came from one.
    pub line: Option<u64>,
    /// What stands there.
    pub text: String,
    /// Why it is not a date, where it has not just been found ambiguous.
    pub why: Option<String>,
}

impl BadCell {
    pub(crate) fn new(row: usize, line: Option<u64>, text: &str, why: Option<NotADate>) -> BadCell {
        BadCell {
            row: row as u64 + 1,
            line,
            text: shortened(text),
            why: why.map(|why| why.to_string()),
        }
    }
}

impl fmt::Display for BadCell {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.line {
            Some(line) => write!(f, "line {line} `{}`", self.text)?,
            None => write!(f, "row {} `{}`", self.row, self.text)?,
        }
        self.why.as_ref().map_or(Ok(()), |why| write!(f, " ({why})"))
    }
}
