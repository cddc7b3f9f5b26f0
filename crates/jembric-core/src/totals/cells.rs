//! [`Groups`]: what rows are grouped by. [`Cells`]: the figures of each cell, found by its
//! [`Spot`].
//!
//! If a slot for every period, part, entity and column fits into memory, the cell of a row is
//! computed; otherwise the cells with a record are numbered.

use super::{
    Each, RequestedFigure, TotalsPlan,
    figures::{FigureSource, Figures, Place, Places, records_of},
};
use crate::{
    axis::Axis,
    calendar::{Day, Grain, MICROS_PER_DAY},
    context::Context,
    dates::Dates,
    entities::{Entities, GrowingKeys, Missing},
    error::{Error, Result},
    gather::NONE,
    ordering::entities_in_order,
    parallel::{self, STRETCH},
    shape::Named,
    table::Table,
};
use arrow_array::{ArrayRef, Int64Array, UInt32Array};
use arrow_buffer::BooleanBuffer;
use borsh::{BorshDeserialize, BorshSerialize};
use rayon::prelude::*;
use std::{cmp::Ordering, ops::Range, sync::Arc};

/// The most slots for computed cells, whatever the number of rows.
const MOST_SLOTS: u64 = 1 << 27;
const FEW_SLOTS: u64 = 1 << 16;

/// The coordinates of a cell: its period, part, entity and column, each by its place in order.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, BorshSerialize, BorshDeserialize,
)]
pub(super) struct Spot {
    pub(super) period: i32,
    pub(super) part: u32,
    pub(super) entity: u32,
    pub(super) side: u32,
}

/// The values of some columns, as places in their order.
pub(super) struct Keys {
    /// One row for each, in order.
    pub(super) values: Table,
    /// The number of each row; empty if all rows are one.
    ids: Vec<u32>,
    /// The place of each number; empty if places are numbers.
    places: Vec<u32>,
    pub(super) count: usize,
}

impl Keys {
    /// The keys of a table, and of the entities listed beside it.
    pub(super) fn from_table(table: &Table, per: &[Named], listed: Option<&Table>) -> Result<Keys> {
        Keys::of_values(listed.map_or_else(|| table.select(per), |listed| Ok(listed.clone()))?)
    }

    /// The distinct keys in a table of key columns; without columns all rows are one.
    pub(super) fn of_values(values: Table) -> Result<Keys> {
        let names = values.all_named();
        if names.is_empty() {
            return Ok(Keys { values, ids: Vec::new(), places: Vec::new(), count: 1 });
        }
        let entities = Entities::of_columns(values.columns(), values.rows(), Missing::IsAKey)?;
        let order = entities_in_order(&values, &names, &entities)?;
        let firsts = entities.first_rows();
        let in_order = UInt32Array::from_iter_values(order.iter().map(|&entity| firsts[entity]));
        // Often the numbers are in the order of the keys.
        let mut places = Vec::new();
        if !order.is_sorted() {
            places = vec![0; order.len()];
            order.iter().zip(0..).for_each(|(&entity, place)| places[entity] = place);
        }
        Ok(Keys {
            values: values.take(&in_order)?.without_others_texts()?,
            count: order.len(),
            ids: entities.into_ids(),
            places,
        })
    }

    /// Distinct keys that are in order.
    pub(super) fn in_order(values: Table) -> Keys {
        let count = if values.columns().is_empty() { 1 } else { values.rows() };
        Keys { values, ids: Vec::new(), places: Vec::new(), count }
    }

    /// Keys that are numbered for several tables in one, and have no order yet.
    fn growing(values: &Table, keys: &mut GrowingKeys) -> Result<Keys> {
        if values.columns().is_empty() {
            return Keys::of_values(values.clone());
        }
        let ids = keys.number(values)?.into_ids();
        Ok(Keys { values: values.emptied(), ids, places: Vec::new(), count: keys.count() })
    }

    /// Merges both sets of keys, and returns the new place of each key of either.
    pub(super) fn merged(one: &Keys, other: &Keys) -> Result<(Keys, Vec<u32>, Vec<u32>)> {
        let both =
            Table::joined(&one.values.clone().anonymous(), &[other.values.clone().anonymous()])?;
        let keys = Keys::of_values(both)?;
        let place = |row: usize| keys.of_row(row);
        let of_one = (0..one.count).map(place).collect();
        let of_other = (one.count..one.count + other.count).map(place).collect();
        Ok((keys, of_one, of_other))
    }

