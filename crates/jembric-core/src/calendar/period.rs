//! [`Periods`]: how days are grouped into weeks, months, quarters or years. [`Period`]: one of
//! these periods.
//!
//! All of this is arithmetic on day numbers. A period that extends beyond the years 0001 to 9999 is
//! clipped there.

use super::{
    Day, Grain, Moment, Month, Weekday,
    day::days_in_month,
    error::{Result, ValueError},
    grain::named,
};
use std::{fmt, str::FromStr};

/// How days are grouped into periods: the grain, the weekday on which weeks begin, and the month in
/// which years begin.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Periods {
    grain: Grain,
    /// Monday, unless the grain is the week.
    week_start: Weekday,
    /// January, unless the grain is the quarter or the year.
    year_start: u8,
}

impl From<Grain> for Periods {
    fn from(grain: Grain) -> Periods {
        Periods { grain, week_start: Weekday::Monday, year_start: 1 }
    }
}

impl Periods {
    /// Periods of one day.
    pub const DAYS: Periods =
        Periods { grain: Grain::Day, week_start: Weekday::Monday, year_start: 1 };

    /// Periods of this grain, with this start of weeks and years.
    pub(crate) fn cut(
        grain: Grain,
        week_start: Option<Weekday>,
        year_start: Option<Month>,
    ) -> Periods {
        let month = year_start.unwrap_or(Month::January).number();
        Periods::from(grain).week_start(week_start.unwrap_or(Weekday::Monday)).year_start(month)
    }

    /// Sets the weekday on which weeks begin. It has an effect on weeks only.
    #[must_use]
    pub fn week_start(mut self, weekday: Weekday) -> Periods {
        if self.grain == Grain::Week {
            self.week_start = weekday;
        }
        self
    }

    /// Sets the month in which years begin, from 1 to 12. It has an effect on quarters and years
    /// only.
    #[must_use]
    pub fn year_start(mut self, month: u32) -> Periods {
        if matches!(self.grain, Grain::Quarter | Grain::Year) {
            self.year_start = month.clamp(1, 12) as u8;
        }
        self
    }

    /// The month in which years begin, from 1 to 12.
    pub const fn first_month(self) -> u32 {
        self.year_start as u32
    }

    /// The length of the periods.
    pub const fn grain(self) -> Grain {
        self.grain
    }

    /// The number of the period that contains a day. Periods that follow each other have
    /// consecutive numbers. (With hours: the number of the day's first hour.)
    pub const fn number(self, day: Day) -> i32 {
        match self.grain {
            Grain::Hour => day.number() * 24,
            Grain::Day => day.number(),
            Grain::Week => (day.number() + 3 - self.week_start as i32).div_euclid(7),
            Grain::Month => day.month_number(),
            Grain::Quarter => (day.month_number() - self.year_start as i32 + 1).div_euclid(3),
            Grain::Year => (day.month_number() - self.year_start as i32 + 1).div_euclid(12),
        }
    }

    /// The first day of the period that contains a day.
    pub fn first_day(self, day: Day) -> Day {
        match self.grain {
            Grain::Hour | Grain::Day => day,
            _ => self.first(self.number(day)),
        }
    }

    /// The period that contains a day.
    pub fn containing(self, day: Day) -> Period {
        Period { periods: self, number: self.number(day) }
    }

    /// The period of this number.
    pub(crate) fn numbered(self, number: i32) -> Period {
        Period { periods: self, number }
    }

    /// The first day of the period with this number, not before 0001-01-01.
    fn first(self, number: i32) -> Day {
        let day = match self.grain {
            Grain::Hour => Day::from_number(number.div_euclid(24)),
            Grain::Day => Day::from_number(number),
            Grain::Week => Day::from_number(number * 7 - 3 + self.week_start as i32),
            Grain::Month => month_start(number),
            Grain::Quarter => month_start(number * 3 + self.year_start as i32 - 1),
            Grain::Year => month_start(number * 12 + self.year_start as i32 - 1),
        };
        let beyond = if number > self.number(Day::MAX) { Day::MAX } else { Day::MIN };
        day.unwrap_or(beyond)
    }
}

