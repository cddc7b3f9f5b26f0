//! Divides the rows of tables by entity into parts in temporary files, and applies a plan to each.

use super::{
    Memory, Phase, bytes_of,
    collect::joined,
    merge::{MergeOrder, merge},
    run::{Frame, Run, RunWriter},
    step::{Account, Larger, Take, applied, write_all},
};
use crate::{
    CoreError, Outcome, Plan, Table,
    arrow::UInt32Array,
    error::{Error, Result},
};
use jembric_core::{ByEntity, Part, ResultOrder};
use rayon::prelude::*;

/// The most parts of a table, because each has a file that is open while rows are divided.
pub(super) const MOST_PARTS: u64 = 128;
/// How often a part that is still too large is divided again.
const MOST_DIVISIONS: u64 = 4;

/// The rows of each table of a part, as runs.
type Runs = Vec<Run>;

/// The rows of all tables, divided into parts that are written to temporary files.
pub(super) struct Divided<'a> {
    larger: &'a Larger<'a>,
    division: &'a ByEntity,
    /// The number of parts, and the seed of the division.
    how: (u32, u64),
    /// For each table, a run for each part.
    writers: Vec<Vec<RunWriter>>,
    /// The rows that wait to be written: the table and the part of each group.
    pending: Vec<(usize, usize, Table)>,
    bytes: u64,
}

impl<'a> Divided<'a> {
    pub(super) fn new(
        larger: &'a Larger<'a>,
        division: &'a ByEntity,
        how: (u32, u64),
    ) -> Divided<'a> {
        let runs = |_| (0..how.0).map(|_| RunWriter::new(larger.memory)).collect();
        let writers = (0..larger.inputs.len()).map(runs).collect();
        Divided { larger, division, how, writers, pending: Vec::new(), bytes: 0 }
    }

    /// Adds rows of the table at a place.
    pub(super) fn add(&mut self, place: usize, batch: &Table) -> Result<()> {
        let parts = self.division.parts(place, batch, &self.larger.samples(), self.how)?;
        // Rows are put in the order of their parts by counting, and gathered once.
        let mut starts = vec![0_u32; self.how.0 as usize + 1];
        parts.iter().for_each(|part| starts[*part as usize + 1] += 1);
        for part in 1..starts.len() {
            starts[part] += starts[part - 1];
        }
        let mut next = starts.clone();
        let mut rows = vec![0_u32; batch.rows()];
        for (row, part) in parts.into_iter().enumerate() {
            let next = &mut next[part as usize];
            rows[*next as usize] = row as u32;
            *next += 1;
        }
        let gathered = batch.take(&UInt32Array::from(rows))?;
        self.bytes += bytes_of(&gathered);
        for (part, bounds) in
            starts.windows(2).enumerate().filter(|(_, bounds)| bounds[0] < bounds[1])
        {
            let rows = gathered.slice(bounds[0] as usize, (bounds[1] - bounds[0]) as usize);
            self.pending.push((place, part, rows));
        }
        if batch.not_numbers() > 0 {
            // Any part may report the NaN cells of the table.
            if let Some((.., rows)) = self.pending.last_mut() {
                *rows = rows.clone().with_not_numbers(batch.not_numbers());
            }
        }
        if self.bytes > self.larger.memory.buffers() { self.write() } else { Ok(()) }
    }

    fn write(&mut self) -> Result<()> {
        let mut pending = std::mem::take(&mut self.pending);
        self.bytes = 0;
        // The groups of a part keep their order, because this sort is stable.
        pending.sort_by_key(|(place, part, _)| (*place, *part));
        let groups: Vec<&[(usize, usize, Table)]> =
            pending.chunk_by(|one, other| (one.0, one.1) == (other.0, other.1)).collect();
        for several in groups.chunks(4 * rayon::current_num_threads()) {
            let packed = several.par_iter().map(|group| {
                let tables: Vec<Table> = group.iter().map(|(.., table)| table.clone()).collect();
                let not_numbers = tables.iter().map(Table::not_numbers).sum();
                Frame::of(&joined(&tables)?.with_not_numbers(not_numbers))
            });
            let packed: Vec<Result<Frame>> = packed.collect();
            for (group, frame) in several.iter().zip(packed) {
                let (place, part, _) = group[0];
                self.writers[place][part].append(&frame?)?;
            }
        }
        Ok(())
    }

    /// The runs of each part.
    fn finish(mut self) -> Result<Vec<Runs>> {
        self.write()?;
        let mut parts: Vec<Runs> = (0..self.how.0).map(|_| Vec::new()).collect();
        for of_table in self.writers {
            for (part, writer) in parts.iter_mut().zip(of_table) {
                part.push(writer.finish());
            }
        }
        Ok(parts)
    }
}

