//! [`Collector`]: takes a result in batches, and keeps it in memory or in a temporary file.

use super::{
    Data, Memory, bytes_of,
    run::{RunScan, RunWriter},
};
use crate::{Result, Table};
use std::sync::Arc;

/// Takes batches with the same columns. Decimals may be of 64 or 128 bits.
pub(crate) struct Collector {
    memory: Memory,
    /// The batches in memory, and their bytes.
    kept: Vec<Table>,
    bytes: u64,
    written: Option<RunWriter>,
}

impl Collector {
    pub(crate) fn new(memory: &Memory) -> Collector {
        Collector { memory: memory.clone(), kept: Vec::new(), bytes: 0, written: None }
    }

    /// Adds rows.
    pub(crate) fn take(&mut self, batch: &Table) -> Result<()> {
        // Even an empty result needs its columns, once.
        if batch.rows() == 0 && (!self.kept.is_empty() || self.written.is_some()) {
            return Ok(());
        }
        if let [only] = &self.kept[..]
            && only.rows() == 0
        {
            self.kept.clear();
        }
        self.bytes += bytes_of(batch);
        self.kept.push(batch.clone());
        let most = if self.written.is_some() { self.memory.batch() } else { self.memory.buffers() };
        if self.bytes > most { self.write() } else { Ok(()) }
    }

    /// Writes the batches that are in memory.
    fn write(&mut self) -> Result<()> {
        let kept = std::mem::take(&mut self.kept);
        self.bytes = 0;
        let writer = match &mut self.written {
            Some(writer) => writer,
            None => self.written.insert(RunWriter::new(&self.memory)),
        };
        for batch in in_batches(kept, self.memory.batch())? {
            writer.write(&batch)?;
        }
        Ok(())
    }

    /// All rows; none if no batch was added.
    pub(crate) fn finish(mut self) -> Result<Option<Data>> {
        if self.written.is_none() {
            let Some((first, others)) = self.kept.split_first() else { return Ok(None) };
            return Ok(Some(Data::Table(Table::joined(first, others)?)));
        }
        if !self.kept.is_empty() {
            self.write()?;
        }
        let scan = self.written.map(|writer| RunScan::of(writer.finish())).transpose()?;
        Ok(scan.map(|scan| Data::Larger(Arc::new(scan))))
    }
}

/// Joins short tables, and cuts long ones, so that each takes about this many bytes.
pub(crate) fn in_batches(tables: Vec<Table>, bytes: u64) -> Result<Vec<Table>> {
    let mut batches = Vec::new();
    let (mut short, mut of_short): (Vec<Table>, u64) = (Vec::new(), 0);
    for table in tables {
        let of_table = bytes_of(&table);
        if of_short + of_table > bytes && !short.is_empty() {
            batches.push(joined(&short)?);
            short.clear();
            of_short = 0;
        }
        if of_table > bytes && table.rows() > 1 {
            let rows = (table.rows() as u64 * bytes / of_table).max(1) as usize;
            batches.extend((0..table.rows()).step_by(rows).map(|from| table.slice(from, rows)));
            continue;
        }
        short.push(table);
        of_short += of_table;
    }
    if !short.is_empty() {
        batches.push(joined(&short)?);
    }
    Ok(batches)
}

/// Joins tables with the same columns, one after the other. There is at least one.
pub(crate) fn joined(tables: &[Table]) -> Result<Table> {
    Ok(Table::joined(&tables[0], &tables[1..])?)
}
