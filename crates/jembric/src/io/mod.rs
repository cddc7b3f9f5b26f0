//! Files to tables and tables to files.
//!
//! ```
//! use jembric::io::{Reading, Order};
//! # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv");
//! let table = Reading::new().missing(["-", "NA"]).date_order(Order::DayFirst).file(file)?;
//! assert!(table.rows() > 0);
//! # Ok::<(), jembric::Error>(())
//! ```
//!
//! Reading is done in regions of some megabytes, on all threads, straight into columns of their final length: `source` gives
//! bytes, `header` names the columns, `layout` finds where records begin, `records` and `marks` where cells end, `settings` has what can be written down of a reading, `survey`
//! decides each column's type from all of its cells, `given` has the formats that users give, `columns` fills them, `pass` does either on all threads, and `reading`
//! puts these together. `text` writes cells, `writing` whole tables.

mod columnar;
mod columns;
mod entities;
mod given;
mod header;
mod holidays;
mod json_lines;
mod layout;
mod marks;
mod packed;
mod pass;
mod reading;
mod records;
mod settings;
pub(crate) mod source;
mod special;
mod survey;
mod text;
mod transcript;
mod workbook;
mod writing;

pub use entities::{entities, entities_of, entities_reading};
pub use holidays::{holidays, holidays_of, holidays_reading};
pub use jembric_core::calendar::notation::Order;
pub use reading::Reading;
pub use settings::{DateOrder, ReadingSettings};
pub use text::{CellText, numeric};
pub use workbook::file_of;
pub use writing::{Batches, Destination, Format, Writing};

use crate::{Result, Table};
use std::path::Path;

/// Reads a CSV file with all settings found from the file itself; see [`Reading`].
pub fn read(path: impl AsRef<Path>) -> Result<Table> {
    Reading::new().file(path)
}

/// Writes a table to a file, in the format that its ending tells, complete or not at all; see [`Writing`].
pub fn write(table: &Table, path: impl AsRef<Path>) -> Result<()> {
    Writing::of(path.as_ref())?.file(table, path)
}
