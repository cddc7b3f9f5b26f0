//! Files with typed columns: Parquet, and Arrow files and streams.

#[cfg_attr(not(feature = "arrow-files"), path = "disabled/arrow.rs")]
mod arrow;
#[cfg_attr(not(feature = "parquet"), path = "disabled/parquet.rs")]
mod parquet;
mod scan;

use super::{Choose, Source, Target, packing::CELL};
use crate::{
    Shape, Table,
    arrow::{
        Array, ArrayRef, RecordBatch, StringViewArray,
        cast::AsArray,
        schema::{ArrowError, DataType, Field, Schema, SchemaRef},
    },
    data::{exchange::Portion, memory::Memory},
    error::{Error, Result},
    guard::guarded,
};
use arrow_select::concat::concat;
use bytes::Bytes;
use jembric_core::Origin;
use rayon::prelude::*;
use scan::ColumnarScan;
use std::{
    fs::File,
    io::{self, Write},
    sync::{Arc, Mutex, PoisonError},
};

/// Where the bytes of the file are.
#[derive(Clone, Debug)]
pub(crate) enum Input {
    File(Arc<File>),
    Bytes(Bytes),
}

impl Input {
    pub(crate) fn len(&self) -> u64 {
        match self {
            Input::File(file) => file.metadata().map_or(0, |about| about.len()),
            Input::Bytes(bytes) => bytes.len() as u64,
        }
    }
}

/// Why the rows of a file cannot be read.
#[derive(Debug)]
pub(crate) enum Unread {
    /// It is damaged, or not of this format.
    Damaged(String),
    /// It needs more memory than the limit.
    Unpacks,
}

impl From<ArrowError> for Unread {
    fn from(error: ArrowError) -> Unread {
        Unread::Damaged(error.to_string())
    }
}

/// Limits on the rows and bytes of a file, counted as they are read.
pub(crate) struct Room {
    left: u64,
}

impl Room {
    pub(crate) fn has(&self, bytes: u64) -> std::result::Result<(), Unread> {
        if bytes <= self.left { Ok(()) } else { Err(Unread::Unpacks) }
    }

    pub(crate) fn take(
        &mut self,
        rows: u64,
        columns: usize,
        bytes: u64,
    ) -> std::result::Result<(), Unread> {
        let cells = rows.saturating_mul(columns.max(1) as u64);
        let needed = cells.saturating_mul(CELL).max(bytes);
        self.left = self.left.checked_sub(needed).ok_or(Unread::Unpacks)?;
        Ok(())
    }
}

type Parts = (SchemaRef, Vec<RecordBatch>);

fn chosen(schema: &SchemaRef, choose: &Choose<'_>) -> Vec<usize> {
    choose(&mut schema.fields().iter().map(|field| field.name().as_str()))
}

/// Joins batches, each column on a thread of its own.
pub(crate) fn whole(
    schema: &SchemaRef,
    batches: &[RecordBatch],
) -> std::result::Result<RecordBatch, ArrowError> {
    if batches.is_empty() {
        return Ok(RecordBatch::new_empty(schema.clone()));
    }
    let column = |place: usize| {
        let parts: Vec<ArrayRef> =
            batches.iter().map(|batch| viewed(batch.column(place))).collect();
        let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
        concat(&parts)
    };
    let columns: Vec<_> = (0..schema.fields().len()).into_par_iter().map(column).collect();
    let columns = columns.into_iter().collect::<std::result::Result<Vec<_>, _>>()?;
    let fields = schema.fields().iter().zip(&columns);
    let fields: Vec<Field> = fields
        .map(|(field, column)| field.as_ref().clone().with_data_type(column.data_type().clone()))
        .collect();
    RecordBatch::try_new(Arc::new(Schema::new(fields)), columns)
}

/// Converts texts to views, which together may exceed 2 GiB; other columns are unchanged.
fn viewed(column: &ArrayRef) -> ArrayRef {
    match column.data_type() {
        DataType::Utf8 => Arc::new(StringViewArray::from(column.as_string::<i32>())),
        DataType::LargeUtf8 => Arc::new(StringViewArray::from(column.as_string::<i64>())),
        _ => column.clone(),
    }
}

