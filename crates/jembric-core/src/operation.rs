//! What all operations share: how they are prepared, and how their settings are described for all
//! interfaces.

use crate::{
    context::Context, error::Result, ledger::Outcome, plan::Plan, shape::Shape, table::Table,
};
use std::fmt;

/// An operation on one table: settings that are prepared once, and applied to any number of tables
/// of the same shape.
pub trait Operation: fmt::Debug {
    /// Checks the settings against the columns of a table, and resolves them.
    ///
    /// Errors: everything that can be wrong without the data. A type that the shape does not know
    /// is not checked.
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan>;

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

/// The description of a setting, from the field of the struct.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Setting {
    /// The name, with hyphens.
    pub name: &'static str,
    /// The values it takes.
    pub takes: Takes,
    /// Whether it is required.
    pub required: bool,
    /// The least number that it accepts, for numbers.
    pub least: u64,
    /// What it does, in one sentence. Other settings are named in backticks.
    pub help: &'static str,
    /// The default, as text.
    pub default: Option<&'static str>,
}

impl Setting {
    /// For the derive macro.
    #[doc(hidden)]
    pub const fn new(
        name: &'static str,
        takes: Takes,
        required: bool,
        least: u64,
        help: &'static str,
        default: Option<&'static str>,
    ) -> Setting {
        Setting { name, takes, required, least, help, default }
    }
}

/// The kind of values of a [`Setting`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Takes {
    /// The name of a column.
    Column,
    /// The names of several columns.
    Columns,
    /// The name of a new column.
    Name,
    /// A whole number, not less than the setting's least.
    Number,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// A flag, which is set or not.
    Yes,
    /// A text of some kind, which this word stands for: a date, a span, a range.
    Text(&'static str),
    /// Whole numbers.
    Numbers,
    /// Texts of some kind, which this word stands for.
    Texts(&'static str),
    /// The days in a file of dates.
    Days,
    /// The entities in the columns of a file.
    Entities,
    /// An expression. On the command line it is positional.
    Expression,
    /// Several texts, which this word stands for. On the command line they are positional.
    Several(&'static str),
    /// A list with commas, which this word stands for. On the command line it is positional.
    List(&'static str),
}
