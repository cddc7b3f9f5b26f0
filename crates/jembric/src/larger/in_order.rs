//! Applies a plan to rows in order of their dates: sorts them in temporary files, and takes them
//! piece by piece.

use super::{
    Memory, bytes_of,
    collect::joined,
    merge::{MergeOrder, merge},
    parts::{Results, numbered, with_lines},
    run::{Run, RunWriter},
    step::{Larger, Take, both, write_all},
};
use crate::{
    Outcome, Table,
    error::{Error, Result},
};
use jembric_core::{Division, InPieces, ResultOrder};

/// Collects rows in sorted runs.
pub(super) struct Sorter<'a> {
    memory: &'a Memory,
    sort: Box<dyn FnMut(Table) -> Result<Table> + 'a>,
    pending: Vec<Table>,
    bytes: u64,
    runs: Vec<Run>,
}

impl<'a> Sorter<'a> {
    /// Rows that are sorted by a function.
    pub(super) fn by(
        memory: &'a Memory,
        sort: impl FnMut(Table) -> Result<Table> + 'a,
    ) -> Sorter<'a> {
        Sorter { memory, sort: Box::new(sort), pending: Vec::new(), bytes: 0, runs: Vec::new() }
    }

    pub(super) fn add(&mut self, batch: Table) -> Result<()> {
        self.bytes += bytes_of(&batch);
        self.pending.push(batch);
        if self.bytes >= self.memory.part() { self.write() } else { Ok(()) }
    }

    fn write(&mut self) -> Result<()> {
        let rows = joined(&std::mem::take(&mut self.pending))?;
        self.bytes = 0;
        let mut writer = RunWriter::new(self.memory);
        write_all(&mut writer, (self.sort)(rows)?, self.memory.frame())?;
        self.runs.push(writer.finish());
        Ok(())
    }

    pub(super) fn finish(mut self) -> Result<Vec<Run>> {
        if !self.pending.is_empty() {
            self.write()?;
        }
        Ok(self.runs)
    }
}

/// The rows in this order. Equal rows keep their order.
fn sorted(table: &Table, order: &MergeOrder) -> Result<Table> {
    Ok(table.take(&order.sorted(table)?)?.with_not_numbers(table.not_numbers()))
}

impl Larger<'_> {
    /// Sorts the rows by date, applies the plan piece by piece, and merges the results.
    pub(super) fn by_date(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let input = self.inputs[0];
        let plan = (self.prepare)(&self.numbered_shapes()?)?;
        let Some(Division::Dates(date, order)) = plan.division() else {
            return self.as_a_whole(take);
        };
        let by_date = MergeOrder::Columns(vec![(*date, false)]);
        let mut sorter = Sorter::by(self.memory, |rows| sorted(&rows, &by_date));
        let (mut overall, mut first_row) = (None, 0);
        self.each(input, &mut |batch| {
            overall = both(overall.take(), self.plan.survey(&batch)?)?;
            let rows = numbered(&batch, 0, first_row)?;
            first_row += batch.rows() as i64;
            sorter.add(rows)
        })?;
        let runs = sorter.finish()?;
        let plan = overall.map_or_else(|| plan.clone(), |overall| plan.for_parts(overall));
        let Some(in_order) = plan.in_order() else { return self.as_a_whole(take) };
        let bytes = runs.iter().map(Run::bytes).sum();
        let not_numbers = runs.iter().map(Run::not_numbers).sum();
        let results = Results::new(self, order.clone());
        let mut pieces = Pieces {
            larger: self,
            plan: in_order,
            order,
            results,
            waiting: Vec::new(),
            held: 0,
            tried: 0,
            bytes,
        };
        merge(runs, &by_date, self.memory, &mut |rows| pieces.add(rows))?;
        pieces.finish(not_numbers, take)
    }
}

/// Rows that come in order of their dates.
struct Pieces<'a> {
    larger: &'a Larger<'a>,
    plan: InPieces,
    order: &'a ResultOrder,
    results: Results<'a>,
    /// The rows that wait for those that belong with them, and their bytes.
    waiting: Vec<Table>,
    held: u64,
    /// The bytes of the rows that waited when they were found to be incomplete.
    tried: u64,
    /// The bytes of all rows.
    bytes: u64,
}

impl Pieces<'_> {
    fn add(&mut self, rows: Table) -> Result<()> {
        let part = self.larger.memory.part();
        self.held += bytes_of(&rows);
        self.waiting.push(rows);
        if self.held < part || self.held < self.tried + part / 4 {
            return Ok(());
        }
        let waiting = joined(&std::mem::take(&mut self.waiting))?;
        let complete = self.plan.complete(&waiting);
        let left = waiting.slice(complete, waiting.rows() - complete);
        self.tried = if complete == 0 { self.held } else { 0 };
        self.held = bytes_of(&left);
        self.waiting.push(left);
        match complete {
            0 => self.expect_room(self.tried),
            _ => self.take(waiting.slice(0, complete), false),
        }
    }

    /// Errors: rows that must be together, with what is carried, take more memory than they may.
    fn expect_room(&self, bytes: u64) -> Result<()> {
        let memory = self.larger.memory;
        if bytes + self.plan.bytes() <= memory.whole() {
            return Ok(());
        }
        let needed = Memory::needed_for(self.bytes);
        Err(Error::NeedsMemory {
            rows: self.larger.inputs[0].rows(),
            needed,
            budget: memory.budget(),
        })
    }

    fn take(&mut self, rows: Table, are_last: bool) -> Result<()> {
        self.expect_room(bytes_of(&rows))?;
        let not_numbers = rows.not_numbers();
        let rows = with_lines(rows, 0, self.larger.inputs[0].sample());
        let rows = rows.with_not_numbers(not_numbers);
        let Pieces { plan, order, results, .. } = self;
        results.add(rows.rows() as u64, &mut |take| {
            let mut outcome = plan.take(&rows, are_last)?;
            match order {
                ResultOrder::Rows(place) => {
                    take(&sorted(&outcome.table, &MergeOrder::Numbers(*place))?)?;
                }
                _ => take(&outcome.table)?,
            }
            outcome.table = outcome.table.emptied();
            outcome.set_aside = sorted(&outcome.set_aside, &MergeOrder::BothNumbers)?;
            Ok(outcome)
        })
    }

    fn finish(mut self, not_numbers: u64, take: &mut Take<'_>) -> Result<Outcome> {
        let rows = match self.waiting.is_empty() {
            true => numbered(&self.larger.inputs[0].sample().emptied(), 0, 0)?,
            false => joined(&std::mem::take(&mut self.waiting))?,
        };
        // Any piece may report the NaN cells of the table.
        self.take(rows.with_not_numbers(not_numbers), true)?;
        self.results.finish(take)
    }
}
