//! Applies a plan to tables that are larger than memory.

use super::{
    Data, Memory, Phase, bytes_of,
    collect::{Collector, in_batches, joined},
    merge::{MergeOrder, merge},
    run::{Frame, Run, RunWriter},
};
use crate::{
    Access, CoreError, Outcome, Plan, Shape, Stack, Table, Type,
    arrow::UInt32Array,
    error::{Error, Result},
};
use jembric_core::{ByEntity, Division, Overall, Part, ResultOrder};
use rayon::prelude::*;

/// The most parts of a table, because each has a file that is open while rows are divided.
const MOST_PARTS: u64 = 128;
/// How often a part that is still too large is divided again.
const MOST_DIVISIONS: u64 = 4;

/// Receives the rows of a result.
pub(crate) type Take<'a> = dyn FnMut(&Table) -> Result<()> + 'a;

/// A step whose tables are larger than memory.
pub(crate) struct Larger<'a> {
    /// The plan for the tables.
    pub(crate) plan: &'a Plan,
    /// Prepares the step for tables of other shapes.
    pub(crate) prepare: &'a dyn Fn(&[Shape]) -> Result<Plan>,
    pub(crate) inputs: &'a [&'a Data],
    pub(crate) memory: &'a Memory,
    /// Whether the rows set aside are needed, and not only their number.
    pub(crate) keeps_aside: bool,
}

/// The rows of each table of a part, as runs.
type Runs = Vec<Run>;

