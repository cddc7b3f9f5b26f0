//! The one error type. Each variant carries enough to say what happened, where, and what to do about it.

use crate::{
    calendar::{Day, Grain, Span, notation::NotADate},
    shape::Type,
};
use arrow_schema::ArrowError;
use std::fmt;

/// A result whose error is [`enum@Error`].
pub type Result<T> = std::result::Result<T, Error>;

/// What can be wrong with a table or with what was asked of it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// A column was named that the table does not have.
    #[error("{}there is no column `{column}`{}", within(.file), did_you_mean(.nearest, .columns))]
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
    #[error("{}column `{column}` holds {found}, where {expected} are needed{}", within(.file), compact_dates(.column, .expected, *.found))]
    WrongType {
        /// The file that the table came from.
        file: Option<String>,
        /// The column's name.
        column: String,
        /// What it would have to hold.
        expected: &'static str,
        /// What it holds.
        found: Type,
    },
    /// A text column was to be used as dates.
    #[error("{0}")]
    NotDates(Box<NotDates>),
    /// A text column was to be used as numbers, and some of its cells are.
    #[error("{0}")]
    NotNumbers(Box<NotNumbers>),
    /// Every cell of a column can be read with the day first and with the month first.
    #[error("{0}")]
    AmbiguousDates(Box<AmbiguousDates>),
    /// A new column would have the name of one that is there.
    #[error("there is a column `{name}` already: choose another name")]
    NameTaken {
        /// The name.
        name: String,
    },
    /// Two columns of one table have the same name.
    #[error("{}two columns are called `{name}`: a column is found by its name, so rename one", within(.file))]
    TwoColumnsOfOneName {
        /// The file that the table came from.
        file: Option<String>,
        /// The name.
        name: String,
    },
    /// The columns of one table have different lengths.
    #[error("column `{name}` has {rows} rows, the ones before it {expected}")]
    UnequalLengths {
        /// The first column that differs.
        name: String,
        /// Its rows.
        rows: usize,
        /// The rows of the others.
        expected: usize,
    },
    /// A table has more rows than one piece can hold.
    #[error("{rows} rows are more than one piece can hold ({}): split the table", u32::MAX - 1)]
    TooManyRows {
        /// How many there are.
        rows: usize,
    },
    /// An Arrow type that is not a value with one cell a row.
    #[error(
        "column `{column}` has the Arrow type {data_type}, which cannot be read as numbers, text, dates or moments"
    )]
    Unsupported {
        /// The column's name.
        column: String,
        /// Its Arrow type.
        data_type: String,
    },
    /// A date that came in lies outside the calendar.
    #[error("column `{column}` has in row {row} a date outside the years 0001 to 9999")]
    DateBeyondYears {
        /// The column's name.
        column: String,
        /// The row, from 1.
        row: usize,
    },
    /// A text that should have been a date, a span, a range ….
    #[error("`{text}` cannot be read as {what}: expected {expected}")]
    Malformed {
        /// What was to be read.
        what: &'static str,
        /// The text.
        text: String,
        /// What would have been read.
        expected: &'static str,
    },
    /// A word that should have been one of a known few, or a name of many.
    #[error("`{text}` is not {what}{}", meant(.nearest, .known))]
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
    #[error("column `{column}` holds {}, but row {row} is {day}, which is not the first day of one", .grain.plural())]
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
    #[error(
        "column `{column}` says in its metadata that it holds periods of `{grain}` (`jembric.grain`). There are: week, month, \
         quarter, year, also `week from Sunday` and `year from April`"
    )]
    NoSuchGrain {
        /// The column's name.
        column: String,
        /// What its metadata say.
        grain: String,
    },
    /// Something finer was asked of a column than it holds.
    #[error(
        "column `{column}` holds {}, of which {asked} cannot be told: ask for {}",
        .grain.plural(), .grain.plural()
    )]
    TooFine {
        /// The column's name.
        column: String,
        /// The size of its periods.
        grain: Grain,
        /// What was asked, in words.
        asked: String,
    },
    /// The answer depends on the as-of date, and none was given.
    #[error(
        "{what} needs to know the date that the answer speaks of: say it with `as-of`, as in `--as-of 2025-06-30`"
    )]
    NoAsOf {
        /// What needs it.
        what: &'static str,
    },
    /// Numbers became too large to be exact.
    #[error("{what} leads to a number that is too large to be held exactly: {example}")]
    Overflow {
        /// What was done.
        what: String,
        /// The first row where it did, in words.
        example: String,
    },
    /// An expression cannot be understood, or not of these columns.
    #[error("{0}")]
    Expression(Box<Misexpressed>),
    /// Intervals have no end, and such were to be refused.
    #[error(
        "{rows} {} no `{end}`, and open ends are refused ({}{}). Let them last until the as-of date, or drop them: `open-ends` \
         as-of or drop",
        if *.rows == 1 { "row has" } else { "rows have" }, .first.join(", "), if *.rows > .first.len() as u64 { ", …" } else { "" }
    )]
    OpenRefused {
        /// The column of ends.
        end: String,
        /// How many rows have none.
        rows: u64,
        /// Where the first few stand.
        first: Vec<String>,
    },
    /// An answer would have more rows than it may.
    #[error(
        "the answer would have {rows} rows, more than the {most} that it may{}. {advice}, or allow more: `--most-rows {rows}`",
        .widest.as_ref().map(|widest| format!(": {widest}")).unwrap_or_default()
    )]
    Flood {
        /// How many rows it would have.
        rows: u64,
        /// How many it may have.
        most: u64,
        /// The interval that makes most of them, in words.
        widest: Option<String>,
        /// What else could be done about it.
        advice: &'static str,
    },
    /// An answer would take more memory than it may.
    #[error(
        "the answer would have {rows} rows and take about {} of memory, more than the {} that it may. {advice}",
        gibibytes(*.bytes), gibibytes(*.most)
    )]
    TooMuchMemory {
        /// How many rows it would have.
        rows: u64,
        /// How many bytes it would take.
        bytes: u64,
        /// How many it may take.
        most: u64,
        /// What could be done about it.
        advice: &'static str,
    },
    /// Whatever takes the answer could not.
    #[error("the answer could not be handed over: {0}")]
    Sink(Box<dyn std::error::Error + Send + Sync>),
    /// Files that are to be one table have columns of one name that hold different things.
    #[error(
        "column `{column}` holds {one} in {in_one} and {other} in {in_other}, which cannot stand in one column: read both \
         alike (`--read '{column}=text'`), or rename one"
    )]
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
    #[error(
        "`{column}` holds {one}{} and `{of_windows}` of the windows {other}{}, which are never equal: read both alike, as in \
         `--read '{column}=text'`",
        such_as(.example), such_as(.other_example)
    )]
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
    #[error("`{setting}` is {value}: expected {expected}")]
    Setting {
        /// The setting's name.
        setting: &'static str,
        /// The value given.
        value: String,
        /// What it may be.
        expected: &'static str,
    },
    /// A text is no value of the column that it is for.
    #[error("`{setting}`: `{text}` cannot stand in column `{column}`, which holds {kind}")]
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
    #[error(
        "{cells} {} of one entity and {grain} {} several records: {}. Let `totals` make one of them first",
        if *.cells == 1 { "cell" } else { "cells" }, if *.cells == 1 { "has" } else { "have" },
        listed(.named, *.cells)
    )]
    CellTaken {
        /// How many cells have several records.
        cells: u64,
        /// The size of the periods.
        grain: Grain,
        /// The first few of them.
        named: Vec<String>,
    },
    /// A column that should say the same of an entity in every record does not.
    #[error(
        "`{setting}`: column `{column}` changes: {entity} has `{one}` and `{other}`. Name a column that never varies, or carry it"
    )]
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
    #[error(
        "column `{column}` has {values} values, and side by side they would be as many columns, more than the {most} that there \
         may be. Name a column with fewer values, or allow more: `--most-side-by-side {values}`"
    )]
    TooManyColumns {
        /// The column.
        column: String,
        /// How many values it has.
        values: u64,
        /// How many there may be.
        most: u64,
    },
    /// A date reckoned with leads out of the calendar.
    #[error("{span} after {from} lies outside the years 0001 to 9999")]
    BeyondCalendar {
        /// Where the reckoning began.
        from: Day,
        /// What was added.
        span: Span,
    },
    /// Records tie, and ties were to be refused.
    #[error(
        "{records} records of {entities} {} tie on `{date}`, and ties are refused: {}. Break them with `then`, or choose \
         `ties` all, first or last",
        if *.entities == 1 { "entity" } else { "entities" },
        listed(.named, *.entities)
    )]
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
    #[error("column `{column}` has no date in it, so there is no newest one")]
    NoNewest {
        /// The column's name.
        column: String,
    },
    /// An Arrow kernel refused.
    #[error("a column could not be worked on: {0}")]
    Arrow(#[from] ArrowError),
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
}

