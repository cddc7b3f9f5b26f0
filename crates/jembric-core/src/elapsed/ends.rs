//! The two ends of the time that elapses: as they were named, and the dates that they are in each row.

use crate::{
    calendar::{Day, MICROS_PER_DAY, Periods, Zone},
    columnwise,
    dates::Dates,
    error::{Error, Result},
    operation::Context,
    table::Table,
};
use arrow_buffer::NullBuffer;
use std::borrow::Cow;

/// One end of the time that elapses.
#[derive(Clone, Copy)]
pub(super) enum End<'a> {
    AsOf,
    Today,
    On(Day),
    Column(&'a str),
}

impl<'a> End<'a> {
    pub(super) fn of(text: &'a str) -> End<'a> {
        match text {
            "as-of" => End::AsOf,
            "today" => End::Today,
            _ => text.parse().map_or(End::Column(text), End::On),
        }
    }

    /// The day for all rows, where it is one.
    pub(super) fn day(self, context: &Context) -> Result<Option<Day>> {
        match self {
            End::AsOf => {
                context.as_of.map(Some).ok_or(Error::NoAsOf { what: "`elapsed` to or from `as-of`" })
            }
            End::Today => context.today.map(Some).ok_or_else(|| Error::Setting {
                setting: "today",
                value: "not known".to_owned(),
                expected: "the day that it is, from whoever has a clock",
            }),
            End::On(day) => Ok(Some(day)),
            End::Column(_) => Ok(None),
        }
    }

    pub(super) fn column(self) -> &'a str {
        match self {
            End::Column(name) => name,
            _ => "",
        }
    }
}

/// One end of every row.
pub(super) enum Ends {
    One(Day),
    Rows(Dates),
}

impl Ends {
    pub(super) fn new(end: End<'_>, table: &Table, context: &Context) -> Result<Ends> {
        match end.day(context)? {
            Some(day) => Ok(Ends::One(day)),
            None => table.dates(end.column()).map(Ends::Rows),
        }
    }

    pub(super) fn nulls(&self) -> Option<NullBuffer> {
        match self {
            Ends::One(_) => None,
            Ends::Rows(dates) => dates.nulls(),
        }
    }

    pub(super) fn are_instants(&self) -> bool {
        matches!(self, Ends::Rows(dates) if dates.are_instants())
    }

    pub(super) fn are_moments(&self) -> bool {
        matches!(self, Ends::Rows(Dates::Moments(_)))
    }

    pub(super) fn periods(&self) -> Periods {
        match self {
            Ends::One(_) => Periods::DAYS,
            Ends::Rows(dates) => dates.periods(),
        }
    }

    /// The days of each row, or the one day of all, as the first of these periods.
    pub(super) fn days(&self, periods: Periods, zone: &Zone) -> Cow<'_, [i32]> {
        let first = |day: i32| periods.first_day(Day::clamped(day)).number();
        match self {
            Ends::One(day) => Cow::Owned(vec![first(day.number())]),
            Ends::Rows(dates) if dates.periods() == periods => dates.day_numbers(zone),
            Ends::Rows(dates) => Cow::Owned(dates.day_numbers(zone).iter().map(|&day| first(day)).collect()),
        }
    }

    /// What is counted from each row's day to its other day.
    pub(super) fn each_day_to(
        &self,
        to: &Ends,
        periods: Periods,
        rows: usize,
        zone: &Zone,
        count: impl Fn(Day, Day) -> i32 + Sync,
    ) -> Vec<i64> {
        let (from, to) = (self.days(periods, zone), to.days(periods, zone));
        let one = |day: i32| Day::clamped(day);
        match (&from[..], &to[..]) {
            // A column of one row is as good as one date for all.
            ([from], [to]) => vec![count(one(*from), one(*to)).into(); rows],
            ([from], to) => columnwise::map(to, |to| count(one(*from), one(to)).into()),
            (from, [to]) => columnwise::map(from, |from| count(one(from), one(*to)).into()),
            (from, to) => columnwise::map_two(from, to, |from, to| count(one(from), one(to)).into()),
        }
    }

    /// The points in time of each row, or the readings of the clocks; a day is its midnight.
    pub(super) fn micros(&self, rows: usize, instants: bool, zone: &Zone) -> Vec<i64> {
        let taken = |reading: i64| if instants { zone.instant(reading) } else { reading };
        match self {
            Ends::One(day) => vec![taken(i64::from(day.number()) * MICROS_PER_DAY); rows],
            Ends::Rows(Dates::Moments(moments)) if self.are_instants() || !instants => {
                moments.values().to_vec()
            }
            Ends::Rows(Dates::Moments(moments)) => {
                moments.values().iter().map(|&reading| taken(reading)).collect()
            }
            Ends::Rows(dates) => {
                let days = dates.day_numbers(zone);
                days.iter()
                    .map(|&day| taken(i64::from(Day::clamped(day).number()) * MICROS_PER_DAY))
                    .collect()
            }
        }
    }
}