    /// The place of each row.
    pub(super) fn of_rows(&self) -> Vec<u32> {
        (0..self.ids.len()).map(|row| self.of_row(row)).collect()
    }

    /// Forgets the key of each row.
    pub(super) fn forget_rows(&mut self) {
        (self.ids, self.places) = (Vec::new(), Vec::new());
    }

    /// Makes the place of each row from this one on the next digit of a number.
    fn append_to(&self, slots: &mut [u32], first: usize) {
        let Some(ids) = self.ids.get(first..first + slots.len()) else { return };
        let both = slots.iter_mut().zip(ids);
        let append = |(slot, place): (&mut u32, u32)| {
            *slot = slot.wrapping_mul(self.count as u32).wrapping_add(place);
        };
        if self.places.is_empty() {
            both.map(|(slot, &id)| (slot, id)).for_each(append)
        } else {
            both.map(|(slot, &id)| (slot, self.places[id as usize])).for_each(append)
        }
    }

    #[inline]
    fn of_row(&self, row: usize) -> u32 {
        match (self.ids.is_empty(), self.places.is_empty()) {
            (true, _) => 0,
            (false, true) => self.ids[row],
            (false, false) => self.places[self.ids[row] as usize],
        }
    }
}

/// What rows are grouped by, apart from their dates.
pub(super) struct Groups {
    pub(super) entities: Keys,
    pub(super) sides: Keys,
    pub(super) parts: u32,
}

impl Groups {
    /// The groups of a table, in order.
    pub(super) fn from_table(totals: &TotalsPlan, table: &Table) -> Result<Groups> {
        let listed = totals.entities.as_ref().map(|list| list.complete().after(table, &totals.per));
        Ok(Groups {
            entities: if !totals.only_last_row {
                Keys::from_table(table, &totals.per, listed.transpose()?.as_ref())?
            } else {
                Keys::from_table(table, &[], None)?
            },
            sides: Keys::from_table(table, &totals.side, totals.sides_of_all(table)?.as_ref())?,
            parts: part_count(totals.each),
        })
    }

    /// The groups of a batch, numbered as in the batches before.
    pub(super) fn of_batch(
        totals: &TotalsPlan,
        table: &Table,
        (entities, sides): (&mut GrowingKeys, &mut GrowingKeys),
    ) -> Result<Groups> {
        let per = if totals.only_last_row { &[][..] } else { &totals.per };
        Ok(Groups {
            entities: Keys::growing(&table.select(per)?, entities)?,
            sides: Keys::growing(&table.select(&totals.side)?, sides)?,
            parts: part_count(totals.each),
        })
    }
}

/// The dates of one column, as periods and parts.
pub(super) struct PeriodsOfRows {
    pub(super) axis: Option<Axis>,
    numbers: Vec<i32>,
    parts: Vec<u32>,
}

impl PeriodsOfRows {
    pub(super) fn new(
        totals: &TotalsPlan,
        column: &str,
        dates: &Dates,
        context: &Context,
    ) -> Result<PeriodsOfRows> {
        let axis =
            totals.periods.map(|periods| Axis::for_dates(column, dates, periods, &context.zone));
        let axis = axis.transpose()?;
        let parts =
            totals.each.map(|each| parts(totals, each, column, dates, context)).transpose()?;
        if totals.only_last_row {
            // All periods are one.
            return Ok(PeriodsOfRows { axis, ..PeriodsOfRows::without_dates() });
        }
        let numbers = axis.as_ref().map(|axis| axis.numbers(dates)).unwrap_or_default();
        Ok(PeriodsOfRows { axis, numbers, parts: parts.unwrap_or_default() })
    }

    /// The rows without a date in this column.
    pub(super) fn without_dates() -> PeriodsOfRows {
        PeriodsOfRows { axis: None, numbers: Vec::new(), parts: Vec::new() }
    }

    #[inline]
    fn period(&self, row: usize) -> i32 {
        self.numbers.get(row).copied().unwrap_or(0)
    }

    #[inline]
    fn part(&self, row: usize) -> u32 {
        self.parts.get(row).copied().unwrap_or(0)
    }

