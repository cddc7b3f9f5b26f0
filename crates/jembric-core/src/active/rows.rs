//! Makes a row for each record and period, all at once or in batches.
//!
//! The number of rows of each record is known in advance, so any part of the result can be made on
//! its own: threads make their parts in parallel, and a long result is delivered batch by batch.

use super::ActivePlan;
use crate::{
    axis::Axis,
    calendar::{Day, Grain, Hours, Moment},
    context::Sink,
    error::{Error, Result, Smaller},
    gather::repeated,
    intervals::{EndDay, Intervals, RowStatus},
    kind::Type,
    parallel,
    room::{self, Room},
    shape::Named,
    table::Table,
};
use arrow_array::{
    Array, ArrayRef, Decimal64Array, Decimal128Array, Float64Array, Int64Array, UInt32Array,
    cast::AsArray,
    types::{Decimal64Type, Decimal128Type, Float64Type, Int64Type},
};
use arrow_schema::{DataType, Field};
use std::sync::Arc;

/// The rows of a batch, and of the part that a thread makes.
const BATCH: usize = 1 << 16;
/// Measures are shared to at least two decimal places.
const LEAST_PLACES: i8 = 2;

/// The type of a column's shares, if the type of the column is known.
pub(super) fn share_type(of: Option<Type>) -> Option<Type> {
    match of? {
        Type::Integer => Some(Type::Decimal { places: LEAST_PLACES }),
        Type::Decimal { places } => Some(Type::Decimal { places: places.max(LEAST_PLACES) }),
        other => Some(other),
    }
}

pub(super) fn share_name(named: &Named) -> String {
    if named.shown_as == named.column {
        format!("{}_share", named.column)
    } else {
        named.shown_as.clone()
    }
}

/// The rows of the result, counted in advance.
pub(super) struct Expansion<'a> {
    active: &'a ActivePlan,
    intervals: &'a Intervals,
    table: &'a Table,
    /// The rows of the table that are active.
    records: Vec<u32>,
    /// The number of result rows before each record's own; the last number is that of all rows.
    before: Vec<u64>,
    shares: Vec<(Named, SharedMeasure)>,
}

/// The values that are made for the rows of a part of the result.
struct Made {
    /// The number of each period.
    periods: Vec<i32>,
    /// The active ticks in each period, if it is longer than a day.
    active_ticks: Vec<i64>,
    /// The record of each row and its ticks before the period, if there are shares.
    records: Vec<u32>,
    ticks_before: Vec<i32>,
}

/// The same, without the periods, for the rows that a thread makes.
struct MadePart<'m> {
    active_ticks: &'m mut [i64],
    records: &'m mut [u32],
    ticks_before: &'m mut [i32],
}

