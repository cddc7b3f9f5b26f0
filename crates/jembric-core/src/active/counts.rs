//! Counts active intervals per period in a sweep over starts and ends: the number of active ones
//! rises at each start and falls after each end.
//!
//! All counts follow from the number of starts and ends on each tick of each group. If a slot for
//! each tick and group fits into memory, starts and ends are counted in slots (in separate slots
//! for each thread if they are few). Otherwise each group's starts and ends are sorted. An interval
//! that is clipped by the range, or has no end of its own, neither starts nor ends there; these are
//! counted separately for each group.
//!
//! Starts and ends come from the rows of one table ([`RowSource`]), or from several batches of
//! which only the starts and ends are kept (`settled`).

use super::{Active, ActivePlan, Gives, rows::period_column};
use crate::{
    calendar::{Day, Grain, Hours, Periods},
    context::Context,
    entities::Entities,
    error::{Error, Result, Smaller, in_setting},
    intervals::{Fate, Intervals},
    measure::{Measure, Sums},
    shape::{Named, Shape, Type},
    table::Table,
    timeline::GroupedByEntity,
};
use arrow_array::{Array, ArrayRef, Int64Array, UInt32Array};
use arrow_schema::{DataType, Field};
use rayon::prelude::*;
use std::sync::Arc;

/// Up to this many slots, each thread has its own.
const SLOTS_FOR_THREADS: usize = 1 << 20;
/// For a batch of rows, this many slots are few.
const FEW_SLOTS: usize = 1 << 16;
/// Beyond this many slots, starts and ends are sorted instead.
const MOST_SLOTS: usize = 1 << 26;
const ROWS_A_THREAD: usize = 1 << 16;

fn active_ticks_name(grain: Grain) -> &'static str {
    if grain == Grain::Hour { "active_hours" } else { "active_days" }
}

const COUNTS: [&str; 5] = ["active", "started", "ended", "active_at_end", "most_at_once"];

impl Active {
    /// The columns to sum, with the names of their sums.
    pub(super) fn sums(&self, shape: &Shape) -> Result<Vec<(String, usize)>> {
        let one = |named: Named| {
            shape.expect_numbers(&named.column)?;
            let plain = named.shown_as == named.column;
            Ok((if plain { format!("sum_{}", named.column) } else { named.shown_as }, named.place))
        };
        shape.named(&self.sum)?.into_iter().map(one).collect()
    }

    /// The form of the counts.
    pub(super) fn counts_shape(
        &self,
        shape: &Shape,
        per: &[Named],
        sums: &[(String, usize)],
        instants: bool,
    ) -> Result<Shape> {
        let result = shape.select(per)?;
        let mut result =
            in_setting("name", || result.with(self.period_name(), self.period_type(instants)))?;
        for name in COUNTS.into_iter().chain([active_ticks_name(self.grain)]) {
            result = result.with(name, Type::Integer)?;
        }
        for (name, place) in sums {
            let kind = shape.kind(*place).unwrap_or(Type::Float);
            result = in_setting("sum", || result.with(name, kind))?;
        }
        Ok(result)
    }
}

/// How many intervals of a group were clipped at either side, or had a missing end replaced.
#[derive(Clone, Copy, Default)]
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
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Event {
    pub(super) group: u32,
    pub(super) tick: i32,
    pub(super) starts: i32,
    pub(super) after: i32,
}

/// The counts of each period, one list for each count.
struct Lists<'a> {
    active: &'a mut [i64],
    started: &'a mut [i64],
    ended: &'a mut [i64],
    at_end: &'a mut [i64],
    most: &'a mut [i64],
    ticks: &'a mut [i64],
}

/// The ticks in the range, and the periods that they belong to.
pub(super) struct Sweep {
    /// The first and last tick in the range.
    pub(super) first: i32,
    pub(super) last: i32,
    /// The number of the first period.
    from: i32,
    /// The first and last tick of each period, clipped to the range.
    bounds: Vec<(i32, i32)>,
    /// The period in which missing ends were placed, and the tick until which such intervals last.
    closing: Option<(usize, i32)>,
    periods: Cutting,
    groups: usize,
}

/// Where the starts and ends come from.
pub(super) trait StartsAndEnds: Sync {
    /// The number of starts and ends on each tick of each group.
    fn slots(&self, sweep: &Sweep) -> Slots;

    /// The starts of each group, and the ticks after its ends.
    fn events<'s>(&'s self, sweep: &Sweep) -> Box<dyn GroupEvents + 's>;
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
    pub(super) entities: &'a Entities,
    /// Whether all rows are one group.
    pub(super) is_one: bool,
}

