//! [`Range`]: two dates, both inclusive.

use super::{
    Day, Period, Periods,
    error::{Result, ValueError},
};
use borsh::{BorshDeserialize, BorshSerialize};
use std::{fmt, str::FromStr};

/// Two dates, both inclusive: `2025-01-01..2025-03-31`, or with the `/` of ISO 8601.
///
/// It may also consist of whole periods: `2025-01..2025-06`, `2025-Q1..2025-Q2`, or a single one,
/// `2025`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
pub struct Range {
    first: Day,
    last: Day,
}

impl Range {
    /// The days from the first to the last; none if the last is before the first.
    pub fn new(first: Day, last: Day) -> Option<Range> {
        (first <= last).then_some(Range { first, last })
    }

    /// The first day.
    pub fn first(self) -> Day {
        self.first
    }

    /// The last day, which is part of the range.
    pub fn last(self) -> Day {
        self.last
    }

    /// The number of days, at least one.
    pub fn days(self) -> u32 {
        (self.last.number() - self.first.number()) as u32 + 1
    }

    /// The range, extended to whole periods.
    #[must_use]
    pub fn to_whole(self, periods: impl Into<Periods>) -> Range {
        let periods = periods.into();
        Range {
            first: periods.containing(self.first).first(),
            last: periods.containing(self.last).last(),
        }
    }

    /// The periods at both ends of which only a part lies in the range.
    pub(crate) fn cut_periods(self, periods: Periods) -> Vec<Period> {
        let mut ends = vec![periods.containing(self.first), periods.containing(self.last)];
        ends.dedup();
        ends.retain(|period| period.first() < self.first || period.last() > self.last);
        ends
    }

    /// Whether the range contains the day.
    pub fn contains(self, day: Day) -> bool {
        self.first <= day && day <= self.last
    }
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}..{}", self.first, self.last)
    }
}

impl FromStr for Range {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Range> {
        let (first, last) =
            text.split_once("..").or_else(|| text.split_once('/')).unwrap_or((text, text));
        let periods = first.parse::<Period>().ok().zip(last.parse::<Period>().ok());
        periods.and_then(|(first, last)| Range::new(first.first(),
            last.last())).ok_or_else(|| ValueError::Malformed {
            what: "a range",
            text: text.to_owned(),
            expected: "two dates or periods, the earlier first, such as 2025-01-01..2025-03-31 or \
                2025-01..2025-06",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2025-01-01..2025-03-31", Some(90))]
    #[case("2024-02-28 .. 2024-03-01", Some(3))]
    #[case("2025-06-30/2025-06-30", Some(1))]
    #[case("2025-03-31..2025-01-01", None)]
    #[case("2025-02-30..2025-03-31", None)]
    #[case("2025-01..2025-02", Some(59))]
    #[case("2024-Q1/2024-Q1", Some(91))]
    #[case("2025-W01..2025-01", Some(33))]
    #[case("2024", Some(366))]
    #[case("2025-02..2025-01", None)]
    #[case("2025-13..2026-01", None)]
    #[case("2025-01-01..", None)]
    fn both_ends_belong_to_a_range(#[case] text: &str, #[case] days: Option<u32>) {
        assert_eq!(text.parse::<Range>().ok().map(Range::days), days);
    }
}
