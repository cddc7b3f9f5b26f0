//! Counts per period by a sweep over starts and ends: how many are active goes up at a start and down after an end.
//!
//! Everything follows from how many start and how many end on each tick of each group. Where a slot for each fits the memory,
//! that is counted in slots, by each thread in its own if they are few; else each group's starts and ends are sorted. What is
//! clipped by the range or has no end of its own has neither started nor ended there: that is counted apart, a group.

use super::{Active, TOO_LONG, rows::period_column};
use crate::{
    calendar::{Day, Grain, Periods},
    entities::{Entities, Missing},
    error::{Error, Result},
    intervals::{Fate, Intervals},
    ledger::Ledger,
    measure::{Measure, Sums},
    operation::Context,
    rows::entities_in_order,
    shape::{Named, Shape, Type},
    table::Table,
    timeline::Dealt,
};
use arrow_array::{Array, ArrayRef, Int64Array, UInt32Array};
use arrow_schema::{DataType, Field};
use rayon::prelude::*;
use std::sync::Arc;

/// Slots that are few enough for each thread to have its own.
const SLOTS_FOR_THREADS: usize = 1 << 20;
/// Slots for each tick of each group: beyond, starts and ends are sorted.
const MOST_SLOTS: usize = 1 << 26;
const ROWS_A_THREAD: usize = 1 << 16;

fn sum_name(named: &Named) -> String {
    if named.shown_as == named.column { format!("sum_{}", named.column) } else { named.shown_as.clone() }
}

fn active_ticks_name(active: &Active) -> &'static str {
    if active.grain == Grain::Hour { "active_hours" } else { "active_days" }
}

const COUNTS: [&str; 5] = ["active", "started", "ended", "active_at_end", "most_at_once"];

pub(super) fn check(active: &Active, shape: &Shape, instants: bool) -> Result<Shape> {
    let per = shape.named(&active.per)?;
    let mut answer = shape.select(&per)?.with(active.period_name(), active.period_type(instants))?;
    for name in COUNTS.into_iter().chain([active_ticks_name(active)]) {
        answer = answer.with(name, Type::Integer)?;
    }
    for named in shape.named(&active.sum)? {
        shape.expect_numbers(&named.column)?;
        answer = answer.with(&sum_name(&named), shape.find(&named.column)?.kind.unwrap_or(Type::Float))?;
    }
    Ok(answer)
}

/// How many intervals of a group were cut off at either end, or closed for want of an end.
#[derive(Clone, Copy, Default)]
struct Cut {
    starts: i32,
    ends: i32,
    closed: i32,
}

/// How many intervals start and end on each tick of each group.
#[derive(Clone)]
struct Slots {
    starts: Vec<i32>,
    ends: Vec<i32>,
    cut: Vec<Cut>,
}

impl Slots {
    fn plus(mut self, other: Slots) -> Slots {
        for (sums, more) in [(&mut self.starts, &other.starts), (&mut self.ends, &other.ends)] {
            sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
        }
        for (sum, more) in self.cut.iter_mut().zip(&other.cut) {
            sum.starts += more.starts;
            sum.ends += more.ends;
            sum.closed += more.closed;
        }
        self
    }
}

/// The counts of each period, in lists of their own.
struct Lists<'a> {
    active: &'a mut [i64],
    started: &'a mut [i64],
    ended: &'a mut [i64],
    at_end: &'a mut [i64],
    most: &'a mut [i64],
    ticks: &'a mut [i64],
}

/// What the sweep goes over.
struct Sweep<'a> {
    intervals: &'a Intervals,
    groups: Option<&'a [u32]>,
    /// The first and last tick looked at.
    first: i32,
    last: i32,
    /// The first and last tick of each period that are looked at.
    bounds: Vec<(i32, i32)>,
    /// The period in which intervals without an end were closed, and the tick until which they last.
    closing: Option<(usize, i32)>,
}