impl RowSource<'_> {
    fn is_active(&self, row: usize) -> bool {
        self.intervals.fates[row] == Fate::Active
    }

    fn group(&self, row: usize) -> usize {
        if self.is_one { 0 } else { self.entities.ids()[row] as usize }
    }

    /// Counts the clipping of a row, and returns its first and last tick.
    #[inline]
    fn clip(&self, sweep: &Sweep, row: usize, cut: &mut [Cut]) -> (i32, i32) {
        let (first, last) = (self.intervals.first[row], self.intervals.last[row]);
        // An interval that began before the range is active in it but did not start in it, and
        // likewise at the end. These are counted for each group and subtracted at the end, which
        // keeps the sweep itself free of conditions.
        if first < sweep.first {
            cut[self.group(row)].starts += 1;
        }
        if last > sweep.last {
            cut[self.group(row)].ends += 1;
        } else if self.intervals.is_closed(row) {
            cut[self.group(row)].closed += 1;
        }
        self.within(sweep, row)
    }

    /// The first and last tick of a row, clipped to the range.
    #[inline]
    fn within(&self, sweep: &Sweep, row: usize) -> (i32, i32) {
        (self.intervals.first[row].max(sweep.first), self.intervals.last[row].min(sweep.last))
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
        for row in (0..self.intervals.fates.len()).filter(|&row| self.is_active(row)) {
            let (first, last) = clip(row);
            change(self.group(row), periods.number(first), row, true);
            change(self.group(row), periods.number(last) + 1, row, false);
        }
    }
}

impl StartsAndEnds for RowSource<'_> {
    fn slots(&self, sweep: &Sweep) -> Slots {
        let (groups, rows) = (sweep.groups, self.table.rows());
        let blank = || Slots::blank(sweep);
        let all_active = self.intervals.all_active();
        // Without groups, a range or missing ends, only starts and ends matter.
        let intervals = self.intervals;
        let plain =
            all_active && self.is_one && intervals.range.is_none() && sweep.closing.is_none();
        let of_rows = |rows: std::ops::Range<usize>| {
            // Every row adds one to the slot of its start and one to that of its end, and nothing
            // to the ticks between: the sweep turns these into counts.
            let mut slots = blank();
            if plain {
                let both = intervals.first[rows.clone()].iter().zip(&intervals.last[rows]);
                for (first, last) in both {
                    slots.starts[(first - sweep.first) as usize] += 1;
                    slots.ends[(last - sweep.first) as usize] += 1;
                }
                return slots;
            }
            for row in rows.filter(|&row| all_active || self.is_active(row)) {
                let (first, last) = self.clip(sweep, row, &mut slots.cut);
                let base = self.group(row) * sweep.ticks();
                slots.starts[base + (first - sweep.first) as usize] += 1;
                slots.ends[base + (last - sweep.first) as usize] += 1;
            }
            slots
        };
        // Own slots for each thread cost memory and a final addition. They pay only if the slots
        // are few and the rows are many.
        if groups * sweep.ticks() > SLOTS_FOR_THREADS || rows < 2 * ROWS_A_THREAD {
            return of_rows(0..rows);
        }
        let parts = rayon::current_num_threads();
        let part = |n: usize| rows * n / parts..rows * (n + 1) / parts;
        (0..parts)
            .into_par_iter()
            .map(|n| of_rows(part(n)))
            .reduce_with(Slots::plus)
            .unwrap_or_else(blank)
    }

    fn events<'s>(&'s self, sweep: &Sweep) -> Box<dyn GroupEvents + 's> {
        // First what was clipped, then the starts and ends of each group, which are sorted group by
        // group when they are needed.
        let mut cut = vec![Cut::default(); self.entities.count()];
        (0..self.table.rows()).filter(|&row| self.is_active(row)).for_each(|row| {
            self.clip(sweep, row, &mut cut);
        });
        let of_row = |row: usize| {
            let (first, last) = self.within(sweep, row);
            (first, last + 1)
        };
        let active = |row: usize| self.is_active(row);
        let both = GroupedByEntity::of(self.entities.ids(), self.entities.count(), active, of_row);
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
        let closing = rows.intervals.closing_tick().map(|tick| (0, tick));
        let periods = Cutting { periods: Periods::DAYS, simple: true };
        let sweep =
            Sweep { first, last, from: first, bounds: Vec::new(), closing, periods, groups };
        let slots = groups.checked_mul(sweep.ticks())?;
        let are_few = slots <= FEW_SLOTS.max(rows.table.rows());
        are_few.then(|| (first, rows.slots(&sweep)))
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

    pub(super) fn blank(sweep: &Sweep) -> Slots {
        Slots {
            starts: vec![0; sweep.groups * sweep.ticks()],
            ends: vec![0; sweep.groups * sweep.ticks()],
            cut: vec![Cut::default(); sweep.groups],
        }
    }
}

