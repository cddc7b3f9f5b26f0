//! [`Prepared`]: the implementation of a plan, with one small trait for each way to work on rows.

use super::{EntityPart, Overall, Pieces, State};
use crate::{
    context::{Context, Sink},
    error::{Error, Result},
    ledger::Outcome,
    table::Table,
};
use std::sync::Arc;

/// Applies a plan to whole tables, or to parts of them.
pub(crate) trait Apply: Send + Sync {
    /// The result for tables of the shapes that the plan was prepared for.
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome>;

    /// Delivers the result in batches. The table of the outcome has no rows.
    fn apply_into(
        &self,
        tables: &[&Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        handed_over(self.apply(tables, context)?, sink)
    }
}

/// Folds batches into a small state.
pub(crate) trait FoldBatches: Send + Sync {
    /// The empty state.
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State>;
}

/// Takes the rows of one entity in pieces, in order of their dates.
pub(crate) trait InOrder: Apply {
    /// What is carried from piece to piece, at the beginning.
    fn begin(self: Arc<Self>) -> Box<dyn Pieces>;
}

/// Takes pieces of the first table beside all rows of the second.
pub(crate) trait Beside: Apply {
    /// What is carried from piece to piece, at the beginning.
    fn begin(self: Arc<Self>, second: Table) -> Box<dyn Pieces>;
}

/// Adapts a plan to parts of the rows.
pub(crate) trait InParts: Send + Sync {
    /// What is known of a batch that is needed of all rows before a part of them can be processed;
    /// none if parts need nothing.
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>>;

    /// The same plan for parts of the rows, which together are like this.
    fn for_parts(&self, overall: Overall) -> Prepared;

    /// The same plan for one part of the entities, with rows of the table that tell its types; none
    /// if it is the same for each part.
    fn for_part(&self, part: EntityPart, sample: &Table) -> Result<Option<Prepared>> {
        let _ = (part, sample);
        Ok(None)
    }
}

/// How a plan works on rows.
#[derive(Clone)]
pub(super) enum Work {
    Apply(Arc<dyn Apply>),
    Fold(Arc<dyn FoldBatches>),
    InOrder(Arc<dyn InOrder>),
    Beside(Arc<dyn Beside>),
}

/// The implementation of a plan. Cloning it is cheap.
#[derive(Clone)]
pub(crate) struct Prepared {
    pub(super) work: Work,
    /// None if the plan for a part is the same as that for all rows.
    pub(super) parts: Option<Arc<dyn InParts>>,
}

impl Prepared {
    pub(crate) fn applied(plan: Arc<impl Apply + 'static>) -> Prepared {
        Prepared { work: Work::Apply(plan), parts: None }
    }

    pub(crate) fn folded(plan: Arc<impl FoldBatches + 'static>) -> Prepared {
        Prepared { work: Work::Fold(plan), parts: None }
    }

    pub(crate) fn in_order(plan: Arc<impl InOrder + 'static>) -> Prepared {
        Prepared { work: Work::InOrder(plan), parts: None }
    }

    pub(crate) fn beside(plan: Arc<impl Beside + 'static>) -> Prepared {
        Prepared { work: Work::Beside(plan), parts: None }
    }

    /// The same, which the plan itself adapts to parts.
    pub(crate) fn in_parts(self, plan: Arc<impl InParts + 'static>) -> Prepared {
        Prepared { parts: Some(plan), ..self }
    }

    /// Errors: the plan folds, and is not applied in another way.
    pub(super) fn expect_applied(&self) -> Result<&dyn Apply> {
        match &self.work {
            Work::Apply(plan) => Ok(&**plan),
            Work::InOrder(plan) => Ok(&**plan),
            Work::Beside(plan) => Ok(&**plan),
            Work::Fold(_) => Err(Error::Broken { invariant: "a plan that folds was applied" }),
        }
    }
}

/// Delivers a result that is complete.
pub(crate) fn handed_over(outcome: Outcome, sink: &mut Sink<'_>) -> Result<Outcome> {
    sink(&outcome.table).map_err(Error::Sink)?;
    Ok(Outcome { table: outcome.table.emptied(), ..outcome })
}
