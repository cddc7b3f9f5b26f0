//! [`CellText`]: formats cells as text, in the same way for all formats, terminals and pictures.

use crate::{
    calendar::{Day, MICROS_PER_DAY, Moment, Periods},
    shape::Type,
    table::Table,
};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_schema::{DataType, TimeUnit};
use std::fmt::Write as _;

/// Formats the cells of one column: dates as `2025-06-30`, periods by their labels (`2025-06`),
/// moments as `2025-06-30T14:05`, decimals with all their places, floats with as many digits as
/// distinguish them from their neighbours. A missing value is an empty text.
#[derive(Debug)]
pub struct CellText<'a> {
    array: &'a ArrayRef,
    periods: Periods,
}

impl<'a> CellText<'a> {
    /// For a column whose dates are days.
    pub fn new(array: &'a ArrayRef) -> CellText<'a> {
        CellText { array, periods: Periods::DAYS }
    }

    /// For each column of a table, in order.
    pub fn of(table: &'a Table) -> Vec<CellText<'a>> {
        let periods = |kind: Option<Type>| kind.and_then(Type::periods).unwrap_or(Periods::DAYS);
        let kinds =
            table.shape().columns().iter().map(|column| periods(column.kind)).collect::<Vec<_>>();
        table
            .columns()
            .iter()
            .zip(kinds)
            .map(|(array, periods)| CellText { array, periods })
            .collect()
    }

    /// Whether the row has a value.
    pub fn is_missing(&self, row: usize) -> bool {
        *self.array.data_type() == DataType::Null || self.array.is_null(row)
    }

    /// Appends the text of a row's cell.
    pub fn append(&self, row: usize, to: &mut String) {
        if self.is_missing(row) {
            return;
        }
        let array = self.array;
        match array.data_type() {
            DataType::Utf8View => to.push_str(array.as_string_view().value(row)),
            DataType::Int64 => to
                .push_str(itoa::Buffer::new().format(array.as_primitive::<Int64Type>().value(row))),
            DataType::Boolean => {
                to.push_str(if array.as_boolean().value(row) { "true" } else { "false" })
            }
            DataType::Float64 => shown(to, array.as_primitive::<Float64Type>().value(row)),
            DataType::Decimal64(_, places) => {
                decimal(to, array.as_primitive::<Decimal64Type>().value(row).into(), *places)
            }
            DataType::Decimal128(_, places) => {
                decimal(to, array.as_primitive::<Decimal128Type>().value(row), *places)
            }
            DataType::Date32 => {
                let day = Day::from_number(array.as_primitive::<Date32Type>().value(row));
                match (day, self.periods == Periods::DAYS) {
                    (Some(day), true) => shown(to, day),
                    (Some(day), false) => shown(to, self.periods.of(day)),
                    (None, _) => {}
                }
            }
            DataType::Timestamp(_, zone) => {
                let micros = array.as_primitive::<TimestampMicrosecondType>().value(row);
                Moment::from_micros(micros).into_iter().for_each(|moment| shown(to, moment));
                if zone.is_some() {
                    to.push('Z');
                }
            }
            DataType::Time64(TimeUnit::Microsecond) => {
                // Formatted as a moment of the first day, without the day.
                let micros = array
                    .as_primitive::<Time64MicrosecondType>()
                    .value(row)
                    .rem_euclid(MICROS_PER_DAY);
                let moment = Moment::from_micros(micros)
                    .map(|moment| moment.to_string())
                    .unwrap_or_default();
                to.push_str(moment.split_once('T').map_or("", |(_, time)| time));
            }
            _ => {}
        }
    }

    /// The text of a row's cell.
    pub fn text(&self, row: usize) -> String {
        let mut text = String::new();
        self.append(row, &mut text);
        text
    }
}

fn shown(to: &mut String, value: impl std::fmt::Display) {
    // Writing to a string cannot fail.
    let _ = write!(to, "{value}");
}

fn decimal(to: &mut String, units: i128, places: i8) {
    let places = places.max(0) as usize;
    if units < 0 {
        to.push('-');
    }
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(units.unsigned_abs());
    let whole = digits.len().saturating_sub(places);
    to.push_str(if whole == 0 { "0" } else { &digits[..whole] });
    if places > 0 {
        to.push('.');
        (digits.len()..places).for_each(|_| to.push('0'));
        to.push_str(&digits[whole..]);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{
        Decimal128Array, Float64Array, Time64MicrosecondArray, TimestampMicrosecondArray,
    };
    use rstest::rstest;
    use std::sync::Arc;

    #[rstest]
    #[case(Decimal128Array::from(vec![-5]).with_precision_and_scale(38, 2).unwrap(), "-0.05")]
    #[case(Decimal128Array::from(vec![123_456]).with_precision_and_scale(38, 2).unwrap(),
        "1234.56")]
    #[case(Decimal128Array::from(vec![0]).with_precision_and_scale(38, 0).unwrap(), "0")]
    #[case(Float64Array::from(vec![0.1]), "0.1")]
    #[case(Float64Array::from(vec![None]), "")]
    #[case(Time64MicrosecondArray::from(vec![50_709_500_000]), "14:05:09.500")]
    #[case(TimestampMicrosecondArray::from(vec![0]).with_timezone("UTC"), "1970-01-01T00:00Z")]
    fn each_type_has_one_way_of_being_written(
        #[case] array: impl Array + 'static,
        #[case] text: &str,
    ) {
        assert_eq!(CellText::new(&(Arc::new(array) as ArrayRef)).text(0), text);
    }
}
