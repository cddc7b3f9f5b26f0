//! The formats that a user gives for columns whose cells are ambiguous.

use crate::error::{Error, Result};
use jembric_core::calendar::{Day, Directives, Grain, MICROS_PER_DAY, Moment, loose_label};

/// How the cells of a column are read.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Given {
    /// By strptime directives.
    Directives(Directives),
    /// In the format of e-mail: `Mon, 30 Jun 2025 14:05:09 +0200`.
    Rfc2822,
    /// As days since 1899-12-30, with the time of day as a fraction.
    Serial,
    /// As Julian days, which begin at noon, with the time of day as a fraction.
    JulianDay,
    /// As seconds since 1970-01-01 in UTC, with a fraction.
    UnixTime,
    /// As periods of this grain, in any notation.
    Periods(Grain),
}

impl Given {
    /// Parses the format of a column: a word, or strptime directives.
    pub(crate) fn parse(column: &str, format: &str, century: Option<i16>) -> Result<Given> {
        match format {
            "rfc2822" => Ok(Given::Rfc2822),
            "serial" => Ok(Given::Serial),
            "julian-day" => Ok(Given::JulianDay),
            "unix-time" => Ok(Given::UnixTime),
            "month" => Ok(Given::Periods(Grain::Month)),
            "quarter" => Ok(Given::Periods(Grain::Quarter)),
            "week" => Ok(Given::Periods(Grain::Week)),
            "year" => Ok(Given::Periods(Grain::Year)),
            _ => directives(column, format, century).map(Given::Directives),
        }
    }

    /// Whether the cells are moments, and not days.
    pub(crate) fn moments(&self) -> bool {
        match self {
            Given::Directives(directives) => directives.moments(),
            Given::Rfc2822 | Given::Serial | Given::JulianDay | Given::UnixTime => true,
            Given::Periods(_) => false,
        }
    }

    /// Whether the moments are points in time.
    pub(crate) fn instants(&self) -> bool {
        match self {
            Given::Directives(directives) => directives.instants(),
            Given::Rfc2822 | Given::UnixTime => true,
            Given::Serial | Given::JulianDay | Given::Periods(_) => false,
        }
    }

    /// The format, as the user gave it.
    pub(crate) fn words(&self) -> String {
        match self {
            Given::Directives(directives) => directives.text().to_owned(),
            Given::Rfc2822 => "rfc2822".to_owned(),
            Given::Serial => "serial".to_owned(),
            Given::JulianDay => "julian-day".to_owned(),
            Given::UnixTime => "unix-time".to_owned(),
            Given::Periods(grain) => grain.to_string(),
        }
    }

    pub(crate) fn day(&self, cell: &[u8]) -> Option<Day> {
        match self {
            Given::Directives(directives) => directives.day(cell),
            Given::Periods(grain) => loose_label(cell, *grain),
            Given::Rfc2822 | Given::Serial | Given::JulianDay | Given::UnixTime => None,
        }
    }

    pub(crate) fn micros(&self, cell: &[u8]) -> Option<i64> {
        let micros = match self {
            Given::Directives(directives) => directives.micros(cell),
            Given::Rfc2822 => {
                let parsed = jiff::fmt::rfc2822::DateTimeParser::new().parse_timestamp(cell);
                Some(parsed.ok()?.as_microsecond())
            }
            Given::Serial => serial(cell, SERIAL_EPOCH),
            Given::JulianDay => serial(cell, JULIAN_EPOCH),
            Given::UnixTime => seconds(cell),
            Given::Periods(_) => None,
        };
        micros.filter(|micros| Moment::from_micros(*micros).is_some())
    }
}

/// The milliseconds from 1970-01-01 to 1899-12-30, and to noon of the first Julian day.
const SERIAL_EPOCH: i64 = -25_569 * MILLIS_PER_DAY;
const JULIAN_EPOCH: i64 = -2_440_588 * MILLIS_PER_DAY + MILLIS_PER_DAY / 2;
const MILLIS_PER_DAY: i64 = MICROS_PER_DAY / 1_000;

