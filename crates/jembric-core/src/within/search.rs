//! [`Search`]: finds the windows of each event, and counts them before any pair is made.

use super::{
    Pick, WithinPlan,
    index::{Hits, Index},
    ticks::{Clock, Stretches, Tick, TickUnit},
};
use crate::{
    calendar::Periods,
    kind::period_field,
    ordering::WholeRows,
    parallel::{self, STRETCH},
};
use arrow_array::{ArrayRef, Int64Array};
use arrow_buffer::{BooleanBuffer, Buffer};
use arrow_schema::{DataType, Field};
use rayon::prelude::*;
use std::{
    cmp::Ordering,
    collections::{BTreeSet, BinaryHeap},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

/// What an event found, unless it is the row of its only window.
pub(super) const NOTHING_SOUGHT: u32 = u32::MAX;
pub(super) const NO_SUCH_KEY: u32 = u32::MAX - 1;
pub(super) const OUTSIDE: u32 = u32::MAX - 2;
pub(super) const SEVERAL: u32 = u32::MAX - 3;
/// Tables of windows must have fewer rows than this.
pub(super) const MOST_WINDOWS: usize = SEVERAL as usize;

/// The events whose windows are fetched together.
const BLOCK: usize = 64;
/// Up to this many windows of an event are marked as used one by one.
const FEW: u32 = 64;

/// What each event found.
pub(super) struct Found {
    /// The row of its window, or why there is none, or that there are several.
    pub(super) of_events: Vec<u32>,
    /// The events with several windows that keep all of them, in order, with the number of windows.
    pub(super) several: Vec<(u32, u32)>,
    /// The number of events in several windows, whether all are kept or one is picked, and the
    /// number of these windows.
    pub(super) repeated: (u64, u64),
    /// The number of events whose window was decided by comparing whole rows.
    pub(super) tied: u64,
    /// The windows with an event.
    pub(super) used: BooleanBuffer,
}

/// The questions about a pair, independent of the unit of time.
pub(super) trait Meeting: Sync {
    /// Appends the rows of the windows that contain an event.
    fn windows_of(&self, event: u32, to: &mut Vec<u32>);
    /// The start, end and days of the overlap of events and windows.
    fn overlaps(&self, events: &[u32], windows: &[Option<u32>]) -> [(Field, ArrayRef); 3];
}

pub(super) struct Search<'a, T: Tick> {
    pub(super) within: &'a WithinPlan,
    pub(super) clock: Clock<'a>,
    pub(super) index: Index<T>,
    /// The key of each event.
    pub(super) keys: &'a [u32],
    pub(super) events: Stretches<T>,
    pub(super) windows: Stretches<T>,
    /// The dates of windows that distances are measured from, and the windows that have such a
    /// date.
    pub(super) near: Option<(Vec<T>, BooleanBuffer)>,
    pub(super) order: WholeRows,
}

/// One bit for each window, which all threads may set.
struct Marks(Vec<AtomicU64>);

impl Marks {
    fn new(rows: usize) -> Marks {
        Marks((0..rows.div_ceil(64)).map(|_| AtomicU64::new(0)).collect())
    }

    #[inline]
    fn set(&self, row: u32) {
        let (word, bit) = (&self.0[row as usize / 64], 1 << (row % 64));
        // Other threads read this word, so skip the write if it changes nothing.
        if word.load(Relaxed) & bit == 0 {
            word.fetch_or(bit, Relaxed);
        }
    }

    fn mask(self, rows: usize) -> BooleanBuffer {
        let words: Vec<u64> = self.0.into_iter().map(AtomicU64::into_inner).collect();
        BooleanBuffer::new(Buffer::from_vec(words), 0, rows)
    }
}

/// What a group of events found.
#[derive(Default)]
struct EventGroup {
    several: Vec<(u32, u32)>,
    /// Events with more windows than are marked one by one.
    wide: Vec<u32>,
    undecided: Vec<u32>,
    repeated: (u64, u64),
    tied: u64,
}

