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
//! How files become tables is in the room `read`, how tables become files in `write`; `formats` has
//! a module for each format. What a user needs of them stands here.

#[cfg(feature = "c-data")]
pub use crate::formats::c_stream::{from_c_stream, to_c_stream};
pub use crate::{
    formats::{
        sheet::file_of,
        text::{CellText, numeric},
    },
    read::{
        entities::{entities, entities_of, entities_reading},
        holidays::{holidays, holidays_of, holidays_reading},
        reading::Reading,
        settings::{DateOrder, ReadingSettings},
    },
    write::{
        destination::{Destination, Outputs, abandon_files},
        writing::{Batches, Format, Writing},
    },
};
pub use jembric_core::calendar::notation::Order;

use crate::{Result, Table};
use std::path::Path;

/// Reads a CSV file with all settings found from the file itself; see [`Reading`].
pub fn read(path: impl AsRef<Path>) -> Result<Table> {
    Reading::new().file(path)
}

/// Writes a table to a file, in the format that its ending tells, complete or not at all; see
/// [`Writing`].
pub fn write(table: &Table, path: impl AsRef<Path>) -> Result<()> {
    Writing::of(path.as_ref())?.file(table, path)
}
