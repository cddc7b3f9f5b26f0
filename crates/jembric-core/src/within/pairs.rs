//! [`Pairs`]: the rows of the result, each an event and its window, all at once or in batches.
//!
//! The number of pairs of each group of events is known in advance, so any group can be processed
//! separately.

use super::{
    Keep,
    search::{Found, Meeting, NO_SUCH_KEY, NOTHING_SOUGHT, OUTSIDE, SEVERAL},
};
use crate::{
    context::{Context, Sink},
    error::{Error, Result, Smaller},
    exact::ExactSum,
    parallel::{self, STRETCH},
    shape::Named,
    table::Table,
};
use arrow_array::{Array, ArrayRef, BooleanArray, UInt32Array, cast::AsArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::Field;
use arrow_select::filter::filter;
use std::ops::Range;

/// What a result of pairs is made from.
pub(super) struct Pairs<'a> {
    /// The number of rows of the result.
    pub(super) rows: u64,
    pub(super) events: &'a Table,
    /// The columns of the windows to add, under their new names.
    pub(super) windows: &'a Table,
    pub(super) brought: &'a [Named],
    pub(super) keep: Keep,
    pub(super) found: &'a Found,
    pub(super) meeting: &'a dyn Meeting,
    pub(super) overlaps: bool,
    /// The places in the result of the columns to sum.
    pub(super) reconcile: &'a [usize],
}

/// A group of events, those of them with several windows, and the number of their pairs.
struct Share {
    events: Range<usize>,
    several: Range<usize>,
    pairs: usize,
}

