//! [`Pieces`]: rows of CSV that arrive piece by piece, and are read while more are written.

use super::{
    header::Header,
    infer::{CellType, Conventions},
    layout::{Region, regions},
    pass::{ColumnFilled, Pass},
    reading::Reading,
    table::ROWS_TO_GUESS_FROM,
};
use crate::{
    CoreError, Table, error::Result, formats::csv_rows::CsvRows, text::file_bytes::FileBytes,
};
use arrow_array::{Array, ArrayRef};
use arrow_select::concat::concat;
use jembric_core::Origin;
use rayon::prelude::*;

/// Rows without a header, in pieces that end with a row.
///
/// The types are guessed from the first piece. If a cell of a later one does not fit, the rows must
/// be read again as one text.
pub(crate) struct Pieces {
    reading: Reading,
    header: Header,
    conventions: Conventions,
    /// The first piece, until there is another one. Alone it is best read as what it is.
    first: Option<Vec<u8>>,
    guessed: Option<Guessed>,
    /// Whether all that was read so far has the guessed types.
    fits: bool,
    pool: Option<rayon::ThreadPool>,
}

/// The guessed types, and the columns of each piece that have them.
struct Guessed {
    kinds: Vec<CellType>,
    arrays: Vec<Vec<ArrayRef>>,
    forms: Vec<u16>,
}

impl Pieces {
    pub(crate) fn new(reading: &Reading, names: Vec<String>) -> Pieces {
        let reading = Reading { no_quotes: false, decimal_comma: false, ..reading.clone() };
        Pieces {
            header: Header { names, separator: b',', end: 0, lines: 0 },
            conventions: reading.conventions(),
            reading,
            first: None,
            guessed: None,
            fits: true,
            pool: None,
        }
    }

    /// Adds a piece, and returns its memory if it is free again.
    pub(crate) fn add(&mut self, piece: Vec<u8>) -> Option<Vec<u8>> {
        if self.guessed.is_none() && self.first.is_none() {
            self.first = Some(piece);
            return None;
        }
        if self.pool.is_none() {
            // One thread is busy with writing the pieces.
            let threads = rayon::current_num_threads().saturating_sub(1).max(1);
            self.pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().ok();
        }
        let pool = self.pool.take();
        let read = || {
            let first = self.first.take();
            first.into_iter().chain([piece]).fold(None, |_, piece| Some(self.add_read(piece)))
        };
        let free = match &pool {
            Some(pool) => pool.install(read),
            None => read(),
        };
        self.pool = pool;
        free
    }

    /// Whether the types that were guessed are those of all cells.
    pub(crate) fn fits(&self) -> bool {
        self.fits
    }

    /// Reads a piece, unless the guess was wrong. What cannot be read is found again when the rows
    /// are read as one text.
    fn add_read(&mut self, piece: Vec<u8>) -> Vec<u8> {
        let source = FileBytes::memory(String::new(), piece);
        self.fits = self.fits && matches!(self.read(&source), Ok(true));
        source.into_memory()
    }

    /// Reads a piece, and returns whether it has the guessed types.
    fn read(&mut self, source: &FileBytes) -> Result<bool> {
        let known = self.guessed.take();
        let block = self.reading.block(&self.header);
        let regions: Vec<Region> = regions(source, (0, 1), true, block)?;
        let Pieces { header, conventions, reading, .. } = &*self;
        let pass = Pass { source, regions: &regions, header, conventions, reading };
        let columns: Vec<usize> = (0..header.names.len()).collect();
        let mut guessed = match known {
            Some(guessed) => guessed,
            None => {
                let first = &regions[..regions.len().min(1)];
                let facts = pass.survey(&columns, first, ROWS_TO_GUESS_FROM)?;
                let given = reading.given_kinds(source, &header.names)?;
                let kind = |(facts, given): (&super::infer::Facts, &Option<CellType>)| {
                    given.clone().unwrap_or_else(|| facts.kind(conventions))
                };
                let kinds = facts.iter().zip(&given).map(kind).collect();
                Guessed {
                    kinds,
                    arrays: vec![Vec::new(); columns.len()],
                    forms: vec![0; columns.len()],
                }
            }
        };
        let filled = pass.fill(&columns, &guessed.kinds)?.columns;
        // If all moments of a piece are midnights it has dates, which others may not have.
        let is_same = |(column, parts): (&ColumnFilled, &Vec<ArrayRef>)| {
            let first = parts.first().unwrap_or(&column.array);
            column.misfits == 0 && first.data_type() == column.array.data_type()
        };
        let fits = filled.iter().zip(&guessed.arrays).all(is_same);
        for ((column, arrays), forms) in
            filled.into_iter().zip(&mut guessed.arrays).zip(&mut guessed.forms)
        {
            *forms |= column.forms;
            arrays.push(column.array);
        }
        self.guessed = Some(guessed);
        Ok(fits)
    }

    /// The table of all pieces, which must fit.
    pub(crate) fn table(self, name: &str, origin: Origin) -> Result<Table> {
        let Pieces { reading, header, first, guessed, .. } = self;
        let Some(Guessed { kinds, arrays, forms }) = guessed else {
            let (names, csv) = (header.names, first.unwrap_or_default());
            return reading.written_from(CsvRows::of_csv(name, names, csv), origin);
        };
        let whole = |parts: Vec<ArrayRef>| {
            let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
            Ok(Some(concat(&parts).map_err(CoreError::from)?))
        };
        let arrays: Vec<Result<_>> = arrays.into_par_iter().map(whole).collect();
        let arrays = arrays.into_iter().collect::<Result<_>>()?;
        reading.assembled(&header, &kinds, &forms, arrays, origin)
    }
}
