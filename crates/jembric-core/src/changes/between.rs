//! [`Between`]: the two dates of a comparison.

use crate::{
    calendar::{Day, Period, ValueError, serialized_as_text},
    settings::from_given_text,
};
use std::{fmt, str::FromStr};

/// Two as-of dates, the earlier one first, such as `2025-05-31..2025-06-30`. Of a longer period,
/// such as `2025-05..2025-06`, the last day is meant.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Between {
    pub(super) before: Day,
    pub(super) now: Day,
}

impl Between {
    /// The dates, the earlier one first. None if they are the same or reversed.
    pub fn new(before: Day, now: Day) -> Option<Between> {
        (before < now).then_some(Between { before, now })
    }
}

impl FromStr for Between {
    type Err = ValueError;

    fn from_str(text: &str) -> std::result::Result<Between, ValueError> {
        let malformed = |expected| ValueError::Malformed {
            what: "two dates to compare",
            text: text.to_owned(),
            expected,
        };
        let expected = "two dates with `..` between them, such as 2025-05-31..2025-06-30";
        let (before, now) = text.split_once("..").ok_or_else(|| malformed(expected))?;
        if before.trim().is_empty() || now.trim().is_empty() {
            return Err(malformed(expected));
        }
        // A longer period stands for its last day, because the dates are as-of dates.
        let day = |text: &str| match text.trim().parse::<Day>() {
            Ok(day) => Ok(day),
            Err(error) => text.trim().parse::<Period>().map(Period::last).map_err(|_| error),
        };
        let (before, now) = (day(before)?, day(now)?);
        Between::new(before, now).ok_or_else(|| malformed("the earlier date first"))
    }
}

impl fmt::Display for Between {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&format!("{}..{}", self.before, self.now))
    }
}

serialized_as_text!(Between);
from_given_text!(Between);
