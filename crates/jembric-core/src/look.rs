//! [`Look`]: what a table holds, whether its dates are really dates, and what looks wrong.
//!
//! The facts are exact, over all rows. What *looks* wrong is a guess by the rules stated here, and
//! may be right: also texts that are almost numbers, and whole numbers that may be months.

use crate::{
    calendar::{Day, Grain, MICROS_PER_DAY, Period, Periods, Range, loose_label},
    dates::Dates,
    entities::{Entities, Missing},
    error::{Advised, AmbiguousDates, Error, NotDates, Result, SuggestedReading, Words},
    kind::Type,
    plan::NumberedRows,
    shape::Shape,
    table::Table,
};
use arrow_array::{
    Array, ArrayRef,
    cast::AsArray,
    types::{Date32Type, Int64Type},
};
use arrow_buffer::BooleanBufferBuilder;
use arrow_ord::ord::make_comparator;
use arrow_schema::SortOptions;
use std::{cmp::Ordering, collections::HashMap, fmt};

/// The most distinct texts of a column that are compared without case and blanks.
const MOST_TEXTS_FOLDED: usize = 1_000_000;
/// The most examples of a finding.
const EXAMPLES: usize = 3;

/// What a table holds, and what looks wrong in it.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Look {
    /// The number of rows.
    pub rows: u64,
    /// The columns, in order.
    pub columns: Vec<ColumnLook>,
    /// What looks wrong.
    pub findings: Vec<Finding>,
    /// The columns for a next step, if there are dates.
    pub go_on: Option<GoOn>,
}

/// The columns for a next step.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct GoOn {
    /// What the records are about: the first column with few distinct values.
    pub per: Option<String>,
    /// The date column with the fewest missing values.
    pub date: String,
    /// The start and the end of intervals, if the table has two date columns and one is hardly ever
    /// before the other.
    pub interval: Option<(String, String)>,
}

/// What a column holds.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ColumnLook {
    /// The name.
    pub name: String,
    /// The type.
    pub kind: Type,
    /// The number of missing values.
    pub missing: u64,
    /// The number of distinct values.
    pub distinct: u64,
    /// The least value, as text.
    pub least: String,
    /// The greatest value, as text.
    pub greatest: String,
    /// The notation of its dates in the file.
    pub notation: Option<String>,
    /// The days that its dates cover.
    pub dates: Option<DateLook>,
}

/// The days that a column of dates covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DateLook {
    /// The first day, or the first month, quarter and so on in a column of periods.
    pub first: Period,
    /// The last one.
    pub last: Period,
    /// The number of periods from the first to the last, both inclusive.
    pub periods: u32,
    /// The number of periods without a record.
    pub without: u32,
}

/// Something that looks wrong.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum Finding {
    /// At least half of a text column's values are dates, but not all; or the order of day and
    /// month is ambiguous.
    NotQuiteDates {
        /// The column.
        column: String,
        /// The error if it were used as dates.
        why: Box<NotQuite>,
    },
    /// At least half of a text column's values are numbers, but not all.
    NotQuiteNumbers {
        /// The column.
        column: String,
        /// The number of cells with a value.
        values: u64,
        /// The number of cells that are not numbers.
        bad: u64,
        /// The places of the first ones.
        places: Vec<String>,
        /// How the column could be read as numbers, if a way was found.
        suggested: Option<SuggestedReading>,
    },
    /// Two date columns are in the same order in at least nine of ten rows, and reversed in these.
    EndBeforeStart {
        /// The column that is usually earlier.
        start: String,
        /// The column that is usually later.
        end: String,
        /// The number of rows whose end is before their start.
        rows: u64,
        /// The places of the first ones.
        places: Vec<String>,
    },
    /// Dates that are far from the middle half: by more than three times its width, and by at least
    /// 90 days.
    FarOutside {
        /// The column.
        column: String,
        /// The number of such dates.
        rows: u64,
        /// The range of the other dates.
        usual: Range,
        /// The first ones, with their places.
        places: Vec<String>,
    },
    /// Every value of a column looks like a period, or is the first day of one.
    Periods {
        /// The column.
        column: String,
        /// The least of its values.
        example: String,
        /// The length of the periods.
        grain: Grain,
    },
    /// Texts that differ only in case or blanks.
    AlmostTheSame {
        /// The column.
        column: String,
        /// The number of values with several spellings.
        groups: u64,
        /// The first ones.
        examples: Vec<String>,
    },
    /// Rows that repeat an earlier row in every column.
    DuplicateRows {
        /// The number of such rows.
        rows: u64,
        /// The places of the first ones.
        places: Vec<String>,
    },
    /// NaN cells in a column of numbers.
    NotNumbers {
        /// The number of such cells.
        cells: u64,
    },
}

