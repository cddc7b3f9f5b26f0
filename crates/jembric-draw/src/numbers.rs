//! [`Numbers`]: a column of numbers as floats; and numbers as text.

use arrow_array::{Array, ArrayRef, PrimitiveArray, cast::AsArray, types::*};
use arrow_schema::DataType;
use jembric_core::grouped;

/// A column of numbers.
#[derive(Clone, Debug)]
pub(crate) enum Numbers<'a> {
    Integers(&'a PrimitiveArray<Int64Type>),
    Floats(&'a PrimitiveArray<Float64Type>),
    /// Decimals, and the value of one unit.
    Short(&'a PrimitiveArray<Decimal64Type>, f64),
    Long(&'a PrimitiveArray<Decimal128Type>, f64),
    /// A column without any value.
    Missing,
}

impl<'a> Numbers<'a> {
    pub(crate) fn from_array(array: &'a ArrayRef) -> Numbers<'a> {
        let unit = |places: i8| 10f64.powi(i32::from(places));
        match array.data_type() {
            DataType::Int64 => Numbers::Integers(array.as_primitive()),
            DataType::Float64 => Numbers::Floats(array.as_primitive()),
            DataType::Decimal64(_, places) => Numbers::Short(array.as_primitive(), unit(*places)),
            DataType::Decimal128(_, places) => Numbers::Long(array.as_primitive(), unit(*places)),
            _ => Numbers::Missing,
        }
    }

    /// The value of a row; NaN if it is missing.
    pub(crate) fn value(&self, row: usize) -> f64 {
        match self {
            Numbers::Integers(array) if array.is_valid(row) => array.value(row) as f64,
            Numbers::Floats(array) if array.is_valid(row) => array.value(row),
            Numbers::Short(array, unit) if array.is_valid(row) => array.value(row) as f64 / unit,
            Numbers::Long(array, unit) if array.is_valid(row) => array.value(row) as f64 / unit,
            _ => f64::NAN,
        }
    }
}

/// A number with at most twelve significant digits and group separators. Sums of decimals have no
/// digits behind those that they are made of.
pub(crate) fn shown(value: f64) -> String {
    if value == 0.0 {
        return "0".to_owned();
    }
    let magnitude = value.abs().log10().floor() as i32;
    if !(-9..15).contains(&magnitude) {
        return format!("{value:e}");
    }
    let places = (11 - magnitude).clamp(0, 12) as usize;
    let text = format!("{value:.places$}");
    let text =
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { &text };
    grouped(text)
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    #[rstest]
    #[case(0.0, "0")]
    #[case(1234.5, "1,234.5")]
    #[case(-0.1 - 0.2, "-0.3")]
    #[case(1e-12, "1e-12")]
    #[case(2.5e20, "2.5e20")]
    #[case(f64::from(i32::MAX), "2,147,483,647")]
    fn a_number_is_shown_with_its_digits(#[case] value: f64, #[case] text: &str) {
        assert_eq!(super::shown(value), text);
    }
}
