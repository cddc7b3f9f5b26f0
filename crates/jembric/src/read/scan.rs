//! [`TextScan`]: a text file whose table is larger than memory, read in batches.
//!
//! The type of a column is decided by all of its cells, so a file is read twice. The first time,
//! the types that the first rows suggest are tried on all cells, and nothing is kept. If a cell
//! does not fit, its column is surveyed and tried again, as for a table in memory. From then on,
//! every batch has its final types.

use super::{
    bytes::{FileBytes, Stamp},
    header::Header,
    infer::{CellType, Conventions},
    layout::Region,
    pass::{ColumnFilled, Pass},
    reading::Reading,
    table::{Typing, insisted},
};
use crate::{
    CoreError, Table,
    error::{Error, Result},
    larger::{Data, Memory, Scan, bytes_of},
};
use arrow_array::{Array, ArrayRef};
use arrow_cast::cast;
use arrow_schema::DataType;
use jembric_core::Origin;
use std::{ops::Range, sync::Arc};

/// Rows of CSV with the types of their columns.
#[derive(Debug)]
pub(super) struct TextScan {
    source: FileBytes,
    stamp: Option<Stamp>,
    header: Header,
    regions: Vec<Region>,
    /// The regions that are read together.
    at_once: usize,
    reading: Reading,
    conventions: Conventions,
    /// The columns that are read.
    columns: Vec<usize>,
    kinds: Vec<CellType>,
    /// The Arrow type of each column, and the notations in which its dates are written.
    types: Vec<Option<DataType>>,
    forms: Vec<u16>,
    /// The lines of rows that were converted to CSV.
    written_from: Option<Origin>,
    rows: u64,
    sample: Option<Table>,
}

/// What is known of the cells of a column after some regions.
#[derive(Default)]
struct Tried {
    misfits: u64,
    first: Vec<String>,
    values: u64,
}

impl TextScan {
    /// The rows below a header as a table, or as a scan if it does not fit into memory.
    pub(super) fn data(
        reading: &Reading,
        (source, header): (FileBytes, Header),
        texts: &[bool],
        written_from: Option<Origin>,
        memory: &Memory,
    ) -> Result<Data> {
        let stamp = source.stamp()?;
        let regions = reading.regions(&source, &header)?;
        let conventions = reading.conventions();
        let first = regions.get(..1).unwrap_or_default();
        let pass = Pass {
            source: &source,
            regions: first,
            header: &header,
            conventions: &conventions,
            reading,
        };
        let (columns, kinds, typing) = reading.guessed(&pass, texts)?;
        // The first rows show how much memory a row takes.
        let filled = pass.fill(&columns, &kinds)?;
        let mut arrays: Vec<Option<ArrayRef>> = vec![None; kinds.len()];
        for (&column, filled) in columns.iter().zip(filled.columns) {
            arrays[column] = Some(filled.array);
        }
        let forms = vec![0; kinds.len()];
        let sample = reading.assembled(&header, &kinds, &forms, arrays, Origin::default())?;
        let row = bytes_of(&sample) as f64 / (sample.rows() as f64).max(1.0);
        let most: usize = regions.iter().map(|region| region.most_records).sum();
        let in_a_region =
            first.iter().map(|region| region.most_records).sum::<usize>() as f64 * row;
        if memory.holds((most as f64 * row) as u64) {
            let table = reading.rows_of(&source, &header, &regions, texts, written_from)?;
            return Ok(Data::Table(table));
        }
        let at_once = (memory.batch() as f64 / in_a_region.max(1.0)) as usize;
        let mut scan = TextScan {
            stamp,
            at_once: at_once.max(1),
            types: vec![None; kinds.len()],
            forms,
            rows: 0,
            sample: None,
            reading: reading.clone(),
            source,
            header,
            regions,
            conventions,
            columns,
            kinds,
            written_from,
        };
        scan.try_types(&typing)?;
        // From now on, whoever takes the batches reports their rows.
        scan.reading.progress = None;
        scan.sample = Some(scan.first_rows()?);
        Ok(Data::Larger(Arc::new(scan)))
    }

