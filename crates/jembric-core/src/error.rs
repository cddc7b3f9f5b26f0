//! The error type of the core. Each variant carries facts: what happened, and where. `rendered`
//! turns them into text.

mod rendered;

use crate::{
    calendar::{Day, Grain, ValueError},
    kind::Type,
};
pub use rendered::{Advised, Smaller, Words};

use arrow_schema::ArrowError;
use borsh::{BorshDeserialize, BorshSerialize};
use std::{borrow::Cow, fmt};

/// A result whose error is [`enum@Error`].
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What can be wrong with a table, or with the settings of an operation.
#[derive(Debug)]
#[non_exhaustive]
pub enum Error {
    /// The table has no column of this name.
    NoSuchColumn {
        /// The file that the table came from.
        file: Option<String>,
        /// The name that was given.
        column: String,
        /// The most similar names, the nearest first.
        nearest: Vec<String>,
        /// All names.
        columns: Vec<String>,
    },
    /// A column has a type that the operation cannot use.
    WrongType {
        /// The file that the table came from.
        file: Option<String>,
        /// The column's name.
        column: String,
        /// The type that is required.
        expected: Expected,
        /// The type that it has.
        found: Type,
    },
    /// The cells of a column are read as values of another Rust type
    /// ([`Table::cells`](crate::Table::cells)).
    WrongCells {
        /// The column's name.
        column: String,
        /// The type that it has.
        kind: Type,
        /// The Rust type for it.
        right: &'static str,
        /// The Rust type that was given.
        requested: &'static str,
    },
    /// A row does not fit a record of a program, or a record does not fit a table.
    OtherRecord {
        /// The place of the row.
        row: String,
        /// What is wrong.
        problem: String,
    },
    /// The run was cancelled ([`Cancel`](crate::Cancel)).
    Cancelled,
    /// A column of text or numbers is used as dates.
    NotDates(Box<NotDates>),
    /// A column of text is used as numbers, and some of its cells are numbers.
    NotNumbers(Box<NotNumbers>),
    /// Every date of a column can be read with the day first and with the month first.
    AmbiguousDates(Box<AmbiguousDates>),
    /// A column is listed twice under one name.
    ListedTwice {
        /// The column.
        column: String,
    },
    /// A new column has the name of an existing one.
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
    /// A table has more rows than the limit.
    TableTooLong {
        /// How many there are.
        rows: usize,
    },
    /// A column has an Arrow type that is not supported.
    Unsupported {
        /// The column's name.
        column: String,
        /// Its Arrow type.
        data_type: String,
    },
    /// A date in an Arrow table is outside the calendar.
    DateBeyondYears {
        /// The column's name.
        column: String,
        /// The row, from 1.
        row: usize,
    },
    /// A text is not a value of its kind, such as a date, or a date is outside the calendar.
    Value(ValueError),
    /// A date in a column of periods is not the first day of a period.
    NotAFirstDay {
        /// The column's name.
        column: String,
        /// The row, from 1.
        row: usize,
        /// The date.
        day: Day,
        /// The length of the column's periods.
        grain: Grain,
    },
    /// The metadata of an Arrow column name an unknown kind of period.
    NoSuchGrain {
        /// The column's name.
        column: String,
        /// The value in the metadata.
        grain: String,
    },
    /// An operation needs finer dates than the column holds.
    TooFine {
        /// The column's name.
        column: String,
        /// The length of its periods.
        grain: Grain,
        /// What the operation needs, in words.
        requested: String,
    },
    /// The result depends on the as-of date, and there is none.
    NoAsOf {
        /// What needs it.
        what: &'static str,
    },
    /// A number is too large to be exact.
    Overflow {
        /// The operation.
        what: String,
        /// The first row with such a number, in words.
        example: String,
    },
    /// An expression is invalid, or does not fit the columns.
    Expression(Box<ExpressionError>),
    /// The result would have more rows than the limit.
    TooManyRows {
        /// The number of rows.
        rows: u64,
        /// The limit.
        most: u64,
        /// The interval with the most rows, in words.
        widest: Option<String>,
        /// How to make the result smaller.
        advice: Smaller,
    },
    /// The result would take more memory than the limit.
    TooMuchMemory {
        /// The number of rows.
        rows: u64,
        /// The bytes that they would take.
        bytes: u64,
        /// The limit.
        most: u64,
        /// How to make the result smaller.
        advice: Smaller,
    },
    /// The receiver of the result failed.
    Sink(Box<dyn std::error::Error + Send + Sync>),
    /// A column has different types in the tables to stack.
    TypesClash {
        /// The column's name.
        column: String,
        /// The type in one table.
        one: Type,
        /// The name of that table.
        in_one: String,
        /// The type in another table.
        other: Type,
        /// The name of that table.
        in_other: String,
    },
    /// Two columns to match have types that are never equal.
    KeysClash {
        /// The column of the events.
        column: String,
        /// Its type.
        one: Type,
        /// One of its values.
        example: Option<String>,
        /// Which table the other one is, in words: `of the windows` or `before`.
        side: &'static str,
        /// Its column.
        of_windows: String,
        /// Its type.
        other: Type,
        /// One of its values.
        other_example: Option<String>,
    },
    /// A setting has an invalid value.
    Setting {
        /// The setting's name.
        setting: &'static str,
        /// The value.
        value: String,
        /// The valid values.
        expected: Cow<'static, str>,
    },
    /// A setting has no effect without another one.
    SettingNeeds {
        /// The setting.
        setting: &'static str,
        /// The other setting, in words.
        needs: &'static str,
    },
    /// Two settings exclude each other.
    SettingsExclude {
        /// The setting.
        setting: &'static str,
        /// The other setting, in words.
        other: &'static str,
    },
    /// An operation has no setting of this name.
    NoSuchSetting {
        /// The operation.
        operation: String,
        /// The name.
        setting: String,
        /// The most similar names, the nearest first.
        nearest: Vec<String>,
        /// The settings of the operation.
        settings: Vec<String>,
    },
    /// An error in the value of a setting.
    InSetting {
        /// The setting.
        setting: &'static str,
        /// The error.
        source: Box<Error>,
    },
    /// A picture needs a column that the table does not have.
    NothingToDraw {
        /// The setting that could name it.
        setting: &'static str,
        /// What is needed, in words.
        needs: &'static str,
    },
    /// A picture would have too many series, rows or small pictures.
    TooMuchToDraw {
        /// What there would be: `14 series (one for each vessel)`.
        found: String,
        /// The limit.
        most: u64,
        /// The column that a small picture for each value would make smaller, if there is one.
        apart: Option<String>,
    },
    /// A plan is applied to a table of another shape.
    OtherShape {
        /// The shape that it was prepared for, in words.
        prepared: String,
        /// What the table has instead.
        found: String,
    },
    /// A text is not a value of the column's type.
    NotAValue {
        /// The setting.
        setting: &'static str,
        /// The text.
        text: String,
        /// The column.
        column: String,
        /// The type of the column.
        kind: Type,
    },
    /// A column should be constant for each entity, and is not.
    Varies {
        /// The setting.
        setting: &'static str,
        /// The column.
        column: String,
        /// The first entity with several values, in words.
        entity: String,
        /// One of its values.
        one: String,
        /// Another value.
        other: String,
    },
    /// A column has too many values for one column each.
    TooManyColumns {
        /// The column.
        column: String,
        /// The number of values.
        values: u64,
        /// The limit.
        most: u64,
    },
    /// Something that must hold in the program does not. This is a mistake in Jembric.
    Broken {
        /// What does not hold.
        invariant: &'static str,
    },
    /// Places in the data are wrong. Other parts of the table may have more of them.
    Places(Places),
    /// The newest date of a column without dates is needed.
    NoNewest {
        /// The column's name.
        column: String,
    },
    /// An Arrow kernel returned an error.
    Arrow(ArrowError),
}

