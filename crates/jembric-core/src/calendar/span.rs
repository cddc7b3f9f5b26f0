//! [`Span`]: a length of calendar time, as words (`9 months`) or as an ISO 8601 duration (`P9M`).

use super::{
    Day, Grain,
    error::{Result, ValueError},
};
use std::{fmt, str::FromStr};

/// A length of calendar time: a number of months, then a number of days. It may be negative.
///
/// Adding months keeps the day of the month, or goes to the last day of a shorter month.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Span {
    months: i32,
    days: i32,
}

impl Span {
    /// A number of days.
    pub const fn days(days: i32) -> Span {
        Span { months: 0, days }
    }

    /// A number of months.
    pub const fn months(months: i32) -> Span {
        Span { months, days: 0 }
    }

    /// The number of months; a year has twelve.
    pub const fn month_count(self) -> i32 {
        self.months
    }

    /// The number of days; a week has seven.
    pub const fn day_count(self) -> i32 {
        self.days
    }

    /// Whether it is a whole number of periods of this grain.
    pub fn fits(self, grain: Grain) -> bool {
        match grain {
            Grain::Hour | Grain::Day => true,
            Grain::Week => self.months == 0 && self.days % 7 == 0,
            _ => self.days == 0 && grain.months().is_some_and(|months| self.months % months == 0),
        }
    }

    /// The same length in the other direction.
    #[must_use]
    pub const fn negated(self) -> Span {
        Span { months: self.months.saturating_neg(), days: self.days.saturating_neg() }
    }

    /// Splits a text from the span that is added or subtracted at its end, if any:
    /// `today - 9 months`.
    pub(crate) fn split_from(text: &str) -> (&str, Span) {
        let mut signs = text.match_indices(' ').filter_map(|(at, _)| {
            let (before, rest) = text.split_at(at);
            let rest = rest.trim_start();
            let span = rest.strip_prefix(['+', '-'])?.trim_start().parse::<Span>().ok()?;
            Some((before, if rest.starts_with('-') { span.negated() } else { span }))
        });
        signs.next().unwrap_or((text, Span::default()))
    }

    /// The day this span after `day`: months are added first, then days. Errors: the result is
    /// outside the years 0001 to 9999.
    pub fn after(self, day: Day) -> Result<Day> {
        day.plus_months(self.months)
            .and_then(|day| day.plus_days(self.days))
            .ok_or(ValueError::BeyondCalendar { from: day, span: self })
    }
}

impl fmt::Display for Span {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit =
            |n: i32, name: &str| format!("{n} {name}{}", if n.abs() == 1 { "" } else { "s" });
        let months = |months: i32| match months % 12 {
            0 => unit(months / 12, "year"),
            _ => unit(months, "month"),
        };
        match (self.months, self.days) {
            (0, days) => f.pad(&unit(days, "day")),
            (of_months, 0) => f.pad(&months(of_months)),
            (of_months, days) => f.pad(&format!("{} {}", months(of_months), unit(days, "day"))),
        }
    }
}

impl FromStr for Span {
    type Err = ValueError;

    /// Parses `9 months`, `1 year 2 weeks` and ISO 8601 durations of whole days (`P9M`, `P1Y2W`).
    fn from_str(text: &str) -> Result<Span> {
        let span = if text.trim_start_matches([' ', '-', '+']).starts_with(['P', 'p']) {
            iso(text)
        } else {
            words(text)
        };
        span.ok_or_else(|| ValueError::Malformed {
            what: "a span",
            text: text.to_owned(),
            expected: "whole days, weeks, months or years, such as `9 months`, `7 days` or `P9M`",
        })
    }
}

fn iso(text: &str) -> Option<Span> {
    let span: jiff::Span = text.trim().parse().ok()?;
    let whole_days = span.years(0).months(0).weeks(0).days(0);
    let months = i32::from(span.get_years()).checked_mul(12)?.checked_add(span.get_months())?;
    let days = span.get_weeks().checked_mul(7)?.checked_add(span.get_days())?;
    whole_days.is_zero().then_some(Span { months, days })
}

fn words(text: &str) -> Option<Span> {
    let words: Vec<&str> = text.split_whitespace().collect();
    let mut span = Span::default();
    for pair in words.chunks(2) {
        let [number, unit] = pair else { return None };
        let number: i32 = number.parse::<u32>().ok()?.try_into().ok()?;
        let (count, size) = match unit.to_ascii_lowercase().trim_end_matches('s') {
            "day" => (&mut span.days, 1),
            "week" => (&mut span.days, 7),
            "month" => (&mut span.months, 1),
            "year" => (&mut span.months, 12),
            _ => return None,
        };
        *count = count.checked_add(number.checked_mul(size)?)?;
    }
    (!words.is_empty()).then_some(span)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("9 months", Some((9, 0)))]
    #[case("1 Year 2 weeks 1 day", Some((12, 15)))]
    #[case("P9M", Some((9, 0)))]
    #[case("P1Y2M1W3D", Some((14, 10)))]
    #[case("-P7D", Some((0, -7)))]
    #[case("PT5H", None)]
    #[case("9", None)]
    #[case("-9 months", None)]
    #[case("9 moons", None)]
    #[case("4000000000 days", None)]
    #[case("400000000 years", None)]
    #[case("", None)]
    fn spans_in_words_and_iso(#[case] text: &str, #[case] expected: Option<(i32, i32)>) {
        assert_eq!(text.parse::<Span>().ok(), expected.map(|(months, days)| Span { months, days }));
    }

    #[test]
    fn a_span_beyond_the_calendar_is_an_error() {
        let error = Span::months(9).after(Day::from_ymd(9999, 6, 30).unwrap()).unwrap_err();
        insta::assert_snapshot!(error, @"9 months after 9999-06-30 is outside the years 0001 to \
            9999");
    }
}
