//! [`Carrying`]: runs over rows that come in order of their dates, piece by piece.
//!
//! With a trailing span, the records that still count are put in front of the next piece. Without
//! one, a run may have any number of records, so only its exact sums, its extremes and its number
//! of records are carried.

use super::RunningPlan;
use crate::{
    context::Context,
    error::Result,
    ledger::Outcome,
    measure::ExactUnits,
    plan::{Pieces, before_last_date},
    table::Table,
};
use arrow_array::{Array, ArrayRef};
use arrow_select::concat::concat;
use std::sync::Arc;

/// What is known of the records of earlier pieces.
pub(super) enum Earlier {
    /// The records that still count, and those with the last date.
    Records(Table),
    Run(Before),
}

/// The run of the last date of earlier pieces.
pub(super) struct Before {
    /// The day of the first record of the run.
    pub(super) first_day: i32,
    pub(super) records: u64,
    /// For each figure.
    pub(super) figures: Vec<Carried>,
}

/// A figure of a run.
#[derive(Clone)]
pub(super) enum Carried {
    /// The maximum or minimum, as a column of one row.
    Best(ArrayRef),
    /// The exact sum, and the number of values.
    Sum(ExactUnits, u64),
}

/// A column with the maximum or minimum of the earlier records in front of it, if there is one.
pub(super) struct PrefixedColumn {
    pub(super) array: ArrayRef,
    /// The number of values in front of the column.
    pub(super) prefix: usize,
}

impl PrefixedColumn {
    pub(super) fn with_best(array: &ArrayRef, before: Option<&Carried>) -> Result<PrefixedColumn> {
        Ok(match before {
            Some(Carried::Best(best)) if best.logical_null_count() == 0 => {
                PrefixedColumn { array: concat(&[best.as_ref(), array.as_ref()])?, prefix: 1 }
            }
            _ => PrefixedColumn { array: array.clone(), prefix: 0 },
        })
    }
}

/// A plan with what is known of earlier pieces.
pub(super) struct Carrying {
    pub(super) plan: Arc<RunningPlan>,
    pub(super) earlier: Option<Earlier>,
}

impl Pieces for Carrying {
    fn complete(&self, rows: &Table, _: &Context) -> usize {
        let dates = rows.dates_at(self.plan.date);
        if self.plan.row_by_row {
            rows.rows()
        } else {
            before_last_date(rows.rows(), &dates, |row| dates.sortable(row))
        }
    }

    fn take(&mut self, rows: &Table, _: bool, context: &Context) -> Result<Outcome> {
        let (outcome, earlier) = self.plan.piece(rows, self.earlier.as_ref(), true, context)?;
        self.earlier = earlier.or(self.earlier.take());
        Ok(outcome)
    }

    fn bytes(&self) -> u64 {
        match &self.earlier {
            Some(Earlier::Records(records)) => records.bytes(),
            _ => 0,
        }
    }
}