    /// The periods of the rows of a mask, in any order.
    pub(super) fn distinct(&self, used: &BooleanBuffer) -> Vec<i32> {
        let Some((first, last)) = self.ends(used) else { return Vec::new() };
        let periods = (i64::from(last) - i64::from(first) + 1) as usize;
        let of_rows = || used.set_indices().map(|row| self.period(row));
        // Dates far apart would make the array much longer than the list of rows.
        if periods > 8 * used.len() {
            let mut distinct: Vec<i32> = of_rows().collect();
            distinct.sort_unstable();
            distinct.dedup();
            return distinct;
        }
        let mut seen = vec![false; periods];
        of_rows().for_each(|period| seen[(period - first) as usize] = true);
        (first..=last).zip(seen).filter_map(|(period, seen)| seen.then_some(period)).collect()
    }

    /// The first and last period of the rows of a mask; none if there is no row.
    pub(super) fn ends(&self, used: &BooleanBuffer) -> Option<(i32, i32)> {
        if self.numbers.is_empty() {
            return (used.count_set_bits() > 0).then_some((0, 0));
        }
        // If all rows count, the mask is not read.
        if used.count_set_bits() == used.len() {
            parallel::ends(self.numbers.len(), |row| Some(self.numbers[row]))
        } else {
            parallel::ends(self.numbers.len(), |row| used.value(row).then(|| self.numbers[row]))
        }
    }
}

/// The number of parts.
pub(super) fn part_count(each: Option<Each>) -> u32 {
    match each {
        None => 1,
        Some(Each::Weekday) => 7,
        Some(Each::MonthOfYear) => 12,
        Some(Each::DayOfMonth) => 31,
        Some(Each::HourOfDay) => 24,
    }
}

/// The part of each date, from the first part.
fn parts(
    totals: &TotalsPlan,
    each: Each,
    column: &str,
    dates: &Dates,
    context: &Context,
) -> Result<Vec<u32>> {
    let grain = dates.periods().grain();
    let fits = match (each, dates) {
        (Each::HourOfDay, Dates::Days(..)) => false,
        (Each::MonthOfYear, _) => Grain::Month.holds(grain),
        _ => Grain::Day.holds(grain),
    };
    if !fits {
        let requested = format!("the {}", each.column().replace('_', " "));
        return Err(Error::TooFine { column: column.to_owned(), grain, requested });
    }
    let (first, count) = (totals.first_part, part_count(Some(each)));
    let of_days = |part: &(dyn Fn(Day) -> u32 + Sync)| {
        let days = dates.day_numbers(&context.zone);
        parallel::map(&days, |day| (part(Day::clamped(day)) + count - first) % count)
    };
    Ok(match (each, dates) {
        (Each::Weekday, _) => of_days(&|day| day.weekday().number() - 1),
        (Each::MonthOfYear, _) => of_days(&|day| day.ymd().1 - 1),
        (Each::DayOfMonth, _) => of_days(&|day| day.ymd().2 - 1),
        (Each::HourOfDay, Dates::Moments(moments)) => {
            let hour =
                |reading: i64| (reading.rem_euclid(MICROS_PER_DAY) / (MICROS_PER_DAY / 24)) as u32;
            if dates.are_instants() {
                context.zone.readings(moments.values()).map(hour).collect()
            } else {
                parallel::map(moments.values(), hour)
            }
        }
        (Each::HourOfDay, _) => Vec::new(),
    })
}

/// The figures of each cell.
pub(super) struct TotalCells {
    /// In order.
    pub(super) spots: Vec<Spot>,
    pub(super) figures: Vec<Figures>,
}

impl TotalCells {
    /// Computes the figures over the rows of a mask.
    pub(super) fn compute(
        groups: &Groups,
        timed: &PeriodsOfRows,
        used: &BooleanBuffer,
        sources: &[FigureSource],
    ) -> Result<TotalCells> {
        // Without a row there is no period, and so no slot.
        let (first, last) = timed.ends(used).unwrap_or((0, -1));
        let periods = (i64::from(last) - i64::from(first) + 1) as u64;
        let (entities, sides) = (groups.entities.count as u64, groups.sides.count as u64);
        let sizes = [periods, groups.parts.into(), entities, sides];
        // The number of slots may be far greater than that of rows, for example with many entities
        // in few periods each. Up to four slots for each row, or a few million, the array is
        // cheaper than numbering the cells.
        let slots = sizes.into_iter().try_fold(1_u64, |slots, size| slots.checked_mul(size));
        let most = MOST_SLOTS.min(FEW_SLOTS.max(4 * used.len() as u64));
        match slots {
            Some(slots) if slots <= most => {
                Ok(TotalCells::by_slots(groups, timed, used, sources, first, slots as usize))
            }
            _ => TotalCells::by_numbers(groups, timed, used, sources),
        }
    }