impl Pairs<'_> {
    fn is_in_answer(&self, found: u32) -> bool {
        self.keep == Keep::EveryEvent || found < SEVERAL
    }

    /// Groups with about as many pairs as a batch has rows. (The windows of one event stay
    /// together.)
    fn units(&self) -> Vec<Share> {
        let (found, several) = (&self.found.of_events, &self.found.several);
        let mut next = 0;
        let mut units = Vec::new();
        let simple = |events: Range<usize>| {
            found[events]
                .iter()
                .filter(|&&found| found != SEVERAL && self.is_in_answer(found))
                .count()
        };
        // A group ends after a stretch of events, or once it has a stretch of pairs. So neither
        // many events without windows nor a few with many make a group long.
        for start in (0..found.len()).step_by(STRETCH) {
            let end = (start + STRETCH).min(found.len());
            let mut unit = Share { events: start..start, several: next..next, pairs: 0 };
            while let Some(&(event, count)) =
                several.get(next).filter(|(event, _)| (*event as usize) < end)
            {
                let event = event as usize;
                unit.pairs += simple(unit.events.end..event) + count as usize;
                (unit.events.end, unit.several.end, next) = (event + 1, next + 1, next + 1);
                if unit.pairs >= STRETCH {
                    units.push(unit);
                    unit = Share { events: event + 1..event + 1, several: next..next, pairs: 0 };
                }
            }
            unit.pairs += simple(unit.events.end..end);
            unit.events.end = end;
            units.push(unit);
        }
        units
    }

    /// The pairs of a group: an event, and its window if it has one.
    fn pairs_of(&self, unit: &Share) -> (Vec<u32>, Vec<Option<u32>>) {
        let (mut events, mut windows) =
            (Vec::with_capacity(unit.pairs), Vec::with_capacity(unit.pairs));
        let mut several = Vec::new();
        for event in unit.events.clone() {
            match self.found.of_events[event] {
                SEVERAL => {
                    // The windows of such an event were only counted before. They are looked for
                    // again here, which takes less memory than a list of all pairs.
                    self.meeting.windows_of(event as u32, &mut several);
                    events.extend(several.iter().map(|_| event as u32));
                    windows.extend(several.drain(..).map(Some));
                }
                found if found < SEVERAL => {
                    events.push(event as u32);
                    windows.push(Some(found));
                }
                _ if self.keep == Keep::EveryEvent => {
                    events.push(event as u32);
                    windows.push(None);
                }
                _ => {}
            }
        }
        (events, windows)
    }

    /// The whole result, with the sums over it.
    pub(super) fn whole(&self, context: &Context) -> Result<(Table, Vec<ExactSum>)> {
        let row_bytes = 8 + self.events.row_bytes() + self.windows.row_bytes();
        context.expect_room(self.rows, row_bytes, Smaller::MatchMore)?;
        if self.found.several.is_empty() {
            return self.each_once();
        }
        let units = self.units();
        let pairs: usize = units.iter().map(|unit| unit.pairs).sum();
        if pairs >= u32::MAX as usize {
            return Err(Error::TableTooLong { rows: pairs });
        }
        let made = parallel::of_parts(&units, |_, unit| self.pairs_of(unit));
        let (mut events, mut windows) = (vec![0; pairs], vec![None; pairs]);
        // Each group has its own part of the result, so the threads copy without waiting for each
        // other.
        let (mut all_events, mut all_windows) = (&mut events[..], &mut windows[..]);
        let parts = made.into_iter().map(|(events, windows)| {
            let event_part = all_events.split_off_mut(..events.len()).unwrap_or_default();
            let window_part = all_windows.split_off_mut(..windows.len()).unwrap_or_default();
            ((events, event_part), (windows, window_part))
        });
        parallel::of_parts(parts, |_, ((events, to_events), (windows, to_windows))| {
            to_events.copy_from_slice(&events);
            to_windows.copy_from_slice(&windows);
        });
        self.joined(self.events.take(&UInt32Array::from(events.clone()))?, &events, &windows)
    }

    /// If no event is repeated, the result is a selection of rows in order.
    fn each_once(&self) -> Result<(Table, Vec<ExactSum>)> {
        let found = &self.found.of_events;
        let of = |is: &dyn Fn(u32) -> bool| {
            BooleanBuffer::collect_bool(found.len(), |event| is(found[event]))
        };
        let kept = of(&|found| self.is_in_answer(found));
        let rows = UInt32Array::new(
            found.clone().into(),
            Some(NullBuffer::new(of(&|found| found < SEVERAL))),
        );
        let rows = filter(&rows, &BooleanArray::new(kept.clone(), None))?;
        let rows: &UInt32Array = rows.as_primitive();
        // A column without missing values needs no mask.
        let rows = if rows.null_count() == 0 {
            UInt32Array::new(rows.values().clone(), None)
        } else {
            rows.clone()
        };
        let overlaps = self.overlaps.then(|| {
            let events: Vec<u32> = kept.set_indices().map(|event| event as u32).collect();
            self.meeting.overlaps(&events, &rows.iter().collect::<Vec<_>>())
        });
        self.put_together(self.events.filter(&kept)?, &rows, overlaps)
    }

    fn batch(&self, unit: &Share) -> Result<(Table, Vec<ExactSum>)> {
        let (events, windows) = self.pairs_of(unit);
        self.joined(self.events.take(&UInt32Array::from(events.clone()))?, &events, &windows)
    }

    fn joined(
        &self,
        events: Table,
        event_rows: &[u32],
        window_rows: &[Option<u32>],
    ) -> Result<(Table, Vec<ExactSum>)> {
        let rows: UInt32Array = match self.keep {
            Keep::EveryEvent => window_rows.iter().copied().collect(),
            _ => UInt32Array::from_iter_values(window_rows.iter().flatten().copied()),
        };
        let overlaps = self.overlaps.then(|| self.meeting.overlaps(event_rows, window_rows));
        self.put_together(events, &rows, overlaps)
    }

    fn put_together(
        &self,
        events: Table,
        window_rows: &UInt32Array,
        overlaps: Option<[(Field, ArrayRef); 3]>,
    ) -> Result<(Table, Vec<ExactSum>)> {
        let brought = self.windows.select(self.brought)?.take(window_rows)?;
        let columns = events.fields().chain(brought.fields()).chain(overlaps.into_iter().flatten());
        let table = Table::of_known(columns)?;
        let all = BooleanBuffer::new_set(table.rows());
        let sums = self.reconcile.iter().map(|&place| ExactSum::of_column(table.at(place), &all));
        let sums = sums.collect();
        Ok((table, sums))
    }

    /// The result in batches, with the sums over it. The returned table has the columns and no
    /// rows.
    pub(super) fn in_batches(&self, sink: &mut Sink<'_>) -> Result<(Table, Vec<ExactSum>)> {
        let (none, mut sums) = self.batch(&Share { events: 0..0, several: 0..0, pairs: 0 })?;
        let units: Vec<Share> = self.units().into_iter().filter(|unit| unit.pairs > 0).collect();
        // An empty result still has its columns.
        if units.is_empty() {
            sink(&none).map_err(Error::Sink)?;
        }
        // Several batches are made in parallel and delivered in order.
        for units in units.chunks(2 * rayon::current_num_threads()) {
            for batch in parallel::of_parts(units, |_, unit| self.batch(unit)) {
                let (table, more) = batch?;
                sums = sums.into_iter().zip(&more).map(|(sum, more)| sum.plus(more)).collect();
                sink(&table).map_err(Error::Sink)?;
            }
        }
        Ok((none, sums))
    }
}

/// Why events have no window, as masks.
pub(super) struct Strays {
    /// No window has their key.
    pub(super) no_such_key: BooleanBuffer,
    /// Windows have their key, but none of them can be used.
    pub(super) no_usable: BooleanBuffer,
    pub(super) outside: BooleanBuffer,
    pub(super) matched: BooleanBuffer,
}

impl Strays {
    /// All events in no window.
    pub(super) fn all(&self) -> BooleanBuffer {
        &(&self.no_such_key | &self.no_usable) | &self.outside
    }

    /// The reasons for events with these keys, given the keys of the windows and of the usable
    /// ones.
    pub(super) fn find(found: &[u32], keys: &[u32], of_windows: &[bool]) -> Strays {
        let has_windows = |event: usize| {
            of_windows.get(keys[event] as usize).is_some_and(|&has_windows| has_windows)
        };
        let no_window = |has: bool| {
            parallel::bits(found.len(), |event| {
                found[event] == NO_SUCH_KEY && has_windows(event) == has
            })
        };
        let mask = |is: fn(u32) -> bool| parallel::bits(found.len(), |event| is(found[event]));
        Strays {
            no_such_key: no_window(false),
            no_usable: no_window(true),
            outside: mask(|found| found == OUTSIDE),
            matched: mask(|found| !matches!(found, NO_SUCH_KEY | OUTSIDE | NOTHING_SOUGHT)),
        }
    }
}