/// A format with typed columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Columnar {
    Parquet,
    ArrowFile,
    ArrowStream,
}

impl Columnar {
    /// Recognizes the format by the first bytes.
    pub(crate) fn recognize(first: &[u8]) -> Option<Columnar> {
        match first {
            [b'P', b'A', b'R', b'1', ..] => Some(Columnar::Parquet),
            [b'A', b'R', b'R', b'O', b'W', b'1', ..] => Some(Columnar::ArrowFile),
            [0xFF, 0xFF, 0xFF, 0xFF, ..] => Some(Columnar::ArrowStream),
            _ => None,
        }
    }

    /// A file of this format, with the name for messages.
    pub(crate) fn source(self, name: &str, input: Input) -> ColumnarFile<'_> {
        ColumnarFile { format: self, name, input }
    }

    /// The chosen columns of a file, to be read in batches.
    ///
    /// Errors: the file is damaged, as far as its rows are counted; they need more bytes than the
    /// limit.
    pub(crate) fn scan(
        self,
        name: &str,
        input: Input,
        (places, most): (Vec<usize>, u64),
        memory: &Memory,
        share: Portion,
    ) -> Result<ColumnarScan> {
        ColumnarScan::open(self, name, input, (places, most), memory, share)
    }

    /// The table of the chosen columns. The metadata of fields gives grains and orders.
    ///
    /// Errors: the file is damaged; its rows need more bytes than the limit.
    fn read(self, name: &str, input: Input, choose: &Choose<'_>, most: u64) -> Result<Table> {
        let size = input.len();
        let read = self.parts(input.clone(), Some(choose), most).and_then(|(schema, batches)| {
            guarded(|| whole(&schema, &batches)).map_err(Unread::Damaged)?.map_err(Unread::from)
        });
        let whole = read.map_err(|unread| match unread {
            Unread::Unpacks => Error::Unpacks { file: name.to_owned(), packed: size, most },
            Unread::Damaged(problem) => {
                let column = self.damaged_column(&input, choose, most);
                self.unreadable(
                    name,
                    column
                        .map_or(problem.clone(), |column| format!("column `{column}`: {problem}")),
                )
            }
        })?;
        let table = guarded(|| Table::from_batch(&whole))
            .map_err(|problem| self.unreadable(name, problem))?;
        // Rows are numbered from 1, as lines are.
        Ok(table.map_err(|error| in_file(name, error))?.with_origin(Origin::new(name, 1)))
    }

    /// The names and types of the columns, without the rows.
    fn shape(self, name: &str, input: Input) -> Result<Shape> {
        let (schema, _) = self.parts(input, None, 0).map_err(|unread| match unread {
            Unread::Damaged(problem) => self.unreadable(name, problem),
            Unread::Unpacks => self.unreadable(name, String::new()),
        })?;
        let table = guarded(|| Table::from_batch(&RecordBatch::new_empty(schema)));
        let table = table.map_err(|problem| self.unreadable(name, problem))?;
        Ok(table.map_err(|error| in_file(name, error))?.shape().from_file(name))
    }

    /// The schema and the rows of the chosen columns; without a choice, the whole schema and no
    /// rows.
    fn parts(
        self,
        input: Input,
        choose: Option<&Choose<'_>>,
        most: u64,
    ) -> std::result::Result<Parts, Unread> {
        let mut room = Room { left: most };
        let parts = guarded(|| match self {
            Columnar::Parquet => parquet::parts(input, choose, &mut room),
            Columnar::ArrowFile | Columnar::ArrowStream => {
                arrow::parts(self, input, choose, &mut room)
            }
        });
        parts.map_err(Unread::Damaged)?
    }

    /// The first column that cannot be read on its own, if the columns of the file can be.
    fn damaged_column(self, input: &Input, choose: &Choose<'_>, most: u64) -> Option<String> {
        let (schema, _) = self.parts(input.clone(), None, 0).ok()?;
        let is_damaged = |&place: &usize| {
            let alone = move |_: &mut dyn Iterator<Item = &str>| vec![place];
            matches!(self.parts(input.clone(), Some(&alone), most), Err(Unread::Damaged(_)))
        };
        let damaged = chosen(&schema, choose).into_iter().find(is_damaged)?;
        Some(schema.field(damaged).name().clone())
    }

    fn unreadable(self, name: &str, error: String) -> Error {
        let (what, left_out) = match self {
            Columnar::Parquet => ("Parquet file", parquet::LEFT_OUT),
            Columnar::ArrowFile => ("Arrow file", arrow::LEFT_OUT),
            Columnar::ArrowStream => ("Arrow stream", arrow::LEFT_OUT),
        };
        let damaged = || format!("this is not a complete {what}: {error}");
        let problem = left_out.map_or_else(damaged, str::to_owned);
        let source = io::Error::new(io::ErrorKind::InvalidData, problem);
        Error::Read { file: name.to_owned(), source, nearest: None }
    }
}

