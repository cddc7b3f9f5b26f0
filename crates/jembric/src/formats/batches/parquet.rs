//! Parquet files.

use super::{
    BatchWriter, Choose, Input, Made, Parts, Room, Unread, chosen,
    scan::{Stopped, TakeBatches},
};
use crate::{
    arrow::{
        RecordBatch,
        schema::{ArrowError, DataType, Field, Schema, SchemaRef},
    },
    data::exchange::Portion,
    disk::read_at::read_at,
    guard::guarded,
};
use bytes::Bytes;
use parquet::{
    arrow::{
        ArrowWriter, ProjectionMask,
        arrow_reader::{ArrowReaderMetadata, ArrowReaderOptions, ParquetRecordBatchReaderBuilder},
    },
    basic::Compression,
    column::page::{Page, PageReader},
    file::{
        properties::WriterProperties,
        reader::{ChunkReader, Length},
        serialized_reader::SerializedPageReader,
    },
};
use rayon::prelude::*;
use std::{
    fs::File,
    io::{self, BufReader, Read},
    ops::Range,
    sync::Arc,
};

/// Why such a file cannot be read or written, in a build without this feature.
pub(super) const LEFT_OUT: Option<&str> = None;

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
        if read_at(&self.0, start, &mut bytes)? == length {
            Ok(bytes.into())
        } else {
            Err(io::Error::from(io::ErrorKind::UnexpectedEof).into())
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

/// What is known of a file before its rows are read, with texts as views, because the texts of a
/// column together may exceed 2 GiB.
fn about(input: &impl ChunkReader) -> Result<ArrowReaderMetadata, ArrowError> {
    let found = ArrowReaderMetadata::load(input, ArrowReaderOptions::new())?;
    let options = ArrowReaderOptions::new().with_schema(viewed(found.schema()));
    Ok(ArrowReaderMetadata::try_new(found.metadata().clone(), options).unwrap_or(found))
}

/// The number of rows of the shares before this one, and of this one.
pub(super) fn count(input: Input, share: Portion) -> Result<(u64, u64), Unread> {
    let about = match input {
        Input::File(file) => about(&Positioned(file))?,
        Input::Bytes(bytes) => about(&bytes)?,
    };
    let rows = rows_of_groups(&about)?;
    let groups = groups_of(&rows, share);
    Ok((rows[..groups.start].iter().sum(), rows[groups].iter().sum()))
}

/// Errors: a dictionary of a column that is read states more entries than its page has bytes. The
/// reader of dictionaries would ask for memory for all of them.
fn expect_dictionaries<T: ChunkReader + Clone + 'static>(
    input: &T,
    about: &ArrowReaderMetadata,
    mask: &ProjectionMask,
    groups: &[usize],
) -> Result<(), ArrowError> {
    for group in groups.iter().map(|&group| about.metadata().row_group(group)) {
        let rows = usize::try_from(group.num_rows()).unwrap_or_default();
        let columns = group.columns().iter().enumerate();
        let read = columns.filter(|(leaf, column)| {
            mask.leaf_included(*leaf) && column.dictionary_page_offset().is_some()
        });
        for (_, column) in read {
            let mut pages = SerializedPageReader::new(Arc::new(input.clone()), column, rows, None)?;
            if let Some(Page::DictionaryPage { buf, num_values, .. }) = pages.get_next_page()?
                && num_values as usize > buf.len()
            {
                let problem = format!(
                    "column `{}` has a dictionary of {num_values} entries in {} bytes",
                    column.column_path().string(),
                    buf.len()
                );
                return Err(ArrowError::ParquetError(problem));
            }
        }
    }
    Ok(())
}

/// The number of rows of each group.
fn rows_of_groups(about: &ArrowReaderMetadata) -> Result<Vec<u64>, Unread> {
    let rows = about.metadata().row_groups().iter().map(|group| u64::try_from(group.num_rows()));
    rows.collect::<Result<_, _>>()
        .map_err(|_| Unread::Damaged("a group has less than no rows".to_owned()))
}

