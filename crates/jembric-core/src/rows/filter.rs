//! [`Filter`]: keeps the rows for which a condition is true.

use crate::{
    context::Context,
    error::{Result, in_setting},
    expression::{BoundExpression, Expression},
    kind::Type,
    ledger::{Accounting, Cause, Outcome, Reason, RowMasks},
    operation::{Operation, callable},
    plan::{Apply, Inputs, Kind, Plan, Prepared},
    shape::Shape,
    table::Table,
};
use arrow_array::Array;
use arrow_buffer::BooleanBuffer;
use serde::Serialize;
use std::sync::Arc;

/// Keeps the rows for which a condition is true: `level > 3.2 and weekday(day) in (tue, thu)`.
///
/// Rows keep their order. Dropped: rows for which the condition is false, and, counted separately,
/// rows for which it is unknown because it compares a missing value. See [`Expression`] for the
/// language.
///
/// Errors: the condition is invalid, or does not fit the columns. Cost: one pass for each operator
/// and function of the condition, and one read and write of the rows that are kept.
///
/// ```
/// use jembric_core::{Filter, Table, arrow::{ArrayRef, Int64Array}};
/// use std::sync::Arc;
///
/// let level: ArrayRef = Arc::new(Int64Array::from(vec![Some(3), None, Some(5)]));
/// let gauge = Table::from_columns([("level", level)])?;
///
/// let outcome = Filter::new("level > 3").apply(&gauge)?;
/// assert_eq!((outcome.table.rows(), outcome.ledger.rows_in), (1, 3));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "filter",
    does = "Keep the rows for which a condition is true",
    answers = "Which readings on Tuesdays exceed 3.2 metres?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Filter {
    /// The condition, such as 'level > 3.2 and weekday(day) in (tue, thu)'. See README.md for the
    /// language.
    #[setting(expression, required)]
    pub condition: String,
    /// Keep all rows, and add a column with this name that has the value of the condition.
    #[setting(name)]
    pub mark: Option<String>,
}

callable!(Filter);

impl Filter {
    /// Keeps the rows for which this condition is true.
    pub fn new(condition: impl Into<String>) -> Filter {
        Filter { condition: condition.into(), ..Filter::default() }
    }
}

impl Operation for Filter {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let condition = in_setting("condition", || {
            self.condition.parse::<Expression>()?.bind_condition(shape, context)
        })?;
        let accounting = Accounting::prepare(shape, context)?.warning_of([Cause::ConditionUnknown]);
        let result = match &self.mark {
            None => shape.clone(),
            Some(name) => in_setting("mark", || shape.with(name, Type::Boolean))?,
        };
        let uses =
            Inputs::passing(shape).using(condition.columns.iter().copied()).accounting(&accounting);
        let plan = FilterPlan { condition, mark: self.mark.clone(), accounting };
        let prepared = Prepared::applied(Arc::new(plan));
        Ok(Plan::new(&[shape], context, (result, uses, Kind::ByRow), prepared))
    }
}

struct FilterPlan {
    condition: BoundExpression,
    mark: Option<String>,
    accounting: Accounting,
}

impl Apply for FilterPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        let (truth, unanswered) = self.condition.condition(table, context)?;
        let (kept, dropped) = match truth.nulls() {
            None => {
                let not_true = !truth.values();
                (truth.values().clone(), vec![(Reason::ConditionNotTrue, not_true)])
            }
            Some(decided) => {
                let kept: BooleanBuffer = truth.values() & decided.inner();
                let not_true = decided.inner() & &!&kept;
                let undecided = !decided.inner();
                let dropped = vec![
                    (Reason::ConditionNotTrue, not_true),
                    (Reason::ConditionUndecided, undecided),
                ];
                (kept, dropped)
            }
        };
        let masks = RowMasks { kept: kept.clone(), dropped, set_aside: Vec::new() };
        let step = format!("filter {}", self.condition);
        let mut outcome = match &self.mark {
            None => {
                let (ledger, set_aside) = masks.account(step, table, &self.accounting)?;
                Outcome { table: table.filter(&kept)?, ledger, set_aside }
            }
            Some(name) => {
                let (mut ledger, set_aside) =
                    masks.account_of_all_kept(step, table, &self.accounting)?;
                ledger.counts.insert(0, ("rows marked".into(), kept.count_set_bits() as u64));
                Outcome {
                    table: table.with_column(name, Arc::new(truth))?.anonymous(),
                    ledger,
                    set_aside,
                }
            }
        };
        outcome.ledger.tell(&self.condition, unanswered, context);
        Ok(outcome)
    }
}
