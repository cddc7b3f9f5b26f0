//! [`TotalsState`]: the state of a fold of totals.

use super::{
    TotalsPlan,
    cells::{Groups, Keys},
    partial::{PackedPart, PartialTotals},
    sheet,
};
use crate::{
    context::Context,
    entities::GrowingKeys,
    error::Result,
    ledger::Outcome,
    packed::{packed, unpacked},
    plan::{NumberedRows, State},
    table::Table,
};
use arrow_buffer::BooleanBuffer;
use std::{any::Any, sync::Arc};

/// The state of totals.
pub(super) struct TotalsState {
    plan: Arc<TotalsPlan>,
    context: Context,
    /// The part of the only batch so far. Its entities and columns are in order already.
    only: Option<PartialTotals>,
    /// The entities and columns of several batches, in the order in which they came.
    entities: GrowingKeys,
    sides: GrowingKeys,
    /// The parts of several batches. Each has more than twice as many cells as the next one, so
    /// that a cell is merged a few times only.
    parts: Vec<PartialTotals>,
    set_aside: NumberedRows,
}

impl TotalsState {
    pub(super) fn begin(plan: Arc<TotalsPlan>, context: &Context) -> Box<dyn State> {
        Box::new(TotalsState::new(&plan, context))
    }

    fn new(plan: &Arc<TotalsPlan>, context: &Context) -> TotalsState {
        TotalsState {
            plan: plan.clone(),
            context: context.clone(),
            only: None,
            entities: GrowingKeys::new(),
            sides: GrowingKeys::new(),
            parts: Vec::new(),
            set_aside: NumberedRows::default(),
        }
    }

    /// Makes the only part the first of several.
    fn begin_several(&mut self) -> Result<()> {
        let Some(only) = self.only.take() else { return Ok(()) };
        self.add_ordered(only)
    }

    /// Adds a part whose entities and columns are in an order of their own.
    fn add_ordered(&mut self, part: PartialTotals) -> Result<()> {
        let entities = self.entities.number(&part.groups.entities.values)?.into_ids();
        let sides = self.sides.number(&part.groups.sides.values)?.into_ids();
        self.add(part.moved(&entities, &sides)?)
    }

    fn add(&mut self, part: PartialTotals) -> Result<()> {
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

    /// The part of all batches, with its entities and columns in order.
    fn into_one(self) -> Result<Option<PartialTotals>> {
        if self.only.is_some() {
            return Ok(self.only);
        }
        let mut parts = self.parts.into_iter().rev();
        let Some(last) = parts.next() else { return Ok(None) };
        let part = parts.try_fold(last, |after, before| before.merged(after))?;
        let in_order = |keys: GrowingKeys, none: &Table| match keys.values()? {
            Some(values) => Keys::of_values(values),
            None => Keys::of_values(none.clone()),
        };
        let entities = in_order(self.entities, &part.groups.entities.values)?;
        let sides = in_order(self.sides, &part.groups.sides.values)?;
        let mut part = part.moved(&entities.of_rows(), &sides.of_rows())?;
        (part.groups.entities, part.groups.sides) = (entities, sides);
        Ok(Some(part))
    }
}

impl State for TotalsState {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.begin_several()?;
        let is_first = self.parts.is_empty();
        let groups = if is_first {
            Groups::from_table(&self.plan, batch)?
        } else {
            Groups::of_batch(&self.plan, batch, (&mut self.entities, &mut self.sides))?
        };
        let (part, set_aside) = PartialTotals::compute(&self.plan, batch, groups, &self.context)?;
        let set_aside = set_aside.without_others_texts()?;
        let undated = set_aside_rows(&self.plan, batch);
        self.set_aside.add(&set_aside, undated.set_indices().map(|row| first_row + row as u64));
        if is_first {
            self.only = Some(part);
            return Ok(());
        }
        self.add(part)
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        let Ok(mut other) = other.downcast::<TotalsState>() else { return Ok(()) };
        self.set_aside.merge(std::mem::take(&mut other.set_aside));
        self.begin_several()?;
        other.into_one()?.map_or(Ok(()), |part| self.add_ordered(part))
    }

    fn bytes(&self) -> u64 {
        let parts: u64 = self.only.iter().chain(&self.parts).map(PartialTotals::bytes).sum();
        parts + self.entities.bytes() + self.sides.bytes() + self.set_aside.bytes()
    }

    fn set_aside(&mut self) -> Option<&mut NumberedRows> {
        Some(&mut self.set_aside)
    }

    fn packed(&mut self) -> Result<Vec<u8>> {
        let set_aside = std::mem::take(&mut self.set_aside);
        let state = std::mem::replace(self, TotalsState::new(&self.plan, &self.context));
        let part = state.into_one()?.map(PartialTotals::packed).transpose()?;
        packed(&(part, set_aside))
    }

    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        let (part, set_aside): (Option<PackedPart>, NumberedRows) = unpacked(bytes)?;
        self.set_aside.merge(set_aside);
        let Some(part) = part else { return Ok(()) };
        self.begin_several()?;
        // A table without rows has what follows from the plan alone.
        let none = self.plan.empty_table()?;
        let groups = Groups::from_table(&self.plan, &none)?;
        let (mut all, _) = PartialTotals::compute(&self.plan, &none, groups, &self.context)?;
        all = all.compact()?;
        all.unpack(part)?;
        self.add_ordered(all)
    }

    fn finish(self: Box<Self>) -> Result<Outcome> {
        let (plan, context) = (self.plan.clone(), self.context.clone());
        let mut state = *self;
        let set_aside = std::mem::take(&mut state.set_aside);
        let (part, none) = match state.into_one()? {
            Some(part) => (part, None),
            None => {
                let empty = plan.empty_table()?;
                let (part, none) = PartialTotals::compute(
                    &plan,
                    &empty,
                    Groups::from_table(&plan, &empty)?,
                    &context,
                )?;
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