    fn pass(&self, regions: Range<usize>) -> Pass<'_> {
        Pass {
            source: &self.source,
            regions: &self.regions[regions],
            header: &self.header,
            conventions: &self.conventions,
            reading: &self.reading,
        }
    }

    /// The groups of regions that are read together.
    fn groups(&self) -> impl Iterator<Item = Range<usize>> + use<> {
        let (all, at_once) = (self.regions.len(), self.at_once);
        (0..all).step_by(at_once).map(move |from| from..all.min(from + at_once))
    }

    /// Tries the types on all cells, and changes those that do not fit.
    fn try_types(&mut self, typing: &Typing<'_>) -> Result<()> {
        let mut columns = self.columns.clone();
        while !columns.is_empty() {
            let mut tried: Vec<Tried> = columns.iter().map(|_| Tried::default()).collect();
            columns
                .iter()
                .for_each(|column| (self.types[*column], self.forms[*column]) = (None, 0));
            self.rows = 0;
            for group in self.groups() {
                let filled = self.pass(group).fill(&columns, &self.kinds)?;
                let mut rows = 0;
                for ((&column, done), tried) in columns.iter().zip(filled.columns).zip(&mut tried) {
                    rows = done.array.len() as u64;
                    tried.add(&done, &self.lines(&filled.origin));
                    self.forms[column] |= done.forms;
                    let kind = done.array.data_type();
                    // Moments that are all midnights are dates, unless others are not.
                    if self.types[column].as_ref().is_none_or(|before| *before == DataType::Date32)
                    {
                        self.types[column] = Some(kind.clone());
                    }
                }
                self.rows += rows;
            }
            let surprised = columns.iter().zip(&tried).filter(|(_, tried)| tried.misfits > 0);
            let surprised: Vec<(usize, &Tried)> =
                surprised.map(|(column, tried)| (*column, tried)).collect();
            for (column, tried) in &surprised {
                if let Some(format) = insisted(&self.kinds[*column], typing.given(*column)) {
                    return Err(Error::Format {
                        file: self.source.name.clone(),
                        column: self.header.names[*column].clone(),
                        format,
                        values: tried.values,
                        bad: tried.misfits,
                        first: tried.first.clone(),
                    });
                }
            }
            let again: Vec<usize> = surprised.into_iter().map(|(column, _)| column).collect();
            if !again.is_empty() {
                let all = self.pass(0..self.regions.len());
                let facts = all.survey(&again, &self.regions, usize::MAX)?;
                for (&column, facts) in again.iter().zip(&facts) {
                    let kind = typing.decided(column, facts, &self.conventions);
                    let is_same = kind == self.kinds[column];
                    self.kinds[column] = if is_same { CellType::Text } else { kind };
                }
            }
            columns = again;
        }
        self.expect_unchanged()
    }

    /// The places of the rows of a batch, for messages.
    fn lines<'a>(&'a self, of_batch: &'a Origin) -> Origin {
        match &self.written_from {
            Some(origin) => origin.after(self.rows as usize),
            None => of_batch.clone(),
        }
    }

    fn first_rows(&self) -> Result<Table> {
        const SAMPLE: usize = 1 << 12;
        Ok(self.batch(0..self.regions.len().min(1), 0)?.head(SAMPLE))
    }

    /// The rows of some regions. The first one has this number.
    fn batch(&self, regions: Range<usize>, first_row: u64) -> Result<Table> {
        let filled = self.pass(regions).fill(&self.columns, &self.kinds)?;
        let mut arrays: Vec<Option<ArrayRef>> = vec![None; self.kinds.len()];
        for (&column, filled) in self.columns.iter().zip(filled.columns) {
            let array = match &self.types[column] {
                Some(kind) if kind != filled.array.data_type() => {
                    cast(&filled.array, kind).map_err(CoreError::from)?
                }
                _ => filled.array,
            };
            arrays[column] = Some(array);
        }
        let origin = match &self.written_from {
            Some(origin) => origin.after(first_row as usize),
            None => filled.origin,
        };
        self.reading.assembled(&self.header, &self.kinds, &self.forms, arrays, origin)
    }

    /// Errors: the file is not the one that was opened any more.
    fn expect_unchanged(&self) -> Result<()> {
        match self.source.stamp()? == self.stamp {
            true => Ok(()),
            false => Err(Error::Changed { file: self.source.name.clone() }),
        }
    }
}

impl Tried {
    fn add(&mut self, filled: &ColumnFilled, origin: &Origin) {
        let missing = filled.array.logical_null_count() as u64 - filled.misfits;
        self.values += filled.array.len() as u64 - missing;
        self.misfits += filled.misfits;
        let room = 3_usize.saturating_sub(self.first.len());
        self.first.extend(filled.shown_misfits(origin).take(room));
    }
}

impl Scan for TextScan {
    fn sample(&self) -> &Table {
        // It is set before anyone sees the scan.
        self.sample.as_ref().expect("the first rows were read")
    }

    fn rows(&self) -> u64 {
        self.rows
    }

    fn each(&self, take: &mut dyn FnMut(Table) -> Result<()>) -> Result<()> {
        self.expect_unchanged()?;
        let mut first_row = 0;
        for group in self.groups() {
            let table = self.batch(group, first_row)?;
            first_row += table.rows() as u64;
            take(table)?;
        }
        if self.regions.is_empty() {
            take(self.sample().head(0))?;
        }
        self.expect_unchanged()
    }
}

#[cfg(test)]
mod tests;
