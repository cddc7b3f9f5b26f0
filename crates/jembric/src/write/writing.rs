//! Writes tables as bytes, to streams and to files that are never incomplete.

use super::destination::Destination;
use crate::{
    Table,
    databases::{existing::Existing, name::is_database_output, target::TableOutput},
    error::{Error, Result},
    formats::{
        Target,
        batches::{Columnar, ColumnarWriter},
        csv::CsvWriter,
        json_lines,
        markdown::MarkdownWriter,
        packed::Packer,
        packed_target::PackedWriter,
        packing::Packing,
        workbook::WorkbookWriter,
    },
};
use std::{
    fmt,
    io::{self, Write},
    path::{Path, PathBuf},
};

/// An output format.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Format {
    /// Comma-separated values by RFC 4180, with a header. A missing value is an empty cell.
    #[default]
    Csv,
    /// One JSON object on each line. A missing value is `null`, and a decimal a number with all its
    /// places.
    JsonLines,
    /// A table of a Markdown page.
    Markdown,
    /// Parquet, with the types and grains of the columns.
    Parquet,
    /// An Arrow file, likewise.
    Arrow,
    /// An Arrow stream, which can go through a pipe.
    ArrowStream,
    /// A workbook with one sheet, with typed dates and numbers. Values that a sheet cannot hold
    /// exactly (days before March 1900, numbers with more than 15 digits) are written as their CSV
    /// text, and texts never become formulas.
    Xlsx,
}

impl Format {
    /// The format for a file extension: `csv`, `jsonl`, `md`, `parquet`, `arrow` or `arrows`.
    pub fn from_path(path: &Path) -> Result<Format> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        match ending.as_deref() {
            Some("csv") => Ok(Format::Csv),
            Some("jsonl" | "ndjson") => Ok(Format::JsonLines),
            Some("md") => Ok(Format::Markdown),
            Some("parquet") => Ok(Format::Parquet),
            Some("arrow") => Ok(Format::Arrow),
            Some("arrows") => Ok(Format::ArrowStream),
            Some("xlsx") => Ok(Format::Xlsx),
            _ => Err(Error::Setting {
                setting: "out",
                value: format!("`{}` has no known file extension", path.display()),
                expected: "a name that ends in .csv, .jsonl, .md, .parquet, .arrow or .xlsx, the \
                    first three also with .gz or .zst, or a \
                           format said outright"
                    .to_owned(),
            }),
        }
    }

    /// Whether its files are compressed by themselves.
    fn is_packed(self) -> bool {
        self.columnar().is_some() || self == Format::Xlsx
    }

    fn columnar(self) -> Option<Columnar> {
        match self {
            Format::Parquet => Some(Columnar::Parquet),
            Format::Arrow => Some(Columnar::ArrowFile),
            Format::ArrowStream => Some(Columnar::ArrowStream),
            _ => None,
        }
    }
}

/// How a table is written.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Writing {
    format: Format,
    packing: Option<Packing>,
    existing: Existing,
}

impl Writing {
    /// Writes CSV.
    pub fn new() -> Writing {
        Writing::default()
    }

    /// Chooses the format by a file's extension. `.gz` or `.zst` after it compresses the file. A
    /// table of a database has none.
    pub fn for_path(path: &Path) -> Result<Writing> {
        if is_database_output(path) {
            return Ok(Writing::new());
        }
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        let packing = match ending.as_deref() {
            Some("gz") => Packing::Gzip,
            Some("zst") => Packing::Zstd,
            _ => return Ok(Writing { format: Format::from_path(path)?, ..Writing::new() }),
        };
        let format = Format::from_path(path.file_stem().map_or(path, Path::new))?;
        // Compressed as a whole, they could not be read in parts.
        if format.is_packed() {
            return Err(Error::Setting {
                setting: "out",
                value: format!("`{}`", path.display()),
                expected: "a name without .gz or .zst".to_owned(),
            });
        }
        Ok(Writing { format, packing: Some(packing), ..Writing::new() })
    }

