//! [`Track`]: all records sorted by entity and date, and the figures at each date.

use super::{
    Figure, RunningColumn, RunningPlan,
    carried::{Before, Carried, Earlier, PrefixedColumn},
    sorted_records::SortedRecords,
};
use crate::{
    calendar::{Day, Periods, Span},
    context::Context,
    dates::{Dates, check_grain},
    decimal::Decimal,
    entities::Entities,
    error::{Error, Result, refuse},
    measure::{Measure, Sums, of_cell},
    parallel,
    sort_keys::SortKeys,
    table::Table,
    timeline::{GroupedByEntity, Timeline, in_order},
};
use arrow_array::{Array, ArrayRef, BooleanArray, Float64Array, Int64Array, UInt32Array};
use arrow_buffer::BooleanBuffer;
use arrow_select::take::take;
use std::{collections::VecDeque, ops::Range, sync::Arc};

/// The records of one date: their places in the sorted order, and the first record that counts for
/// them.
pub(super) struct Stop {
    pub(super) records: Range<usize>,
    pub(super) from: usize,
    /// Whether the records before the first one, of an earlier piece, count as well.
    pub(super) continues: bool,
}

/// Which records are the last ones of their date.
enum LastOfDates {
    /// Each, because records are taken one by one.
    Each,
    /// Those of rows that are used in place.
    Marked(BooleanBuffer),
    /// Those whose date differs from the next one, in the copy of sorted records.
    Compared,
}

impl LastOfDates {
    /// Those of rows in order of their dates, which are used in place.
    fn in_place(rows: usize, dates: &Dates) -> LastOfDates {
        fn marked<T: PartialEq + Sync>(dates: &[T]) -> LastOfDates {
            let is_last = |row: usize| dates.get(row + 1) != Some(&dates[row]);
            LastOfDates::Marked(parallel::bits(dates.len(), is_last))
        }
        match dates {
            Dates::Days(days, _) => marked(days.values()),
            Dates::Moments(moments) => marked(moments.values()),
            Dates::Missing(_) => marked(&vec![(); rows]),
        }
    }
}

/// Where the days of records are, if they are needed.
pub(super) enum DaysOf {
    /// The day of each row.
    Rows(Vec<i32>),
    /// The dates of the sorted records are days.
    Records,
}

/// All records, sorted by entity and date.
pub(super) struct Track<'a> {
    /// The first record of each entity; the last number is that of all records.
    bounds: Vec<u32>,
    /// None if the rows are sorted already.
    replay: Option<SortedRecords>,
    pub(super) days: Option<DaysOf>,
    periods: Option<Periods>,
    trailing: Option<Span>,
    last: LastOfDates,
    /// What is known of the records before the first one. If there are any, there is one entity.
    pub(super) before: Option<&'a Before>,
}

