//! The texts of errors: what is wrong, where, and what to do.
//!
//! An error never names an option of the command or a key of a routine. Advice to set something is
//! an [`Advised`], and each interface (library, routine, command) has its own words for it.

use super::{AmbiguousDates, BadCell, Error, NotDates, NotNumbers, Places, SuggestedReading};
use crate::{
    calendar::{Day, ValueError},
    message::{grouped, meant, shortened},
};
use std::fmt;

/// A setting that an error suggests.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Advised<'a> {
    /// A setting of the operation, and its value.
    Setting(&'static str, String),
    /// A setting of the operation, whose value the reader knows.
    Named(&'static str),
    /// A setting for reading the file, and its value if it is known. Several values are separated
    /// by commas.
    Reading(&'static str, Option<&'a str>),
    /// The format of a column of the file.
    Column(&'a str, &'a str),
    /// What to do with a table of a database that exists already: `replace` or `append`.
    Writing(&'static str),
    /// The as-of date.
    AsOf(&'a str),
    /// A setting of the run, `memory` or `scratch`, and its value.
    Running(&'static str, &'a str),
}

/// The words of an interface for suggested settings.
pub type Words<'w> = &'w dyn Fn(&Advised<'_>) -> String;

impl<'a> Advised<'a> {
    pub(crate) fn setting(name: &'static str, value: impl fmt::Display) -> Advised<'a> {
        Advised::Setting(name, value.to_string())
    }

    pub(crate) fn column(name: &'a str, format: &'a str) -> Advised<'a> {
        Advised::Column(name, format)
    }

    /// The words of the library: method calls.
    pub fn in_rust(&self) -> String {
        let method = |name: &str| name.replace('-', "_");
        match self {
            Advised::Setting(name, value) if value.parse::<i64>().is_ok() => {
                format!("`{}({value})`", method(name))
            }
            Advised::Setting(name, value) => format!("`{}(\"{value}\")`", method(name)),
            Advised::Named(name) => format!("`{}`", method(name)),
            Advised::Reading(name, None) => format!("`Reading::{}`", method(name)),
            Advised::Reading("missing", Some(marks)) => {
                let marks: Vec<String> = marks.split(',').map(|mark| format!("{mark:?}")).collect();
                format!("`Reading::missing([{}])`", marks.join(", "))
            }
            Advised::Reading("date-order", Some(order)) => {
                let (first, others) = order.split_at(1);
                format!("`Reading::date_order(DateOrder::{}{others})`", first.to_uppercase())
            }
            Advised::Reading(name, Some(value)) if value.parse::<i64>().is_ok() => {
                format!("`Reading::{}({value})`", method(name))
            }
            Advised::Reading(name, Some(value)) => {
                format!("`Reading::{}(\"{value}\")`", method(name))
            }
            Advised::Column(name, format) => format!("`Reading::read(\"{name}\", \"{format}\")`"),
            Advised::Writing("append") => "`Existing::Append`".to_owned(),
            Advised::Writing(_) => "`Existing::Replace`".to_owned(),
            Advised::AsOf(date) => format!("`Context::as_of`, {date}"),
            Advised::Running(name, value) => format!("`Chain::{name}`, {value}"),
        }
    }
}

/// How to make a result smaller.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Smaller {
    /// Longer periods.
    LongerGrain,
    /// Longer periods or a shorter range.
    LongerGrainOrRange,
    /// The same, or a date that may mean "no end".
    NeverEnds(Day),
    /// More columns to match, windows with both bounds, or one window for each event.
    FewerPairs,
    /// More columns to match, or one window for each event.
    MatchMore,
    /// Fewer columns to compare.
    FewerColumns,
    /// Fewer columns that identify a row of the result.
    FewerKeys,
}

impl Smaller {
    fn rendered(self, words: Words<'_>) -> String {
        match self {
            Smaller::LongerGrain => "Choose a longer grain".to_owned(),
            Smaller::LongerGrainOrRange => "Choose a longer grain or a shorter range".to_owned(),
            Smaller::NeverEnds(day) => format!(
                "If {day} means \"no end\", declare it ({}). Otherwise choose a longer grain or a \
                 shorter range",
                words(&Advised::setting("never-ends", day))
            ),
            Smaller::FewerPairs => format!(
                "Match on more columns, give the windows both bounds, or keep one window for each \
                 event ({})",
                words(&Advised::setting("pick", "first"))
            ),
            Smaller::FewerColumns => "Compare fewer columns".to_owned(),
            Smaller::FewerKeys => "Choose fewer columns of keys".to_owned(),
            Smaller::MatchMore => {
                "Match on more columns, or keep one window for each event".to_owned()
            }
        }
    }
}

impl fmt::Display for Error {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.rendered(&|advised| advised.in_rust()))
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
    /// The text of the error, in the words of an interface.
    #[expect(
        clippy::too_many_lines,
        reason = "one arm for each fact, so that the compiler finds one without a text"
    )]
    pub fn rendered(&self, words: Words<'_>) -> String {
        match self {
            Error::NoSuchColumn { file, column, nearest, columns } => {
                let file = within(file);
                format!("{file}there is no column `{column}`{}", did_you_mean(nearest, columns))
            }
            Error::WrongType { file, column, expected, found } => format!(
                "{}column `{column}` holds {found}, but {expected} are required",
                within(file)
            ),
            Error::WrongCells { column, kind, right, requested } => format!(
                "column `{column}` holds {kind}: read its cells as {right}, and not as {requested}"
            ),
            Error::OtherRecord { row, problem } => format!("{row}: {problem}"),
            Error::Cancelled => "the run was cancelled".to_owned(),
            Error::NotDates(about) => about.rendered(words),
            Error::NotNumbers(about) => about.rendered(words),
            Error::AmbiguousDates(about) => about.rendered(words),
            Error::ListedTwice { column } => {
                format!(
                    "column `{column}` is listed twice: list it once, or rename one (`{column} \
                    as NAME`)"
                )
            }
            Error::NameTaken { name } => {
                format!("the table already has a column `{name}`: choose another name")
            }
            Error::TwoColumnsOfOneName { file, name } => format!(
                "{}two columns are named `{name}`. The names of columns must differ: rename one",
                within(file)
            ),
            Error::UnequalLengths { name, rows, expected } => {
                format!(
                    "column `{name}` has {rows} rows, but the columns before it have {expected}"
                )
            }
            Error::TableTooLong { rows } => {
                let most = grouped(u32::MAX - 1);
                format!("the table has {} rows, more than the limit of {most}", grouped(rows))
            }
            Error::Unsupported { column, data_type } => format!(
                "column `{column}` has the Arrow type {data_type}, which is not supported. Convert \
                 it to numbers, text, dates or timestamps"
            ),
            Error::DateBeyondYears { column, row } => {
                format!("column `{column}`, row {row}: the date is outside the years 0001 to 9999")
            }
            Error::Value(error) => error.to_string(),
            Error::NotAFirstDay { column, row, day, grain } => format!(
                "column `{column}` holds {}, but row {row} is {day}, which is not the first day \
                 of a {grain}",
                grain.plural()
            ),
            Error::NoSuchGrain { column, grain } => format!(
                "column `{column}`: its metadata field `jembric.grain` is `{}`. Expected `week`, \
                 `month`, `quarter`, `year`, or a form such as `week from Sunday` or `year from \
                 April`",
                shortened(grain)
            ),
            Error::TooFine { column, grain, requested } => format!(
                "column `{column}` holds {0}, so it has no {requested}. Ask for {0}",
                grain.plural()
            ),
            Error::NoAsOf { what } => {
                let as_of = words(&Advised::AsOf("2025-06-30"));
                format!("{what} needs the as-of date. Set it, for example to 2025-06-30: {as_of}")
            }
            Error::Overflow { what, example } => {
                format!("{what} gives a number that is too large to be exact: {example}")
            }
            Error::Expression(about) => about.to_string(),
            Error::TooManyRows { rows, most, widest, advice } => {
                let widest =
                    widest.as_ref().map(|widest| format!(": {widest}")).unwrap_or_default();
                let advice = advice.rendered(words);
                let more = words(&Advised::setting("most-rows", rows));
                format!(
                    "the result would have {} rows, more than the limit of {}{widest}. {advice}, \
                     or raise the limit: {more}",
                    grouped(rows),
                    grouped(most)
                )
            }
            Error::TooMuchMemory { rows, bytes, most, advice } => format!(
                "the result would have {} rows and need about {} of memory, more than the limit \
                 of {}. {}, or raise the limit: {}",
                grouped(rows),
                size(*bytes),
                size(*most),
                advice.rendered(words),
                words(&Advised::Running("memory", &size(*bytes).replace(' ', "")))
            ),
            Error::Sink(error) => format!("the result could not be passed on: {error}"),
            Error::TypesClash { column, one, in_one, other, in_other } => {
                let read = words(&Advised::column(column, "text"));
                format!(
                    "column `{column}` holds {one} in {in_one} and {other} in {in_other}. One \
                     column cannot hold both: read both as text ({read}), or rename one"
                )
            }
            Error::KeysClash { column, one, example, side, of_windows, other, other_example } => {
                let read = words(&Advised::column(column, "text"));
                format!(
                    "`{column}` holds {one}{}, but `{of_windows}` {side} holds {other}{}, \
                     so they never match. Read both as the same type, for example as text: {read}",
                    such_as(example),
                    such_as(other_example)
                )
            }
            Error::Setting { setting, value, expected } => {
                format!("`{setting}` is {value}: expected {expected}")
            }
            Error::SettingNeeds { setting, needs } => format!("`{setting}` needs {needs}"),
            Error::NothingToDraw { setting, needs } => {
                format!("`{setting}`: the picture needs {needs}, and the table has none")
            }
            Error::TooMuchToDraw { found, most, apart } => {
                let apart = apart.as_ref().map_or_else(String::new, |column| {
                    let apart = words(&Advised::setting("apart", column));
                    format!("Draw a small picture for each value ({apart}), choose fewer values, ")
                });
                let or = if apart.is_empty() { "Choose other columns, " } else { &apart };
                format!(
                    "the picture would have {found}, but the limit is {}. {or}or filter the rows \
                     first",
                    grouped(most)
                )
            }
            Error::SettingsExclude { setting, other } => {
                format!("`{setting}` cannot be used together with {other}")
            }
            Error::NoSuchSetting { operation, setting, nearest, settings } => {
                let known = meant(nearest, &settings.join(", "));
                format!("{operation} has no setting `{setting}`{known}")
            }
            // The value alone does not say which setting it was given to.
            Error::InSetting { setting, source } => match &**source {
                Error::Value(ValueError::Malformed { .. } | ValueError::Unknown { .. }) => {
                    format!("`{setting}`: {}", source.rendered(words))
                }
                source => source.rendered(words),
            },
            Error::OtherShape { prepared, found } => format!(
                "the operation was prepared for {prepared}, but it was given {found}: prepare it \
                 for this input"
            ),
            Error::NotAValue { setting, text, column, kind } => format!(
                "`{setting}`: `{}` is not a value of column `{column}`, which holds {kind}",
                shortened(text)
            ),
            Error::Varies { setting, column, entity, one, other } => format!(
                "`{setting}`: column `{column}` is not constant: {entity} has `{}` and `{}`. Name \
                 a column with one value for each entity, or carry it",
                shortened(one),
                shortened(other)
            ),
            Error::TooManyColumns { column, values, most } => {
                let more = words(&Advised::setting("most-side-by-side", values));
                format!(
                    "column `{column}` has {} values, and each would become a column, but the \
                     limit is {}. Choose a column with fewer values, or raise the limit: {more}",
                    grouped(values),
                    grouped(most)
                )
            }
            Error::Broken { invariant } => format!(
                "this is a mistake in Jembric: {invariant}. Please report it with the steps and a \
                 table that cause it"
            ),
            Error::Places(places) => places.rendered(words),
            Error::NoNewest { column } => {
                format!("column `{column}` has no dates, so it has no newest date")
            }
            Error::Arrow(error) => format!("Arrow reported an error: {error}"),
        }
    }
}

