//! [`Columns`]: some columns, in an order, under other names.

use super::{all_kept, check_reconciled};
use crate::{
    error::{Error, Result},
    ledger::Outcome,
    operation::{Context, Operation, Setting, Takes, called_alone},
    shape::{Named, Shape},
    table::Table,
};
use serde::{Deserialize, Serialize};

/// These columns alone, in this order, and under other names where that is said: `a, b as c`.
///
/// All rows stay, in their order. Errors: a column is missing, two would have one name. Costs nothing a row.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Columns {
    /// The columns, each with its new name where it gets one: `b as c`.
    pub keep: Vec<String>,
}

called_alone!(Columns);

impl Columns {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "columns";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "Which columns, in which order, under which names?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[Setting::new(
        "keep",
        Takes::List("'a, b as c, …'"),
        "The columns to keep, in this order; `b as c` gives one another name",
    )
    .required()];

    /// These columns; `b as c` gives one another name.
    pub fn new<N: Into<String>>(keep: impl IntoIterator<Item = N>) -> Columns {
        Columns { keep: keep.into_iter().map(Into::into).collect() }
    }

    fn named(&self, shape: &Shape) -> Result<Vec<Named>> {
        let named = shape.named(&self.keep)?;
        for (n, column) in named.iter().enumerate() {
            if named[..n].iter().any(|other| other.shown_as == column.shown_as) {
                return Err(Error::TwoColumnsOfOneName { file: None, name: column.shown_as.clone() });
            }
        }
        Ok(named)
    }
}

impl Operation for Columns {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        check_reconciled(shape, context)?;
        shape.select(&self.named(shape)?)
    }

    fn is_row_by_row(&self, _: &Shape, _: &Context) -> bool {
        true
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context)?;
        let answer = table.select(&self.named(&table.shape())?)?;
        all_kept(answer, format!("columns {}", self.keep.join(", ")), table, context, |_| {})
    }
}
