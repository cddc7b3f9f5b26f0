//! Runs steps that work row by row, so that batches go through all of them and no result between
//! them is in memory as a whole.

use super::{
    Input,
    checked::{Checked, Uses},
};
use crate::{Access, Context, CoreError, Outcome, Plan, Shape, Sink, Stack, Table};
use std::cell::OnceCell;

/// The rows of a batch: few enough to stay in a cache, and many enough to keep all threads busy.
const STRETCH: usize = 1 << 17;

/// A step, and those after it that work row by row and only on its result.
pub(super) struct Stream<'a> {
    checked: &'a Checked<'a>,
    context: &'a Context,
    /// The places of the steps.
    pub(super) steps: Vec<usize>,
    /// The plan of the first step.
    first: Plan,
    /// The plans of the later steps, each prepared for the first batch.
    later: Vec<OnceCell<Plan>>,
    /// Whether the first step works row by row, too.
    cuts: bool,
}

/// The error of a step.
pub(super) type Failed = (usize, CoreError);

impl<'a> Stream<'a> {
    /// The stream from the step at a place, which works on these tables. If rows are followed,
    /// every result is needed and no step is merged into a stream.
    ///
    /// Errors: the first step does not fit its tables.
    pub(super) fn from(
        checked: &'a Checked<'a>,
        place: usize,
        until: usize,
        uses: &[Uses],
        tables: &[(String, Table)],
        context: &'a Context,
    ) -> Result<Stream<'a>, CoreError> {
        let (routine, all) = (checked.routine, &checked.steps);
        let first = all[place].prepare_for(tables, context)?;
        let cuts = tables.len() == 1 && first.access() == Access::ByRow;
        let mut steps = vec![place];
        if checked.running.follow.is_none() {
            let mut shape = first.shape().cloned();
            for (next, step) in all.iter().enumerate().take(until + 1).skip(place + 1) {
                let before = next - 1;
                let is_alone = routine.steps[next].inputs == [Input::Step(before)]
                    && (uses[before].steps, uses[before].last) == (1, next)
                    && routine.steps[before].write.is_none()
                    && !checked.needs_whole(before);
                let Some(plan) =
                    shape.filter(|_| is_alone).and_then(|shape| by_row(step, shape, context))
                else {
                    break;
                };
                shape = plan.shape().cloned();
                steps.push(next);
            }
        }
        let later = (1..steps.len()).map(|_| OnceCell::new()).collect();
        Ok(Stream { checked, context, steps, first, later, cuts })
    }

    /// The last step.
    pub(super) fn end(&self) -> usize {
        self.steps[self.steps.len() - 1]
    }

    /// Runs the steps and passes the last result to the sink. Returns the account of each step.
    pub(super) fn hand_over(
        &self,
        tables: &[(String, Table)],
        sink: &mut Sink<'_>,
    ) -> Result<Vec<Outcome>, Failed> {
        let (first, later) = (self.steps[0], &self.steps[1..]);
        let mut accounts: Vec<Account> = later.iter().map(|_| Account::default()).collect();
        let mut failed = None;
        let mut through = |batch: &Table| {
            let mut batch = batch.clone();
            for (n, (&place, account)) in later.iter().zip(&mut accounts).enumerate() {
                let answered = self.answer(n, &batch).map(|outcome| account.add(outcome));
                batch = answered.map_err(|error| {
                    let told = error.to_string();
                    failed = Some((place, error));
                    told
                })?;
            }
            sink(&batch)
        };
        let answered = match tables {
            [(_, table)] if self.cuts && table.rows() > STRETCH => {
                let mut account = Account::default();
                let mut cut = || {
                    for from in (0..table.rows()).step_by(STRETCH) {
                        let outcome = self.first.apply(&[&table.slice(from, STRETCH)])?;
                        through(&account.add(outcome)).map_err(CoreError::Sink)?;
                    }
                    Ok(())
                };
                cut().and_then(|()| account.outcome())
            }
            _ => {
                let tables: Vec<&Table> = tables.iter().map(|(_, table)| table).collect();
                self.first.apply_into(&tables, &mut through)
            }
        };
        match (failed, answered) {
            (Some(failed), _) => Err(failed),
            (None, Err(error)) => Err((first, error)),
            (None, Ok(outcome)) => {
                let later = later
                    .iter()
                    .zip(accounts)
                    .map(|(&place, account)| account.outcome().map_err(|error| (place, error)));
                std::iter::once(Ok(outcome)).chain(later).collect()
            }
        }
    }

    /// Runs the steps. Returns the account of each step, with the last result.
    pub(super) fn whole(&self, tables: &[(String, Table)]) -> Result<Vec<Outcome>, Failed> {
        // One step after the other, if the first one makes its result as a whole anyway. Parts
        // would have to be joined.
        if self.cuts || self.steps.len() == 1 {
            let mut outcomes: Vec<Outcome> = Vec::new();
            for (n, &place) in self.steps.iter().enumerate() {
                let outcome = match outcomes.last() {
                    None => {
                        let tables: Vec<&Table> = tables.iter().map(|(_, table)| table).collect();
                        self.first.apply(&tables)
                    }
                    Some(before) => self.answer(n - 1, &before.table),
                };
                if let Some(before) = outcomes.last_mut() {
                    before.table = before.table.head(0);
                }
                outcomes.push(outcome.map_err(|error| (place, error))?);
            }
            return Ok(outcomes);
        }
        let mut batches: Vec<Table> = Vec::new();
        let mut outcomes = self.hand_over(tables, &mut |batch| {
            // Even an empty result needs its columns, once.
            batches.retain(|kept| kept.rows() > 0);
            if batch.rows() > 0 || batches.is_empty() {
                batches.push(batch.clone());
            }
            Ok(())
        })?;
        if let Some(last) = outcomes.last_mut() {
            last.table = put_together(&batches).map_err(|error| (self.end(), error))?;
        }
        Ok(outcomes)
    }

    /// The result of a later step, by its number among them.
    fn answer(&self, later: usize, table: &Table) -> Result<Outcome, CoreError> {
        let plan = match self.later[later].get() {
            Some(plan) => plan,
            None => {
                let step = &self.checked.steps[self.steps[later + 1]];
                let plan = step.prepare_for(&[(String::new(), table.clone())], self.context)?;
                self.later[later].get_or_init(|| plan)
            }
        };
        plan.apply(&[table])
    }
}

