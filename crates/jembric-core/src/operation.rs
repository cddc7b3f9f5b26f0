//! What all operations share: how they are prepared, and how their settings are described for all
//! interfaces.

use crate::{
    context::Context, error::Result, ledger::Outcome, plan::Plan, shape::Shape, table::Table,
};
use std::fmt;

/// An operation on one table: settings that are prepared once, and applied to any number of tables
/// of the same shape.
pub trait Operation: fmt::Debug + Send + Sync {
    /// Checks the settings against the columns of a table, and resolves them.
    ///
    /// Errors: everything that can be wrong without the data. A type that the shape does not know
    /// is not checked.
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan>;

    /// Applies the operation to a table, without an as-of date and with days of UTC.
    ///
    /// Errors: as for [`apply_with`](Operation::apply_with).
    fn apply(&self, table: &Table) -> Result<Outcome> {
        self.apply_with(table, &Context::new())
    }

    /// Prepares the operation for a table, and applies the plan to it.
    ///
    /// Errors: those of [`prepare`](Operation::prepare), with the cells that caused them, and those
    /// of [`Plan::apply`].
    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.prepare_for(table, context)?.apply(&[table])
    }

    /// Prepares the operation for a table. Errors name the cells that cause them.
    fn prepare_for(&self, table: &Table, context: &Context) -> Result<Plan> {
        self.prepare(&table.shape(), context).map_err(|error| table.explained(error))
    }
}

/// The methods of an operation that do not need the trait in scope.
macro_rules! callable {
    ($operation:ty) => {
        impl $operation {
            /// Applies the operation to a table, without an as-of date and with days of UTC.
            ///
            /// Errors: the settings do not fit the table; the data cannot be used.
            pub fn apply(&self, table: &$crate::Table) -> $crate::Result<$crate::Outcome> {
                self.apply_with(table, &$crate::Context::new())
            }

            /// Applies the operation in a context: as-of date, time zone, sums to reconcile.
            ///
            /// Errors: the settings do not fit the table; the data cannot be used.
            pub fn apply_with(
                &self,
                table: &$crate::Table,
                context: &$crate::Context,
            ) -> $crate::Result<$crate::Outcome> {
                $crate::Operation::apply_with(self, table, context)
            }

            /// Applies the operation and delivers the result in batches, the first of which may be
            /// empty. The table of the outcome has no rows. A long result is never in memory as a
            /// whole if it can be made in parts.
            ///
            /// Errors: as for [`apply_with`](Self::apply_with), and those of the sink.
            pub fn apply_into(
                &self,
                table: &$crate::Table,
                context: &$crate::Context,
                sink: &mut $crate::Sink<'_>,
            ) -> $crate::Result<$crate::Outcome> {
                $crate::Operation::prepare_for(self, table, context)?.apply_into(&[table], sink)
            }

            /// Checks the settings against the columns of a table, and returns the known columns of
            /// the result.
            ///
            /// Errors: everything that can be wrong without the data.
            pub fn check(&self, shape: &$crate::Shape) -> $crate::Result<$crate::Shape> {
                self.prepare(shape, &$crate::Context::new())
                    .map(|plan| plan.known_columns().clone())
            }

            /// Prepares the operation for tables of a shape.
            ///
            /// Errors: everything that can be wrong without the data.
            pub fn prepare(
                &self,
                shape: &$crate::Shape,
                context: &$crate::Context,
            ) -> $crate::Result<$crate::Plan> {
                $crate::Operation::prepare(self, shape, context)
            }
        }
    };
}
pub(crate) use callable;
