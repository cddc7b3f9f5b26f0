//! [`Add`]: adds columns computed from other columns.

use super::all_kept;
use crate::{
    calendar::ValueError,
    context::Context,
    error::{Result, in_setting},
    expression::{BoundExpression, Expression},
    kind::Type,
    ledger::{Accounting, Outcome},
    operation::{Operation, callable},
    plan::{Apply, Division, Inputs, Kind, Plan, Prepared},
    shape::{ColumnShape, Shape},
    table::Table,
};
use serde::Serialize;
use std::sync::Arc;

/// Adds columns computed from other columns: `fee = amount * 0.075`.
///
/// All rows are kept, in order. A column may use the columns added before it. See [`Expression`]
/// for the language. The ledger counts divisions by zero and dates that do not exist, which are
/// missing.
///
/// Errors: an expression is invalid, or does not fit the columns; a name is taken; a number is too
/// large to be exact; a date leaves the calendar. Cost: one pass for each operator and function.
///
/// ```
/// use jembric_core::{Add, Table, arrow::{ArrayRef, Int64Array}};
/// use std::sync::Arc;
///
/// let tons: ArrayRef = Arc::new(Int64Array::from(vec![3, 4]));
/// let lifts = Table::from_columns([("tons", tons)])?;
///
/// let outcome = Add::new(["fee = tons * 7"]).apply(&lifts)?;
/// assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["tons", "fee"]);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "add",
    does = "Add columns computed from other columns",
    answers = "How many days late is each payment, and what is the fee?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Add {
    /// A column and its expression, such as 'fee = amount * 0.075'. See README.md for the language.
    #[setting(several = "NAME = EXPR", required)]
    pub columns: Vec<String>,
}

callable!(Add);

impl Add {
    /// Adds these columns, each given as `name = expression`.
    pub fn new<N: Into<String>>(columns: impl IntoIterator<Item = N>) -> Add {
        Add { columns: columns.into_iter().map(Into::into).collect() }
    }
}

impl Operation for Add {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let accounting = Accounting::prepare(shape, context)?;
        let (mut result, mut columns) = (shape.clone(), Vec::new());
        for text in &self.columns {
            in_setting("columns", || {
                let (name, expression) = addition(text)?;
                let expression = expression.bind(&result, context)?;
                result = result.with_shape(ColumnShape::new(&name, expression.kind))?;
                columns.push((name, expression));
                Ok(())
            })?;
        }
        // Columns that were added before are not columns of the table.
        let of_table = columns.iter().flat_map(|(_, expression)| &expression.columns);
        let used = of_table.copied().filter(|&place| place < shape.columns().len());
        let uses = Inputs::passing(shape).using(used.collect::<Vec<_>>()).accounting(&accounting);
        // The decimal places of all columns together decide the width of their units. Parts may
        // differ in it, and the widest one decides.
        let is_wide =
            |kind: Option<Type>| kind.is_none_or(|kind| matches!(kind, Type::Decimal { .. }));
        let kind = if columns.iter().any(|(_, expression)| is_wide(expression.kind)) {
            Kind::Divided(Division::Rows)
        } else {
            Kind::ByRow
        };
        let step = format!("add {}", self.columns.join(", "));
        let plan = AddPlan { columns, step, accounting };
        let prepared = Prepared::applied(Arc::new(plan));
        Ok(Plan::new(&[shape], context, (result, uses, kind), prepared))
    }
}

struct AddPlan {
    columns: Vec<(String, BoundExpression)>,
    step: String,
    accounting: Accounting,
}

impl Apply for AddPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        let (mut answer, mut unanswered_by) = (table.clone(), Vec::new());
        for (name, expression) in &self.columns {
            let (field, array, unanswered) = expression.column(name, &answer, context)?;
            unanswered_by.push((expression, unanswered));
            answer = answer.with_field(field, array)?;
        }
        all_kept(answer.anonymous(), self.step.clone(), table, &self.accounting, |ledger| {
            for (expression, unanswered) in unanswered_by {
                ledger.tell(expression, unanswered, context);
            }
        })
    }
}

/// Splits `name = expression` into the name and the expression.
fn addition(text: &str) -> Result<(String, Expression)> {
    let malformed = || ValueError::Malformed {
        what: "a new column",
        text: text.to_owned(),
        expected: "a name, `=` and an expression, such as `fee = amount * 0.075`; a name with \
            blanks or signs in it stands \
                   in double quotes",
    };
    let trimmed = text.trim_start();
    let (name, expression) = match trimmed.strip_prefix('"') {
        Some(rest) => {
            let (name, rest) = rest.split_once('"').ok_or_else(malformed)?;
            (name, rest.trim_start().strip_prefix('=').ok_or_else(malformed)?)
        }
        None => {
            let (name, expression) = trimmed.split_once('=').ok_or_else(malformed)?;
            let name = name.trim_end();
            if !name.chars().all(|c| c.is_alphanumeric() || c == '_') {
                return Err(malformed().into());
            }
            (name, expression)
        }
    };
    if name.is_empty() || expression.starts_with('=') {
        return Err(malformed().into());
    }
    Ok((name.to_owned(), expression.trim().parse()?))
}
