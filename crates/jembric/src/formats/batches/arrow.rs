//! Arrow files and streams.

mod lengths;

use super::{
    BatchWriter, Choose, Columnar, Input, Made, Parts, Room, Unread, chosen,
    scan::{Stopped, TakeBatches},
};
use crate::arrow::{
    ArrayRef, RecordBatch, RecordBatchOptions,
    cast::AsArray,
    schema::{ArrowError, SchemaRef},
};
use arrow_ipc::{
    reader::{FileReader, StreamReader},
    writer::{FileWriter, StreamWriter},
};
use std::{
    io::{self, BufReader, Cursor, Read, Seek},
    sync::Arc,
};

trait Seekable: Read + Seek {}
impl<T: Read + Seek> Seekable for T {}

/// Why such a file cannot be read or written, in a build without this feature.
pub(super) const LEFT_OUT: Option<&str> = None;

pub(super) fn parts(
    format: Columnar,
    input: Input,
    choose: Option<&Choose<'_>>,
    room: &mut Room,
) -> Result<Parts, Unread> {
    let len = input.len();
    let mut input: Box<dyn Seekable> = match input {
        // A clone of a file shares its position with the original.
        Input::File(file) => Box::new(BufReader::new(file)),
        Input::Bytes(bytes) => Box::new(Cursor::new(bytes)),
    };
    let is_file = format == Columnar::ArrowFile;
    lengths::check(is_file, &mut input, len, room)?;
    input.rewind().map_err(ArrowError::from)?;
    let schema = if is_file {
        FileReader::try_new(&mut input, None)?.schema()
    } else {
        StreamReader::try_new(&mut input, None)?.schema()
    };
    let Some(choose) = choose else { return Ok((schema, Vec::new())) };
    input.rewind().map_err(ArrowError::from)?;
    let places = Some(chosen(&schema, choose));
    if is_file {
        let reader = FileReader::try_new(input, places)?;
        return Ok((reader.schema(), batches(reader, room)?));
    }
    let reader = StreamReader::try_new(input, places)?;
    Ok((reader.schema(), batches(reader, room)?))
}

/// The number of rows. Their columns are skipped.
pub(super) fn count(format: Columnar, input: Input, room: &Room) -> Result<u64, Unread> {
    let mut rows = 0;
    let counted = each(format, input, &[], (u64::MAX, room), &mut |_, batches| {
        rows += batches.iter().map(|batch| batch.num_rows() as u64).sum::<u64>();
        Ok(())
    });
    match counted {
        Err(Stopped::Unread(unread)) => Err(unread),
        Ok(()) | Err(Stopped::ByReceiver) => Ok(rows),
    }
}

/// Delivers the rows of some columns, about as many at a time as given.
pub(super) fn each(
    format: Columnar,
    input: Input,
    places: &[usize],
    (rows, room): (u64, &Room),
    take: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    let len = input.len();
    let mut input: Box<dyn Seekable> = match input {
        Input::File(file) => Box::new(BufReader::new(file)),
        Input::Bytes(bytes) => Box::new(Cursor::new(bytes)),
    };
    let is_file = format == Columnar::ArrowFile;
    lengths::check(is_file, &mut input, len, room)?;
    input.rewind().map_err(ArrowError::from)?;
    let places = Some(places.to_vec());
    if is_file {
        let reader = FileReader::try_new(input, places)?;
        gathered(reader.schema(), reader, rows, take)
    } else {
        let reader = StreamReader::try_new(input, places)?;
        gathered(reader.schema(), reader, rows, take)
    }
}

fn gathered(
    schema: SchemaRef,
    reader: impl Iterator<Item = Result<RecordBatch, ArrowError>>,
    rows: u64,
    take: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    let (mut pending, mut count) = (Vec::new(), 0);
    for batch in reader {
        let batch = batch?;
        // A long batch is cut.
        let whole = batch.num_rows();
        let step = usize::try_from(rows).unwrap_or(whole).clamp(1, whole.max(1));
        for from in (0..whole).step_by(step) {
            let part = batch.slice(from, step.min(whole - from));
            count += part.num_rows() as u64;
            pending.push(part);
            if count >= rows {
                take(&schema, std::mem::take(&mut pending))?;
                count = 0;
            }
        }
    }
    if pending.is_empty() { Ok(()) } else { take(&schema, pending) }
}

/// The batches, within the limits. A few bytes can stand for any number of missing values, which
/// take no memory until they are used.
fn batches(
    reader: impl Iterator<Item = Result<RecordBatch, ArrowError>>,
    room: &mut Room,
) -> Result<Vec<RecordBatch>, Unread> {
    let mut batches = Vec::new();
    for batch in reader {
        let batch = batch?;
        room.take(
            batch.num_rows() as u64,
            batch.num_columns(),
            batch.get_array_memory_size() as u64,
        )?;
        batches.push(batch);
    }
    Ok(batches)
}

pub(super) fn writer(
    format: Columnar,
    made: &Made,
    schema: &SchemaRef,
) -> io::Result<Box<dyn BatchWriter>> {
    Ok(match format {
        Columnar::ArrowFile => {
            Box::new(FileWriter::try_new(made.clone(), schema).map_err(io::Error::other)?)
        }
        _ => Box::new(StreamWriter::try_new(made.clone(), schema).map_err(io::Error::other)?),
    })
}

/// Copies the texts of these rows only. Rows that were selected from others share all texts of
/// these, and all of them would be written.
fn compact(rows: &RecordBatch) -> Result<RecordBatch, ArrowError> {
    let compacted = |column: &ArrayRef| -> ArrayRef {
        let Some(texts) = column.as_string_view_opt() else { return column.clone() };
        let held: usize = texts.data_buffers().iter().map(|buffer| buffer.len()).sum();
        let used = texts.total_buffer_bytes_used();
        if held > 2 * used { Arc::new(texts.gc()) } else { column.clone() }
    };
    let columns = rows.columns().iter().map(compacted).collect();
    let options = RecordBatchOptions::new().with_row_count(Some(rows.num_rows()));
    RecordBatch::try_new_with_options(rows.schema(), columns, &options)
}

impl BatchWriter for FileWriter<Made> {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        compact(rows).and_then(|rows| FileWriter::write(self, &rows)).map_err(io::Error::other)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        FileWriter::finish(&mut self).map_err(io::Error::other)
    }
}

impl BatchWriter for StreamWriter<Made> {
    fn write(&mut self, rows: &RecordBatch) -> io::Result<()> {
        compact(rows).and_then(|rows| StreamWriter::write(self, &rows)).map_err(io::Error::other)
    }

    fn finish(mut self: Box<Self>) -> io::Result<()> {
        StreamWriter::finish(&mut self).map_err(io::Error::other)
    }
}
