//! [`CountsState`]: folds batches of intervals into the number of starts and ends on each tick of
//! each group.
//!
//! An interval is settled once its end is known; then only its start and end are kept
//! ([`Settled`]). Without an as-of date, open intervals last until the newest date of all batches,
//! so their rows are kept until the end, unless that date is known before.
//!
//! A table in memory comes as a single batch, whose starts and ends are counted in slots without
//! keeping them (`counts`). So the first batch waits as it is, and is settled only when another one
//! comes. The tests `any_division_into_batches_and_order_of_merging_give_the_same_bytes`
//! (`plan/tests.rs`) and `counts_in_batches_are_those_of_the_whole` hold both ways equal.

use super::{
    ActivePlan, Gives,
    counts::{Beside, Sweep, counted, sums_of_rows},
    cutting::Cutting,
    events::{Cut, Event, GroupEvents, RowSource, Slots, StartsAndEnds, Ticks, together},
};
use crate::{
    calendar::Hours,
    context::{Context, Sink},
    entities::{Entities, GrowingKeys, Missing},
    error::Result,
    exact::Limbs,
    intervals::{Intervals, OpenEnds, RowStatus},
    ledger::{Outcome, RowMasks, Tally},
    measure::Measure,
    ordering::entities_in_order,
    packed::{packed, unpacked},
    plan::{NumberedRows, Numbers, State},
    shape::Named,
    table::Table,
};
use arrow_array::{ArrayRef, UInt32Array};
use arrow_buffer::BooleanBuffer;
use borsh::{BorshDeserialize, BorshSerialize};
use std::{any::Any, collections::BTreeMap, sync::Arc};

/// The change of a sum at a period of a group.
#[derive(Clone, BorshSerialize, BorshDeserialize)]
enum Change {
    Whole(i128),
    Float(Box<Limbs>),
}

/// The changes of one measure's sums in each group and period.
struct Changes {
    measure: Measure,
    by_place: BTreeMap<(u32, i32), Change>,
}

/// What of settled intervals does not follow from the plan, for another process.
#[derive(BorshSerialize, BorshDeserialize)]
struct PackedSettled {
    keys: Option<Table>,
    events: Vec<Event>,
    cut: Vec<Cut>,
    sums: Vec<BTreeMap<(u32, i32), Change>>,
    tally: Option<Tally>,
    open: u64,
    closing_tick: Option<i32>,
}

/// The starts and ends of settled intervals.
pub(super) struct Settled {
    /// The keys of each group, by its number.
    keys: GrowingKeys,
    /// Lists in order of group and tick, without duplicates. Each has more than twice as many
    /// events as the next one, so that an event is merged a few times only.
    events: Vec<Vec<Event>>,
    cut: Vec<Cut>,
    sums: Vec<Changes>,
    tally: Option<Tally>,
    /// The number of missing ends, and the tick that replaces them.
    open: u64,
    closing_tick: Option<i32>,
    hours: Option<Hours>,
    /// Whether the starts, and whether any of the dates, are points in time.
    starts_are_instants: bool,
    instants: bool,
}

impl Settled {
    fn new() -> Settled {
        Settled {
            keys: GrowingKeys::new(),
            events: Vec::new(),
            cut: Vec::new(),
            sums: Vec::new(),
            tally: None,
            open: 0,
            closing_tick: None,
            hours: None,
            starts_are_instants: false,
            instants: false,
        }
    }

