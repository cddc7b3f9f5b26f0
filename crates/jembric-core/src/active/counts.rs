//! Counts active intervals per period in a sweep over starts and ends: the number of active ones
//! rises at each start and falls after each end.
//!
//! All counts follow from the number of starts and ends on each tick of each group. If a slot for
//! each tick and group fits into memory, starts and ends are counted in slots (in separate slots
//! for each thread if they are few). Otherwise each group's starts and ends are sorted. An interval
//! that is clipped by the range, or has no end of its own, neither starts nor ends there; these are
//! counted separately for each group.
//!
//! The result may be long: an interval of years has a row for each of its hours. If it is delivered
//! in batches, a sweep makes some groups at a time, or some periods of one group, and goes on where
//! it stands ([`Passed`]).
//!
//! Starts and ends (`events`) come from the rows of one table ([`RowSource`]), or from several
//! batches of which only the starts and ends are kept (`settled`).

use super::{
    Active, ActivePlan,
    cutting::Cutting,
    events::{Cut, GroupEvents, RowSource, Slots, StartsAndEnds, Ticks},
    rows::period_column,
};
use crate::{
    calendar::{Grain, Hours},
    context::{Context, Sink},
    error::{Error, Result, Smaller, in_setting},
    gather::{of_stretches, repeated},
    kind::Type,
    measure::{Measure, Sums},
    parallel,
    shape::{Named, Shape},
    table::Table,
};
use arrow_array::{Array, ArrayRef, Int64Array};
use arrow_schema::{DataType, Field};
use std::{ops::Range, sync::Arc};

/// Beyond this many slots, starts and ends are sorted instead.
const MOST_SLOTS: usize = 1 << 26;

/// The rows of a batch, if the result is delivered in batches.
const BATCH: usize = 1 << 18;

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
    /// The number of the first period, and the number of periods.
    from: i32,
    count: usize,
    /// The period in which missing ends were placed, and the tick until which such intervals last.
    closing: Option<(usize, i32)>,
    periods: Cutting,
}

impl Sweep {
    /// Prepares a sweep over this number of groups, from the first to the last tick, or over a
    /// range. The bytes are those that a row takes in memory.
    ///
    /// Errors: more periods than a result may have rows.
    pub(super) fn new(
        active: &ActivePlan,
        groups: usize,
        (overall, is_stated): (Option<(i32, i32)>, bool),
        closing_tick: Option<i32>,
        (row_bytes, context): (u64, &Context),
    ) -> Result<Sweep> {
        let periods = Cutting::new(active.grain, active.periods);
        let overall = if groups > 0 { overall } else { None };
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
        context.expect_room(rows, row_bytes, Smaller::LongerGrainOrRange)?;
        let closing = closing_tick.filter(|tick| (first..=last).contains(tick));
        Ok(Sweep {
            ticks: Ticks { first, last, groups, is_closing: closing.is_some() },
            from,
            count,
            closing: closing.map(|tick| ((periods.number(tick) - from) as usize, tick)),
            periods,
        })
    }

    /// The number of periods.
    fn count(&self) -> usize {
        self.count
    }

    /// The first and last tick of some periods, clipped to the range.
    fn bounds(&self, of: Range<usize>) -> Vec<(i32, i32)> {
        let Ticks { first, last, .. } = self.ticks;
        of.map(|period| self.periods.bounds(self.from + period as i32, first, last)).collect()
    }

    /// The counts of some periods of a group.
    fn over(
        &self,
        group: &OfGroup<'_>,
        (periods, bounds): (&Range<usize>, &[(i32, i32)]),
        passed: &mut Passed,
        lists: &mut Lists<'_>,
    ) {
        match &group.events {
            Events::Slots(starts, ends) => {
                self.over_slots((starts, ends), bounds, &mut passed.now, lists);
            }
            Events::Sorted(starts, after) => {
                let numbers = (&mut passed.starts, &mut passed.ends);
                Sweep::over_events((starts, after), bounds, numbers, lists);
            }
        }
        self.without_cut(group.cut, (periods, bounds), lists);
    }

    /// The counts of a group, from the number of starts and ends on each tick.
    fn over_slots(
        &self,
        (starts, ends): (&[i32], &[i32]),
        bounds: &[(i32, i32)],
        now: &mut i64,
        lists: &mut Lists<'_>,
    ) {
        // `now` is the number of active intervals on the current tick. It goes up at starts before
        // the tick is counted, and down at ends after it, because both ends are inclusive.
        for (period, &(from, to)) in bounds.iter().enumerate() {
            let (before, mut started, mut ended, mut most, mut ticks, mut at_end) =
                (*now, 0, 0, 0, 0, 0);
            let slots = (from - self.ticks.first) as usize..=(to - self.ticks.first) as usize;
            for (start, end) in starts[slots.clone()].iter().zip(&ends[slots]) {
                *now += i64::from(*start);
                (started, most, ticks, at_end) =
                    (started + i64::from(*start), most.max(*now), ticks + *now, *now);
                ended += i64::from(*end);
                *now -= i64::from(*end);
            }
            // Active at any time in the period: those from before, and those that started in it.
            lists.set(period, [before + started, started, ended, at_end, most, ticks]);
        }
    }

