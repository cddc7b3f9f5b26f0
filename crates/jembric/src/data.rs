//! Tables in memory or in batches, the budget of memory, and temporary files.
//!
//! A [`Data`] is a table in memory, or one that is delivered in batches as often as it is needed
//! ([`Scan`]). [`Memory`] is the budget of a run, and has a private directory for temporary files
//! (`scratch`). `spill` writes and reads these files, `merge` merges sorted ones, and `collect`
//! keeps batches in memory while they fit. `progress` tells what is being done. `exchange` connects
//! several processes.

pub(crate) mod collect;
pub(crate) mod exchange;
pub(crate) mod memory;
pub(crate) mod merge;
pub(crate) mod progress;
mod scratch;
pub(crate) mod size;
pub(crate) mod spill;

use crate::{
    CoreError, Error, Result, Table,
    calendar::{Day, Zone},
};
use memory::Memory;
use std::{
    fmt,
    ops::ControlFlow,
    panic::resume_unwind,
    sync::{Arc, mpsc},
    thread,
};

/// Receives batches, and breaks when it needs no more.
pub type Receiver<'a> = dyn FnMut(Table) -> Result<ControlFlow<()>> + 'a;

/// A table that is delivered in batches.
pub trait Scan: fmt::Debug + Send + Sync {
    /// Some of the first rows. They have the types and the file of all rows.
    fn sample(&self) -> &Table;

    /// The number of rows.
    fn rows(&self) -> u64;

    /// Delivers the rows in order, in at least one batch, until the receiver breaks. Returns
    /// whether it did.
    ///
    /// Errors: those of reading, and those of the receiver.
    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>>;

    /// Delivers all rows in order, in at least one batch.
    ///
    /// Errors: as for [`each_until`](Scan::each_until).
    fn each(&self, take: &mut dyn FnMut(Table) -> Result<()>) -> Result<()> {
        self.each_until(&mut |batch| take(batch).map(ControlFlow::Continue)).map(|_| ())
    }
}

/// A table in memory, or one that is delivered in batches.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Data {
    /// All rows.
    Table(Table),
    /// More rows than fit into memory.
    Larger(Arc<dyn Scan>),
}

impl Data {
    /// All rows, or some of the first.
    pub fn sample(&self) -> &Table {
        match self {
            Data::Table(table) => table,
            Data::Larger(scan) => scan.sample(),
        }
    }

    /// The number of rows.
    pub fn rows(&self) -> u64 {
        match self {
            Data::Table(table) => table.rows() as u64,
            Data::Larger(scan) => scan.rows(),
        }
    }

    /// The table, if all rows are in memory.
    pub fn table(&self) -> Option<&Table> {
        match self {
            Data::Table(table) => Some(table),
            Data::Larger(_) => None,
        }
    }

    /// The newest day of a column of dates, as of [`Table::newest`].
    pub(crate) fn newest(&self, column: &str, zone: &Zone) -> Result<Day> {
        let (mut newest, mut none) = (None, None);
        self.each(&mut |batch| {
            match batch.newest(column, zone) {
                Ok(day) => newest = newest.max(Some(day)),
                Err(error @ CoreError::NoNewest { .. }) => none = Some(error),
                Err(error) => return Err(error.into()),
            }
            Ok(())
        })?;
        match (newest, none) {
            (Some(day), _) => Ok(day),
            (None, Some(error)) => Err(error.into()),
            (None, None) => Err(CoreError::NoNewest { column: column.to_owned() }.into()),
        }
    }

    /// Delivers all rows in order, in at least one batch.
    pub(crate) fn each(&self, take: &mut dyn FnMut(Table) -> Result<()>) -> Result<()> {
        self.each_until(&mut |batch| take(batch).map(ControlFlow::Continue)).map(|_| ())
    }

    /// Delivers the rows in order, in at least one batch, until the receiver breaks.
    pub(crate) fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        match self {
            Data::Table(table) => take(table.clone()),
            Data::Larger(scan) => read_ahead(scan.as_ref(), take),
        }
    }

    /// The first rows, or all if there are not more.
    ///
    /// Errors: those of reading.
    pub fn head(&self, rows: usize) -> Result<Table> {
        let Data::Larger(scan) = self else { return Ok(self.sample().head(rows)) };
        let (mut batches, mut left) = (Vec::new(), rows);
        let _ = scan.each_until(&mut |batch| {
            let some = batch.head(left);
            left -= some.rows();
            batches.push(some);
            Ok(if left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
        })?;
        collect::joined(&batches)
    }

    /// All rows as one table, which is known to fit.
    pub(crate) fn in_memory(&self) -> Result<Table> {
        let mut batches = Vec::new();
        self.each(&mut |batch| {
            batches.push(batch);
            Ok(())
        })?;
        collect::joined(&batches)
    }

    /// All rows as one table.
    ///
    /// Errors: they take more memory than an operation may need as a whole.
    pub(crate) fn whole(&self, memory: &Memory) -> Result<Table> {
        if let Data::Table(table) = self {
            return Ok(table.clone());
        }
        let bytes = self.bytes();
        if bytes > memory.whole() {
            let (rows, needed) = (self.rows(), Memory::needed_for(bytes));
            return Err(Error::NeedsMemory { rows, needed, budget: memory.budget() });
        }
        self.in_memory()
    }

    /// The bytes that all rows take in memory, judging by the first ones.
    pub(crate) fn bytes(&self) -> u64 {
        let sample = self.sample();
        let bytes = bytes_of(sample);
        match self {
            Data::Larger(scan) if sample.rows() > 0 => {
                (bytes as f64 / sample.rows() as f64 * scan.rows() as f64) as u64
            }
            _ => bytes,
        }
    }
}

/// Delivers the batches of a scan, and reads the next batch while one is taken.
fn read_ahead(scan: &dyn Scan, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
    let (send, receive) = mpsc::sync_channel(0);
    thread::scope(|scope| {
        let reader = scope.spawn(move || {
            // If the receiver fails or breaks, the channel closes, and reading stops.
            scan.each_until(&mut |batch| {
                let is_sent = send.send(batch).is_ok();
                Ok(if is_sent { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
            })
        });
        let mut taken = Ok(ControlFlow::Continue(()));
        for batch in receive {
            taken = take(batch);
            if !matches!(taken, Ok(ControlFlow::Continue(()))) {
                break;
            }
        }
        let read = reader.join().unwrap_or_else(|panic| resume_unwind(panic));
        match taken? {
            ControlFlow::Continue(()) => read,
            ControlFlow::Break(()) => Ok(ControlFlow::Break(())),
        }
    })
}

/// What operations keep for each row besides its columns: masks, numbers of entities, an order.
const OF_A_ROW: u64 = 32;

/// The bytes that the rows of a table take while an operation works on them, without what they may
/// share with other tables.
pub(crate) fn bytes_of(table: &Table) -> u64 {
    table.bytes() + OF_A_ROW * table.rows() as u64
}

#[cfg(test)]
mod tests;
