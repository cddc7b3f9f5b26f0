//! Converts rows of JSON Lines and workbooks to CSV text, which is then read by the one reader of
//! CSV.
//!
//! So there is only one way to find the type of a column. A cell that is a text in its source is
//! never a number, so columns with such a cell are recorded.

use super::packing::MOST_COLUMNS;
use crate::{
    data::memory::Memory,
    error::{Error, Result},
    text::{file_bytes::FileBytes, spool::LongText},
};
use std::{borrow::Cow, collections::HashSet};

/// The settings for the rows to convert.
#[derive(Clone, Copy)]
pub(crate) struct RowRules<'a> {
    /// The texts that mean a missing value.
    pub(crate) missing: &'a [String],
    /// Whether the first row is data and not the header.
    pub(crate) no_header: bool,
    /// The limit on columns.
    pub(crate) most_columns: Option<u64>,
}

impl RowRules<'_> {
    /// Errors: the file has more columns than the limit.
    pub(crate) fn refuse_columns(&self, file: &str, columns: usize) -> Result<()> {
        let (columns, most) = (columns as u64, self.most_columns.unwrap_or(MOST_COLUMNS));
        if columns > most {
            Err(Error::ManyColumns { file: file.to_owned(), columns, most })
        } else {
            Ok(())
        }
    }
}

/// Errors: two columns have the same name.
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

/// A cell as it is in its source.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Cell<'a> {
    Missing,
    /// A number, a truth value or a date, in its CSV form.
    Bare(Cow<'a, str>),
    Text(Cow<'a, str>),
}

/// Rows with this number of columns, while they are converted.
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

    /// Adds a row, which is on this line.
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

/// Converted rows.
pub(crate) struct CsvRows {
    pub(crate) names: Vec<String>,
    /// The columns with a cell that is a text.
    pub(crate) texts: Vec<bool>,
    pub(crate) csv: FileBytes,
    /// The rows that are not on the line after the row before them, each with its line.
    pub(crate) jumps: Vec<(u32, u64)>,
}

impl CsvRows {
    /// Rows of CSV in which no text looks like another type.
    pub(crate) fn of_csv(file: &str, names: Vec<String>, csv: Vec<u8>) -> CsvRows {
        let (texts, csv) = (vec![false; names.len()], FileBytes::memory(file.to_owned(), csv));
        CsvRows { names, texts, csv, jumps: Vec::new() }
    }
}

/// Joins converted rows. Their text is in a temporary file if it is long and memory is limited.
pub(crate) struct Joining<'a> {
    file: &'a str,
    names: Vec<String>,
    texts: Vec<bool>,
    csv: LongText<'a>,
    jumps: Vec<(u32, u64)>,
    rows: u32,
}

impl<'a> Joining<'a> {
    pub(crate) fn new(file: &'a str, names: Vec<String>, memory: &'a Memory) -> Joining<'a> {
        let (texts, csv) = (vec![false; names.len()], LongText::new(memory));
        Joining { file, names, texts, csv, jumps: Vec::new(), rows: 0 }
    }

    /// Adds the rows that follow.
    ///
    /// Errors: the temporary file cannot be written; there are more rows than a table has.
    pub(crate) fn add(&mut self, part: Rows<'_>) -> Result<()> {
        let failed = Error::read(self.file);
        let bytes = part.to.into_inner().map_err(csv::IntoInnerError::into_error);
        self.csv.write(&bytes.map_err(&failed)?)?;
        self.texts.iter_mut().zip(part.texts).for_each(|(is_text, more)| *is_text |= more);
        let before = self.rows;
        self.jumps.extend(part.jumps.into_iter().map(|(row, line)| (before + row, line)));
        let rows = u64::from(before) + u64::from(part.rows);
        self.rows = u32::try_from(rows)
            .map_err(|_| jembric_core::Error::TableTooLong { rows: rows as usize })?;
        Ok(())
    }

    pub(crate) fn finish(self) -> Result<CsvRows> {
        let Joining { file, names, texts, csv, jumps, .. } = self;
        Ok(CsvRows { names, texts, csv: csv.finish(file)?, jumps })
    }
}