    /// The counts of a group, from its sorted starts and the sorted ticks after its ends.
    fn over_events(
        (starts, after): (&[i32], &[i32]),
        bounds: &[(i32, i32)],
        (passed_starts, passed_ends): (&mut usize, &mut usize),
        lists: &mut Lists<'_>,
    ) {
        // `start` and `end` are the numbers of starts and ends passed so far; their difference is
        // the number of active intervals.
        let (mut start, mut end) = (*passed_starts, *passed_ends);
        let is_by = |events: &[i32], next: usize, tick: i32| {
            events.get(next).is_some_and(|&event| event <= tick)
        };
        for (period, &(from, to)) in bounds.iter().enumerate() {
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
        (*passed_starts, *passed_ends) = (start, end);
    }

    /// A clipped interval has not started in the first period, nor ended in the last, and one with
    /// a missing end has not ended.
    fn without_cut(
        &self,
        cut: Cut,
        (periods, bounds): (&Range<usize>, &[(i32, i32)]),
        lists: &mut Lists<'_>,
    ) {
        if periods.start == 0
            && let Some(started) = lists.started.first_mut()
        {
            *started -= i64::from(cut.starts);
        }
        if periods.end == self.count
            && let Some(ended) = lists.ended.last_mut()
        {
            *ended -= i64::from(cut.ends);
        }
        if let Some((closing, tick)) = self.closing.filter(|(at, _)| periods.contains(at)) {
            let closing = closing - periods.start;
            lists.ended[closing] -= i64::from(cut.closed);
            // These intervals have not ended, so they are active at the end of the period.
            if tick < bounds[closing].1 {
                lists.at_end[closing] += i64::from(cut.closed);
            }
        }
    }
}

/// Where a sweep over a group stands: the number of active intervals, or the numbers of starts and
/// ends that it has passed.
#[derive(Default)]
struct Passed {
    now: i64,
    starts: usize,
    ends: usize,
}

/// The starts and ends of all groups.
enum AllEvents<'s> {
    Slots(Slots),
    Sorted(Box<dyn GroupEvents + 's>),
}

/// The starts and ends of a group, and what was clipped from it.
struct OfGroup<'a> {
    events: Events<'a>,
    cut: Cut,
}

enum Events<'a> {
    /// The number of starts and ends on each tick.
    Slots(&'a [i32], &'a [i32]),
    /// The starts, and the ticks after the ends, in order.
    Sorted(Vec<i32>, Vec<i32>),
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

/// Six lists of counts.
type SixLists = [Vec<i64>; 6];

/// The counts for every period of every group: as a table, or for a receiver, in batches. Then the
/// table has only the columns.
pub(super) fn counted(
    active: &ActivePlan,
    sweep: &Sweep,
    source: &dyn StartsAndEnds,
    beside: &Beside<'_>,
    sink: Option<&mut Sink<'_>>,
) -> Result<Table> {
    let (groups, count) = (beside.order.len(), sweep.count());
    let all = sweep.all_events(source);
    let batch = |groups: Range<usize>, periods: Range<usize>, lists| {
        beside.batch(active, sweep, (groups, periods), lists)
    };
    let whole_groups = |groups: Range<usize>| {
        batch(groups.clone(), 0..count, sweep.of_groups(&all, &beside.order[groups]))
    };
    let Some(sink) = sink else { return whole_groups(0..groups) };
    let none = batch(0..0, 0..0, SixLists::default())?;
    if groups * count == 0 {
        sink(&none).map_err(Error::Sink)?;
    }
    if count <= BATCH {
        let at_once = BATCH / count.max(1);
        for first in (0..groups).step_by(at_once) {
            sink(&whole_groups(first..groups.min(first + at_once))?).map_err(Error::Sink)?;
        }
        return Ok(none);
    }
    for rank in 0..groups {
        let (group, mut passed) = (sweep.of_group(&all, beside.order[rank]), Passed::default());
        for first in (0..count).step_by(BATCH) {
            let periods = first..count.min(first + BATCH);
            let mut lists = [(); 6].map(|()| vec![0_i64; periods.len()]);
            let bounds = sweep.bounds(periods.clone());
            let [active, started, ended, at_end, most, ticks] = lists.each_mut();
            let mut own = Lists { active, started, ended, at_end, most, ticks };
            sweep.over(&group, (&periods, &bounds), &mut passed, &mut own);
            sink(&batch(rank..rank + 1, periods, lists)?).map_err(Error::Sink)?;
        }
    }
    Ok(none)
}

