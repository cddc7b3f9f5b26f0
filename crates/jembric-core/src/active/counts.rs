//! Counts active intervals per period in a sweep over starts and ends: the number of active ones
//! rises at each start and falls after each end.
//!
//! All counts follow from the number of starts and ends on each tick of each group. If a slot for
//! each tick and group fits into memory, starts and ends are counted in slots (in separate slots
//! for each thread if they are few). Otherwise each group's starts and ends are sorted. An interval
//! that is clipped by the range, or has no end of its own, neither starts nor ends there; these are
//! counted separately for each group.
//!
//! Starts and ends (`events`) come from the rows of one table ([`RowSource`]), or from several
//! batches of which only the starts and ends are kept (`settled`).

use super::{
    Active, ActivePlan, Gives,
    cutting::Cutting,
    events::{Cut, RowSource, StartsAndEnds, Ticks},
    rows::period_column,
};
use crate::{
    calendar::{Grain, Hours},
    context::Context,
    error::{Error, Result, Smaller, in_setting},
    gather::{of_stretches, repeated},
    measure::{Measure, Sums},
    parallel,
    shape::{Named, Shape, Type},
    table::Table,
};
use arrow_array::{Array, ArrayRef, Int64Array};
use arrow_schema::{DataType, Field};
use std::sync::Arc;

/// Beyond this many slots, starts and ends are sorted instead.
const MOST_SLOTS: usize = 1 << 26;

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
    pub(super) ticks: Ticks,
    /// The number of the first period.
    from: i32,
    /// The first and last tick of each period, clipped to the range.
    bounds: Vec<(i32, i32)>,
    /// The period in which missing ends were placed, and the tick until which such intervals last.
    closing: Option<(usize, i32)>,
    periods: Cutting,
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
        let periods = Cutting::of(active.grain, active.periods);
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
        if rows >= u32::MAX.into() {
            return Err(Error::TableTooLong { rows: rows as usize });
        }
        // Six counts and the period, plus the memory in use while they are made.
        let sums = if let Gives::Counts { sum, .. } = &active.gives { sum.len() as u64 } else { 0 };
        context.expect_room(rows, 80 + key_bytes + 24 * sums, Smaller::LongerGrainOrRange)?;
        let closing = closing_tick.filter(|tick| (first..=last).contains(tick));
        Ok(Sweep {
            ticks: Ticks { first, last, groups, is_closing: closing.is_some() },
            from,
            bounds: (0..count as i32)
                .map(|period| periods.bounds(from + period, first, last))
                .collect(),
            closing: closing.map(|tick| ((periods.number(tick) - from) as usize, tick)),
            periods,
        })
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
            let slots = (from - self.ticks.first) as usize..=(to - self.ticks.first) as usize;
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

    let starts: Vec<u32> = (0..=order.len()).map(|group| (group * count) as u32).collect();
    let mut columns: Vec<(Field, ArrayRef)> = repeated(&keys, &starts)?.fields().collect();
    let numbers = of_stretches(&starts, |_, own| own.extend(sweep.from..));
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
            let mut changes = vec![0_i128; sweep.ticks.groups * sweep.count()];
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

impl Sweep {
    /// Fills the lists of all groups, in the order of their keys.
    fn fill(&self, lists: &mut [Vec<i64>; 6], order: &[usize], source: &dyn StartsAndEnds) {
        let (count, groups) = (self.bounds.len().max(1), order.len());
        let [active, started, ended, at_end, most, ticks] =
            lists.each_mut().map(|list| list.chunks_mut(count));
        let of_groups = active.zip(started).zip(ended.zip(at_end)).zip(most.zip(ticks)).zip(order);
        let of_groups =
            of_groups.map(|((((active, started), (ended, at_end)), (most, ticks)), &group)| {
                (Lists { active, started, ended, at_end, most, ticks }, group)
            });
        if groups.saturating_mul(self.ticks.count()) <= MOST_SLOTS {
            let slots = source.slots(&self.ticks);
            parallel::of_parts(of_groups, |_, (mut lists, group)| {
                let of_group = group * self.ticks.count()..(group + 1) * self.ticks.count();
                self.over_slots(&slots.starts[of_group.clone()], &slots.ends[of_group], &mut lists);
                self.without_cut(slots.cut[group], &mut lists);
            });
        } else {
            let events = source.events(&self.ticks);
            parallel::of_parts(of_groups, |_, (mut lists, group)| {
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
        self.ticks.groups * self.count()
    }

    /// The number of periods of each group.
    pub(super) fn periods_of_group(&self) -> usize {
        self.count()
    }
}

/// Whether sorted events give the same counts per week as slots for each day.
#[cfg(test)]
pub(super) fn both_sweeps_agree(
    intervals: &crate::intervals::Intervals,
    table: &Table,
    first: i32,
    last: i32,
) -> bool {
    let periods = Cutting::of(Grain::Week, Grain::Week.into());
    let from = periods.number(first);
    let count = periods.number(last) - from + 1;
    let bounds = (0..count).map(|period| periods.bounds(from + period, first, last)).collect();
    let ticks = Ticks { first, last, groups: 1, is_closing: false };
    let sweep = Sweep { ticks, from, bounds, closing: None, periods };
    let Some(entities) = crate::entities::Entities::from_ids(vec![0; intervals.fates.len()], 1)
    else {
        return false;
    };
    let rows = RowSource { intervals, table, entities: &entities, is_one: true };
    let told = |tell: &dyn Fn(&mut Lists<'_>)| {
        let mut lists = [(); 6].map(|()| vec![0; count as usize]);
        let [active, started, ended, at_end, most, ticks] = lists.each_mut();
        tell(&mut Lists { active, started, ended, at_end, most, ticks });
        lists
    };
    let slots = rows.slots(&sweep.ticks);
    let (starts, after) = rows.events(&sweep.ticks).of_group(0);
    told(&|lists| sweep.over_slots(&slots.starts, &slots.ends, lists))
        == told(&|lists| sweep.over_events(&starts, &after, lists))
}
