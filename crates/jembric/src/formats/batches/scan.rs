//! [`ColumnarScan`]: a file with typed columns that is read in batches.

use super::{CELL, Columnar, Input, Room, Unread, arrow, in_file, parquet, whole};
use crate::{
    Table,
    arrow::{RecordBatch, schema::SchemaRef},
    data::{Receiver, Scan, bytes_of, exchange::Portion, memory::Memory},
    error::{Error, Result},
    guard::guarded,
    text::file_bytes::{Stamp, stamp_of},
};
use jembric_core::Origin;
use std::{ops::ControlFlow, sync::Arc};

/// Receives batches, and tells whether there was an error.
pub(super) type TakeBatches<'a> =
    dyn FnMut(&SchemaRef, Vec<RecordBatch>) -> std::result::Result<(), Stopped> + 'a;

/// Why the batches of a file ended early.
#[derive(Debug)]
pub(super) enum Stopped {
    /// The file cannot be read.
    Unread(Unread),
    /// The receiver failed, and keeps its error.
    ByReceiver,
}

impl<E: Into<Unread>> From<E> for Stopped {
    fn from(error: E) -> Stopped {
        Stopped::Unread(error.into())
    }
}

/// A file with typed columns.
#[derive(Debug)]
pub(crate) struct ColumnarScan {
    format: Columnar,
    name: String,
    input: Input,
    stamp: Option<Stamp>,
    places: Vec<usize>,
    /// The limit on the bytes of the file's rows.
    most: u64,
    batch: u64,
    share: Portion,
    /// The rows of the shares before this one.
    before: u64,
    rows: u64,
    sample: Table,
}

impl ColumnarScan {
    pub(super) fn open(
        format: Columnar,
        name: &str,
        input: Input,
        (places, most): (Vec<usize>, u64),
        memory: &Memory,
        share: Portion,
    ) -> Result<ColumnarScan> {
        const SAMPLE: usize = 1 << 12;
        let stamp = stamp(name, &input)?;
        let counted = guarded(|| match format {
            Columnar::Parquet => parquet::count(input.clone(), share),
            Columnar::ArrowFile | Columnar::ArrowStream => {
                arrow::count(format, input.clone(), &Room { left: most }).map(|rows| (0, rows))
            }
        });
        let counted = counted.map_err(Unread::Damaged).and_then(|counted| counted);
        let packed = input.len();
        let refused = || Error::Unpacks { file: name.to_owned(), packed, most };
        let (before, rows) = counted.map_err(|unread| match unread {
            Unread::Unpacks => refused(),
            unread => damaged(format, name, unread),
        })?;
        // A few bytes can stand for any number of missing values.
        if rows.saturating_mul(places.len().max(1) as u64).saturating_mul(CELL) > most {
            return Err(refused());
        }
        let mut scan = ColumnarScan {
            format,
            name: name.to_owned(),
            input,
            stamp,
            places,
            most,
            batch: 1,
            share,
            before,
            rows,
            sample: Table::from_columns(Vec::<(&str, _)>::new())?,
        };
        // The first rows tell how many make a batch.
        let mut sample = None;
        scan.batches(1, &mut |schema, batches| {
            let rows: Vec<RecordBatch> = batches
                .iter()
                .take(1)
                .map(|batch| batch.slice(0, batch.num_rows().min(SAMPLE)))
                .collect();
            sample = Some(whole(schema, &rows)?);
            Err(Stopped::ByReceiver)
        })?;
        let sample = match sample {
            Some(sample) => sample,
            None => {
                let schema = format.parts(scan.input.clone(), None, 0);
                let (schema, _) = schema.map_err(|unread| damaged(format, name, unread))?;
                let empty = schema.project(&scan.places).map(Arc::new);
                empty
                    .and_then(|schema| whole(&schema, &[]))
                    .map_err(|error| damaged(format, name, error.into()))?
            }
        };
        scan.sample = scan.table(sample, 0)?;
        let row = bytes_of(&scan.sample) / (scan.sample.rows() as u64).max(1);
        scan.batch = (memory.batch() / row.max(1)).max(1);
        Ok(scan)
    }

    /// Delivers record batches of about this many rows. If the receiver stops, that is no error.
    fn batches(&self, rows: u64, take: &mut TakeBatches<'_>) -> Result<()> {
        let (input, places) = (self.input.clone(), &self.places);
        let read = guarded(|| match self.format {
            Columnar::Parquet => parquet::each(input, self.share, places, rows, take),
            Columnar::ArrowFile | Columnar::ArrowStream => {
                arrow::each(self.format, input, places, (rows, &Room { left: self.most }), take)
            }
        });
        match read {
            Ok(Ok(()) | Err(Stopped::ByReceiver)) => Ok(()),
            Ok(Err(Stopped::Unread(unread))) => Err(damaged(self.format, &self.name, unread)),
            Err(problem) => Err(damaged(self.format, &self.name, Unread::Damaged(problem))),
        }
    }

    /// The table of a batch whose first row has this number.
    fn table(&self, batch: RecordBatch, first_row: u64) -> Result<Table> {
        let table = guarded(|| Table::from_batch(&batch))
            .map_err(|problem| self.format.unreadable(&self.name, problem))?;
        let origin = Origin::new(&self.name, self.before + first_row + 1);
        Ok(table.map_err(|error| in_file(&self.name, error))?.with_origin(origin))
    }

    fn expect_unchanged(&self) -> Result<()> {
        if stamp(&self.name, &self.input)? == self.stamp {
            Ok(())
        } else {
            Err(Error::Changed { file: self.name.clone() })
        }
    }
}

fn stamp(name: &str, input: &Input) -> Result<Option<Stamp>> {
    let Input::File(file) = input else { return Ok(None) };
    stamp_of(file).map(Some).map_err(crate::Error::read(name))
}

fn damaged(format: Columnar, name: &str, unread: Unread) -> Error {
    match unread {
        Unread::Damaged(problem) => format.unreadable(name, problem),
        Unread::Unpacks => format.unreadable(name, "it needs too much memory".to_owned()),
    }
}

impl Scan for ColumnarScan {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        self.rows
    }

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        self.expect_unchanged()?;
        let (mut first_row, mut stopped) = (0, None);
        self.batches(self.batch, &mut |schema, batches| {
            let batch = whole(schema, &batches)?;
            drop(batches);
            let rows = batch.num_rows() as u64;
            let taken = self.table(batch, first_row).and_then(&mut *take);
            first_row += rows;
            match taken {
                Ok(ControlFlow::Continue(())) => Ok(()),
                broken_or_failed => {
                    stopped = Some(broken_or_failed);
                    Err(Stopped::ByReceiver)
                }
            }
        })?;
        if let Some(broken_or_failed) = stopped {
            return broken_or_failed;
        }
        if first_row == 0 && take(self.sample.head(0))?.is_break() {
            return Ok(ControlFlow::Break(()));
        }
        self.expect_unchanged().map(ControlFlow::Continue)
    }
}
