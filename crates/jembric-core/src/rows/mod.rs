//! Rows and columns as they are, without a question about time: which rows, which columns, in which order, and from which
//! tables.

mod add;
mod columns;
mod filter;
mod sort;
mod stack;

pub use add::Add;
pub use columns::Columns;
pub use filter::Filter;
pub use sort::Sort;
pub(crate) use sort::{WholeRows, entities_in_order, sortable};
pub use stack::Stack;

use crate::{
    error::Result,
    ledger::{Fates, Ledger, Outcome},
    operation::Context,
    shape::Shape,
    table::Table,
};

/// The outcome of a step that keeps every row.
pub(crate) fn all_kept(
    answer: Table,
    step: String,
    table: &Table,
    context: &Context,
    tell: impl FnOnce(&mut Ledger),
) -> Result<Outcome> {
    let (mut ledger, set_aside) = Fates::all_kept(table).account(step, table, context)?;
    tell(&mut ledger);
    Ok(Outcome { table: answer, ledger, set_aside })
}

/// An error where a column that is to be reconciled is missing or known to hold no numbers.
pub(crate) fn check_reconciled(shape: &Shape, context: &Context) -> Result<()> {
    context.reconcile.iter().try_for_each(|name| shape.expect_numbers(name))
}

#[cfg(test)]
mod tests;
