//! Applies a plan to tables that are larger than memory.

use super::{
    in_order::Sorter,
    parts::{Divided, MOST_PARTS},
    results::{Aside, Results, numbered},
    step::{Account, Accounted, Larger, Take, applied, both, delivered},
};
use crate::{
    Plan, Table, Type,
    data::{
        collect::Collector,
        merge::{MergeOrder, merge},
        progress::Phase,
    },
    error::{Error, Result},
};
use jembric_core::{Division, Fold, Kind, Overall};
use std::ops::ControlFlow;

/// Folds a batch of an input, by its place, whose first row has a number.
type FoldBatch<'a> = dyn FnMut(&mut [Fold], usize, Table, u64) -> Result<()> + 'a;

impl Larger<'_> {
    /// Applies the plan and delivers the result in batches. The table of the outcome has no rows.
    ///
    /// Errors: those of reading and of the operation; temporary files cannot be written; an
    /// operation needs more rows at once than fit.
    pub(crate) fn apply_into(&self, take: &mut Take<'_>) -> Result<Accounted> {
        match self.plan.kind() {
            Kind::ByRow => self.row_by_row(take),
            Kind::OnePass(division) => self.one_pass(division.as_ref(), take),
            Kind::Divided(division) => self.divided(division, take),
            _ => self.as_a_whole(take),
        }
    }

    /// Applies the plan to parts of the tables.
    fn divided(&self, division: &Division, take: &mut Take<'_>) -> Result<Accounted> {
        match division {
            Division::Rows => self.row_by_row(take),
            Division::Sorted(columns) => self.sorted(columns, take),
            Division::Entities(_) => self.by_entity(take),
            Division::Dates(..) => self.by_date(take),
            Division::Beside => self.beside(take),
            _ => self.as_a_whole(take),
        }
    }

    /// Folds all batches. If the state outgrows its share of the budget, the rows are divided. If
    /// they cannot be divided, they are folded again after a survey of all rows.
    fn one_pass(&self, division: Option<&Division>, take: &mut Take<'_>) -> Result<Accounted> {
        let surveys = self.surveys()?;
        let most = if division.is_some() || surveys { self.memory.whole() } else { u64::MAX };
        // The numbers of the rows set aside restore their order.
        let plan = if self.keeps_aside {
            (self.prepare)(&self.numbered_shapes()?)?
        } else {
            self.plan.clone()
        };
        match (self.folded(&plan, most, take)?, division) {
            (Some(accounted), _) => Ok(accounted),
            (None, Some(division)) => self.divided(division, take),
            (None, None) => {
                let accounted = self.folded(&self.surveyed(&plan)?, u64::MAX, take)?;
                accounted.map_or_else(|| self.as_a_whole(take), Ok)
            }
        }
    }

    /// Folds all batches into the states of some folds, until these take more than some bytes.
    /// Returns whether they did not. The rows of each input are numbered from `first` on.
    pub(super) fn fold(
        &self,
        folds: &mut [Fold],
        (most, first): (u64, u64),
        take: &mut FoldBatch<'_>,
    ) -> Result<bool> {
        let bytes = |folds: &[Fold]| folds.iter().map(Fold::bytes).sum::<u64>();
        for (place, input) in self.inputs.iter().enumerate() {
            let mut first_row = first;
            let folded = self.each_until(input, &mut |batch| {
                let rows = batch.rows() as u64;
                take(folds, place, batch, first_row)?;
                first_row += rows;
                if !self.keeps_aside {
                    folds.iter_mut().for_each(Fold::forget_set_aside);
                }
                if bytes(folds) > most {
                    // What is left after that must be less, so that rows are not compacted often.
                    folds.iter_mut().try_for_each(Fold::compact)?;
                    if bytes(folds) > most / 4 * 3 {
                        return Ok(ControlFlow::Break(()));
                    }
                }
                Ok(ControlFlow::Continue(()))
            })?;
            if folded.is_break() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// The result of a plan that folds all batches; none if its state takes more than some bytes.
    fn folded(&self, plan: &Plan, most: u64, take: &mut Take<'_>) -> Result<Option<Accounted>> {
        let Some(mut fold) = plan.begin() else { return Ok(None) };
        let (states, mut aside) = (std::slice::from_mut(&mut fold), Aside::default());
        let fits = self.fold(states, (most, 0), &mut |folds, place, batch, first_row| {
            let fold = &mut folds[0];
            if !self.keeps_aside {
                return Ok(fold.take_of(place, &batch, first_row)?);
            }
            fold.take_of(place, &numbered(&batch, place, first_row as i64)?, first_row)?;
            match fold.take_set_aside(self.memory.batch())? {
                Some(rows) => aside.add(rows, self.memory),
                None => Ok(()),
            }
        })?;
        if !fits {
            return Ok(None);
        }
        let without_numbers = |rows: &Table| {
            if self.keeps_aside { self.without_own_numbers(rows) } else { Ok(rows.clone()) }
        };
        let mut outcome =
            delivered(&mut |batch| take(&without_numbers(batch)?), |sink| fold.finish_into(sink))?;
        outcome.table = without_numbers(&outcome.table)?;
        let columns = outcome.set_aside.emptied();
        let rows = std::mem::replace(&mut outcome.set_aside, columns);
        if self.keeps_aside {
            aside.add(rows, self.memory)?;
        }
        aside.finish(outcome, self).map(Some)
    }

    /// Applies the plan to one batch after the other.
    fn row_by_row(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let plan = self.surveyed(self.plan)?;
        let none: Vec<Table> = self.samples().into_iter().map(|sample| sample.emptied()).collect();
        // Decimals may be wider in later batches, so no batch is final before all are known.
        let kinds = plan.known_columns().columns().iter().map(|column| column.kind);
        let may_widen = *plan.kind() != Kind::ByRow
            && kinds.into_iter().any(|kind| matches!(kind, None | Some(Type::Decimal { .. })));
        let mut collector = may_widen.then(|| Collector::new(self.memory));
        let mut account = Account::new(self.memory);
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
                account.add(self.without_needless_rows(outcome))?;
                Ok(())
            })?;
        }
        let mut accounted = account.finish()?;
        if let Some(all) = collector.map(Collector::finish).transpose()?.flatten() {
            accounted.outcome.table = all.sample().head(0);
            let mut written = 0;
            all.each(&mut |batch| {
                written += batch.rows() as u64;
                self.memory.tell(Phase::Writing, None, written, all.rows());
                take(&batch)
            })?;
        }
        Ok(accounted)
    }

    /// Applies the plan to one batch of the first table after the other, beside all rows of the
    /// second.
    fn beside(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let (first, second) = (self.inputs[0], self.inputs[1].whole(self.memory)?);
        let Some(mut plan) = self.plan.beside(&second)? else { return self.as_a_whole(take) };
        let (mut account, mut rows) = (Account::new(self.memory), 0);
        let mut add = |batch: &Table, are_last: bool| {
            let mut counted = |part: &Table| {
                rows += part.rows() as u64;
                self.plan.expect_rows(rows)?;
                take(part)
            };
            let outcome = delivered(&mut counted, |sink| plan.take_into(batch, are_last, sink))?;
            account.add(self.without_needless_rows(outcome))?;
            Ok::<_, Error>(())
        };
        self.each(first, &mut |batch| add(&batch, false))?;
        // The second table is accounted for with the last rows, of which there are none.
        add(&first.sample().emptied(), true)?;
        account.finish()
    }

    /// A plan, with what it needs to know of all rows.
    fn surveyed(&self, plan: &Plan) -> Result<Plan> {
        let mut overall: Option<Overall> = None;
        if self.surveys()? {
            self.each(self.inputs[0], &mut |batch| {
                overall = both(overall.take(), self.plan.survey(&batch)?)?;
                Ok(())
            })?;
        }
        Ok(self.for_parts(plan.clone(), overall))
    }

    /// Sorts parts, and merges them.
    fn sorted(&self, columns: &[(usize, bool)], take: &mut Take<'_>) -> Result<Accounted> {
        let mut account = Account::new(self.memory);
        let mut sorter = Sorter::by(self.memory, |part| {
            let mut outcome = self.plan.apply(&[&part])?;
            let sorted = outcome.table.clone();
            outcome.table = sorted.emptied();
            account.add(outcome)?;
            Ok(sorted)
        });
        self.each(self.inputs[0], &mut |batch| sorter.add(batch))?;
        let runs = sorter.finish()?;
        let order = MergeOrder::Columns(columns.to_vec());
        let accounted = account.finish()?;
        if runs.iter().all(|run| run.rows() == 0) {
            take(&accounted.outcome.table)?;
        }
        merge(runs, &order, self.memory, &mut |batch| take(&batch))?;
        Ok(accounted)
    }

    /// Divides the rows by entity, applies the plan to each part, and merges the results.
    fn by_entity(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let plan = (self.prepare)(&self.numbered_shapes()?)?;
        let Some(Division::Entities(division)) = plan.kind().division() else {
            return self.as_a_whole(take);
        };
        let last_rows = if !self.knows_all { self.plan.last_rows() } else { None };
        let mut last_rows = last_rows.and_then(|plan| plan.begin());
        let bytes: u64 = self.inputs.iter().map(|input| input.bytes()).sum();
        let parts = bytes.div_ceil(self.memory.part()).clamp(2, MOST_PARTS) as u32;
        let mut divided = Divided::new(self, division, (parts, 0));
        let mut overall: Option<Overall> = None;
        let surveys = self.surveys()?;
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
                let rows = numbered(&batch, place, first_row)?;
                first_row += batch.rows() as i64;
                divided.add(place, &rows)
            })?;
        }
        let plan_of_parts = self.for_parts(plan.clone(), overall);
        let mut results = Results::new(self, division.order.clone());
        results.take_parts(&plan_of_parts, divided)?;
        let accounted = results.finish(take)?;
        if let Some(fold) = last_rows {
            take(&fold.finish()?.table)?;
        }
        Ok(accounted)
    }
}