/// The groups of a portion. A group belongs to the portion in which it begins, by its rows.
fn groups_of(rows: &[u64], Portion { from, to, of }: Portion) -> Range<usize> {
    let all = rows.iter().map(|rows| u128::from(*rows)).sum::<u128>().max(1);
    let mut before = 0;
    let parts = rows.iter().map(|rows| {
        let part = before * u128::from(of) / all;
        before += u128::from(*rows);
        // A group without rows may be at the end.
        (part as u64).min(of - 1)
    });
    let parts: Vec<u64> = parts.collect();
    parts.partition_point(|part| *part < from)..parts.partition_point(|part| *part < to)
}

/// Delivers the rows of some columns, about as many at a time as given.
pub(super) fn each(
    input: Input,
    share: Portion,
    places: &[usize],
    rows: u64,
    take: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    match input {
        Input::File(file) => each_of(&Positioned(file), share, places, rows, take),
        Input::Bytes(bytes) => each_of(&bytes, share, places, rows, take),
    }
}

fn each_of<T: ChunkReader + Clone + 'static>(
    input: &T,
    share: Portion,
    places: &[usize],
    rows: u64,
    take: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    let about = about(input)?;
    let schema: SchemaRef = Arc::new(about.schema().project(places)?);
    let mask = ProjectionMask::roots(about.parquet_schema(), places.iter().copied());
    let reader = |groups: Vec<usize>| {
        expect_dictionaries(input, &about, &mask, &groups)?;
        let reader =
            ParquetRecordBatchReaderBuilder::new_with_metadata(input.clone(), about.clone());
        let reader = reader.with_row_groups(groups).with_projection(mask.clone());
        reader.with_batch_size(BATCH.min(rows as usize)).build().map_err(ArrowError::from)
    };
    let rows_in = |group: usize| about.metadata().row_group(group).num_rows() as u64;
    let groups = groups_of(&rows_of_groups(&about)?, share);
    let (mut group, all) = (groups.start, groups.end);
    while group < all {
        // Short groups are read together, each by a thread. A long one is read piece by piece.
        let (first, mut together) = (group, rows_in(group));
        group += 1;
        while group < all && together + rows_in(group) <= rows {
            together += rows_in(group);
            group += 1;
        }
        if group - first > 1 || together <= rows {
            let read = |group| {
                let read = guarded(|| reader(vec![group])?.collect::<Result<Vec<_>, _>>());
                read.map_err(Unread::Damaged)?.map_err(Unread::from)
            };
            let read: Vec<Result<Vec<RecordBatch>, Unread>> =
                (first..group).into_par_iter().map(read).collect();
            let read = read.into_iter().collect::<Result<Vec<_>, _>>()?;
            take(&schema, read.into_iter().flatten().collect())?;
            continue;
        }
        let (mut pending, mut count) = (Vec::new(), 0);
        for batch in reader(vec![first])? {
            let batch = batch?;
            count += batch.num_rows() as u64;
            pending.push(batch);
            if count >= rows {
                take(&schema, std::mem::take(&mut pending))?;
                count = 0;
            }
        }
        if !pending.is_empty() {
            take(&schema, pending)?;
        }
    }
    Ok(())
}

/// Groups of rows are read on all threads.
fn parts_of<T: ChunkReader + Clone + 'static>(
    input: T,
    choose: Option<&Choose<'_>>,
    room: &mut Room,
) -> Result<Parts, Unread> {
    let about = about(&input)?;
    let Some(choose) = choose else { return Ok((about.schema().clone(), Vec::new())) };
    let roots = chosen(about.schema(), choose);
    for group in about.metadata().row_groups() {
        let rows = u64::try_from(group.num_rows())
            .map_err(|_| Unread::Damaged("a group has less than no rows".to_owned()))?;
        room.take(rows, roots.len(), 0)?;
    }
    let mask = ProjectionMask::roots(about.parquet_schema(), roots.iter().copied());
    let rows_of = |group: usize| {
        expect_dictionaries(&input, &about, &mask, &[group])?;
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