impl<'a> Expansion<'a> {
    /// Counts the rows. Errors: more than the limit.
    pub(super) fn new(
        active: &'a ActivePlan,
        share: &[Named],
        intervals: &'a Intervals,
        table: &'a Table,
    ) -> Result<Expansion<'a>> {
        let records: Vec<u32> = (0..table.rows() as u32)
            .filter(|&row| intervals.statuses[row as usize] == RowStatus::Active)
            .collect();
        let mut before = Vec::with_capacity(records.len() + 1);
        let (mut all, mut widest) = (0_u64, (0_u64, 0_u32));
        let periods = active.periods;
        for &record in &records {
            before.push(all);
            let (first, last) = intervals.clipped(record as usize);
            let rows = match active.grain {
                Grain::Hour | Grain::Day => i64::from(last) - i64::from(first) + 1,
                _ => i64::from(
                    periods.number(Day::clamped(last)) - periods.number(Day::clamped(first)) + 1,
                ),
            } as u64;
            widest = widest.max((rows, u32::MAX - record));
            all += rows;
        }
        before.push(all);
        let shares = share
            .iter()
            .map(|named| (named.clone(), SharedMeasure::new(table, named.place)))
            .collect();
        let expansion = Expansion { active, intervals, table, records, before, shares };
        if all > active.most_rows {
            let row = (u32::MAX - widest.1) as usize;
            let widest = expansion.widest(row, widest.0);
            return Err(Error::TooManyRows {
                rows: all,
                most: active.most_rows,
                widest: Some(widest),
                advice: expansion.smaller(row),
            });
        }
        Ok(expansion)
    }

    /// How to make the result smaller. An end more than a century after the start may mean "no
    /// end".
    fn smaller(&self, row: usize) -> Smaller {
        const CENTURY: i64 = 36_525;
        let (first, last) = self.intervals.clipped(row);
        let ends_itself = self.intervals.range.is_none() && !self.intervals.is_closed(row);
        let is_long = i64::from(last) - i64::from(first) > CENTURY;
        if !is_long || !ends_itself || self.intervals.hours.is_some() {
            return Smaller::LongerGrainOrRange;
        }
        let excluded = i32::from(self.active.rules.end_day == EndDay::Exclusive);
        Smaller::NeverEnds(Day::clamped(last.saturating_add(excluded)))
    }

    fn widest(&self, row: usize, rows: u64) -> String {
        let place = self.table.place(row);
        let (first, last) = self.intervals.clipped(row);
        let shown = |tick: i32| match &self.intervals.hours {
            Some(hours) => Moment::from_micros(hours.start(tick))
                .map_or(String::new(), |moment| moment.to_string()),
            None => Day::clamped(tick).to_string(),
        };
        format!("{place} alone makes {rows}, from {} to {}", shown(first), shown(last))
    }

    /// The number of rows of the result.
    pub(super) fn rows(&self) -> u64 {
        self.before.last().copied().unwrap_or(0)
    }

    /// The whole result, made on all threads.
    pub(super) fn whole(&self) -> Result<Table> {
        self.batch(0, self.rows() as usize)
    }

    /// The result in batches. The returned table has the columns and no rows.
    pub(super) fn in_batches(&self, sink: &mut Sink<'_>) -> Result<Table> {
        let none = self.batch(0, 0)?;
        // An empty result still has its columns.
        if self.rows() == 0 {
            sink(&none).map_err(Error::Sink)?;
        }
        // Several batches are made in parallel and delivered in order.
        let at_once = 2 * rayon::current_num_threads() as u64 * BATCH as u64;
        let mut next = 0;
        while next < self.rows() {
            let until = (next + at_once).min(self.rows());
            let starts: Vec<u64> = (next..until).step_by(BATCH).collect();
            let make = |_, from: u64| self.batch(from, (until - from).min(BATCH as u64) as usize);
            for batch in parallel::of_parts(starts, make) {
                sink(&batch?).map_err(Error::Sink)?;
            }
            next = until;
        }
        Ok(none)
    }

    /// Rows of the result, from this one on.
    fn batch(&self, from: u64, rows: usize) -> Result<Table> {
        let if_shared = if self.shares.is_empty() { 0 } else { rows };
        let mut active_ticks = vec![0; if self.active.grain > Grain::Day { rows } else { 0 }];
        let (mut records, mut ticks_before) = (vec![0; if_shared], vec![0; if_shared]);
        let periods = {
            // Columns that are not made have no parts; an empty one stands for each.
            let mut active_ticks = active_ticks.chunks_mut(BATCH);
            let mut records = records.chunks_mut(BATCH);
            let mut ticks_before = ticks_before.chunks_mut(BATCH);
            let lengths = (0..rows).step_by(BATCH).map(|first| BATCH.min(rows - first));
            room::filled(lengths, |periods| {
                let parts = periods.iter_mut().map(|periods| {
                    let part = MadePart {
                        active_ticks: active_ticks.next().unwrap_or_default(),
                        records: records.next().unwrap_or_default(),
                        ticks_before: ticks_before.next().unwrap_or_default(),
                    };
                    (periods, part)
                });
                parallel::of_parts(parts, |n, (periods, part)| {
                    self.fill(from + (n * BATCH) as u64, periods, part);
                });
            })
        };
        self.table_of(from, Made { periods, active_ticks, records, ticks_before })
    }

    /// Makes rows, beginning with this one, until the room is full.
    fn fill(&self, from: u64, periods: &mut Room<'_, i32>, made: MadePart<'_>) {
        let MadePart { active_ticks: ticks, records, ticks_before } = made;
        let cut = self.active.periods;
        let simple = matches!(self.active.grain, Grain::Hour | Grain::Day);
        let mut at = self.before.partition_point(|&before| before <= from).saturating_sub(1);
        let (mut done, mut skipped) = (0, from - self.before.get(at).copied().unwrap_or(0));
        while done < periods.len() {
            let record = self.records[at];
            let left = (self.before[at + 1] - self.before[at] - skipped) as usize;
            let rows = left.min(periods.len() - done);
            let (first, last) = self.intervals.clipped(record as usize);
            let own_first = self.intervals.first[record as usize];
            let number =
                if simple { first } else { cut.number(Day::clamped(first)) } + skipped as i32;
            if let Some(records) = records.get_mut(done..done + rows) {
                records.fill(record);
            }
            periods.extend((number..).take(rows));
            if !simple {
                let mut period = cut.containing(Day::clamped(first)).plus(skipped as i32);
                for (n, ticks) in ticks[done..done + rows].iter_mut().enumerate() {
                    let from = period.first().number().max(first);
                    *ticks = i64::from(period.last().number().min(last) - from + 1);
                    if let Some(before) = ticks_before.get_mut(done + n) {
                        *before = from - own_first;
                    }
                    period = period.plus(1);
                }
            } else if !ticks_before.is_empty() {
                let before = first + skipped as i32 - own_first;
                for (n, to) in ticks_before[done..done + rows].iter_mut().enumerate() {
                    *to = before + n as i32;
                }
            }
            (done, skipped, at) = (done + rows, 0, at + 1);
        }
    }

    /// The columns of the records, for some rows of the result.
    fn columns_of(&self, from: u64, rows: usize) -> Result<Table> {
        let until = from + rows as u64;
        let first = self.before.partition_point(|&before| before <= from).saturating_sub(1);
        let last = self.before.partition_point(|&before| before < until).max(first);
        let starts: Vec<u32> = self.before[first..=last]
            .iter()
            .map(|&before| (before.clamp(from, until) - from) as u32)
            .collect();
        let records = &self.records[first..last];
        let table = match records {
            [] => self.table.slice(0, 0),
            // Rows that follow each other need no copy.
            &[first, .., last] if (last - first) as usize + 1 == records.len() => {
                self.table.slice(first as usize, records.len())
            }
            records => self.table.take(&UInt32Array::from(records.to_vec()))?,
        };
        repeated(&table, &starts)
    }

    fn table_of(&self, from: u64, made: Made) -> Result<Table> {
        let Made { records, periods, active_ticks, ticks_before } = made;
        let columns = self.columns_of(from, periods.len())?;
        let mut shares = Vec::new();
        for (named, measure) in &self.shares {
            let ticks = |row: usize| active_ticks.get(row).map_or(1, |&ticks| ticks as i32);
            let parts =
                records.iter().zip(&ticks_before).enumerate().map(|(row, (&record, &before))| {
                    let all = self.intervals.last[record as usize]
                        - self.intervals.first[record as usize]
                        + 1;
                    (record as usize, before, before + ticks(row), all)
                });
            shares.push((share_name(named), measure.shared(parts)?));
        }
        let period = self.period_column(periods);
        let mut answer = columns.with_field(period.0, period.1)?;
        if self.active.grain > Grain::Day {
            answer = answer.with_column("active_days", Arc::new(Int64Array::from(active_ticks)))?;
        }
        for (name, array) in shares {
            answer = answer.with_column(&name, array)?;
        }
        Ok(answer)
    }

    fn period_column(&self, numbers: Vec<i32>) -> (Field, ArrayRef) {
        let instants = self.table.dates_at(self.active.rules.start).are_instants();
        period_column(self.active, self.intervals.hours.clone(), instants, numbers)
    }
}