impl Beside<'_> {
    /// The rows of some periods of some groups, with their counts. Of several groups, these are all
    /// periods.
    fn batch(
        &self,
        active: &ActivePlan,
        sweep: &Sweep,
        (groups, periods): (Range<usize>, Range<usize>),
        lists: SixLists,
    ) -> Result<Table> {
        let count = periods.len();
        let starts: Vec<u32> = (0..=groups.len()).map(|group| (group * count) as u32).collect();
        let keys = self.keys.slice(groups.start, groups.len());
        let mut columns: Vec<(Field, ArrayRef)> = repeated(&keys, &starts)?.fields().collect();
        let from = sweep.from + periods.start as i32;
        let numbers = of_stretches(&starts, |_, own| own.extend(from..));
        columns.push(period_column(active, self.hours.clone(), self.instants, numbers));
        for (name, list) in COUNTS.into_iter().chain([active_ticks_name(active.grain)]).zip(lists) {
            columns.push((
                Field::new(name, DataType::Int64, true),
                Arc::new(Int64Array::from(list)) as ArrayRef,
            ));
        }
        let first = groups.start * sweep.count() + periods.start;
        for (name, array) in &self.sums {
            let own = array.slice(first, groups.len() * count);
            columns.push((Field::new(name, array.data_type().clone(), true), own));
        }
        Table::of_fields(columns)
    }
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
        let measure = Measure::from_column(rows.table, *place)?;
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
    /// The starts and ends of all groups.
    fn all_events<'s>(&self, source: &'s dyn StartsAndEnds) -> AllEvents<'s> {
        match self.ticks.groups.saturating_mul(self.ticks.count()) {
            ..=MOST_SLOTS => AllEvents::Slots(source.slots(&self.ticks)),
            _ => AllEvents::Sorted(source.events(&self.ticks)),
        }
    }

    /// The starts and ends of a group.
    fn of_group<'a>(&self, all: &'a AllEvents<'_>, group: usize) -> OfGroup<'a> {
        match all {
            AllEvents::Slots(slots) => {
                let own = group * self.ticks.count()..(group + 1) * self.ticks.count();
                let events = Events::Slots(&slots.starts[own.clone()], &slots.ends[own]);
                OfGroup { events, cut: slots.cut[group] }
            }
            AllEvents::Sorted(events) => {
                let (starts, after) = events.of_group(group);
                OfGroup { events: Events::Sorted(starts, after), cut: events.cut(group) }
            }
        }
    }

    /// The counts of some groups, which threads fill group by group.
    fn of_groups(&self, all: &AllEvents<'_>, groups: &[usize]) -> SixLists {
        let count = self.count();
        let mut lists = [(); 6].map(|()| vec![0_i64; groups.len() * count]);
        let (periods, bounds) = (0..count, self.bounds(0..count));
        let [active, started, ended, at_end, most, ticks] =
            lists.each_mut().map(|list| list.chunks_mut(count.max(1)));
        let parts = active.zip(started).zip(ended.zip(at_end)).zip(most.zip(ticks)).zip(groups);
        let parts = parts.map(|((((active, started), (ended, at_end)), (most, ticks)), &group)| {
            (Lists { active, started, ended, at_end, most, ticks }, group)
        });
        parallel::of_parts(parts, |_, (mut lists, group)| {
            let of_group = self.of_group(all, group);
            self.over(&of_group, (&periods, &bounds), &mut Passed::default(), &mut lists);
        });
        lists
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
    let periods = Cutting::new(Grain::Week, Grain::Week.into());
    let from = periods.number(first);
    let count = periods.number(last) - from + 1;
    let ticks = Ticks { first, last, groups: 1, is_closing: false };
    let sweep = Sweep { ticks, from, count: count as usize, closing: None, periods };
    let bounds = sweep.bounds(0..count as usize);
    let Some(entities) = crate::entities::Entities::from_ids(vec![0; intervals.statuses.len()], 1)
    else {
        return false;
    };
    let rows = RowSource { intervals, table, entities: &entities, is_one: true };
    let listed = |tell: &dyn Fn(&mut Lists<'_>)| {
        let mut lists = [(); 6].map(|()| vec![0; count as usize]);
        let [active, started, ended, at_end, most, ticks] = lists.each_mut();
        tell(&mut Lists { active, started, ended, at_end, most, ticks });
        lists
    };
    let slots = rows.slots(&sweep.ticks);
    let (starts, after) = rows.events(&sweep.ticks).of_group(0);
    let by_slots =
        listed(&|lists| sweep.over_slots((&slots.starts, &slots.ends), &bounds, &mut 0, lists));
    // A sweep that stops goes on where it stands.
    let by_events = listed(&|lists| {
        let (mut starts_passed, mut ends_passed) = (0, 0);
        let at = bounds.len() / 3;
        let Lists { active, started, ended, at_end, most, ticks } = lists;
        for of in [0..at, at..bounds.len()] {
            let mut own = Lists {
                active: &mut active[of.clone()],
                started: &mut started[of.clone()],
                ended: &mut ended[of.clone()],
                at_end: &mut at_end[of.clone()],
                most: &mut most[of.clone()],
                ticks: &mut ticks[of.clone()],
            };
            let passed = (&mut starts_passed, &mut ends_passed);
            Sweep::over_events((&starts, &after), &bounds[of], passed, &mut own);
        }
    });
    by_slots == by_events
}
