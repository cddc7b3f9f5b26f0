//! Applies a plan to rows in order of their dates: sorts them in temporary files, and takes them
//! piece by piece. Without a key all rows are one entity. With one, they are those of a part that
//! is too large, and are sorted by entity first.

use super::{
    results::{Results, numbered, with_lines},
    step::{Accounted, Larger, Take, both, write_all},
};
use crate::{
    Plan, Table,
    data::{
        bytes_of,
        collect::{in_batches, joined},
        memory::Memory,
        merge::{MergeOrder, merge},
        spill::{SpillFile, SpillWriter},
    },
    error::Result,
};
use jembric_core::{ByEntity, Division, InPieces, ResultOrder};

/// Collects rows in sorted runs.
pub(super) struct Sorter<'a> {
    memory: &'a Memory,
    sort: Box<dyn FnMut(Table) -> Result<Table> + 'a>,
    pending: Vec<Table>,
    bytes: u64,
    runs: Vec<SpillFile>,
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
        let mut writer = SpillWriter::after(&self.runs, self.memory);
        write_all(&mut writer, (self.sort)(rows)?, self.memory.frame())?;
        self.runs.push(writer.finish());
        Ok(())
    }

    pub(super) fn finish(mut self) -> Result<Vec<SpillFile>> {
        if !self.pending.is_empty() {
            self.write()?;
        }
        Ok(self.runs)
    }
}

/// The rows in this order. Equal rows keep their order.
pub(super) fn sorted(table: &Table, order: &MergeOrder) -> Result<Table> {
    Ok(table.take(&order.sorted(table)?)?.with_not_numbers(table.not_numbers()))
}

impl Larger<'_> {
    /// Sorts the rows by date, applies the plan piece by piece, and merges the results.
    pub(super) fn by_date(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let input = self.inputs[0];
        let plan = (self.prepare)(&self.numbered_shapes()?)?;
        let Some(Division::Dates(date, order)) = plan.kind().division() else {
            return self.as_a_whole(take);
        };
        let by_date = MergeOrder::Columns(vec![(*date, false)]);
        let mut sorter = Sorter::by(self.memory, |rows| sorted(&rows, &by_date));
        let (surveys, mut overall, mut first_row) = (self.surveys()?, None, 0);
        self.each(input, &mut |batch| {
            if surveys {
                overall = both(overall.take(), self.plan.survey(&batch)?)?;
            }
            let rows = numbered(&batch, 0, first_row)?;
            first_row += batch.rows() as i64;
            sorter.add(rows)
        })?;
        let runs = sorter.finish()?;
        let plan = self.for_parts(plan.clone(), overall);
        let mut results = Results::new(self, order.clone());
        results.take_in_order(&plan, None, runs, &by_date)?;
        results.finish(take)
    }
}

impl Results<'_> {
    /// Sorts the rows of a part by entity and date, and applies the plan piece by piece.
    pub(super) fn take_sorted(
        &mut self,
        plan: &Plan,
        division: &ByEntity,
        date: usize,
        run: &SpillFile,
    ) -> Result<()> {
        let columns = division.keys[0].iter().chain([&date]).map(|&column| (column, false));
        let order = MergeOrder::Columns(columns.collect());
        let mut sorter = Sorter::by(self.larger.memory, |rows| sorted(&rows, &order));
        for number in 0..run.frames() {
            let not_numbers = if number == 0 { run.not_numbers() } else { 0 };
            sorter.add(run.frame(number)?.with_not_numbers(not_numbers))?;
        }
        self.take_in_order(plan, Some(division), sorter.finish()?, &order)
    }

    /// Merges sorted runs, and applies the plan piece by piece. Without a division all rows are of
    /// one entity.
    fn take_in_order(
        &mut self,
        plan: &Plan,
        division: Option<&ByEntity>,
        runs: Vec<SpillFile>,
        order: &MergeOrder,
    ) -> Result<()> {
        let not_numbers = runs.iter().map(SpillFile::not_numbers).sum();
        let memory = self.larger.memory;
        let mut pieces = Pieces {
            plan,
            division,
            rows: runs.iter().map(SpillFile::rows).sum(),
            bytes: runs.iter().map(SpillFile::bytes).sum(),
            results: self,
            entity: None,
            waiting: Vec::new(),
            held: 0,
            tried: 0,
        };
        merge(runs, order, memory, &mut |rows| {
            in_batches(vec![rows], memory.part())?.into_iter().try_for_each(|rows| pieces.add(rows))
        })?;
        pieces.finish(not_numbers)
    }
}