/// Wrong places in the data, with their number. Those of several parts of a table can be added.
#[derive(Clone, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
#[non_exhaustive]
pub enum Places {
    /// There are several records where there may be only one.
    CellTaken {
        /// The number of cells with several records.
        cells: u64,
        /// The length of the periods.
        grain: Grain,
        /// The first of these cells.
        named: Vec<String>,
    },
    /// Intervals have no end, and missing ends are refused.
    OpenRefused {
        /// The column of ends.
        end: String,
        /// The number of rows without an end.
        rows: u64,
        /// The first of these rows.
        first: Vec<String>,
    },
    /// Records tie, and ties are refused.
    Tied {
        /// The date column.
        date: String,
        /// The number of records that tie.
        records: u64,
        /// The number of entities with such records.
        entities: u64,
        /// The first of these entities, each with its date.
        named: Vec<String>,
    },
    /// Keys occur more than once on a side of a comparison.
    DuplicateKeys {
        /// The file of the side, or `now` or `before`.
        side: String,
        /// The number of such keys.
        keys: u64,
        /// The least of these keys, each with the places of its records.
        named: Vec<String>,
    },
}

impl Places {
    /// Adds places of the same kind in later rows. Of different kinds, this one remains.
    #[must_use]
    pub fn plus(mut self, other: Places) -> Places {
        const NAMED: usize = 3;
        match (&mut self, other) {
            (
                Places::CellTaken { cells, named, .. },
                Places::CellTaken { cells: more, named: more_named, .. },
            ) => {
                *cells += more;
                named.extend(more_named);
                named.sort();
                named.truncate(NAMED);
            }
            (
                Places::OpenRefused { rows, first, .. },
                Places::OpenRefused { rows: more, first: more_first, .. },
            ) => {
                *rows += more;
                first.extend(more_first);
                first.truncate(NAMED);
            }
            (
                Places::Tied { records, entities, named, .. },
                Places::Tied { records: more, entities: more_entities, named: more_named, .. },
            ) => {
                *records += more;
                *entities += more_entities;
                named.extend(more_named);
                named.sort();
                named.truncate(NAMED);
            }
            (
                Places::DuplicateKeys { side, keys, named },
                Places::DuplicateKeys { side: other, keys: more, named: more_named },
            ) if *side == other => {
                *keys += more;
                named.extend(more_named);
                named.sort();
                named.truncate(NAMED);
            }
            _ => {}
        }
        self
    }
}