/// The results of the parts.
pub(super) struct Results<'a> {
    larger: &'a Larger<'a>,
    order: ResultOrder,
    runs: Vec<Run>,
    aside: Vec<Run>,
    account: Account,
    rows: u64,
    /// The rows of the parts to which the plan was applied.
    done: u64,
    /// The error of the parts that were applied so far.
    wrong: Option<CoreError>,
}

impl<'a> Results<'a> {
    pub(super) fn new(larger: &'a Larger<'a>, order: ResultOrder) -> Results<'a> {
        Results {
            larger,
            order,
            runs: Vec::new(),
            aside: Vec::new(),
            account: Account::default(),
            rows: 0,
            done: 0,
            wrong: None,
        }
    }

    /// Applies the plan to all parts.
    pub(super) fn take_parts(&mut self, plan: &Plan, divided: Divided<'_>) -> Result<()> {
        let (division, how) = (divided.division, divided.how);
        let all = divided.finish()?;
        // If all rows are in one part, they are of one entity, and another division is no smaller.
        let is_divided =
            all.iter().filter(|runs| runs.iter().any(|run| run.rows() > 0)).count() > 1;
        for (number, runs) in all.into_iter().enumerate() {
            let plan =
                plan.for_part(Part::of(number as u32, how), self.larger.inputs[0].sample())?;
            let bytes: u64 = runs.iter().map(Run::bytes).sum();
            let is_large = bytes > 2 * self.larger.memory.part();
            match is_large && is_divided && how.1 < MOST_DIVISIONS {
                true => self.divide_again(&plan, division, &runs, how.1 + 1)?,
                false => {
                    let larger = self.larger;
                    let rows = runs.iter().map(Run::rows).sum();
                    self.add(rows, &mut |take| larger.apply_to_part(&plan, (&runs, bytes), take))?;
                }
            }
        }
        Ok(())
    }

    /// Divides a part that is too large.
    fn divide_again(
        &mut self,
        plan: &Plan,
        division: &ByEntity,
        runs: &[Run],
        seed: u64,
    ) -> Result<()> {
        let memory = self.larger.memory;
        let bytes: u64 = runs.iter().map(Run::bytes).sum();
        let parts = bytes.div_ceil(memory.part()).clamp(2, MOST_PARTS) as u32;
        let mut divided = Divided::new(self.larger, division, (parts, seed));
        for (place, run) in runs.iter().enumerate() {
            for number in 0..run.frames() {
                divided.add(place, &run.frame(number)?)?;
            }
        }
        self.take_parts(plan, divided)
    }

    /// Adds the result of a part with this number of rows. The table of its outcome has no rows.
    pub(super) fn add(
        &mut self,
        rows: u64,
        apply: &mut dyn FnMut(&mut Take<'_>) -> Result<Outcome>,
    ) -> Result<()> {
        let memory = self.larger.memory;
        let all_rows = self.larger.inputs.iter().map(|input| input.rows()).sum();
        memory.tell(Phase::Computing, None, self.done, all_rows);
        self.done += rows;
        let (mut writer, mut rows) = (RunWriter::new(memory), self.rows);
        let mut pending: (Vec<Table>, u64) = (Vec::new(), 0);
        let outcome = apply(&mut |batch| {
            rows += batch.rows() as u64;
            self.larger.plan.expect_rows(rows)?;
            pending.1 += bytes_of(batch);
            pending.0.push(batch.clone());
            if pending.1 < memory.batch() {
                return Ok(());
            }
            pending.1 = 0;
            write_all(&mut writer, joined(&std::mem::take(&mut pending.0))?, memory.frame())
        });
        let mut outcome = match outcome {
            Ok(outcome) => outcome,
            // Other parts may have more of the same mistake, which one error tells.
            Err(Error::Core(error)) if error.counts_places() => {
                // An error of the first table takes precedence, as it does for whole tables.
                self.wrong = Some(match self.wrong.take() {
                    None => error,
                    Some(wrong) if self.is_of_first(&error) && !self.is_of_first(&wrong) => error,
                    Some(wrong) => wrong.plus(error),
                });
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        if self.wrong.is_some() {
            return Ok(());
        }
        if !pending.0.is_empty() {
            write_all(&mut writer, joined(&pending.0)?, memory.frame())?;
        }
        self.rows = rows;
        self.runs.push(writer.finish());
        if self.larger.keeps_aside && outcome.set_aside.rows() > 0 {
            let mut writer = RunWriter::new(memory);
            write_all(&mut writer, outcome.set_aside.clone(), memory.frame())?;
            self.aside.push(writer.finish());
        }
        outcome.set_aside = outcome.set_aside.emptied();
        self.account.add(outcome);
        Ok(())
    }

    /// Whether an error is about the first of two tables.
    fn is_of_first(&self, error: &CoreError) -> bool {
        let origin = self.larger.inputs[0].sample().origin();
        let first = origin.map_or("now", |origin| origin.file());
        matches!(error, CoreError::DuplicateKeys { side, .. } if side == first)
    }

    pub(super) fn finish(self, take: &mut Take<'_>) -> Result<Outcome> {
        let Results { larger, order, runs, aside, account, wrong, .. } = self;
        if let Some(wrong) = wrong {
            return Err(wrong.into());
        }
        let mut outcome = account.outcome()?;
        outcome.table = outcome.table.without_row_numbers()?;
        outcome.set_aside = outcome.set_aside.without_row_numbers()?;
        let order = match order {
            ResultOrder::Rows(place) => MergeOrder::Numbers(place),
            ResultOrder::Columns(columns) => {
                MergeOrder::Columns(columns.into_iter().map(|column| (column, false)).collect())
            }
            _ => return larger.as_a_whole(take),
        };
        if runs.iter().all(|run| run.rows() == 0) {
            take(&outcome.table)?;
        }
        merge(runs, &order, larger.memory, &mut |batch| take(&batch.without_row_numbers()?))?;
        if !aside.is_empty() {
            let mut rows = Vec::new();
            merge(aside, &MergeOrder::BothNumbers, larger.memory, &mut |batch| {
                rows.push(batch.without_row_numbers()?);
                Ok(())
            })?;
            outcome.set_aside = joined(&rows)?;
        }
        Ok(outcome)
    }
}

impl Larger<'_> {
    /// Applies the plan for a part to its rows. The table of the outcome has no rows.
    fn apply_to_part(
        &self,
        plan: &Plan,
        (runs, bytes): (&[Run], u64),
        take: &mut Take<'_>,
    ) -> Result<Outcome> {
        let (memory, inputs) = (self.memory, self.inputs.iter());
        if let Some(mut fold) = plan.begin() {
            // Even all rows of one entity are folded in batches.
            for (place, (run, input)) in runs.iter().zip(inputs).enumerate() {
                let mut first_row = 0;
                for number in 0..run.frames() {
                    let frame = with_lines(run.frame(number)?, place, input.sample());
                    let not_numbers = if number == 0 { run.not_numbers() } else { 0 };
                    let frame = frame.with_not_numbers(not_numbers);
                    fold.take_of(place, &frame, first_row)?;
                    first_row += frame.rows() as u64;
                }
            }
            let mut outcome = fold.finish()?;
            take(&outcome.table)?;
            outcome.table = outcome.table.emptied();
            return Ok(outcome);
        }
        if bytes > memory.whole() {
            let rows = runs.iter().map(Run::rows).sum();
            let needed = Memory::needed_for(bytes);
            return Err(Error::NeedsMemory { rows, needed, budget: memory.budget() });
        }
        let mut tables = Vec::new();
        for (place, (run, input)) in runs.iter().zip(inputs).enumerate() {
            let table = match run.whole()? {
                Some(table) => table,
                None => input.sample().emptied().with_row_numbers(place, Vec::new())?,
            };
            tables.push(with_lines(table, place, input.sample()));
        }
        applied(plan, &tables.iter().collect::<Vec<_>>(), take)
    }
}

/// The rows of a batch of the table at a place with their numbers: the lines, or those that begin
/// with this one.
pub(super) fn numbered(batch: &Table, place: usize, first_row: i64) -> Result<Table> {
    let numbers = match batch.origin() {
        Some(origin) => (0..batch.rows()).map(|row| origin.line(row) as i64).collect(),
        None => (first_row..first_row + batch.rows() as i64).collect(),
    };
    Ok(batch.with_row_numbers(place, numbers)?)
}

/// The rows of a part with the lines of the table at a place, of which a sample is given.
pub(super) fn with_lines(rows: Table, place: usize, sample: &Table) -> Table {
    let numbers = rows.row_numbers(place).map(|numbers| numbers.values().to_vec());
    let (Some(origin), Some(numbers)) = (sample.origin(), numbers) else { return rows };
    let lines: Vec<u64> = numbers.into_iter().map(|number| number as u64).collect();
    let origin = origin.of_lines(lines.iter().copied()).with_key_in(&rows, lines);
    rows.with_origin(origin)
}
