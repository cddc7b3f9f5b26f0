//! Rows whose cells are no plain text (of JSON Lines and of workbooks), written down as CSV, which
//! is then read as every CSV text is.
//!
//! So there is one way in which a column gets its type. A cell that is a text where it comes from
//! is not taken for a number: of a column with such a cell that is noted.

use super::packing::MOST_COLUMNS;
use crate::error::{Error, Result};
use std::{borrow::Cow, collections::HashSet};

/// What is said of the rows that are written down.
#[derive(Clone, Copy)]
pub(crate) struct RowRules<'a> {
    /// Texts that mean "no value".
    pub(crate) missing: &'a [String],
    /// Whether the first row is no header.
    pub(crate) no_header: bool,
    /// How many columns a file may have.
    pub(crate) most_columns: Option<u64>,
}

impl RowRules<'_> {
    /// An error where a file has more columns than it may.
    pub(crate) fn refuse_columns(&self, file: &str, columns: usize) -> Result<()> {
        let (columns, most) = (columns as u64, self.most_columns.unwrap_or(MOST_COLUMNS));
        match columns > most {
            true => Err(Error::ManyColumns { file: file.to_owned(), columns, most }),
            false => Ok(()),
        }
    }
}

/// An error where two columns have one name.
pub(crate) fn refuse_twice(file: &str, names: &[String]) -> Result<()> {
    let mut seen = HashSet::new();
    match names.iter().find(|name| !seen.insert(name.as_str())) {
        None => Ok(()),
        Some(name) => {
            let (file, name) = (Some(file.to_owned()), name.clone());
            Err(jembric_core::Error::TwoColumnsOfOneName { file, name }.into())
        }
    }
}

/// A cell as it stands in its source.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Cell<'a> {
    Missing,
    /// A number, a truth value or a date, as CSV has it.
    Bare(Cow<'a, str>),
    Text(Cow<'a, str>),
}

/// Rows of so many columns that are being written down.
pub(crate) struct Rows<'a> {
    to: csv::Writer<Vec<u8>>,
    texts: Vec<bool>,
    missing: &'a [String],
    rows: u32,
    next_line: u64,
    jumps: Vec<(u32, u64)>,
}

impl<'a> Rows<'a> {
    pub(crate) fn new(columns: usize, missing: &'a [String]) -> Rows<'a> {
        let to = csv::WriterBuilder::new().from_writer(Vec::new());
        Rows { to, texts: vec![false; columns], missing, rows: 0, next_line: 0, jumps: Vec::new() }
    }

    /// The next row, and the line on which it stands.
    pub(crate) fn row<'c>(
        &mut self,
        line: u64,
        cells: impl Iterator<Item = &'c Cell<'c>>,
    ) -> csv::Result<()> {
        for (cell, is_text) in cells.zip(&mut self.texts) {
            match cell {
                Cell::Missing => self.to.write_field("")?,
                Cell::Bare(text) => self.to.write_field(&**text)?,
                Cell::Text(text) => {
                    let value = text.trim();
                    *is_text |= !value.is_empty() && !self.missing.iter().any(|mark| mark == value);
                    self.to.write_field(&**text)?;
                }
            }
        }
        self.to.write_record(None::<&[u8]>)?;
        if line != self.next_line {
            self.jumps.push((self.rows, line));
        }
        self.rows += 1;
        self.next_line = line + 1;
        Ok(())
    }
}

/// Rows that have been written down.
pub(crate) struct Transcript {
    pub(crate) names: Vec<String>,
    /// Which columns have a cell that is a text.
    pub(crate) texts: Vec<bool>,
    pub(crate) csv: Vec<u8>,
    /// Rows that do not stand on the line after the row before them, each with its line.
    pub(crate) jumps: Vec<(u32, u64)>,
}

impl Transcript {
    /// Parts that follow one another, under these names.
    pub(crate) fn of(names: Vec<String>, parts: Vec<Rows<'_>>) -> std::io::Result<Transcript> {
        let mut whole = Transcript {
            texts: vec![false; names.len()],
            names,
            csv: Vec::new(),
            jumps: Vec::new(),
        };
        let mut before = 0;
        for part in parts {
            let bytes = part.to.into_inner().map_err(csv::IntoInnerError::into_error)?;
            whole.csv.extend_from_slice(&bytes);
            whole.texts.iter_mut().zip(part.texts).for_each(|(is_text, more)| *is_text |= more);
            whole.jumps.extend(part.jumps.into_iter().map(|(row, line)| (before + row, line)));
            before += part.rows;
        }
        Ok(whole)
    }
}
