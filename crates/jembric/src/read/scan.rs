//! [`TextScan`]: a text file whose table is larger than memory, read in batches.
//!
//! The type of a column is decided by all of its cells, so a file is read twice. The first time,
//! the types that the first rows suggest are tried on all cells, and nothing is kept. If a cell
//! does not fit, its column is surveyed and tried again, as for a table in memory. From then on,
//! every batch has its final types.

use super::{
    header::Header,
    infer::{CellType, Conventions, Facts},
    layout::Region,
    pass::{ColumnFilled, Pass},
    reading::Reading,
    table::{Typing, insisted},
};
use crate::{
    CoreError, Table,
    data::{
        Data, Receiver, Scan, bytes_of,
        exchange::{Exchange, PlaceInList},
        memory::Memory,
    },
    error::{Error, Result},
    text::file_bytes::{FileBytes, Stamp},
};
use arrow_array::{Array, ArrayRef, new_empty_array};
use arrow_cast::cast;
use arrow_schema::DataType;
use borsh::{BorshDeserialize, BorshSerialize};
use jembric_core::Origin;
use std::{
    ops::{ControlFlow, Range},
    sync::Arc,
};

/// Rows of CSV with the types of their columns.
#[derive(Debug)]
pub(crate) struct TextScan {
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

/// The columns that were read when their types were tried, and the places of their rows.
struct Kept {
    arrays: Vec<Option<ArrayRef>>,
    origin: Option<Origin>,
}

/// What is known of the cells of a column after some regions.
#[derive(Default, BorshSerialize, BorshDeserialize)]
struct Tried {
    misfits: u64,
    first: Vec<String>,
    values: u64,
}

impl TextScan {
    /// The rows below a header as a table, or as a scan if it does not fit into memory.
    pub(crate) fn data(
        reading: &Reading,
        (source, header): (FileBytes, Header),
        texts: &[bool],
        written_from: Option<Origin>,
        memory: &Memory,
        share: Option<(PlaceInList, &dyn Exchange)>,
    ) -> Result<Data> {
        let stamp = source.stamp()?;
        let exchange = share.map(|(_, exchange)| exchange);
        let regions = match share {
            Some((place, exchange)) => {
                reading.regions_of_share(&source, &header, place, exchange)?
            }
            None => reading.regions(&source, &header)?,
        };
        let conventions = reading.conventions();
        let first = regions.get(..1).unwrap_or_default();
        let pass = Pass {
            source: &source,
            regions: first,
            header: &header,
            conventions: &conventions,
            reading,
        };
        let (columns, kinds, typing) = reading.guessed(&pass, texts, exchange)?;
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
        let fits = memory.holds((most as f64 * row) as u64);
        if fits && exchange.is_none() {
            let table = reading.rows_of(&source, &header, &regions, texts, written_from)?;
            return Ok(Data::Table(table));
        }
        let at_once = if fits {
            regions.len()
        } else {
            (memory.batch() as f64 / in_a_region.max(1.0)) as usize
        };
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
        let kept = scan.try_types(&typing, fits, exchange)?;
        // From now on, whoever takes the batches reports their rows.
        scan.reading.progress = None;
        if let Some(origin) = kept.origin
            && fits
        {
            return scan.table(kept.arrays, origin).map(Data::Table);
        }
        let sample = scan.first_rows()?;
        if fits {
            // The share of this process has no rows.
            return Ok(Data::Table(sample));
        }
        scan.sample = Some(sample);
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

    /// Tries the types on all cells, and changes those that do not fit. Returns the columns, if
    /// they are kept because all regions are read at once.
    ///
    /// Several processes try them on the cells of their shares, and change the same types.
    fn try_types(
        &mut self,
        typing: &Typing<'_>,
        keeps: bool,
        exchange: Option<&dyn Exchange>,
    ) -> Result<Kept> {
        let mut kept = Kept { arrays: vec![None; self.kinds.len()], origin: None };
        let mut columns = self.columns.clone();
        while !columns.is_empty() {
            let mut tried: Vec<Tried> = columns.iter().map(|_| Tried::default()).collect();
            columns
                .iter()
                .for_each(|column| (self.types[*column], self.forms[*column]) = (None, 0));
            self.rows = 0;
            for group in self.groups() {
                let filled = self.pass(group).fill(&columns, &self.kinds)?;
                kept.origin = Some(filled.origin.clone());
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
                    if keeps {
                        kept.arrays[column] = Some(done.array);
                    }
                }
                self.rows += rows;
            }
            if let Some(exchange) = exchange {
                self.agree(&columns, &mut tried, exchange)?;
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
                let mut facts = all.survey(&again, &self.regions, usize::MAX)?;
                if let Some(exchange) = exchange {
                    let none = vec![Facts::default(); again.len()];
                    facts = exchange.all_gather(&facts)?.into_iter().fold(none, |all, more| {
                        all.into_iter().zip(&more).map(|(all, more)| all.plus(more)).collect()
                    });
                }
                for (&column, facts) in again.iter().zip(&facts) {
                    let kind = typing.decided(column, facts, &self.conventions);
                    let is_same = kind == self.kinds[column];
                    self.kinds[column] = if is_same { CellType::Text } else { kind };
                }
            }
            columns = again;
        }
        self.expect_unchanged()?;
        Ok(kept)
    }

