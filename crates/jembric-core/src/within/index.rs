//! [`Index`]: the windows of each key, sorted by start, so that those that meet a stretch of time
//! are found without visiting the others.
//!
//! The windows that meet a stretch are those that start by its end, except those that have ended
//! before its start. If the windows of a key also end in their order (they do not overlap, have the
//! same length, or have no ends), they are a run, which is found by binary search. Otherwise the
//! ends are summarized in groups of sixteen, level by level, each by its greatest end, and groups
//! that end too early are skipped: n log n + hits, however the windows overlap. Source: a priority
//! search over a static order, as in McCreight, "Priority search trees" (1985), with wide nodes in
//! arrays.

use super::ticks::{Stretches, Tick};
use crate::{parallel, timeline::GroupedByEntity};
use std::cmp::Ordering;

/// The size of a group, which one number of the level above summarizes.
const WIDE: usize = 16;

/// A window: its first and last tick, and its row.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct WindowTicks<T> {
    pub(super) first: T,
    pub(super) last: T,
    pub(super) row: u32,
}

/// The windows of each key.
pub(super) struct Index<T> {
    windows: GroupedByEntity<WindowTicks<T>>,
    /// Whether the windows of a key end in another order than they start.
    has_unsorted_ends: Vec<bool>,
    /// The ends of such keys, in their own order.
    ends: Vec<T>,
    /// The greatest end of each group of sixteen, of each sixteen groups, and so on.
    levels: Vec<Vec<T>>,
}

/// The windows that meet a stretch.
#[derive(Clone, Copy)]
pub(super) struct Hits {
    /// Their places; with overlapping windows, other windows are among them.
    from: usize,
    to: usize,
    has_unsorted_ends: bool,
    /// The number of windows.
    pub(super) count: u32,
}

impl<T: Tick> Index<T> {
    /// The windows of each key. Those that start together are in this order.
    pub(super) fn new(
        ids: &[u32],
        count: usize,
        windows: &Stretches<T>,
        order: impl Fn(u32, u32) -> Ordering + Sync,
    ) -> Index<T> {
        let stretch = |row: usize| {
            let (first, last) = windows.at(row);
            WindowTicks { first, last, row: row as u32 }
        };
        let mut grouped =
            GroupedByEntity::group(ids, count, |row| windows.usable.value(row), stretch);
        let before = |one: &WindowTicks<T>, other: &WindowTicks<T>| {
            one.first.cmp(&other.first).then_with(|| order(one.row, other.row))
        };
        grouped.each(|_, windows| {
            if !windows.is_sorted_by(|one, other| before(one, other) != Ordering::Greater) {
                windows.sort_unstable_by(before);
            }
        });
        let has_unsorted_ends = parallel::of_rows(count, |key| {
            !grouped.of_entity(key).is_sorted_by_key(|window| window.last)
        });
        let mut index =
            Index { windows: grouped, has_unsorted_ends, ends: Vec::new(), levels: Vec::new() };
        if index.has_unsorted_ends.contains(&true) {
            index.sum_up();
        }
        index
    }

    fn sum_up(&mut self) {
        let ends: Vec<T> = self.windows.values.iter().map(|window| window.last).collect();
        let mut below = ends.clone();
        while below.len() > 1 {
            let level: Vec<T> = below
                .chunks(WIDE)
                .map(|ends| ends.iter().copied().max().unwrap_or_default())
                .collect();
            below.clone_from(&level);
            self.levels.push(level);
        }
        let mut ends = GroupedByEntity { starts: self.windows.starts.clone(), values: ends };
        ends.each(|key, ends| {
            if self.has_unsorted_ends[key] {
                ends.sort_unstable();
            }
        });
        self.ends = ends.values;
    }

    /// The windows of a key.
    pub(super) fn windows(&self, key: usize) -> &[WindowTicks<T>] {
        self.windows.of_entity(key)
    }

    /// The place of the first window of a key.
    pub(super) fn place_of_first(&self, key: usize) -> usize {
        self.windows.starts[key] as usize
    }

    pub(super) fn at(&self, place: usize) -> &WindowTicks<T> {
        &self.windows.values[place]
    }