/// Rows that come in order of their entities and dates.
struct Pieces<'a, 'b> {
    plan: &'a Plan,
    division: Option<&'a ByEntity>,
    results: &'a mut Results<'b>,
    /// The entity of which earlier pieces were taken.
    entity: Option<InPieces>,
    /// The rows that wait for those that belong with them, and their bytes.
    waiting: Vec<Table>,
    held: u64,
    /// The bytes of the rows that waited when they were found to be incomplete.
    tried: u64,
    /// The number of all rows, and their bytes.
    rows: u64,
    bytes: u64,
}

impl Pieces<'_, '_> {
    /// Adds rows, and takes those that are complete once a part of the budget waits. If none were
    /// complete, they are tried again only when another quarter of a part has come: to join all
    /// that waits for every batch would be quadratic.
    fn add(&mut self, rows: Table) -> Result<()> {
        let part = self.results.larger.memory.part();
        self.held += bytes_of(&rows);
        self.waiting.push(rows);
        if self.held < part || self.held < self.tried + part / 4 {
            return Ok(());
        }
        let waiting = joined(&std::mem::take(&mut self.waiting))?;
        let waiting = self.without_ended(waiting)?;
        self.held = bytes_of(&waiting);
        if self.held < part {
            self.tried = 0;
            self.waiting.push(waiting);
            return Ok(());
        }
        let Some(entity) = self.entity.take().or_else(|| self.plan.in_order()) else {
            return Err(self.results.larger.needs_memory(self.rows, self.bytes));
        };
        let complete = entity.complete(&waiting);
        self.entity = Some(entity);
        let left = waiting.slice(complete, waiting.rows() - complete);
        self.tried = if complete == 0 { self.held } else { 0 };
        self.held = bytes_of(&left);
        self.waiting.push(left);
        match complete {
            0 => self.expect_room(self.tried),
            _ => self.take(waiting.slice(0, complete), false),
        }
    }

    /// Takes the rows of all entities but the last one, and returns those of the last one.
    fn without_ended(&mut self, rows: Table) -> Result<Table> {
        let Some(division) = self.division else { return Ok(rows) };
        let starts = division.starts_of_entities(&rows)?;
        let last = starts.last().copied().unwrap_or(0);
        let mut from = 0;
        if let (Some(_), Some(&end)) = (&self.entity, starts.get(1)) {
            self.take(rows.slice(0, end), true)?;
            from = end;
        }
        if from < last {
            self.take(rows.slice(from, last - from), true)?;
        }
        Ok(rows.slice(last, rows.rows() - last))
    }

    /// Errors: rows that must be together, with what is carried, take more memory than they may.
    fn expect_room(&self, bytes: u64) -> Result<()> {
        let larger = self.results.larger;
        let carried = self.entity.as_ref().map_or(0, InPieces::bytes);
        if bytes + carried <= larger.memory.whole() {
            Ok(())
        } else {
            Err(larger.needs_memory(self.rows, self.bytes))
        }
    }

    /// Takes rows of the entity of which earlier pieces were taken, or of some whole entities.
    fn take(&mut self, rows: Table, are_last: bool) -> Result<()> {
        self.expect_room(bytes_of(&rows))?;
        let not_numbers = rows.not_numbers();
        let rows = with_lines(rows, 0, self.results.larger.inputs[0].sample());
        let rows = rows.with_not_numbers(not_numbers);
        let Pieces { plan, results, entity, .. } = self;
        let order = results.order.clone();
        results.add(rows.rows() as u64, &mut |take| {
            let mut outcome = match entity {
                Some(entity) => entity.take(&rows, are_last)?,
                None => plan.apply(&[&rows])?,
            };
            match &order {
                ResultOrder::Rows(place) => {
                    take(&sorted(&outcome.table, &MergeOrder::Numbers(*place))?)?;
                }
                _ => take(&outcome.table)?,
            }
            outcome.table = outcome.table.emptied();
            outcome.set_aside = sorted(&outcome.set_aside, &MergeOrder::BothNumbers)?;
            Ok(outcome)
        })?;
        self.entity.take_if(|_| are_last);
        Ok(())
    }

    fn finish(mut self, not_numbers: u64) -> Result<()> {
        let rows = if self.waiting.is_empty() {
            numbered(&self.results.larger.inputs[0].sample().emptied(), 0, 0)?
        } else {
            joined(&std::mem::take(&mut self.waiting))?
        };
        let rows = self.without_ended(rows)?;
        // Any piece may report the NaN cells of the table.
        self.take(rows.with_not_numbers(not_numbers), true)
    }
}