impl Sweep {
    /// Prepares a sweep over this number of groups, from the first to the last tick, or over a
    /// range.
    ///
    /// Errors: more periods than a result may have rows.
    pub(super) fn of(
        active: &ActivePlan,
        groups: usize,
        (overall, is_stated): (Option<(i32, i32)>, bool),
        closing_tick: Option<i32>,
        (key_bytes, context): (u64, &Context),
    ) -> Result<Sweep> {
        let periods = Cutting::of(active);
        let overall = overall.filter(|_| groups > 0);
        let (first, last) = overall.unwrap_or((0, -1));
        // Without a range the last period counts to its end, even if the data ends earlier.
        let last = if !is_stated && overall.is_some() { periods.end_of(last) } else { last };
        let from = periods.number(first);
        let count = overall.map_or(0, |_| (periods.number(last) - from + 1) as usize);
        // The number of rows is known before any is made.
        let rows = groups as u64 * count as u64;
        if rows > active.most_rows {
            return Err(Error::TooManyRows {
                rows,
                most: active.most_rows,
                widest: None,
                advice: Smaller::LongerGrainOrRange,
            });
        }
        // Six counts and the period, plus the memory in use while they are made.
        let sums = if let Gives::Counts { sum, .. } = &active.gives { sum.len() as u64 } else { 0 };
        context.expect_room(rows, 80 + key_bytes + 24 * sums, Smaller::LongerGrainOrRange)?;
        let closing = closing_tick.filter(|tick| (first..=last).contains(tick));
        Ok(Sweep {
            first,
            last,
            from,
            bounds: (0..count as i32)
                .map(|period| periods.bounds(from + period, first, last))
                .collect(),
            closing: closing.map(|tick| ((periods.number(tick) - from) as usize, tick)),
            periods,
            groups,
        })
    }

    pub(super) fn ticks(&self) -> usize {
        (i64::from(self.last) - i64::from(self.first) + 1) as usize
    }

    /// The number of periods.
    fn count(&self) -> usize {
        self.bounds.len()
    }

    /// The counts of a group, from the number of starts and ends on each tick.
    fn over_slots(&self, starts: &[i32], ends: &[i32], lists: &mut Lists<'_>) {
        // `now` is the number of active intervals on the current tick. It goes up at starts before
        // the tick is counted, and down at ends after it, because both ends are inclusive.
        let mut now = 0_i64;
        for (period, &(from, to)) in self.bounds.iter().enumerate() {
            let (before, mut started, mut ended, mut most, mut ticks, mut at_end) =
                (now, 0, 0, 0, 0, 0);
            let slots = (from - self.first) as usize..=(to - self.first) as usize;
            for (start, end) in starts[slots.clone()].iter().zip(&ends[slots]) {
                now += i64::from(*start);
                (started, most, ticks, at_end) =
                    (started + i64::from(*start), now.max(most), ticks + now, now);
                ended += i64::from(*end);
                now -= i64::from(*end);
            }
            // Active at any time in the period: those from before, and those that started in it.
            lists.set(period, [before + started, started, ended, at_end, most, ticks]);
        }
    }

    /// The counts of a group, from its sorted starts and the sorted ticks after its ends.
    fn over_events(&self, starts: &[i32], after: &[i32], lists: &mut Lists<'_>) {
        // `start` and `end` are the numbers of starts and ends passed so far; their difference is
        // the number of active intervals.
        let (mut start, mut end) = (0, 0);
        let is_by = |events: &[i32], next: usize, tick: i32| {
            events.get(next).is_some_and(|&event| event <= tick)
        };
        for (period, &(from, to)) in self.bounds.iter().enumerate() {
            // Intervals that ended before the period are not active in it. `after` has the ticks
            // after the ends.
            while is_by(after, end, from) {
                end += 1;
            }
            let (starts_before, ends_before) = (start, end);
            let (mut tick, mut most, mut ticks) = (from, 0, 0);
            loop {
                while is_by(starts, start, tick) {
                    start += 1;
                }
                while is_by(after, end, tick) {
                    end += 1;
                }
                let now = (start - end) as i64;
                // Nothing changes until the next start or end, so jump there instead of visiting
                // every tick.
                let next = [starts.get(start), after.get(end)].into_iter().flatten().min();
                let until = next.map_or(to, |&next| to.min(next - 1));
                most = now.max(most);
                ticks += now * i64::from(until - tick + 1);
                if until >= to {
                    break;
                }
                tick = until + 1;
            }
            let at_end = (start - end) as i64;
            // Ends on the very last tick: no period begins after them.
            while is_by(after, end, to.saturating_add(1)) {
                end += 1;
            }
            let (started, ended) = ((start - starts_before) as i64, (end - ends_before) as i64);
            lists.set(period, [(start - ends_before) as i64, started, ended, at_end, most, ticks]);
        }
    }

