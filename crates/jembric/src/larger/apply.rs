//! Applies a plan to tables that are larger than memory.

use super::{
    Phase, bytes_of,
    collect::{Collector, joined},
    merge::{MergeOrder, merge},
    parts::{Divided, MOST_PARTS, Results},
    run::RunWriter,
    step::{Account, Larger, Take, applied, write_all},
};
use crate::{
    Access, CoreError, Outcome, Plan, Shape, Table, Type,
    error::{Error, Result},
};
use jembric_core::{Division, Overall};

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

    /// Folds all batches. If the state outgrows the budget, the rows are divided instead.
    fn one_pass(&self, take: &mut Take<'_>) -> Result<Outcome> {
        let Some(mut fold) = self.plan.begin() else { return self.in_parts(take) };
        let most = self.plan.division().map_or(u64::MAX, |_| self.memory.whole());
        for (place, input) in self.inputs.iter().enumerate() {
            let (mut first_row, mut is_too_large) = (0, false);
            let folded = self.each(input, &mut |batch| {
                fold.take_of(place, &batch, first_row)?;
                if !self.keeps_aside {
                    fold.forget_set_aside();
                }
                first_row += batch.rows() as u64;
                if fold.bytes() > most {
                    // What is left after that must be less, so that rows are not compacted often.
                    fold.compact()?;
                    is_too_large = fold.bytes() > most / 4 * 3;
                }
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

    fn delivered(&self, mut outcome: Outcome, take: &mut Take<'_>) -> Result<Outcome> {
        take(&outcome.table)?;
        outcome.table = outcome.table.emptied();
        Ok(self.without_needless_rows(outcome))
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
                    fold.forget_set_aside();
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
        let mut results = Results::new(self, division);
        results.take_parts(&plan_of_parts, divided)?;
        let outcome = results.finish(take)?;
        if let Some(fold) = last_rows {
            take(&fold.finish()?.table)?;
        }
        Ok(outcome)
    }
}

/// What is known of the rows so far, and of a batch.
fn both(overall: Option<Overall>, of_batch: Option<Overall>) -> Result<Option<Overall>> {
    Ok(match (overall, of_batch) {
        (Some(one), Some(other)) => Some(one.plus(other)?),
        (one, other) => one.or(other),
    })
}
