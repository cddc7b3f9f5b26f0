//! The formats of files, each in a module of its own: what tells a file of it, and its rows in and
//! out.
//!
//! `detect` tells by a file's first bytes what it is, `sheet` and `packing` by its name. `batches`
//! has Parquet and Arrow, `packed` gzip and zstd, `json_lines` and `workbook` write their rows down
//! (`transcript`) for the reader of CSV, `text` writes cells. What `absent` has stands for formats
//! whose feature is off. Nothing here knows how files are read or written as a whole.

pub(crate) mod batches;
#[cfg(feature = "c-data")]
pub(crate) mod c_stream;
pub(crate) mod csv;
pub(crate) mod detect;
pub(crate) mod json_lines;
pub(crate) mod markdown;
#[cfg_attr(not(feature = "packed"), path = "formats/absent/packed.rs")]
pub(crate) mod packed;
pub(crate) mod packed_target;
pub(crate) mod packing;
pub(crate) mod read_at;
pub(crate) mod sheet;
pub(crate) mod text;
pub(crate) mod transcript;
#[cfg_attr(not(feature = "workbooks"), path = "formats/absent/workbook.rs")]
pub(crate) mod workbook;

use crate::{Result, Shape, Table};
use std::io;

/// Chooses columns by their places, told the names of all of them.
pub(crate) type Choose<'a> = dyn Fn(&mut dyn Iterator<Item = &str>) -> Vec<usize> + 'a;

/// A file whose columns are known before its rows are read.
pub(crate) trait Source {
    /// The names and types of its columns.
    fn shape(&self) -> Result<Shape>;

    /// Hands over the rows of the chosen columns in batches. A format that has to be read whole
    /// hands over one.
    ///
    /// Errors: the file is damaged; its rows need more bytes than they may; those of whatever takes
    /// the batches.
    fn batches(
        &self,
        choose: &Choose<'_>,
        most_bytes: u64,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()>;
}

/// What writes a table batch by batch in a format, into bytes that go to a file, a pipe or a
/// terminal. One that is dropped before it is finished leaves what it has written incomplete: the
/// file that takes the bytes is then given up.
pub(crate) trait Target {
    /// Writes the next rows; the first batch brings a header with it, where the format has one.
    fn write(&mut self, rows: &Table, to: &mut dyn io::Write) -> io::Result<()>;

    /// Writes what comes at the end.
    fn finish(self: Box<Self>, to: &mut dyn io::Write) -> io::Result<()> {
        let _ = to;
        Ok(())
    }
}