    /// A clipped interval has not started in the first period, nor ended in the last, and one with
    /// a missing end has not ended.
    fn without_cut(&self, cut: Cut, lists: &mut Lists<'_>) {
        if let (Some(started), Some(ended)) = (lists.started.first_mut(), lists.ended.last_mut()) {
            *started -= i64::from(cut.starts);
            *ended -= i64::from(cut.ends);
        }
        if let Some((closing, tick)) = self.closing {
            lists.ended[closing] -= i64::from(cut.closed);
            // These intervals have not ended, so they are active at the end of the period.
            if tick < self.bounds[closing].1 {
                lists.at_end[closing] += i64::from(cut.closed);
            }
        }
    }
}

impl Lists<'_> {
    #[inline]
    fn set(&mut self, period: usize, counts: [i64; 6]) {
        let [active, started, ended, at_end, most, ticks] = counts;
        (self.active[period], self.started[period], self.ended[period]) = (active, started, ended);
        (self.at_end[period], self.most[period], self.ticks[period]) = (at_end, most, ticks);
    }
}

/// What the result is made of, besides the counts: the keys of the groups in order, the number of
/// each group, and the named sums.
pub(super) struct Beside<'a> {
    pub(super) keys: Table,
    pub(super) order: &'a [usize],
    pub(super) hours: Option<Hours>,
    pub(super) instants: bool,
    pub(super) sums: Vec<(String, ArrayRef)>,
}

/// The counts for every period of every group.
pub(super) fn counted(
    active: &ActivePlan,
    sweep: &Sweep,
    source: &dyn StartsAndEnds,
    beside: Beside<'_>,
) -> Result<Table> {
    let Beside { keys, order, hours, instants, sums } = beside;
    // Six lists for all groups, which threads fill group by group.
    let count = sweep.count();
    let mut lists = [(); 6].map(|()| vec![0_i64; order.len() * count]);
    sweep.fill(&mut lists, order, source);

    let mut columns = Vec::new();
    if !keys.columns().is_empty() {
        let of_groups = (0..order.len() as u32).flat_map(|group| std::iter::repeat_n(group, count));
        columns.extend(keys.take(&UInt32Array::from_iter_values(of_groups))?.fields());
    }
    let numbers =
        order.iter().flat_map(|_| (0..count as i32).map(|period| sweep.from + period)).collect();
    columns.push(period_column(active, hours, instants, numbers));
    for (name, list) in COUNTS.into_iter().chain([active_ticks_name(active.grain)]).zip(lists) {
        columns.push((
            Field::new(name, DataType::Int64, true),
            Arc::new(Int64Array::from(list)) as ArrayRef,
        ));
    }
    for (name, array) in sums {
        columns.push((Field::new(name, array.data_type().clone(), true), array));
    }
    Table::of_fields(columns)
}

/// The sums over the rows of one table that are active in each period of each group, in the order
/// of the keys.
pub(super) fn sums_of_rows(
    sum: &[(String, usize)],
    rows: &RowSource<'_>,
    sweep: &Sweep,
    order: &[usize],
) -> Result<Vec<(String, ArrayRef)>> {
    let one = |(name, place): &(String, usize)| {
        let measure = Measure::of(rows.table, *place)?;
        let of_layer = |layer| {
            let mut changes = vec![0_i128; sweep.groups * sweep.count()];
            rows.each_change(sweep.periods, |group, period, row, gained| {
                let at = (period - sweep.from) as usize;
                if at < sweep.count() {
                    let unit = measure.unit(row, layer);
                    changes[group * sweep.count() + at] += if gained { unit } else { -unit };
                }
            });
            sweep.added_up(&changes, order)
        };
        let sums: Sums = (0..measure.layers()).map(of_layer).collect();
        Ok((name.clone(), measure.sums(&sums)?))
    };
    sum.iter().map(one).collect()
}

