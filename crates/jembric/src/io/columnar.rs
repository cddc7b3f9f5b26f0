//! Files whose columns have types: Parquet, and Arrow's files and streams.

#[cfg_attr(not(feature = "arrow-files"), path = "absent/ipc.rs")]
mod ipc;
#[cfg_attr(not(feature = "parquet"), path = "absent/parquet.rs")]
mod parquet;

use crate::{
    Shape, Table,
    arrow::{
        Array, RecordBatch,
        schema::{ArrowError, SchemaRef},
    },
    error::{Error, Result},
};
use arrow_select::concat::concat;
use jembric_core::Origin;
use rayon::prelude::*;
use std::{
    fs::File,
    io::{self, Write},
    sync::{Arc, Mutex, PoisonError},
};

/// Where such a file's bytes are.
pub(super) enum Input {
    File(File),
    Bytes(Vec<u8>),
}

type Parts = (SchemaRef, Vec<RecordBatch>);

/// Says by their places which columns of these names are wanted.
pub(super) type Choose<'a> = dyn Fn(&mut dyn Iterator<Item = &str>) -> Vec<usize> + 'a;

fn chosen(schema: &SchemaRef, choose: &Choose<'_>) -> Vec<usize> {
    choose(&mut schema.fields().iter().map(|field| field.name().as_str()))
}

/// The batches as one, each column put together on a thread of its own.
pub(super) fn whole(
    schema: &SchemaRef,
    batches: &[RecordBatch],
) -> std::result::Result<RecordBatch, ArrowError> {
    if batches.is_empty() {
        return Ok(RecordBatch::new_empty(schema.clone()));
    }
    let column = |place: usize| {
        let parts: Vec<&dyn Array> = batches.iter().map(|batch| batch.column(place).as_ref()).collect();
        concat(&parts)
    };
    let columns: Vec<_> = (0..schema.fields().len()).into_par_iter().map(column).collect();
    RecordBatch::try_new(schema.clone(), columns.into_iter().collect::<std::result::Result<_, _>>()?)
}

/// A format whose columns have types.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Columnar {
    Parquet,
    ArrowFile,
    ArrowStream,
}

impl Columnar {
    /// As the first bytes tell.
    pub(super) fn of(first: &[u8]) -> Option<Columnar> {
        match first {
            [b'P', b'A', b'R', b'1', ..] => Some(Columnar::Parquet),
            [b'A', b'R', b'R', b'O', b'W', b'1', ..] => Some(Columnar::ArrowFile),
            [0xFF, 0xFF, 0xFF, 0xFF, ..] => Some(Columnar::ArrowStream),
            _ => None,
        }
    }

    /// The table in such a file, as far as its columns are chosen. Grains and orders that its fields tell of come with it.
    pub(super) fn read(self, name: &str, input: Input, choose: &Choose<'_>) -> Result<Table> {
        let failed = |error: ArrowError| self.unreadable(name, &error);
        let (schema, batches) = self.parts(input, Some(choose)).map_err(failed)?;
        let whole = whole(&schema, &batches).map_err(failed)?;
        // Its rows are numbered from 1, as lines are.
        Ok(Table::from_batch(&whole)?.with_origin(Origin::new(name, 1)))
    }

    /// The names and types of its columns, without its rows.
    pub(super) fn shape(self, name: &str, input: Input) -> Result<Shape> {
        let (schema, _) = self.parts(input, None).map_err(|error| self.unreadable(name, &error))?;
        Ok(Table::from_batch(&RecordBatch::new_empty(schema))?.shape().from_file(name))
    }

    /// The schema and the rows of the columns that are chosen; without a choice the whole schema, and no rows.
    fn parts(self, input: Input, choose: Option<&Choose<'_>>) -> std::result::Result<Parts, ArrowError> {
        match self {
            Columnar::Parquet => parquet::parts(input, choose),
            Columnar::ArrowFile | Columnar::ArrowStream => ipc::parts(self, input, choose),
        }
    }

    fn unreadable(self, name: &str, error: &ArrowError) -> Error {
        let what = match self {
            Columnar::Parquet => "Parquet file",
            Columnar::ArrowFile => "Arrow file",
            Columnar::ArrowStream => "Arrow stream",
        };
        let told = format!("this is no whole {what}: {error}");
        let source = io::Error::new(io::ErrorKind::InvalidData, told);
        Error::Read { file: name.to_owned(), source, nearest: None }
    }
}

/// Bytes that a writer makes, and that are taken from it as they come.
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

/// Writes record batches of one schema one after the other.
trait BatchWriter {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()>;

    fn finish(self: Box<Self>) -> io::Result<()>;
}

/// Writes tables of one schema one after the other.
pub(super) struct ColumnarWriter {
    made: Made,
    writer: Box<dyn BatchWriter>,
}

impl ColumnarWriter {
    pub(super) fn new(format: Columnar, schema: &SchemaRef) -> io::Result<ColumnarWriter> {
        let made = Made::default();
        let writer = match format {
            Columnar::Parquet => parquet::writer(&made, schema)?,
            Columnar::ArrowFile | Columnar::ArrowStream => ipc::writer(format, &made, schema)?,
        };
        Ok(ColumnarWriter { made, writer })
    }

    /// What the next rows make.
    pub(super) fn write(&mut self, rows: &RecordBatch) -> io::Result<Vec<u8>> {
        self.writer.write(rows)?;
        Ok(self.made.take())
    }

    /// What comes at the end.
    pub(super) fn finish(self) -> io::Result<Vec<u8>> {
        self.writer.finish()?;
        Ok(self.made.take())
    }
}