    /// Adds the settled intervals of a table, and returns the rows set aside and their places.
    fn add(
        &mut self,
        active: &ActivePlan,
        table: &Table,
        intervals: &Intervals,
    ) -> Result<(Table, BooleanBuffer)> {
        let (per, sum) = active.counted();
        // Groups keep the numbers that they had in earlier batches, so the events of all batches
        // can be merged by number.
        let entities = self.keys.number(&table.select(per)?)?;
        let (kept, dropped, set_aside) = intervals.masks();
        self.open += intervals.closed_in(&kept);
        let masks = RowMasks { kept, dropped, set_aside };
        let (tally, aside) = masks.tally(table, &active.accounting)?;
        let rows = RowSource { intervals, table, entities: &entities, is_one: per.is_empty() };
        // Intervals that the range cuts count in their group, but have no event in the range.
        self.cut.resize(entities.count(), Cut::default());
        let events = rows.all_events(&mut self.cut);
        self.add_events(events);
        let sums = sum.iter().map(|(_, place)| {
            Changes::count(table, *place, &rows, Cutting::new(active.grain, active.periods))
        });
        self.add_sums(sums.collect::<Result<_>>()?);
        self.tally = Some(match self.tally.take() {
            None => tally,
            Some(before) => before.plus(&tally),
        });
        self.closing_tick = self.closing_tick.max(intervals.closing_tick());
        self.hours.clone_from(&intervals.hours);
        self.starts_are_instants = table.dates_at(active.rules.start).are_instants();
        self.instants = intervals.instants;
        Ok((aside, masks.aside()))
    }

    fn add_events(&mut self, mut events: Vec<Event>) {
        // The lists are like the digits of a binary counter: a list is merged only with one of
        // about its length. So each event is merged once for each doubling, and not once for each
        // batch.
        while self.events.last().is_some_and(|before| before.len() <= 2 * events.len()) {
            events = together([self.events.pop().unwrap_or_default(), events].concat());
        }
        self.events.push(events);
    }

    fn add_sums(&mut self, sums: Vec<Changes>) {
        if self.sums.is_empty() {
            self.sums = sums
        } else {
            self.sums.iter_mut().zip(sums).for_each(|(one, other)| one.add(other))
        }
    }

    /// The bytes that it takes in memory.
    fn bytes(&self) -> u64 {
        let of_change = size_of::<((u32, i32), Change)>();
        let changes = self.sums.iter().map(|changes| changes.by_place.len() * of_change);
        let events = self.events.iter().map(|events| size_of_val(&events[..]));
        let cut = size_of_val(&self.cut[..]);
        self.keys.bytes() + (cut + events.sum::<usize>() + changes.sum::<usize>()) as u64
    }

    /// Adds the intervals of another.
    fn merge(&mut self, other: Settled) -> Result<()> {
        // A state without a tally has settled no row.
        let Some(tally) = other.tally else { return Ok(()) };
        // Groups with the same key become one, and those of this one keep their numbers.
        let new = match other.keys.values()? {
            // Without keys all intervals are of group 0.
            None => vec![0],
            Some(keys) => self.keys.number(&keys)?.into_ids(),
        };
        let groups = self.keys.count().max(1);
        self.cut.resize(groups, Cut::default());
        other.cut.iter().zip(&new).for_each(|(own, &to)| self.cut[to as usize].add(*own));
        let moved = |event: Event| Event { group: new[event.group as usize], ..event };
        // New numbers put the events out of order, so each list is sorted again.
        for events in other.events {
            self.add_events(together(events.into_iter().map(moved).collect()));
        }
        let moved = |changes: Changes| changes.moved(|group| new[group as usize]);
        self.add_sums(other.sums.into_iter().map(moved).collect());
        self.tally = Some(match self.tally.take() {
            None => tally,
            Some(before) => before.plus(&tally),
        });
        self.open += other.open;
        self.closing_tick = self.closing_tick.max(other.closing_tick);
        self.hours = self.hours.take().or(other.hours);
        self.starts_are_instants |= other.starts_are_instants;
        self.instants |= other.instants;
        Ok(())
    }

    fn packed(mut self) -> Result<PackedSettled> {
        self.put_together();
        Ok(PackedSettled {
            keys: self.keys.values()?,
            events: self.events.pop().unwrap_or_default(),
            cut: self.cut,
            sums: self.sums.into_iter().map(|changes| changes.by_place).collect(),
            tally: self.tally,
            open: self.open,
            closing_tick: self.closing_tick,
        })
    }

