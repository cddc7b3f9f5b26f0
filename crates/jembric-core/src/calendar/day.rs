//! [`Day`] and [`Moment`]: a calendar day, and a day with a time of day, as numbers in the order of
//! time.

use super::error::{Result, ValueError};
use borsh::{BorshDeserialize, BorshSerialize};
use std::{fmt, str::FromStr};

/// Microseconds in a day of 24 hours.
pub const MICROS_PER_DAY: i64 = 86_400_000_000;

/// A calendar day: days since 1970-01-01, between 0001-01-01 and 9999-12-31.
///
/// It is parsed and formatted as ISO 8601 (`2025-06-30`).
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, BorshSerialize, BorshDeserialize)]
pub struct Day(i32);

impl Day {
    /// 0001-01-01.
    pub const MIN: Day = Day(-719_162);
    /// 9999-12-31.
    pub const MAX: Day = Day(2_932_896);

    /// The day with this number of days since 1970-01-01; none outside the years 0001 to 9999.
    pub const fn from_number(days: i32) -> Option<Day> {
        if days < Day::MIN.0 || days > Day::MAX.0 { None } else { Some(Day(days)) }
    }

    /// The day with this number, or the nearest valid one. This is for the values behind missing
    /// cells.
    #[inline]
    pub(crate) fn clamped(days: i32) -> Day {
        Day(days.clamp(Day::MIN.0, Day::MAX.0))
    }

    /// The day of a year, month and day of the month; none if the calendar has no such day.
    pub const fn from_ymd(year: i32, month: u32, day: u32) -> Option<Day> {
        if year < 1
            || year > 9999
            || month < 1
            || month > 12
            || day < 1
            || day > days_in_month(year, month)
        {
            return None;
        }
        Some(Day(number_of(year, month, day)))
    }

    /// Days since 1970-01-01.
    pub const fn number(self) -> i32 {
        self.0
    }

    /// Year, month and day of the month, computed without a branch.
    ///
    /// Source: Neri and Schneider, "Euclidean affine functions and their application to calendar
    /// algorithms" (2022).
    #[inline]
    pub const fn ymd(self) -> (i32, u32, u32) {
        Day::ymd_of(self.0)
    }

    #[inline]
    pub(super) const fn ymd_of(number: i32) -> (i32, u32, u32) {
        // Days since 0000-03-01, moved by 82 cycles of 400 years so that all numbers are positive.
        let n = (number + 719_468 + 146_097 * 82) as u32;
        let century = (4 * n + 3) / 146_097;
        let of_century = (4 * n + 3) % 146_097 / 4;
        let product = 2_939_745_u64 * (4 * of_century + 3) as u64;
        let year_of_century = (product >> 32) as u32;
        let day_of_year = (product as u32) / 2_939_745 / 4;
        let month_day = 2_141 * day_of_year + 197_913;
        let (month, day) = (month_day >> 16, (month_day & 0xFFFF) / 2_141);
        let january_or_later = (day_of_year >= 306) as u32;
        let year = (100 * century + year_of_century) as i32 - 400 * 82 + january_or_later as i32;
        (year, month - 12 * january_or_later, day + 1)
    }

    /// The day this many days later (earlier if negative); none outside the years 0001 to 9999.
    pub const fn plus_days(self, days: i32) -> Option<Day> {
        match self.0.checked_add(days) {
            Some(number) => Day::from_number(number),
            None => None,
        }
    }

    /// The same day of the month this many months later, or the last day of a shorter month.
    pub fn plus_months(self, months: i32) -> Option<Day> {
        if months == 0 {
            return Some(self);
        }
        let (year, month, day) = self.ymd();
        let index = (year * 12 + month as i32 - 1).checked_add(months)?;
        let (year, month) = (index.div_euclid(12), index.rem_euclid(12) as u32 + 1);
        Day::from_ymd(year, month, day.min(days_in_month(year, month)))
    }
}

/// The number of days in a month (28 to 31), computed without a branch.
#[inline]
pub(super) const fn days_in_month(year: i32, month: u32) -> u32 {
    // A year divisible by 100 is a leap year if it is divisible by 400, which is the same as by 16.
    // Any other year is a leap year if it is divisible by 4.
    let leap = year & (3 | (12 * (year % 25 == 0) as i32)) == 0;
    // From January to July the odd months have 31 days, from August on the even ones.
    let others = 30 | (month ^ (month >> 3));
    if month == 2 { 28 + leap as u32 } else { others }
}

/// The number of days since 1970-01-01 of a date that exists.
const fn number_of(year: i32, month: u32, day: u32) -> i32 {
    // Years begin in March here, so that the leap day is the last day of the year.
    let early = (month <= 2) as i32;
    let (year, month) = (year - early, month as i32 + 12 * early);
    let days_before_month = (979 * month - 2_919) / 32;
    365 * year + year / 4 - year / 100 + year / 400 + days_before_month + day as i32 - 1 - 719_468
}

