//! [`Add`]: columns worked out from others.

use super::{all_kept, check_reconciled};
use crate::{
    error::{Error, Result},
    expression::Expression,
    ledger::Outcome,
    operation::{Context, Operation, Setting, Takes, called_alone},
    shape::{ColumnShape, Shape, Type},
    table::Table,
};
use serde::{Deserialize, Serialize};

/// Columns worked out from others: `fee = amount * 0.075`.
///
/// All rows stay, in their order. A later column may use an earlier one. See [`Expression`] for what can be worked out; the
/// ledger counts divisions by zero and days that the calendar does not have, which are missing.
///
/// Errors: an expression cannot be understood, or not of these columns; a name is taken; a number becomes too large to be
/// exact, a date leaves the calendar. Costs one pass for each sign and function.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Add {
    /// The columns, each as `name = expression`; a name with blanks or signs in it stands in double quotes.
    pub columns: Vec<String>,
}

called_alone!(Add);

impl Add {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "add";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "What follows from the columns of each row?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[Setting::new(
        "columns",
        Takes::Several("NAME = EXPR"),
        "A column and what it is worked out from, such as 'fee = amount * 0.075'; README.md tells all that it can say",
    )
    .required()];

    /// These columns, each as `name = expression`.
    pub fn new<N: Into<String>>(columns: impl IntoIterator<Item = N>) -> Add {
        Add { columns: columns.into_iter().map(Into::into).collect() }
    }
}

impl Operation for Add {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        check_reconciled(shape, context)?;
        self.columns.iter().try_fold(shape.clone(), |shape, text| {
            let (name, expression) = addition(text)?;
            let kind = expression.check(&shape, context)?;
            shape.with_shape(ColumnShape { name, kind })
        })
    }

    fn is_row_by_row(&self, shape: &Shape, context: &Context) -> bool {
        // How wide the units of decimals must be, all of them together decide.
        self.check_with(shape, context).is_ok_and(|answer| {
            answer.columns()[shape.columns().len()..]
                .iter()
                .all(|column| column.kind.is_some_and(|kind| !matches!(kind, Type::Decimal { .. })))
        })
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context)?;
        let (mut answer, mut told) = (table.clone(), Vec::new());
        for text in &self.columns {
            let (name, expression) = addition(text)?;
            let (field, array, unanswered) = expression.column(&name, &answer, context)?;
            told.push((expression, unanswered, answer.shape()));
            answer = answer.with_field(field, array)?;
        }
        let step = format!("add {}", self.columns.join(", "));
        all_kept(answer.anonymous(), step, table, context, |ledger| {
            for (expression, unanswered, shape) in told {
                expression.tell(ledger, unanswered, &shape, context);
            }
        })
    }
}

/// The name and the expression of `name = expression`.
fn addition(text: &str) -> Result<(String, Expression)> {
    let malformed = || Error::Malformed {
        what: "a new column",
        text: text.to_owned(),
        expected: "a name, `=` and an expression, such as `fee = amount * 0.075`; a name with blanks or signs in it stands \
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
                return Err(malformed());
            }
            (name, expression)
        }
    };
    if name.is_empty() || expression.starts_with('=') {
        return Err(malformed());
    }
    Ok((name.to_owned(), expression.trim().parse()?))
}