/// The grain in which two kinds of periods can be compared: the longer one, if it consists of whole
/// periods of the shorter one.
pub(crate) fn common_periods(one: Periods, other: Periods) -> Option<Periods> {
    let (short, long) = if one.grain() <= other.grain() { (one, other) } else { (other, one) };
    (short == long || (short.grain() != long.grain() && long.grain().holds(short.grain())))
        .then_some(long)
}

fn month_start(month_number: i32) -> Option<Day> {
    Day::from_ymd(month_number.div_euclid(12), month_number.rem_euclid(12) as u32 + 1, 1)
}

impl fmt::Display for Periods {
    /// `month`, `week from Sunday`, `year from April`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.grain)?;
        if self.week_start != Weekday::Monday {
            write!(f, " from {}", self.week_start)?;
        }
        if self.year_start != 1 {
            write!(f, " from {}", super::Month::NAMES[usize::from(self.year_start) - 1])?;
        }
        Ok(())
    }
}

impl FromStr for Periods {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Periods> {
        let Some((grain, start)) = text.split_once(" from ") else {
            return Ok(text.parse::<Grain>()?.into());
        };
        let periods = Periods::from(grain.parse::<Grain>()?);
        match periods.grain {
            Grain::Week => Ok(periods.week_start(start.parse()?)),
            _ => Ok(periods.year_start(start.parse::<Month>()?.number())),
        }
    }
}

/// One day, week, month, quarter or year.
///
/// It is formatted as `2025-06-30`, `2025-W27`, `2025-06`, `2025-Q2` or `2025`. A year that does
/// not begin in January has the number of the year in which it ends, as in `FY2026` and
/// `FY2026-Q1`. A week that does not begin on Monday is formatted as its first day. The forms
/// without `FY` can be parsed as well.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Period {
    periods: Periods,
    number: i32,
}

impl Period {
    /// The first day.
    pub fn first(self) -> Day {
        self.periods.first(self.number)
    }

    /// The last day.
    pub fn last(self) -> Day {
        match self.periods.grain {
            Grain::Hour | Grain::Day => self.first(),
            _ if self.number >= self.periods.number(Day::MAX) => Day::MAX,
            _ => self.plus(1).first().plus_days(-1).unwrap_or(Day::MIN),
        }
    }

    /// The period this many further on. At the ends of the calendar, it is the last period that
    /// exists.
    #[must_use]
    pub fn plus(self, periods: i32) -> Period {
        Period { number: self.number.saturating_add(periods), ..self }
    }

    /// The number among the periods of its kind.
    pub fn number(self) -> i32 {
        self.number
    }

    /// How days are grouped into periods of this kind.
    pub fn periods(self) -> Periods {
        self.periods
    }
}

impl fmt::Display for Period {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Period { periods, number } = *self;
        let fiscal = periods.year_start != 1;
        match periods.grain {
            Grain::Hour => {
                let micros = i64::from(number) * 3_600_000_000;
                Moment::from_micros(micros).map_or(Ok(()), |moment| moment.fmt(f))
            }
            Grain::Week if periods.week_start == Weekday::Monday => {
                let (year, week) = self.first().iso_week();
                write!(f, "{year:04}-W{week:02}")
            }
            Grain::Day | Grain::Week => self.first().fmt(f),
            Grain::Month => {
                let (year, month) = (number.div_euclid(12), number.rem_euclid(12) + 1);
                write!(f, "{year:04}-{month:02}")
            }
            Grain::Quarter if fiscal => {
                write!(f, "FY{:04}-Q{}", number.div_euclid(4) + 1, number.rem_euclid(4) + 1)
            }
            Grain::Quarter => {
                write!(f, "{:04}-Q{}", number.div_euclid(4), number.rem_euclid(4) + 1)
            }
            Grain::Year if fiscal => write!(f, "FY{:04}", number + 1),
            Grain::Year => write!(f, "{number:04}"),
        }
    }
}