    /// Makes these the settled intervals of a state that has none.
    fn unpack(&mut self, packed: PackedSettled) -> Result<()> {
        let PackedSettled { keys, events, cut, sums, tally, open, closing_tick } = packed;
        if let Some(keys) = keys {
            self.keys.number(&keys)?;
        }
        self.events = vec![events];
        self.sums.iter_mut().zip(sums).for_each(|(changes, by_place)| changes.by_place = by_place);
        (self.cut, self.tally, self.open, self.closing_tick) = (cut, tally, open, closing_tick);
        Ok(())
    }

    /// All events in one list.
    fn put_together(&mut self) {
        let events = std::mem::take(&mut self.events).into_iter().rev();
        let all = events.reduce(|after, before| together([before, after].concat()));
        self.events = all.into_iter().collect();
    }

    fn all_events(&self) -> impl Iterator<Item = &Event> {
        self.events.iter().flatten()
    }

    /// The first and last tick on which any interval is active.
    fn overall(&self) -> Option<(i32, i32)> {
        // An event after an interval is on the first tick on which it is not active any more.
        let starts = self.all_events().filter(|event| event.starts > 0).map(|event| event.tick);
        let ends = self.all_events().filter(|event| event.after > 0).map(|event| event.tick - 1);
        Some((starts.min()?, ends.max()?))
    }

    fn slots_of(&self, ticks: &Ticks) -> Slots {
        let mut slots = Slots::blank(ticks);
        for event in self.all_events() {
            // The slots of a group follow each other, one for each tick.
            let base = event.group as usize * ticks.count();
            let at = |tick: i32| base + (tick - ticks.first) as usize;
            if event.starts > 0 {
                slots.starts[at(event.tick)] += event.starts;
            }
            if event.after > 0 {
                slots.ends[at(event.tick - 1)] += event.after;
            }
        }
        slots.cut.clone_from(&self.cut);
        slots
    }

    /// The starts of a group and the ticks after its ends, in order.
    fn events_of(&self, group: usize) -> (Vec<i32>, Vec<i32>) {
        let (mut starts, mut after) = (Vec::new(), Vec::new());
        let own = self.events.iter().flat_map(|events| {
            // Each list is in order of groups, so those of one are found by a binary search. There
            // are few lists.
            let from = events.partition_point(|event| (event.group as usize) < group);
            events[from..].iter().take_while(move |event| event.group as usize == group)
        });
        for event in own {
            starts.extend(std::iter::repeat_n(event.tick, event.starts as usize));
            after.extend(std::iter::repeat_n(event.tick, event.after as usize));
        }
        (starts, after)
    }
}

impl StartsAndEnds for Settled {
    fn slots(&self, ticks: &Ticks) -> Slots {
        self.slots_of(ticks)
    }

    fn events<'s>(&'s self, _: &Ticks) -> Box<dyn GroupEvents + 's> {
        Box::new(self)
    }
}

impl GroupEvents for &Settled {
    fn of_group(&self, group: usize) -> (Vec<i32>, Vec<i32>) {
        self.events_of(group)
    }

    fn cut(&self, group: usize) -> Cut {
        self.cut[group]
    }
}

