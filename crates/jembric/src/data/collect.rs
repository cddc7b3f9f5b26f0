//! [`Collector`] and [`Unifying`]: take rows in batches, and keep them in memory or in temporary
//! files.

use super::{
    Data, Scan, bytes_of,
    memory::Memory,
    spill::{SpillScan, SpillWriter},
};
use crate::{Result, Stack, Table, data::Receiver};
use std::{ops::ControlFlow, sync::Arc};

/// Takes batches with the same columns. Decimals may be of 64 or 128 bits.
pub(crate) struct Collector {
    memory: Memory,
    /// The batches in memory, and their bytes.
    kept: Vec<Table>,
    bytes: u64,
    written: Option<SpillWriter>,
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
            None => self.written.insert(SpillWriter::new(&self.memory)),
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
        let scan = self.written.map(|writer| SpillScan::open(writer.finish())).transpose()?;
        Ok(scan.map(|scan| Data::Larger(Arc::new(scan))))
    }
}

/// Takes batches whose columns may have different types, such as decimals with different places.
/// All get the types that all batches together have.
pub(crate) struct Unifying {
    memory: Memory,
    /// The rows so far, whose types may be narrower than those of the last ones.
    parts: Vec<Data>,
    last: Collector,
    /// The columns that all batches so far have together.
    columns: Option<Table>,
}

impl Unifying {
    pub(crate) fn new(memory: &Memory) -> Unifying {
        let last = Collector::new(memory);
        Unifying { memory: memory.clone(), parts: Vec::new(), last, columns: None }
    }

    /// Adds rows.
    pub(crate) fn take(&mut self, batch: &Table) -> Result<()> {
        let batch = match &self.columns {
            Some(columns) => unified(columns, batch)?,
            None => batch.clone(),
        };
        let columns = batch.emptied();
        if self.columns.as_ref().is_some_and(|before| before.shape() != columns.shape()) {
            let last = std::mem::replace(&mut self.last, Collector::new(&self.memory));
            self.parts.extend(last.finish()?);
        }
        self.columns = Some(columns);
        self.last.take(&batch)
    }

    /// All rows.
    pub(crate) fn finish(mut self) -> Result<Data> {
        self.parts.extend(self.last.finish()?);
        match (self.columns, self.parts.len()) {
            (_, 1) => Ok(self.parts.remove(0)),
            (None, _) => Ok(Data::Table(Table::from_columns(Vec::<(&str, _)>::new())?)),
            (Some(columns), _) => {
                let first = self.parts.iter().find(|part| part.rows() > 0);
                let sample = first.map_or(&columns, Data::sample);
                let sample = unified(&columns, sample)?;
                Ok(Data::Larger(Arc::new(Unified { parts: self.parts, columns, sample })))
            }
        }
    }
}

/// Rows with the types that they have together with these columns.
pub(crate) fn unified_data(data: Data, columns: &Table) -> Result<Data> {
    let columns = unified(columns, &data.sample().emptied())?;
    match &data {
        _ if columns.shape() == data.sample().shape() => Ok(data),
        Data::Table(table) => Ok(Data::Table(unified(&columns, table)?)),
        Data::Larger(_) => {
            let sample = unified(&columns, data.sample())?;
            Ok(Data::Larger(Arc::new(Unified { parts: vec![data], columns, sample })))
        }
    }
}

/// A batch with the types that it has together with these columns.
pub(crate) fn unified(columns: &Table, batch: &Table) -> Result<Table> {
    let both = Stack::new().apply(&[("", columns), ("", batch)])?.table;
    Ok(both.with_not_numbers(batch.not_numbers()))
}

/// Rows whose types are unified when they are delivered.
#[derive(Debug)]
struct Unified {
    parts: Vec<Data>,
    columns: Table,
    sample: Table,
}

impl Scan for Unified {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        self.parts.iter().map(Data::rows).sum()
    }

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        for part in &self.parts {
            let taken = part.each_until(&mut |batch| take(unified(&self.columns, &batch)?))?;
            if taken.is_break() {
                return Ok(taken);
            }
        }
        Ok(ControlFlow::Continue(()))
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