impl Places {
    fn rendered(&self, words: Words<'_>) -> String {
        match self {
            Places::OpenRefused { end, rows, first } => {
                let [until, drop] =
                    ["as-of", "drop"].map(|word| words(&Advised::setting("open-ends", word)));
                format!(
                    "{} {} no `{end}`, and missing ends are refused ({}{}). Let these intervals \
                     last until the as-of date ({until}), or leave them out ({drop})",
                    grouped(rows),
                    if *rows == 1 { "row has" } else { "rows have" },
                    first.join(", "),
                    if *rows > first.len() as u64 { ", …" } else { "" }
                )
            }
            Places::CellTaken { cells, grain, named } => format!(
                "{} of one entity and {grain} {} several records: {}. Combine them first, for \
                 example with `totals`",
                if *cells == 1 { "1 cell".to_owned() } else { format!("{} cells", grouped(cells)) },
                if *cells == 1 { "has" } else { "have" },
                listed(named, *cells)
            ),
            Places::Tied { date, records, entities, named } => {
                let first = words(&Advised::setting("ties", "first"));
                let then = words(&Advised::Named("then"));
                format!(
                    "{} records of {} {} tie on `{date}`, and ties are refused: {}. Allow them \
                     ({first}), or break them with {then}",
                    grouped(records),
                    grouped(entities),
                    if *entities == 1 { "entity" } else { "entities" },
                    listed(named, *entities)
                )
            }
            Places::DuplicateKeys { side, keys, named } => {
                let first = words(&Advised::setting("ties", "first"));
                let per = words(&Advised::Named("per"));
                format!(
                    "{side}: {} {} than once: {}. Choose one ({first}), or identify each record by \
                     more columns with {per}",
                    grouped(keys),
                    if *keys == 1 { "key occurs more" } else { "keys occur more" },
                    listed(named, *keys)
                )
            }
        }
    }
}