impl Changes {
    fn count(
        table: &Table,
        place: usize,
        rows: &RowSource<'_>,
        periods: Cutting,
    ) -> Result<Changes> {
        let measure = Measure::from_column(table, place)?;
        let mut layers: BTreeMap<(u32, i32), Vec<i128>> = BTreeMap::new();
        // A value is added in the first period of its interval, and subtracted in the first one
        // after it. The sum of a period is that of all changes up to it.
        rows.each_change(periods, |group, period, row, gained| {
            let sums =
                layers.entry((group as u32, period)).or_insert_with(|| vec![0; measure.layers()]);
            for (layer, sum) in sums.iter_mut().enumerate() {
                let unit = measure.unit(row, layer);
                *sum += if gained { unit } else { -unit };
            }
        });
        let change = |layers: Vec<i128>| match measure.long(&layers) {
            Some(long) => Change::Float(Box::new(long)),
            None => Change::Whole(layers.first().copied().unwrap_or(0)),
        };
        let by_place = layers.into_iter().map(|(place, layers)| (place, change(layers))).collect();
        Ok(Changes { measure: measure.without_rows(), by_place })
    }

    fn add(&mut self, other: Changes) {
        for (place, change) in other.by_place {
            match (self.by_place.get_mut(&place), change) {
                (Some(Change::Whole(sum)), Change::Whole(more)) => *sum += more,
                (Some(Change::Float(sum)), Change::Float(more)) => sum.add_all(&more),
                // A measure has changes of one kind only, so the last case is a place without a
                // change.
                (_, change) => drop(self.by_place.insert(place, change)),
            }
        }
    }

    /// The same changes of groups with other numbers.
    fn moved(self, group: impl Fn(u32) -> u32) -> Changes {
        let moved = self.by_place.into_iter();
        let moved = moved.map(|((own, period), change)| ((group(own), period), change));
        Changes { by_place: moved.collect(), ..self }
    }

    /// The sums in each period of each group, in the order of the keys.
    fn sums(&self, sweep: &Sweep, ranks: &[usize]) -> Result<ArrayRef> {
        let is_float = self.measure.long(&[]).is_some();
        let count = sweep.periods_of_group().max(1);
        if !is_float {
            let mut sums = vec![0_i128; sweep.places()];
            for ((group, period), change) in &self.by_place {
                let place = sweep.place(ranks[*group as usize], *period);
                if let (Some(place), Change::Whole(change)) = (place, change) {
                    sums[place] += change;
                }
            }
            for of_group in sums.chunks_mut(count) {
                (1..of_group.len()).for_each(|at| of_group[at] += of_group[at - 1]);
            }
            return self.measure.sums(&vec![sums]);
        }
        let mut changes: Vec<Option<&Limbs>> = vec![None; sweep.places()];
        for ((group, period), change) in &self.by_place {
            let place = sweep.place(ranks[*group as usize], *period);
            if let (Some(place), Change::Float(change)) = (place, change) {
                changes[place] = Some(change);
            }
        }
        let mut floats = Vec::with_capacity(changes.len());
        for of_group in changes.chunks(count) {
            let mut sum = Limbs::default();
            for change in of_group {
                change.iter().for_each(|change| sum.add_all(change));
                floats.push(self.measure.long_sum(&sum)?);
            }
        }
        Ok(Arc::new(arrow_array::Float64Array::from(floats)))
    }
}

/// The state of a fold of counts.
pub(super) struct CountsState {
    plan: Arc<ActivePlan>,
    context: Context,
    /// Rows that are not settled yet.
    pending: NumberedRows,
    settled: Option<Settled>,
    /// Whether only open intervals are pending, which wait for the newest date.
    awaits_newest: bool,
    newest: Option<i32>,
    set_aside: NumberedRows,
}

impl CountsState {
    pub(super) fn begin(plan: Arc<ActivePlan>, context: &Context) -> Box<dyn State> {
        Box::new(CountsState {
            plan,
            context: context.clone(),
            pending: NumberedRows::default(),
            settled: None,
            awaits_newest: true,
            newest: None,
            set_aside: NumberedRows::default(),
        })
    }

    /// Settles the rows of the first batch, because another one comes.
    fn settle(&mut self) -> Result<()> {
        if self.awaits_newest {
            return Ok(());
        }
        // Whatever is pending from now on are open intervals.
        self.awaits_newest = true;
        match self.pending.take()? {
            Some((table, numbers)) => self.settle_batch(&table, &numbers),
            None => Ok(()),
        }
    }