impl FromStr for Period {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Period> {
        let bytes = text.trim().as_bytes();
        let year = || match bytes {
            [_, _, _, _] => {
                Day::from_ymd(digits(bytes)? as i32, 1, 1).map(|day| (Grain::Year, day))
            }
            _ => None,
        };
        let day = || super::notation::iso_day(bytes).map(|day| (Grain::Day, day));
        match day().or_else(|| label(bytes)).or_else(year) {
            Some((grain, day)) => Ok(Periods::from(grain).containing(day)),
            None => Err(ValueError::Malformed {
                what: "a period",
                text: text.to_owned(),
                expected: "a day, week, month, quarter or year such as 2025-06-30, 2025-W27, \
                    2025-06, 2025-Q2 or 2025",
            }),
        }
    }
}

/// The first day of a month, quarter or week written `2025-06`, `2025-Q2` or `2025-W27`.
#[inline]
pub fn label(text: &[u8]) -> Option<(Grain, Day)> {
    let (year, rest) = text.split_first_chunk::<4>()?;
    let year = digits(year)? as i32;
    match *rest {
        [b'-', b'Q' | b'q', quarter @ b'1'..=b'4'] => {
            Some((Grain::Quarter, Day::from_ymd(year, 3 * u32::from(quarter - b'0') - 2, 1)?))
        }
        [b'-', _, _] => Some((Grain::Month, Day::from_ymd(year, digits(&rest[1..])?, 1)?)),
        [b'-', b'W' | b'w', _, _] => Some((Grain::Week, week_start(year, digits(&rest[2..])?)?)),
        _ => None,
    }
}

/// The Monday of an ISO week; none if the year has no such week.
fn week_start(year: i32, week: u32) -> Option<Day> {
    let fourth = Day::from_ymd(year, 1, 4)?;
    let monday = Periods::from(Grain::Week).first_day(fourth).plus_days(7 * (week as i32 - 1))?;
    (monday.iso_week() == (year, week)).then_some(monday)
}

fn digits(text: &[u8]) -> Option<u32> {
    text.iter()
        .try_fold(0, |n, byte| byte.is_ascii_digit().then(|| n * 10 + u32::from(byte - b'0')))
}

/// The first day of a period, in the many ways in which exported tables write periods: the label,
/// `202506` or `Jun 2025` for a month, `Q2 2025` or `2025Q2` for a quarter, `2025W27` for a week,
/// `2025` for a year, or the first day in any notation.
pub fn loose_label(text: &[u8], grain: Grain) -> Option<Day> {
    let text = text.trim_ascii();
    if let Some((_, day)) = label(text).filter(|(labelled, _)| *labelled == grain) {
        return Some(day);
    }
    let loose = match (grain, text) {
        (Grain::Month, [year @ .., _, _]) if year.len() == 4 => {
            digits(text).and_then(|number| Day::from_ymd(number as i32 / 100, number % 100, 1))
        }
        (Grain::Month, _) => named_month(text),
        (Grain::Quarter, [b'Q' | b'q', quarter @ b'1'..=b'4', b' ' | b'-', year @ ..])
        | (Grain::Quarter, [year @ .., b'Q' | b'q', quarter @ b'1'..=b'4']) => {
            let year = if year.trim_ascii().len() == 4 { digits(year.trim_ascii()) } else { None };
            year.and_then(|year| Day::from_ymd(year as i32, 3 * u32::from(quarter - b'0') - 2, 1))
        }
        (Grain::Week, [year @ .., b'W' | b'w', _, _]) if year.len() == 4 => {
            digits(&text[5..]).and_then(|week| week_start(digits(year)? as i32, week))
        }
        (Grain::Year, [_, _, _, _]) => {
            digits(text).and_then(|year| Day::from_ymd(year as i32, 1, 1))
        }
        _ => None,
    };
    loose.or_else(|| first_day_written(text, grain))
}

