//! Reads tables from files, and writes tables to files.
//!
//! ```
//! use jembric::io::{DateOrder, Reading};
//! # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv");
//! let table = Reading::new().missing(["-", "NA"]).date_order(DateOrder::Dmy).file(file)?;
//! assert!(table.rows() > 0);
//! # Ok::<(), jembric::Error>(())
//! ```
//!
//! `read` has the code for reading, `write` that for writing, and `formats` a module for each
//! format. The public items are collected here.

#[cfg(feature = "c-data")]
pub use crate::formats::c_stream::{from_c_stream, to_c_stream};
pub use crate::{
    data::{
        Data, Receiver, Scan,
        exchange::{Alone, Exchange, Parcels, PlaceInList},
        memory::Memory,
        progress::{Phase, Progress, Stage},
        size::Size,
    },
    databases::{
        Database, DatabaseTable, Databases, database,
        existing::Existing,
        name::{database_of, is_database, is_database_output, name_in},
        postgresql::cancel_queries,
    },
    disk::temporary::abandon_files,
    formats::{
        sheet::file_of,
        text::{CellText, numeric},
    },
    open::{
        ConnectedReading,
        entities::{entities, entities_of, entities_reading},
        holidays::{holidays, holidays_of, holidays_reading},
        share::Sharing,
    },
    read::reading::{DateOrder, Reading, Separator},
    uri::{shown_name, without_secrets},
    write::{
        destination::{Complete, Destination, Outputs},
        writing::{Batches, Format, Writing},
    },
};

use crate::{Result, Table};
use std::path::Path;

/// Reads a CSV file, and detects all settings from it; see [`Reading`].
pub fn read(path: impl AsRef<Path>) -> Result<Table> {
    Reading::new().file(path)
}

/// Writes a table to a file, in the format of its extension, completely or not at all; see
/// [`Writing`].
pub fn write(table: &Table, path: impl AsRef<Path>) -> Result<()> {
    Writing::for_path(path.as_ref())?.file(table, path)
}
