//! Parquet files.

use super::{BatchWriter, Choose, Input, Made, Parts, Room, Unread, chosen};
use crate::{
    arrow::{
        RecordBatch,
        schema::{ArrowError, DataType, Field, Schema, SchemaRef},
    },
    formats::read_at::read_at,
    guard::guarded,
};
use bytes::Bytes;
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
    io::{self, BufReader, Read},
    sync::Arc,
};

/// The rows that are read from a file together.
const BATCH: usize = 1 << 16;

pub(super) fn parts(
    input: Input,
    choose: Option<&Choose<'_>>,
    room: &mut Room,
) -> Result<Parts, Unread> {
    match input {
        Input::File(file) => parts_of(Positioned(file), choose, room),
        Input::Bytes(bytes) => parts_of(bytes, choose, room),
    }
}

/// A file of which threads read different parts in parallel.
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
        // A damaged file may ask for more bytes than it has.
        if start.saturating_add(length as u64) > Length::len(self) {
            return Err(io::Error::from(io::ErrorKind::UnexpectedEof).into());
        }
        let mut bytes = vec![0; length];
        match read_at(&self.0, start, &mut bytes)? == length {
            true => Ok(bytes.into()),
            false => Err(io::Error::from(io::ErrorKind::UnexpectedEof).into()),
        }
    }
}

/// Such a file from this place on.
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

/// Groups of rows are read on all threads.
fn parts_of<T: ChunkReader + Clone + 'static>(
    input: T,
    choose: Option<&Choose<'_>>,
    room: &mut Room,
) -> Result<Parts, Unread> {
    let found =
        ArrowReaderMetadata::load(&input, ArrowReaderOptions::new()).map_err(ArrowError::from)?;
    // Texts are read as views, because the texts of a column together may exceed 2 GiB.
    let options = ArrowReaderOptions::new().with_schema(viewed(found.schema()));
    let about = ArrowReaderMetadata::try_new(found.metadata().clone(), options).unwrap_or(found);
    let Some(choose) = choose else { return Ok((about.schema().clone(), Vec::new())) };
    let roots = chosen(about.schema(), choose);
    for group in about.metadata().row_groups() {
        let rows = u64::try_from(group.num_rows())
            .map_err(|_| Unread::Damaged("a group has less than no rows".to_owned()))?;
        room.take(rows, roots.len(), 0)?;
    }
    let mask = ProjectionMask::roots(about.parquet_schema(), roots.iter().copied());
    let rows_of = |group: usize| {
        let rows = ParquetRecordBatchReaderBuilder::new_with_metadata(input.clone(), about.clone());
        let rows =
            rows.with_row_groups(vec![group]).with_projection(mask.clone()).with_batch_size(BATCH);
        rows.build().map_err(ArrowError::from)?.collect::<Result<Vec<_>, _>>()
    };
    // Each group may be read by its own thread.
    let rows_of =
        |group| guarded(|| rows_of(group)).map_err(Unread::Damaged)?.map_err(Unread::from);
    let groups: Vec<_> =
        (0..about.metadata().num_row_groups()).into_par_iter().map(rows_of).collect();
    let groups: Vec<Vec<RecordBatch>> = groups.into_iter().collect::<Result<_, Unread>>()?;
    Ok((Arc::new(about.schema().project(&roots)?), groups.into_iter().flatten().collect()))
}

/// The schema with texts as views.
fn viewed(schema: &Schema) -> SchemaRef {
    let fields = schema.fields().iter().map(|field| match field.data_type() {
        DataType::Utf8 | DataType::LargeUtf8 => {
            field.as_ref().clone().with_data_type(DataType::Utf8View)
        }
        _ => field.as_ref().clone(),
    });
    Arc::new(Schema::new_with_metadata(fields.collect::<Vec<Field>>(), schema.metadata().clone()))
}

pub(super) fn writer(made: &Made, schema: &SchemaRef) -> io::Result<Box<dyn BatchWriter>> {
    let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
    Ok(Box::new(ArrowWriter::try_new(made.clone(), schema.clone(), Some(properties))?))
}

impl BatchWriter for ArrowWriter<Made> {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        Ok(ArrowWriter::write(self, rows)?)
    }

    fn finish(self: Box<Self>) -> io::Result<()> {
        Ok(self.close().map(drop)?)
    }
}
