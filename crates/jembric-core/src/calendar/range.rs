//! [`Range`]: two dates, both included.

use super::Day;
use crate::error::{Error, Result};
use std::{fmt, str::FromStr};

/// Two dates, both included: `2025-01-01..2025-03-31`, or with the `/` of ISO 8601.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Range {
    first: Day,
    last: Day,
}

impl Range {
    /// The days from the first to the last; none where the last is before the first.
    pub fn new(first: Day, last: Day) -> Option<Range> {
        (first <= last).then_some(Range { first, last })
    }

    /// The first day.
    pub fn first(self) -> Day {
        self.first
    }

    /// The last day, which belongs to the range.
    pub fn last(self) -> Day {
        self.last
    }

    /// How many days it holds: at least one.
    pub fn days(self) -> u32 {
        (self.last.number() - self.first.number()) as u32 + 1
    }

    /// Whether the day lies in it.
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
    type Err = Error;

    fn from_str(text: &str) -> Result<Range> {
        text.split_once("..")
            .or_else(|| text.split_once('/'))
            .and_then(|(first, last)| Range::new(first.parse().ok()?, last.parse().ok()?))
            .ok_or_else(|| Error::Malformed {
                what: "a range",
                text: text.to_owned(),
                expected: "two dates, the earlier first, such as 2025-01-01..2025-03-31",
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
    #[case("2025-01-01", None)]
    fn both_ends_belong_to_a_range(#[case] text: &str, #[case] days: Option<u32>) {
        assert_eq!(text.parse::<Range>().ok().map(Range::days), days);
    }
}
