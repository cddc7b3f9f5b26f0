//! [`Received`]: rows that processes send to this one.

use super::results::{numbered, with_lines};
use crate::{
    Table,
    data::{
        Data, Receiver, Scan, bytes_of,
        collect::joined,
        memory::Memory,
        spill::{SpillFile, SpillWriter, widened},
    },
    error::Result,
};
use std::{ops::ControlFlow, sync::Arc};

/// Rows that processes send to this one. Those of one process keep their order, and come before
/// those of the next process.
pub(super) struct Received {
    memory: Memory,
    sample: Table,
    waiting: Vec<Vec<Table>>,
    bytes: u64,
    writers: Vec<SpillWriter>,
    /// Whether rows in temporary files have their lines as row numbers.
    has_lines: bool,
}

impl Received {
    pub(super) fn new(sample: &Table, processes: usize, memory: &Memory) -> Received {
        Received {
            memory: memory.clone(),
            sample: sample.clone(),
            waiting: vec![Vec::new(); processes],
            bytes: 0,
            writers: Vec::new(),
            has_lines: false,
        }
    }

    pub(super) fn take(&mut self, from: usize, rows: Table) -> Result<()> {
        // The result of a process without rows may lack the columns of row numbers.
        if rows.rows() == 0 {
            return Ok(());
        }
        self.bytes += bytes_of(&rows);
        self.waiting[from].push(rows);
        // As many rows as an operation may have as a whole stay in memory. Of more, few do.
        let most =
            if self.writers.is_empty() { self.memory.whole() } else { self.memory.buffers() };
        if self.bytes > most { self.write() } else { Ok(()) }
    }

    fn write(&mut self) -> Result<()> {
        self.bytes = 0;
        self.writers.resize_with(self.waiting.len(), || SpillWriter::new(&self.memory));
        for (writer, waiting) in self.writers.iter_mut().zip(&mut self.waiting) {
            let Some(rows) = some_joined(&std::mem::take(waiting))? else { continue };
            let not_numbers = rows.not_numbers();
            let has_numbers = (0..2).any(|place| rows.row_numbers(place).is_some());
            let needs_lines = rows.origin().is_some() && !has_numbers;
            self.has_lines |= needs_lines;
            let rows = if needs_lines { numbered(&rows, 0, 0)? } else { rows };
            writer.write(&rows.with_not_numbers(not_numbers))?;
        }
        Ok(())
    }

    pub(super) fn finish(mut self) -> Result<Data> {
        if self.writers.is_empty() {
            let all: Vec<Table> = self.waiting.into_iter().flatten().collect();
            let none = || self.sample.emptied();
            let all = some_joined(&all)?.unwrap_or_else(none);
            return Ok(Data::Table(all.with_own_texts()?));
        }
        self.write()?;
        let runs: Vec<SpillFile> = self.writers.into_iter().map(SpillWriter::finish).collect();
        let mut columns = self.sample.emptied();
        for (n, run) in runs.iter().filter_map(SpillFile::columns).enumerate() {
            let run = if self.has_lines { run.without_row_numbers()? } else { run.clone() };
            // The sample of a process without rows may lack the columns of row numbers.
            columns = if n == 0 { run } else { columns.widest(&run)? };
        }
        let (has_lines, sample) = (self.has_lines, self.sample);
        let mut scan = ReceivedScan { runs, columns, sample, has_lines };
        scan.sample = scan.first_rows()?;
        Ok(Data::Larger(Arc::new(scan)))
    }
}

/// Tables with the same columns, one after the other; none if there is no table.
fn some_joined(tables: &[Table]) -> Result<Option<Table>> {
    if tables.is_empty() {
        return Ok(None);
    }
    let not_numbers = tables.iter().map(Table::not_numbers).sum();
    joined(tables).map(|all| Some(all.with_not_numbers(not_numbers)))
}

/// Received rows in temporary files.
#[derive(Debug)]
struct ReceivedScan {
    runs: Vec<SpillFile>,
    /// The columns without rows, with the widest decimals.
    columns: Table,
    /// Some of the first rows, which know their file.
    sample: Table,
    /// Whether the rows in the files have their lines as row numbers.
    has_lines: bool,
}

impl ReceivedScan {
    fn first_rows(&self) -> Result<Table> {
        const SAMPLE: usize = 1 << 12;
        let run = self.runs.iter().find(|run| run.frames() > 0);
        let rows = run.map(|run| self.frame(run, 0)).transpose()?;
        Ok(rows.map_or_else(|| self.sample.emptied(), |rows| rows.head(SAMPLE)))
    }

    fn frame(&self, run: &SpillFile, number: usize) -> Result<Table> {
        let not_numbers = if number == 0 { run.not_numbers() } else { 0 };
        let rows = run.frame(number)?;
        let place = (0..2).find(|place| rows.row_numbers(*place).is_some()).unwrap_or(0);
        let rows = with_lines(rows, place, &self.sample);
        let rows = if self.has_lines { rows.without_row_numbers()? } else { rows };
        Ok(widened(rows, &self.columns)?.with_not_numbers(not_numbers))
    }
}

impl Scan for ReceivedScan {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        self.runs.iter().map(SpillFile::rows).sum()
    }

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        for run in &self.runs {
            for number in 0..run.frames() {
                let taken = take(self.frame(run, number)?)?;
                if taken.is_break() {
                    return Ok(taken);
                }
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}
