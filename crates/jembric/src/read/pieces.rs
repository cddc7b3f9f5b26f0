//! [`Pieces`]: rows of CSV that arrive piece by piece, and are read while the next ones are written.

use super::{
    bytes::FileBytes,
    header::Header,
    infer::{CellType, Conventions},
    layout::{BLOCK, Region, regions},
    pass::Pass,
    reading::Reading,
    table::ROWS_TO_GUESS_FROM,
};
use crate::{Table, error::Result, formats::transcript::Transcript};
use arrow_array::{Array, ArrayRef};
use arrow_select::concat::concat;
use jembric_core::Origin;
use rayon::prelude::*;

/// Rows without a header, in pieces that end with a row.
///
/// The types are guessed from the first piece. If a cell of a later one does not fit, all pieces
/// are read again as one, so the result is that of one text.
pub(crate) struct Pieces {
    reading: Reading,
    header: Header,
    conventions: Conventions,
    texts: Vec<FileBytes>,
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
            texts: Vec::new(),
            guessed: None,
            fits: true,
            pool: None,
        }
    }

    /// Adds a piece. What does not fit, or cannot be read, is found again in the end.
    pub(crate) fn add(&mut self, piece: Vec<u8>) {
        self.texts.push(FileBytes::memory(String::new(), piece));
        // A single piece is best read as what it is.
        let from = match self.texts.len() {
            1 => return,
            2 => 0,
            last => last - 1,
        };
        if self.pool.is_none() {
            // One thread is busy with writing the pieces.
            let threads = rayon::current_num_threads().saturating_sub(1).max(1);
            self.pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().ok();
        }
        let pool = self.pool.take();
        let mut read = || {
            for place in from..self.texts.len() {
                self.fits = self.fits && matches!(self.read(place), Ok(true));
            }
        };
        match &pool {
            Some(pool) => pool.install(read),
            None => read(),
        }
        self.pool = pool;
    }

    /// Reads a piece, and returns whether it has the guessed types.
    fn read(&mut self, place: usize) -> Result<bool> {
        let known = self.guessed.take();
        let source = &self.texts[place];
        let block = self.reading.block.unwrap_or(BLOCK);
        let regions: Vec<Region> = regions(source, 0, 1, true, block)?;
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
        let fits = filled.iter().all(|column| column.misfits == 0);
        for ((column, arrays), forms) in
            filled.into_iter().zip(&mut guessed.arrays).zip(&mut guessed.forms)
        {
            *forms |= column.forms;
            arrays.push(column.array);
        }
        self.guessed = Some(guessed);
        Ok(fits)
    }

    /// The table of all pieces.
    pub(crate) fn table(self, name: &str, origin: Origin) -> Result<Table> {
        let Pieces { reading, header, texts, guessed, fits, .. } = self;
        let parts = guessed.filter(|_| fits).and_then(|guessed| {
            let Guessed { kinds, arrays, forms } = guessed;
            // If all moments of a piece are midnights it has dates, which others may not have.
            let whole = |parts: &Vec<ArrayRef>| {
                let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
                concat(&parts).ok()
            };
            let arrays: Option<Vec<ArrayRef>> = arrays.par_iter().map(whole).collect();
            Some((kinds, arrays?, forms))
        });
        match parts {
            Some((kinds, arrays, forms)) => {
                let arrays = arrays.into_iter().map(Some).collect();
                reading.assembled(&header, &kinds, &forms, arrays, origin)
            }
            None => {
                let mut csv = Vec::new();
                for text in &texts {
                    csv.extend_from_slice(text.bytes(0, text.len(), &mut Vec::new())?);
                }
                let (names, jumps) = (header.names, Vec::new());
                let transcript = Transcript { texts: vec![false; names.len()], names, csv, jumps };
                reading.written_from(name, transcript, origin)
            }
        }
    }
}
