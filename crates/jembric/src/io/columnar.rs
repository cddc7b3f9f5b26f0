//! Files whose columns have types: Parquet, and Arrow's files and streams.

use super::source::read_at;
use crate::{
    Shape, Table,
    arrow::{
        Array, RecordBatch,
        schema::{ArrowError, SchemaRef},
    },
    error::{Error, Result},
};
use arrow_ipc::{
    reader::{FileReader, StreamReader},
    writer::{FileWriter, StreamWriter},
};
use arrow_select::concat::concat;
use bytes::Bytes;
use jembric_core::Origin;
use parquet::{
    arrow::{
        ArrowWriter, ProjectionMask,
        arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder},
    },
    basic::Compression,
    file::{
        properties::WriterProperties,
        reader::{ChunkReader, Length},
    },
};
use rayon::prelude::*;
use std::{
    fs::File,
    io::{self, BufReader, Cursor, Read, Seek, Write},
    sync::{Arc, Mutex, PoisonError},
};

/// Rows that are taken from a Parquet file together.
const BATCH: usize = 1 << 16;

/// Where such a file's bytes are.
pub(super) enum Input {
    File(File),
    Bytes(Bytes),
}

trait Seekable: Read + Seek {}
impl<T: Read + Seek> Seekable for T {}

impl Input {
    fn seekable(self) -> Box<dyn Seekable> {
        match self {
            Input::File(file) => Box::new(BufReader::new(file)),
            Input::Bytes(bytes) => Box::new(Cursor::new(bytes)),
        }
    }
}

type Parts = (SchemaRef, Vec<RecordBatch>);

/// Says by their places which columns of these names are wanted.
pub(super) type Choose<'a> = dyn Fn(&mut dyn Iterator<Item = &str>) -> Vec<usize> + 'a;

fn chosen(schema: &SchemaRef, choose: &Choose<'_>) -> Vec<usize> {
    choose(&mut schema.fields().iter().map(|field| field.name().as_str()))
}

/// A file of which threads read different parts at the same time.
#[derive(Clone)]
struct Positioned(Arc<File>);

impl Length for Positioned {
    fn len(&self) -> u64 {
        self.0.metadata().map_or(0, |about| about.len())
    }
}

impl ChunkReader for Positioned {
    type T = BufReader<Rest>;

    fn get_read(&self, start: u64) -> parquet::errors::Result<BufReader<Rest>> {
        Ok(BufReader::new(Rest { file: self.clone(), at: start }))
    }

    fn get_bytes(&self, start: u64, length: usize) -> parquet::errors::Result<Bytes> {
        let mut bytes = vec![0; length];
        match read_at(&self.0, start, &mut bytes)? == length {
            true => Ok(bytes.into()),
            false => Err(io::Error::from(io::ErrorKind::UnexpectedEof).into()),
        }
    }
}

/// Such a file from some place on.
struct Rest {
    file: Positioned,
    at: u64,
}

impl Read for Rest {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let read = read_at(&self.file.0, self.at, buffer)?;
        self.at += read as u64;
        Ok(read)
    }
}

/// The groups of rows of a Parquet file, on all threads.
fn parquet<T: ChunkReader + Clone + 'static>(
    input: T,
    choose: Option<&Choose<'_>>,
) -> std::result::Result<Parts, ArrowError> {
    let about = ArrowReaderMetadata::load(&input, ArrowReaderOptions::new())?;
    let Some(choose) = choose else { return Ok((about.schema().clone(), Vec::new())) };
    let roots = chosen(about.schema(), choose);
    let mask = ProjectionMask::roots(about.parquet_schema(), roots.iter().copied());
    let rows_of = |group: usize| {
        let rows = ParquetRecordBatchReaderBuilder::new_with_metadata(input.clone(), about.clone());
        let rows = rows.with_row_groups(vec![group]).with_projection(mask.clone()).with_batch_size(BATCH);
        rows.build()?.collect::<std::result::Result<Vec<_>, _>>()
    };
    let groups: Vec<_> = (0..about.metadata().num_row_groups()).into_par_iter().map(rows_of).collect();
    let groups: Vec<Vec<RecordBatch>> = groups.into_iter().collect::<std::result::Result<_, ArrowError>>()?;
    Ok((Arc::new(about.schema().project(&roots)?), groups.into_iter().flatten().collect()))
}

/// The batches as one, each column put together on a thread of its own.
fn whole(schema: &SchemaRef, batches: &[RecordBatch]) -> std::result::Result<RecordBatch, ArrowError> {
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
        match (self, input) {
            (Columnar::Parquet, Input::File(file)) => parquet(Positioned(Arc::new(file)), choose),
            (Columnar::Parquet, Input::Bytes(bytes)) => parquet(bytes, choose),
            (Columnar::ArrowFile, input) => {
                let mut input = input.seekable();
                let schema = FileReader::try_new(&mut input, None)?.schema();
                let Some(choose) = choose else { return Ok((schema, Vec::new())) };
                let reader = FileReader::try_new(input, Some(chosen(&schema, choose)))?;
                Ok((reader.schema(), reader.collect::<std::result::Result<_, _>>()?))
            }
            (Columnar::ArrowStream, input) => {
                let mut input = input.seekable();
                let schema = StreamReader::try_new(&mut input, None)?.schema();
                let Some(choose) = choose else { return Ok((schema, Vec::new())) };
                input.rewind()?;
                let reader = StreamReader::try_new(input, Some(chosen(&schema, choose)))?;
                Ok((reader.schema(), reader.collect::<std::result::Result<_, _>>()?))
            }
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

/// Writes tables of one schema one after the other.
pub(super) struct ColumnarWriter {
    made: Made,
    writer: Writer,
}

enum Writer {
    Parquet(Box<ArrowWriter<Made>>),
    ArrowFile(FileWriter<Made>),
    ArrowStream(StreamWriter<Made>),
}

impl ColumnarWriter {
    pub(super) fn new(format: Columnar, schema: &SchemaRef) -> io::Result<ColumnarWriter> {
        let made = Made::default();
        let writer = match format {
            Columnar::Parquet => {
                let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
                let writer = ArrowWriter::try_new(made.clone(), schema.clone(), Some(properties))?;
                Writer::Parquet(Box::new(writer))
            }
            Columnar::ArrowFile => {
                Writer::ArrowFile(FileWriter::try_new(made.clone(), schema).map_err(io::Error::other)?)
            }
            Columnar::ArrowStream => {
                Writer::ArrowStream(StreamWriter::try_new(made.clone(), schema).map_err(io::Error::other)?)
            }
        };
        Ok(ColumnarWriter { made, writer })
    }

    /// What the next rows make.
    pub(super) fn write(&mut self, rows: &RecordBatch) -> io::Result<Vec<u8>> {
        match &mut self.writer {
            Writer::Parquet(writer) => writer.write(rows)?,
            Writer::ArrowFile(writer) => writer.write(rows).map_err(io::Error::other)?,
            Writer::ArrowStream(writer) => writer.write(rows).map_err(io::Error::other)?,
        }
        Ok(self.made.take())
    }

    /// What comes at the end.
    pub(super) fn finish(self) -> io::Result<Vec<u8>> {
        match self.writer {
            Writer::Parquet(writer) => drop(writer.close()?),
            Writer::ArrowFile(mut writer) => writer.finish().map_err(io::Error::other)?,
            Writer::ArrowStream(mut writer) => writer.finish().map_err(io::Error::other)?,
        }
        Ok(self.made.take())
    }
}
