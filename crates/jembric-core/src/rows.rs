//! Operations on rows and columns that do not concern time: which rows, which columns, in which
//! order, and from which tables.

mod add;
mod columns;
mod filter;
mod sort;
mod stack;

pub use add::Add;
pub use columns::Columns;
pub use filter::Filter;
pub use sort::Sort;
pub use stack::Stack;

use crate::{
    error::Result,
    ledger::{Accounting, Ledger, Outcome, RowMasks},
    table::Table,
};

/// The outcome of a step that keeps every row.
pub(crate) fn all_kept(
    answer: Table,
    step: String,
    table: &Table,
    accounting: &Accounting,
    tell: impl FnOnce(&mut Ledger),
) -> Result<Outcome> {
    let (mut ledger, set_aside) = RowMasks::all_kept(table).account(step, table, accounting)?;
    tell(&mut ledger);
    Ok(Outcome { table: answer, ledger, set_aside })
}

#[cfg(test)]
mod tests;
