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
//! puts these together. What is no CSV is told by `special`: `columnar` has Parquet and Arrow, `packed` gzip and zstd, `json_lines` and `workbook` write their rows
//! down (`transcript`) for the CSV reader. `text` writes cells, `writing` whole tables. What `absent` has stands for formats whose feature is off.

// Where a format is left out, what only it needs is not used.
#![cfg_attr(
    not(all(feature = "arrow-files", feature = "packed", feature = "parquet", feature = "workbooks")),
    allow(dead_code)
)]

mod columnar;
mod columns;
mod destination;
mod entities;
#[cfg(feature = "c-data")]
mod exchange;
mod given;
mod header;
mod holidays;
mod json_lines;
mod layout;
mod marks;
#[cfg_attr(not(feature = "packed"), path = "absent/packed.rs")]
mod packed;
mod packing;
mod pass;
mod reading;
mod records;
mod settings;
mod sheet;
pub(crate) mod source;
mod special;
mod survey;
mod text;
mod transcript;
#[cfg_attr(not(feature = "workbooks"), path = "absent/workbook.rs")]
mod workbook;
mod writing;

pub use destination::{Destination, Outputs, abandon_files};
pub use entities::{entities, entities_of, entities_reading};
#[cfg(feature = "c-data")]
pub use exchange::{from_c_stream, to_c_stream};
pub use holidays::{holidays, holidays_of, holidays_reading};
pub use jembric_core::calendar::notation::Order;
pub use reading::Reading;
pub use settings::{DateOrder, ReadingSettings};
pub use sheet::file_of;
pub use text::{CellText, numeric};
pub use writing::{Batches, Format, Writing};

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