impl fmt::Display for Day {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (year, month, day) = self.ymd();
        let mut text = *b"0000-00-00";
        let digits = |at: &mut [u8], mut n: u32| {
            for byte in at.iter_mut().rev() {
                *byte = b'0' + (n % 10) as u8;
                n /= 10;
            }
        };
        digits(&mut text[..4], year as u32);
        digits(&mut text[5..7], month);
        digits(&mut text[8..], day);
        f.pad(std::str::from_utf8(&text).unwrap_or_default())
    }
}

impl fmt::Debug for Day {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

impl FromStr for Day {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Day> {
        super::notation::iso_day(text.trim().as_bytes()).ok_or_else(|| ValueError::Malformed {
            what: "a date",
            text: text.to_owned(),
            expected: "a date such as 2025-06-30, between 0001-01-01 and 9999-12-31",
        })
    }
}

/// A day with a time of day: microseconds since 1970-01-01T00:00, between 0001-01-01 and the end of
/// 9999-12-31.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Moment(i64);

impl Moment {
    /// The moment with this number of microseconds since 1970-01-01T00:00; none outside the years
    /// 0001 to 9999.
    pub fn from_micros(micros: i64) -> Option<Moment> {
        i32::try_from(micros.div_euclid(MICROS_PER_DAY))
            .ok()
            .and_then(Day::from_number)
            .map(|_| Moment(micros))
    }

    /// The nearest moment of the calendar.
    pub(crate) fn clamped(micros: i64) -> Moment {
        let (first, last) = (i64::from(Day::MIN.0), i64::from(Day::MAX.0));
        Moment(micros.clamp(first * MICROS_PER_DAY, (last + 1) * MICROS_PER_DAY - 1))
    }

    /// The microseconds since 1970-01-01T00:00.
    pub const fn micros(self) -> i64 {
        self.0
    }

    /// The day that contains the moment.
    pub fn day(self) -> Day {
        Day(self.0.div_euclid(MICROS_PER_DAY) as i32)
    }
}

impl fmt::Display for Moment {
    /// `2025-06-30T14:05`, with seconds and a fraction only if they are not zero.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let micros = self.0.rem_euclid(MICROS_PER_DAY);
        let (seconds, fraction) = (micros / 1_000_000, micros % 1_000_000);
        write!(f, "{}T{:02}:{:02}", self.day(), seconds / 3600, seconds / 60 % 60)?;
        if seconds % 60 != 0 || fraction != 0 {
            write!(f, ":{:02}", seconds % 60)?;
        }
        match fraction {
            0 => Ok(()),
            _ if fraction % 1000 == 0 => write!(f, ".{:03}", fraction / 1000),
            _ => write!(f, ".{fraction:06}"),
        }
    }
}

impl fmt::Debug for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn every_day_of_all_years_goes_there_and_back_and_agrees_with_an_independent_calendar() {
        let mut theirs = jiff::civil::date(1, 1, 1);
        for number in Day::MIN.number()..=Day::MAX.number() {
            let day = Day::from_number(number).unwrap();
            let (year, month, of_month) = day.ymd();
            assert_eq!(
                (year, month, of_month),
                (theirs.year().into(), theirs.month() as u32, theirs.day() as u32)
            );
            assert_eq!(Day::from_ymd(year, month, of_month), Some(day));
            theirs = theirs.tomorrow().unwrap_or(theirs);
        }
    }

    #[rstest]
    #[case("2025-01-31", 1, Some("2025-02-28"))]
    #[case("2024-01-31", 1, Some("2024-02-29"))]
    #[case("2024-02-29", 12, Some("2025-02-28"))]
    #[case("2025-03-31", -1, Some("2025-02-28"))]
    #[case("2025-05-31", -18, Some("2023-11-30"))]
    #[case("9999-12-31", 1, None)]
    #[case("0001-01-31", -1, None)]
    #[case("2025-01-31", i32::MAX, None)]
    fn months_end_where_months_end(
        #[case] from: Day,
        #[case] months: i32,
        #[case] to: Option<&str>,
    ) {
        assert_eq!(from.plus_months(months).map(|day| day.to_string()).as_deref(), to);
    }

    #[rstest]
    #[case("0001-01-01", -719_162)]
    #[case("1970-01-01", 0)]
    #[case("2000-02-29", 11_016)]
    #[case("9999-12-31", 2_932_896)]
    fn days_are_written_as_they_are_read(#[case] text: &str, #[case] number: i32) {
        let day: Day = text.parse().unwrap();
        assert_eq!((day.number(), day.to_string().as_str()), (number, text));
    }

    #[rstest]
    #[case(0, "1970-01-01T00:00")]
    #[case(-1, "1969-12-31T23:59:59.999999")]
    #[case(61_000_000, "1970-01-01T00:01:01")]
    #[case(61_250_000, "1970-01-01T00:01:01.250")]
    fn moments_show_no_more_than_they_have(#[case] micros: i64, #[case] text: &str) {
        assert_eq!(Moment::from_micros(micros).unwrap().to_string(), text);
    }
}