/// Days since an epoch with a fraction, rounded to the millisecond, because finer digits are noise.
fn serial(cell: &[u8], epoch: i64) -> Option<i64> {
    let days: f64 = fast_float2::parse(cell).ok().filter(|days: &f64| days.abs() < 1e7)?;
    let millis = (days * MILLIS_PER_DAY as f64).round() as i64;
    Some((epoch + millis) * 1_000)
}

/// Seconds since 1970-01-01, to the microsecond.
fn seconds(cell: &[u8]) -> Option<i64> {
    let text = std::str::from_utf8(cell).ok()?;
    if let Ok(seconds) = text.parse::<i64>() {
        return seconds.checked_mul(1_000_000);
    }
    let seconds: f64 =
        fast_float2::parse(cell).ok().filter(|seconds: &f64| seconds.abs() < 1e12)?;
    Some((seconds * 1e6).round() as i64)
}

/// Errors: the text has no directive or an unknown one, or two-digit years without a century.
fn directives(column: &str, format: &str, century: Option<i16>) -> Result<Directives> {
    let wrong = |value: String, expected: &str| {
        Err(Error::Setting { setting: "read", value, expected: expected.to_owned() })
    };
    if let Some(first) = century.filter(|first| !(1..=9900).contains(first)) {
        return Err(Error::Setting {
            setting: "century",
            value: first.to_string(),
            expected: "a year from 1 to 9900".to_owned(),
        });
    }
    match Directives::new(format, century) {
        None => {
            let expected = "`month`, `quarter`, `week`, `year`, `serial`, `julian-day`, \
                `unix-time`, `rfc2822`, `number`, `text`, or strptime directives such as \
                `%d.%m.%Y` or `%d/%m/%y %H:%M`";
            wrong(format!("`{column}={format}`"), expected)
        }
        Some(directives) if directives.two_digit_years() && century.is_none() => {
            let expected = "the first of the hundred years that they stand for as well: \
                `--century 1900`";
            wrong(format!("`{column}={format}` has years of two digits"), expected)
        }
        Some(directives) => Ok(directives),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("serial", "1", Some("1899-12-31T00:00"))]
    #[case("serial", "45838", Some("2025-06-30T00:00"))]
    #[case("serial", "45838.586921296", Some("2025-06-30T14:05:10"))]
    #[case("serial", "-0.5", Some("1899-12-29T12:00"))]
    #[case("serial", "3000000", None)]
    #[case("serial", "2025-06-30", None)]
    #[case("julian-day", "2460856.5", Some("2025-06-30T00:00"))]
    #[case("julian-day", "2440587.5", Some("1970-01-01T00:00"))]
    #[case("julian-day", "2460857.0", Some("2025-06-30T12:00"))]
    #[case("julian-day", "0", None)]
    #[case("unix-time", "1751292309", Some("2025-06-30T14:05:09"))]
    #[case("unix-time", "1751292309.25", Some("2025-06-30T14:05:09.250"))]
    #[case("unix-time", "-1", Some("1969-12-31T23:59:59"))]
    #[case("unix-time", "99999999999999", None)]
    #[case("rfc2822", "Mon, 30 Jun 2025 14:05:09 +0200", Some("2025-06-30T12:05:09"))]
    #[case("rfc2822", "30 Jun 2025 14:05 GMT", Some("2025-06-30T14:05"))]
    #[case("rfc2822", "30 Jun 2025", None)]
    #[case("%d.%m.%y %H:%M", "30.06.25 14:05", Some("2025-06-30T14:05"))]
    #[case("%Y%m%d%H", "2025063014", Some("2025-06-30T14:00"))]
    #[case("%s", "0", Some("1970-01-01T00:00"))]
    fn moments_in_a_given_format(
        #[case] format: &str,
        #[case] cell: &str,
        #[case] moment: Option<&str>,
    ) {
        let given = Given::parse("at", format, Some(2000)).unwrap();
        let micros = given.micros(cell.as_bytes()).and_then(Moment::from_micros);
        assert_eq!(micros.map(|moment| moment.to_string()).as_deref(), moment);
    }
}