/// A file of record batches.
pub(crate) struct ColumnarFile<'a> {
    format: Columnar,
    name: &'a str,
    input: Input,
}

impl Source for ColumnarFile<'_> {
    fn shape(&self) -> Result<Shape> {
        self.format.shape(self.name, self.input.clone())
    }

    fn batches(
        &self,
        choose: &Choose<'_>,
        most_bytes: u64,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()> {
        take(self.format.read(self.name, self.input.clone(), choose, most_bytes)?)
    }
}

/// The core's error for a table from a file.
fn in_file(name: &str, error: jembric_core::Error) -> Error {
    Error::InFile { file: name.to_owned(), source: Box::new(error) }
}

/// Takes the bytes of a writer as they are produced.
#[derive(Clone, Default)]
struct Made(Arc<Mutex<Vec<u8>>>);

impl Made {
    fn take(&self) -> Vec<u8> {
        std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner))
    }
}

impl Write for Made {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Writes record batches of one schema.
trait BatchWriter {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()>;

    fn finish(self: Box<Self>) -> io::Result<()>;
}

/// The rows of a batch that is written.
const WRITTEN_ROWS: usize = 1 << 16;

/// Writes tables of one schema. The batches of the file have the same rows, however the tables were
/// divided, so that the same rows make the same bytes.
pub(crate) struct ColumnarWriter {
    made: Made,
    writer: Box<dyn BatchWriter>,
    /// The rows that wait for others, less than a batch.
    pending: Vec<Table>,
    rows: usize,
}

impl ColumnarWriter {
    pub(crate) fn new(format: Columnar, schema: &SchemaRef) -> io::Result<ColumnarWriter> {
        let made = Made::default();
        let writer = match format {
            Columnar::Parquet => parquet::writer(&made, schema)?,
            Columnar::ArrowFile | Columnar::ArrowStream => arrow::writer(format, &made, schema)?,
        };
        Ok(ColumnarWriter { made, writer, pending: Vec::new(), rows: 0 })
    }

    /// Writes the rows that wait.
    fn write_pending(&mut self) -> io::Result<()> {
        self.rows = 0;
        let pending = std::mem::take(&mut self.pending);
        let Some((first, others)) = pending.split_first() else { return Ok(()) };
        let batch = Table::joined(first, others).map_err(io::Error::other)?;
        self.writer.write(batch.batch())
    }
}

impl Target for ColumnarWriter {
    fn write(&mut self, rows: &Table, to: &mut dyn Write) -> io::Result<()> {
        let mut from = 0;
        while from < rows.rows() {
            let part = rows.slice(from, WRITTEN_ROWS - self.rows);
            from += part.rows();
            self.rows += part.rows();
            self.pending.push(part);
            if self.rows == WRITTEN_ROWS {
                self.write_pending()?;
                to.write_all(&self.made.take())?;
            }
        }
        to.write_all(&self.made.take())
    }

    fn finish(mut self: Box<Self>, to: &mut dyn Write) -> io::Result<()> {
        self.write_pending()?;
        self.writer.finish()?;
        to.write_all(&self.made.take())
    }
}
