//! Replaces workbooks in a build without the feature `workbooks`.

use super::{Target, csv_rows::CsvRows, sheet::Book};
use crate::{Table, error::Result};
use std::io;

fn left_out() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "this build does not include workbooks. Build the library with the feature `workbooks`, or \
            the command with `--features full`",
    )
}

impl Book<'_> {
    pub(crate) fn to_csv_rows(&self) -> Result<CsvRows> {
        Err(crate::Error::read(self.file)(left_out()))
    }
}

/// No workbook is written.
pub(crate) enum WorkbookWriter {}

impl WorkbookWriter {
    pub(crate) fn new(_: &Table, _: Option<&std::path::Path>) -> io::Result<WorkbookWriter> {
        Err(left_out())
    }
}

impl Target for WorkbookWriter {
    fn write(&mut self, _: &Table, _: &mut dyn io::Write) -> io::Result<()> {
        match *self {}
    }
}