/// The plan of a step for a table of this shape, if it works row by row.
fn by_row(step: &crate::steps::Step, shape: Shape, context: &Context) -> Option<Plan> {
    let plan = step.prepare(&[(String::new(), Some(shape.anonymous()))], context).ok().flatten();
    plan.filter(|plan| plan.access() == Access::ByRow)
}

/// Joins tables with the same columns.
fn put_together(batches: &[Table]) -> Result<Table, CoreError> {
    match batches {
        [one] => Ok(one.clone()),
        several => {
            let named: Vec<(&str, &Table)> = several.iter().map(|batch| ("", batch)).collect();
            Ok(Stack::new().apply(&named)?.table)
        }
    }
}

/// The account of a step, merged from those of its batches.
#[derive(Default)]
struct Account {
    /// Only the columns of the result.
    outcome: Option<Outcome>,
    set_aside: Vec<Table>,
}

impl Account {
    /// Merges the account of a batch, and returns its result.
    fn add(&mut self, outcome: Outcome) -> Table {
        let answer = outcome.table.clone();
        if self.set_aside.is_empty() || outcome.set_aside.rows() > 0 {
            self.set_aside.push(outcome.set_aside.clone());
        }
        match &mut self.outcome {
            None => self.outcome.insert(outcome).table = answer.head(0),
            Some(all) => all.ledger = all.ledger.clone().merge(&outcome.ledger),
        }
        answer
    }

    fn outcome(self) -> Result<Outcome, CoreError> {
        let mut outcome =
            self.outcome.ok_or_else(|| CoreError::Sink("nothing was answered".into()))?;
        outcome.set_aside = put_together(&self.set_aside)?;
        Ok(outcome)
    }
}
