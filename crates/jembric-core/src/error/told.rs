//! What errors say: the facts, and what to do about them in the words of whoever is told.
//!
//! An error never names an option of the command or a key of a file. Where it advises to set
//! something, that is an [`Advised`], for which each way in has its own words.

use super::{AmbiguousDates, BadCell, Error, Expected, NotDates, NotNumbers};
use crate::shape::Type;
use std::fmt;

/// Something that an error advises to set.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Advised<'a> {
    /// A setting of the operation, with its value.
    Setting(&'static str, String),
    /// How the file is read: a setting of that, with its value where one can be told.
    Reading(&'static str, Option<&'a str>),
    /// How a column of the file is read: its name and the format.
    Column(&'a str, &'a str),
    /// The as-of date.
    AsOf(&'a str),
}

/// The words for what is advised.
pub type Words<'w> = &'w dyn Fn(&Advised<'_>) -> String;

impl<'a> Advised<'a> {
    pub(crate) fn setting(name: &'static str, value: impl fmt::Display) -> Advised<'a> {
        Advised::Setting(name, value.to_string())
    }

    pub(crate) fn column(name: &'a str, format: &'a str) -> Advised<'a> {
        Advised::Column(name, format)
    }

    /// The words of the library: calls of its methods.
    pub fn in_rust(&self) -> String {
        let method = |name: &str| name.replace('-', "_");
        match self {
            Advised::Setting(name, value) if value.parse::<i64>().is_ok() => {
                format!("`{}({value})`", method(name))
            }
            Advised::Setting(name, value) => format!("`{}(\"{value}\")`", method(name)),
            Advised::Reading(name, None) => format!("`Reading::{}`", method(name)),
            Advised::Reading(name, Some(value)) if value.parse::<i64>().is_ok() => {
                format!("`Reading::{}({value})`", method(name))
            }
            Advised::Reading(name, Some(value)) => {
                format!("`Reading::{}(\"{value}\")`", method(name))
            }
            Advised::Column(name, format) => format!("`Reading::read(\"{name}\", \"{format}\")`"),
            Advised::AsOf(date) => format!("`Context::as_of`, {date}"),
        }
    }
}

/// What to do about an answer that is too large.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Smaller {
    /// Longer periods.
    LongerGrain,
    /// Longer periods or a shorter range.
    LongerGrainOrRange,
    /// The same, or name the dates that mean there is no end.
    NeverEnds,
    /// More columns to match on, windows that are bound, or one window of several.
    FewerPairs,
    /// More columns to match on, or one window of several.
    MatchMore,
}

impl Smaller {
    fn told(self, words: Words<'_>) -> String {
        match self {
            Smaller::LongerGrain => "Ask for a longer grain".to_owned(),
            Smaller::LongerGrainOrRange => "Ask for a longer grain or a shorter range".to_owned(),
            Smaller::NeverEnds => format!(
                "Ask for a longer grain or a range, name the dates that mean there is no end ({})",
                words(&Advised::setting("never-ends", "9999-12-31"))
            ),
            Smaller::FewerPairs => format!(
                "Match on more columns, bound the windows on both sides, or pick one ({})",
                words(&Advised::setting("pick", "first"))
            ),
            Smaller::MatchMore => "Match on more columns, or pick one window".to_owned(),
        }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.told(&|advised| advised.in_rust()))
    }
}

impl std::error::Error for Error {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        match self {
            Error::Arrow(source) => Some(source),
            Error::Sink(source) => Some(&**source),
            Error::InSetting { source, .. } => source.source(),
            _ => None,
        }
    }
}

