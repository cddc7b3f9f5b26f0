//! [`InPieces`]: applies a plan to one piece of the rows after the other, and carries what later
//! pieces need to know.
//!
//! The rows of one entity depend on each other, so they cannot be divided by entity. In order of
//! their dates, a later row depends on the earlier ones only through something small, such as the
//! sum so far or the spell that has not ended. A join without keys carries which windows had an
//! event.

use super::{Plan, handed_over};
use crate::{
    calendar::Zone,
    context::{Context, Sink},
    dates::Dates,
    error::Result,
    ledger::Outcome,
    table::Table,
};
use std::fmt;

/// A plan that takes the rows of its first table in pieces: those of one entity in order of their
/// dates, with rows without a date last ([`Plan::in_order`]), or any in the order of the table
/// ([`Plan::beside`]).
///
/// ```
/// use jembric_core::{Context, Operation, Running, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_001]));
/// let calls = Table::from_columns([("day", day)])?;
/// let plan = Running::new("day").count().prepare(&calls.shape(), &Context::new())?;
///
/// let mut in_order = plan.in_order().expect("the whole table is one entity");
/// // Another row may have the last date.
/// assert_eq!(in_order.complete(&calls), 1);
/// in_order.take(&calls.slice(0, 1), false)?;
/// let last = in_order.take(&calls.slice(1, 2), true)?;
/// assert_eq!(last.table.columns()[1].len(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
pub struct InPieces {
    plan: Plan,
    pieces: Box<dyn Pieces>,
}

impl fmt::Debug for InPieces {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("InPieces").field("plan", &self.plan).finish_non_exhaustive()
    }
}

/// What a plan carries from piece to piece.
pub(crate) trait Pieces: Send {
    /// How many of the first rows do not depend on later rows.
    fn complete(&self, rows: &Table, context: &Context) -> usize {
        let _ = context;
        rows.rows()
    }

    /// The result of the next rows. Nothing comes after the last ones.
    fn take(&mut self, rows: &Table, are_last: bool, context: &Context) -> Result<Outcome>;

    /// Delivers the result of the next rows in batches. The table of the outcome has no rows.
    fn take_into(
        &mut self,
        rows: &Table,
        are_last: bool,
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        handed_over(self.take(rows, are_last, context)?, sink)
    }

    /// About the bytes that it takes in memory.
    fn bytes(&self) -> u64 {
        0
    }
}

impl InPieces {
    pub(super) fn new(plan: Plan, pieces: Box<dyn Pieces>) -> InPieces {
        InPieces { plan, pieces }
    }

    /// How many of the first rows of a table can be taken, because their results do not depend on
    /// the rows that come later. The last row is left, because the last piece needs one.
    pub fn complete(&self, rows: &Table) -> usize {
        self.pieces.complete(rows, &self.plan.context).min(rows.rows().saturating_sub(1))
    }

    /// About the bytes that what is carried takes in memory.
    pub fn bytes(&self) -> u64 {
        self.pieces.bytes()
    }

    /// The result of the next rows. The ledgers of all pieces together are that of all rows.
    ///
    /// Errors: rows of another shape; errors of the operation about the data.
    pub fn take(&mut self, rows: &Table, are_last: bool) -> Result<Outcome> {
        self.plan.expect_table(0, rows)?;
        self.plan.context.expect_wanted()?;
        let outcome = self.pieces.take(rows, are_last, &self.plan.context)?;
        Ok(self.plan.with_its_roles(outcome))
    }

    /// Delivers the result of the next rows in batches. The table of the outcome has no rows.
    ///
    /// Errors: as for [`take`](InPieces::take), and those of the sink.
    pub fn take_into(
        &mut self,
        rows: &Table,
        are_last: bool,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        self.plan.expect_table(0, rows)?;
        self.plan.context.expect_wanted()?;
        let InPieces { plan, pieces } = self;
        let mut sink = |batch: &Table| match &plan.roles {
            None => sink(batch),
            Some(roles) => sink(&roles.table(batch)),
        };
        let outcome = pieces.take_into(rows, are_last, &plan.context, &mut sink)?;
        Ok(plan.with_its_roles(outcome))
    }
}

/// The number of rows before those that have the last date, if another row may have it too. `date`
/// tells which dates are the same.
pub(crate) fn before_last_date(rows: usize, dates: &Dates, date: impl Fn(usize) -> i64) -> usize {
    match rows.checked_sub(1) {
        Some(last) if dates.nulls().is_none_or(|nulls| nulls.is_valid(last)) => {
            (0..rows).rev().take_while(|&row| date(row) == date(last)).last().unwrap_or(0)
        }
        _ => rows,
    }
}

/// The number of rows before the last day, if another row may have it too. When clocks go back at
/// midnight, points in time are on the day before once more, so that day is not complete either.
pub(crate) fn before_last_day(rows: usize, dates: &Dates, zone: &Zone) -> usize {
    let days = dates.day_numbers(zone);
    let once_more = i32::from(dates.are_instants());
    match rows.checked_sub(1) {
        Some(last) if dates.nulls().is_none_or(|nulls| nulls.is_valid(last)) => {
            let first = days[last].saturating_sub(once_more);
            days.iter().position(|&day| day >= first).unwrap_or(0)
        }
        _ => rows,
    }
}