impl SuggestedReading {
    /// The advice for a column in which some cells are not numbers.
    pub(crate) fn advice_on_numbers(
        suggested: Option<&SuggestedReading>,
        column: &str,
        words: Words<'_>,
    ) -> String {
        let general = || {
            let missing = words(&Advised::Reading("missing", None));
            format!("Correct these cells, or mark them as missing ({missing})")
        };
        suggested.map_or_else(general, |suggested| suggested.rendered(column, words))
    }

    /// The advice, in the words of an interface.
    fn rendered(&self, column: &str, words: Words<'_>) -> String {
        let mut advice = Vec::new();
        advice.extend(self.format.as_ref().map(|format| words(&Advised::column(column, format))));
        let century = self.century.map(|century| century.to_string());
        advice.extend(century.map(|year| words(&Advised::Reading("century", Some(&year)))));
        if self.decimal_comma {
            advice.push(words(&Advised::Reading("decimal-comma", None)));
        }
        if !self.missing.is_empty() {
            let marks = self.missing.join(",");
            advice.push(words(&Advised::Reading("missing", Some(&marks))));
        }
        let options = advice.join(" and ");
        match (&self.format, &*self.missing) {
            (Some(_), _) => format!("Read them as dates with {options}"),
            (None, []) => format!("The numbers have a decimal comma: use {options}"),
            (None, [mark]) => format!("If `{mark}` means that there is no value, use {options}"),
            (None, _) => format!("If these mean that there is no value, use {options}"),
        }
    }
}