impl Error {
    /// What it says, in the words of a way in for what it advises to set.
    pub fn told(&self, words: Words<'_>) -> String {
        match self {
            Error::NoSuchColumn { file, column, nearest, columns } => {
                format!(
                    "{}there is no column `{column}`{}",
                    within(file),
                    did_you_mean(nearest, columns)
                )
            }
            Error::WrongType { file, column, expected, found } => {
                let within = within(file);
                let advice = compact_dates(column, *expected, *found, words);
                format!(
                    "{within}column `{column}` holds {found}, where {expected} are needed{advice}"
                )
            }
            Error::NotDates(about) => about.told(words),
            Error::NotNumbers(about) => about.told(words),
            Error::AmbiguousDates(about) => about.told(words),
            Error::NameTaken { name } => {
                format!("there is a column `{name}` already: choose another name")
            }
            Error::TwoColumnsOfOneName { file, name } => format!(
                "{}two columns are called `{name}`: a column is found by its name, so rename one",
                within(file)
            ),
            Error::UnequalLengths { name, rows, expected } => {
                format!("column `{name}` has {rows} rows, the ones before it {expected}")
            }
            Error::TableTooLong { rows } => {
                format!(
                    "{rows} rows are more than one piece can hold ({}): split the table",
                    u32::MAX - 1
                )
            }
            Error::Unsupported { column, data_type } => format!(
                "column `{column}` has the Arrow type {data_type}, which cannot be read as \
                    numbers, text, dates or moments"
            ),
            Error::DateBeyondYears { column, row } => {
                format!("column `{column}` has in row {row} a date outside the years 0001 to 9999")
            }
            Error::Malformed { what, text, expected } => {
                format!("`{text}` cannot be read as {what}: expected {expected}")
            }
            Error::Unknown { what, text, nearest, known } => {
                format!("`{text}` is not {what}{}", meant(nearest, known))
            }
            Error::NotAFirstDay { column, row, day, grain } => format!(
                "column `{column}` holds {}, but row {row} is {day}, which is not the first day \
                    of one",
                grain.plural()
            ),
            Error::NoSuchGrain { column, grain } => format!(
                "column `{column}` says in its metadata that it holds periods of `{grain}` \
                    (`jembric.grain`). There are: week, month, \
         quarter, year, also `week from Sunday` and `year from April`"
            ),
            Error::TooFine { column, grain, asked } => format!(
                "column `{column}` holds {}, of which {asked} cannot be told: ask for {}",
                grain.plural(),
                grain.plural()
            ),
            Error::NoAsOf { what } => {
                let as_of = words(&Advised::AsOf("2025-06-30"));
                format!(
                    "{what} needs to know the date that the answer speaks of: say it with \
                        `as-of`, as in {as_of}"
                )
            }
            Error::Overflow { what, example } => {
                format!("{what} leads to a number that is too large to be held exactly: {example}")
            }
            Error::Expression(about) => about.to_string(),
            Error::OpenRefused { end, rows, first } => format!(
                "{rows} {} no `{end}`, and open ends are refused ({}{}). Let them last until the \
                    as-of date, or drop them: `open-ends` \
         as-of or drop",
                if *rows == 1 { "row has" } else { "rows have" },
                first.join(", "),
                if *rows > first.len() as u64 { ", …" } else { "" }
            ),
            Error::TooManyRows { rows, most, widest, advice } => {
                let widest =
                    widest.as_ref().map(|widest| format!(": {widest}")).unwrap_or_default();
                let advice = advice.told(words);
                let more = words(&Advised::setting("most-rows", rows));
                format!(
                    "the answer would have {rows} rows, more than the {most} that it may{widest}. \
                        {advice}, or allow \
                     more: {more}"
                )
            }
            Error::TooMuchMemory { rows, bytes, most, advice } => {
                let advice = advice.told(words);
                format!(
                    "the answer would have {rows} rows and take about {} of memory, more than the \
                        {} that it may. \
                     {advice}",
                    gibibytes(*bytes),
                    gibibytes(*most)
                )
            }
            Error::Sink(error) => format!("the answer could not be handed over: {error}"),
            Error::TypesClash { column, one, in_one, other, in_other } => {
                let read = words(&Advised::column(column, "text"));
                format!(
                    "column `{column}` holds {one} in {in_one} and {other} in {in_other}, which \
                        cannot stand in one \
                     column: read both alike ({read}), or rename one"
                )
            }
            Error::KeysClash { column, one, example, of_windows, other, other_example } => {
                let read = words(&Advised::column(column, "text"));
                format!(
                    "`{column}` holds {one}{} and `{of_windows}` of the windows {other}{}, which \
                        are never equal: read \
                     both alike, as in {read}",
                    such_as(example),
                    such_as(other_example)
                )
            }
            Error::Setting { setting, value, expected } => {
                format!("`{setting}` is {value}: expected {expected}")
            }
            Error::NoSuchSetting { operation, setting, nearest, settings } => {
                format!(
                    "`{setting}` is not a setting of {operation}{}",
                    meant(nearest, &settings.join(", "))
                )
            }
            // The value alone does not say which setting it was given to.
            Error::InSetting { setting, source } => match &**source {
                Error::Malformed { .. } | Error::Unknown { .. } => {
                    format!("`{setting}`: {}", source.told(words))
                }
                source => source.told(words),
            },
            Error::OtherShape { prepared, found } => {
                format!(
                    "expected {prepared}, and found {found}: prepare the operation for this table"
                )
            }
            Error::NotAValue { setting, text, column, kind } => {
                format!(
                    "`{setting}`: `{text}` cannot stand in column `{column}`, which holds {kind}"
                )
            }
            Error::CellTaken { cells, grain, named } => format!(
                "{cells} {} of one entity and {grain} {} several records: {}. Let `totals` make \
                    one of them first",
                if *cells == 1 { "cell" } else { "cells" },
                if *cells == 1 { "has" } else { "have" },
                listed(named, *cells)
            ),
            Error::Varies { setting, column, entity, one, other } => format!(
                "`{setting}`: column `{column}` changes: {entity} has `{one}` and `{other}`. Name \
                    a column that never varies, or carry it"
            ),
            Error::TooManyColumns { column, values, most } => {
                let more = words(&Advised::setting("most-side-by-side", values));
                format!(
                    "column `{column}` has {values} values, and side by side they would be as \
                        many columns, more than \
                     the {most} that there may be. Name a column with fewer values, or allow \
                     more: {more}"
                )
            }
            Error::BeyondCalendar { from, span } => {
                format!("{span} after {from} lies outside the years 0001 to 9999")
            }
            Error::Tied { date, records, entities, named } => format!(
                "{records} records of {entities} {} tie on `{date}`, and ties are refused: {}. \
                    Break them with `then`, or choose \
         `ties` all, first or last",
                if *entities == 1 { "entity" } else { "entities" },
                listed(named, *entities)
            ),
            Error::NoNewest { column } => {
                format!("column `{column}` has no date in it, so there is no newest one")
            }
            Error::Arrow(error) => format!("a column could not be worked on: {error}"),
        }
    }
}

