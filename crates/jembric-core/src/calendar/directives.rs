//! [`Directives`]: a format of strptime directives for the dates of a column.

use super::{Day, MICROS_PER_DAY, Moment};
use jiff::fmt::strtime::{self, BrokenDownTime};

/// A format of strptime directives, such as `%d.%m.%Y` or `%d/%m/%y %H:%M`.
///
/// ```
/// use jembric_core::calendar::Directives;
///
/// let format = Directives::new("%d/%m/%y", Some(1900)).unwrap();
/// assert_eq!(format.day(b"25/11/63").unwrap().to_string(), "1963-11-25");
/// assert!(format.day(b"1963-11-25").is_none());
/// ```
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Directives {
    format: String,
    moments: bool,
    instants: bool,
    two_digit_years: bool,
    /// The first of the hundred years for two-digit years.
    century: Option<i16>,
}

impl Directives {
    /// Parses a format; none if it has no directive, or an unknown one.
    ///
    /// `century` is the first of the hundred years that two-digit years stand for. It has no effect
    /// on four-digit years.
    pub fn new(format: &str, century: Option<i16>) -> Option<Directives> {
        let any_moment = jiff::Timestamp::UNIX_EPOCH.to_zoned_datetime(jiff::tz::TimeZone::UTC);
        let is_known = strtime::format(format, &any_moment).is_ok();
        if !format.contains('%') || !is_known {
            return None;
        }
        let flags = ['-', '_', '^', '#', ':', '.', '0', '1', '2', '3', '6', '9'];
        let directives: Vec<char> = format
            .split('%')
            .skip(1)
            .filter_map(|part| part.trim_start_matches(flags).chars().next())
            .collect();
        let any = |of: &str| directives.iter().any(|&directive| of.contains(directive));
        let two_digit_years = any("yD");
        Some(Directives {
            format: format.to_owned(),
            moments: any("HIklMSfNTRrXcspP"),
            instants: any("zs"),
            two_digit_years,
            century: if two_digit_years { century } else { None },
        })
    }

    /// The text of the format.
    pub fn text(&self) -> &str {
        &self.format
    }

    /// Whether the cells have a time of day.
    pub fn moments(&self) -> bool {
        self.moments
    }

    /// Whether the cells are points in time, with an offset from UTC.
    pub fn instants(&self) -> bool {
        self.instants
    }

    /// Whether years have two digits, so that a century is needed.
    pub fn two_digit_years(&self) -> bool {
        self.two_digit_years
    }

    fn parsed(&self, cell: &[u8]) -> Option<BrokenDownTime> {
        let mut parsed = strtime::parse(&self.format, cell).ok()?;
        if let Some(century) = self.century {
            let year = parsed.year()?;
            parsed.set_year(Some(century + (year - century).rem_euclid(100))).ok()?;
        }
        Some(parsed)
    }

    /// The first of the hundred years for two-digit years; none if years have four digits.
    pub fn century(&self) -> Option<i16> {
        self.century
    }

    /// Reads a cell as a day; none if it does not match the format.
    pub fn day(&self, cell: &[u8]) -> Option<Day> {
        let date = self.parsed(cell)?.to_date().ok()?;
        Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32)
    }

    /// Reads a cell as a moment, in microseconds since 1970-01-01T00:00; none if it does not match
    /// the format.
    pub fn micros(&self, cell: &[u8]) -> Option<i64> {
        let parsed = self.parsed(cell)?;
        let micros = if self.instants {
            parsed.to_timestamp().ok()?.as_microsecond()
        } else {
            let (date, time) = (parsed.to_date().ok()?, parsed.to_time().ok()?);
            let day = Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32)?;
            let since_midnight = time.duration_since(jiff::civil::Time::midnight());
            i64::from(day.number()) * MICROS_PER_DAY + since_midnight.as_micros() as i64
        };
        Moment::from_micros(micros).map(|_| micros)
    }

    /// Whether a cell matches the format.
    pub(crate) fn reads(&self, cell: &[u8]) -> bool {
        if self.moments { self.micros(cell).is_some() } else { self.day(cell).is_some() }
    }
}
