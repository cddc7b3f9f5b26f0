//! [`TotalsState`]: the state of a fold of totals.

use super::{TotalsPlan, part::Part, sheet};
use crate::{
    context::Context,
    error::Result,
    ledger::Outcome,
    plan::{NumberedRows, State},
    table::Table,
};
use arrow_buffer::BooleanBuffer;
use std::{any::Any, sync::Arc};

/// The state of totals: parts for the batches so far, in order. Each has more than twice as many
/// cells as the next one, so that a cell is merged a few times only.
pub(super) struct TotalsState {
    plan: Arc<TotalsPlan>,
    context: Context,
    parts: Vec<Part>,
    set_aside: NumberedRows,
}

impl TotalsState {
    pub(super) fn begin(plan: Arc<TotalsPlan>, context: &Context) -> Box<dyn State> {
        let (context, set_aside) = (context.clone(), NumberedRows::default());
        Box::new(TotalsState { plan, context, parts: Vec::new(), set_aside })
    }

    fn add(&mut self, part: Part) -> Result<()> {
        // Several parts must not keep their batches in memory.
        let mut part = match self.parts.pop() {
            None => part,
            Some(before) => {
                self.parts.push(before.compact()?);
                part.compact()?
            }
        };
        while self.parts.last().is_some_and(|before| before.cells() <= 2 * part.cells()) {
            let Some(before) = self.parts.pop() else { break };
            part = before.merged(part)?;
        }
        self.parts.push(part);
        Ok(())
    }

    /// The part of all batches.
    fn merged(parts: Vec<Part>) -> Result<Option<Part>> {
        let mut parts = parts.into_iter().rev();
        let Some(last) = parts.next() else { return Ok(None) };
        parts.try_fold(last, |after, before| before.merged(after)).map(Some)
    }
}

impl State for TotalsState {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        let (part, set_aside) = Part::of(&self.plan, batch, &self.context)?;
        let set_aside = set_aside.without_others_texts()?;
        let undated = set_aside_rows(&self.plan, batch);
        self.set_aside.add(&set_aside, undated.set_indices().map(|row| first_row + row as u64));
        self.add(part)
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        let Ok(other) = other.downcast::<TotalsState>() else { return Ok(()) };
        self.set_aside.merge(other.set_aside);
        TotalsState::merged(other.parts)?.map_or(Ok(()), |part| self.add(part))
    }

    fn bytes(&self) -> u64 {
        self.parts.iter().map(Part::bytes).sum::<u64>() + self.set_aside.bytes()
    }

    fn forget_set_aside(&mut self) {
        self.set_aside.clear();
    }

    fn finish(self: Box<Self>) -> Result<Outcome> {
        let TotalsState { plan, context, parts, set_aside } = *self;
        let (part, none) = match TotalsState::merged(parts)? {
            Some(part) => (part, None),
            None => {
                let (part, none) = Part::of(&plan, &plan.empty_table()?, &context)?;
                (part, Some(none))
            }
        };
        let set_aside = set_aside.in_order()?.or(none);
        let set_aside = set_aside.map_or_else(|| plan.empty_table(), Ok)?;
        sheet::outcome(&plan, part, set_aside, &context)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

/// The rows of a batch without any of the dates.
fn set_aside_rows(plan: &TotalsPlan, batch: &Table) -> BooleanBuffer {
    let dated = plan.dates.iter().map(|named| batch.dates_at(named.place).nulls());
    let undated = dated.map(|nulls| match nulls {
        Some(nulls) => !nulls.inner(),
        None => BooleanBuffer::new_unset(batch.rows()),
    });
    undated
        .reduce(|one, other| &one & &other)
        .unwrap_or_else(|| BooleanBuffer::new_unset(batch.rows()))
}
