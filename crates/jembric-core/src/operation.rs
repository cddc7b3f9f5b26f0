//! What all operations have in common: how they are prepared, and how their settings are described
//! once for every way in.

use crate::{
    context::Context, error::Result, ledger::Outcome, plan::Plan, shape::Shape, table::Table,
};
use std::fmt;

/// An operation on one table: settings that are prepared once and applied to any number of tables
/// of one shape.
pub trait Operation: fmt::Debug {
    /// Checks the settings against the columns of a table and resolves them.
    ///
    /// Errors: everything that can be wrong without the data. Where the shape does not know a
    /// column's type, that is not checked.
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan>;

    /// Prepares for the table and applies the plan to it.
    ///
    /// Errors: those of [`prepare`](Operation::prepare), with the cells that caused them, and of
    /// [`Plan::apply`].
    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.prepare_for(table, context)?.apply(&[table])
    }

    /// Prepares for a table; an error tells of the table's cells.
    fn prepare_for(&self, table: &Table, context: &Context) -> Result<Plan> {
        self.prepare(&table.shape(), context).map_err(|error| table.explained(error))
    }
}

/// The calls of an operation that whoever uses the library makes without importing the trait.
macro_rules! callable {
    ($operation:ty) => {
        impl $operation {
            /// The result for a table, without an as-of date and with days of UTC.
            ///
            /// Errors: the settings do not fit the table; the data cannot be used.
            pub fn apply(&self, table: &$crate::Table) -> $crate::Result<$crate::Outcome> {
                self.apply_with(table, &$crate::Context::new())
            }

            /// The result for a table in a context: an as-of date, a zone, sums to reconcile.
            ///
            /// Errors: the settings do not fit the table; the data cannot be used.
            pub fn apply_with(
                &self,
                table: &$crate::Table,
                context: &$crate::Context,
            ) -> $crate::Result<$crate::Outcome> {
                $crate::Operation::apply_with(self, table, context)
            }

            /// The result handed over in batches, the first of which may have no rows; the
            /// outcome's own table has none. A long result never stands in memory whole where it
            /// can be made piece by piece.
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

            /// Checks the settings against the columns of a table; returns what is known of the
            /// result's columns.
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

/// One setting of an operation: what the struct's field says of it.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Setting {
    /// Its name, with dashes.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Whether the operation cannot do without it.
    pub required: bool,
    /// The least number that it accepts, where it takes one.
    pub least: u64,
    /// What it does, in a sentence. Other settings are named in backticks.
    pub help: &'static str,
    /// Its default, in words.
    pub default: Option<&'static str>,
}

/// What a [`Setting`] takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Takes {
    /// One column's name.
    Column,
    /// Several columns' names.
    Columns,
    /// The name of a column that is made.
    Name,
    /// A whole number, from the setting's least.
    Number,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// Yes, where it is given at all.
    Yes,
    /// Text of its own kind, shown by this word: a date, a span, a range.
    Text(&'static str),
    /// Whole numbers.
    Numbers,
    /// Texts of one kind, shown by this word.
    Texts(&'static str),
    /// The days in a file of dates.
    Days,
    /// The entities in columns of a file.
    Entities,
    /// An expression, which stands without an option's name.
    Expression,
    /// Several texts that stand without an option's name, shown by this word.
    Several(&'static str),
    /// A list with commas that stands without an option's name, shown by this word.
    List(&'static str),
}