impl Sweep<'_> {
    fn ticks(&self) -> usize {
        (i64::from(self.last) - i64::from(self.first) + 1) as usize
    }

    fn is_active(&self, row: usize) -> bool {
        self.intervals.fates[row] == Fate::Active
    }

    fn group(&self, row: usize) -> usize {
        self.groups.map_or(0, |groups| groups[row] as usize)
    }

    /// Counts where a row is cut off, and tells its first and last tick.
    #[inline]
    fn clip(&self, row: usize, cut: &mut [Cut]) -> (i32, i32) {
        let (first, last) = (self.intervals.first[row], self.intervals.last[row]);
        if first < self.first {
            cut[self.group(row)].starts += 1;
        }
        if last > self.last {
            cut[self.group(row)].ends += 1;
        } else if self.intervals.is_closed(row) {
            cut[self.group(row)].closed += 1;
        }
        self.within(row)
    }

    /// The first and last tick of a row that are looked at.
    #[inline]
    fn within(&self, row: usize) -> (i32, i32) {
        (self.intervals.first[row].max(self.first), self.intervals.last[row].min(self.last))
    }

    fn slots(&self, groups: usize, rows: usize) -> Slots {
        let blank = || Slots {
            starts: vec![0; groups * self.ticks()],
            ends: vec![0; groups * self.ticks()],
            cut: vec![Cut::default(); groups],
        };
        let all_active = self.intervals.all_active();
        // Without groups, a range or anything closed, there is nothing to look at but starts and ends.
        let intervals = self.intervals;
        let plain =
            all_active && self.groups.is_none() && intervals.range.is_none() && self.closing.is_none();
        let of_rows = |rows: std::ops::Range<usize>| {
            let mut slots = blank();
            if plain {
                let both = intervals.first[rows.clone()].iter().zip(&intervals.last[rows]);
                for (first, last) in both {
                    slots.starts[(first - self.first) as usize] += 1;
                    slots.ends[(last - self.first) as usize] += 1;
                }
                return slots;
            }
            for row in rows.filter(|&row| all_active || self.is_active(row)) {
                let (first, last) = self.clip(row, &mut slots.cut);
                let base = self.group(row) * self.ticks();
                slots.starts[base + (first - self.first) as usize] += 1;
                slots.ends[base + (last - self.first) as usize] += 1;
            }
            slots
        };
        if groups * self.ticks() > SLOTS_FOR_THREADS || rows < 2 * ROWS_A_THREAD {
            return of_rows(0..rows);
        }
        let parts = rayon::current_num_threads();
        let part = |n: usize| rows * n / parts..rows * (n + 1) / parts;
        (0..parts).into_par_iter().map(|n| of_rows(part(n))).reduce_with(Slots::plus).unwrap_or_else(blank)
    }

    /// The counts of a group from how many start and end on each tick.
    fn over_slots(&self, starts: &[i32], ends: &[i32], lists: &mut Lists<'_>) {
        let mut now = 0_i64;
        for (period, &(from, to)) in self.bounds.iter().enumerate() {
            let (before, mut started, mut ended, mut most, mut ticks, mut at_end) = (now, 0, 0, 0, 0, 0);
            let slots = (from - self.first) as usize..=(to - self.first) as usize;
            for (start, end) in starts[slots.clone()].iter().zip(&ends[slots]) {
                now += i64::from(*start);
                (started, most, ticks, at_end) =
                    (started + i64::from(*start), now.max(most), ticks + now, now);
                ended += i64::from(*end);
                now -= i64::from(*end);
            }
            lists.set(period, [before + started, started, ended, at_end, most, ticks]);
        }
    }

    /// The same from the sorted starts and the sorted ticks after the ends.
    fn over_events(&self, starts: &[i32], after: &[i32], lists: &mut Lists<'_>) {
        let (mut start, mut end) = (0, 0);
        let is_by =
            |events: &[i32], next: usize, tick: i32| events.get(next).is_some_and(|&event| event <= tick);
        for (period, &(from, to)) in self.bounds.iter().enumerate() {
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
            // Ends on the very last tick: no later period begins before the tick after it.
            while is_by(after, end, to.saturating_add(1)) {
                end += 1;
            }
            let (started, ended) = ((start - starts_before) as i64, (end - ends_before) as i64);
            lists.set(period, [(start - ends_before) as i64, started, ended, at_end, most, ticks]);
        }
    }

    /// What was cut off has not started in the first period nor ended in the last, and what was closed has not ended.
    fn without_cut(&self, cut: Cut, lists: &mut Lists<'_>) {
        if let (Some(started), Some(ended)) = (lists.started.first_mut(), lists.ended.last_mut()) {
            *started -= i64::from(cut.starts);
            *ended -= i64::from(cut.ends);
        }
        if let Some((closing, tick)) = self.closing {
            lists.ended[closing] -= i64::from(cut.closed);
            // They have not ended, so they count at the end of the period, beyond what is known.
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

/// The counts of every period of every group.
pub(super) fn counted(
    active: &Active,
    intervals: &Intervals,
    table: &Table,
    context: &Context,
    ledger: &mut Ledger,
) -> Result<Table> {
    let per = table.shape().named(&active.per)?;
    let keys: Vec<&str> = per.iter().map(|named| named.column.as_str()).collect();
    let entities = Entities::number(table, &keys, Missing::IsAKey)?;
    let (groups, order) = match per.is_empty() {
        true => (1, vec![0]),
        false => (entities.count(), entities_in_order(table, &keys, &entities)?),
    };
    let periods =
        Cutting { periods: active.periods(), simple: matches!(active.grain, Grain::Hour | Grain::Day) };
    let overall = intervals.overall().filter(|_| groups > 0);
    let (first, last) = overall.unwrap_or((0, -1));
    // Without a range the last period is looked at to its end, however early the data stops in it.
    let last = if intervals.range.is_none() && overall.is_some() { periods.end_of(last) } else { last };
    let from = periods.number(first);
    let count = overall.map_or(0, |_| (periods.number(last) - from + 1) as usize);
    let rows = groups as u64 * count as u64;
    if rows > active.most_rows {
        return Err(Error::Flood { rows, most: active.most_rows, widest: None, advice: TOO_LONG });
    }
    // Six counts, the period, and what is held while they are made.
    let keys = table.select(&per)?.row_bytes();
    context.expect_room(rows, 80 + keys + 24 * active.sum.len() as u64, TOO_LONG)?;
    let closing = intervals.closing_tick().filter(|tick| (first..=last).contains(tick));
    let sweep = Sweep {
        intervals,
        groups: (!per.is_empty()).then(|| entities.ids()),
        first,
        last,
        bounds: (0..count as i32).map(|period| periods.bounds(from + period, first, last)).collect(),
        closing: closing.map(|tick| ((periods.number(tick) - from) as usize, tick)),
    };
    let mut lists = [(); 6].map(|()| vec![0_i64; rows as usize]);
    sweep.fill(&mut lists, &order, &entities, table.rows());

    let mut columns = Vec::new();
    if !per.is_empty() {
        let first_rows = entities.first_rows();
        let of_groups = order.iter().flat_map(|&group| std::iter::repeat_n(first_rows[group], count));
        columns.extend(table.select(&per)?.take(&UInt32Array::from_iter_values(of_groups))?.fields());
    }
    let numbers = order.iter().flat_map(|_| (0..count as i32).map(|period| from + period)).collect();
    columns.push(period_column(active, intervals, table, numbers)?);
    for (name, list) in COUNTS.into_iter().chain([active_ticks_name(active)]).zip(lists) {
        columns.push((Field::new(name, DataType::Int64, true), Arc::new(Int64Array::from(list)) as ArrayRef));
    }
    for named in table.shape().named(&active.sum)? {
        let summed = Measure::of(table, &named.column)?;
        let array = summed.sums(&sweep.sums(&summed, periods, from, groups, &order))?;
        columns.push((Field::new(sum_name(&named), array.data_type().clone(), true), array));
    }
    ledger.counts.insert(0, ("rows out".into(), rows));
    Table::of_fields(columns)
}

/// How ticks become periods.
#[derive(Clone, Copy)]
struct Cutting {
    periods: Periods,
    /// Whether each period is one tick.
    simple: bool,
}

impl Cutting {
    fn number(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.number(Day::clamped(tick)) }
    }

    /// The last tick of the period in which a tick lies.
    fn end_of(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.of(Day::clamped(tick)).last().number() }
    }

    /// The first and last tick of a period that lie between these.
    fn bounds(self, number: i32, first: i32, last: i32) -> (i32, i32) {
        if self.simple {
            return (number, number);
        }
        let period = self.periods.numbered(number);
        (period.first().number().max(first), period.last().number().min(last))
    }
}

