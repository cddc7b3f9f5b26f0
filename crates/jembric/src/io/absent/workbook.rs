//! Stands for workbooks in a build without the feature `workbooks`.

use super::{sheet::Book, transcript::Transcript};
use crate::{Table, error::Result};
use std::io;

fn left_out() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "this build leaves workbooks out; they are the feature `workbooks`",
    )
}

impl Book<'_> {
    pub(super) fn transcribed(&self) -> Result<Transcript> {
        Err(super::special::unread(self.file)(left_out()))
    }
}

/// No workbook is written.
pub(super) enum WorkbookWriter {}

impl WorkbookWriter {
    pub(super) fn new(_: &Table, _: Option<&std::path::Path>) -> io::Result<WorkbookWriter> {
        Err(left_out())
    }

    pub(super) fn write(&mut self, _: &Table) -> io::Result<()> {
        match *self {}
    }

    pub(super) fn finish(self) -> io::Result<Vec<u8>> {
        match self {}
    }
}