impl<'a> Track<'a> {
    pub(super) fn new(
        running: &RunningPlan,
        entities: &Entities,
        dates: &Dates,
        before: Option<&'a Before>,
        context: &Context,
    ) -> Result<Track<'a>> {
        let (periods, grain) = (running.periods, dates.periods().grain());
        if let Some(span) = running.trailing.filter(|span| !span.fits(grain)) {
            let (column, requested) = (running.date_name.clone(), span.to_string());
            return Err(Error::TooFine { column, grain, requested });
        }
        if let Some(periods) = periods {
            check_grain(&running.date_name, dates, periods.grain())?;
        }
        // Only these make records leave the run, so only they need the days.
        let cuts_days = periods.is_some() || running.trailing.is_some();
        let rows = entities.ids().len();
        // If the rows are sorted by entity and date already, they are used in place. Otherwise sort
        // them once, and remember the place of each row to return the results in the order of the
        // rows.
        let (bounds, replay) = match in_order(entities.ids(), entities.count(), dates) {
            Some(bounds) => (bounds, None),
            None => {
                let grouped = Timeline::dated(entities, dates, &BooleanBuffer::new_set(rows));
                (grouped.starts, Some(SortedRecords::new(grouped.values)))
            }
        };
        let last = match &replay {
            _ if running.row_by_row => LastOfDates::Each,
            // Rows in place have their dates in a column, of which all neighbours are compared at
            // once. Sorted records have them beside their rows, and are compared on the way.
            None => LastOfDates::in_place(rows, dates),
            Some(_) => LastOfDates::Compared,
        };
        Ok(Track {
            bounds,
            days: cuts_days.then(|| match (&replay, dates) {
                // A record is sorted by its date. If that is a day, it need not be looked up.
                (Some(_), Dates::Days(..)) => DaysOf::Records,
                _ => DaysOf::Rows(dates.day_numbers(&context.zone).into_owned()),
            }),
            periods,
            replay,
            trailing: running.trailing,
            last,
            before,
        })
    }

    /// The day of a record.
    #[inline]
    fn day(&self, days: &DaysOf, place: usize) -> i32 {
        match (days, &self.replay) {
            (DaysOf::Records, Some(replay)) => replay.records[place].0 as i32,
            (DaysOf::Records, None) => i32::MIN,
            (DaysOf::Rows(days), _) => days[self.row(place)],
        }
    }

    /// The row of a record.
    #[inline]
    pub(super) fn row(&self, place: usize) -> usize {
        self.replay.as_ref().map_or(place, |replay| replay.records[place].1 as usize)
    }

    /// Whether the next record has another date. There is a next one.
    #[inline]
    fn is_last_of_date(&self, place: usize) -> bool {
        match &self.last {
            LastOfDates::Marked(last) => last.value(place),
            LastOfDates::Each => true,
            LastOfDates::Compared => self
                .replay
                .as_ref()
                .is_none_or(|replay| replay.records[place].0 != replay.records[place + 1].0),
        }
    }

    /// The first day that counts for a day. Earlier days have left the run.
    fn first_day(&self, day: i32) -> i32 {
        let trailing = self.trailing.map(|span| {
            // The run begins on the day after the one that lies the span before. At the beginning
            // of the calendar it begins on the first day.
            let left = span.negated().after(Day::clamped(day)).unwrap_or(Day::MIN).number();
            left.saturating_add(i32::from(left > Day::MIN.number()))
        });
        let anew = self.periods.map(|periods| periods.first_day(Day::clamped(day)).number());
        trailing.max(anew).unwrap_or(i32::MIN)
    }

    /// Visits the dates of an entity.
    #[inline]
    fn stops(&self, records: Range<usize>, mut at_stop: impl FnMut(Stop)) {
        // Invariant: the records `from..start` count for the last date visited, and `from` never
        // moves back. So the whole walk is linear, however long the trailing span is.
        let (mut start, mut from) = (records.start, records.start);
        let mut continues = self.before.is_some();
        while start < records.end {
            let mut end = start + 1;
            // Records with the same date are one stop, so that they share a value whatever their
            // order.
            while end < records.end && !self.is_last_of_date(end - 1) {
                end += 1;
            }
            if let Some(days) = &self.days {
                let first = self.first_day(self.day(days, start));
                // The record at `start` is on its own first day or after it, so the loop ends
                // there.
                while self.day(days, from) < first {
                    from += 1;
                }
                // Records of earlier pieces count as long as the first of them has not left the
                // run.
                continues = self.before.is_some_and(|before| before.first_day >= first);
            }
            at_stop(Stop { records: start..end, from, continues });
            start = end;
        }
    }

    /// Calls `make` for every date of each entity, and spreads the result over the rows of that
    /// date. `begin` makes the state of an entity, which is passed from date to date.
    fn at_stops<S, T: Copy + Default + Send + Sync>(
        &self,
        begin: impl Fn(usize) -> S + Sync,
        make: impl Fn(&mut S, &Stop) -> T + Sync,
    ) -> Vec<T> {
        self.of_entities(|base, own| self.fill_stops(base, own, &begin, &make))
    }

    /// The same for numbers.
    fn numbers_at_stops<S>(
        &self,
        begin: impl Fn(usize) -> S + Sync,
        make: impl Fn(&mut S, &Stop) -> i64 + Sync,
    ) -> Vec<i64> {
        self.numbers_of_entities(|base, own| self.fill_stops(base, own, &begin, &make))
    }

    #[inline]
    fn fill_stops<S, T: Copy>(
        &self,
        base: usize,
        own: &mut [T],
        begin: &impl Fn(usize) -> S,
        make: &impl Fn(&mut S, &Stop) -> T,
    ) {
        let mut state = begin(base);
        self.stops(base..base + own.len(), |stop| {
            let value = make(&mut state, &stop);
            own[stop.records.start - base..stop.records.end - base].fill(value);
        });
    }

    /// Calls `make` with the row of every record of each entity, and lets the records of a date
    /// share the value of the last one. Only if no record ever leaves the run.
    fn at_records<S, T: Copy + Default + Send + Sync>(
        &self,
        begin: impl Fn(usize) -> S + Sync,
        make: impl Fn(&mut S, usize) -> T + Sync,
    ) -> Vec<T> {
        self.of_entities(|base, own| self.fill_records(base, own, &begin, &make))
    }

    /// The same for numbers.
    fn numbers_at_records<S>(
        &self,
        begin: impl Fn(usize) -> S + Sync,
        make: impl Fn(&mut S, usize) -> i64 + Sync,
    ) -> Vec<i64> {
        self.numbers_of_entities(|base, own| self.fill_records(base, own, &begin, &make))
    }

    #[inline]
    fn fill_records<S, T: Copy>(
        &self,
        base: usize,
        own: &mut [T],
        begin: &impl Fn(usize) -> S,
        make: &impl Fn(&mut S, usize) -> T,
    ) {
        let mut state = begin(base);
        match &self.replay {
            None => {
                for (row, own) in (base..).zip(own.iter_mut()) {
                    *own = make(&mut state, row);
                }
            }
            Some(replay) => {
                for ((_, row), own) in replay.records[base..].iter().zip(own.iter_mut()) {
                    *own = make(&mut state, *row as usize);
                }
            }
        }
        self.share(base, own);
    }

    /// Makes the values of the records of each entity, from its first one on, and returns them in
    /// the order of the rows.
    fn of_entities<T: Copy + Default + Send + Sync>(
        &self,
        work: impl Fn(usize, &mut [T]) + Sync,
    ) -> Vec<T> {
        // Entities are independent, so threads process them in parallel. Each writes to its own
        // part of the result.
        let made = vec![T::default(); self.bounds.last().map_or(0, |&all| all as usize)];
        let mut made = GroupedByEntity { starts: self.bounds.clone(), values: made };
        made.each(|entity, own| {
            // An entity may have no record with a date.
            if !own.is_empty() {
                work(self.bounds[entity] as usize, own);
            }
        });
        match &self.replay {
            None => made.values,
            Some(replay) => replay.in_row_order(&made.values),
        }
    }

    /// The same as [`of_entities`](Track::of_entities), for numbers, which go to their rows without
    /// a copy in the order of the records.
    fn numbers_of_entities(&self, work: impl Fn(usize, &mut [i64]) + Sync) -> Vec<i64> {
        match &self.replay {
            // Rows that are in order need no other place.
            None => self.of_entities(work),
            Some(replay) => replay.computed_in_row_order(&self.bounds, &work),
        }
    }

    /// Gives the records of a date, among those of an entity, the value of the last one.
    fn share<T: Copy>(&self, base: usize, own: &mut [T]) {
        let last = own.len().saturating_sub(1);
        let all_differ = match &self.last {
            LastOfDates::Marked(marked) => marked.slice(base, last).count_set_bits() == last,
            LastOfDates::Each => true,
            LastOfDates::Compared => false,
        };
        if !all_differ {
            for place in (0..last).rev().filter(|place| !self.is_last_of_date(base + place)) {
                own[place] = own[place + 1];
            }
        }
    }

    /// Whether every record remains in the run, and none of an earlier piece leaves it.
    fn only_grows(&self) -> bool {
        self.days.is_none()
    }

    /// What later pieces need to know of the records up to the last date, and of those before
    /// them.
    pub(super) fn known_after(
        &self,
        last: &Stop,
        records: &Table,
        figures: Vec<Carried>,
    ) -> Result<Earlier> {
        if self.trailing.is_some() {
            // With a trailing span, records leave the run later, so the records themselves are
            // carried. Otherwise the figures so far are enough.
            let kept = records.slice(last.from, last.records.end - last.from);
            return Ok(Earlier::Records(kept.anonymous().without_others_texts()?));
        }
        let before = if last.continues { self.before } else { None };
        let first_day = match (before, &self.days) {
            (Some(before), _) => before.first_day,
            (None, Some(days)) => self.day(days, last.from),
            (None, None) => i32::MIN,
        };
        let own = (last.records.end - last.from) as u64;
        let records = before.map_or(0, |before| before.records) + own;
        Ok(Earlier::Run(Before { first_day, records, figures }))
    }

    /// The last date of the only entity.
    pub(super) fn last_stop(&self) -> Option<Stop> {
        let all = self.bounds.last().map_or(0, |&all| all as usize);
        let mut last = None;
        self.stops(0..all, |stop| last = Some(stop));
        last
    }

    /// A requested column, and what later pieces need to know of it if a last date is given. Sums
    /// begin with the opening balance.
    pub(super) fn figure_column(
        &self,
        opening: Option<Decimal>,
        table: &Table,
        requested: &RunningColumn,
        (before, last): (Option<&Carried>, Option<&Stop>),
    ) -> Result<(ArrayRef, Option<Carried>)> {
        let array = table.at(requested.place);
        if matches!(requested.figure, Figure::Max | Figure::Min) {
            let extreme = self.extreme(array, requested.figure == Figure::Max, before)?;
            let of_last = |stop: &Stop| extreme.slice(self.row(stop.records.start), 1);
            let best = last.map(of_last).map(Carried::Best);
            return Ok((extreme, best));
        }
        let opening = if requested.figure == Figure::Sum { opening } else { None };
        let (before, count) = match before {
            Some(Carried::Sum(sum, count)) => (Some(sum), *count),
            _ => (None, 0),
        };
        let Some((measure, first)) = Measure::begun(table, requested.place, opening, before)?
        else {
            let number = opening.map(|number| number.to_string()).unwrap_or_default();
            return refuse("opening", number, "a number that fits the column's sums");
        };
        let of_layer = |layer: usize| (layer, first[layer], count);
        let carried = last.map(|stop| self.run_of(stop, &measure, &first, count));
        if requested.figure == Figure::Sum
            && let Some((units, first)) = measure.narrow_from(first[0])
        {
            return Ok((measure.narrow_sums(self.narrow_sums(units, first))?, carried));
        }
        if requested.figure == Figure::Sum {
            let of_layer = |layer| self.sums(&measure, of_layer(layer), |sum, _| sum);
            let sums = measure.sums(&(0..measure.layers()).map(of_layer).collect())?;
            return Ok((sums, carried));
        }
        if measure.layers() == 1 {
            // One layer holds the whole sum, so the mean can be computed at each stop.
            let means = self.sums(&measure, of_layer(0), |sum, count| measure.mean(&[sum], count));
            return Ok((Arc::new(means.into_iter().collect::<Float64Array>()), carried));
        }
        // Floats of very different size have their sum in several layers, which are combined only
        // at the end.
        let sums: Sums = (0..measure.layers())
            .map(|layer| self.sums(&measure, of_layer(layer), |sum, _| sum))
            .collect();
        let counts = self.sums(&measure, of_layer(0), |_, count| count);
        let mean = |(row, count)| measure.mean(&of_cell(&sums, row), count);
        let means = counts.into_iter().enumerate().map(mean).collect::<Float64Array>();
        Ok((Arc::new(means), carried))
    }

    /// The sum of the run of a date, and the number of its values, with those before the first
    /// record as far as they count.
    fn run_of(&self, stop: &Stop, measure: &Measure, first: &[i128], count: u64) -> Carried {
        // If the run began anew after the last piece, what was carried does not count.
        let counts = stop.continues || self.before.is_none();
        let rows = || (stop.from..stop.records.end).map(|place| self.row(place));
        let of_layer = |(layer, first): (usize, &i128)| {
            let own: i128 = rows().map(|row| measure.unit(row, layer)).sum();
            if counts { first + own } else { own }
        };
        let layers: Vec<i128> = first.iter().enumerate().map(of_layer).collect();
        let own = rows().filter(|&row| measure.is_valid(row)).count() as u64;
        Carried::Sum(measure.exact(&layers), if counts { count + own } else { own })
    }

    /// For each row the figure made from the sum of its run in one layer, and from the number of
    /// values in it. The sum and the number of values before the first record are given with the
    /// layer.
    fn sums<T: Copy + Default + Send + Sync>(
        &self,
        measure: &Measure,
        (layer, before, values_before): (usize, i128, u64),
        make: impl Fn(i128, u64) -> T + Sync,
    ) -> Vec<T> {
        if self.only_grows() {
            return self.at_records(
                |_| (before, values_before),
                |(sum, count), row| {
                    *sum += measure.unit(row, layer);
                    *count += u64::from(measure.is_valid(row));
                    make(*sum, *count)
                },
            );
        }
        self.at_stops(
            |start| (before, values_before, start, start, self.before.is_some()),
            |(sum, count, from, to, continues), stop| {
                if *continues && !stop.continues {
                    (*sum, *count, *continues) = (*sum - before, *count - values_before, false);
                }
                // Add the records that came in since the last stop, and subtract those that have
                // left. Measures are integers, so subtraction undoes addition exactly; floats would
                // drift.
                for place in *to..stop.records.end {
                    let row = self.row(place);
                    *sum += measure.unit(row, layer);
                    *count += u64::from(measure.is_valid(row));
                }
                for place in *from..stop.from {
                    let row = self.row(place);
                    *sum -= measure.unit(row, layer);
                    *count -= u64::from(measure.is_valid(row));
                }
                (*from, *to) = (stop.from, stop.records.end);
                make(*sum, *count)
            },
        )
    }

    /// Computes the sum of each row's run in 64 bits, which must be enough. `before` is the sum of
    /// the records before the first one.
    fn narrow_sums(&self, units: &[i64], before: i64) -> Vec<i64> {
        if self.only_grows() {
            return self.numbers_at_records(
                |_| before,
                |sum, row| {
                    *sum += units[row];
                    *sum
                },
            );
        }
        self.numbers_at_stops(
            |start| (before, start, start, self.before.is_some()),
            |(sum, from, to, continues), stop| {
                if *continues && !stop.continues {
                    (*sum, *continues) = (*sum - before, false);
                }
                (*to..stop.records.end).for_each(|place| *sum += units[self.row(place)]);
                (*from..stop.from).for_each(|place| *sum -= units[self.row(place)]);
                (*from, *to) = (stop.from, stop.records.end);
                *sum
            },
        )
    }

    /// The maximum or minimum of each row's run.
    fn extreme(
        &self,
        array: &ArrayRef,
        greatest: bool,
        before: Option<&Carried>,
    ) -> Result<ArrayRef> {
        let PrefixedColumn { array, prefix: by } = &PrefixedColumn::with_best(array, before)?;
        let order = SortKeys::from_column(array)?;
        // In the common case, numbers of which none is missing, each run has a best number.
        if let (0, SortKeys::Numbers(numbers)) = (array.logical_null_count(), &order) {
            let best = if self.only_grows() {
                self.numbers_at_records(
                    |start| numbers[if *by > 0 { 0 } else { self.row(start) }],
                    |best, row| {
                        let number = numbers[row + by];
                        *best = if greatest { number.max(*best) } else { number.min(*best) };
                        *best
                    },
                )
            } else {
                self.numbers_at_stops(
                    |_| Heads::after(numbers[..*by].first().copied()),
                    |heads, stop| {
                        heads.leave(stop);
                        for place in stop.records.clone() {
                            let number = numbers[self.row(place) + by];
                            let beats =
                                |one, other| if greatest { one > other } else { one < other };
                            heads.add(place, number, beats);
                        }
                        heads.best().unwrap_or_default()
                    },
                )
            };
            return SortKeys::column(best, array.data_type());
        }
        let valid = array.logical_nulls();
        let is_valid = |row: usize| valid.as_ref().is_none_or(|valid| valid.is_valid(row));
        let beats = |one: u32, other: u32| {
            let (one, other) = (order.of_row(one as usize), order.of_row(other as usize));
            if greatest { one > other } else { one < other }
        };
        let best = self.at_stops(
            |_| Heads::after((*by > 0).then_some(0)),
            |heads, stop| {
                heads.leave(stop);
                for place in stop.records.clone() {
                    let row = self.row(place) + by;
                    if is_valid(row) {
                        heads.add(place, row as u32, beats);
                    }
                }
                heads.best()
            },
        );
        Ok(take(array, &best.into_iter().collect::<UInt32Array>(), None)?)
    }

    pub(super) fn counts(&self) -> ArrayRef {
        let before = self.before.map_or(0, |before| before.records as i64);
        if self.only_grows() {
            let counts = self.numbers_at_records(
                |_| before,
                |count, _| {
                    *count += 1;
                    *count
                },
            );
            return Arc::new(Int64Array::from(counts));
        }
        let counts = self.numbers_at_stops(
            |_| (),
            |(), stop| {
                let own = (stop.records.end - stop.from) as i64;
                if stop.continues { before + own } else { own }
            },
        );
        Arc::new(Int64Array::from(counts))
    }

    /// Whether a value exceeds those of every earlier date of its run; missing if the value is.
    pub(super) fn highs(&self, array: &ArrayRef, before: Option<&Carried>) -> Result<BooleanArray> {
        let PrefixedColumn { array, prefix: by } = &PrefixedColumn::with_best(array, before)?;
        let order = SortKeys::from_column(array)?;
        let valid = array.logical_nulls();
        let is_valid = |row: usize| valid.as_ref().is_none_or(|valid| valid.is_valid(row));
        let beats =
            |one: u32, other: u32| order.of_row(one as usize) > order.of_row(other as usize);
        // The best value before each date is that of the run up to the previous date, as far as it
        // still counts.
        let before = self.at_stops(
            |_| Heads::after((*by > 0).then_some(0)),
            |heads, stop| {
                heads.leave(stop);
                let before = heads.best();
                for place in stop.records.clone() {
                    let row = self.row(place) + by;
                    if is_valid(row) {
                        heads.add(place, row as u32, beats);
                    }
                }
                before
            },
        );
        let is_high = |(row, before): (usize, Option<u32>)| {
            is_valid(row).then(|| before.is_none_or(|before| beats(row as u32, before)))
        };
        Ok((*by..).zip(before).map(is_high).collect())
    }
}

