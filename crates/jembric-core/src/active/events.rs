//! The starts and ends of intervals by group, in slots for each tick or as sorted events.

use super::cutting::Cutting;
use crate::{
    entities::Entities,
    intervals::{Intervals, RowStatus},
    parallel,
    table::Table,
    timeline::GroupedByEntity,
};
use borsh::{BorshDeserialize, BorshSerialize};
use rayon::prelude::*;
use std::borrow::Cow;

/// Up to this many slots, each thread has its own.
const SLOTS_FOR_THREADS: usize = 1 << 20;
/// For a batch of rows, this many slots are few.
const FEW_SLOTS: usize = 1 << 16;
const ROWS_A_THREAD: usize = 1 << 16;

/// The ticks that are counted, for some groups.
pub(super) struct Ticks {
    pub(super) first: i32,
    pub(super) last: i32,
    pub(super) groups: usize,
    /// Whether missing ends were placed on one of them.
    pub(super) is_closing: bool,
}

impl Ticks {
    /// The number of ticks.
    pub(super) fn count(&self) -> usize {
        (i64::from(self.last) - i64::from(self.first) + 1) as usize
    }
}

/// How many intervals of a group were clipped at either side, or had a missing end replaced.
#[derive(Clone, Copy, Default, BorshSerialize, BorshDeserialize)]
pub(super) struct Cut {
    pub(super) starts: i32,
    pub(super) ends: i32,
    pub(super) closed: i32,
}

impl Cut {
    pub(super) fn add(&mut self, more: Cut) {
        self.starts += more.starts;
        self.ends += more.ends;
        self.closed += more.closed;
    }
}

/// The number of starts and ends on each tick of each group.
#[derive(Clone)]
pub(super) struct Slots {
    pub(super) starts: Vec<i32>,
    pub(super) ends: Vec<i32>,
    pub(super) cut: Vec<Cut>,
}

impl Slots {
    fn plus(mut self, other: Slots) -> Slots {
        for (sums, more) in [(&mut self.starts, &other.starts), (&mut self.ends, &other.ends)] {
            sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
        }
        for (sum, more) in self.cut.iter_mut().zip(&other.cut) {
            sum.add(*more);
        }
        self
    }
}

/// How many intervals of a group start on a tick, and how many ended on the tick before.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, BorshSerialize, BorshDeserialize)]
pub(super) struct Event {
    pub(super) group: u32,
    pub(super) tick: i32,
    pub(super) starts: i32,
    pub(super) after: i32,
}

/// Where the starts and ends come from.
pub(super) trait StartsAndEnds: Sync {
    /// The number of starts and ends on each tick of each group.
    fn slots(&self, ticks: &Ticks) -> Slots;

    /// The starts of each group, and the ticks after its ends.
    fn events<'s>(&'s self, ticks: &Ticks) -> Box<dyn GroupEvents + 's>;
}

/// The starts of each group, and the ticks after its ends.
pub(super) trait GroupEvents: Sync {
    /// Those of one group, in order.
    fn of_group(&self, group: usize) -> (Vec<i32>, Vec<i32>);

    /// What was clipped from a group.
    fn cut(&self, group: usize) -> Cut;
}

/// The rows of one table.
pub(super) struct RowSource<'a> {
    pub(super) intervals: &'a Intervals,
    pub(super) table: &'a Table,
    /// The group of each row, unless all rows are one.
    pub(super) entities: &'a Entities,
    /// Whether all rows are one group.
    pub(super) is_one: bool,
}

