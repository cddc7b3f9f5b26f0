//! Reads dates in text: one cell in, the day out, or both days that it may mean.
//!
//! A cell is read on its own. Whether the day or the month comes first is decided for the whole
//! column by the caller. A date with a two-digit year, a day that does not exist, and a year
//! outside 0001 to 9999 are not dates.

use super::{Day, MICROS_PER_DAY, Month};
use std::fmt;

/// Whether the day or the month comes first in forms where a single cell cannot show it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Order {
    /// `30/06/2025`.
    DayFirst,
    /// `06/30/2025`.
    MonthFirst,
}

/// The form in which a date is written.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Form {
    /// `2025-06-30`
    YearDash,
    /// `2025/06/30`
    YearSlash,
    /// `2025.06.30`
    YearDot,
    /// `30.06.2025`
    DayDot,
    /// `30/06/2025` or `06/30/2025`
    Slash,
    /// `30 Jun 2025`
    DayName,
    /// `Jun 30, 2025`
    NameDay,
}

impl Form {
    /// All forms, in the order of their numbers.
    pub const ALL: [Form; 7] = [
        Form::YearDash,
        Form::YearSlash,
        Form::YearDot,
        Form::DayDot,
        Form::Slash,
        Form::DayName,
        Form::NameDay,
    ];

    /// An example of the form, for messages.
    pub fn example(self, order: Order) -> &'static str {
        match self {
            Form::YearDash => "2025-06-30",
            Form::YearSlash => "2025/06/30",
            Form::YearDot => "2025.06.30",
            Form::DayDot => "30.06.2025",
            Form::Slash if order == Order::MonthFirst => "06/30/2025",
            Form::Slash => "30/06/2025",
            Form::DayName => "30 Jun 2025",
            Form::NameDay => "Jun 30, 2025",
        }
    }
}

/// A cell that is a date, with the day for each order (the same for both if the form is
/// unambiguous).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Written {
    /// The form of the date.
    pub form: Form,
    /// Microseconds since midnight, if a time of day follows the date.
    pub time: Option<i64>,
    /// Minutes east of UTC, if an offset or `Z` follows the time.
    pub offset: Option<i32>,
    day_first: Option<Day>,
    month_first: Option<Day>,
}

impl Written {
    /// The day in this order; none if the calendar has no such day.
    pub fn day(&self, order: Order) -> Option<Day> {
        match order {
            Order::DayFirst => self.day_first,
            Order::MonthFirst => self.month_first,
        }
    }

    /// Microseconds since 1970-01-01T00:00, converted to UTC if there is an offset.
    pub fn micros(&self, order: Order) -> Option<i64> {
        let local = i64::from(self.day(order)?.number()) * MICROS_PER_DAY + self.time.unwrap_or(0);
        Some(local - i64::from(self.offset.unwrap_or(0)) * 60_000_000)
    }
}

/// Why a cell is not a date.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NotADate {
    /// The text has no known form.
    Unknown,
    /// The text has the form of a date, but the month has fewer days.
    NoSuchDay {
        /// The year.
        year: i32,
        /// The month.
        month: Month,
    },
    /// The text has the form of a date, but there is no such month.
    NoSuchMonth(u32),
    /// The year has two digits, and the century is unknown.
    TwoDigitYear,
    /// The year is before 0001 or after 9999.
    BeyondYears,
}

impl fmt::Display for NotADate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NotADate::Unknown => f.write_str("not a date"),
            NotADate::NoSuchDay { year, month } => {
                let last = (28..=31)
                    .rev()
                    .find(|&day| Day::from_ymd(*year, month.number(), day).is_some());
                write!(f, "{month} {year} has {} days", last.unwrap_or(31))
            }
            NotADate::NoSuchMonth(month) => write!(f, "there is no month {month}"),
            NotADate::TwoDigitYear => f.write_str("a year of two digits"),
            NotADate::BeyondYears => f.write_str("outside the years 0001 to 9999"),
        }
    }
}

/// Reads exactly `YYYY-MM-DD`, the form of most files, in the fastest way.
#[inline]
pub fn iso_day(text: &[u8]) -> Option<Day> {
    let text: &[u8; 10] = text.try_into().ok()?;
    let digit = |i: usize| u32::from(text[i].wrapping_sub(b'0'));
    let digits = [digit(0), digit(1), digit(2), digit(3), digit(5), digit(6), digit(8), digit(9)];
    let all_digits = digits.iter().fold(true, |all, &d| all & (d < 10));
    if !(all_digits & (text[4] == b'-') & (text[7] == b'-')) {
        return None;
    }
    let [y1, y2, y3, y4, m1, m2, d1, d2] = digits;
    let year = y1 * 1000 + y2 * 100 + y3 * 10 + y4;
    Day::from_ymd(year as i32, m1 * 10 + m2, d1 * 10 + d2)
}