/// The column of periods, from their numbers.
pub(super) fn period_column(
    active: &ActivePlan,
    hours: Option<Hours>,
    instants: bool,
    numbers: Vec<i32>,
) -> (Field, ArrayRef) {
    Axis::cut(active.periods, hours, instants).column(&active.period_name, numbers)
}

/// A measure that is split over periods.
enum SharedMeasure {
    /// Whole numbers or decimals, in units of their last decimal place.
    Exact {
        units: Vec<Option<i128>>,
        places: i8,
    },
    Float(Float64Array),
    Nothing,
}

impl SharedMeasure {
    fn new(table: &Table, place: usize) -> SharedMeasure {
        let array = table.at(place);
        let has = if let Type::Decimal { places } = table.kind(place) { places } else { 0 };
        let places = has.max(LEAST_PLACES);
        let by = 10_i128.pow((places - has) as u32);
        let units: Vec<Option<i128>> = match array.data_type() {
            DataType::Float64 => {
                return SharedMeasure::Float(array.as_primitive::<Float64Type>().clone());
            }
            DataType::Int64 => {
                array.as_primitive::<Int64Type>().iter().map(|n| n.map(i128::from)).collect()
            }
            DataType::Decimal64(..) => {
                array.as_primitive::<Decimal64Type>().iter().map(|n| n.map(i128::from)).collect()
            }
            DataType::Decimal128(..) => array.as_primitive::<Decimal128Type>().iter().collect(),
            _ => return SharedMeasure::Nothing,
        };
        let scaled =
            units.into_iter().map(|units| units.map(|units| units.saturating_mul(by))).collect();
        SharedMeasure::Exact { units: scaled, places }
    }

