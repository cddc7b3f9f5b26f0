//! [`Larger`]: a step whose tables are larger than memory, and what all ways to apply it share.

use crate::{
    CoreError, Outcome, Plan, Shape, Table,
    data::{
        Data, Receiver, bytes_of,
        collect::{Collector, in_batches},
        memory::Memory,
        progress::Phase,
        spill::{Frame, SpillWriter},
    },
    error::{Error, Result},
};
use jembric_core::{Overall, Places, Sink};
use rayon::prelude::*;
use std::ops::ControlFlow;

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
    /// Whether the tables are a share of all rows, of which the plan knows what it must
    /// ([`Plan::for_parts`]).
    pub(crate) knows_all: bool,
    /// Whether the rows of the tables have row numbers, which the result and the rows set aside
    /// keep.
    pub(crate) keeps_numbers: bool,
    /// The number of the first row of the first table among the rows of all processes.
    pub(crate) first_row: u64,
}

impl Larger<'_> {
    /// Delivers the rows of an input in batches that are not much longer than the budget allows.
    pub(super) fn each(
        &self,
        input: &Data,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()> {
        self.each_until(input, &mut |batch| take(batch).map(ControlFlow::Continue)).map(|_| ())
    }

    /// The same, until the receiver breaks. Returns whether it did.
    pub(super) fn each_until(
        &self,
        input: &Data,
        take: &mut Receiver<'_>,
    ) -> Result<ControlFlow<()>> {
        let most = self.memory.batch();
        let name = input.sample().origin().map(|origin| origin.file());
        let mut rows = 0;
        input.each_until(&mut |batch| {
            let batch = batch.with_first_row(self.first_row + rows);
            rows += batch.rows() as u64;
            let batches = if bytes_of(&batch) > 2 * most {
                in_batches(vec![batch], most)?
            } else {
                vec![batch]
            };
            for batch in batches {
                if take(batch)?.is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
            self.memory.tell(Phase::Reading, name, rows, input.rows());
            Ok(ControlFlow::Continue(()))
        })
    }

    /// Applies the plan to tables that are in memory, or as to larger ones.
    pub(super) fn in_memory_or_larger(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let whole = |input: &&Data| Some(input.table()?.clone().with_first_row(self.first_row));
        let tables: Option<Vec<Table>> = self.inputs.iter().map(whole).collect();
        let Some(tables) = tables else { return self.apply_into(take) };
        let outcome = applied(self.plan, &tables.iter().collect::<Vec<_>>(), take)?;
        Ok(Accounted::from_outcome(self.without_needless_rows(outcome)))
    }

    /// The plan, with what is known of all rows, unless it knows that already.
    pub(super) fn for_parts(&self, plan: Plan, overall: Option<Overall>) -> Plan {
        match overall {
            Some(overall) if !self.knows_all => plan.for_parts(overall),
            _ => plan,
        }
    }

    /// Whether all rows must be surveyed before they are divided.
    pub(super) fn surveys(&self) -> Result<bool> {
        if self.knows_all {
            return Ok(false);
        }
        let Some(first) = self.inputs.first() else { return Ok(false) };
        Ok(self.plan.survey(&first.sample().emptied())?.is_some())
    }

    pub(super) fn samples(&self) -> Vec<&Table> {
        self.inputs.iter().map(|input| input.sample()).collect()
    }

    /// The shapes of the tables with row numbers.
    pub(super) fn numbered_shapes(&self) -> Result<Vec<Shape>> {
        let numbered = |(place, input): (usize, &&Data)| {
            if self.keeps_numbers {
                Ok(input.sample().shape())
            } else {
                input.sample().shape().with_row_numbers(place)
            }
        };
        let shapes = self.inputs.iter().enumerate().map(numbered);
        Ok(shapes.collect::<std::result::Result<_, CoreError>>()?)
    }

    /// Rows of a result, without the numbers that this step has given to them.
    pub(super) fn without_own_numbers(&self, rows: &Table) -> Result<Table> {
        if self.keeps_numbers { Ok(rows.clone()) } else { Ok(rows.without_row_numbers()?) }
    }

    /// The wrong places of two parts of the rows. Those of the first table take precedence, as they
    /// do for whole tables.
    pub(super) fn both_places(&self, one: Places, other: Places) -> Places {
        let origin = self.inputs[0].sample().origin();
        let first = origin.map_or("now", |origin| origin.file());
        let is_of_first =
            |places: &Places| matches!(places, Places::DuplicateKeys { side, .. } if side == first);
        if is_of_first(&other) && !is_of_first(&one) { other } else { one.plus(other) }
    }

    /// Applies the plan to all rows at once, if they fit.
    pub(super) fn as_a_whole(&self, take: &mut Take<'_>) -> Result<Accounted> {
        let tables = self.inputs.iter().map(|input| input.whole(self.memory));
        let tables = tables.collect::<Result<Vec<Table>>>()?;
        let tables: Vec<&Table> = tables.iter().collect();
        let outcome = applied(self.plan, &tables, take)?;
        Ok(Accounted::from_outcome(self.without_needless_rows(outcome)))
    }

    /// The error of rows that are too many to be together.
    pub(super) fn needs_memory(&self, rows: u64, bytes: u64) -> Error {
        let (needed, budget) = (Memory::needed_for(bytes), self.memory.budget());
        Error::NeedsMemory { rows, needed, budget }
    }

    pub(super) fn without_needless_rows(&self, mut outcome: Outcome) -> Outcome {
        if !self.keeps_aside {
            outcome.set_aside = outcome.set_aside.emptied();
        }
        outcome
    }
}

/// Applies a plan, and delivers the result in batches.
pub(super) fn applied(plan: &Plan, tables: &[&Table], take: &mut Take<'_>) -> Result<Outcome> {
    delivered(take, |sink| plan.apply_into(tables, sink))
}

/// Delivers what is made to a receiver, whose error is the one that is told.
pub(super) fn delivered(
    take: &mut Take<'_>,
    make: impl FnOnce(&mut Sink<'_>) -> std::result::Result<Outcome, CoreError>,
) -> Result<Outcome> {
    let mut failed = None;
    let outcome = make(&mut |batch| {
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

pub(super) fn write_all(writer: &mut SpillWriter, table: Table, bytes: u64) -> Result<()> {
    let batches = in_batches(vec![table], bytes)?;
    // Packing takes longer than writing.
    for several in batches.chunks(4 * rayon::current_num_threads()) {
        let frames: Vec<Result<Frame>> = several.par_iter().map(Frame::pack).collect();
        for frame in frames {
            writer.append(&frame?)?;
        }
    }
    Ok(())
}

/// What is known of the rows so far, and of a batch.
pub(super) fn both(overall: Option<Overall>, of_batch: Option<Overall>) -> Result<Option<Overall>> {
    Ok(match (overall, of_batch) {
        (Some(one), Some(other)) => Some(one.plus(other)?),
        (one, other) => one.or(other),
    })
}

/// What came of a step: its result, and the rows that it set aside.
pub(crate) struct Accounted {
    /// The table of the rows set aside has only its columns here.
    pub(crate) outcome: Outcome,
    pub(crate) set_aside: Data,
}

impl Accounted {
    pub(crate) fn from_outcome(mut outcome: Outcome) -> Accounted {
        let columns = outcome.set_aside.emptied();
        let set_aside = Data::Table(std::mem::replace(&mut outcome.set_aside, columns));
        Accounted { outcome, set_aside }
    }
}

/// The account of a step, merged from those of its parts.
pub(crate) struct Account {
    /// Only the columns of the result, and of the rows set aside.
    outcome: Option<Outcome>,
    set_aside: Collector,
}

impl Account {
    pub(crate) fn new(memory: &Memory) -> Account {
        Account { outcome: None, set_aside: Collector::new(memory) }
    }

    /// Merges the account of a part, and returns its result.
    pub(crate) fn add(&mut self, mut outcome: Outcome) -> Result<Table> {
        self.set_aside.take(&outcome.set_aside)?;
        let answer = outcome.table.clone();
        match &mut self.outcome {
            None => {
                outcome.table = answer.emptied();
                outcome.set_aside = outcome.set_aside.emptied();
                self.outcome = Some(outcome);
            }
            Some(all) => all.ledger = all.ledger.clone().merge(&outcome.ledger),
        }
        Ok(answer)
    }

    pub(crate) fn finish(self) -> Result<Accounted> {
        match (self.outcome, self.set_aside.finish()?) {
            (Some(outcome), Some(set_aside)) => Ok(Accounted { outcome, set_aside }),
            _ => Err(CoreError::Broken { invariant: "a step gave no result" }.into()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_step_without_a_result_is_a_mistake_of_the_program() {
        let error = Account::new(&Memory::unlimited()).finish().err().unwrap().to_string();
        assert!(
            error.starts_with("this is a mistake in Jembric: a step gave no result"),
            "{error}"
        );
    }
}
