//! [`Columns`]: selects, orders and renames columns.

use super::all_kept;
use crate::{
    context::Context,
    error::{Error, Result, in_setting},
    ledger::{Accounting, Outcome},
    operation::{Operation, callable},
    plan::{Apply, Inputs, Kind, Plan, Prepared},
    shape::{Named, Shape},
    table::Table,
};
use serde::Serialize;
use std::sync::Arc;

/// Selects columns in this order, and renames them: `a, b as c`.
///
/// All rows are kept, in order. Errors: a column is missing; two columns would have the same name.
/// Cost: none for each row.
///
/// ```
/// use jembric_core::{Columns, Table, arrow::{ArrayRef, Int64Array}};
/// use std::sync::Arc;
///
/// let tons: ArrayRef = Arc::new(Int64Array::from(vec![3]));
/// let lifts = Table::from_columns([("tons", tons.clone()), ("crane", tons)])?;
///
/// let outcome = Columns::new(["tons as weight"]).apply(&lifts)?;
/// assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["weight"]);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "columns",
    does = "Select, order and rename columns",
    answers = "Which columns belong in the report?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Columns {
    /// Keep these columns, in this order; `b as c` renames one.
    #[setting(list = "'a, b as c, …'", required)]
    pub keep: Vec<String>,
}

callable!(Columns);

impl Columns {
    /// Selects these columns; `b as c` renames one.
    pub fn new<N: Into<String>>(keep: impl IntoIterator<Item = N>) -> Columns {
        Columns { keep: keep.into_iter().map(Into::into).collect() }
    }

    fn named(&self, shape: &Shape) -> Result<Vec<Named>> {
        let named = shape.named(&self.keep)?;
        for (n, column) in named.iter().enumerate() {
            if named[..n].iter().any(|other| other.shown_as == column.shown_as) {
                return Err(Error::TwoColumnsOfOneName {
                    file: None,
                    name: column.shown_as.clone(),
                });
            }
        }
        Ok(named)
    }
}

impl Operation for Columns {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let accounting = Accounting::prepare(shape, context)?;
        let named = in_setting("keep", || self.named(shape))?;
        let uses = Inputs::new().using_named(&named).accounting(&accounting);
        let result = shape.select(&named)?;
        let plan =
            ColumnsPlan { named, step: format!("columns {}", self.keep.join(", ")), accounting };
        let prepared = Prepared::applied(Arc::new(plan));
        Ok(Plan::new(&[shape], context, (result, uses, Kind::ByRow), prepared))
    }
}

struct ColumnsPlan {
    named: Vec<Named>,
    step: String,
    accounting: Accounting,
}

impl Apply for ColumnsPlan {
    fn apply(&self, tables: &[&Table], _: &Context) -> Result<Outcome> {
        let table = tables[0];
        all_kept(table.select(&self.named)?, self.step.clone(), table, &self.accounting, |_| {})
    }
}