/// Reads a cell in any known form, with or without a time of day.
pub fn read(text: &[u8]) -> Result<Written, NotADate> {
    let mut at = Cursor { rest: text.trim_ascii() };
    let (form, first, second, year) = at.date().ok_or(NotADate::Unknown)?;
    let (time, offset) = at.time_of_day().ok_or(NotADate::Unknown)?;
    let year = match year {
        Number { digits: 4, value } if value > 0 => value as i32,
        Number { digits: 2, .. } => return Err(NotADate::TwoDigitYear),
        Number { digits: 4.., .. } => return Err(NotADate::BeyondYears),
        _ => return Err(NotADate::Unknown),
    };
    let (day_first, month_first) = match form {
        Form::Slash => (Day::from_ymd(year, second, first), Day::from_ymd(year, first, second)),
        _ => {
            let day = Day::from_ymd(year, second, first);
            (day, day)
        }
    };
    if day_first.is_none() && month_first.is_none() {
        // With slashes either number may be the month. Take the second, unless only the first is in
        // range.
        let month = if form == Form::Slash && second > 12 { first } else { second };
        let named = month.checked_sub(1).and_then(|place| Month::ALL.get(place as usize));
        return Err(match named {
            Some(&month) => NotADate::NoSuchDay { year, month },
            None => NotADate::NoSuchMonth(month),
        });
    }
    Ok(Written { form, time, offset, day_first, month_first })
}

/// The part of a cell that is still to be read.
struct Cursor<'a> {
    rest: &'a [u8],
}

#[derive(Clone, Copy)]
struct Number {
    digits: usize,
    value: u32,
}

