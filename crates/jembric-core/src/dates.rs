//! [`Dates`]: a column used as dates, and why a text column cannot be.

mod suggested;

use crate::{
    calendar::{
        Day, Grain, MICROS_PER_DAY, Moment, Periods, Range, Zone,
        notation::{self, NotADate, Order},
    },
    error::{
        AmbiguousDates, BadCell, Error, Expected, NotDates, NotNumbers, Result, SuggestedReading,
    },
    kind::{Type, period_field},
    message::shortened,
    parallel,
    table::{Numbering, Origin, Table, begins_periods},
};
use arrow_arith::aggregate::max;
use arrow_array::{
    Array, ArrayRef, Date32Array, StringViewArray, TimestampMicrosecondArray, UInt32Array,
    cast::AsArray,
};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer};
use arrow_cast::display::array_value_to_string;
use arrow_schema::{DataType, Field};
use arrow_select::take::take;
use std::borrow::Cow;

impl BadCell {
    pub(crate) fn new(
        row: usize,
        origin: Option<&Origin>,
        text: &str,
        why: Option<NotADate>,
    ) -> BadCell {
        let number = origin.map(|origin| origin.line(row));
        let has_lines = origin.is_some_and(|origin| origin.numbering() == Numbering::Lines);
        BadCell {
            row: if has_lines { row as u64 + 1 } else { number.unwrap_or(row as u64 + 1) },
            line: if has_lines { number } else { None },
            text: shortened(text),
            why: why.map(|why| why.to_string()),
        }
    }
}

impl Table {
    /// The column as days or moments. Errors: the cells that are not dates.
    pub(crate) fn dates(&self, name: &str) -> Result<Dates> {
        let shape = self.shape();
        let place = shape.place_of_dates(name).map_err(|error| self.explained(error))?;
        Ok(self.dates_at(place))
    }

    /// Declares that this column of dates holds the first days of periods.
    ///
    /// Errors: the column is missing, holds no dates, or holds a date that is not the first day of
    /// its period. Cost: one pass over the column.
    pub fn with_periods(&self, name: &str, periods: impl Into<Periods>) -> Result<Table> {
        let periods = periods.into();
        if let Some(found @ Type::Moment { .. }) = self.shape().find(name)?.kind {
            let (column, file) =
                (name.to_owned(), self.origin().map(|origin| origin.file().to_owned()));
            return Err(Error::WrongType { file, column, expected: Expected::Days, found });
        }
        if let Dates::Missing(_) = self.dates(name)? {
            return Ok(self.clone());
        }
        begins_periods(name, self.column(name)?, periods)?;
        let marked = |(field, array): (Field, ArrayRef)| {
            if field.name() == name { (period_field(name, periods), array) } else { (field, array) }
        };
        let table = Table::of_known(self.fields().map(marked))?;
        Ok(table.with_facts(self.not_numbers(), self.origin().cloned()))
    }

    /// The dates of the column at a place, which must hold dates.
    pub(crate) fn dates_at(&self, place: usize) -> Dates {
        let column = self.at(place);
        match column.data_type() {
            DataType::Date32 => {
                let periods = self.kind(place).periods().unwrap_or(Periods::DAYS);
                Dates::Days(column.as_primitive().clone(), periods)
            }
            DataType::Timestamp(..) => Dates::Moments(column.as_primitive().clone()),
            _ => Dates::Missing(column.len()),
        }
    }

    /// Formats a cell in the same way as the results.
    pub(crate) fn cell_text(&self, name: &str, row: usize) -> Result<String> {
        self.cell_text_at(self.shape().place(name)?, row)
    }

    /// Formats the cell in the column at a place.
    pub(crate) fn cell_text_at(&self, place: usize, row: usize) -> Result<String> {
        match self.kind(place) {
            Type::Date(_) | Type::Moment { .. } => Ok(self.dates_at(place).text(row)),
            _ => Ok(array_value_to_string(self.at(place), row)?),
        }
    }

    /// The newest day of a column of dates, moments or periods. A point in time counts as its day
    /// in the time zone, a period as its last day.
    ///
    /// Errors: the column is missing, holds no dates, or has no value. Cost: one pass over the
    /// column.
    pub fn newest(&self, name: &str, zone: &Zone) -> Result<Day> {
        self.dates(name)?.newest(zone).ok_or_else(|| Error::NoNewest { column: name.to_owned() })
    }