/// `Jun 2025`, `June-2025`.
fn named_month(text: &[u8]) -> Option<Day> {
    let (name, year) = std::str::from_utf8(text)
        .ok()?
        .rsplit_once([' ', '-'])
        .filter(|(_, year)| year.len() == 4)?;
    let month = named(name.trim().trim_end_matches(['.', ',']), &super::Month::NAMES)? as u32 + 1;
    Day::from_ymd(year.parse().ok()?, month, 1)
}

/// The first day of a period in any notation of dates. A time of day must be midnight.
fn first_day_written(text: &[u8], grain: Grain) -> Option<Day> {
    use super::notation::{Order, read};
    let written = read(text)
        .ok()
        .filter(|written| written.time.unwrap_or(0) == 0 && written.offset.is_none())?;
    let is_first = |day: &Day| Periods::from(grain).first_day(*day) == *day;
    let either =
        [Order::DayFirst, Order::MonthFirst].map(|order| written.day(order).filter(is_first));
    match either {
        // Both readings are the first day of a period and they differ, so the date is ambiguous.
        [Some(one), Some(other)] if one != other => None,
        [one, other] => one.or(other),
    }
}

impl Day {
    /// Months since year 0. Months that follow each other have consecutive numbers.
    pub const fn month_number(self) -> i32 {
        let (year, month, _) = self.ymd();
        year * 12 + month as i32 - 1
    }

    /// Completed months from this day to another: the number of whole months that fit. In the other
    /// direction the result is the negative number.
    ///
    /// In a month without that day, the month is complete on its last day: 31 January to 28
    /// February is one month.
    #[inline]
    pub const fn months_until(self, other: Day) -> i32 {
        // Which of two dates is earlier is unpredictable, so both are selected by arithmetic,
        // without a branch.
        let forwards = (self.number() <= other.number()) as i32;
        let all = self.number() ^ other.number();
        let (from, to) = (other.number() ^ (all & -forwards), self.number() ^ (all & -forwards));
        let ((from_year, from_month, from_day), (to_year, to_month, to_day)) =
            (Day::ymd_of(from), Day::ymd_of(to));
        let months = (to_year - from_year) * 12 + to_month as i32 - from_month as i32;
        // The last month is not complete if the day of the month is not reached and the month has
        // that day.
        let incomplete = (from_day > to_day) & (to_day < days_in_month(to_year, to_month));
        (months - incomplete as i32) * (2 * forwards - 1)
    }

    /// The day of the week.
    #[inline]
    pub const fn weekday(self) -> Weekday {
        // 1970-01-01 was a Thursday.
        Weekday::ALL[(self.number() + 3).rem_euclid(7) as usize]
    }

    /// The year and number of the ISO 8601 week. A week belongs to the year of its Thursday.
    pub const fn iso_week(self) -> (i32, u32) {
        // The Thursday of the last week of 9999 lies in that year, and 0001-01-01 is a Monday, so
        // every day has a week.
        let monday = self.number() - self.weekday() as i32;
        let (year, _, _, of_year) = Day::ymd_and_of_year(monday + 3);
        (year, (of_year - 1) / 7 + 1)
    }

    /// The day of the year, from 1.
    pub const fn of_year(self) -> u32 {
        Day::ymd_and_of_year(self.number()).3
    }

    const fn ymd_and_of_year(number: i32) -> (i32, u32, u32, u32) {
        let (year, month, day) = Day::ymd_of(number);
        let leap = days_in_month(year, 2) - 28;
        let before =
            if month > 2 { (979 * month - 2_919) / 32 + 59 + leap } else { (month - 1) * 31 };
        (year, month, day, before + day)
    }
}

#[cfg(test)]
mod tests;
