//! Steps that answer row by row, so that rows go through all of them in stretches and no answer in between stands in memory whole.

use super::{
    Input,
    run::{Checked, Uses},
};
use crate::{Context, CoreError, Outcome, Shape, Sink, Stack, Table};

/// Rows that go through the steps together: few enough to stay in a cache, enough to keep all threads busy.
const STRETCH: usize = 1 << 17;

/// A step, and those after it that answer row by row and work on its answer alone.
pub(super) struct Stream<'a> {
    checked: &'a Checked<'a>,
    context: &'a Context,
    /// Their places.
    pub(super) steps: Vec<usize>,
    /// The first one answers row by row, too.
    cuts: bool,
}

/// What failed in which step.
type Failed = (usize, CoreError);

impl<'a> Stream<'a> {
    /// Those from a place on, of which the first works on these tables. Rows that are followed are told of every answer, and so
    /// none is left out then.
    pub(super) fn from(
        checked: &'a Checked<'a>,
        place: usize,
        until: usize,
        uses: &[Uses],
        tables: &[(String, Table)],
        context: &'a Context,
    ) -> Stream<'a> {
        let (routine, all) = (checked.routine, &checked.steps);
        let shapes: Vec<Option<Shape>> = tables.iter().map(|(_, table)| Some(table.shape())).collect();
        let cuts = matches!(&shapes[..], [Some(shape)] if all[place].is_row_by_row(shape, context));
        let mut stream = Stream { checked, context, steps: vec![place], cuts };
        if checked.running.follow.is_some() {
            return stream;
        }
        let mut shape = all[place].check(&shapes, context).ok().flatten();
        for (next, step) in all.iter().enumerate().take(until + 1).skip(place + 1) {
            let before = next - 1;
            let is_alone = routine.steps[next].inputs == [Input::Step(before)]
                && (uses[before].steps, uses[before].last) == (1, next)
                && routine.steps[before].write.is_none();
            let Some(known) = shape.filter(|shape| is_alone && step.is_row_by_row(shape, context)) else {
                break;
            };
            shape = step.check(&[Some(known.anonymous())], context).ok().flatten();
            stream.steps.push(next);
        }
        stream
    }

    /// The last step.
    pub(super) fn end(&self) -> usize {
        self.steps[self.steps.len() - 1]
    }

    /// The account of each step, while the last one's answer goes to the sink.
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
            for (&place, account) in later.iter().zip(&mut accounts) {
                let answered = self.answer(place, batch).map(|outcome| account.add(outcome));
                batch = answered.map_err(|error| {
                    let told = error.to_string();
                    failed = Some((place, error));
                    told
                })?;
            }
            sink(&batch)
        };
        let answered = match tables {
            [(name, table)] if self.cuts && table.rows() > STRETCH => {
                let mut account = Account::default();
                let mut cut = || {
                    for from in (0..table.rows()).step_by(STRETCH) {
                        let rows = [(name.clone(), table.slice(from, STRETCH))];
                        let outcome = self.checked.steps[first].apply(&rows, self.context)?;
                        through(&account.add(outcome)).map_err(CoreError::Sink)?;
                    }
                    Ok(())
                };
                cut().and_then(|()| account.outcome())
            }
            _ => self.checked.steps[first].apply_into(tables, self.context, &mut through),
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

    /// The account of each step, of the last one with its answer.
    pub(super) fn whole(&self, tables: &[(String, Table)]) -> Result<Vec<Outcome>, Failed> {
        let first = self.steps[0];
        // One after the other, where the first makes its answer whole at any rate: a table in stretches would have to be put together.
        if self.cuts || self.steps.len() == 1 {
            let mut outcomes: Vec<Outcome> = Vec::new();
            for &place in &self.steps {
                let outcome = match outcomes.last() {
                    None => self.checked.steps[first].apply(tables, self.context),
                    Some(before) => self.answer(place, before.table.clone()),
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
            // Of what has no rows the columns are needed once.
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

    fn answer(&self, place: usize, table: Table) -> Result<Outcome, CoreError> {
        self.checked.steps[place].apply(&[(String::new(), table)], self.context)
    }
}

/// One table of several of the same columns.
fn put_together(batches: &[Table]) -> Result<Table, CoreError> {
    match batches {
        [one] => Ok(one.clone()),
        several => {
            let named: Vec<(&str, &Table)> = several.iter().map(|batch| ("", batch)).collect();
            Ok(Stack::new().apply(&named)?.table)
        }
    }
}

/// A step's account, put together from those of stretches.
#[derive(Default)]
struct Account {
    /// Of the answer the columns alone.
    outcome: Option<Outcome>,
    set_aside: Vec<Table>,
}

impl Account {
    /// Takes in the account of a stretch, whose answer it returns.
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
        let mut outcome = self.outcome.ok_or_else(|| CoreError::Sink("nothing was answered".into()))?;
        outcome.set_aside = put_together(&self.set_aside)?;
        Ok(outcome)
    }
}