    /// Adds the cells to an error about a column that was used as numbers or dates and is neither:
    /// which cells are wrong, and how the column could be read.
    pub fn explained(&self, error: Error) -> Error {
        match error {
            Error::InSetting { setting, source } => {
                Error::InSetting { setting, source: Box::new(self.explained(*source)) }
            }
            Error::WrongType { file, column, expected: Expected::Dates, found: Type::Text } => {
                match self.column(&column) {
                    Ok(cells) => self.why_not_dates(file, column, cells.as_string_view()),
                    Err(error) => error,
                }
            }
            Error::WrongType { file, column, expected: Expected::Dates, found: Type::Integer } => {
                self.why_not_dates_but_numbers(file, column)
            }
            Error::WrongType { file, column, expected: Expected::Numbers, found: Type::Text } => {
                self.why_not_numbers(file, column)
            }
            error => error,
        }
    }

    /// The error with the cells that are not numbers, if most others are; otherwise the column is a
    /// column of text.
    fn why_not_numbers(&self, file: Option<String>, column: String) -> Error {
        let cells = self.column(&column).ok().and_then(|cells| cells.as_string_view_opt());
        let texts = || cells.into_iter().flat_map(|cells| cells.iter().enumerate());
        let values = || texts().filter_map(|(row, text)| Some((row, text?)));
        let is_number = |text: &str| text.trim().parse::<f64>().is_ok_and(f64::is_finite);
        let bad = || values().filter(|(_, text)| !is_number(text));
        let (all, bad_ones) = (values().count() as u64, bad().count() as u64);
        // Texts such as `00417` are numbers by their digits, but text on purpose. A table without
        // rows has neither.
        let is_name = |text: &str| {
            let digits = text.trim().trim_start_matches('-').as_bytes();
            matches!(digits, [b'0', b'0'..=b'9', ..] | [b'+', ..])
        };
        let are_names = bad_ones == 0 && (all == 0 || values().any(|(_, text)| is_name(text)));
        if are_names || bad_ones * 2 > all {
            return Error::WrongType {
                file,
                column,
                expected: Expected::Numbers,
                found: Type::Text,
            };
        }
        let good = values().filter(|(_, text)| is_number(text)).map(|(_, text)| text);
        let suggested = SuggestedReading::of_numbers(bad().map(|(_, text)| text), good);
        let first =
            bad().take(3).map(|(row, text)| BadCell::new(row, self.origin(), text, None)).collect();
        Error::NotNumbers(Box::new(NotNumbers {
            file,
            column,
            values: all,
            bad: bad_ones,
            first,
            suggested,
        }))
    }

    /// The error for whole numbers that are used as dates, with the format that they match, if any.
    fn why_not_dates_but_numbers(&self, file: Option<String>, column: String) -> Error {
        let (expected, found) = (Expected::Dates, Type::Integer);
        let cells = self.column(&column).ok().and_then(|cells| cells.as_primitive_opt());
        let suggested = cells.and_then(SuggestedReading::of_whole_numbers);
        let values = cells.map_or(0, |cells| cells.len() - cells.null_count()) as u64;
        match suggested {
            None => Error::WrongType { file, column, expected, found },
            suggested => Error::NotDates(Box::new(NotDates {
                file,
                column,
                values,
                bad: values,
                first: Vec::new(),
                suggested,
            })),
        }
    }

    fn why_not_dates(
        &self,
        file: Option<String>,
        column: String,
        cells: &StringViewArray,
    ) -> Error {
        if cells.null_count() == cells.len() {
            return Error::WrongType { file, column, expected: Expected::Dates, found: Type::Text };
        }
        let (order, offsets) = (likely_order(cells), offsets_wanted(cells));
        let mut about = NotDates {
            file,
            column,
            values: (cells.len() - cells.null_count()) as u64,
            bad: 0,
            first: Vec::new(),
            suggested: None,
        };
        let mut bad_rows = Vec::new();
        let mut ambiguous = None;
        for (row, text) in cells.iter().enumerate().filter_map(|(row, text)| Some((row, text?))) {
            let written = notation::read(text.as_bytes());
            if let Some(why) = why_wrong(&written, order, offsets) {
                about.bad += 1;
                bad_rows.push(row);
                if about.first.len() < 3 {
                    let cell = BadCell::new(row, self.origin(), text, None);
                    let why = Some(why).filter(|why| why != "not a date");
                    about.first.push(BadCell { why, ..cell });
                }
            } else if let Ok(written) = written
                && let Some(day_first) = written.day(Order::DayFirst)
                && let Some(month_first) = written.day(Order::MonthFirst)
                && day_first != month_first
            {
                ambiguous.get_or_insert((row, text, day_first, month_first));
            }
        }
        match ambiguous {
            Some((row, text, day_first, month_first)) if about.bad == 0 => {
                let (file, column, cell) =
                    (about.file, about.column, BadCell::new(row, self.origin(), text, None));
                Error::AmbiguousDates(Box::new(AmbiguousDates {
                    file,
                    column,
                    cell,
                    day_first,
                    month_first,
                }))
            }
            _ => {
                // Something that is nearly a date is a mistake, and not a mark for a missing value.
                let is_mark = |row: &usize| {
                    notation::read(cells.value(*row).as_bytes()) == Err(NotADate::Unknown)
                };
                about.suggested = if about.bad * 2 > about.values {
                    SuggestedReading::of_dates(cells)
                } else if bad_rows.iter().all(is_mark) {
                    SuggestedReading::of_marks(bad_rows.iter().map(|&row| cells.value(row)))
                } else {
                    None
                };
                Error::NotDates(Box::new(about))
            }
        }
    }
}

