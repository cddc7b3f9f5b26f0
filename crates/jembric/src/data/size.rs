//! [`Size`]: a number of bytes, as settings have it.

use crate::error::{BINARY_UNITS, Error, in_binary_units};
use std::{fmt, str::FromStr};

/// The decimal units of SI, each with its bytes.
const DECIMAL_UNITS: [(&str, u64); 5] =
    [("TB", 1_000_000_000_000), ("GB", 1_000_000_000), ("MB", 1_000_000), ("kB", 1_000), ("B", 1)];

/// A number of bytes, such as `512MiB` or `1.5GB`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Size(pub u64);

impl Size {
    /// A number of mebibytes (2²⁰ bytes).
    pub const fn mebibytes(number: u64) -> Size {
        Size(number << 20)
    }

    /// A number of gibibytes (2³⁰ bytes).
    pub const fn gibibytes(number: u64) -> Size {
        Size(number << 30)
    }
}

impl FromStr for Size {
    type Err = Error;

    fn from_str(text: &str) -> Result<Size, Error> {
        let trimmed = text.trim();
        let unit = |(unit, _): &&(&str, u64)| {
            trimmed.len() > unit.len()
                && trimmed.is_char_boundary(trimmed.len() - unit.len())
                && trimmed[trimmed.len() - unit.len()..].eq_ignore_ascii_case(unit)
        };
        let parts =
            BINARY_UNITS.iter().chain(&DECIMAL_UNITS).find(unit).and_then(|(unit, bytes)| {
                let number: f64 = trimmed[..trimmed.len() - unit.len()].trim().parse().ok()?;
                (number.is_finite() && number >= 0.0).then_some((number * *bytes as f64) as u64)
            });
        parts.map(Size).ok_or_else(|| Error::Setting {
            setting: "memory",
            value: format!("`{text}`"),
            expected: "a number and its unit, such as 512MiB or 2GiB".to_owned(),
        })
    }
}

impl fmt::Display for Size {
    /// In the largest binary unit in which it is a whole number.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&in_binary_units(self.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2GiB", 2 << 30, "2GiB")]
    #[case(" 512 mib ", 512 << 20, "512MiB")]
    #[case("1.5GiB", 3 << 29, "1536MiB")]
    #[case("1GB", 1_000_000_000, "976562KiB")]
    #[case("7B", 7, "7B")]
    fn a_size_has_a_unit(#[case] text: &str, #[case] bytes: u64, #[case] shown: &str) {
        let size: Size = text.parse().unwrap();
        assert_eq!(size.0, bytes);
        if bytes.is_multiple_of(1024) {
            assert_eq!(size.to_string(), shown);
            assert_eq!(size.to_string().parse::<Size>().unwrap(), size);
        }
    }

    #[rstest]
    #[case("2")]
    #[case("2 G")]
    #[case("GiB")]
    #[case("-1GiB")]
    #[case("much")]
    #[case("1e999GiB")]
    #[case("")]
    fn a_text_that_is_none_is_refused(#[case] text: &str) {
        let error = text.parse::<Size>().unwrap_err().to_string();
        assert!(error.contains(&format!("`{text}`")) && error.contains("512MiB"), "{error}");
    }
}
