//! Spells over rows that come in order of their dates, piece by piece. What is carried is the spell
//! that has not ended.

use super::{Piece, SpellsOf, SpellsPlan, of_intervals::Spell, of_states::StateSpell};
use crate::{
    context::Context,
    error::Result,
    ledger::Outcome,
    plan::{Pieces, before_last_day},
    table::Table,
};
use std::sync::Arc;

/// A plan with the spell that is left of earlier pieces.
pub(super) struct Carrying {
    plan: Arc<SpellsPlan>,
    of_intervals: Option<Spell>,
    /// With a row that has its state.
    of_states: Option<(Table, StateSpell)>,
}

impl Carrying {
    pub(super) fn begin(plan: Arc<SpellsPlan>) -> Carrying {
        Carrying { plan, of_intervals: None, of_states: None }
    }
}

impl Pieces for Carrying {
    fn complete(&self, rows: &Table, context: &Context) -> usize {
        let dates = rows.dates_at(self.plan.spells_of.date());
        before_last_day(rows.rows(), &dates, &context.zone)
    }

    fn take(&mut self, rows: &Table, are_last: bool, context: &Context) -> Result<Outcome> {
        let plan = &self.plan;
        match &plan.spells_of {
            SpellsOf::States { date, value } => {
                let piece = Piece { left: &mut self.of_states, are_last };
                plan.of_dated_states(rows, *date, value, Some(piece), context)
            }
            SpellsOf::Intervals(rules) => {
                let piece = Piece { left: &mut self.of_intervals, are_last };
                let entities = plan.entities(rows)?;
                plan.of_table_intervals(rows, rules, &entities, Some(piece), context)
            }
        }
    }
}
