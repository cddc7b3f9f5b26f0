//! Tables to text, and text to files that are never half-written.

use super::{
    columnar::{Columnar, ColumnarWriter},
    destination::Destination,
    packed::Packer,
    packing::Packing,
    text::{CellText, numeric},
    workbook::WorkbookWriter,
};
use crate::{
    Table, Type,
    error::{Error, Result},
};
use rayon::prelude::*;
use std::{
    io::{self, Write},
    ops::Range,
    path::{Path, PathBuf},
};

/// A format that tables are written in.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Format {
    /// Comma-separated values by RFC 4180, with a header. A missing value is an empty cell.
    #[default]
    Csv,
    /// One JSON object a line. A missing value is `null`, a decimal a number with all its places.
    JsonLines,
    /// A table of a Markdown page.
    Markdown,
    /// Parquet, with the columns' types and grains.
    Parquet,
    /// A file of Arrow's own format, likewise.
    Arrow,
    /// A stream of it, which can go through a pipe.
    ArrowStream,
    /// A workbook of one sheet, with dates and numbers as such. What a sheet cannot hold as it is (days before March 1900, numbers of
    /// more than 15 digits) stands there as the text that CSV has, and so do texts that a program would take for a formula.
    Xlsx,
}

impl Format {
    /// The format that a file's ending stands for: `csv`, `jsonl`, `md`, `parquet`, `arrow` or `arrows`.
    pub fn of(path: &Path) -> Result<Format> {
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
                value: format!("`{}` has no ending that tells its format", path.display()),
                expected: "a name that ends in .csv, .jsonl, .md, .parquet, .arrow or .xlsx, the first three also with .gz or .zst, or a \
                           format said outright"
                    .to_owned(),
            }),
        }
    }

    /// Whether its files are packed on their own.
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
}

impl Writing {
    /// As CSV.
    pub fn new() -> Writing {
        Writing::default()
    }

    /// As a file's ending says: its format, and behind it `.gz` or `.zst` if it is to be packed.
    pub fn of(path: &Path) -> Result<Writing> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        let packing = match ending.as_deref() {
            Some("gz") => Packing::Gzip,
            Some("zst") => Packing::Zstd,
            _ => return Ok(Writing { format: Format::of(path)?, packing: None }),
        };
        let format = Format::of(path.file_stem().map_or(path, Path::new))?;
        // Packed once more, they could not be read in parts.
        if format.is_packed() {
            return Err(Error::Setting {
                setting: "out",
                value: format!("`{}`", path.display()),
                expected: "a name without .gz or .zst".to_owned(),
            });
        }
        Ok(Writing { format, packing: Some(packing) })
    }

    /// In another format.
    pub fn format(mut self, format: Format) -> Writing {
        self.format = format;
        self
    }

    /// Writes a table to a stream. Errors are those of the stream. Costs one pass over the table.
    pub fn write(&self, table: &Table, to: &mut dyn Write) -> io::Result<()> {
        let mut batches = self.batches(to);
        batches.write(table)?;
        batches.finish()
    }

    /// Writes a table to a stream batch by batch, as an operation hands it over.
    pub fn batches<'a>(&self, to: &'a mut dyn Write) -> Batches<'a> {
        let beside = None;
        Batches { writing: *self, to, beside, begun: false, packer: None, columnar: None, workbook: None }
    }

    /// Writes a table to a file that is complete or not there at all; see [`Destination`].
    pub fn file(&self, table: &Table, path: impl AsRef<Path>) -> Result<()> {
        let mut file = Destination::file(path)?;
        let directory = file.directory();
        file.write(|to| {
            let mut batches = self.batches(to).beside(directory);
            batches.write(table)?;
            batches.finish()
        })?;
        file.commit()
    }
}

/// A table that is written batch by batch, all of which have the same columns. The first brings the header, with rows or
/// without; [`finish`](Batches::finish) brings what comes at the end.
pub struct Batches<'a> {
    writing: Writing,
    to: &'a mut dyn Write,
    /// Where a format that needs a temporary file puts it.
    beside: Option<PathBuf>,
    begun: bool,
    packer: Option<Packer>,
    columnar: Option<ColumnarWriter>,
    workbook: Option<WorkbookWriter>,
}

impl Batches<'_> {
    /// Sets the directory for the temporary files of workbooks. Without it, they go into the system's.
    pub fn beside(mut self, directory: Option<PathBuf>) -> Self {
        self.beside = directory;
        self
    }

    /// Writes the next rows.
    pub fn write(&mut self, rows: &Table) -> io::Result<()> {
        let header = !std::mem::replace(&mut self.begun, true);
        if let Some(format) = self.writing.format.columnar() {
            let writer = match &mut self.columnar {
                Some(writer) => writer,
                none => none.insert(ColumnarWriter::new(format, &rows.batch().schema())?),
            };
            return self.to.write_all(&writer.write(rows.batch())?);
        }
        if self.writing.format == Format::Xlsx {
            let writer = match &mut self.workbook {
                Some(writer) => writer,
                none => none.insert(WorkbookWriter::new(rows, self.beside.as_deref())?),
            };
            return writer.write(rows);
        }
        if let (true, Some(packing)) = (header, self.writing.packing) {
            self.packer = Some(Packer::new(packing)?);
        }
        let to: &mut dyn Write = match &mut self.packer {
            Some(packer) => packer,
            None => self.to,
        };
        match self.writing.format {
            Format::Csv => csv(rows, header, to)?,
            Format::JsonLines => json_lines(rows, to)?,
            _ => markdown(rows, header, to)?,
        }
        match &mut self.packer {
            Some(packer) => self.to.write_all(&packer.ready()),
            None => Ok(()),
        }
    }

    /// Writes what comes at the end, where a format has something there.
    pub fn finish(self) -> io::Result<()> {
        let end = match (self.columnar, self.workbook, self.packer) {
            (Some(writer), ..) => writer.finish()?,
            (_, Some(writer), _) => writer.finish()?,
            (_, _, Some(packer)) => packer.finish()?,
            (None, None, None) => return Ok(()),
        };
        self.to.write_all(&end)
    }
}