impl Larger<'_> {
    /// Applies the plan and delivers the result in batches. The table of the outcome has no rows.
    ///
    /// Errors: those of reading and of the operation; temporary files cannot be written; an
    /// operation needs more rows at once than fit.
    pub(crate) fn apply_into(&self, take: &mut Take<'_>) -> Result<Outcome> {
        match self.plan.access() {
            Access::OnePass => self.one_pass(take),
            _ => self.in_parts(take),
        }
    }

    /// Applies the plan to parts of the tables, if they can be divided.
    fn in_parts(&self, take: &mut Take<'_>) -> Result<Outcome> {
        match self.plan.division() {
            Some(Division::Rows) => self.row_by_row(take),
            Some(Division::Sorted(columns)) => self.sorted(columns, take),
            Some(Division::Entities(_)) => self.by_entity(take),
            _ => self.as_a_whole(take),
        }
    }

    /// Delivers the rows of an input in batches that are not much longer than the budget allows.
    fn each(&self, input: &Data, take: &mut dyn FnMut(Table) -> Result<()>) -> Result<()> {
        let most = self.memory.batch();
        let name = input.sample().origin().map(|origin| origin.file());
        let mut rows = 0;
        input.each(&mut |batch| {
            rows += batch.rows() as u64;
            match bytes_of(&batch) > 2 * most {
                true => in_batches(vec![batch], most)?.into_iter().try_for_each(&mut *take)?,
                false => take(batch)?,
            }
            self.memory.tell(Phase::Reading, name, rows, input.rows());
            Ok(())
        })
    }

    fn samples(&self) -> Vec<&Table> {
        self.inputs.iter().map(|input| input.sample()).collect()
    }

    /// Folds all batches. If the state outgrows the budget, the rows are divided instead.
    fn one_pass(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let Some(mut fold) = self.plan.begin() else { return self.in_parts(take) };
        let most = self.plan.division().map_or(u64::MAX, |_| self.memory.whole());
        for (place, input) in self.inputs.iter().enumerate() {
            let (mut first_row, mut is_too_large) = (0, false);
            let folded = self.each(input, &mut |batch| {
                fold.take_of(place, &batch, first_row)?;
                first_row += batch.rows() as u64;
                is_too_large = fold.bytes() > most;
                match is_too_large {
                    true => Err(CoreError::Sink("the state is too large".into()).into()),
                    false => Ok(()),
                }
            });
            if is_too_large {
                drop(fold);
                return self.in_parts(take);
            }
            folded?;
        }
        self.delivered(fold.finish()?, take)
    }

    /// Applies the plan to all rows at once, if they fit.
    fn as_a_whole(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let tables = self.inputs.iter().map(|input| input.whole(self.memory));
        let tables = tables.collect::<Result<Vec<Table>>>()?;
        let tables: Vec<&Table> = tables.iter().collect();
        let outcome = applied(self.plan, &tables, take)?;
        Ok(self.without_needless_rows(outcome))
    }

    fn delivered(&self, mut outcome: Outcome, take: &mut Take<'_>) -> Result<Outcome> {
        take(&outcome.table)?;
        outcome.table = outcome.table.emptied();
        Ok(self.without_needless_rows(outcome))
    }

    fn without_needless_rows(&self, mut outcome: Outcome) -> Outcome {
        if !self.keeps_aside {
            outcome.set_aside = outcome.set_aside.emptied();
        }
        outcome
    }

    /// Applies the plan to one batch after the other.
    fn row_by_row(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let plan = self.surveyed()?;
        let none: Vec<Table> = self.samples().into_iter().map(|sample| sample.emptied()).collect();
        // Decimals may be wider in later batches, so no batch is final before all are known.
        let kinds = plan.known_columns().columns().iter().map(|column| column.kind);
        let may_widen = plan.access() != Access::ByRow
            && kinds.into_iter().any(|kind| matches!(kind, None | Some(Type::Decimal { .. })));
        let mut collector = may_widen.then(|| Collector::new(self.memory));
        let mut account = Account::default();
        let mut rows = 0;
        for (place, input) in self.inputs.iter().enumerate() {
            self.each(input, &mut |batch| {
                let tables: Vec<&Table> = (0..self.inputs.len())
                    .map(|other| if other == place { &batch } else { &none[other] })
                    .collect();
                let outcome = applied(&plan, &tables, &mut |part| {
                    rows += part.rows() as u64;
                    plan.expect_rows(rows)?;
                    match &mut collector {
                        Some(collector) => collector.take(part),
                        None => take(part),
                    }
                })?;
                account.add(self.without_needless_rows(outcome));
                Ok(())
            })?;
        }
        let mut outcome = account.outcome()?;
        if let Some(all) = collector.map(Collector::finish).transpose()?.flatten() {
            outcome.table = all.sample().head(0);
            let mut written = 0;
            all.each(&mut |batch| {
                written += batch.rows() as u64;
                self.memory.tell(Phase::Writing, None, written, all.rows());
                take(&batch)
            })?;
        }
        Ok(outcome)
    }

    /// The plan, with what it needs to know of all rows.
    fn surveyed(&self) -> Result<Plan> {
        let mut overall: Option<Overall> = None;
        if self.plan.survey(&self.inputs[0].sample().head(0))?.is_some() {
            self.each(self.inputs[0], &mut |batch| {
                overall = both(overall.take(), self.plan.survey(&batch)?)?;
                Ok(())
            })?;
        }
        Ok(overall.map_or_else(|| self.plan.clone(), |overall| self.plan.for_parts(overall)))
    }

    /// Sorts parts, and merges them.
    fn sorted(&self, columns: &[(usize, bool)], take: &mut Take<'_>) -> Result<Outcome> {
        let (mut runs, mut account) = (Vec::new(), Account::default());
        let mut pending: (Vec<Table>, u64) = (Vec::new(), 0);
        let mut sort = |pending: &mut (Vec<Table>, u64)| {
            let tables = std::mem::take(&mut pending.0);
            pending.1 = 0;
            let part = joined(&tables)?;
            drop(tables);
            let mut outcome = self.plan.apply(&[&part])?;
            let mut writer = RunWriter::new(self.memory);
            write_all(&mut writer, outcome.table.clone(), self.memory.frame())?;
            runs.push(writer.finish());
            outcome.table = outcome.table.emptied();
            account.add(outcome);
            Ok::<_, Error>(())
        };
        self.each(self.inputs[0], &mut |batch| {
            pending.1 += bytes_of(&batch);
            pending.0.push(batch);
            if pending.1 >= self.memory.part() { sort(&mut pending) } else { Ok(()) }
        })?;
        if !pending.0.is_empty() {
            sort(&mut pending)?;
        }
        let order = MergeOrder::Columns(columns.to_vec());
        let outcome = account.outcome()?;
        if runs.iter().all(|run| run.rows() == 0) {
            take(&outcome.table)?;
        }
        merge(runs, &order, self.memory, &mut |batch| take(&batch))?;
        Ok(outcome)
    }

    /// Divides the rows by entity, applies the plan to each part, and merges the results.
    fn by_entity(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let samples = self.samples();
        let shapes = samples.iter().enumerate();
        let shapes = shapes.map(|(place, sample)| sample.shape().with_row_numbers(place));
        let shapes = shapes.collect::<std::result::Result<Vec<Shape>, _>>()?;
        let plan = (self.prepare)(&shapes)?;
        let Some(Division::Entities(division)) = plan.division() else {
            return self.as_a_whole(take);
        };
        let mut last_rows = self.plan.last_rows().and_then(|plan| plan.begin());
        let bytes: u64 = self.inputs.iter().map(|input| input.bytes()).sum();
        let parts = bytes.div_ceil(self.memory.part()).clamp(2, MOST_PARTS) as u32;
        let mut divided = Divided::new(self, division, (parts, 0));
        let mut overall: Option<Overall> = None;
        let surveys = self.plan.survey(&samples[0].head(0))?.is_some();
        for (place, input) in self.inputs.iter().enumerate() {
            let mut first_row = 0;
            self.each(input, &mut |batch| {
                if surveys && place == 0 {
                    overall = both(overall.take(), self.plan.survey(&batch)?)?;
                }
                if let Some(fold) = &mut last_rows {
                    fold.take_of(place, &batch, first_row as u64)?;
                }
                let numbers = match batch.origin() {
                    Some(origin) => (0..batch.rows()).map(|row| origin.line(row) as i64).collect(),
                    None => (first_row..first_row + batch.rows() as i64).collect(),
                };
                first_row += batch.rows() as i64;
                divided.add(place, &batch.with_row_numbers(place, numbers)?)
            })?;
        }
        let plan_of_parts = overall.map_or_else(|| plan.clone(), |overall| plan.for_parts(overall));
        let mut results = Results {
            larger: self,
            division,
            runs: Vec::new(),
            aside: Vec::new(),
            account: Account::default(),
            rows: 0,
            done: 0,
            wrong: None,
        };
        results.take_parts(&plan_of_parts, divided)?;
        let outcome = results.finish(take)?;
        if let Some(fold) = last_rows {
            take(&fold.finish()?.table)?;
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

/// The rows of a part with the lines of the table at a place, of which a sample is given.
fn with_lines(rows: Table, place: usize, sample: &Table) -> Table {
    let numbers = rows.row_numbers(place).map(|numbers| numbers.values().to_vec());
    let (Some(origin), Some(numbers)) = (sample.origin(), numbers) else { return rows };
    let lines: Vec<u64> = numbers.into_iter().map(|number| number as u64).collect();
    let origin = origin.of_lines(lines.iter().copied()).with_key_in(&rows, lines);
    rows.with_origin(origin)
}

/// What is known of the rows so far, and of a batch.
fn both(overall: Option<Overall>, of_batch: Option<Overall>) -> Result<Option<Overall>> {
    Ok(match (overall, of_batch) {
        (Some(one), Some(other)) => Some(one.plus(other)?),
        (one, other) => one.or(other),
    })
}

/// Applies a plan, and delivers the result in batches.
fn applied(plan: &Plan, tables: &[&Table], take: &mut Take<'_>) -> Result<Outcome> {
    let mut failed = None;
    let outcome = plan.apply_into(tables, &mut |batch| {
        take(batch).map_err(|error| {
            failed = Some(error);
            "the result could not be delivered".into()
        })
    });
    match failed {
        Some(error) => Err(error),
        None => Ok(outcome?),
    }
}

fn write_all(writer: &mut RunWriter, table: Table, bytes: u64) -> Result<()> {
    let batches = in_batches(vec![table], bytes)?;
    // Packing takes longer than writing.
    for several in batches.chunks(4 * rayon::current_num_threads()) {
        let frames: Vec<Result<Frame>> = several.par_iter().map(Frame::of).collect();
        for frame in frames {
            writer.append(&frame?)?;
        }
    }
    Ok(())
}

/// The rows of all tables, divided into parts that are written to temporary files.
struct Divided<'a> {
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
    fn new(larger: &'a Larger<'a>, division: &'a ByEntity, how: (u32, u64)) -> Divided<'a> {
        let runs = |_| (0..how.0).map(|_| RunWriter::new(larger.memory)).collect();
        let writers = (0..larger.inputs.len()).map(runs).collect();
        Divided { larger, division, how, writers, pending: Vec::new(), bytes: 0 }
    }

    /// Adds rows of the table at a place.
    fn add(&mut self, place: usize, batch: &Table) -> Result<()> {
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
struct Results<'a> {
    larger: &'a Larger<'a>,
    division: &'a ByEntity,
    runs: Vec<Run>,
    aside: Vec<Run>,
    account: Account,
    rows: u64,
    /// The rows of the parts to which the plan was applied.
    done: u64,
    /// The error of the parts that were applied so far.
    wrong: Option<CoreError>,
}

impl Results<'_> {
    /// Applies the plan to all parts.
    fn take_parts(&mut self, plan: &Plan, divided: Divided<'_>) -> Result<()> {
        let how = divided.how;
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
                true => self.divide_again(&plan, &runs, how.1 + 1)?,
                false => self.apply(&plan, &runs, bytes)?,
            }
        }
        Ok(())
    }

    /// Divides a part that is too large.
    fn divide_again(&mut self, plan: &Plan, runs: &[Run], seed: u64) -> Result<()> {
        let memory = self.larger.memory;
        let bytes: u64 = runs.iter().map(Run::bytes).sum();
        let parts = bytes.div_ceil(memory.part()).clamp(2, MOST_PARTS) as u32;
        let mut divided = Divided::new(self.larger, self.division, (parts, seed));
        for (place, run) in runs.iter().enumerate() {
            for number in 0..run.frames() {
                divided.add(place, &run.frame(number)?)?;
            }
        }
        self.take_parts(plan, divided)
    }

    fn apply(&mut self, plan: &Plan, runs: &[Run], bytes: u64) -> Result<()> {
        let memory = self.larger.memory;
        let all_rows = self.larger.inputs.iter().map(|input| input.rows()).sum();
        memory.tell(Phase::Computing, None, self.done, all_rows);
        self.done += runs.iter().map(Run::rows).sum::<u64>();
        let (mut writer, mut rows) = (RunWriter::new(memory), self.rows);
        let mut pending: (Vec<Table>, u64) = (Vec::new(), 0);
        let outcome = self.larger.apply_to_part(plan, (runs, bytes), &mut |batch| {
            rows += batch.rows() as u64;
            plan.expect_rows(rows)?;
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

    fn finish(self, take: &mut Take<'_>) -> Result<Outcome> {
        let Results { larger, division, runs, aside, account, wrong, .. } = self;
        if let Some(wrong) = wrong {
            return Err(wrong.into());
        }
        let mut outcome = account.outcome()?;
        outcome.table = outcome.table.without_row_numbers()?;
        outcome.set_aside = outcome.set_aside.without_row_numbers()?;
        let order = match &division.order {
            ResultOrder::Rows(place) => MergeOrder::Numbers(*place),
            ResultOrder::Columns(columns) => {
                MergeOrder::Columns(columns.iter().map(|column| (*column, false)).collect())
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

/// The account of a step, merged from those of its parts.
#[derive(Default)]
pub(crate) struct Account {
    /// Only the columns of the result.
    outcome: Option<Outcome>,
    set_aside: Vec<Table>,
}

impl Account {
    /// Merges the account of a part, and returns its result.
    pub(crate) fn add(&mut self, outcome: Outcome) -> Table {
        let answer = outcome.table.clone();
        if self.set_aside.is_empty() || outcome.set_aside.rows() > 0 {
            self.set_aside.push(outcome.set_aside.clone());
        }
        match &mut self.outcome {
            None => self.outcome.insert(outcome).table = answer.emptied(),
            Some(all) => all.ledger = all.ledger.clone().merge(&outcome.ledger),
        }
        answer
    }

    pub(crate) fn outcome(self) -> std::result::Result<Outcome, CoreError> {
        let mut outcome =
            self.outcome.ok_or_else(|| CoreError::Sink("nothing was answered".into()))?;
        outcome.set_aside = put_together(&self.set_aside)?;
        Ok(outcome)
    }
}

/// Joins tables with the same columns.
pub(crate) fn put_together(batches: &[Table]) -> std::result::Result<Table, CoreError> {
    match batches {
        [one] => Ok(one.clone()),
        several => {
            let named: Vec<(&str, &Table)> = several.iter().map(|batch| ("", batch)).collect();
            Ok(Stack::new().apply(&named)?.table)
        }
    }
}
