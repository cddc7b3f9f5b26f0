//! [`BestSoFar`]: the state of a fold that looks for one record of each entity.
//!
//! It knows the best date of each entity. A row of a batch with a worse date is dropped at once. A
//! row whose date is superseded by a later batch is dropped when the rows are compacted. Each row
//! is kept with the number of its entity, so compaction does not number rows again.
//!
//! A table in memory comes as a single batch, for which `best` is faster: it takes the best record
//! of each entity in one pass on all threads, and copies rows only once. So the first batch waits
//! as it is, and is divided only when another one comes. The test
//! `any_division_into_batches_and_order_of_merging_give_the_same_bytes` (`plan/tests.rs`) holds
//! both ways equal, and `plan/tests/laws.rs` on all laws.

use super::{best::except, record::RecordPlan};
use crate::{
    context::Context,
    dates::Dates,
    entities::{GrowingEntities, Missing},
    error::Result,
    ledger::{Outcome, RowMasks},
    packed::{packed, unpacked},
    parallel,
    plan::{DiscardedRows, NumberedRows, Numbers, Selection, State},
    table::Table,
};
use arrow_array::UInt32Array;
use arrow_buffer::BooleanBuffer;
use std::{any::Any, sync::Arc};

/// The rows that are kept before any are compacted.
const FEW_ROWS: usize = 1 << 16;

pub(super) struct BestSoFar {
    plan: Arc<RecordPlan>,
    context: Context,
    /// The only batch so far. Its rows are divided only when another one comes.
    only: NumberedRows,
    entities: GrowingEntities,
    /// The best date of each entity; the greater number is the better date.
    best: Vec<i64>,
    kept: Vec<Candidates>,
    /// The rows that are kept, and those that were left when they were compacted.
    rows: usize,
    compacted: usize,
    gone: DiscardedRows,
}

/// Rows that had the best date of their entities when they came.
struct Candidates {
    table: Table,
    numbers: Numbers,
    entities: Vec<u32>,
    /// The bytes of the table.
    bytes: u64,
}

impl Candidates {
    fn new(table: Table, numbers: Numbers, entities: Vec<u32>) -> Candidates {
        Candidates { bytes: table.bytes(), table, numbers, entities }
    }

    /// Joins rows, in any order.
    fn joined(mut several: Vec<Candidates>) -> Result<Option<Candidates>> {
        // A table without rows is needed only if there is no other.
        let rows: usize = several.iter().map(|kept| kept.entities.len()).sum();
        several.retain(|kept| rows == 0 || !kept.entities.is_empty());
        let mut others = several.into_iter();
        let Some(mut all) = others.next() else { return Ok(None) };
        let mut tables = Vec::new();
        for kept in others {
            all.numbers.extend(kept.numbers);
            all.entities.extend(kept.entities);
            all.bytes += kept.bytes;
            tables.push(kept.table);
        }
        all.table = Table::joined(&all.table, &tables)?;
        Ok(Some(all))
    }
}

impl BestSoFar {
    pub(super) fn begin(plan: Arc<RecordPlan>, context: &Context) -> Box<dyn State> {
        Box::new(BestSoFar {
            plan,
            context: context.clone(),
            only: NumberedRows::default(),
            entities: GrowingEntities::new(Missing::NoEntity),
            best: Vec::new(),
            kept: Vec::new(),
            rows: 0,
            compacted: 0,
            gone: DiscardedRows::default(),
        })
    }

    /// Divides the rows of the only batch, because another one comes.
    fn begin_several(&mut self) -> Result<()> {
        match self.only.take()? {
            Some((table, numbers)) => self.add(table, numbers),
            None => Ok(()),
        }
    }

    /// Adds rows, and drops those whose date is not the best so far.
    fn add(&mut self, table: Table, numbers: Numbers) -> Result<()> {
        // Entities keep the numbers that they had in earlier batches, so the best dates are in an
        // array and not in a map.
        let entities = self.entities.number(&table.columns_at(&self.plan.per), table.rows())?;
        self.best.resize(self.best.len().max(entities.count()), i64::MIN);
        let rows = self.plan.rows_of(&table, entities, &self.context)?;
        let ids = rows.entities.ids();
        let (dates, earliest) = (&rows.dates, self.plan.earliest);
        let mut is_best = vec![false; ids.len()];
        // A row that is as good as the best one so far may tie with it. One that is better
        // supersedes rows of this batch before it, and of earlier batches: those are dropped when
        // the rows are compacted.
        for row in rows.considered.set_indices() {
            let (date, best) = (goodness(dates, row, earliest), &mut self.best[ids[row] as usize]);
            is_best[row] = date >= *best;
            *best = date.max(*best);
        }
        let kept = BooleanBuffer::from(is_best);
        let none = BooleanBuffer::new_unset(table.rows());
        let masks = self.plan.masks_of(&rows, kept, none);
        let entities = rows.entities.into_ids();
        let kept = self.without_gone(&masks, Candidates::new(table, numbers, entities))?;
        self.rows += kept.entities.len();
        self.kept.push(kept);
        // Compacting reads all rows that are kept. After three times as many as were left, each row
        // is read a constant number of times.
        if self.rows >= FEW_ROWS.max(3 * self.compacted) { self.compact() } else { Ok(()) }
    }