    /// Computes the figures in slots, one for each period, part, entity and side, from the first
    /// period on. These are the digits of the number of a slot (mixed radix), so slots are in the
    /// order of the result.
    fn by_slots(
        groups: &Groups,
        timed: &PeriodsOfRows,
        used: &BooleanBuffer,
        sources: &[FigureSource],
        first: i32,
        slots: usize,
    ) -> TotalCells {
        let rows = used.len();
        let all = used.count_set_bits() == rows;
        // The slot of each row is computed once, and used by every figure. Those of other rows have
        // no meaning until they are removed.
        let mut slot_of = vec![0; rows];
        parallel::fill(&mut slot_of, STRETCH, |start, slots| {
            let own = start..start + slots.len();
            if let Some(numbers) = timed.numbers.get(own.clone()) {
                let both = slots.iter_mut().zip(numbers);
                both.for_each(|(slot, &number)| *slot = number.wrapping_sub(first) as u32);
            }
            // Multiplications wrap for rows that are not used, whose periods may be far outside.
            if let Some(parts) = timed.parts.get(own.clone()) {
                let append = |(slot, &part): (&mut u32, &u32)| {
                    *slot = slot.wrapping_mul(groups.parts).wrapping_add(part);
                };
                slots.iter_mut().zip(parts).for_each(append);
            }
            groups.entities.append_to(slots, start);
            groups.sides.append_to(slots, start);
            if !all {
                let rows = slots.iter_mut().zip(own).filter(|(_, row)| !used.value(*row));
                rows.for_each(|(slot, _)| *slot = NONE);
            }
        });
        // The counts tell which slots have a record, and serve the figures that need them.
        let counts = records_of(&slot_of, slots);
        // Only slots with a record become cells. Read in order, they are sorted already.
        let with_record = |slots: Range<usize>| -> Vec<u32> {
            slots.filter(|&slot| counts[slot] > 0).map(|slot| slot as u32).collect()
        };
        let with_record = parallel::of_stretches(counts.len(), STRETCH, with_record).concat();
        let (entities, sides) = (groups.entities.count as u64, groups.sides.count as u64);
        let parts = u64::from(groups.parts);
        let spot = |&slot: &u32| {
            // Take the digits of the slot's number apart again.
            let (rest, side) = (u64::from(slot) / sides, u64::from(slot) % sides);
            let (rest, entity) = (rest / entities, rest % entities);
            Spot {
                period: first + (rest / parts) as i32,
                part: (rest % parts) as u32,
                entity: entity as u32,
                side: side as u32,
            }
        };
        let spots: Vec<Spot> = with_record.par_iter().map(spot).collect();
        // If every slot has a record, each slot is a cell, and nothing is chosen.
        let chosen = Some(&with_record[..]).filter(|chosen| chosen.len() < counts.len());
        let figures = sources.iter().map(|source| source.added_up(&slot_of, &counts, chosen));
        TotalCells { figures: figures.collect(), spots }
    }

    /// Numbers the combinations that occur, and computes the figures of each. The four coordinates
    /// are packed into two columns of 64 bits, which is one numbering less than four columns would
    /// need.
    fn by_numbers(
        groups: &Groups,
        timed: &PeriodsOfRows,
        used: &BooleanBuffer,
        sources: &[FigureSource],
    ) -> Result<TotalCells> {
        let rows = used.len();
        let all = used.count_set_bits() == rows;
        let pair = |one: &(dyn Fn(usize) -> (i64, u32) + Sync)| -> ArrayRef {
            let pairs = (0..rows).map(|row| {
                let (high, low) = one(row);
                (all || used.value(row)).then_some(high << 32 | i64::from(low))
            });
            Arc::new(pairs.collect::<Int64Array>())
        };
        // A row that is not used has no number, so it has no cell.
        let when = pair(&|row| (timed.period(row).into(), timed.part(row)));
        let who = pair(&|row| (groups.entities.of_row(row).into(), groups.sides.of_row(row)));
        let numbered = Entities::of_columns(&[when, who], rows, Missing::NoEntity)?;
        let spot = |&row: &u32| {
            let row = row as usize;
            Spot {
                period: timed.period(row),
                part: timed.part(row),
                entity: groups.entities.of_row(row),
                side: groups.sides.of_row(row),
            }
        };
        let mut spots: Vec<(Spot, usize)> =
            numbered.first_rows().iter().map(spot).zip(0..).collect();
        // The numbers are in the order in which cells were met. Sort the cells, and translate the
        // numbers.
        spots.par_sort_unstable();
        let mut places = vec![0; spots.len()];
        spots.iter().zip(0..).for_each(|((_, number), place)| places[*number] = place);
        let cell = |id: u32| if id == Entities::NONE { NONE } else { places[id as usize] };
        let cell_of = parallel::map(numbered.ids(), cell);
        let records = records_of(&cell_of, spots.len());
        let figures =
            sources.iter().map(|source| source.added_up(&cell_of, &records, None)).collect();
        Ok(TotalCells { spots: spots.into_iter().map(|(spot, _)| spot).collect(), figures })
    }

