//! The computation behind [jembric](https://docs.rs/jembric): tables of dated records in, results
//! and ledgers out.
//!
//! Nothing here reads a file, a clock, a time zone setting or the environment. The as-of date and
//! the like are passed in as values of a [`Context`]. Everything builds on three concepts:
//!
//! * [`Entities`] (who): each distinct key gets a dense number, so that what is known of an entity
//!   is a slot in an array.
//! * [`Timeline`] (who and when): the rows of each entity in order of date, for everything that
//!   needs more than one pass.
//! * [`calendar`] (when): days as numbers, spans, as-of dates, and the notations in which people
//!   write dates.
//!
//! An operation ([`Latest`], [`Earliest`]) is a struct of settings in its own file. It combines
//! these concepts and returns an [`Outcome`]: the result, the rows that were set aside with their
//! reasons, and the [`Ledger`], which accounts for every row.
//!
//! ```
//! use jembric_core::{Latest, Table, arrow::{ArrayRef, Date32Array, StringViewArray}};
//! use std::sync::Arc;
//!
//! let vessel: ArrayRef = Arc::new(StringViewArray::from(vec!["Petrel", "Petrel", "Bolt Head"]));
//! let day: ArrayRef = Arc::new(Date32Array::from(vec![Some(20_000), Some(20_100), None]));
//! let inspections = Table::from_columns([("vessel", vessel), ("inspected_on", day)])?;
//!
//! let outcome = Latest::new("inspected_on").per(["vessel"]).apply(&inspections)?;
//! assert_eq!(outcome.table.rows(), 1);
//! let balance = "  balance       3 = 1 kept + 1 dropped + 1 set aside";
//! assert_eq!(outcome.ledger.to_string().lines().last(), Some(balance));
//! # Ok::<(), jembric_core::Error>(())
//! ```
#![deny(unsafe_code)] // `room` alone is allowed one line of it.

mod active;
mod almanac;
mod axis;
pub mod calendar;
mod cell_text;
mod cells;
mod changes;
mod column;
mod context;
mod dates;
mod day_table;
mod decimal;
mod elapsed;
mod entities;
mod error;
mod exact;
mod expression;
mod filled;
mod gather;
mod intervals;
mod kind;
mod latest;
mod ledger;
mod limits;
mod look;
mod measure;
mod message;
mod number;
mod number_text;
mod operation;
mod ordering;
mod packed;
mod parallel;
mod plan;
mod recent;
mod records;
mod role;
mod room;
mod row_numbers;
mod rows;
mod running;
#[cfg(test)]
mod sample;
pub mod settings;
mod shape;
mod sort_keys;
mod spells;
mod table;
mod timeline;
mod totals;
mod within;
mod written;

pub use active::Active;
pub use almanac::Almanac;
pub use cell_text::{CellText, rounded, visible};
pub use cells::{CellValue, Cells, IntoCell, IntoColumn, TableBuilder};
pub use changes::{Between, Changes, Duplicates};
pub use column::Column;
pub use context::{Cancel, Context, Sink};
pub use decimal::Decimal;
pub use elapsed::{Elapsed, Unit};
pub use entities::{Entities, Missing};
pub use error::{
    Advised, AmbiguousDates, BadCell, Error, Expected, ExpressionError, NotDates, NotNumbers,
    Places, Result, Smaller, SuggestedReading, Words,
};
pub use exact::ExactSum;
pub use expression::{Expression, ExpressionContext};
pub use filled::{Dated, Extent, Filled};
pub use intervals::{EndDay, OpenEnds};
pub use kind::Type;
pub use latest::{Earliest, Latest, Ties, latest_rows};
pub use ledger::{Cause, Entry, Followed, Ledger, Outcome, Reason, Reconciled, Warning};
pub use look::{ColumnLook, DateLook, Finding, GoOn, Look, LookFold, NotQuite};
pub use message::{grouped, nearest_name, shortened};
pub use operation::Operation;
#[doc(hidden)]
pub use plan::RowsLeftOut;
pub use plan::{ByEntity, Division, EntityPart, Fold, InPieces, Kind, Overall, Plan, ResultOrder};
pub use recent::{Recent, Whole};
pub use role::Role;
pub use rows::{Add, Columns, Filter, Sort, Stack};
pub use running::Running;
pub use settings::{Setting, Takes};
pub use shape::{ColumnShape, Named, Shape};
pub use spells::Spells;
pub use table::{Numbering, Origin, Table};
pub use timeline::Timeline;
pub use totals::{Each, Totals};
pub use within::{Keep, Pick, Window, Within};
pub use written::EntityList;

/// The Arrow types of tables.
pub mod arrow {
    pub use arrow_array::*;
    pub use arrow_buffer as buffer;
    pub use arrow_schema as schema;
}
