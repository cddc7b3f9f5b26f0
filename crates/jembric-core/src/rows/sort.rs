//! [`Sort`]: sorts rows by some columns.

use super::all_kept;
use crate::{
    context::Context,
    error::{Result, in_setting},
    ledger::{Accounting, Outcome},
    operation::{Operation, callable},
    plan::{Apply, Division, Inputs, Kind, Plan, Prepared},
    shape::Shape,
    table::Table,
};
use serde::Serialize;
use std::sync::Arc;

/// Sorts rows by some columns, the first one first.
///
/// Missing values come last in both directions. Texts are sorted by the numbers of their
/// characters, but weekdays and bands in their own order. Rows that are equal in all of these
/// columns keep their order.
///
/// Errors: a column is missing. Cost: a sort of a packed number for each row on all
/// threads, and one read and write of all columns. (Long texts that mostly differ are compared.)
///
/// ```
/// use jembric_core::{Column, Sort, Table};
/// use jembric_core::arrow::{ArrayRef, Int64Array, cast::AsArray, types::Int64Type};
/// use std::sync::Arc;
///
/// let tons: ArrayRef = Arc::new(Int64Array::from(vec![3, 9, 4]));
/// let lifts = Table::from_columns([("tons", tons)])?;
///
/// let outcome = Sort::new([Column::new("tons").down()]).apply(&lifts)?;
/// let sorted = outcome.table.column("tons")?.as_primitive::<Int64Type>();
/// assert_eq!(sorted, &Int64Array::from(vec![9, 4, 3]));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "sort",
    does = "Sort rows by columns",
    answers = "Which lifts were the heaviest?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Sort {
    /// Sort by these columns, the first one first; `COL:down` sorts one in descending order.
    #[setting(list = "COL[:down],…", required)]
    pub by: Vec<String>,
}

callable!(Sort);

impl Sort {
    /// Sorts by these columns; `COLUMN:down` sorts one in descending order.
    pub fn new<N: Into<String>>(by: impl IntoIterator<Item = N>) -> Sort {
        Sort { by: by.into_iter().map(Into::into).collect() }
    }

    /// The place of each column, and whether it is descending.
    fn keys(&self, shape: &Shape) -> Result<Vec<(usize, bool)>> {
        let one = |text: &String| {
            let (name, down) = match text.rsplit_once(':') {
                Some((name, way @ ("down" | "up"))) if shape.find(text).is_err() => {
                    (name.trim(), way == "down")
                }
                _ => (text.as_str(), false),
            };
            Ok((shape.place(name)?, down))
        };
        in_setting("by", || self.by.iter().map(one).collect())
    }
}

impl Operation for Sort {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let accounting = Accounting::prepare(shape, context)?;
        let keys = self.keys(shape)?;
        let uses = Inputs::passing(shape)
            .using(keys.iter().map(|(place, _)| *place))
            .accounting(&accounting);
        let plan = SortPlan { keys, step: format!("sort by {}", self.by.join(", ")), accounting };
        let kind = Kind::Divided(Division::Sorted(plan.keys.clone()));
        let prepared = Prepared::applied(Arc::new(plan));
        Ok(Plan::new(&[shape], context, (shape.clone(), uses, kind), prepared))
    }
}

struct SortPlan {
    /// The place of each column, and whether it is descending.
    keys: Vec<(usize, bool)>,
    step: String,
    accounting: Accounting,
}

impl Apply for SortPlan {
    fn apply(&self, tables: &[&Table], _: &Context) -> Result<Outcome> {
        let table = tables[0];
        let order = table.sorted_rows(&self.keys)?;
        all_kept(table.take(&order)?, self.step.clone(), table, &self.accounting, |_| {})
    }
}
