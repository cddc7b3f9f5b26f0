//! The file formats, each in a module of its own: how to recognize the format, and how to read and
//! write rows.
//!
//! `detect` recognizes a format by the first bytes of a file, `sheet` and `packing` by its name.
//! `batches` has Parquet and Arrow, `packed` gzip and zstd. `json_lines` and `workbook` convert
//! their rows to CSV (`csv_rows`) for the one reader of CSV. `text` formats cells. The modules of
//! `disabled` replace formats whose feature is off. Nothing here knows how whole files are read or
//! written.

pub(crate) mod batches;
#[cfg(feature = "c-data")]
pub(crate) mod c_stream;
pub(crate) mod csv;
pub(crate) mod csv_rows;
pub(crate) mod detect;
pub(crate) mod json_lines;
pub(crate) mod markdown;
#[cfg_attr(not(feature = "packed"), path = "formats/disabled/packed.rs")]
pub(crate) mod packed;
pub(crate) mod packed_target;
pub(crate) mod packing;
pub(crate) mod sheet;
pub(crate) mod text;
#[cfg_attr(not(feature = "workbooks"), path = "formats/disabled/workbook.rs")]
pub(crate) mod workbook;

use crate::{Result, Shape, Table};
use std::io;

/// Chooses columns by their places, from the names of all columns.
pub(crate) type Choose<'a> = dyn Fn(&mut dyn Iterator<Item = &str>) -> Vec<usize> + 'a;

/// A file whose columns are known before its rows are read.
pub(crate) trait Source {
    /// The names and types of the columns.
    fn shape(&self) -> Result<Shape>;

    /// Delivers the rows of the chosen columns in batches. A format that must be read as a whole
    /// delivers one.
    ///
    /// Errors: the file is damaged; its rows need more bytes than the limit; errors of the
    /// receiver.
    fn batches(
        &self,
        choose: &Choose<'_>,
        most_bytes: u64,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()>;
}

/// Writes a table batch by batch in a format, as bytes for a file, a pipe or a terminal. If it is
/// dropped before it is finished, its output is incomplete, and the file that receives it is
/// discarded.
pub(crate) trait Target {
    /// Writes the next rows. The first batch also writes the header, if the format has one.
    fn write(&mut self, rows: &Table, to: &mut dyn io::Write) -> io::Result<()>;

    /// Writes the end of the format.
    fn finish(self: Box<Self>, to: &mut dyn io::Write) -> io::Result<()> {
        let _ = to;
        Ok(())
    }
}