impl<T: Tick> Search<'_, T> {
    pub(super) fn found(&self, no_key: u32, windows: usize) -> Found {
        let mut of_events = vec![NOTHING_SOUGHT; self.keys.len()];
        let used = Marks::new(windows);
        // Each thread takes a stretch of events and writes their results in place. What is rare
        // (several windows) goes into a list of its own.
        let parts = parallel::of_parts(of_events.chunks_mut(STRETCH), |n, found| {
            let mut part = EventGroup::default();
            for (block, found) in found.chunks_mut(BLOCK).enumerate() {
                self.of_block(n * STRETCH + block * BLOCK, found, no_key, &used, &mut part);
            }
            part
        });

        let mut found = Found {
            of_events,
            several: Vec::new(),
            repeated: (0, 0),
            tied: 0,
            used: BooleanBuffer::new_unset(0),
        };
        // Put the lists together in the order of the events, so that the result does not depend on
        // the number of threads.
        let (mut wide, mut undecided) = (Vec::new(), Vec::new());
        for part in parts {
            found.several.extend(part.several);
            found.repeated.0 += part.repeated.0;
            found.repeated.1 += part.repeated.1;
            found.tied += part.tied;
            wide.extend(part.wide);
            undecided.extend(part.undecided);
        }
        // Events with many windows, and those that need the nearest one, are finished for all
        // events of a key at once.
        self.mark_wide(wide, &used);
        for (event, place, tied) in self.nearest(undecided) {
            let row = self.index.at(place).row;
            found.of_events[event as usize] = row;
            found.tied += u64::from(tied);
            used.set(row);
        }
        found.used = used.mask(windows);
        found
    }

    /// Finds the windows of a block of events. First the places of all their windows are looked up,
    /// then the windows are read, so that cache misses of many events are served in parallel.
    fn of_block(
        &self,
        start: usize,
        found: &mut [u32],
        no_key: u32,
        used: &Marks,
        part: &mut EventGroup,
    ) {
        // Three loops instead of one: each loads from memory what the next one needs, and the loads
        // within a loop do not depend on each other.
        let (mut places, mut begun) = ([(0, 0); BLOCK], [0; BLOCK]);
        let keys = &self.keys[start..start + found.len()];
        // First: where the windows of each key are.
        for (places, &key) in places.iter_mut().zip(keys) {
            if key != no_key {
                *places = self.index.places(key as usize);
            }
        }
        // Second: how many of them have begun by the end of the event.
        for (n, (begun, &places)) in begun.iter_mut().zip(&places).enumerate().take(keys.len()) {
            *begun = self.index.begun(places, self.events.at(start + n).1);
        }
        // Third: which of those have not ended before the event begins.
        for (n, found) in found.iter_mut().enumerate() {
            let event = start + n;
            if keys[n] != no_key && self.events.usable.value(event) {
                let first = self.events.at(event).0;
                let hits = self.index.among(keys[n] as usize, places[n], begun[n], first);
                *found = match hits.count {
                    // A key without any window, and one whose windows are elsewhere in time, are
                    // different reasons in the ledger.
                    0 if places[n].0 == places[n].1 => NO_SUCH_KEY,
                    0 => OUTSIDE,
                    _ => self.of_event(event, hits, used, part),
                };
            }
        }
    }

    #[inline]
    fn of_event(&self, event: usize, hits: Hits, used: &Marks, part: &mut EventGroup) -> u32 {
        let first = self.events.at(event).0;
        let mark = |place: usize| {
            let row = self.index.at(place).row;
            used.set(row);
            row
        };
        // Most events have one window. Its row is the result, and needs no list.
        if hits.count == 1 {
            return self.index.each(hits, first).next().map_or(OUTSIDE, mark);
        }
        // Count what the warning about repeated events needs, whether all windows are kept or one
        // is picked.
        part.repeated.0 += 1;
        part.repeated.1 += u64::from(hits.count);
        // Windows are sorted by start and then by whole row, so the first and the last are at the
        // ends. The neighbour is needed to see whether they tie.
        let picked = match self.within.pick {
            Pick::All => {
                part.several.push((event as u32, hits.count));
                if hits.count <= FEW {
                    self.index.each(hits, first).for_each(|place| {
                        mark(place);
                    });
                } else {
                    part.wide.push(event as u32);
                }
                return SEVERAL;
            }
            Pick::Nearest => {
                part.undecided.push(event as u32);
                return SEVERAL;
            }
            Pick::First => {
                let mut places = self.index.each(hits, first);
                places.next().map(|place| (place, places.next()))
            }
            Pick::Last => {
                let before = |place| self.index.last(hits, first, place);
                before(self.index.end_of(hits)).map(|place| (place, before(place)))
            }
        };
        let Some((place, next)) = picked else { return OUTSIDE };
        // Two windows that start together were decided by comparing whole rows. Most start on
        // different ticks, which the index knows without reading the windows.
        let tick = |place: usize| self.index.at(place).first;
        let start = |place: usize| self.windows.start(self.index.at(place).row);
        let is_tied = |next| tick(next) == tick(place) && start(next) == start(place);
        part.tied += u64::from(next.is_some_and(is_tied));
        mark(place)
    }

    /// Marks the windows of events that have many. Instead of every pair it visits each window
    /// once, and finds out whether any event of its key meets it.
    fn mark_wide(&self, mut events: Vec<u32>, used: &Marks) {
        let time = |event: u32| self.events.at(event as usize);
        // Sort the events by key and start. Then the events that begin before a window ends are a
        // prefix, and the greatest end in the prefix decides whether any of them meets the window.
        events.par_sort_unstable_by_key(|&event| (self.keys[event as usize], time(event)));
        let of_keys: Vec<&[u32]> = events
            .chunk_by(|&one, &other| self.keys[one as usize] == self.keys[other as usize])
            .collect();
        parallel::of_parts(of_keys, |_, events| {
            // The greatest end of all events that begin by then.
            let ends = events.iter().scan(T::MIN, |most, &event| {
                *most = time(event).1.max(*most);
                Some(*most)
            });
            let ends: Vec<T> = ends.collect();
            for window in self.index.windows(self.keys[events[0] as usize] as usize) {
                let begun = events.partition_point(|&event| time(event).0 <= window.last);
                if begun > 0 && ends[begun - 1] >= window.first {
                    used.set(window.row);
                }
            }
        });
    }

    /// The nearest of several windows for each event, and whether whole rows had to decide.
    ///
    /// The events of a key are visited in order of time, beside the set of windows that have begun
    /// and not ended, sorted by the dates that distances are measured from: n log n, however many
    /// windows overlap.
    fn nearest(&self, mut events: Vec<u32>) -> Vec<(u32, usize, bool)> {
        let Some((near, there)) = &self.near else { return Vec::new() };
        let key = |event: u32| self.keys[event as usize];
        let time = |event: u32| self.events.at(event as usize).0;
        // Sort the events by key and time, and process keys in parallel.
        events.par_sort_unstable_by_key(|&event| (key(event), time(event)));
        let of_keys: Vec<&[u32]> = events.chunk_by(|&one, &other| key(one) == key(other)).collect();
        let of_key = |_, events: &[u32]| {
            let windows = self.index.windows(key(events[0]) as usize);
            let base = self.index.place_of_first(key(events[0]) as usize);
            // The rank of the whole row.
            let mut by_rows: Vec<u32> = (0..windows.len() as u32).collect();
            by_rows.sort_unstable_by(|&one, &other| {
                self.order.compare(windows[one as usize].row, windows[other as usize].row)
            });
            // Comparing whole rows is slow, so sort them once for each key and compare ranks
            // afterwards.
            let mut ranks = vec![0_u32; windows.len()];
            by_rows.iter().zip(0..).for_each(|(&place, rank)| ranks[place as usize] = rank);
            let entry = |place: usize| {
                let row = windows[place].row as usize;
                let date = there.value(row).then(|| near[row]);
                (date, ranks[place])
            };
            let (mut active, mut ends) = (BTreeSet::new(), BinaryHeap::new());
            let mut begun = 0;
            let mut answers = Vec::with_capacity(events.len());
            for &event in events {
                let now = time(event);
                // Add the windows that have begun, and remove those that have ended. Each window is
                // added and removed once.
                while begun < windows.len() && windows[begun].first <= now {
                    active.insert(entry(begun));
                    ends.push((std::cmp::Reverse(windows[begun].last), begun));
                    begun += 1;
                }
                while let Some(&(std::cmp::Reverse(last), place)) = ends.peek() {
                    if last >= now {
                        break;
                    }
                    active.remove(&entry(place));
                    ends.pop();
                }
                // Of the active windows with this date, the one with the least rank, and whether
                // there are others.
                let least_of = |date: Option<T>| {
                    let mut of_date = active.range((date, 0)..=(date, u32::MAX));
                    (of_date.next().copied(), of_date.next().is_some())
                };
                let before =
                    active.range(..=(Some(now), u32::MAX)).next_back().and_then(|entry| entry.0);
                let after = active.range((Some(now), 0)..).next().and_then(|entry| entry.0);
                // In 128 bits, because the distance of two moments may exceed 64.
                let distance = |date: T| (date.into() as i128 - now.into() as i128).abs();
                let (one, other) = match (before, after) {
                    (Some(before), Some(after)) if before != after => {
                        match distance(before).cmp(&distance(after)) {
                            Ordering::Less => (Some(before), None),
                            Ordering::Greater => (Some(after), None),
                            Ordering::Equal => (Some(before), Some(after)),
                        }
                    }
                    (before, after) => (before.or(after), None),
                };
                // Without any date, the least row decides.
                let (mut least, mut tied) = least_of(one);
                // Equally near on both sides: the least row of both decides.
                if let Some(other) = other {
                    let (also, _) = least_of(Some(other));
                    tied = true;
                    if also.map(|entry| entry.1) < least.map(|entry| entry.1) {
                        least = also;
                    }
                }
                if let Some((_, rank)) = least {
                    answers.push((event, base + by_rows[rank as usize] as usize, tied));
                }
            }
            answers
        };
        parallel::of_parts(of_keys, of_key).concat()
    }
}