    /// The windows of a key that meet a stretch of time.
    pub(super) fn meeting(&self, key: usize, time: (T, T)) -> Hits {
        let places = self.places(key);
        self.among(key, places, self.begun(places, time.1), time.0)
    }

    /// The places of the windows of a key.
    #[inline]
    pub(super) fn places(&self, key: usize) -> (u32, u32) {
        (self.windows.starts[key], self.windows.starts[key + 1])
    }

    /// How many of them have begun by a tick.
    #[inline]
    pub(super) fn begun(&self, (from, to): (u32, u32), tick: T) -> usize {
        self.windows.values[from as usize..to as usize]
            .partition_point(|window| window.first <= tick)
    }

    /// Of the windows that have begun, those that have not ended before a tick.
    #[inline]
    pub(super) fn among(&self, key: usize, (from, to): (u32, u32), begun: usize, tick: T) -> Hits {
        let (from, all) = (from as usize, to as usize);
        let ended_before = |window: &WindowTicks<T>| window.last < tick;
        let to = from + begun;
        if self.has_unsorted_ends[key] {
            // Every window that ended before has begun before.
            let ended = self.ends[from..all].partition_point(|&end| end < tick);
            return Hits { from, to, has_unsorted_ends: true, count: (begun - ended) as u32 };
        }
        let begun = &self.windows.values[from..to];
        // In most cases this is the last one that has begun, or none, or all have no end.
        let ended = match begun {
            [.., last] if ended_before(last) => begun.len(),
            [first, ..] if !ended_before(first) => 0,
            [.., before, _] if ended_before(before) => begun.len() - 1,
            begun => begun.partition_point(ended_before),
        };
        Hits {
            from: from + ended,
            to,
            has_unsorted_ends: false,
            count: (begun.len() - ended) as u32,
        }
    }

    /// The places of the windows that meet a stretch beginning at this tick, in order.
    pub(super) fn each(&self, hits: Hits, first: T) -> impl Iterator<Item = usize> {
        let next = move |from: usize| {
            if from >= hits.to {
                None
            } else if hits.has_unsorted_ends {
                self.next(from, hits.to, first)
            } else {
                Some(from)
            }
        };
        std::iter::successors(next(hits.from), move |&place| next(place + 1))
    }

    /// The last window before a place that meets a stretch beginning at this tick.
    pub(super) fn last(&self, hits: Hits, first: T, before: usize) -> Option<usize> {
        if before <= hits.from {
            None
        } else if hits.has_unsorted_ends {
            self.previous(hits.from, before, first)
        } else {
            Some(before - 1)
        }
    }

    pub(super) fn end_of(&self, hits: Hits) -> usize {
        hits.to
    }

    /// The first window between two places that has not ended before a tick.
    fn next(&self, from: usize, to: usize, tick: T) -> Option<usize> {
        let mut at = from;
        loop {
            let edge = to.min((at / WIDE + 1) * WIDE);
            if let Some(place) = (at..edge).find(|&place| self.at(place).last >= tick) {
                return Some(place);
            }
            at = edge;
            // Skip whole groups, the widest that begin here first.
            let mut level = 0;
            loop {
                if at >= to {
                    return None;
                }
                let width = WIDE.pow(level as u32 + 1);
                if self.levels[level][at / width] >= tick {
                    if level == 0 {
                        break;
                    }
                    level -= 1;
                    continue;
                }
                at += width;
                if at.is_multiple_of(width * WIDE) && level + 1 < self.levels.len() {
                    level += 1;
                }
            }
        }
    }

    /// The last window between two places that has not ended before a tick.
    fn previous(&self, from: usize, to: usize, tick: T) -> Option<usize> {
        let mut at = to;
        loop {
            let edge = from.max((at - 1) / WIDE * WIDE);
            if let Some(place) = (edge..at).rev().find(|&place| self.at(place).last >= tick) {
                return Some(place);
            }
            at = edge;
            let mut level = 0;
            loop {
                if at <= from {
                    return None;
                }
                let width = WIDE.pow(level as u32 + 1);
                if self.levels[level][(at - 1) / width] >= tick {
                    if level == 0 {
                        break;
                    }
                    level -= 1;
                    continue;
                }
                at -= width;
                if at.is_multiple_of(width * WIDE) && level + 1 < self.levels.len() {
                    level += 1;
                }
            }
        }
    }
}