impl Sweep<'_> {
    /// Fills the lists of all groups, in the order of their keys.
    fn fill(&self, lists: &mut [Vec<i64>; 6], order: &[usize], entities: &Entities, rows: usize) {
        let (count, groups) = (self.bounds.len().max(1), order.len());
        let [active, started, ended, at_end, most, ticks] =
            lists.each_mut().map(|list| list.par_chunks_mut(count));
        let of_groups = active.zip(started).zip(ended.zip(at_end)).zip(most.zip(ticks)).zip(order);
        let of_groups = of_groups.map(|((((active, started), (ended, at_end)), (most, ticks)), &group)| {
            (Lists { active, started, ended, at_end, most, ticks }, group)
        });
        if groups.saturating_mul(self.ticks()) <= MOST_SLOTS {
            let slots = self.slots(groups, rows);
            of_groups.for_each(|(mut lists, group)| {
                let of_group = group * self.ticks()..(group + 1) * self.ticks();
                self.over_slots(&slots.starts[of_group.clone()], &slots.ends[of_group], &mut lists);
                self.without_cut(slots.cut[group], &mut lists);
            });
        } else {
            let events = Events::of(self, entities, rows);
            of_groups.for_each(|(mut lists, group)| {
                let (starts, after) = events.of_group(group);
                self.over_events(&starts, &after, &mut lists);
                self.without_cut(events.cut[group], &mut lists);
            });
        }
    }

    /// The sum of a measure over the rows that are active in each period of each group, in the order of their keys.
    fn sums(&self, summed: &Measure, periods: Cutting, from: i32, groups: usize, order: &[usize]) -> Sums {
        let of_layer = |layer| self.sums_in(layer, summed, periods, from, groups, order);
        (0..summed.layers()).map(of_layer).collect()
    }

    fn sums_in(
        &self,
        layer: usize,
        summed: &Measure,
        periods: Cutting,
        from: i32,
        groups: usize,
        order: &[usize],
    ) -> Vec<i128> {
        let count = self.bounds.len();
        let mut changes = vec![0_i128; groups * count];
        for row in (0..self.intervals.fates.len()).filter(|&row| self.is_active(row)) {
            let (first, last) = self.within(row);
            let of_group = &mut changes[self.group(row) * count..][..count];
            let (start, after) = (periods.number(first) - from, periods.number(last) - from + 1);
            of_group[start as usize] += summed.unit(row, layer);
            if let Some(change) = of_group.get_mut(after as usize) {
                *change -= summed.unit(row, layer);
            }
        }
        let mut sums = Vec::with_capacity(changes.len());
        for &group in order {
            let mut sum = 0;
            sums.extend(changes[group * count..][..count].iter().map(|change| {
                sum += change;
                sum
            }));
        }
        sums
    }
}

