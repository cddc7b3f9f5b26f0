//! [`AsOf`]: an as-of date as the user writes it. The core parses it; the caller, who has the clock
//! and the data, resolves it once to a [`Day`].

use super::{
    Day, Span,
    error::{Result, ValueError},
};
use std::{fmt, str::FromStr};

/// A date, `today`, or the newest date of a column, plus or minus a span: `today - 730 days`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AsOf {
    anchor: Anchor,
    span: Span,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Anchor {
    On(Day),
    Today,
    Newest(String),
}

impl AsOf {
    /// The column whose newest date is meant, if any.
    pub fn column(&self) -> Option<&str> {
        match &self.anchor {
            Anchor::Newest(column) => Some(column),
            _ => None,
        }
    }

    /// Whether it depends on today's date.
    pub fn needs_today(&self) -> bool {
        matches!(self.anchor, Anchor::Today)
    }

    /// Resolves the date, given today's date and the newest date of the column.
    pub fn resolve<E: From<ValueError>>(
        &self,
        today: Day,
        newest: impl FnOnce(&str) -> std::result::Result<Day, E>,
    ) -> std::result::Result<Day, E> {
        let anchor = match &self.anchor {
            Anchor::On(day) => *day,
            Anchor::Today => today,
            Anchor::Newest(column) => newest(column)?,
        };
        Ok(self.span.after(anchor)?)
    }
}

impl From<Day> for AsOf {
    fn from(day: Day) -> AsOf {
        AsOf { anchor: Anchor::On(day), span: Span::default() }
    }
}

impl FromStr for AsOf {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<AsOf> {
        let (anchor, span) = Span::split_from(text);
        let anchor = match anchor.trim() {
            "today" => Anchor::Today,
            word => match word.strip_prefix("newest:") {
                Some(column) if !column.trim().is_empty() => {
                    Anchor::Newest(column.trim().to_owned())
                }
                _ => Anchor::On(word.parse().map_err(|_| ValueError::Malformed {
                    what: "an as-of date",
                    text: text.to_owned(),
                    expected: "a date such as 2025-06-30, `today`, or `newest:COLUMN`, with a \
                        span added or taken, \
                               as in `today - 9 months`",
                })?),
            },
        };
        Ok(AsOf { anchor, span })
    }
}

impl fmt::Display for AsOf {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.anchor {
            Anchor::On(day) => write!(f, "{day}")?,
            Anchor::Today => f.write_str("today")?,
            Anchor::Newest(column) => write!(f, "newest:{column}")?,
        }
        if self.span == Span::default() { Ok(()) } else { write!(f, " + {}", self.span) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("2025-06-30", Some("2025-06-30"))]
    #[case("today", Some("2025-03-31"))]
    #[case("today - 1 month", Some("2025-02-28"))]
    #[case("2025-06-30 + P1W", Some("2025-07-07"))]
    #[case("newest:inspected on", Some("2025-05-15"))]
    #[case("newest:issued - 15 days", Some("2025-04-30"))]
    #[case("newest:a - b", Some("2025-05-15"))]
    #[case("2025-02-30", None)]
    #[case("tomorrow", None)]
    #[case("newest:", None)]
    #[case("today -", None)]
    #[case("9999-12-31 + 1 day", None)]
    fn as_of_is_a_date_or_words_for_one(#[case] text: &str, #[case] expected: Option<&str>) {
        let today = "2025-03-31".parse().unwrap();
        let day =
            text.parse::<AsOf>().and_then(|as_of| as_of.resolve(today, |_| "2025-05-15".parse()));
        assert_eq!(day.ok().map(|day| day.to_string()).as_deref(), expected);
    }
}