/// A text column that was to be used as dates leaves open whether day or month comes first.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error(
    "{}column `{column}` leaves open whether day or month comes first: {cell} is {day_first} or {month_first}. \
     Say which: `--date-order dmy` or `--date-order mdy`",
    within(.file)
)]
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
pub struct Misexpressed {
    /// The whole text.
    pub text: String,
    /// The bytes of it that are meant.
    pub at: std::ops::Range<usize>,
    /// What is wrong there.
    pub problem: String,
    /// What to do about it, where that can be said.
    pub advice: Option<String>,
}

impl fmt::Display for Misexpressed {
    /// The problem, and below it the text with the place marked.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
        let note = self.advice.as_deref().unwrap_or_default();
        let mark = AnnotationKind::Primary.span(self.at.clone()).label(note);
        let group = Group::with_level(Level::ERROR).element(Snippet::source(&self.text).annotation(mark));
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
        BadCell { row: row as u64 + 1, line, text: shortened(text), why: why.map(|why| why.to_string()) }
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

impl fmt::Display for NotNumbers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let NotNumbers { file, column, values, bad, first } = self;
        if *bad == 0 {
            let read = format!("`--read '{column}=number'`");
            return write!(
                f,
                "{}column `{column}` holds texts, even if all of them are numbers. Read it as such: {read}",
                within(file)
            );
        }
        let bad = bad_cells(*bad, *values, first);
        write!(f, "{}column `{column}` cannot be used as numbers: {bad}. ", within(file))?;
        f.write_str("Mark what means no value: `--missing`")
    }
}