    /// Chooses another format.
    #[must_use]
    pub fn format(mut self, format: Format) -> Writing {
        self.format = format;
        self
    }

    /// Chooses what happens to a table of a database that exists already.
    #[must_use]
    pub fn existing(mut self, existing: Existing) -> Writing {
        self.existing = existing;
        self
    }

    pub(super) fn existing_table(&self) -> Existing {
        self.existing
    }

    /// Writes a table to a stream. Errors are those of the stream. Cost: one pass over the table.
    pub fn write(&self, table: &Table, to: &mut dyn Write) -> io::Result<()> {
        let mut batches = self.batches(to);
        batches.write(table)?;
        batches.finish()
    }

    /// Writes a table to a stream, batch by batch.
    pub fn batches<'a>(&self, to: &'a mut dyn Write) -> Batches<'a> {
        Batches(To::Stream { writing: *self, to, beside: None, target: None })
    }

    /// The writer of the format for tables with these columns.
    fn target(&self, first: &Table, beside: Option<&Path>) -> io::Result<Box<dyn Target>> {
        if let Some(format) = self.format.columnar() {
            return Ok(Box::new(ColumnarWriter::new(format, &first.batch().schema())?));
        }
        let text: Box<dyn Target> = match self.format {
            Format::Xlsx => return Ok(Box::new(WorkbookWriter::new(first, beside)?)),
            Format::JsonLines => Box::new(json_lines::JsonLinesWriter),
            Format::Markdown => Box::new(MarkdownWriter::default()),
            _ => Box::new(CsvWriter::default()),
        };
        match self.packing {
            None => Ok(text),
            Some(packing) => Ok(Box::new(PackedWriter { text, packer: Packer::new(packing)? })),
        }
    }

    /// Writes a table to a file, completely or not at all; see [`Destination`].
    pub fn file(&self, table: &Table, path: impl AsRef<Path>) -> Result<()> {
        let mut file = Destination::file(path)?;
        file.write_tables(*self, |batches| batches.write(table))?;
        file.commit()
    }
}

/// Writes a table batch by batch. All batches have the same columns. The first one, even if it is
/// empty, writes the header, and [`finish`](Batches::finish) writes the end.
pub struct Batches<'a>(To<'a>);

enum To<'a> {
    Stream {
        writing: Writing,
        to: &'a mut dyn Write,
        /// The directory for the temporary file of a format that needs one.
        beside: Option<PathBuf>,
        /// The writer of the format, once there is a first batch.
        target: Option<Box<dyn Target>>,
    },
    /// A table of a database.
    Table { table: &'a mut TableOutput, existing: Existing },
}

impl fmt::Debug for Batches<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Batches").finish_non_exhaustive()
    }
}

impl<'a> Batches<'a> {
    /// Writes into a table of a database.
    pub(super) fn into_table(table: &'a mut TableOutput, existing: Existing) -> Batches<'a> {
        Batches(To::Table { table, existing })
    }

    /// Sets the directory for the temporary files of workbooks. The default is that of the system.
    #[must_use]
    pub fn beside(mut self, directory: Option<PathBuf>) -> Self {
        if let To::Stream { beside, .. } = &mut self.0 {
            *beside = directory;
        }
        self
    }

    /// Writes the next rows.
    pub fn write(&mut self, rows: &Table) -> io::Result<()> {
        match &mut self.0 {
            To::Stream { writing, to, beside, target } => {
                let target = match target {
                    Some(target) => target,
                    none => none.insert(writing.target(rows, beside.as_deref())?),
                };
                target.write(rows, *to)
            }
            To::Table { table, existing } => table.write(rows, *existing),
        }
    }

    /// Writes the end of the format, if it has one.
    pub fn finish(self) -> io::Result<()> {
        match self.0 {
            To::Stream { to, target, .. } => target.map_or(Ok(()), |target| target.finish(to)),
            To::Table { .. } => Ok(()),
        }
    }
}

#[cfg(test)]
mod tests;
