//! The two ends of elapsed time: as they are named, and as the dates of each row.

use crate::{
    calendar::{Day, MICROS_PER_DAY, Periods, Zone},
    context::Context,
    dates::Dates,
    error::{Error, Result, refuse},
    parallel,
    shape::Shape,
    table::Table,
};
use arrow_buffer::NullBuffer;
use std::borrow::Cow;

/// One end of elapsed time.
#[derive(Clone, Copy)]
pub(super) enum End {
    AsOf,
    On(Day),
    /// The dates of the column at this place.
    Column(usize),
}

impl End {
    /// Parses an end: `as-of`, `today`, a date, or a column.
    ///
    /// Errors: there is no such column, or it holds no dates; the as-of date or today's date is not
    /// known.
    pub(super) fn resolve(text: &str, shape: &Shape, context: &Context) -> Result<End> {
        match text {
            "as-of" if context.as_of_is_unknown() => Err(no_as_of()),
            "as-of" => Ok(End::AsOf),
            "today" => match context.today {
                Some(day) => Ok(End::On(day)),
                None => {
                    refuse("today", "not known", "the day that it is, from whoever has a clock")
                }
            },
            _ => match text.parse() {
                Ok(day) => Ok(End::On(day)),
                Err(_) => shape.place_of_dates(text).map(End::Column),
            },
        }
    }

    /// The place of the column, if the end is a column.
    pub(super) fn column(&self) -> Option<usize> {
        match self {
            End::Column(place) => Some(*place),
            _ => None,
        }
    }
}

fn no_as_of() -> Error {
    Error::NoAsOf { what: "`elapsed` to or from `as-of`" }
}

/// One end for every row.
pub(super) enum Ends {
    One(Day),
    Rows(Dates),
}

impl Ends {
    pub(super) fn new(end: &End, table: &Table, context: &Context) -> Result<Ends> {
        match *end {
            End::AsOf => context.as_of.map(Ends::One).ok_or_else(no_as_of),
            End::On(day) => Ok(Ends::One(day)),
            End::Column(place) => Ok(Ends::Rows(table.dates_at(place))),
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

    /// The day of each row, or the one day of all rows, as the first day of its period.
    pub(super) fn days(&self, periods: Periods, zone: &Zone) -> Cow<'_, [i32]> {
        let first = |day: i32| periods.first_day(Day::clamped(day)).number();
        match self {
            Ends::One(day) => Cow::Owned(vec![first(day.number())]),
            Ends::Rows(dates) if dates.periods() == periods => dates.day_numbers(zone),
            Ends::Rows(dates) => {
                Cow::Owned(dates.day_numbers(zone).iter().map(|&day| first(day)).collect())
            }
        }
    }

    /// The number of units from each row's day to its other day.
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
            // A column with one row is the same as one date for all rows.
            ([from], [to]) => vec![count(one(*from), one(*to)).into(); rows],
            ([from], to) => parallel::map(to, |to| count(one(*from), one(to)).into()),
            (from, [to]) => parallel::map(from, |from| count(one(from), one(*to)).into()),
            (from, to) => parallel::map_two(from, to, |from, to| count(one(from), one(to)).into()),
        }
    }

    /// The point in time of each row, or the reading of its clock. A day stands for its midnight.
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