/// Why a column of text is not a column of dates.
#[derive(Debug, Clone, PartialEq, Eq)]
#[non_exhaustive]
pub enum NotQuite {
    /// Some of its cells are not dates.
    Dates(NotDates),
    /// The order of day and month is ambiguous.
    Order(AmbiguousDates),
}

/// Looks at a table that comes in batches. It keeps the rows, because a repeated row is found only
/// among all of them.
///
/// ```
/// use jembric_core::{Table, arrow::{ArrayRef, Int64Array}, Look, LookFold};
/// use std::sync::Arc;
///
/// let tons: ArrayRef = Arc::new(Int64Array::from(vec![3, 4, 3]));
/// let lifts = Table::from_columns([("tons", tons)])?;
///
/// let (mut first, mut second) = (LookFold::default(), LookFold::default());
/// first.take(&lifts.slice(0, 2), 0)?;
/// second.take(&lifts.slice(2, 1), 2)?;
/// first.merge(second)?;
/// assert_eq!(first.finish()?.findings, Look::at(&lifts)?.findings);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Default)]
pub struct LookFold {
    shape: Option<Shape>,
    rows: NumberedRows,
}

impl fmt::Debug for LookFold {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("LookFold").field("shape", &self.shape).finish_non_exhaustive()
    }
}

impl LookFold {
    /// Takes a batch of rows. Its first row has this number among all rows, from 0.
    ///
    /// Errors: the columns differ from those of earlier batches.
    pub fn take(&mut self, batch: &Table, first_row: u64) -> Result<()> {
        self.shape.get_or_insert_with(|| batch.shape()).expect_same(&batch.shape())?;
        self.rows.add_batch(batch, first_row);
        Ok(())
    }

    /// Merges the batches of another fold.
    ///
    /// Errors: as for [`take`](LookFold::take).
    pub fn merge(&mut self, other: LookFold) -> Result<()> {
        match (&self.shape, other.shape) {
            (Some(shape), Some(found)) => shape.expect_same(&found)?,
            (None, found) => self.shape = found,
            (Some(_), None) => {}
        }
        self.rows.merge(other.rows);
        Ok(())
    }

    /// The look at all batches. Without any, it is that of a table without columns.
    pub fn finish(self) -> Result<Look> {
        match self.rows.in_order()? {
            Some(table) => Look::at_all(&table),
            None => Look::at_all(&Table::from_columns(Vec::<(&str, ArrayRef)>::new())?),
        }
    }
}

impl fmt::Display for Finding {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.rendered(&|advised| advised.in_rust()))
    }
}

