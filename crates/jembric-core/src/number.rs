//! [`Number`]: a number of any type by its exact value, and [`Numbers`]: a column of them. Numbers
//! of different types are compared here.
//!
//! A whole number and a decimal are their own values. A float that is whole is that whole number,
//! and any other float is the shortest decimal number that reads as it, which is also its text.
//! Both keep the order of floats, so that whole numbers, decimals and floats have one order, and
//! two numbers are equal exactly if their values are.

use crate::{decimal::Decimal, error::Result, number_text::decimal_text};
use arrow_array::{
    Array, ArrayRef,
    builder::StringViewBuilder,
    cast::AsArray,
    new_null_array,
    types::{Decimal64Type, Decimal128Type, Float64Type, Int64Type},
};
use arrow_cast::cast;
use arrow_schema::DataType;
use std::{
    cmp::Ordering,
    fmt::{self, Write as _},
    sync::Arc,
};

/// Decimals with fewer units than this have at most 15 digits. Their floats differ, and the
/// shortest digits of each float are those of the decimal.
const DIGITS_OF_FLOAT: u64 = 1_000_000_000_000_000;
/// The greatest power of ten that a float holds exactly.
const MOST_PLACES: i8 = 22;

/// A whole number of a power of ten.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Number {
    /// Not divisible by ten, or 0.
    units: i128,
    /// `i32::MAX` if the number is infinite.
    exponent: i32,
}

impl Number {
    /// A decimal in units of its last place.
    pub(crate) fn of_units(units: i128, places: i8) -> Number {
        Number::normalized(units, -i32::from(places))
    }

    fn normalized(mut units: i128, mut exponent: i32) -> Number {
        if units == 0 {
            return Number { units, exponent: 0 };
        }
        while units % 10 == 0 {
            units /= 10;
            exponent += 1;
        }
        Number { units, exponent }
    }

    /// A float, which is not NaN.
    pub(crate) fn of_float(value: f64) -> Number {
        if value.is_infinite() {
            return Number { units: value.signum() as i128, exponent: i32::MAX };
        }
        if value.fract() == 0.0 && value.abs() < i128::MAX as f64 {
            return Number::normalized(value as i128, 0);
        }
        let mut buffer = ryu::Buffer::new();
        let text = buffer.format_finite(value);
        let (digits, power) = text.split_once('e').unwrap_or((text, "0"));
        let places = digits.split_once('.').map_or(0, |(_, part)| part.len() as i32);
        let figures = digits.bytes().filter(u8::is_ascii_digit);
        let units = figures.fold(0, |units, figure| units * 10 + i128::from(figure - b'0'));
        let units = if value < 0.0 { -units } else { units };
        Number::normalized(units, power.parse::<i32>().unwrap_or_default() - places)
    }

    /// The nearest float.
    pub(crate) fn to_float(self) -> f64 {
        const WHOLE: u128 = 1 << f64::MANTISSA_DIGITS;
        let power = || 10_f64.powi(self.exponent.abs());
        let is_plain =
            self.units.unsigned_abs() < WHOLE && self.exponent.unsigned_abs() <= MOST_PLACES as u32;
        if !is_plain {
            return format!("{}e{}", self.units, self.exponent).parse().unwrap_or_default();
        }
        let units = self.units as f64;
        if self.exponent < 0 { units / power() } else { units * power() }
    }

    /// The difference. None if it has too many digits.
    pub(crate) fn minus(self, other: Number) -> Option<Number> {
        let exponent = match (self.units, other.units) {
            (_, 0) => self.exponent,
            (0, _) => other.exponent,
            _ => self.exponent.min(other.exponent),
        };
        let difference = self.at(exponent)?.checked_sub(other.at(exponent)?)?;
        Some(Number::normalized(difference, exponent))
    }

    /// The distance from 0.
    pub(crate) fn size(self) -> Number {
        Number { units: self.units.saturating_abs(), ..self }
    }

    /// In units of a decimal place. None if they are not whole, or too many.
    pub(crate) fn units(self, places: i8) -> Option<i128> {
        self.at(-i32::from(places))
    }

    /// The units of a lesser power of ten.
    fn at(self, exponent: i32) -> Option<i128> {
        match self.units {
            0 => Some(0),
            units => {
                let places = self.exponent.checked_sub(exponent)?.try_into().ok()?;
                units.checked_mul(10_i128.checked_pow(places)?)
            }
        }
    }
}

impl From<Decimal> for Number {
    fn from(decimal: Decimal) -> Number {
        Number::of_units(decimal.units(), decimal.places() as i8)
    }
}

impl Ord for Number {
    fn cmp(&self, other: &Number) -> Ordering {
        let sign = |number: &Number| number.units.signum();
        let order = sign(self).cmp(&sign(other));
        if order != Ordering::Equal || self.units == 0 {
            return order;
        }
        // The power of ten above the first digit. If it is the same, the number with the greater
        // exponent has fewer digits, and is extended by zeros.
        let reach = |number: &Number| {
            number.exponent.saturating_add(number.units.unsigned_abs().ilog10() as i32)
        };
        let least = self.exponent.min(other.exponent);
        let extended = |number: &Number| {
            let zeros = number.exponent.saturating_sub(least).unsigned_abs();
            let factor = 10_u128.checked_pow(zeros);
            factor.and_then(|factor| number.units.unsigned_abs().checked_mul(factor))
        };
        let sizes = reach(self).cmp(&reach(other)).then_with(|| {
            // A number that does not fit is greater than one that does.
            extended(self).unwrap_or(u128::MAX).cmp(&extended(other).unwrap_or(u128::MAX))
        });
        if self.units < 0 { sizes.reverse() } else { sizes }
    }
}