impl<T: Tick> Meeting for Search<'_, T> {
    fn windows_of(&self, event: u32, to: &mut Vec<u32>) {
        let time = self.events.at(event as usize);
        let hits = self.index.meeting(self.keys[event as usize] as usize, time);
        to.extend(self.index.each(hits, time.0).map(|place| self.index.at(place).row));
    }

    fn overlaps(&self, events: &[u32], windows: &[Option<u32>]) -> [(Field, ArrayRef); 3] {
        let both = || {
            events.iter().zip(windows).map(|(&event, window)| {
                let (event, window) =
                    (self.events.at(event as usize), self.windows.at((*window)? as usize));
                Some((event.0.max(window.0), event.1.min(window.1)))
            })
        };
        let free = i64::from(self.within.end_day == super::EndDay::Exclusive);
        // If neither side has an end, the overlap has none.
        let starts =
            both().map(|both| both.map(|(first, _)| first).filter(|&first| first > T::MIN));
        let ends = both().map(|both| both.map(|(_, last)| last).filter(|&last| last < T::MAX));
        let days = both().map(|both| {
            let (first, last) = both.filter(|&(first, last)| first > T::MIN && last < T::MAX)?;
            Some(self.clock.days(first.into(), last.into()))
        });
        let named = |name: &str, array: ArrayRef| match self.clock.unit {
            TickUnit::Days => (period_field(name, Periods::DAYS), array),
            _ => (Field::new(name, array.data_type().clone(), true), array),
        };
        let days: ArrayRef = Arc::new(days.collect::<Int64Array>());
        [
            named("overlap_start", self.clock.column(starts.map(|first| first.map(Into::into)))),
            named(
                "overlap_end",
                self.clock.column(ends.map(|last| last.map(|last| last.into() + free))),
            ),
            (Field::new("overlap_days", DataType::Int64, true), days),
        ]
    }
}