impl RowSource<'_> {
    fn is_active(&self, row: usize) -> bool {
        self.intervals.statuses[row] == RowStatus::Active
    }

    fn group(&self, row: usize) -> usize {
        if self.is_one { 0 } else { self.entities.ids()[row] as usize }
    }

    /// Counts the clipping of a row, and returns its first and last tick.
    #[inline]
    fn clip(&self, ticks: &Ticks, row: usize, cut: &mut [Cut]) -> (i32, i32) {
        let (first, last) = (self.intervals.first[row], self.intervals.last[row]);
        // An interval that began before the range is active in it but did not start in it, and
        // likewise at the end. These are counted for each group and subtracted at the end, which
        // keeps the sweep itself free of conditions.
        if first < ticks.first {
            cut[self.group(row)].starts += 1;
        }
        if last > ticks.last {
            cut[self.group(row)].ends += 1;
        } else if self.intervals.is_closed(row) {
            cut[self.group(row)].closed += 1;
        }
        self.within(ticks, row)
    }

    /// The first and last tick of a row, clipped to the range.
    #[inline]
    fn within(&self, ticks: &Ticks, row: usize) -> (i32, i32) {
        (self.intervals.first[row].max(ticks.first), self.intervals.last[row].min(ticks.last))
    }

    /// The changes of each sum: calls `change` with the group, the place of the period, and the
    /// row, for the period in which a row begins to count and for the one in which it ceases to.
    pub(super) fn each_change(
        &self,
        periods: Cutting,
        mut change: impl FnMut(usize, i32, usize, bool),
    ) {
        // A row counts from the period of its first tick until after that of its last, so it
        // changes a sum twice, however long it is.
        let clip = |row: usize| self.intervals.clipped(row);
        for row in (0..self.intervals.statuses.len()).filter(|&row| self.is_active(row)) {
            let (first, last) = clip(row);
            change(self.group(row), periods.number(first), row, true);
            change(self.group(row), periods.number(last) + 1, row, false);
        }
    }
}

impl StartsAndEnds for RowSource<'_> {
    fn slots(&self, ticks: &Ticks) -> Slots {
        let (groups, rows) = (ticks.groups, self.table.rows());
        let blank = || Slots::blank(ticks);
        let all_active = self.intervals.all_active();
        // Without groups, a range or missing ends, only starts and ends matter.
        let intervals = self.intervals;
        let plain = all_active && self.is_one && intervals.range.is_none() && !ticks.is_closing;
        let of_rows = |rows: std::ops::Range<usize>| {
            // Every row adds one to the slot of its start and one to that of its end, and nothing
            // to the ticks between: the sweep turns these into counts.
            let mut slots = blank();
            if plain {
                let both = intervals.first[rows.clone()].iter().zip(&intervals.last[rows]);
                for (first, last) in both {
                    slots.starts[(first - ticks.first) as usize] += 1;
                    slots.ends[(last - ticks.first) as usize] += 1;
                }
                return slots;
            }
            for row in rows.filter(|&row| all_active || self.is_active(row)) {
                let (first, last) = self.clip(ticks, row, &mut slots.cut);
                let base = self.group(row) * ticks.count();
                slots.starts[base + (first - ticks.first) as usize] += 1;
                slots.ends[base + (last - ticks.first) as usize] += 1;
            }
            slots
        };
        // Own slots for each thread cost memory and a final addition. They pay only if the slots
        // are few and the rows are many.
        if groups * ticks.count() > SLOTS_FOR_THREADS || rows < 2 * ROWS_A_THREAD {
            return of_rows(0..rows);
        }
        let parts = rayon::current_num_threads();
        let part = |n: usize| rows * n / parts..rows * (n + 1) / parts;
        let slots = parallel::of_numbers(parts, |n| of_rows(part(n)));
        slots.into_iter().reduce(Slots::plus).unwrap_or_else(blank)
    }

    fn events<'s>(&'s self, ticks: &Ticks) -> Box<dyn GroupEvents + 's> {
        // First what was clipped, then the starts and ends of each group, which are sorted group by
        // group when they are needed.
        let mut cut = vec![Cut::default(); ticks.groups];
        if self.intervals.range.is_some() || ticks.is_closing {
            (0..self.table.rows()).filter(|&row| self.is_active(row)).for_each(|row| {
                self.clip(ticks, row, &mut cut);
            });
        }
        let of_row = |row: usize| {
            let (first, last) = self.within(ticks, row);
            (first, last + 1)
        };
        let active = |row: usize| self.is_active(row);
        let one_group = || Cow::Owned(vec![0; self.table.rows()]);
        let groups = if self.is_one { one_group() } else { Cow::Borrowed(self.entities.ids()) };
        let both = GroupedByEntity::group(&groups, ticks.groups, active, of_row);
        Box::new(RowEvents { both, cut })
    }
}