impl NotNumbers {
    /// What it says, in the words of a way in.
    pub(crate) fn told(&self, words: Words<'_>) -> String {
        let NotNumbers { file, column, values, bad, first } = self;
        let within = within(file);
        if *bad == 0 {
            let read = words(&Advised::column(column, "number"));
            return format!(
                "{within}column `{column}` holds texts, even if all of them are numbers. Read it \
                    as such: {read}"
            );
        }
        let bad = bad_cells(*bad, *values, first);
        let missing = words(&Advised::Reading("missing", None));
        format!(
            "{within}column `{column}` cannot be used as numbers: {bad}. Mark what means no \
                value: {missing}"
        )
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

impl NotDates {
    /// What it says, in the words of a way in.
    pub(crate) fn told(&self, words: Words<'_>) -> String {
        let NotDates { file, column, values, bad, first } = self;
        let (within, cells) = (within(file), bad_cells(*bad, *values, first));
        let first_step = match bad == values {
            true => "Name a column of dates, or say how these are written".to_owned(),
            false => {
                let missing = words(&Advised::Reading("missing", None));
                format!("Mark what means no value ({missing}), or say how the dates are written")
            }
        };
        let read = words(&Advised::column(column, "%d.%m.%Y"));
        format!("{within}column `{column}` cannot be used as dates: {cells}. {first_step}: {read}")
    }
}

impl AmbiguousDates {
    /// What it says, in the words of a way in.
    pub(crate) fn told(&self, words: Words<'_>) -> String {
        let AmbiguousDates { file, column, cell, day_first, month_first } = self;
        let [dmy, mdy] =
            ["dmy", "mdy"].map(|order| words(&Advised::Reading("date-order", Some(order))));
        format!(
            "{}column `{column}` leaves open whether day or month comes first: {cell} is \
                {day_first} or \
             {month_first}. Say which: {dmy} or {mdy}",
            within(file)
        )
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

fn compact_dates(column: &str, expected: Expected, found: Type, words: Words<'_>) -> String {
    match (expected, found) {
        (Expected::Dates, Type::Integer) => {
            let read = words(&Advised::column(column, "%Y%m%d"));
            format!(". If they are dates, say how they are written: {read}")
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
    let quoted =
        |names: &[String]| names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>();
    match nearest {
        [] if columns.is_empty() => ": the table has no columns".to_owned(),
        [] => {
            let (first, more) = columns.split_at(columns.len().min(MOST_NAMES));
            let more =
                if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
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
