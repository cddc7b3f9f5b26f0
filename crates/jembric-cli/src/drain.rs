//! [`Drain`]: takes the result of a run, and writes or shows it.

use crate::{
    show::{self, ChosenColumns},
    typed::Shown,
};
use jembric::{Stack, Table, io::Batches};
use std::io;

/// Takes a result in batches: writes them, or keeps the first rows for display and counts the
/// others.
pub(crate) struct Drain<'a> {
    to: To<'a>,
    /// Whether a closed pipe is ignored because files are written as well.
    goes_on: bool,
    is_closed: bool,
}

enum To<'a> {
    Batches(Box<Batches<'a>>),
    File(&'a mut dyn FnMut(&Table) -> io::Result<()>),
    Shown {
        kept: Vec<Table>,
        rows: usize,
        all: u64,
        columns: ChosenColumns,
        to: &'a mut dyn io::Write,
    },
}

impl<'a> Drain<'a> {
    pub(crate) fn new(
        shown: Shown,
        (rows, columns): (usize, ChosenColumns),
        to: &'a mut dyn io::Write,
        goes_on: bool,
    ) -> Drain<'a> {
        let to = match shown {
            Shown::As(writing) => To::Batches(Box::new(writing.batches(to))),
            Shown::AsTable => To::Shown { kept: Vec::new(), rows, all: 0, columns, to },
        };
        Drain { to, goes_on, is_closed: false }
    }

    /// Passes batches on to a file, whose end the caller writes.
    pub(crate) fn into_file(
        write: &'a mut dyn FnMut(&Table) -> io::Result<()>,
        goes_on: bool,
    ) -> Drain<'a> {
        Drain { to: To::File(write), goes_on, is_closed: false }
    }

    /// Ignores the error of a closed pipe.
    fn unless_closed(
        goes_on: bool,
        is_closed: &mut bool,
        written: io::Result<()>,
    ) -> io::Result<()> {
        match written {
            Err(error) if goes_on && error.kind() == io::ErrorKind::BrokenPipe => {
                *is_closed = true;
                Ok(())
            }
            written => written,
        }
    }

    pub(crate) fn take(&mut self, batch: &Table) -> io::Result<()> {
        match &mut self.to {
            To::Batches(_) | To::File(_) if self.is_closed => Ok(()),
            To::Batches(batches) => {
                let written = batches.write(batch);
                Drain::unless_closed(self.goes_on, &mut self.is_closed, written)
            }
            To::File(write) => {
                let written = write(batch);
                Drain::unless_closed(self.goes_on, &mut self.is_closed, written)
            }
            To::Shown { kept, rows, all, .. } => {
                let left = *rows - kept.iter().map(Table::rows).sum::<usize>();
                if left > 0 || kept.is_empty() {
                    kept.push(batch.head(left));
                }
                *all += batch.rows() as u64;
                Ok(())
            }
        }
    }

    pub(crate) fn finish(self, width: Option<u16>) -> io::Result<()> {
        let Drain { to, goes_on, mut is_closed } = self;
        let (kept, all, columns, to) = match to {
            To::Shown { kept, all, columns, to, .. } => (kept, all, columns, to),
            To::File(_) => return Ok(()),
            To::Batches(_) if is_closed => return Ok(()),
            To::Batches(batches) => {
                return Drain::unless_closed(goes_on, &mut is_closed, batches.finish());
            }
        };
        let table = match &kept[..] {
            [] => return Ok(()),
            [one] => one.clone(),
            several => {
                let named: Vec<(&str, &Table)> = several.iter().map(|batch| ("", batch)).collect();
                Stack::new().apply(&named).map_err(io::Error::other)?.table
            }
        };
        let text = show::table(&table, all, &columns, width).map_err(io::Error::other)?;
        let written = to.write_all(text.as_bytes());
        Drain::unless_closed(goes_on, &mut is_closed, written)
    }
}