impl From<Places> for Error {
    fn from(places: Places) -> Error {
        Error::Places(places)
    }
}

impl From<ValueError> for Error {
    fn from(error: ValueError) -> Error {
        Error::Value(error)
    }
}

impl From<ArrowError> for Error {
    fn from(error: ArrowError) -> Error {
        Error::Arrow(error)
    }
}

impl Error {
    /// Whether the error counts cells of a column that cannot be used.
    pub fn counts_cells(&self) -> bool {
        match self {
            Error::InSetting { source, .. } => source.counts_cells(),
            Error::NotDates(_) | Error::NotNumbers(_) | Error::AmbiguousDates(_) => true,
            _ => false,
        }
    }

    /// Adds the setting that caused the error.
    #[must_use]
    pub fn of_setting(self, setting: &'static str) -> Error {
        match self.setting() {
            Some(_) => self,
            None => Error::InSetting { setting, source: Box::new(self) },
        }
    }

    /// The error without the setting that caused it.
    pub fn in_setting(&self) -> &Error {
        match self {
            Error::InSetting { source, .. } => source.in_setting(),
            error => error,
        }
    }

    /// The setting that caused the error, if one did.
    pub fn setting(&self) -> Option<&str> {
        match self {
            Error::Setting { setting, .. }
            | Error::SettingNeeds { setting, .. }
            | Error::SettingsExclude { setting, .. }
            | Error::NotAValue { setting, .. }
            | Error::Varies { setting, .. }
            | Error::NothingToDraw { setting, .. }
            | Error::InSetting { setting, .. } => Some(setting),
            Error::TooMuchToDraw { .. } => Some("per"),
            Error::NoSuchSetting { setting, .. } => Some(setting),
            _ => None,
        }
    }

    /// The file that the error is about, if any.
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

    /// The error without its setting.
    pub fn fact(&self) -> &Error {
        match self {
            Error::InSetting { source, .. } => source.fact(),
            error => error,
        }
    }
}

/// Adds the setting to an error of this check.
pub(crate) fn in_setting<T>(setting: &'static str, check: impl FnOnce() -> Result<T>) -> Result<T> {
    check().map_err(|error| error.of_setting(setting))
}

/// The error for an invalid value of a setting.
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

/// The type that is required.
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

/// How a column could be read, so that all of its cells can be used.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SuggestedReading {
    /// The format of its cells.
    pub format: Option<String>,
    /// The first of the hundred years for its two-digit years.
    pub century: Option<i16>,
    /// The texts that stand for a missing value.
    pub missing: Vec<String>,
    /// Whether its numbers have a decimal comma.
    pub decimal_comma: bool,
}

/// A column that is used as dates: how many of its cells are not dates, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct NotDates {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// The number of cells with a value.
    pub values: u64,
    /// The number of cells that are not dates.
    pub bad: u64,
    /// The first three of them; none for a column of whole numbers.
    pub first: Vec<BadCell>,
    /// How the column could be read, if a way was found.
    pub suggested: Option<SuggestedReading>,
}

/// A column of text that is used as numbers: how many of its cells are not numbers, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct NotNumbers {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// The number of cells with a value.
    pub values: u64,
    /// The number of cells that are not numbers.
    pub bad: u64,
    /// The first three of them.
    pub first: Vec<BadCell>,
    /// How the column could be read, if a way was found.
    pub suggested: Option<SuggestedReading>,
}

/// A column of text that is used as dates and does not show whether the day or the month comes
/// first.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct AmbiguousDates {
    /// The file that the table came from.
    pub file: Option<String>,
    /// The column's name.
    pub column: String,
    /// The first ambiguous cell.
    pub cell: BadCell,
    /// Its date with the day first.
    pub day_first: Day,
    /// Its date with the month first.
    pub month_first: Day,
}

/// What is wrong with an expression, and where.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct ExpressionError {
    /// The whole text.
    pub text: String,
    /// The bytes with the error.
    pub at: std::ops::Range<usize>,
    /// What is wrong.
    pub problem: String,
    /// What to do, if it is known.
    pub advice: Option<String>,
}

impl fmt::Display for ExpressionError {
    /// Formats the problem, and below it the text with the place marked.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
        let note = self.advice.as_deref().unwrap_or_default();
        let mark = AnnotationKind::Primary.span(self.at.clone()).label(note);
        let group =
            Group::with_level(Level::ERROR).element(Snippet::source(&self.text).annotation(mark));
        write!(f, "{}\n{}", self.problem, Renderer::plain().render(&[group]))
    }
}

/// A cell that has the wrong form.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub struct BadCell {
    /// Its row in the table, or in the table of a database, from 1.
    pub row: u64,
    /// Its line in the file, if the table came from a file with lines.
    pub line: Option<u64>,
    /// Its text.
    pub text: String,
    /// Why it is not a date, if there is more to say.
    pub why: Option<String>,
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
