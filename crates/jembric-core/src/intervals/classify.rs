//! [`RowClassifier`]: decides the status of each row, and its last active tick.

use super::{Backwards, EndDay, OpenEnds, RowStatus, Rules, ends_period};
use crate::{
    dates::Dates,
    parallel::{self, STRETCH},
};
use arrow_buffer::BooleanBuffer;

/// The ticks of all rows, and what decides their statuses.
pub(super) struct RowClassifier<'a> {
    pub(super) rules: &'a Rules,
    pub(super) first: &'a [i32],
    pub(super) ended: &'a [i32],
    /// The rows that have a start, and those that have an end; none if all do.
    pub(super) started: Option<&'a BooleanBuffer>,
    pub(super) has_end: Option<&'a BooleanBuffer>,
    /// The rows whose end means "no end".
    pub(super) never: Option<&'a BooleanBuffer>,
    pub(super) ends: &'a Dates,
    pub(super) backwards: Backwards<'a>,
    /// The tick until which open intervals last.
    pub(super) close: Option<i32>,
    /// The last tick that counts.
    pub(super) until: Option<i32>,
    pub(super) range: Option<(i32, i32)>,
    /// Whether the end day is exclusive.
    pub(super) end_is_exclusive: bool,
    pub(super) by_hours: bool,
}

/// The statuses of all rows.
pub(super) struct ClassifiedRows {
    /// The last ticks, unless they are the ends themselves.
    pub(super) last: Option<Vec<i32>>,
    pub(super) statuses: Vec<RowStatus>,
    /// The statuses that occur, one bit each.
    pub(super) seen: u8,
    /// The rows without an end of their own, or none by the last tick, if there are any.
    pub(super) closed: Vec<bool>,
}

impl RowClassifier<'_> {
    pub(super) fn all(&self, rows: usize) -> ClassifiedRows {
        // Most tables have all starts and ends, and then the ends themselves are the last ticks.
        if self.any_open() || self.end_is_exclusive || self.by_hours {
            return self.with_last(rows);
        }
        let mut statuses = vec![RowStatus::Active; rows];
        let seen = if self.started.is_none() && matches!(self.backwards, Backwards::ByTicks) {
            self.by_ticks(&mut statuses)
        } else {
            seen_in(parallel::of_parts(statuses.chunks_mut(STRETCH), |n, statuses| {
                statuses.iter_mut().zip(n * STRETCH..).fold(0, |seen, (status, row)| {
                    *status = self.of_row(row).1;
                    seen | 1 << *status as u8
                })
            }))
        };
        ClassifiedRows { last: None, statuses, seen, closed: Vec::new() }
    }

    fn any_open(&self) -> bool {
        self.has_end.is_some() || self.never.is_some() || self.until.is_some()
    }

    #[inline]
    fn is_open(&self, row: usize) -> bool {
        self.has_end.is_some_and(|valid| !valid.value(row))
            || self.never.is_some_and(|never| never.value(row))
    }

    /// The last active tick of a row, its status, and whether its end is missing.
    #[inline]
    fn of_row(&self, row: usize) -> (i32, RowStatus, bool) {
        let (first, ended) = (self.first[row], self.ended[row]);
        if self.started.is_some_and(|valid| !valid.value(row)) {
            return (ended, RowStatus::NoStart, false);
        }
        let (last, status, closed) = if self.is_open(row) {
            let last = self.close.unwrap_or(first);
            match self.rules.open_ends {
                OpenEnds::AsOf if first > last => (last, RowStatus::AfterAsOf, false),
                OpenEnds::AsOf => (last, RowStatus::Active, true),
                OpenEnds::Drop | OpenEnds::Refuse => (last, RowStatus::Open, false),
            }
        } else if self.backwards.is(row) || (!self.by_hours && ended < first) {
            (ended, RowStatus::Reversed, false)
        } else {
            let last = self.last_of(row);
            match self.until {
                _ if last < first => (last, RowStatus::NoDay, false),
                Some(until) if first > until => (last, RowStatus::AfterAsOf, false),
                Some(until) if last > until => (until, RowStatus::Active, true),
                _ => (last, RowStatus::Active, false),
            }
        };
        let outside = self.range.is_some_and(|(from, to)| last < from || first > to);
        (
            last,
            if status == RowStatus::Active && outside { RowStatus::Outside } else { status },
            closed,
        )
    }

    /// The last active tick of a row with a start and an end.
    #[inline]
    fn last_of(&self, row: usize) -> i32 {
        let first = self.first[row];
        let last =
            self.ended[row] - if self.end_is_exclusive { ends_period(self.ends, row) } else { 0 };
        if !self.by_hours {
            last
        } else if self.rules.end_day == EndDay::Inclusive {
            // An interval without length is active in its hour.
            last.max(first)
        } else if self.backwards.is_without_length(row) {
            first - 1
        } else {
            last
        }
    }

    fn with_last(&self, rows: usize) -> ClassifiedRows {
        let mut statuses = vec![RowStatus::Active; rows];
        let mut last = vec![0; rows];
        let mut closed = if self.any_open() { vec![false; rows] } else { Vec::new() };
        // If no row is open, there is no list of open rows; an empty part stands for each.
        let of_closed: Vec<&mut [bool]> = if self.any_open() {
            closed.chunks_mut(STRETCH).collect()
        } else {
            (0..rows.div_ceil(STRETCH)).map(|_| &mut [][..]).collect()
        };
        let stretches = statuses.chunks_mut(STRETCH).zip(last.chunks_mut(STRETCH)).zip(of_closed);
        let seen = seen_in(parallel::of_parts(stretches, |n, ((statuses, last), closed)| {
            (0..statuses.len()).fold(0, |seen, at| {
                let (tick, status, was_closed) = self.of_row(n * STRETCH + at);
                (last[at], statuses[at]) = (tick, status);
                if let Some(closed) = closed.get_mut(at) {
                    *closed = was_closed;
                }
                seen | 1 << status as u8
            })
        }));
        ClassifiedRows { last: Some(last), statuses, seen, closed }
    }

    /// If every row has a start and an end, their ticks alone decide.
    fn by_ticks(&self, statuses: &mut [RowStatus]) -> u8 {
        let (from, to) = self.range.unwrap_or((i32::MIN, i32::MAX));
        seen_in(parallel::of_parts(statuses.chunks_mut(STRETCH), |n, statuses| {
            let rows = n * STRETCH..n * STRETCH + statuses.len();
            let both = self.first[rows.clone()].iter().zip(&self.ended[rows]);
            statuses.iter_mut().zip(both).fold(0, |seen, (to_status, (&first, &last))| {
                let outside = (last < from) | (first > to);
                *to_status = if last < first {
                    RowStatus::Reversed
                } else if outside {
                    RowStatus::Outside
                } else {
                    RowStatus::Active
                };
                seen | 1 << *to_status as u8
            })
        }))
    }
}

/// The statuses that were seen in any stretch.
fn seen_in(stretches: Vec<u8>) -> u8 {
    stretches.into_iter().fold(0, |seen, more| seen | more)
}