/// The order in which more of the cells are dates. The other cells are reported as wrong.
fn likely_order(cells: &StringViewArray) -> Order {
    let (mut days, mut months) = (0_u64, 0_u64);
    for written in cells.iter().flatten().filter_map(|text| notation::read(text.as_bytes()).ok()) {
        days += u64::from(written.day(Order::DayFirst).is_some());
        months += u64::from(written.day(Order::MonthFirst).is_some());
    }
    if months > days { Order::MonthFirst } else { Order::DayFirst }
}

/// Why a cell is not a date like the others; none if it is.
fn why_wrong(
    written: &std::result::Result<notation::Written, NotADate>,
    order: Order,
    has_offset: bool,
) -> Option<String> {
    match written {
        Err(why) => Some(why.to_string()),
        Ok(written) if written.day(order).is_none() => {
            Some("day and month the other way round".to_owned())
        }
        Ok(written) if written.offset.is_some() != has_offset => {
            let why = if has_offset { "without the others' offset" } else { "with an offset" };
            Some(why.to_owned())
        }
        Ok(_) => None,
    }
}

/// Whether most dates of the column have an offset.
fn offsets_wanted(cells: &StringViewArray) -> bool {
    let dates = || cells.iter().flatten().filter_map(|text| notation::read(text.as_bytes()).ok());
    let with = dates().filter(|written| written.offset.is_some()).count();
    with * 2 > dates().count()
}

/// A column that is used as dates. Its arrays share memory with the table's.
#[derive(Clone, Debug)]
pub(crate) enum Dates {
    /// Days, or the first days of periods.
    Days(Date32Array, Periods),
    Moments(TimestampMicrosecondArray),
    /// A column without any value.
    Missing(usize),
}

impl Dates {
    pub(crate) fn nulls(&self) -> Option<NullBuffer> {
        match self {
            Dates::Days(days, _) => days.nulls().cloned(),
            Dates::Moments(moments) => moments.nulls().cloned(),
            Dates::Missing(rows) => Some(NullBuffer::new_null(*rows)),
        }
    }

    /// The newest day. A point in time counts as its day in the time zone, a period as its last
    /// day.
    pub(crate) fn newest(&self, zone: &Zone) -> Option<Day> {
        match self {
            Dates::Days(days, periods) => {
                let newest = max(days).and_then(Day::from_number);
                newest.map(|day| periods.containing(day).last())
            }
            Dates::Moments(moments) => {
                let reading = |micros| {
                    if moments.timezone().is_some() { zone.reading(micros) } else { micros }
                };
                max(moments).map(reading).and_then(Moment::from_micros).map(Moment::day)
            }
            Dates::Missing(_) => None,
        }
    }

    /// Whether the column holds points in time, which need a time zone to become days.
    pub(crate) fn are_instants(&self) -> bool {
        matches!(self, Dates::Moments(moments) if moments.timezone().is_some())
    }

    /// How the column's days are grouped: single days, unless it holds longer periods.
    pub(crate) fn periods(&self) -> Periods {
        match self {
            Dates::Days(_, periods) => *periods,
            _ => Periods::DAYS,
        }
    }