impl NotNumbers {
    /// The text of the error, in the words of an interface.
    pub(crate) fn rendered(&self, words: Words<'_>) -> String {
        let NotNumbers { file, column, values, bad, first, suggested } = self;
        let within = within(file);
        if *bad == 0 {
            let read = words(&Advised::column(column, "number"));
            return format!(
                "{within}column `{column}` holds text, although all of its values are numbers. \
                 Read them as numbers: {read}"
            );
        }
        let cells = bad_cells((*bad, *values), ["a number", "numbers"], first);
        let advice = SuggestedReading::advice_on_numbers(suggested.as_ref(), column, words);
        format!("{within}column `{column}` cannot be used as numbers: {cells}. {advice}")
    }
}

/// How many cells have the wrong form, and the first of them.
fn bad_cells((bad, values): (u64, u64), [one, many]: [&str; 2], first: &[BadCell]) -> String {
    let cells: Vec<String> = first.iter().map(BadCell::to_string).collect();
    let more = if bad > first.len() as u64 { ", …" } else { "" };
    let are = if bad == 1 { format!("is not {one}") } else { format!("are not {many}") };
    let cells = cells.join(", ");
    format!("{} of its {} values {are} ({cells}{more})", grouped(bad), grouped(values))
}

impl NotDates {
    /// The text of the error, in the words of an interface.
    pub(crate) fn rendered(&self, words: Words<'_>) -> String {
        let NotDates { file, column, values, bad, first, suggested } = self;
        let within = within(file);
        let advice = suggested.as_ref().map_or_else(
            || {
                let [missing, read] =
                    ["missing", "read"].map(|option| words(&Advised::Reading(option, None)));
                if bad == values {
                    format!("Choose a column of dates, or give their format ({read})")
                } else {
                    format!(
                        "Correct these cells, mark them as missing ({missing}), or give the \
                     format of the dates ({read})"
                    )
                }
            },
            |suggested| suggested.rendered(column, words),
        );
        if first.is_empty() {
            return format!("{within}column `{column}` holds whole numbers. {advice}");
        }
        let cells = bad_cells((*bad, *values), ["a date", "dates"], first);
        format!("{within}column `{column}` cannot be used as dates: {cells}. {advice}")
    }
}

impl AmbiguousDates {
    /// The text of the error, in the words of an interface.
    pub(crate) fn rendered(&self, words: Words<'_>) -> String {
        let AmbiguousDates { file, column, cell, day_first, month_first } = self;
        let [dmy, mdy] =
            ["dmy", "mdy"].map(|order| words(&Advised::Reading("date-order", Some(order))));
        format!(
            "{}column `{column}` does not show whether the day or the month comes first: {cell} \
             is {day_first} or {month_first}. Choose {dmy} or {mdy}",
            within(file)
        )
    }
}

/// The most column names in a message.
const MOST_NAMES: usize = 50;
/// A number of bytes, rounded up, in the unit that shows two or three of its digits.
fn size(bytes: u64) -> String {
    let units = [("KiB", 1 << 10), ("MiB", 1 << 20), ("GiB", 1 << 30)];
    let shows = |(_, of_unit): &(&str, u64)| bytes / of_unit < 2560;
    let (unit, of_unit) = units.into_iter().find(shows).unwrap_or(units[2]);
    format!("{} {unit}", bytes.div_ceil(of_unit))
}

fn within(file: &Option<String>) -> String {
    file.as_ref().map(|file| format!("{file}: ")).unwrap_or_default()
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
            format!(". The columns are: {}{more}", quoted(first).join(", "))
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
