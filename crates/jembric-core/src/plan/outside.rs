//! [`RowsLeftOut`]: a plan of another crate of this project, which passes its table on except for
//! some rows.

use super::{Apply, Inputs, Kind, Plan, Prepared};
use crate::{
    context::Context,
    error::Result,
    ledger::{Accounting, Outcome, Reason, RowMasks},
    shape::Shape,
    table::Table,
};
use arrow_buffer::BooleanBuffer;
use std::sync::Arc;

/// The rows of a table that are not passed on, each with its reason, and what the ledger says
/// besides.
#[derive(Clone, Debug, Default)]
pub struct RowsLeftOut {
    /// The step in words.
    pub step: String,
    /// The rows that the settings leave out. No row has two reasons.
    pub dropped: Vec<(Reason, BooleanBuffer)>,
    /// The rows that cannot be used.
    pub set_aside: Vec<(Reason, BooleanBuffer)>,
    /// Further counts, by name.
    pub counts: Vec<(String, u64)>,
    /// The time zone, if points in time were converted.
    pub zone: Option<String>,
}

impl RowsLeftOut {
    /// The outcome for the table, without these rows.
    ///
    /// Errors: a column to reconcile is missing or holds no numbers.
    pub fn outcome(self, table: &Table, context: &Context) -> Result<Outcome> {
        let accounting = Accounting::prepare(&table.shape(), context)?;
        let RowsLeftOut { step, dropped, set_aside, counts, zone } = self;
        let none = BooleanBuffer::new_unset(table.rows());
        let left_out = dropped.iter().chain(&set_aside).fold(none, |all, (_, rows)| &all | rows);
        let kept = !&left_out;
        let masks = RowMasks { kept: kept.clone(), dropped, set_aside };
        let (mut ledger, set_aside) = masks.account(step, table, &accounting)?;
        ledger.zone = zone;
        counts.into_iter().for_each(|(name, count)| ledger.note(name, count));
        Ok(Outcome { table: table.filter(&kept)?.anonymous(), ledger, set_aside })
    }
}

impl Plan {
    /// A plan that passes its table on, except for the rows that `leave_out` finds. It uses these
    /// columns.
    ///
    /// Errors: a column to reconcile is missing, or is known to hold no numbers.
    #[doc(hidden)]
    pub fn leaving_out(
        shape: &Shape,
        context: &Context,
        used: impl IntoIterator<Item = usize>,
        leave_out: impl Fn(&Table, &Context) -> Result<RowsLeftOut> + Send + Sync + 'static,
    ) -> Result<Plan> {
        let accounting = Accounting::prepare(shape, context)?;
        let uses = Inputs::passing(shape).using(used).accounting(&accounting);
        let prepared = Prepared::applied(Arc::new(LeavingOutPlan { leave_out }));
        Ok(Plan::new(&[shape], context, (shape.clone(), uses, Kind::Whole), prepared))
    }
}

struct LeavingOutPlan<J> {
    leave_out: J,
}

impl<J: Fn(&Table, &Context) -> Result<RowsLeftOut> + Send + Sync> Apply for LeavingOutPlan<J> {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        (self.leave_out)(tables[0], context)?.outcome(tables[0], context)
    }
}
