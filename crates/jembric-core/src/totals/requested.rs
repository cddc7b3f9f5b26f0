//! The requested totals: the figures, the parts of a period, and the scopes beside them.

use crate::{calendar::Periods, shape::Named};

/// Parts of a longer period that recur.
#[derive(Clone, Copy, Debug, PartialEq, Eq, jembric_derive::Words)]
pub enum Each {
    /// Monday to Sunday, from the first weekday of weeks.
    Weekday,
    /// January to December, from the first month of years.
    MonthOfYear,
    /// 1 to 31.
    DayOfMonth,
    /// 0 to 23, for moments.
    HourOfDay,
}

impl Each {
    /// The name of its column.
    pub(crate) fn column(self) -> &'static str {
        match self {
            Each::Weekday => "weekday",
            Each::MonthOfYear => "month_of_year",
            Each::DayOfMonth => "day_of_month",
            Each::HourOfDay => "hour_of_day",
        }
    }
}

/// A wider scope, whose figures stand beside each figure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Scope {
    Periods(Periods),
    All,
    /// All values of the key column at this place among the keys, under this name.
    Every {
        key: usize,
        shown_as: String,
    },
}

impl Scope {
    /// Whether it is over all values of the key at this place.
    pub(super) fn is_over(&self, place: usize) -> bool {
        matches!(self, Scope::Every { key, .. } if *key == place)
    }

    /// The name of a figure over this scope, and of its share, if there is one.
    pub(super) fn names(&self, figure: &str, share: Option<&str>) -> (String, Option<String>) {
        let of = match self {
            Scope::Periods(periods) => periods.grain().word(),
            Scope::All => "all",
            Scope::Every { shown_as, .. } => return (format!("{figure}_every_{shown_as}"), None),
        };
        (format!("{figure}_of_{of}"), share.map(|share| format!("share_of_{of}_{share}")))
    }
}

/// What is computed from a column in each cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    Sum,
    Mean,
    Min,
    Max,
    Count,
    Distinct,
}

/// One requested figure.
#[derive(Clone)]
pub(super) struct RequestedFigure {
    pub(super) what: What,
    /// The column and its place, except for counts.
    pub(super) column: String,
    pub(super) place: Option<usize>,
    /// Its name, with one date and nothing side by side.
    pub(super) name: String,
    /// The name of its share after `share_of_year_`, for figures that can be added.
    pub(super) share: Option<String>,
}

/// The suffix of a figure's name for each date; empty if there is only one.
pub(super) fn suffixes(dates: &[Named]) -> Vec<String> {
    match dates {
        [] | [_] => vec![String::new()],
        several => several.iter().map(|named| format!("_{}", named.shown_as)).collect(),
    }
}
