//! [`Decimal`]: a decimal number, exact to its last digit.

use crate::{
    calendar::{ValueError, serialized_as_text},
    number_text::decimal_text,
};
use std::{fmt, str::FromStr};

/// The most decimal places.
const MOST_PLACES: usize = 6;

/// A number with at most six decimal places, such as `1000` or `-12.50`.
#[derive(Clone, Copy, PartialEq, Eq)]
pub struct Decimal {
    units: i128,
    places: u8,
}

impl Decimal {
    /// A number in units of its last decimal place: `Decimal::new(1250, 2)` is 12.50. None with
    /// more than six places.
    pub const fn new(units: i128, places: u8) -> Option<Decimal> {
        if places as usize <= MOST_PLACES { Some(Decimal { units, places }) } else { None }
    }

    /// The number in units of its last decimal place.
    pub const fn units(self) -> i128 {
        self.units
    }

    /// The number of decimal places.
    pub const fn places(self) -> u8 {
        self.places
    }

    /// A number of a column with this number of decimal places.
    pub(crate) fn of_column(units: i128, places: i8) -> Decimal {
        Decimal { units, places: places.max(0) as u8 }
    }

    /// The nearest float.
    pub(crate) fn to_float(self) -> f64 {
        self.to_string().parse().unwrap_or(0.0)
    }
}

impl From<i32> for Decimal {
    fn from(number: i32) -> Decimal {
        Decimal { units: number.into(), places: 0 }
    }
}

impl From<i64> for Decimal {
    fn from(number: i64) -> Decimal {
        Decimal { units: number.into(), places: 0 }
    }
}

impl FromStr for Decimal {
    type Err = ValueError;

    fn from_str(text: &str) -> std::result::Result<Decimal, ValueError> {
        let trimmed = text.trim();
        let (whole, fraction) = trimmed.split_once('.').unwrap_or((trimmed, ""));
        let is_number = fraction.bytes().all(|digit| digit.is_ascii_digit())
            && fraction.len() <= MOST_PLACES
            && whole.bytes().any(|digit| digit.is_ascii_digit())
            && !trimmed.ends_with('.');
        let units = if is_number { format!("{whole}{fraction}").parse::<i64>().ok() } else { None };
        units.map(|units| Decimal { units: units.into(), places: fraction.len() as u8 }).ok_or_else(
            || ValueError::Malformed {
                what: "a number",
                text: text.to_owned(),
                expected: "digits such as 1000 or 1000.50, with at most six decimal places",
            },
        )
    }
}

impl fmt::Display for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&decimal_text(self.units, self.places as i8))
    }
}

impl fmt::Debug for Decimal {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

serialized_as_text!(Decimal);

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("12", Some((12, 0)))]
    #[case(" -0.50 ", Some((-50, 2)))]
    #[case("0.1234567", None)]
    #[case("1.", None)]
    #[case(".5", None)]
    #[case("1e3", None)]
    #[case("99999999999999999999", None)]
    #[case("", None)]
    fn a_number_is_exact_to_its_last_digit(
        #[case] text: &str,
        #[case] expected: Option<(i128, u8)>,
    ) {
        let number = text.parse::<Decimal>().ok();
        assert_eq!(number.map(|number| (number.units(), number.places())), expected);
        if let Some(number) = number {
            assert_eq!(number.to_string(), text.trim());
        }
    }

    proptest! {
        #[test]
        fn a_number_is_read_as_it_was_written(units: i64, places in 0..=6_u8) {
            let number = Decimal::new(units.into(), places).unwrap();
            prop_assert_eq!(number.to_string().parse::<Decimal>().unwrap(), number);
            let written = serde_json::to_string(&number).unwrap();
            prop_assert_eq!(serde_json::from_str::<Decimal>(&written).unwrap(), number);
            let exact = units as f64 / 10_f64.powi(places.into());
            prop_assert!((number.to_float() - exact).abs() <= exact.abs() * 1e-15);
        }
    }

    #[test]
    fn more_than_six_places_are_no_decimal() {
        assert_eq!(Decimal::new(1, 7), None);
        assert_eq!(Decimal::from(-12_i32), Decimal::from(-12_i64));
    }
}