    /// Merges the cells of both; cells at the same spot become one.
    pub(super) fn merged(
        one: TotalCells,
        other: TotalCells,
        sources: &[FigureSource],
    ) -> TotalCells {
        let (these, those) = (&one.spots, &other.spots);
        let mut cell_of = vec![0_u32; these.len() + those.len()];
        let mut spots = Vec::with_capacity(these.len().max(those.len()));
        // Both are in order, so one pass over both finds the cells at the same spot.
        let (mut this, mut that) = (0, 0);
        while this < these.len() || that < those.len() {
            let first = match (these.get(this), those.get(that)) {
                (Some(one), Some(other)) => one.cmp(other),
                (Some(_), None) => Ordering::Less,
                (None, _) => Ordering::Greater,
            };
            let cell = spots.len() as u32;
            spots.push(if first.is_gt() { those[that] } else { these[this] });
            if first.is_le() {
                cell_of[this] = cell;
                this += 1;
            }
            if first.is_ge() {
                cell_of[these.len() + that] = cell;
                that += 1;
            }
        }
        let before = these.len() as u32;
        let figures = one.figures.into_iter().zip(other.figures).zip(sources);
        let figures = figures.map(|((one, other), source)| {
            source.put_together(&one.followed_by(other, before), &cell_of, spots.len())
        });
        TotalCells { figures: figures.collect(), spots }
    }

    /// The bytes that they take in memory.
    pub(super) fn bytes(&self) -> u64 {
        let figures: u64 = self.figures.iter().map(Figures::bytes).sum();
        size_of_val(&self.spots[..]) as u64 + figures
    }

    /// The cells, with one of their figures.
    pub(super) fn only(&self, figure: usize) -> TotalCells {
        TotalCells { spots: self.spots.clone(), figures: vec![self.figures[figure].clone()] }
    }

    /// The cells of longer periods: cells that move to the same spot become one.
    pub(super) fn put_together(
        &self,
        sources: &[FigureSource],
        to: impl Fn(Spot) -> Spot,
    ) -> TotalCells {
        // Spots that move in their order, as periods do to longer ones, need no sort.
        let mut moved: Vec<(Spot, u32)> =
            self.spots.iter().map(|&spot| to(spot)).zip(0..).collect();
        if !moved.is_sorted() {
            moved.par_sort_unstable();
        }
        let (mut spots, mut cell_of) = (Vec::new(), vec![0_u32; moved.len()]);
        for (spot, cell) in moved {
            if spots.last() != Some(&spot) {
                spots.push(spot);
            }
            cell_of[cell as usize] = spots.len() as u32 - 1;
        }
        let both = sources.iter().zip(&self.figures);
        let figures = both
            .map(|(source, figures)| source.put_together(figures, &cell_of, spots.len()))
            .collect();
        TotalCells { spots, figures }
    }

    /// The places of the figures of these spots.
    pub(super) fn places(&self, spots: &[Spot]) -> Places {
        // Usually the rows of a result are the cells themselves. Then no cell is searched for.
        if std::ptr::eq(spots, &self.spots[..]) || spots == self.spots {
            return Places::EachCell(spots.len());
        }
        let place =
            |spot: &Spot| self.spots.binary_search(spot).map_or(Place::NoRecord, Place::Cell);
        Places::Listed(spots.iter().map(place).collect())
    }
}

/// A requested figure, and what it is computed from.
pub(super) fn sources(requested: &[RequestedFigure], table: &Table) -> Result<Vec<FigureSource>> {
    requested.iter().map(|requested| FigureSource::new(requested, table)).collect()
}
