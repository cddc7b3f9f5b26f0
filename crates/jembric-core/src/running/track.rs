//! [`Track`]: all records sorted by entity and date, and the figures at each date.

use super::{Figure, RunningColumn, RunningPlan};
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
struct Stop {
    records: Range<usize>,
    from: usize,
}

/// How rows are sorted, and how results return to the order of the rows.
struct Replay {
    /// The date and row of each record.
    records: Vec<(i64, u32)>,
    /// The place of each row among them.
    places: Vec<u32>,
}

/// All records, sorted by entity and date.
pub(super) struct Track<'a> {
    dates: &'a Dates,
    /// The first record of each entity; the last number is that of all records.
    bounds: Vec<u32>,
    /// None if the rows are sorted already.
    replay: Option<Replay>,
    /// The day of each row, if days are needed.
    pub(super) days: Option<Vec<i32>>,
    periods: Option<Periods>,
    trailing: Option<Span>,
    row_by_row: bool,
}

impl<'a> Track<'a> {
    pub(super) fn of(
        running: &RunningPlan,
        entities: &Entities,
        dates: &'a Dates,
        context: &Context,
    ) -> Result<Track<'a>> {
        let (periods, grain) = (running.periods, dates.periods().grain());
        if let Some(span) = running.trailing.filter(|span| !span.fits(grain)) {
            let (column, asked) = (running.date_name.clone(), span.to_string());
            return Err(Error::TooFine { column, grain, asked });
        }
        if let Some(periods) = periods {
            check_grain(&running.date_name, dates, periods.grain())?;
        }
        let cuts_days = periods.is_some() || running.trailing.is_some();
        let rows = entities.ids().len();
        // If the rows are sorted by entity and date already, they are used in place. Otherwise sort
        // them once, and remember the place of each row to return the results in the order of the
        // rows.
        let (bounds, replay) = match in_order(entities.ids(), entities.count(), dates) {
            Some(bounds) => (bounds, None),
            None => {
                let dealt = Timeline::dated(entities, dates, &BooleanBuffer::new_set(rows));
                let mut places = vec![0_u32; rows];
                dealt
                    .values
                    .iter()
                    .zip(0..)
                    .for_each(|(&(_, row), place)| places[row as usize] = place);
                (dealt.starts, Some(Replay { records: dealt.values, places }))
            }
        };
        Ok(Track {
            dates,
            bounds,
            replay,
            days: cuts_days.then(|| dates.day_numbers(&context.zone).into_owned()),
            periods,
            trailing: running.trailing,
            row_by_row: running.row_by_row,
        })
    }

    /// The row of a record.
    #[inline]
    fn row(&self, place: usize) -> usize {
        self.replay.as_ref().map_or(place, |replay| replay.records[place].1 as usize)
    }

    #[inline]
    fn date(&self, place: usize) -> i64 {
        self.replay
            .as_ref()
            .map_or_else(|| self.dates.sortable(place), |replay| replay.records[place].0)
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
        while start < records.end {
            let row = self.row(start);
            let mut end = start + 1;
            // Records with the same date are one stop, so that they share a value whatever their
            // order.
            if !self.row_by_row {
                let date = self.date(start);
                while end < records.end && self.date(end) == date {
                    end += 1;
                }
            }
            if let Some(days) = &self.days {
                let first = self.first_day(days[row]);
                // The record at `start` is on its own first day or after it, so the loop ends
                // there.
                while days[self.row(from)] < first {
                    from += 1;
                }
            }
            at_stop(Stop { records: start..end, from });
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
        // Entities are independent, so threads process them in parallel. Each writes to its own
        // part of the result.
        let made = vec![T::default(); self.bounds.last().map_or(0, |&all| all as usize)];
        let mut made = GroupedByEntity { starts: self.bounds.clone(), values: made };
        made.each(|entity, own| {
            let base = self.bounds[entity] as usize;
            let mut state = begin(base);
            self.stops(base..base + own.len(), |stop| {
                let value = make(&mut state, &stop);
                own[stop.records.start - base..stop.records.end - base].fill(value);
            });
        });
        let made = made.values;
        match &self.replay {
            None => made,
            Some(replay) => parallel::map(&replay.places, |place| made[place as usize]),
        }
    }

    /// A requested column. Sums begin with the opening balance.
    pub(super) fn asked(
        &self,
        opening: Option<Decimal>,
        table: &Table,
        asked: &RunningColumn,
    ) -> Result<ArrayRef> {
        let array = table.at(asked.place);
        if matches!(asked.figure, Figure::Max | Figure::Min) {
            return self.extreme(array, asked.figure == Figure::Max);
        }
        let (measure, opening) = match opening.filter(|_| asked.figure == Figure::Sum) {
            Some(number) => match Measure::opened(table, asked.place, number)? {
                Some(opened) => opened,
                None => {
                    return refuse(
                        "opening",
                        number.to_string(),
                        "a number that fits the column's sums",
                    );
                }
            },
            None => (Measure::of(table, asked.place)?, Vec::new()),
        };
        if asked.figure == Figure::Sum {
            let of_layer = |layer| {
                let opening = opening.get(layer).copied().unwrap_or(0);
                self.sums(&measure, layer, opening, |sum, _| sum)
            };
            return measure.sums(&(0..measure.layers()).map(of_layer).collect());
        }
        if measure.layers() == 1 {
            // One layer holds the whole sum, so the mean can be computed at each stop.
            let means = self.sums(&measure, 0, 0, |sum, count| measure.mean(&[sum], count));
            return Ok(Arc::new(means.into_iter().collect::<Float64Array>()));
        }
        // Floats of very different size have their sum in several layers, which are combined only
        // at the end.
        let sums: Sums = (0..measure.layers())
            .map(|layer| self.sums(&measure, layer, 0, |sum, _| sum))
            .collect();
        let counts = self.sums(&measure, 0, 0, |_, count| count);
        let mean = |(row, count)| measure.mean(&of_cell(&sums, row), count);
        Ok(Arc::new(counts.into_iter().enumerate().map(mean).collect::<Float64Array>()))
    }

    /// For each row the figure made from the sum of its run in one layer, and from the number of
    /// values in it.
    fn sums<T: Copy + Default + Send + Sync>(
        &self,
        measure: &Measure,
        layer: usize,
        opening: i128,
        make: impl Fn(i128, u64) -> T + Sync,
    ) -> Vec<T> {
        self.at_stops(
            |start| (opening, 0_u64, start, start),
            |(sum, count, from, to), stop| {
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

    /// The maximum or minimum of each row's run.
    fn extreme(&self, array: &ArrayRef, greatest: bool) -> Result<ArrayRef> {
        let order = SortKeys::of(array)?;
        // The common case, a maximum so far without missing values, needs only one number for each
        // entity.
        let plain =
            self.trailing.is_none() && self.periods.is_none() && array.logical_null_count() == 0;
        if let (true, SortKeys::Numbers(numbers)) = (plain, &order) {
            // Nothing leaves the run and nothing is missing, so the best value so far is enough.
            let best = self.at_stops(
                |start| numbers[self.row(start)],
                |best, stop| {
                    for place in stop.records.clone() {
                        let number = numbers[self.row(place)];
                        *best = if greatest { number.max(*best) } else { number.min(*best) };
                    }
                    *best
                },
            );
            return SortKeys::column(best, array.data_type());
        }
        let valid = array.logical_nulls();
        let is_valid = |row: usize| valid.as_ref().is_none_or(|valid| valid.is_valid(row));
        let beats = |one: usize, other: usize| {
            let (one, other) = (order.of_row(one), order.of_row(other));
            if greatest { one > other } else { one < other }
        };
        let best = self.at_stops(
            |_| Heads::default(),
            |heads, stop| {
                heads.leave(stop.from);
                for place in stop.records.clone() {
                    let row = self.row(place);
                    if is_valid(row) {
                        heads.add(place, row, &beats);
                    }
                }
                heads.best()
            },
        );
        Ok(take(array, &best.into_iter().collect::<UInt32Array>(), None)?)
    }

    pub(super) fn counts(&self) -> ArrayRef {
        let counts = self.at_stops(|_| (), |(), stop| (stop.records.end - stop.from) as i64);
        Arc::new(Int64Array::from(counts))
    }

    /// Whether a value exceeds those of every earlier date of its run; missing if the value is.
    pub(super) fn highs(&self, array: &ArrayRef) -> Result<BooleanArray> {
        let order = SortKeys::of(array)?;
        let valid = array.logical_nulls();
        let is_valid = |row: usize| valid.as_ref().is_none_or(|valid| valid.is_valid(row));
        let beats = |one: usize, other: usize| order.of_row(one) > order.of_row(other);
        // The best value before each date is that of the run up to the previous date, as far as it
        // still counts.
        let before = self.at_stops(
            |_| Heads::default(),
            |heads, stop| {
                heads.leave(stop.from);
                let before = heads.best();
                for place in stop.records.clone() {
                    let row = self.row(place);
                    if is_valid(row) {
                        heads.add(place, row, &beats);
                    }
                }
                before
            },
        );
        let is_high = |(row, before): (usize, Option<u32>)| {
            is_valid(row).then(|| before.is_none_or(|before| beats(row, before as usize)))
        };
        Ok((0..).zip(before).map(is_high).collect())
    }
}

/// The best record of a run, followed by those that become the best once it has left.
#[derive(Default)]
struct Heads(VecDeque<(usize, u32)>);

impl Heads {
    /// Removes records before a place.
    fn leave(&mut self, from: usize) {
        while self.0.front().is_some_and(|&(place, _)| place < from) {
            self.0.pop_front();
        }
    }

    fn add(&mut self, place: usize, row: usize, beats: &impl Fn(usize, usize) -> bool) {
        // A record that is not better than the new one can never be the best again, because it
        // leaves first. Of two equal records the later one is kept, because it leaves later.
        while self.0.back().is_some_and(|&(_, last)| !beats(last as usize, row)) {
            self.0.pop_back();
        }
        self.0.push_back((place, row as u32));
    }

    fn best(&self) -> Option<u32> {
        self.0.front().map(|&(_, row)| row)
    }
}