/// The best record of a run, followed by those that become the best once it has left: the places of
/// the records, and their numbers or rows.
struct Heads<V>(VecDeque<(usize, V)>);

/// The place of the best record of earlier pieces.
const BEFORE: usize = usize::MAX;

impl<V: Copy> Heads<V> {
    /// Those before the first record: none, or the best of earlier pieces.
    fn after(best: Option<V>) -> Heads<V> {
        Heads(best.into_iter().map(|best| (BEFORE, best)).collect())
    }

    /// Removes the records that do not count at a date.
    fn leave(&mut self, stop: &Stop) {
        let has_left = |place| match place {
            BEFORE => !stop.continues,
            place => place < stop.from,
        };
        while self.0.front().is_some_and(|&(place, _)| has_left(place)) {
            self.0.pop_front();
        }
    }

    #[inline]
    fn add(&mut self, place: usize, value: V, beats: impl Fn(V, V) -> bool) {
        // A record that is not better than the new one can never be the best again, because it
        // leaves first. Of two equal records the later one is kept, because it leaves later.
        while self.0.back().is_some_and(|&(_, last)| !beats(last, value)) {
            self.0.pop_back();
        }
        self.0.push_back((place, value));
    }

    fn best(&self) -> Option<V> {
        self.0.front().map(|&(_, best)| best)
    }
}