/// Rows that a thread writes at a time.
const STRETCH: usize = 1 << 14;

/// Writes rows on all threads, each some of them into memory, and these to the stream in their order.
fn in_stretches(
    rows: usize,
    to: &mut dyn Write,
    write: impl Fn(Range<usize>, &mut Vec<u8>) -> io::Result<()> + Sync,
) -> io::Result<()> {
    let together = 2 * rayon::current_num_threads();
    let starts: Vec<usize> = (0..rows).step_by(STRETCH).collect();
    let mut buffers = vec![Vec::new(); together.min(starts.len())];
    for starts in starts.chunks(together) {
        let one = |(&start, buffer): (&usize, &mut Vec<u8>)| {
            buffer.clear();
            write(start..rows.min(start + STRETCH), buffer)
        };
        starts.par_iter().zip(&mut buffers).try_for_each(one)?;
        buffers[..starts.len()].iter().try_for_each(|buffer| to.write_all(buffer))?;
    }
    Ok(())
}

fn csv(table: &Table, header: bool, to: &mut dyn Write) -> io::Result<()> {
    if header {
        let mut line = String::new();
        for (n, name) in table.names().enumerate() {
            line.push_str(if n > 0 { "," } else { "" });
            let from = line.len();
            line.push_str(name);
            quote(&mut line, from);
        }
        to.write_all(line.as_bytes())?;
        to.write_all(b"\n")?;
    }
    let shape = table.shape();
    let is_text: Vec<bool> = shape.columns().iter().map(|column| column.kind == Some(Type::Text)).collect();
    let columns = CellText::of(table);
    in_stretches(table.rows(), to, |rows, to| {
        // The buffer is empty, and keeps its room.
        let mut text = String::from_utf8(std::mem::take(to)).unwrap_or_default();
        for row in rows {
            let begin = text.len();
            for (n, (column, &is_text)) in columns.iter().zip(&is_text).enumerate() {
                text.push_str(if n > 0 { "," } else { "" });
                let from = text.len();
                column.append(row, &mut text);
                // Nothing but texts has a character that needs quotes.
                if is_text {
                    quote(&mut text, from);
                }
            }
            // A line with nothing on it would be none.
            if columns.len() == 1 && text.len() == begin {
                text.push_str("\"\"");
            }
            text.push('\n');
        }
        *to = text.into_bytes();
        Ok(())
    })
}

/// Puts the cell that begins there in quotes, where RFC 4180 asks for them.
fn quote(text: &mut String, from: usize) {
    if text.as_bytes()[from..].iter().any(|byte| matches!(byte, b',' | b'"' | b'\n' | b'\r')) {
        let cell = text.split_off(from).replace('"', "\"\"");
        text.extend(["\"", cell.as_str(), "\""]);
    }
}

fn json_lines(table: &Table, to: &mut dyn Write) -> io::Result<()> {
    let quoted = |text: &str| serde_json::to_string(text).map_err(io::Error::from);
    let names = table.names().map(quoted).collect::<io::Result<Vec<_>>>()?;
    let bare =
        |kind| matches!(kind, Some(Type::Integer | Type::Float | Type::Decimal { .. } | Type::Boolean));
    let shape = table.shape();
    let columns = CellText::of(table);
    in_stretches(table.rows(), to, |rows, to| {
        let mut text = String::new();
        for row in rows {
            to.push(b'{');
            for (i, (cell, name)) in columns.iter().zip(&names).enumerate() {
                text.clear();
                cell.append(row, &mut text);
                write!(to, "{}{name}:", if i > 0 { "," } else { "" })?;
                // JSON has no infinity.
                if cell.is_missing(row) || matches!(text.as_str(), "inf" | "-inf") {
                    to.extend_from_slice(b"null");
                } else if bare(shape.columns()[i].kind) {
                    to.extend_from_slice(text.as_bytes());
                } else {
                    serde_json::to_writer(&mut *to, &text)?;
                }
            }
            to.extend_from_slice(b"}\n");
        }
        Ok(())
    })
}

fn markdown(table: &Table, header: bool, to: &mut dyn Write) -> io::Result<()> {
    let escaped = |text: &str| text.replace('\\', "\\\\").replace('|', "\\|").replace(['\r', '\n'], " ");
    let line = |to: &mut dyn Write, cells: &mut dyn Iterator<Item = String>| {
        for cell in cells {
            write!(to, "| {cell} ")?;
        }
        writeln!(to, "|")
    };
    if header {
        line(to, &mut table.names().map(escaped))?;
        let rule = |number: bool| if number { "---:" } else { "---" }.to_owned();
        line(to, &mut numeric(table).into_iter().map(rule))?;
    }
    let columns = CellText::of(table);
    in_stretches(table.rows(), to, |mut rows, to| {
        rows.try_for_each(|row| line(to, &mut columns.iter().map(|cell| escaped(&cell.text(row)))))
    })
}

#[cfg(test)]
mod tests;
