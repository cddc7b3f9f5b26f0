//! Files whose columns have types: Parquet, and Arrow's files and streams.

use crate::{
    Shape, Table,
    arrow::{
        RecordBatch,
        schema::{ArrowError, SchemaRef},
    },
    error::{Error, Result},
};
use arrow_ipc::{
    reader::{FileReader, StreamReader},
    writer::{FileWriter, StreamWriter},
};
use arrow_select::concat::concat_batches;
use bytes::Bytes;
use jembric_core::Origin;
use parquet::{
    arrow::{ArrowWriter, arrow_reader::ParquetRecordBatchReaderBuilder},
    basic::Compression,
    file::{properties::WriterProperties, reader::ChunkReader},
};
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

    /// The table in such a file. Grains and orders that its fields tell of come with it.
    pub(super) fn read(self, name: &str, input: Input) -> Result<Table> {
        let failed = |error: ArrowError| self.unreadable(name, &error);
        let (schema, batches) = self.parts(input, true).map_err(failed)?;
        let whole = match &batches[..] {
            [one] => one.clone(),
            several => concat_batches(&schema, several).map_err(failed)?,
        };
        // Its rows are numbered from 1, as lines are.
        Ok(Table::from_batch(&whole)?.with_origin(Origin::new(name, 1)))
    }

    /// The names and types of its columns, without its rows.
    pub(super) fn shape(self, name: &str, input: Input) -> Result<Shape> {
        let (schema, _) = self.parts(input, false).map_err(|error| self.unreadable(name, &error))?;
        Ok(Table::from_batch(&RecordBatch::new_empty(schema))?.shape().from_file(name))
    }

    fn parts(self, input: Input, with_rows: bool) -> std::result::Result<Parts, ArrowError> {
        fn taken<R: Iterator<Item = std::result::Result<RecordBatch, ArrowError>>>(
            schema: SchemaRef,
            rows: R,
            with_rows: bool,
        ) -> std::result::Result<Parts, ArrowError> {
            let rows = rows.take(if with_rows { usize::MAX } else { 0 });
            Ok((schema, rows.collect::<std::result::Result<_, _>>()?))
        }
        fn parquet<T: ChunkReader + 'static>(
            input: T,
            with_rows: bool,
        ) -> std::result::Result<Parts, ArrowError> {
            let builder = ParquetRecordBatchReaderBuilder::try_new(input)?;
            taken(builder.schema().clone(), builder.with_batch_size(BATCH).build()?, with_rows)
        }
        match (self, input) {
            (Columnar::Parquet, Input::File(file)) => parquet(file, with_rows),
            (Columnar::Parquet, Input::Bytes(bytes)) => parquet(bytes, with_rows),
            (Columnar::ArrowFile, input) => {
                let reader = FileReader::try_new(input.seekable(), None)?;
                taken(reader.schema(), reader, with_rows)
            }
            (Columnar::ArrowStream, input) => {
                let reader = StreamReader::try_new(input.seekable(), None)?;
                taken(reader.schema(), reader, with_rows)
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
