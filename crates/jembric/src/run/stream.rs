//! Runs steps that work row by row, so that batches go through all of them and no result between
//! them is in memory as a whole.

use super::{checked::Checked, outputs::no_result};
use crate::{
    Context, CoreError, Error, Filter, Outcome, Plan, Shape, Sink, Table,
    data::{
        Data,
        collect::{Collector, joined},
        exchange::Alone,
        memory::Memory,
    },
    larger::{
        gathered::accounted,
        shared::{Shared, is_at_first},
        step::{Account, Accounted, Larger},
    },
    routine::{Input, Uses},
};
use jembric_core::Kind;
use std::cell::OnceCell;

/// The rows of a batch: few enough to stay in a cache, and many enough to keep all threads busy.
const STRETCH: usize = 1 << 17;

/// A step, and those after it that work row by row and only on its result.
pub(super) struct Stream<'a> {
    checked: &'a Checked<'a>,
    context: &'a Context,
    memory: &'a Memory,
    /// The tables of the first step, each with its name.
    inputs: &'a [(String, Data)],
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
pub(super) type Failed = (usize, Box<Error>);

fn failed(place: usize, error: impl Into<Error>) -> Failed {
    (place, Box::new(error.into()))
}

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
        inputs: &'a [(String, Data)],
        (context, memory): (&'a Context, &'a Memory),
    ) -> Result<Stream<'a>, CoreError> {
        let (routine, all) = (checked.routine, &checked.steps);
        let first = all[place].prepare_for(&samples(inputs), context)?;
        let cuts = inputs.len() == 1 && *first.kind() == Kind::ByRow;
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
        Ok(Stream { checked, context, memory, inputs, steps, first, later, cuts })
    }

    /// The last step.
    pub(super) fn end(&self) -> usize {
        self.steps[self.steps.len() - 1]
    }

    /// Whether process 0 of several applies the first step to all rows.
    pub(super) fn is_at_one_process(&self) -> bool {
        !self.checked.running.exchange.is_alone() && is_at_first(&self.first)
    }

    /// Runs the steps and passes the last result to the sink. Returns the account of each step.
    pub(super) fn hand_over(&self, sink: &mut Sink<'_>) -> Result<Vec<Accounted>, Failed> {
        let (first, later) = (self.steps[0], &self.steps[1..]);
        let mut accounts: Vec<Account> = later.iter().map(|_| Account::new(self.memory)).collect();
        let mut wrong = None;
        let mut through = |batch: &Table| {
            let mut batch = batch.clone();
            for (n, (&place, account)) in later.iter().zip(&mut accounts).enumerate() {
                let answered = self.answer(n, &batch).map_err(Error::from);
                let answered = answered.and_then(|accounted| account.add(accounted));
                batch = answered.map_err(|error| {
                    let message = error.to_string();
                    wrong = Some(failed(place, error));
                    message
                })?;
            }
            sink(&batch)
        };
        let answered = match &self.tables()[..] {
            _ if self.is_larger() || self.is_shared() => self.larger(&mut through),
            [table] if self.cuts && table.rows() > STRETCH => {
                let mut account = Account::new(self.memory);
                let mut cut = || {
                    for from in (0..table.rows()).step_by(STRETCH) {
                        let outcome = self.first.apply(&[&table.slice(from, STRETCH)])?;
                        through(&account.add(outcome)?).map_err(CoreError::Sink)?;
                    }
                    Ok(())
                };
                cut().and_then(|()| account.finish())
            }
            tables => {
                let outcome = self.first.apply_into(tables, &mut through);
                outcome.map(Accounted::from_outcome).map_err(Error::from)
            }
        };
        match (wrong, answered) {
            (Some(wrong), _) => Err(wrong),
            (None, Err(error)) => Err(failed(first, error)),
            (None, Ok(accounted)) => {
                let first = if self.is_shared() {
                    Ok(accounted)
                } else {
                    self.of_all(accounted).map_err(|error| failed(first, error))
                };
                let later = later.iter().zip(accounts).map(|(&place, account)| {
                    let own = account.finish().and_then(|accounted| self.of_all(accounted));
                    own.map_err(|error| failed(place, error))
                });
                std::iter::once(first).chain(later).collect()
            }
        }
    }

    /// Merges the accounts of all processes into one.
    fn of_all(&self, own: Accounted) -> Result<Accounted, Error> {
        accounted(self.checked.running.exchange, own, self.memory, self.keeps_aside())
    }

    /// Whether the rows set aside are needed. A page shows them.
    fn keeps_aside(&self) -> bool {
        self.checked.running.aside || self.checked.has_page()
    }

    /// The tables of the first step that are in memory.
    fn tables(&self) -> Vec<&Table> {
        self.inputs.iter().filter_map(|(_, input)| input.table()).collect()
    }

    /// Whether a table of the first step is larger than memory.
    pub(super) fn is_larger(&self) -> bool {
        self.inputs.iter().any(|(_, input)| input.table().is_none())
    }

    /// Whether the first step needs rows of other processes, or tells them something.
    fn is_shared(&self) -> bool {
        !self.checked.running.exchange.is_alone() && !self.cuts
    }

    /// Runs the first step on tables that are larger than memory, or shared by processes.
    fn larger(&self, sink: &mut Sink<'_>) -> Result<Accounted, Error> {
        let step = &self.checked.steps[self.steps[0]];
        let names: Vec<&String> = self.inputs.iter().map(|(name, _)| name).collect();
        let prepare = |shapes: &[Shape]| {
            let named = names.iter().copied().cloned().zip(shapes.iter().cloned().map(Some));
            let plan = step.prepare(&named.collect::<Vec<_>>(), self.context)?;
            plan.ok_or_else(|| CoreError::Broken { invariant: "a step has no input" }.into())
        };
        let inputs: Vec<&Data> = self.inputs.iter().map(|(_, input)| input).collect();
        let running = self.checked.running;
        let larger = Larger {
            plan: &self.first,
            prepare: &prepare,
            inputs: &inputs,
            memory: self.memory,
            keeps_aside: self.keeps_aside(),
            knows_all: false,
            keeps_numbers: false,
            first_row: 0,
        };
        // The followed rows of the result are shown, and the result itself is not kept.
        let follow = running.follow.as_ref().map(|condition| Filter::new(condition.to_string()));
        let mut followed = Vec::new();
        let mut through = |batch: &Table| {
            let rows =
                follow.as_ref().and_then(|follow| follow.apply_with(batch, self.context).ok());
            followed.extend(rows.map(|rows| rows.table).filter(|rows| rows.rows() > 0));
            Ok(sink(batch).map_err(CoreError::Sink)?)
        };
        let exchange = if self.is_shared() { running.exchange } else { &Alone };
        let mut accounted = Shared::new(larger, exchange)?.apply_into(&mut through)?;
        if !followed.is_empty() {
            accounted.outcome.table = joined(&followed)?;
        }
        Ok(accounted)
    }

    /// Runs the steps. Returns the account of each step, and the last result, which may be larger
    /// than memory. The account of the last step has the result too if the tables of the first step
    /// are in memory.
    pub(super) fn result(&self) -> Result<(Vec<Accounted>, Data), Failed> {
        let in_memory = !self.is_larger() && self.checked.running.exchange.is_alone();
        // A first step that makes its result as a whole is followed by the next one: parts would
        // have to be joined.
        if in_memory && (self.cuts || self.steps.len() == 1) {
            return self.one_by_one();
        }
        let (mut collector, mut wrong) = (Collector::new(self.memory), None);
        let accounted = self.hand_over(&mut |batch| {
            collector.take(batch).map_err(|error| {
                wrong = Some(error);
                "the result could not be kept".into()
            })
        });
        let at_the_end = |error: Error| failed(self.end(), error);
        let (mut accounted, result) = match wrong {
            Some(error) => return Err(at_the_end(error)),
            None => (accounted?, collector.finish().map_err(at_the_end)?),
        };
        let result = result.ok_or_else(|| at_the_end(no_result().into()))?;
        if let (true, Some(last), Some(table)) = (in_memory, accounted.last_mut(), result.table()) {
            last.outcome.table = table.clone();
        }
        Ok((accounted, result))
    }

    /// The same for tables in memory, one step after the other.
    fn one_by_one(&self) -> Result<(Vec<Accounted>, Data), Failed> {
        let mut accounted: Vec<Accounted> = Vec::new();
        let mut result = None;
        for (n, &place) in self.steps.iter().enumerate() {
            let outcome = match &result {
                None => self.first.apply(&self.tables()),
                Some(before) => self.answer(n - 1, before),
            };
            let outcome = outcome.map_err(|error| failed(place, error))?;
            if let Some(Accounted { outcome: before, .. }) = accounted.last_mut() {
                before.table = before.table.emptied();
            }
            result = Some(outcome.table.clone());
            accounted.push(Accounted::from_outcome(outcome));
        }
        let result = result.ok_or_else(|| failed(self.end(), no_result()))?;
        Ok((accounted, Data::Table(result)))
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
    plan.filter(|plan| *plan.kind() == Kind::ByRow)
}

/// The tables, or their first rows.
pub(super) fn samples(inputs: &[(String, Data)]) -> Vec<(String, Table)> {
    inputs.iter().map(|(name, input)| (name.clone(), input.sample().clone())).collect()
}