impl Finding {
    /// The text of the finding, in the words of an interface.
    pub fn rendered(&self, words: Words<'_>) -> String {
        let more = |places: &[String], all: u64| {
            format!("{}{}", places.join(", "), if all > places.len() as u64 { ", …" } else { "" })
        };
        let plural =
            |n: u64, one: &'static str, many: &'static str| if n == 1 { one } else { many };
        match self {
            Finding::NotQuiteDates { why, .. } => match &**why {
                NotQuite::Dates(about) => about.rendered(words),
                NotQuite::Order(about) => about.rendered(words),
            },
            Finding::NotQuiteNumbers { column, values, bad, places, suggested } => format!(
                "`{column}` is read as text, because {bad} of its {values} values {} ({}). {}",
                plural(*bad, "is not a number", "are not numbers"),
                more(places, *bad),
                SuggestedReading::advice_on_numbers(suggested.as_ref(), column, words)
            ),
            Finding::EndBeforeStart { start, end, rows, places } => {
                let row = plural(*rows, "row", "rows");
                format!("`{end}` is before `{start}` in {rows} {row}: {}", more(places, *rows))
            }
            Finding::FarOutside { column, rows, usual, places } => {
                let (date, lies) = (plural(*rows, "date", "dates"), plural(*rows, "lies", "lie"));
                format!(
                    "{rows} {date} in `{column}` {lies} far outside {usual}: {}",
                    more(places, *rows)
                )
            }
            Finding::Periods { column, example, grain } => format!(
                "`{column}` may hold {}: every value is like `{example}`. If so, read it with {}",
                grain.plural(),
                words(&Advised::column(column, grain.word()))
            ),
            Finding::AlmostTheSame { column, groups, examples } => {
                let values = plural(*groups, "value differs", "values differ");
                format!(
                    "{groups} {values} in `{column}` only by case or blanks: {}",
                    more(examples, *groups)
                )
            }
            Finding::DuplicateRows { rows, places } => {
                let row = plural(*rows, "row repeats an earlier one", "rows repeat earlier ones");
                format!("{rows} {row} in every column: {}", more(places, *rows))
            }
            Finding::NotNumbers { cells } => {
                format!(
                    "{cells} {} NaN and count as missing",
                    plural(*cells, "cell is", "cells are")
                )
            }
        }
    }
}

impl Look {
    /// Looks at a table. Cost: one numbering of each column, and one of whole rows.
    pub fn at(table: &Table) -> Result<Look> {
        let mut fold = LookFold::default();
        fold.take(table, 0)?;
        fold.finish()
    }

    fn at_all(table: &Table) -> Result<Look> {
        let mut columns = Vec::new();
        let mut findings = Vec::new();
        for (place, (name, column)) in table.names().zip(table.columns()).enumerate() {
            // In a table of its own, a column is found at once, however many columns there are.
            let alone = table.alone(place)?;
            let look = look_at_column(&alone, name, column)?;
            findings.extend(not_quite_dates(&alone, &look)?);
            findings.extend(not_quite_numbers(&alone, &look, column));
            findings.extend(far_outside(&alone, &look)?);
            findings.extend(periods(&look, column));
            findings.extend(almost_the_same(&alone, &look, column)?);
            columns.push(look);
        }
        findings.extend(ends_before_starts(table, &columns)?);
        findings.extend(duplicate_rows(table)?);
        if table.not_numbers() > 0 {
            findings.push(Finding::NotNumbers { cells: table.not_numbers() });
        }
        let rows = table.rows() as u64;
        let go_on = how_to_go_on(table, &columns)?;
        Ok(Look { rows, columns, findings, go_on })
    }
}

fn look_at_column(table: &Table, name: &str, column: &ArrayRef) -> Result<ColumnLook> {
    let kind = table.shape().find(name)?.kind.unwrap_or(Type::Nothing);
    let entities = Entities::number(table, &[name], Missing::NoEntity)?;
    let values = entities.first_rows();
    let compare = make_comparator(column, column, SortOptions::default());
    let text = |wanted: Ordering| -> Result<String> {
        let Ok(compare) = &compare else { return Ok(String::new()) };
        let best = values.iter().copied().reduce(|best, row| {
            if compare(row as usize, best as usize) == wanted { row } else { best }
        });
        best.map_or(Ok(String::new()), |row| table.cell_text(name, row as usize))
    };
    Ok(ColumnLook {
        name: name.to_owned(),
        kind,
        missing: column.logical_null_count() as u64,
        distinct: entities.count() as u64,
        least: text(Ordering::Less)?,
        greatest: text(Ordering::Greater)?,
        notation: table.origin().and_then(|origin| origin.notation_of(name)).map(str::to_owned),
        dates: if kind.is_dated() { covered(&table.dates(name)?) } else { None },
    })
}

