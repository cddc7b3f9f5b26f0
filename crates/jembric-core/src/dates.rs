//! [`Dates`]: a column used as dates, and why a text column cannot be.

use crate::{
    calendar::{
        Day, MICROS_PER_DAY, Moment,
        notation::{self, Order},
    },
    error::{AmbiguousDates, BadCell, Error, NotDates, Result},
    table::{Table, Type},
};
use arrow_array::{Array, Date32Array, StringViewArray, TimestampMicrosecondArray, cast::AsArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;

impl Table {
    /// The column as days or moments; otherwise an error that tells which of its cells are no dates.
    pub(crate) fn dates(&self, name: &str) -> Result<Dates<'_>> {
        let column = self.column(name)?;
        self.shape().expect_dates(name).map_err(|error| self.explain(error))?;
        Ok(match column.data_type() {
            DataType::Date32 => Dates::Days(column.as_primitive()),
            DataType::Timestamp(..) => Dates::Moments(column.as_primitive()),
            _ => Dates::Missing(column.len()),
        })
    }

    /// The newest day of a column of dates or moments.
    ///
    /// Errors: the column is missing, holds no dates, or has no value. Costs one pass over it.
    pub fn newest(&self, name: &str) -> Result<Day> {
        let newest = match self.dates(name)? {
            Dates::Days(days) => days.iter().flatten().max().and_then(Day::from_number),
            Dates::Moments(moments) => {
                moments.iter().flatten().max().and_then(Moment::from_micros).map(Moment::day)
            }
            Dates::Missing(_) => None,
        };
        newest.ok_or_else(|| Error::NoNewest { column: name.to_owned() })
    }

    /// The error that says more, where a text column was to be used as dates: which cells are not, or that all of them can
    /// be read with the day first and with the month first.
    pub(crate) fn explain(&self, error: Error) -> Error {
        match error {
            Error::WrongType { file, column, expected: "dates", found: Type::Text } => {
                match self.column(&column) {
                    Ok(cells) => self.why_not_dates(file, column, cells.as_string_view()),
                    Err(error) => error,
                }
            }
            error => error,
        }
    }

    fn why_not_dates(&self, file: Option<String>, column: String, cells: &StringViewArray) -> Error {
        let line = |row| self.origin().map(|origin| origin.line(row));
        // In which order more of the cells are dates: that is the one the others are bad in.
        let (mut days, mut months) = (0_u64, 0_u64);
        for written in cells.iter().flatten().filter_map(|text| notation::read(text.as_bytes()).ok()) {
            days += u64::from(written.day(Order::DayFirst).is_some());
            months += u64::from(written.day(Order::MonthFirst).is_some());
        }
        let order = if months > days { Order::MonthFirst } else { Order::DayFirst };
        let mut about = NotDates {
            file,
            column,
            values: (cells.len() - cells.null_count()) as u64,
            bad: 0,
            first: Vec::new(),
        };
        let mut ambiguous = None;
        let offsets = offsets_wanted(cells);
        for (row, text) in cells.iter().enumerate().filter_map(|(row, text)| Some((row, text?))) {
            let why = match notation::read(text.as_bytes()) {
                Err(why) => Some(why.to_string()),
                Ok(written) if written.day(order).is_none() => {
                    Some("day and month the other way round".to_owned())
                }
                Ok(written) if written.offset.is_some() != offsets => {
                    Some(if offsets { "without the others' offset" } else { "with an offset" }.to_owned())
                }
                Ok(written) => {
                    if let (Some(day_first), Some(month_first)) =
                        (written.day(Order::DayFirst), written.day(Order::MonthFirst))
                        && day_first != month_first
                    {
                        ambiguous.get_or_insert((row, text, day_first, month_first));
                    }
                    None
                }
            };
            if let Some(why) = why {
                about.bad += 1;
                if about.first.len() < 3 {
                    let cell = BadCell::new(row, line(row), text, None);
                    about.first.push(BadCell { why: Some(why).filter(|why| why != "not a date"), ..cell });
                }
            }
        }
        match ambiguous {
            Some((row, text, day_first, month_first)) if about.bad == 0 => {
                let (file, column, cell) =
                    (about.file, about.column, BadCell::new(row, line(row), text, None));
                Error::AmbiguousDates(Box::new(AmbiguousDates { file, column, cell, day_first, month_first }))
            }
            _ => Error::NotDates(Box::new(about)),
        }
    }
}

/// Whether most of the dates in the column have an offset.
fn offsets_wanted(cells: &StringViewArray) -> bool {
    let dates = || cells.iter().flatten().filter_map(|text| notation::read(text.as_bytes()).ok());
    let with = dates().filter(|written| written.offset.is_some()).count();
    with * 2 > dates().count()
}

/// A column used as dates.
pub(crate) enum Dates<'a> {
    Days(&'a Date32Array),
    Moments(&'a TimestampMicrosecondArray),
    /// A column without any value.
    Missing(usize),
}

impl Dates<'_> {
    pub(crate) fn nulls(&self) -> Option<NullBuffer> {
        match self {
            Dates::Days(days) => days.nulls().cloned(),
            Dates::Moments(moments) => moments.nulls().cloned(),
            Dates::Missing(rows) => Some(NullBuffer::new_null(*rows)),
        }
    }

    /// Which rows are dated after this day; what it says of rows without a date means nothing.
    pub(crate) fn after(&self, day: Day) -> BooleanBuffer {
        match self {
            Dates::Days(days) => {
                BooleanBuffer::collect_bool(days.len(), |row| days.values()[row] > day.number())
            }
            Dates::Moments(moments) => {
                let next_midnight = (i64::from(day.number()) + 1) * MICROS_PER_DAY;
                BooleanBuffer::collect_bool(moments.len(), |row| moments.values()[row] >= next_midnight)
            }
            Dates::Missing(rows) => BooleanBuffer::new_unset(*rows),
        }
    }

    /// The date of a row as a number that sorts in time; the row has one.
    pub(crate) fn sortable(&self, row: usize) -> i64 {
        match self {
            Dates::Days(days) => days.value(row).into(),
            Dates::Moments(moments) => moments.value(row),
            Dates::Missing(_) => 0,
        }
    }

    /// The date of a row in words; empty where there is none.
    pub(crate) fn text(&self, row: usize) -> String {
        match self {
            Dates::Days(days) if days.is_valid(row) => {
                Day::from_number(days.value(row)).map(|day| day.to_string()).unwrap_or_default()
            }
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

#[cfg(test)]
mod tests;
