//! What is asked of totals: the figures, the parts of a longer time, and over what the same is told
//! beside them.

use crate::{calendar::Periods, shape::Named};

/// Parts of a longer time that come again and again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, jembric_derive::Words)]
pub enum Each {
    /// Monday to Sunday, from the day on which weeks begin.
    Weekday,
    /// January to December, from the month in which years begin.
    MonthOfYear,
    /// 1 to 31.
    DayOfMonth,
    /// 0 to 23, of moments.
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

/// Over what the same is told beside each figure.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Scope {
    Periods(Periods),
    All,
    /// All values of the key column at this place among the keys, shown under this name.
    Every {
        key: usize,
        shown_as: String,
    },
}

impl Scope {
    /// What a figure over it is called, and the share of it, if there is one.
    pub(super) fn names(&self, figure: &str, share: Option<&str>) -> (String, Option<String>) {
        let of = match self {
            Scope::Periods(periods) => periods.grain().word(),
            Scope::All => "all",
            Scope::Every { shown_as, .. } => return (format!("{figure}_every_{shown_as}"), None),
        };
        (format!("{figure}_of_{of}"), share.map(|share| format!("share_of_{of}_{share}")))
    }
}

/// What is worked out of a column of each cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum What {
    Sum,
    Mean,
    Min,
    Max,
    Count,
    Distinct,
}

/// One figure that is asked for.
pub(super) struct AskedFigure {
    pub(super) what: What,
    /// The column and its place, but for counts.
    pub(super) column: String,
    pub(super) place: Option<usize>,
    /// What it is called, where there is one date and nothing side by side.
    pub(super) name: String,
    /// What a share of it is called after `share_of_year_`, for what adds up.
    pub(super) share: Option<String>,
}

/// What is put behind a figure's name for each date: nothing where there are not several.
pub(super) fn suffixes(dates: &[Named]) -> Vec<String> {
    match dates {
        [] | [_] => vec![String::new()],
        several => several.iter().map(|named| format!("_{}", named.shown_as)).collect(),
    }
}