    /// The dates of these rows.
    pub(crate) fn take(&self, rows: &UInt32Array) -> Result<Dates> {
        Ok(match self {
            Dates::Days(days, periods) => {
                Dates::Days(take(days, rows, None)?.as_primitive().clone(), *periods)
            }
            Dates::Moments(moments) => {
                Dates::Moments(take(moments, rows, None)?.as_primitive().clone())
            }
            Dates::Missing(_) => Dates::Missing(rows.len()),
        })
    }

    /// The rows after this day. The bits of rows without a date have no meaning.
    pub(crate) fn after(&self, day: Day, zone: &Zone) -> BooleanBuffer {
        match self {
            Dates::Days(days, _) => {
                BooleanBuffer::collect_bool(days.len(), |row| days.values()[row] > day.number())
            }
            Dates::Moments(moments) => {
                let next_midnight = self.midnight(i64::from(day.number()) + 1, zone);
                BooleanBuffer::collect_bool(moments.len(), |row| {
                    moments.values()[row] >= next_midnight
                })
            }
            Dates::Missing(rows) => BooleanBuffer::new_unset(*rows),
        }
    }

    /// The rows before the range and the rows after it, in one pass. The bits of rows without a
    /// date have no meaning.
    pub(crate) fn outside(&self, range: Range, zone: &Zone) -> [BooleanBuffer; 2] {
        let (first, last) = (range.first().number(), range.last().number());
        match self {
            Dates::Days(days, _) => outside(days.values(), first, last),
            Dates::Moments(moments) => {
                let (start, end) =
                    (self.midnight(first.into(), zone), self.midnight(i64::from(last) + 1, zone));
                outside(moments.values(), start, end - 1)
            }
            Dates::Missing(rows) => [(); 2].map(|()| BooleanBuffer::new_unset(*rows)),
        }
    }

    /// The first microsecond of the day with this number, in the unit of the column.
    fn midnight(&self, number: i64, zone: &Zone) -> i64 {
        let reading = number * MICROS_PER_DAY;
        if self.are_instants() { zone.instant(reading) } else { reading }
    }

    /// The day number of each row. The numbers of rows without a date have no meaning.
    pub(crate) fn day_numbers(&self, zone: &Zone) -> Cow<'_, [i32]> {
        let day = |micros: i64| micros.div_euclid(MICROS_PER_DAY) as i32;
        match self {
            Dates::Days(days, _) => Cow::Borrowed(days.values()),
            Dates::Moments(moments) if self.are_instants() && !zone.is_utc() => {
                Cow::Owned(zone.readings(moments.values()).map(day).collect())
            }
            Dates::Moments(moments) => Cow::Owned(parallel::map(moments.values(), day)),
            Dates::Missing(rows) => Cow::Owned(vec![0; *rows]),
        }
    }

    /// A number in the order of time for a row that has a date.
    pub(crate) fn sortable(&self, row: usize) -> i64 {
        match self {
            Dates::Days(days, _) => days.value(row).into(),
            Dates::Moments(moments) => moments.value(row),
            Dates::Missing(_) => 0,
        }
    }

    /// Formats the date of a row; empty if it is missing.
    pub(crate) fn text(&self, row: usize) -> String {
        match self {
            Dates::Days(days, periods) if days.is_valid(row) => Day::from_number(days.value(row))
                .map(|day| periods.containing(day).to_string())
                .unwrap_or_default(),
            Dates::Moments(moments) if moments.is_valid(row) => {
                let utc = if moments.timezone().is_some() { "Z" } else { "" };
                Moment::from_micros(moments.value(row))
                    .map(|moment| format!("{moment}{utc}"))
                    .unwrap_or_default()
            }
            _ => String::new(),
        }
    }
}

/// The values below the first, and those above the last.
fn outside<T: Copy + PartialOrd + Sync>(values: &[T], first: T, last: T) -> [BooleanBuffer; 2] {
    let bits = |words| BooleanBuffer::new(Buffer::from_vec(words), 0, values.len());
    parallel::outside(values, first, last).map(bits)
}

/// Errors: the requested periods are finer than those of a column.
pub(crate) fn check_grain(column: &str, dates: &Dates, grain: Grain) -> Result<()> {
    let has = dates.periods().grain();
    let fits = match (grain, dates) {
        (Grain::Hour, Dates::Days(..)) => false,
        (Grain::Hour, _) => true,
        _ => grain.holds(has),
    };
    if fits {
        return Ok(());
    }
    Err(Error::TooFine {
        column: column.to_owned(),
        grain: has,
        requested: grain.plural().to_owned(),
    })
}

#[cfg(test)]
mod tests;