impl Cursor<'_> {
    /// The form, the day (or the first number with slashes), the month (or the second number), and
    /// the year.
    fn date(&mut self) -> Option<(Form, u32, u32, Number)> {
        if let Some(month) = self.month_name() {
            self.take(b'.');
            self.blanks()?;
            let day = self.short()?;
            self.take(b',');
            self.blanks()?;
            return Some((Form::NameDay, day, month, self.number()?));
        }
        let first = self.number()?;
        let mark = *self.rest.first()?;
        if first.digits > 2 {
            let form = match mark {
                b'-' => Form::YearDash,
                b'/' => Form::YearSlash,
                b'.' => Form::YearDot,
                _ => return None,
            };
            let month = self.take(mark).then(|| self.short())??;
            let day = self.take(mark).then(|| self.short())??;
            return Some((form, day, month, first));
        }
        match mark {
            b'.' | b'/' => {
                let form = if mark == b'.' { Form::DayDot } else { Form::Slash };
                let second = self.take(mark).then(|| self.short())??;
                self.take(mark).then_some((form, first.value, second, self.number()?))
            }
            b' ' | b'-' => {
                self.take(mark);
                let month = self.month_name()?;
                self.take(b'.');
                self.take(mark).then_some((Form::DayName, first.value, month, self.number()?))
            }
            _ => None,
        }
    }

    /// Nothing, or a time of day after `T` or blanks, with an optional offset. None if anything
    /// else follows.
    fn time_of_day(&mut self) -> Option<(Option<i64>, Option<i32>)> {
        if self.rest.is_empty() {
            return Some((None, None));
        }
        if !self.take(b'T') && !self.take(b't') {
            self.blanks()?;
        }
        let hour = self.short().filter(|&hour| hour < 24)?;
        let minute = self.take(b':').then(|| self.sixty())??;
        let mut micros = i64::from(hour * 60 + minute) * 60_000_000;
        if self.take(b':') {
            micros += i64::from(self.sixty()?) * 1_000_000;
            if self.take(b'.') || self.take(b',') {
                micros += self.fraction()?;
            }
        }
        let offset = self.offset()?;
        self.rest.is_empty().then_some((Some(micros), offset))
    }

    fn offset(&mut self) -> Option<Option<i32>> {
        let blank = self.blanks().is_some();
        let sign = match self.rest.first() {
            None => return Some(None),
            Some(b'Z' | b'z') => {
                self.rest = &self.rest[1..];
                return Some(Some(0));
            }
            Some(b'+') if !blank => 1,
            Some(b'-') if !blank => -1,
            _ => return None,
        };
        self.rest = &self.rest[1..];
        let written = self.number()?;
        let (hours, minutes) = match written.digits {
            2 if self.take(b':') => (written.value, self.sixty()?),
            2 => (written.value, 0),
            4 => (written.value / 100, written.value % 100),
            _ => return None,
        };
        (hours < 24 && minutes < 60).then_some(Some(sign * (hours * 60 + minutes) as i32))
    }

    /// Up to nine digits of a second's fraction. Digits beyond microseconds must be zero.
    fn fraction(&mut self) -> Option<i64> {
        let Number { digits, value } = self.number()?;
        match digits {
            0..=6 => Some(i64::from(value) * 10_i64.pow(6 - digits as u32)),
            7..=9 => {
                let finer = 10_u32.pow(digits as u32 - 6);
                (value % finer == 0).then_some(i64::from(value / finer))
            }
            _ => None,
        }
    }

    fn number(&mut self) -> Option<Number> {
        let digits = self.rest.iter().take_while(|byte| byte.is_ascii_digit()).count();
        if !(1..=9).contains(&digits) {
            return None;
        }
        let (number, rest) = self.rest.split_at(digits);
        self.rest = rest;
        Some(Number {
            digits,
            value: number.iter().fold(0, |n, byte| n * 10 + u32::from(byte - b'0')),
        })
    }

    /// A number with one or two digits.
    fn short(&mut self) -> Option<u32> {
        self.number().filter(|number| number.digits <= 2).map(|number| number.value)
    }

    /// Two digits below sixty.
    fn sixty(&mut self) -> Option<u32> {
        self.number()
            .filter(|number| number.digits == 2 && number.value < 60)
            .map(|number| number.value)
    }

    fn take(&mut self, byte: u8) -> bool {
        let taken = self.rest.first() == Some(&byte);
        if taken {
            self.rest = &self.rest[1..];
        }
        taken
    }

    fn blanks(&mut self) -> Option<()> {
        let rest = self.rest.trim_ascii_start();
        let some = rest.len() < self.rest.len();
        self.rest = rest;
        some.then_some(())
    }

    /// An English month name, or its first three letters (or `Sept`), in upper or lower case.
    fn month_name(&mut self) -> Option<u32> {
        let letters = self.rest.iter().take_while(|byte| byte.is_ascii_alphabetic()).count();
        let (word, rest) = self.rest.split_at(letters);
        let is = |name: &str| word.eq_ignore_ascii_case(name.as_bytes());
        let month = Month::NAMES
            .iter()
            .position(|name| is(name) || is(&name[..3]) || (is("sept") && *name == "September"))?;
        self.rest = rest;
        Some(month as u32 + 1)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2025-06-30", "2025-06-30")]
    #[case(" 2025-6-3 ", "2025-06-03")]
    #[case("2025/06/30", "2025-06-30")]
    #[case("2025.06.30", "2025-06-30")]
    #[case("30.06.2025", "2025-06-30")]
    #[case("30 Jun 2025", "2025-06-30")]
    #[case("30-JUN-2025", "2025-06-30")]
    #[case("Jun 30, 2025", "2025-06-30")]
    #[case("Sept. 3 2025", "2025-09-03")]
    #[case("29 February 2024", "2024-02-29")]
    #[case("31/12/2025", "2025-12-31")]
    #[case("12/31/2025", "2025-12-31")]
    #[case("05/05/2025", "2025-05-05")]
    fn a_date_without_doubt(#[case] text: &str, #[case] day: &str) {
        let written = read(text.as_bytes()).unwrap();
        let either = written.day(Order::DayFirst).or(written.day(Order::MonthFirst));
        assert_eq!((either, written.time), (Some(day.parse().unwrap()), None));
    }

    #[test]
    fn slashes_are_read_both_ways() {
        let written = read(b"03/04/2025").unwrap();
        assert_eq!(written.day(Order::DayFirst), Day::from_ymd(2025, 4, 3));
        assert_eq!(written.day(Order::MonthFirst), Day::from_ymd(2025, 3, 4));
    }

    #[rstest]
    #[case("2025-06-30T14:05", "2025-06-30T14:05", None)]
    #[case("30.06.2025 4:05:09", "2025-06-30T04:05:09", None)]
    #[case("2025-06-30 14:05:09.123", "2025-06-30T14:05:09.123", None)]
    #[case("2025-06-30T14:05:09,000001000", "2025-06-30T14:05:09.000001", None)]
    #[case("2025-06-30T14:05Z", "2025-06-30T14:05", Some(0))]
    #[case("2025-06-30T01:05+02:00", "2025-06-29T23:05", Some(120))]
    #[case("2025-06-30T23:05-0130", "2025-07-01T00:35", Some(-90))]
    fn a_time_behind_the_date_makes_a_moment(
        #[case] text: &str,
        #[case] utc: &str,
        #[case] offset: Option<i32>,
    ) {
        let written = read(text.as_bytes()).unwrap();
        let micros = written.micros(Order::DayFirst).and_then(crate::calendar::Moment::from_micros);
        assert_eq!((micros.unwrap().to_string().as_str(), written.offset), (utc, offset));
    }

    #[rstest]
    #[case("30/02/2025", NotADate::NoSuchDay { year: 2025, month: Month::February })]
    #[case("2025-02-29", NotADate::NoSuchDay { year: 2025, month: Month::February })]
    #[case("2025-13-01", NotADate::NoSuchMonth(13))]
    #[case("13/13/2025", NotADate::NoSuchMonth(13))]
    #[case("0000-01-01", NotADate::BeyondYears)]
    #[case("10000-01-01", NotADate::BeyondYears)]
    #[case("30.06.25", NotADate::TwoDigitYear)]
    #[case("30 Jun 25", NotADate::TwoDigitYear)]
    #[case("2025-06-30T25:00", NotADate::Unknown)]
    #[case("2025-06-30T24:00", NotADate::Unknown)]
    #[case("2025-06-30 14:05:09.1234567", NotADate::Unknown)]
    #[case("2025-06-30x", NotADate::Unknown)]
    #[case("2025-06/30", NotADate::Unknown)]
    #[case("20250630", NotADate::Unknown)]
    #[case("soon", NotADate::Unknown)]
    #[case("", NotADate::Unknown)]
    fn what_is_not_a_date_says_why(#[case] text: &str, #[case] why: NotADate) {
        assert_eq!(read(text.as_bytes()), Err(why));
    }

    #[rstest]
    #[case("2025-06-30", true)]
    #[case("2025-6-30", false)]
    #[case("2025-06-31", false)]
    #[case("2025-0:-30", false)]
    fn the_fast_way_reads_only_the_whole_form(#[case] text: &str, #[case] reads: bool) {
        assert_eq!(iso_day(text.as_bytes()).is_some(), reads);
    }

    proptest::proptest! {
        #[test]
        fn every_day_is_read_in_every_form(number in Day::MIN.number()..=Day::MAX.number(),
            time in 0_i64..86_400) {
            const NAMES: [&str; 12] =
                ["January", "Feb", "march", "APR", "May", "Jun", "July", "Aug", "Sept", "Oct",
                    "Nov", "December"];
            let day = Day::from_number(number).unwrap();
            let (year, month, of_month) = day.ymd();
            let name = NAMES[month as usize - 1];
            let forms = [
                format!("{year:04}-{month:02}-{of_month:02}"),
                format!("{year:04}/{month}/{of_month}"),
                format!("{year:04}.{month:02}.{of_month:02}"),
                format!("{of_month:02}.{month:02}.{year:04}"),
                format!("{of_month}/{month}/{year:04}"),
                format!("{of_month} {name} {year:04}"),
                format!("{name} {of_month}, {year:04}"),
            ];
            let clock = format!("{:02}:{:02}:{:02}", time / 3600, time / 60 % 60, time % 60);
            for (text, form) in forms.iter().zip(Form::ALL) {
                let written = read(text.as_bytes()).unwrap();
                proptest::prop_assert_eq!((written.day(Order::DayFirst), written.form), (Some(day),
                    form));
                let moment = read(format!("{text} {clock}").as_bytes()).unwrap();
                proptest::prop_assert_eq!(moment.time, Some(time * 1_000_000));
            }
            let month_first = read(format!("{month}/{of_month}/{year:04}").as_bytes()).unwrap();
            proptest::prop_assert_eq!(month_first.day(Order::MonthFirst), Some(day));
            proptest::prop_assert_eq!(iso_day(forms[0].as_bytes()), Some(day));
        }

        #[test]
        fn nothing_makes_the_reader_stumble(
            cell in proptest::collection::vec(proptest::num::u8::ANY, 0..40),
        ) {
            // Whatever it is, it is a day of the calendar or a reason why not.
            if let Ok(written) = read(&cell) {
                let days = [written.day(Order::DayFirst), written.day(Order::MonthFirst)];
                proptest::prop_assert!(days.iter().flatten().all(|day| (Day::MIN..=Day::MAX)
                    .contains(day)));
            }
        }
    }
}