/// The days of a date column, by row.
fn days(dates: &Dates) -> impl Iterator<Item = (usize, i32)> + '_ {
    let nulls = dates.nulls();
    let rows = match dates {
        Dates::Days(days, _) => days.len(),
        Dates::Moments(moments) => moments.len(),
        Dates::Missing(_) => 0,
    };
    let per_day = if matches!(dates, Dates::Moments(_)) { MICROS_PER_DAY } else { 1 };
    (0..rows)
        .filter(move |&row| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row)))
        .map(move |row| (row, dates.sortable(row).div_euclid(per_day) as i32))
}

/// The first and last period of a column, and how many between them have no date.
fn covered(dates: &Dates) -> Option<DateLook> {
    let periods = dates.periods();
    let numbered =
        || days(dates).filter_map(|(_, day)| Some(periods.number(Day::from_number(day)?)));
    let (least, greatest) =
        days(dates).fold((i32::MAX, i32::MIN), |(a, z), (_, day)| (a.min(day), z.max(day)));
    let (first, last) = (
        periods.containing(Day::from_number(least)?),
        periods.containing(Day::from_number(greatest)?),
    );
    let from = periods.number(first.first());
    let all = (periods.number(last.first()) - from + 1) as u32;
    let mut seen = BooleanBufferBuilder::new(all as usize);
    seen.append_n(all as usize, false);
    numbered().for_each(|number| seen.set_bit((number - from) as usize, true));
    Some(DateLook {
        first,
        last,
        periods: all,
        without: all - seen.finish().count_set_bits() as u32,
    })
}

fn not_quite_dates(table: &Table, look: &ColumnLook) -> Result<Option<Finding>> {
    if look.kind != Type::Text {
        return Ok(None);
    }
    let Err(error) = table.dates(&look.name) else { return Ok(None) };
    let why = match error {
        Error::NotDates(about) if about.bad * 2 > about.values => return Ok(None),
        Error::NotDates(about) => NotQuite::Dates(*about),
        Error::AmbiguousDates(about) => NotQuite::Order(*about),
        _ => return Ok(None),
    };
    Ok(Some(Finding::NotQuiteDates { column: look.name.clone(), why: Box::new(why) }))
}

fn not_quite_numbers(table: &Table, look: &ColumnLook, column: &ArrayRef) -> Option<Finding> {
    let texts = (look.kind == Type::Text).then(|| column.as_string_view())?;
    // A number with a leading zero or plus sign is a name.
    let is_name = |text: &str| {
        text.starts_with('+')
            || (text.starts_with('0') && text[1..].starts_with(|c: char| c.is_ascii_digit()))
    };
    let is_number = |text: &str| text.parse::<f64>().is_ok_and(f64::is_finite) && !is_name(text);
    let others = || {
        texts
            .iter()
            .enumerate()
            .filter_map(|(row, text)| Some((row, text?)))
            .filter(|(_, text)| !is_number(text.trim()))
    };
    let (values, bad) = ((texts.len() - texts.null_count()) as u64, others().count() as u64);
    if bad == 0 || bad * 2 > values {
        return None;
    }
    let numbers = texts.iter().flatten().filter(|text| is_number(text.trim()));
    let suggested = SuggestedReading::of_numbers(others().map(|(_, text)| text), numbers);
    let places = others()
        .take(EXAMPLES)
        .map(|(row, text)| format!("{} `{text}`", table.place(row)))
        .collect();
    Some(Finding::NotQuiteNumbers { column: look.name.clone(), values, bad, places, suggested })
}

fn far_outside(table: &Table, look: &ColumnLook) -> Result<Option<Finding>> {
    if look.dates.is_none() {
        return Ok(None);
    }
    let dates = table.dates(&look.name)?;
    let mut all: Vec<i32> = days(&dates).map(|(_, day)| day).collect();
    let quarter = all.len() / 4;
    let (low, high) =
        (*all.select_nth_unstable(quarter).1, *all.select_nth_unstable(3 * quarter).1);
    let margin = 3 * (high - low).max(30);
    let outside = |day: i32| day < low - margin || day > high + margin;
    let usual = all
        .iter()
        .copied()
        .filter(|&day| !outside(day))
        .fold((i32::MAX, i32::MIN), |(a, b), day| (a.min(day), b.max(day)));
    let rows = all.iter().filter(|&&day| outside(day)).count() as u64;
    let usual = Day::from_number(usual.0)
        .zip(Day::from_number(usual.1))
        .and_then(|(first, last)| Range::new(first, last));
    let (Some(usual), true) = (usual, rows > 0) else { return Ok(None) };
    let places = days(&dates)
        .filter(|&(_, day)| outside(day))
        .take(EXAMPLES)
        .map(|(row, _)| format!("{} {}", table.place(row), dates.text(row)));
    Ok(Some(Finding::FarOutside {
        column: look.name.clone(),
        rows,
        usual,
        places: places.collect(),
    }))
}