    /// Adds up what all processes know of some columns.
    fn agree(
        &mut self,
        columns: &[usize],
        tried: &mut [Tried],
        exchange: &dyn Exchange,
    ) -> Result<()> {
        let types = columns.iter().filter_map(|&column| {
            let kind = self.types[column].as_ref()?;
            Some((column.to_string(), new_empty_array(kind)))
        });
        let types = Table::from_columns(types.collect::<Vec<(String, ArrayRef)>>())?;
        let forms: Vec<u16> = columns.iter().map(|&column| self.forms[column]).collect();
        let own: Vec<Tried> = tried.iter_mut().map(std::mem::take).collect();
        for (all, types, forms) in exchange.all_gather(&(own, types, forms))? {
            for ((tried, more), (&column, forms)) in
                tried.iter_mut().zip(all).zip(columns.iter().zip(forms))
            {
                tried.plus(more);
                self.forms[column] |= forms;
                let is_date = |kind: &DataType| *kind == DataType::Date32;
                let found = types.column(&column.to_string()).ok();
                if let Some(found) = found.map(|found| found.data_type().clone())
                    && self.types[column].as_ref().is_none_or(is_date)
                {
                    self.types[column] = Some(found);
                }
            }
        }
        Ok(())
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
            arrays[column] = Some(filled.array);
        }
        let origin = match &self.written_from {
            Some(origin) => origin.after(first_row as usize),
            None => filled.origin,
        };
        self.table(arrays, origin)
    }

    /// The table of some rows, with the types that all rows have together.
    fn table(&self, mut arrays: Vec<Option<ArrayRef>>, origin: Origin) -> Result<Table> {
        for (array, kind) in arrays.iter_mut().zip(&self.types) {
            if let (Some(array), Some(kind)) = (array, kind)
                && array.data_type() != kind
            {
                *array = cast(array, kind).map_err(CoreError::from)?;
            }
        }
        self.reading.assembled(&self.header, &self.kinds, &self.forms, arrays, origin)
    }

    /// Errors: the file is not the one that was opened any more.
    fn expect_unchanged(&self) -> Result<()> {
        if self.source.stamp()? == self.stamp {
            Ok(())
        } else {
            Err(Error::Changed { file: self.source.name.clone() })
        }
    }
}

impl Tried {
    fn plus(&mut self, more: Tried) {
        self.misfits += more.misfits;
        self.values += more.values;
        let room = 3_usize.saturating_sub(self.first.len());
        self.first.extend(more.first.into_iter().take(room));
    }

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

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        self.expect_unchanged()?;
        let mut first_row = 0;
        for group in self.groups() {
            let table = self.batch(group, first_row)?;
            first_row += table.rows() as u64;
            if take(table)?.is_break() {
                return Ok(ControlFlow::Break(()));
            }
        }
        if self.regions.is_empty() && take(self.sample().head(0))?.is_break() {
            return Ok(ControlFlow::Break(()));
        }
        self.expect_unchanged().map(ControlFlow::Continue)
    }
}

#[cfg(test)]
mod tests;