impl Slots {
    /// The starts and ends of rows if there are few slots for them, and the first tick.
    pub(super) fn of_few(
        rows: &RowSource<'_>,
        groups: usize,
        (first, last): (i32, i32),
    ) -> Option<(i32, Slots)> {
        let is_closing = rows.intervals.closing_tick().is_some();
        let ticks = Ticks { first, last, groups, is_closing };
        let slots = groups.checked_mul(ticks.count())?;
        let are_few = slots <= FEW_SLOTS.max(rows.table.rows());
        are_few.then(|| (first, rows.slots(&ticks)))
    }

    /// The starts and ends in order of group and tick. The first slot of each group has this tick.
    pub(super) fn events(&self, first: i32) -> Vec<Event> {
        let ticks = self.starts.len() / self.cut.len().max(1);
        let mut events = Vec::new();
        for (group, base) in (0..self.cut.len() as u32).zip((0..).step_by(ticks.max(1))) {
            // An end is after its tick.
            let mut after = 0;
            for at in 0..=ticks {
                let starts = if at < ticks { self.starts[base + at] } else { 0 };
                if starts > 0 || after > 0 {
                    events.push(Event { group, tick: first + at as i32, starts, after });
                }
                after = if at < ticks { self.ends[base + at] } else { 0 };
            }
        }
        events
    }

    pub(super) fn blank(ticks: &Ticks) -> Slots {
        Slots {
            starts: vec![0; ticks.groups * ticks.count()],
            ends: vec![0; ticks.groups * ticks.count()],
            cut: vec![Cut::default(); ticks.groups],
        }
    }
}

/// The starts and ends of one table's rows, by group.
struct RowEvents {
    both: GroupedByEntity<(i32, i32)>,
    cut: Vec<Cut>,
}

impl GroupEvents for RowEvents {
    fn of_group(&self, group: usize) -> (Vec<i32>, Vec<i32>) {
        let (mut starts, mut after): (Vec<i32>, Vec<i32>) =
            self.both.of_entity(group).iter().copied().unzip();
        starts.sort_unstable();
        after.sort_unstable();
        (starts, after)
    }

    fn cut(&self, group: usize) -> Cut {
        self.cut[group]
    }
}

impl RowSource<'_> {
    /// Adds each start and each tick after an end to the events, and counts what was clipped.
    pub(super) fn add_events(
        &self,
        range: Option<(i32, i32)>,
        events: &mut Vec<Event>,
        cut: &mut [Cut],
    ) {
        let (first, last) = range.unwrap_or((i32::MIN, i32::MAX));
        for row in (0..self.table.rows()).filter(|&row| self.is_active(row)) {
            let (own_first, own_last) = (self.intervals.first[row], self.intervals.last[row]);
            let group = self.group(row);
            cut[group].add(Cut {
                starts: i32::from(own_first < first),
                ends: i32::from(own_last > last),
                closed: i32::from(own_last <= last && self.intervals.is_closed(row)),
            });
            let event = |tick, starts, after| Event { group: group as u32, tick, starts, after };
            events.push(event(own_first.max(first), 1, 0));
            events.push(event(own_last.min(last) + 1, 0, 1));
        }
    }
}

impl RowSource<'_> {
    /// The starts and ends of the rows, in order of group and tick. What was clipped is added to
    /// that of each group.
    pub(super) fn all_events(&self, cut: &mut [Cut]) -> Vec<Event> {
        let Some(overall) = self.intervals.overall() else { return Vec::new() };
        match Slots::of_few(self, cut.len(), overall) {
            Some((first, slots)) => {
                cut.iter_mut().zip(&slots.cut).for_each(|(sum, more)| sum.add(*more));
                slots.events(first)
            }
            None => {
                let mut events = Vec::new();
                self.add_events(self.intervals.range, &mut events, cut);
                together(events)
            }
        }
    }
}

/// Sorts events, and adds up those of one group and tick.
pub(super) fn together(mut events: Vec<Event>) -> Vec<Event> {
    // Two lists in order are merged in one pass.
    events.par_sort();
    events.dedup_by(|next, event| {
        let same = (next.group, next.tick) == (event.group, event.tick);
        if same {
            event.starts += next.starts;
            event.after += next.after;
        }
        same
    });
    events
}