    /// The rows of a mask that are kept; the others are gone.
    fn without_gone(&mut self, masks: &RowMasks, rows: Candidates) -> Result<Candidates> {
        let Candidates { table, numbers, entities, .. } = &rows;
        self.gone.add(masks, (table, numbers), self.plan.accounting())?;
        if masks.kept.count_set_bits() == table.rows() {
            return Ok(rows);
        }
        let kept = UInt32Array::from_iter_values(masks.kept.set_indices().map(|row| row as u32));
        let of_rows = || kept.values().iter().map(|&row| row as usize);
        Ok(Candidates::new(
            table.take_with_origin(&kept)?.without_others_texts()?,
            Numbers::Listed(of_rows().map(|row| numbers.at(row)).collect()),
            of_rows().map(|row| entities[row]).collect(),
        ))
    }
}

/// The date of a row as a number that is greater the better it is.
#[inline]
fn goodness(dates: &Dates, row: usize, earliest: bool) -> i64 {
    // All bits are flipped for the earliest date, which reverses the order and cannot overflow as a
    // change of the sign can.
    dates.sortable(row) ^ -i64::from(earliest)
}

impl State for BestSoFar {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        if self.gone.tally.is_none() && !self.only.has_table() {
            self.only.add_batch(batch, first_row);
            return Ok(());
        }
        self.begin_several()?;
        self.add(batch.clone(), Numbers::of_batch(batch, first_row))
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        let Ok(mut other) = other.downcast::<BestSoFar>() else { return Ok(()) };
        self.begin_several()?;
        other.begin_several()?;
        // The other's superseded rows are dropped first, so that fewer are numbered here.
        other.compact()?;
        self.gone.merge(other.gone);
        other.kept.into_iter().try_for_each(|kept| self.add(kept.table, kept.numbers))
    }

    /// Drops the rows whose dates were superseded after they came.
    fn compact(&mut self) -> Result<()> {
        let earliest = self.plan.earliest;
        let mut left = Vec::new();
        for rows in std::mem::take(&mut self.kept) {
            let dates = rows.table.dates_at(self.plan.date);
            let best = &self.best;
            // A row is superseded if its entity has a better date by now.
            let is_best =
                |row: usize| goodness(&dates, row, earliest) == best[rows.entities[row] as usize];
            let kept = parallel::bits(rows.entities.len(), is_best);
            let superseded = except(&BooleanBuffer::new_set(kept.len()), &kept);
            let masks = RowMasks {
                kept,
                dropped: vec![(self.plan.superseded(), superseded)],
                set_aside: Vec::new(),
            };
            left.push(self.without_gone(&masks, rows)?);
        }
        self.kept.extend(Candidates::joined(left)?);
        self.rows = self.kept.iter().map(|kept| kept.entities.len()).sum();
        self.compacted = self.rows;
        Ok(())
    }

    fn bytes(&self) -> u64 {
        let kept = self
            .kept
            .iter()
            .map(|kept| kept.bytes + kept.numbers.bytes() + size_of_val(&kept.entities[..]) as u64);
        let best = size_of_val(&self.best[..]) as u64;
        let rows = self.only.bytes() + kept.sum::<u64>();
        rows + best + self.entities.bytes() + self.gone.bytes()
    }

    fn set_aside(&mut self) -> Option<&mut NumberedRows> {
        Some(&mut self.gone.set_aside)
    }

    fn packed(&mut self) -> Result<Vec<u8>> {
        self.begin_several()?;
        self.compact()?;
        let mut rows = NumberedRows::default();
        for kept in &mut self.kept {
            rows.add_numbered(&kept.table, std::mem::take(&mut kept.numbers));
        }
        packed(&(rows, &self.gone))
    }

    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        let (mut rows, gone): (NumberedRows, DiscardedRows) = unpacked(bytes)?;
        self.begin_several()?;
        self.gone.merge(gone);
        match rows.take()? {
            Some((table, numbers)) => self.add(table, numbers),
            None => Ok(()),
        }
    }

    fn finish(self: Box<Self>) -> Result<Outcome> {
        let mut state = *self;
        let mut rows = std::mem::take(&mut state.only);
        // Only one batch leaves nothing to compact, and is selected from as it is.
        if state.rows > state.compacted {
            state.compact()?;
        }
        for kept in &mut state.kept {
            rows.add_numbered(&kept.table, std::mem::take(&mut kept.numbers));
        }
        let table = match rows.in_order()? {
            Some(table) => table,
            None => Table::without_rows(state.plan.shape())?,
        };
        state.plan.select(&table, state.gone, &state.context)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}