fn almost_the_same(table: &Table, look: &ColumnLook, column: &ArrayRef) -> Result<Option<Finding>> {
    if look.kind != Type::Text || look.distinct as usize > MOST_TEXTS_FOLDED {
        return Ok(None);
    }
    let texts = column.as_string_view();
    let mut folded: HashMap<String, Vec<&str>> = HashMap::new();
    let mut values = Entities::number(table, &[&look.name], Missing::NoEntity)?.first_rows();
    values.sort_unstable();
    for row in values {
        let text = texts.value(row as usize);
        let plain = text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
        folded.entry(plain).or_default().push(text);
    }
    let mut groups: Vec<Vec<&str>> = folded.into_values().filter(|texts| texts.len() > 1).collect();
    groups.iter_mut().for_each(|texts| texts.sort_unstable());
    groups.sort_unstable();
    let example = |texts: &Vec<&str>| {
        texts.iter().map(|text| format!("`{text}`")).collect::<Vec<_>>().join(" / ")
    };
    let examples: Vec<String> = groups.iter().take(EXAMPLES).map(example).collect();
    let (column, groups) = (look.name.clone(), groups.len() as u64);
    Ok((groups > 0).then_some(Finding::AlmostTheSame { column, groups, examples }))
}

/// Up to this many columns of dates, each is compared with every other.
const MOST_PAIRED: usize = 12;

fn ends_before_starts(table: &Table, columns: &[ColumnLook]) -> Result<Vec<Finding>> {
    let dated = columns.iter().enumerate().filter(|(_, column)| column.dates.is_some());
    let dated = dated.map(|(place, column)| Ok((column, table.alone(place)?.dates(&column.name)?)));
    let dated: Vec<(&ColumnLook, Dates)> = dated.collect::<Result<_>>()?;
    let mut findings = Vec::new();
    for (n, (start, starts)) in dated.iter().enumerate() {
        // With more columns of dates, only neighbours are compared as a start and an end.
        let others = match dated.len() {
            ..=MOST_PAIRED => 0..dated.len(),
            all => n.saturating_sub(1)..all.min(n + 2),
        };
        let is_end =
            |(end, _): &&(&ColumnLook, Dates)| end.name != start.name && end.kind == start.kind;
        for (end, ends) in dated[others].iter().filter(is_end) {
            let present =
                arrow_buffer::NullBuffer::union(starts.nulls().as_ref(), ends.nulls().as_ref());
            let both = |row: &usize| present.as_ref().is_none_or(|present| present.is_valid(*row));
            let order = |row: usize| ends.sortable(row).cmp(&starts.sortable(row));
            let pairs = (0..table.rows()).filter(both).count() as u64;
            let reversed =
                || (0..table.rows()).filter(both).filter(|&row| order(row) == Ordering::Less);
            let rows = reversed().count() as u64;
            if rows > 0 && rows * 10 <= pairs {
                let places = reversed().take(EXAMPLES).map(|row| table.place(row)).collect();
                let (start, end) = (start.name.clone(), end.name.clone());
                findings.push(Finding::EndBeforeStart { start, end, rows, places });
            }
        }
    }
    Ok(findings)
}

fn duplicate_rows(table: &Table) -> Result<Option<Finding>> {
    let names: Vec<&str> = table.names().collect();
    let entities = Entities::number(table, &names, Missing::IsAKey)?;
    let rows = (table.rows() - entities.count()) as u64;
    if rows == 0 || names.is_empty() {
        return Ok(None);
    }
    let first = entities.first_rows();
    let repeated =
        entities.ids().iter().enumerate().filter(|&(row, &id)| first[id as usize] as usize != row);
    let places = repeated.take(EXAMPLES).map(|(row, _)| table.place(row)).collect();
    Ok(Some(Finding::DuplicateRows { rows, places }))
}