/// The starts of each group and the ticks after its ends.
struct Events {
    /// Of each interval.
    both: Dealt<(i32, i32)>,
    cut: Vec<Cut>,
}

impl Events {
    fn of(sweep: &Sweep<'_>, entities: &Entities, rows: usize) -> Events {
        let mut cut = vec![Cut::default(); entities.count()];
        (0..rows).filter(|&row| sweep.is_active(row)).for_each(|row| {
            sweep.clip(row, &mut cut);
        });
        let of_row = |row: usize| {
            let (first, last) = sweep.within(row);
            (first, last + 1)
        };
        let active = |row: usize| sweep.is_active(row);
        Events { both: Dealt::of(entities.ids(), entities.count(), active, of_row), cut }
    }

    fn of_group(&self, group: usize) -> (Vec<i32>, Vec<i32>) {
        let (mut starts, mut after): (Vec<i32>, Vec<i32>) =
            self.both.of_entity(group).iter().copied().unzip();
        starts.sort_unstable();
        after.sort_unstable();
        (starts, after)
    }
}

/// Whether sorted events tell the same of each week as slots for each day.
#[cfg(test)]
pub(super) fn both_sweeps_agree(intervals: &Intervals, first: i32, last: i32) -> bool {
    let periods = Cutting { periods: Grain::Week.into(), simple: false };
    let from = periods.number(first);
    let count = periods.number(last) - from + 1;
    let bounds = (0..count).map(|period| periods.bounds(from + period, first, last)).collect();
    let sweep = Sweep { intervals, groups: None, first, last, bounds, closing: None };
    let Some(entities) = Entities::from_ids(vec![0; intervals.fates.len()], 1) else { return false };
    let told = |tell: &dyn Fn(&mut Lists<'_>)| {
        let mut lists = [(); 6].map(|()| vec![0; count as usize]);
        let [active, started, ended, at_end, most, ticks] = lists.each_mut();
        tell(&mut Lists { active, started, ended, at_end, most, ticks });
        lists
    };
    let slots = sweep.slots(1, intervals.fates.len());
    let events = Events::of(&sweep, &entities, intervals.fates.len());
    let (starts, after) = events.of_group(0);
    told(&|lists| sweep.over_slots(&slots.starts, &slots.ends, lists))
        == told(&|lists| sweep.over_events(&starts, &after, lists))
}