/// Converts ticks to periods.
#[derive(Clone, Copy)]
pub(super) struct Cutting {
    periods: Periods,
    /// Whether each period is one tick.
    simple: bool,
}

impl Cutting {
    pub(super) fn of(active: &ActivePlan) -> Cutting {
        let simple = matches!(active.grain, Grain::Hour | Grain::Day);
        Cutting { periods: active.periods, simple }
    }

    pub(super) fn number(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.number(Day::clamped(tick)) }
    }

    /// The last tick of the period that contains a tick.
    fn end_of(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.of(Day::clamped(tick)).last().number() }
    }

    /// The first and last tick of a period, clipped to these ticks.
    fn bounds(self, number: i32, first: i32, last: i32) -> (i32, i32) {
        if self.simple {
            return (number, number);
        }
        let period = self.periods.numbered(number);
        (period.first().number().max(first), period.last().number().min(last))
    }
}

impl Sweep {
    /// Fills the lists of all groups, in the order of their keys.
    fn fill(&self, lists: &mut [Vec<i64>; 6], order: &[usize], source: &dyn StartsAndEnds) {
        let (count, groups) = (self.bounds.len().max(1), order.len());
        let [active, started, ended, at_end, most, ticks] =
            lists.each_mut().map(|list| list.par_chunks_mut(count));
        let of_groups = active.zip(started).zip(ended.zip(at_end)).zip(most.zip(ticks)).zip(order);
        let of_groups =
            of_groups.map(|((((active, started), (ended, at_end)), (most, ticks)), &group)| {
                (Lists { active, started, ended, at_end, most, ticks }, group)
            });
        if groups.saturating_mul(self.ticks()) <= MOST_SLOTS {
            let slots = source.slots(self);
            of_groups.for_each(|(mut lists, group)| {
                let of_group = group * self.ticks()..(group + 1) * self.ticks();
                self.over_slots(&slots.starts[of_group.clone()], &slots.ends[of_group], &mut lists);
                self.without_cut(slots.cut[group], &mut lists);
            });
        } else {
            let events = source.events(self);
            of_groups.for_each(|(mut lists, group)| {
                let (starts, after) = events.of_group(group);
                self.over_events(&starts, &after, &mut lists);
                self.without_cut(events.cut(group), &mut lists);
            });
        }
    }

    /// Converts the changes of a sum in each period of each group to its values, in the order of
    /// the keys.
    fn added_up(&self, changes: &[i128], order: &[usize]) -> Vec<i128> {
        let mut sums = Vec::with_capacity(changes.len());
        for &group in order {
            let mut sum = 0;
            sums.extend(changes[group * self.count()..][..self.count()].iter().map(|change| {
                sum += change;
                sum
            }));
        }
        sums
    }

    /// The place of this period of each group, in the order of the keys; none for periods after the
    /// last.
    pub(super) fn place(&self, rank: usize, period: i32) -> Option<usize> {
        let at = (period - self.from) as usize;
        (at < self.count()).then_some(rank * self.count() + at)
    }

    /// The number of periods of all groups.
    pub(super) fn places(&self) -> usize {
        self.groups * self.count()
    }

    /// The number of periods of each group.
    pub(super) fn periods_of_group(&self) -> usize {
        self.count()
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

/// Whether sorted events give the same counts per week as slots for each day.
#[cfg(test)]
pub(super) fn both_sweeps_agree(
    intervals: &Intervals,
    table: &Table,
    first: i32,
    last: i32,
) -> bool {
    let periods = Cutting { periods: Grain::Week.into(), simple: false };
    let from = periods.number(first);
    let count = periods.number(last) - from + 1;
    let bounds = (0..count).map(|period| periods.bounds(from + period, first, last)).collect();
    let sweep = Sweep { first, last, from, bounds, closing: None, periods, groups: 1 };
    let Some(entities) = Entities::from_ids(vec![0; intervals.fates.len()], 1) else {
        return false;
    };
    let rows = RowSource { intervals, table, entities: &entities, is_one: true };
    let told = |tell: &dyn Fn(&mut Lists<'_>)| {
        let mut lists = [(); 6].map(|()| vec![0; count as usize]);
        let [active, started, ended, at_end, most, ticks] = lists.each_mut();
        tell(&mut Lists { active, started, ended, at_end, most, ticks });
        lists
    };
    let slots = rows.slots(&sweep);
    let (starts, after) = rows.events(&sweep).of_group(0);
    told(&|lists| sweep.over_slots(&slots.starts, &slots.ends, lists))
        == told(&|lists| sweep.over_events(&starts, &after, lists))
}
