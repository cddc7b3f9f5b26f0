//! [`CellText`]: formats cells as text, in the same way for all formats, terminals and pictures.

use crate::{
    calendar::{Day, MICROS_PER_DAY, Moment, Periods},
    number_text::{float, shown},
};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_schema::{DataType, TimeUnit};
use std::borrow::Cow;

/// Formats the cells of one column: dates as `2025-06-30`, periods by their labels (`2025-06`),
/// moments as `2025-06-30T14:05`, decimals with all their places, floats with as many digits as
/// distinguish them from their neighbours (`0.1`, `1.5e300`). A missing value is an empty text.
#[derive(Debug)]
pub struct CellText<'a> {
    pub(crate) array: &'a ArrayRef,
    pub(crate) periods: Periods,
}

impl<'a> CellText<'a> {
    /// For a column whose dates are days.
    pub fn new(array: &'a ArrayRef) -> CellText<'a> {
        CellText { array, periods: Periods::DAYS }
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
            DataType::Float64 => float(to, array.as_primitive::<Float64Type>().value(row)),
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
                    (Some(day), false) => shown(to, self.periods.containing(day)),
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

/// Formats a float for people, with at most six significant digits. Digits before the decimal point
/// are never rounded away.
///
/// ```
/// assert_eq!(jembric_core::rounded(0.060_241_7), "0.0602417");
/// assert_eq!(jembric_core::rounded(1_234_567.8), "1234568");
/// ```
pub fn rounded(value: f64) -> String {
    const DIGITS: i32 = 6;
    let trimmed = |text: &str| {
        if text.contains('.') {
            text.trim_end_matches('0').trim_end_matches('.').to_owned()
        } else {
            text.to_owned()
        }
    };
    let size = value.abs();
    if !value.is_finite() || value == 0.0 {
        return value.to_string();
    }
    if !(1e-4..1e15).contains(&size) {
        let text = format!("{value:.*e}", DIGITS as usize - 1);
        let (digits, exponent) = text.split_once('e').unwrap_or((&text, "0"));
        return format!("{}e{exponent}", trimmed(digits));
    }
    let places = (DIGITS - 1 - size.log10().floor() as i32).max(0) as usize;
    trimmed(&format!("{value:.places$}"))
}

/// A text in which characters that would control a terminal or a page are shown as escapes, such as
/// `\u{1b}`. These are the control characters except line breaks, and the characters that change
/// the direction of writing.
pub fn visible(text: &str) -> Cow<'_, str> {
    let turns = |c: char| {
        matches!(c, '\u{61c}' | '\u{200e}' | '\u{200f}')
            || ('\u{202a}'..='\u{202e}').contains(&c)
            || ('\u{2066}'..='\u{2069}').contains(&c)
    };
    let acts = |c: char| c.is_control() && c != '\n' || turns(c);
    if !text.contains(acts) {
        return text.into();
    }
    let shown = |c: char| if acts(c) { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(shown).collect::<String>().into()
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
    #[case(Float64Array::from(vec![1.0 / 3.0]), "0.3333333333333333")]
    #[case(Float64Array::from(vec![-12_345_678_901_234_568.0]), "-12345678901234568")]
    #[case(Float64Array::from(vec![9.969_21e36]), "9.96921e36")]
    #[case(Float64Array::from(vec![1e-9]), "0.000000001")]
    #[case(Float64Array::from(vec![-1.25e-17]), "-1.25e-17")]
    #[case(Float64Array::from(vec![f64::NEG_INFINITY]), "-inf")]
    #[case(Float64Array::from(vec![None]), "")]
    #[case(Time64MicrosecondArray::from(vec![50_709_500_000]), "14:05:09.500")]
    #[case(TimestampMicrosecondArray::from(vec![0]).with_timezone("UTC"), "1970-01-01T00:00Z")]
    fn each_type_has_one_way_of_being_written(
        #[case] array: impl Array + 'static,
        #[case] text: &str,
    ) {
        assert_eq!(CellText::new(&(Arc::new(array) as ArrayRef)).text(0), text);
    }

    #[rstest]
    #[case(0.060_234_567, "0.0602346")]
    #[case(0.1, "0.1")]
    #[case(1.0 / 3.0, "0.333333")]
    #[case(-1_234.567_890, "-1234.57")]
    #[case(999_999.9, "1000000")]
    #[case(12_345_678.9, "12345679")]
    #[case(0.000_012_345_678, "1.23457e-5")]
    #[case(2.5e20, "2.5e20")]
    #[case(-0.0, "-0")]
    #[case(f64::INFINITY, "inf")]
    fn floats_have_six_significant_digits_and_all_whole_ones(
        #[case] value: f64,
        #[case] text: &str,
    ) {
        assert_eq!(rounded(value), text);
    }
}