    /// Settles the rows of a batch that can be settled before all rows are known.
    fn settle_batch(&mut self, table: &Table, numbers: &Numbers) -> Result<()> {
        let rules = &self.plan.rules;
        // Whether open intervals are refused, and when they end, is known only after the last
        // batch.
        let later = rules.open_ends == OpenEnds::Refuse
            || rules.open_ends == OpenEnds::AsOf
                && self.context.as_of.is_none()
                && self.plan.newest.is_none();
        // Rows whose end is known are settled now. The others wait, each with its number, so that
        // rows set aside later are still in their order.
        let (open, newest) = rules.open_rows(table, &self.context);
        self.newest = self.newest.max(newest);
        if !later || open.count_set_bits() == 0 {
            return self.settle_rows(table, numbers, None);
        }
        let rows = |mask: &BooleanBuffer| {
            UInt32Array::from_iter_values(mask.set_indices().map(|row| row as u32))
        };
        let numbers_of = |rows: &UInt32Array| {
            rows.values().iter().map(|&row| numbers.at(row as usize)).collect::<Vec<_>>()
        };
        let (closed, open) = (rows(&!&open), rows(&open));
        let numbers_of_closed = Numbers::Listed(numbers_of(&closed));
        self.settle_rows(&table.take_with_origin(&closed)?, &numbers_of_closed, None)?;
        let open_table = table.take_with_origin(&open)?.without_others_texts()?;
        let open_table = open_table.with_not_numbers(0);
        self.pending.add(&open_table, numbers_of(&open));
        Ok(())
    }

    fn settle_rows(&mut self, table: &Table, numbers: &Numbers, close: Option<i32>) -> Result<()> {
        let intervals = self.plan.intervals(table, close, &self.context)?;
        let settled = self.settled.get_or_insert_with(Settled::new);
        let (aside, aside_rows) = settled.add(&self.plan, table, &intervals)?;
        let aside = aside.without_others_texts()?;
        self.set_aside.add(&aside, aside_rows.set_indices().map(|row| numbers.at(row)));
        Ok(())
    }
}

