//! The figures of sentences: computed from a result, and formatted for a sentence.

use crate::{
    CoreError, Shape, Table, Totals, Type,
    arrow::{cast::AsArray, types::*},
    calendar::{Day, Grain, Moment, Month},
    formats::text::CellText,
    grouped, rounded, visible,
};
use std::collections::HashMap;

/// What stands for a figure that has no value, such as the maximum of no rows.
pub(crate) const NO_VALUE: &str = "no value";

/// A figure of a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum What {
    Rows,
    Sum,
    Mean,
    Min,
    Max,
    Newest,
    Oldest,
    Distinct,
    First,
    Last,
}

impl What {
    pub(crate) const ALL: [What; 10] = [
        What::Rows,
        What::Sum,
        What::Mean,
        What::Min,
        What::Max,
        What::Newest,
        What::Oldest,
        What::Distinct,
        What::First,
        What::Last,
    ];

    pub(crate) const fn word(self) -> &'static str {
        match self {
            What::Rows => "rows",
            What::Sum => "sum",
            What::Mean => "mean",
            What::Min => "min",
            What::Max => "max",
            What::Newest => "newest",
            What::Oldest => "oldest",
            What::Distinct => "distinct",
            What::First => "first",
            What::Last => "last",
        }
    }
}

/// A figure, and the column that it is computed from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Quantity {
    pub(crate) what: What,
    pub(crate) column: Option<String>,
}

/// A figure of the result of a step.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct Figure {
    pub(crate) step: usize,
    pub(crate) quantity: Quantity,
}

/// A figure as text for a sentence, and as a number if it is one.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Value {
    pub(crate) text: String,
    pub(crate) number: Option<f64>,
}

/// The computed figures.
pub(crate) type Figures = HashMap<Figure, Value>;

impl Quantity {
    /// Errors: the column is missing, or is known to have the wrong type.
    pub(crate) fn expect(&self, shape: &Shape) -> Result<(), CoreError> {
        let Some(column) = &self.column else { return Ok(()) };
        match self.what {
            What::Sum | What::Mean => shape.expect_numbers(column),
            What::Newest | What::Oldest => shape.expect_dates(column),
            _ => shape.find(column).map(drop),
        }
    }

    /// Computes the figure. Cost: one pass over the column.
    ///
    /// Errors: those of [`expect`](Quantity::expect), and of [`Totals`].
    pub(crate) fn compute(&self, table: &Table) -> Result<Value, CoreError> {
        self.expect(&table.shape())?;
        let count = |rows: u64| Value { text: grouped(rows), number: Some(rows as f64) };
        let Some(column) = &self.column else { return Ok(count(table.rows() as u64)) };
        let row = match self.what {
            What::First => (table.rows() > 0).then_some(0),
            What::Last => table.rows().checked_sub(1),
            _ => {
                let totals = Totals::new();
                let totals = match self.what {
                    What::Sum => totals.sum([column]),
                    What::Mean => totals.mean([column]),
                    What::Min | What::Oldest => totals.min([column]),
                    What::Max | What::Newest => totals.max([column]),
                    _ => totals.distinct([column]),
                };
                let totals = totals.apply(table)?.table;
                return Ok(cell(&totals, 0, 0));
            }
        };
        let place = table.shape().place(column)?;
        Ok(row.map_or_else(no_value, |row| cell(table, place, row)))
    }
}

fn no_value() -> Value {
    Value { text: NO_VALUE.to_owned(), number: None }
}

/// A cell as text for a sentence: numbers with group separators, floats with at most six
/// significant digits, dates as `30 June 2025`.
fn cell(table: &Table, place: usize, row: usize) -> Value {
    let text = &CellText::for_columns(table)[place];
    if row >= table.rows() || text.is_missing(row) {
        return no_value();
    }
    let (array, text) = (&table.columns()[place], text.text(row));
    let number = || text.parse::<f64>().ok();
    let plain = |text| Value { text, number: None };
    match table.shape().columns()[place].kind {
        Some(Type::Integer | Type::Decimal { .. }) => {
            Value { text: grouped(&text), number: number() }
        }
        Some(Type::Float) => {
            let value = array.as_primitive::<Float64Type>().value(row);
            Value { text: grouped(rounded(value)), number: Some(value) }
        }
        Some(Type::Date(periods)) => {
            let day = Day::from_number(array.as_primitive::<Date32Type>().value(row));
            plain(match (day, periods.grain()) {
                (Some(day), Grain::Day | Grain::Hour) => prose_of_day(day),
                (Some(day), Grain::Month) => {
                    let (year, month, _) = day.ymd();
                    format!("{} {year}", month_name(month))
                }
                // A year, a quarter and a week have a label that everybody reads.
                _ => text,
            })
        }
        Some(Type::Moment { instant }) => {
            let micros = array.as_primitive::<TimestampMicrosecondType>().value(row);
            let zone = if instant { " UTC" } else { "" };
            let time = text.split_once('T').map_or("", |(_, time)| time.trim_end_matches('Z'));
            let day = Moment::from_micros(micros).map(Moment::day);
            plain(day.map_or(text.clone(), |day| format!("{}, {time}{zone}", prose_of_day(day))))
        }
        _ => plain(visible(&text).into_owned()),
    }
}

/// A day as in a sentence: `30 June 2025`.
pub(crate) fn prose_of_day(day: Day) -> String {
    let (year, month, day) = day.ymd();
    format!("{day} {} {year}", month_name(month))
}

fn month_name(month: u32) -> &'static str {
    Month::ALL.get(month as usize - 1).map_or("", |month| month.name())
}

/// A share as per cent, with two significant digits. A part is never rounded to the whole.
pub(crate) fn percent(part: f64, whole: f64) -> String {
    let percent = part / whole * 100.0;
    if !percent.is_finite() {
        return NO_VALUE.to_owned();
    }
    // No sign stands before a zero.
    let percent = if percent == 0.0 { 0.0 } else { percent };
    let size = percent.abs();
    if size > 0.0 && size < 0.01 {
        return if percent < 0.0 { "more than -0.01%" } else { "less than 0.01%" }.to_owned();
    }
    let places = match size {
        0.0 | 10.0.. => 0,
        1.0.. => 1,
        0.1.. => 2,
        _ => 3,
    };
    let is_whole = |text: &String| text.trim_start_matches('-').trim_end_matches(['.', '0']) == "1";
    let texts = (places..places + 6).map(|places| format!("{percent:.places$}"));
    let text = match size {
        99.0..101.0 if size != 100.0 => texts.into_iter().find(|text| !is_whole(text)),
        _ => texts.into_iter().next(),
    };
    text.map_or_else(|| "almost 100%".to_owned(), |text| format!("{}%", grouped(text)))
}

#[cfg(test)]
mod tests;