/// A column of first days needs this many distinct values to look like one of periods.
const LEAST_PERIODS: u64 = 3;
/// The years of whole numbers that may be months, such as 202506.
const YEARS_OF_NUMBERS: std::ops::RangeInclusive<i32> = 1900..=2100;

/// The finding that a column holds periods but is read as another type.
fn periods(look: &ColumnLook, column: &ArrayRef) -> Option<Finding> {
    let grains = match look.kind {
        Type::Date(periods) if periods == Periods::DAYS => {
            [Grain::Year, Grain::Quarter, Grain::Month]
        }
        Type::Text | Type::Integer => [Grain::Month, Grain::Quarter, Grain::Week],
        _ => return None,
    };
    let is_of = |grain: &Grain| match look.kind {
        Type::Date(_) => column.as_primitive::<Date32Type>().iter().flatten().all(|number| {
            Day::from_number(number).is_some_and(|day| Periods::from(*grain).first_day(day) == day)
        }),
        Type::Text => column
            .as_string_view()
            .iter()
            .flatten()
            .all(|text| loose_label(text.as_bytes(), *grain).is_some()),
        _ => column.as_primitive::<Int64Type>().iter().flatten().all(|number| {
            let day = loose_label(number.to_string().as_bytes(), *grain);
            day.is_some_and(|day| YEARS_OF_NUMBERS.contains(&day.ymd().0))
        }),
    };
    let grain = grains.into_iter().find(is_of).filter(|_| look.distinct >= LEAST_PERIODS)?;
    Some(Finding::Periods { column: look.name.clone(), example: look.least.clone(), grain })
}

fn how_to_go_on(table: &Table, columns: &[ColumnLook]) -> Result<Option<GoOn>> {
    let rows = table.rows() as u64;
    let dated: Vec<&ColumnLook> = columns.iter().filter(|column| column.dates.is_some()).collect();
    let Some(date) = dated.iter().min_by_key(|column| column.missing) else { return Ok(None) };
    let repeats = |column: &&ColumnLook| {
        matches!(column.kind, Type::Text | Type::Integer)
            && column.distinct > 1
            && column.distinct * 3 <= rows * 2
    };
    let entity = columns
        .iter()
        .filter(repeats)
        .min_by_key(|column| (column.kind != Type::Text, column.missing > rows / 10));
    let interval = match dated[..] {
        [one, other] if one.kind == other.kind => interval(table, one, other)?,
        _ => None,
    };
    Ok(Some(GoOn {
        per: entity.map(|column| column.name.clone()),
        date: date.name.clone(),
        interval,
    }))
}

/// Two columns of dates as a start and an end, if at most one of ten rows has them reversed.
fn interval(
    table: &Table,
    one: &ColumnLook,
    other: &ColumnLook,
) -> Result<Option<(String, String)>> {
    let (ones, others) = (table.dates(&one.name)?, table.dates(&other.name)?);
    let present = arrow_buffer::NullBuffer::union(ones.nulls().as_ref(), others.nulls().as_ref());
    let both = |row: &usize| present.as_ref().is_none_or(|present| present.is_valid(*row));
    let (mut before, mut after, mut pairs) = (0_u64, 0_u64, 0_u64);
    for row in (0..table.rows()).filter(both) {
        let order = ones.sortable(row).cmp(&others.sortable(row));
        before += u64::from(order == Ordering::Less);
        after += u64::from(order == Ordering::Greater);
        pairs += 1;
    }
    let names = |start: &ColumnLook, end: &ColumnLook| Some((start.name.clone(), end.name.clone()));
    Ok(match () {
        () if before > 0 && after * 10 <= pairs => names(one, other),
        () if after > 0 && before * 10 <= pairs => names(other, one),
        () => None,
    })
}

#[cfg(test)]
mod tests;