impl PartialOrd for Number {
    fn partial_cmp(&self, other: &Number) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

/// Numbers of the same value have the same text.
impl fmt::Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Number { units, exponent: i32::MAX } => {
                f.write_str(if units < 0 { "-inf" } else { "inf" })
            }
            Number { units, exponent: exponent @ -17..0 } => {
                f.write_str(&decimal_text(units, -exponent as i8))
            }
            Number { units, exponent: 0 } => write!(f, "{units}"),
            Number { units, exponent } => {
                let digits = units.unsigned_abs().to_string();
                let power = exponent.saturating_add(digits.len() as i32 - 1);
                let sign = if units < 0 { "-" } else { "" };
                match (exponent > 0 && power < 38, digits.split_at(1)) {
                    (true, _) => {
                        write!(f, "{sign}{digits}{:0zeros$}", 0, zeros = exponent as usize)
                    }
                    (false, (first, "")) => write!(f, "{sign}{first}e{power}"),
                    (false, (first, rest)) => write!(f, "{sign}{first}.{rest}e{power}"),
                }
            }
        }
    }
}

/// A column of numbers.
#[derive(Clone, Copy)]
pub(crate) enum Numbers<'a> {
    /// In units of the last of these decimal places.
    Narrow(&'a [i64], i8),
    Wide(&'a [i128], i8),
    Floats(&'a [f64]),
}

impl<'a> Numbers<'a> {
    /// None if the column has no numbers.
    pub(crate) fn from_array(array: &'a ArrayRef) -> Option<Numbers<'a>> {
        Some(match array.data_type() {
            DataType::Int64 => Numbers::Narrow(array.as_primitive::<Int64Type>().values(), 0),
            DataType::Decimal64(_, places) => {
                Numbers::Narrow(array.as_primitive::<Decimal64Type>().values(), *places)
            }
            DataType::Decimal128(_, places) => {
                Numbers::Wide(array.as_primitive::<Decimal128Type>().values(), *places)
            }
            DataType::Float64 => Numbers::Floats(array.as_primitive::<Float64Type>().values()),
            _ => return None,
        })
    }

    /// The number of a row.
    pub(crate) fn at(&self, row: usize) -> Number {
        match self {
            Numbers::Floats(floats) => Number::of_float(floats[row]),
            Numbers::Narrow(units, places) => Number::of_units(units[row].into(), *places),
            Numbers::Wide(units, places) => Number::of_units(units[row], *places),
        }
    }

    /// Compares the numbers of two rows.
    #[inline]
    pub(crate) fn compare(&self, row: usize, other: &Numbers<'_>, other_row: usize) -> Ordering {
        match (self, other) {
            (Numbers::Floats(one), Numbers::Floats(other)) => {
                one[row].partial_cmp(&other[other_row]).unwrap_or(Ordering::Equal)
            }
            (Numbers::Floats(floats), _) => other.compare_float(other_row, floats[row]).reverse(),
            (_, Numbers::Floats(floats)) => self.compare_float(row, floats[other_row]),
            _ => self.at(row).cmp(&other.at(other_row)),
        }
    }

    /// Compares an exact number with a float.
    #[inline]
    fn compare_float(&self, row: usize, float: f64) -> Ordering {
        match self.known_as_float(row) {
            Some(nearest) => nearest.partial_cmp(&float).unwrap_or(Ordering::Equal),
            None => self.at(row).cmp(&Number::of_float(float)),
        }
    }

    /// The float of an exact number, if it has so few digits that it can be compared as a float.
    #[inline]
    pub(crate) fn known_as_float(&self, row: usize) -> Option<f64> {
        let (units, places) = match self {
            Numbers::Narrow(units, places) => (units[row], *places),
            Numbers::Wide(units, places) => (i64::try_from(units[row]).ok()?, *places),
            Numbers::Floats(_) => return None,
        };
        let is_short = units.unsigned_abs() < DIGITS_OF_FLOAT && places <= MOST_PLACES;
        is_short.then(|| units as f64 / 10_f64.powi(places.into()))
    }
}

/// Converts both columns to a type in which equal values are the same. Exact numbers and floats
/// become texts of their values ([`Number`]), because no type of numbers
/// holds both.
pub(crate) fn in_one_type(one: &ArrayRef, other: &ArrayRef) -> Result<(ArrayRef, ArrayRef)> {
    let places = |of: &DataType| match of {
        DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => *places,
        _ => 0,
    };
    let common = match (one.data_type(), other.data_type()) {
        (these, those) if these == those => return Ok((one.clone(), other.clone())),
        (these, DataType::Null) => return Ok((one.clone(), new_null_array(these, other.len()))),
        (DataType::Null, those) => return Ok((new_null_array(those, one.len()), other.clone())),
        (DataType::Float64, _) | (_, DataType::Float64) => {
            return Ok((texts_of_numbers(one), texts_of_numbers(other)));
        }
        (these, those) => DataType::Decimal128(38, places(these).max(places(those))),
    };
    Ok((cast(one, &common)?, cast(other, &common)?))
}

/// The texts of the values of numbers.
fn texts_of_numbers(array: &ArrayRef) -> ArrayRef {
    let mut texts = StringViewBuilder::with_capacity(array.len());
    let mut text = String::new();
    let numbers = Numbers::from_array(array);
    for row in 0..array.len() {
        match numbers.filter(|_| array.is_valid(row)) {
            None => texts.append_null(),
            Some(numbers) => {
                text.clear();
                // Writing to a string cannot fail.
                let _ = write!(text, "{}", numbers.at(row));
                texts.append_value(&text);
            }
        }
    }
    Arc::new(texts.finish())
}

#[cfg(test)]
mod tests;