    /// The share of each part of a record. A share is the difference of two rounded parts of the
    /// whole, so the shares of a record add up to its measure.
    fn shared(&self, parts: impl Iterator<Item = (usize, i32, i32, i32)>) -> Result<ArrayRef> {
        Ok(match self {
            SharedMeasure::Nothing => Arc::new(arrow_array::NullArray::new(parts.count())),
            SharedMeasure::Float(floats) => {
                let share = |(record, before, until, all): (usize, i32, i32, i32)| {
                    floats
                        .is_valid(record)
                        .then(|| float_share(floats.value(record), before, until, all))
                };
                Arc::new(parts.map(share).collect::<Float64Array>())
            }
            SharedMeasure::Exact { units, places } => {
                let share = |(record, before, until, all): (usize, i32, i32, i32)| {
                    let part = |ticks: i32| part_of(units[record]?, ticks, all);
                    Some(part(until)? - part(before)?)
                };
                let shares: Vec<Option<i128>> = parts.map(share).collect();
                let narrow = |units: &i128| units.unsigned_abs() < 1_000_000_000_000_000_000;
                if shares.iter().flatten().all(narrow) {
                    let shares = shares.into_iter().map(|units| units.map(|units| units as i64));
                    Arc::new(
                        shares.collect::<Decimal64Array>().with_precision_and_scale(18, *places)?,
                    )
                } else {
                    let shares = shares.into_iter().collect::<Decimal128Array>();
                    Arc::new(shares.with_precision_and_scale(38, *places)?)
                }
            }
        })
    }
}

/// The part of a whole that belongs to some of its ticks, with halves rounded up; none if it is too
/// large.
fn part_of(units: i128, ticks: i32, all: i32) -> Option<i128> {
    let (ticks, all) = (i128::from(ticks), i128::from(all));
    Some((units.checked_mul(2 * ticks)?.checked_add(all)?).div_euclid(2 * all))
}

/// The same for a float: its digits are shared as a whole number, so the shares add up without
/// rounding.
fn float_share(value: f64, before: i32, until: i32, all: i32) -> f64 {
    if value == 0.0 {
        // Without a sign, because −0 is 0.
        return 0.0;
    }
    if !value.is_finite() {
        return value;
    }
    // The value is a whole number of units of its last binary place.
    let exponent = ((value.to_bits() >> 52 & 0x7ff) as i32).max(1) - 1_075;
    let units = (value / f64::exp2(exponent.into())) as i128;
    let part = |ticks| part_of(units, ticks, all).unwrap_or(0);
    (part(until) - part(before)) as f64 * f64::exp2(exponent.into())
}