impl State for CountsState {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.settle()?;
        // This is not the first batch.
        if self.settled.is_some() || self.pending.has_table() {
            return self.settle_batch(batch, &Numbers::of_batch(batch, first_row));
        }
        self.awaits_newest = false;
        self.pending.add_batch(batch, first_row);
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        match other.downcast::<CountsState>() {
            Ok(other) => self.absorb(*other),
            Err(_) => Ok(()),
        }
    }

    fn bytes(&self) -> u64 {
        let settled = self.settled.as_ref().map_or(0, Settled::bytes);
        self.pending.bytes() + settled + self.set_aside.bytes()
    }

    fn set_aside(&mut self) -> Option<&mut NumberedRows> {
        Some(&mut self.set_aside)
    }

    fn packed(&mut self) -> Result<Vec<u8>> {
        self.settle()?;
        let settled = self.settled.take().map(Settled::packed).transpose()?;
        packed(&(settled, &self.pending, &self.set_aside, self.newest))
    }

    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        let (settled, pending, set_aside, newest): (Option<PackedSettled>, _, _, _) =
            unpacked(bytes)?;
        let settled = settled.map(|settled| {
            // A table without rows has what follows from the plan alone.
            let none = Table::without_rows(&self.plan.shape)?;
            // That gives the measures, the hours and the kinds of the dates, which were not sent.
            let mut all = Settled::new();
            all.add(&self.plan, &none, &self.plan.intervals(&none, None, &self.context)?)?;
            all.unpack(settled).map(|()| all)
        });
        self.absorb(CountsState {
            plan: self.plan.clone(),
            context: self.context.clone(),
            settled: settled.transpose()?,
            pending,
            set_aside,
            newest,
            awaits_newest: true,
        })
    }

    fn finish(self: Box<Self>) -> Result<Outcome> {
        self.finished(None)
    }

    fn finish_into(self: Box<Self>, sink: &mut Sink<'_>) -> Result<Outcome> {
        self.finished(Some(sink))
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl CountsState {
    /// The result, or with a receiver only its account.
    fn finished(mut self: Box<Self>, sink: Option<&mut Sink<'_>>) -> Result<Outcome> {
        // Only one batch came, or only open intervals: the counts of one table are made without
        // events.
        if self.settled.is_none() {
            let table = match self.pending.in_order()? {
                Some(table) => table,
                None => Table::without_rows(&self.plan.shape)?,
            };
            return self.plan.counts(&table, &self.context, sink);
        }
        self.settle()?;
        // Open intervals end on the newest date of all rows.
        // A given as-of date has closed them already when they were settled.
        let close = if self.context.as_of.is_none() { self.newest } else { None };
        let pending = std::mem::take(&mut self.pending);
        if let Some((table, numbers)) = pending.take_in_order()? {
            self.settle_rows(&table, &Numbers::Listed(numbers), close)?;
        }
        let CountsState { plan, context, settled, set_aside, .. } = *self;
        let Some(mut settled) = settled else {
            return plan.counts(&Table::without_rows(&plan.shape)?, &context, sink);
        };
        let set_aside =
            set_aside.in_order()?.map_or_else(|| Table::without_rows(&plan.shape), Ok)?;
        settled.put_together();
        plan.outcome_of_settled(&settled, set_aside, &context, sink)
    }

    fn absorb(&mut self, mut other: CountsState) -> Result<()> {
        self.settle()?;
        other.settle()?;
        self.newest = self.newest.max(other.newest);
        self.pending.merge(other.pending);
        self.set_aside.merge(other.set_aside);
        self.settled = match (self.settled.take(), other.settled) {
            (Some(mut one), Some(other)) => {
                one.merge(other)?;
                Some(one)
            }
            (one, other) => one.or(other),
        };
        Ok(())
    }
}

impl ActivePlan {
    /// The columns that counts are grouped by, and those to sum; none without counts.
    fn counted(&self) -> (&[Named], &[(String, usize)]) {
        match &self.gives {
            Gives::Counts { per, sum } => (per, sum),
            Gives::Rows { .. } | Gives::On(_) => (&[], &[]),
        }
    }

    /// The bytes of memory that a row of the counts takes: six counts and the period, with the keys
    /// and the memory in use while they are made, unless the rows are delivered in batches; and the
    /// sums.
    fn row_bytes(&self, keys: &Table, in_batches: bool) -> u64 {
        let sums = 24 * self.counted().1.len() as u64;
        if in_batches { sums } else { 80 + keys.row_bytes() + sums }
    }

    /// The counts of one table.
    fn counts(
        &self,
        table: &Table,
        context: &Context,
        sink: Option<&mut Sink<'_>>,
    ) -> Result<Outcome> {
        let (per, sum) = self.counted();
        let intervals = self.intervals(table, None, context)?;
        let (mut ledger, set_aside) = self.account(&intervals, None, table, context)?;
        // Without groups, all rows are one, and no row needs a number.
        let columns = table.columns_at(per);
        let numbered = if per.is_empty() { 0 } else { table.rows() };
        let entities = Entities::of_columns(&columns, numbered, Missing::IsAKey)?;
        let order =
            if per.is_empty() { vec![0] } else { entities_in_order(table, per, &entities)? };
        // Without groups, no key is needed.
        let first_rows = if per.is_empty() { Vec::new() } else { entities.first_rows() };
        let firsts = order.iter().filter_map(|&group| first_rows.get(group).copied());
        let keys = if per.is_empty() {
            Table::of_known([])?
        } else {
            table.select(per)?.take(&UInt32Array::from_iter_values(firsts))?
        };
        let overall = (intervals.overall(), intervals.range.is_some());
        let closing = intervals.closing_tick();
        let row_bytes = self.row_bytes(&keys, sink.is_some());
        let sweep = Sweep::new(self, order.len(), overall, closing, (row_bytes, context))?;
        let rows =
            RowSource { intervals: &intervals, table, entities: &entities, is_one: per.is_empty() };
        let beside = Beside {
            keys,
            order: &order,
            hours: intervals.hours.clone(),
            instants: table.dates_at(self.rules.start).are_instants(),
            sums: sums_of_rows(sum, &rows, &sweep, &order)?,
        };
        let answer = counted(self, &sweep, &rows, &beside, sink)?;
        ledger.counts.insert(0, ("rows in the result".into(), sweep.places() as u64));
        Ok(Outcome { table: answer, ledger, set_aside })
    }

    /// The counts of settled intervals.
    fn outcome_of_settled(
        &self,
        settled: &Settled,
        set_aside: Table,
        context: &Context,
        sink: Option<&mut Sink<'_>>,
    ) -> Result<Outcome> {
        let (_, sum) = self.counted();
        let keys = settled.keys.values()?.map_or_else(|| Table::of_known([]), Ok)?;
        let names = keys.all_named();
        let all: Vec<(usize, bool)> = (0..names.len()).map(|place| (place, false)).collect();
        let order: Vec<usize> = if names.is_empty() {
            vec![0]
        } else {
            keys.sorted_rows(&all)?.values().iter().map(|&group| group as usize).collect()
        };
        // The result has the groups in the order of their keys: `order` has the group of each rank,
        // and `ranks` the rank of each group.
        let mut ranks = vec![0; order.len()];
        order.iter().enumerate().for_each(|(rank, &group)| ranks[group] = rank);
        let stated = self.stated_ticks(settled.starts_are_instants, context);
        // Without a range the periods are those from the first start to the last end.
        let overall = (stated.or_else(|| settled.overall()), stated.is_some());
        let row_bytes = self.row_bytes(&keys, sink.is_some());
        let sweep =
            Sweep::new(self, order.len(), overall, settled.closing_tick, (row_bytes, context))?;
        let tally = settled.tally.clone().unwrap_or_default();
        let mut ledger = tally.in_order(RowStatus::reasons()).ledger(self.step.clone());
        let closed_on = settled.closing_tick.map(|tick| self.closing_day(settled, tick, context));
        self.tell(&mut ledger, (closed_on, settled.instants), settled.open, context);
        let sums = sum.iter().zip(&settled.sums);
        let sums =
            sums.map(|((name, _), changes)| Ok((name.clone(), changes.sums(&sweep, &ranks)?)));
        let in_order = UInt32Array::from_iter_values(order.iter().map(|&group| group as u32));
        let beside = Beside {
            keys: if names.is_empty() { keys } else { keys.take(&in_order)? },
            order: &order,
            hours: settled.hours.clone(),
            instants: settled.starts_are_instants,
            sums: sums.collect::<Result<_>>()?,
        };
        let answer = counted(self, &sweep, settled, &beside, sink)?;
        ledger.counts.insert(0, ("rows in the result".into(), sweep.places() as u64));
        Ok(Outcome { table: answer, ledger, set_aside })
    }

    /// The date that replaces missing ends.
    fn closing_day(&self, settled: &Settled, tick: i32, context: &Context) -> crate::calendar::Day {
        context
            .as_of
            .unwrap_or_else(|| self.rules.day_of_tick(tick, settled.hours.as_ref(), &context.zone))
    }

    /// The ticks of the given range.
    fn stated_ticks(&self, instants: bool, context: &Context) -> Option<(i32, i32)> {
        self.rules.range.map(|range| self.rules.ticks_of_range(range, instants, &context.zone))
    }
}