/// How many cells are not what they should be, and which the first are.
fn bad_cells(bad: u64, values: u64, first: &[BadCell]) -> String {
    if first.is_empty() {
        return format!("its {values} values are written in another notation than was asked for");
    }
    let cells: Vec<String> = first.iter().map(BadCell::to_string).collect();
    let more = if bad > first.len() as u64 { ", …" } else { "" };
    let are = if bad == 1 { "is not one" } else { "are not" };
    format!("{bad} of its {values} values {are} ({}{more})", cells.join(", "))
}

impl fmt::Display for NotDates {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let NotDates { file, column, values, bad, first } = self;
        let cells = bad_cells(*bad, *values, first);
        write!(f, "{}column `{column}` cannot be used as dates: {cells}. ", within(file))?;
        if bad == values {
            f.write_str("Name a column of dates, or say how these are written: ")?;
        } else {
            f.write_str("Mark what means no value (`--missing`), or say how the dates are written: ")?;
        }
        write!(f, "`--read '{column}=%d.%m.%Y'`")
    }
}

/// Names of columns that a message lists.
const MOST_NAMES: usize = 50;
/// Characters of a cell that a message shows.
const MOST_SHOWN: usize = 80;

/// The beginning of a text that is too long for a message.
pub fn shortened(text: &str) -> String {
    match text.char_indices().nth(MOST_SHOWN) {
        Some((end, _)) => format!("{}… ({} bytes)", &text[..end], text.len()),
        None => text.to_owned(),
    }
}

fn gibibytes(bytes: u64) -> String {
    format!("{:.1} GiB", bytes as f64 / f64::from(1 << 30))
}

fn within(file: &Option<String>) -> String {
    file.as_ref().map(|file| format!("{file}: ")).unwrap_or_default()
}

fn compact_dates(column: &str, expected: &str, found: Type) -> String {
    match (expected, found) {
        ("dates", Type::Integer) => {
            format!(". If they are dates, say how they are written: `--read '{column}=%Y%m%d'`")
        }
        _ => String::new(),
    }
}

fn meant(nearest: &[String], known: &str) -> String {
    match nearest {
        [] => format!(". There are: {known}"),
        names => {
            let quoted: Vec<String> = names.iter().map(|name| format!("`{name}`")).collect();
            format!(". Did you mean {}?", quoted.join(" or "))
        }
    }
}

fn did_you_mean(nearest: &[String], columns: &[String]) -> String {
    let quoted = |names: &[String]| names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>();
    match nearest {
        [] if columns.is_empty() => ": the table has no columns".to_owned(),
        [] => {
            let (first, more) = columns.split_at(columns.len().min(MOST_NAMES));
            let more = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
            format!(". There are: {}{more}", quoted(first).join(", "))
        }
        names => format!(". Did you mean {}?", quoted(names).join(" or ")),
    }
}

fn such_as(example: &Option<String>) -> String {
    example.as_ref().map(|example| format!(" (`{example}`)")).unwrap_or_default()
}

fn listed(named: &[String], all: u64) -> String {
    let more = if all > named.len() as u64 { ", …" } else { "" };
    format!("{}{more}", named.join(", "))
}
