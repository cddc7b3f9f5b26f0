//! [`Run`]: rows in a temporary file.
//!
//! A run is a sequence of frames. Each is a batch as a compressed Arrow IPC stream, after its
//! length and its checksum. The checksum is that of the bytes on the disk, so a damaged frame is
//! found before it is unpacked.

use super::{Scan, bytes_of, memory::Memory};
use crate::{
    CoreError, Table,
    arrow::{
        Array, ArrayRef, RecordBatch,
        schema::{Field, Schema},
    },
    data::Receiver,
    disk::read_at::read_at,
    error::Result,
};
use arrow_cast::cast;
use arrow_ipc::{
    CompressionType,
    reader::StreamReader,
    writer::{IpcWriteOptions, StreamWriter},
};
use std::{
    fs::{self, File},
    io::{self, Write},
    ops::ControlFlow,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

/// The bytes of a frame's length and checksum.
const HEAD: usize = 12;

/// A batch as it is written.
pub(crate) struct Frame {
    bytes: Vec<u8>,
    rows: u64,
    /// The bytes of the rows in memory.
    size: u64,
    not_numbers: u64,
    columns: Table,
}

impl Frame {
    /// Packs the rows of a table. Several threads may do this in parallel.
    pub(crate) fn pack(table: &Table) -> Result<Frame> {
        let packed = packed(table)?;
        let mut bytes = Vec::with_capacity(HEAD + packed.len());
        bytes.extend((packed.len() as u64).to_le_bytes());
        bytes.extend(crc32fast::hash(&packed).to_le_bytes());
        bytes.extend(packed);
        let (rows, size) = (table.rows() as u64, bytes_of(table));
        let not_numbers = table.not_numbers();
        Ok(Frame { bytes, rows, size, not_numbers, columns: table.emptied() })
    }
}

fn packed(table: &Table) -> std::result::Result<Vec<u8>, CoreError> {
    let table = table.with_own_texts()?;
    let batch = table.batch();
    let lz4 = IpcWriteOptions::default().try_with_compression(Some(CompressionType::LZ4_FRAME))?;
    let mut writer = StreamWriter::try_new_with_options(Vec::new(), &batch.schema(), lz4)?;
    writer.write(batch)?;
    Ok(writer.into_inner()?)
}

/// Writes a run.
pub(crate) struct SpillWriter {
    memory: Memory,
    run: SpillFile,
}

impl SpillWriter {
    /// A run without rows. Its file is created with the first ones.
    pub(crate) fn new(memory: &Memory) -> SpillWriter {
        let run = SpillFile {
            memory: memory.clone(),
            place: None,
            frames: Vec::new(),
            rows: 0,
            bytes: 0,
            not_numbers: 0,
            columns: None,
        };
        SpillWriter { memory: memory.clone(), run }
    }

    /// The run that comes after others, which are complete. They share a file, because a process
    /// may open only some hundreds.
    pub(crate) fn after(others: &[SpillFile], memory: &Memory) -> SpillWriter {
        let mut writer = SpillWriter::new(memory);
        writer.run.place = others.iter().rev().find_map(|run| run.place.clone());
        writer
    }

    /// Adds rows.
    pub(crate) fn write(&mut self, table: &Table) -> Result<()> {
        self.append(&Frame::pack(table)?)
    }

    /// Adds rows that were packed.
    ///
    /// Errors: the disk is full, or the rows have other columns than those before.
    pub(crate) fn append(&mut self, frame: &Frame) -> Result<()> {
        let bytes = frame.bytes.len() as u64;
        let scratch = self.memory.scratch();
        let place = match &self.run.place {
            Some(place) => place,
            None => {
                let (path, file) = scratch.create()?;
                let end = AtomicU64::new(0);
                self.run.place.insert(Arc::new(Place { path, file, end }))
            }
        };
        scratch.claim(bytes)?;
        (&place.file).write_all(&frame.bytes).map_err(|source| scratch.failed(source))?;
        let at = place.end.fetch_add(bytes, Relaxed);
        self.run.frames.push(Placed { at, bytes, rows: frame.rows });
        self.run.rows += frame.rows;
        self.run.bytes += frame.size;
        self.run.not_numbers += frame.not_numbers;
        self.run.columns = Some(match self.run.columns.take() {
            None => frame.columns.clone(),
            Some(columns) => columns.widest(&frame.columns)?,
        });
        Ok(())
    }

    /// The run of all rows.
    pub(crate) fn finish(self) -> SpillFile {
        self.run
    }
}

/// A file, which is removed when nobody needs it.
#[derive(Debug)]
struct Place {
    path: PathBuf,
    file: File,
    /// The bytes that were written.
    end: AtomicU64,
}

impl Drop for Place {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.path);
    }
}

/// The place of a frame.
#[derive(Clone, Copy, Debug)]
struct Placed {
    at: u64,
    bytes: u64,
    rows: u64,
}

/// Rows in a temporary file. Clones share the file.
#[derive(Clone, Debug)]
pub(crate) struct SpillFile {
    memory: Memory,
    place: Option<Arc<Place>>,
    frames: Vec<Placed>,
    rows: u64,
    bytes: u64,
    not_numbers: u64,
    /// The columns without rows, with the widest decimals; none before any rows were added.
    columns: Option<Table>,
}

impl SpillFile {
    /// The bytes of its rows in memory.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes
    }

    pub(crate) fn rows(&self) -> u64 {
        self.rows
    }

    /// The number of NaN cells that became missing.
    pub(crate) fn not_numbers(&self) -> u64 {
        self.not_numbers
    }

    /// The number of its frames.
    pub(crate) fn frames(&self) -> usize {
        self.frames.len()
    }

    /// Its columns without rows.
    pub(crate) fn columns(&self) -> Option<&Table> {
        self.columns.as_ref()
    }

    /// The rows of a frame.
    ///
    /// Errors: the file is damaged.
    pub(crate) fn frame(&self, number: usize) -> Result<Table> {
        let failed = |source| self.memory.scratch().failed(source);
        let damaged = |what: &str| {
            failed(io::Error::new(
                io::ErrorKind::InvalidData,
                format!("a temporary file is damaged ({what})"),
            ))
        };
        let Placed { at, bytes, rows } = self.frames[number];
        let mut frame = vec![0; bytes as usize];
        let Some(place) = &self.place else { return Err(damaged("it was never written")) };
        let read = read_at(&place.file, at, &mut frame);
        if read.map_err(failed)? < frame.len() {
            return Err(damaged("it is too short"));
        }
        let (head, packed) = frame.split_at(HEAD);
        let sum = crc32fast::hash(packed).to_le_bytes();
        if head[..8] != (packed.len() as u64).to_le_bytes() || head[8..] != sum {
            return Err(damaged("its checksum is wrong"));
        }
        let batch =
            StreamReader::try_new(packed, None).and_then(|mut reader| reader.next().transpose());
        let batch = batch.map_err(|error| damaged(&error.to_string()))?;
        let batch = batch.filter(|batch| batch.num_rows() as u64 == rows);
        let batch = batch.ok_or_else(|| damaged("rows are missing"))?;
        let table = Table::from_batch(&batch)?;
        match &self.columns {
            Some(columns) => Ok(widened(table, columns)?),
            None => Ok(table),
        }
    }

    /// All rows, which must fit into memory.
    pub(crate) fn whole(&self) -> Result<Option<Table>> {
        let mut tables = Vec::new();
        for number in 0..self.frames.len() {
            tables.push(self.frame(number)?);
        }
        let Some((first, others)) = tables.split_first() else { return Ok(self.columns.clone()) };
        Ok(Some(Table::joined(first, others)?.with_not_numbers(self.not_numbers)))
    }
}

/// The table with its decimals as wide as in these columns.
pub(crate) fn widened(table: Table, columns: &Table) -> std::result::Result<Table, CoreError> {
    let kinds = || columns.columns().iter().map(|column| column.data_type());
    if table.columns().iter().map(|column| column.data_type()).eq(kinds()) {
        return Ok(table);
    }
    let fields = table.batch().schema();
    let fields = fields.fields().iter().zip(kinds());
    let fields: Vec<Field> =
        fields.map(|(field, kind)| Field::clone(field).with_data_type(kind.clone())).collect();
    let cells = table.columns().iter().zip(kinds()).map(|(column, kind)| cast(column, kind));
    let cells = cells.collect::<std::result::Result<Vec<ArrayRef>, _>>()?;
    Table::from_batch(&RecordBatch::try_new(Arc::new(Schema::new(fields)), cells)?)
}

/// A run with a sample of its rows.
#[derive(Debug)]
pub(crate) struct SpillScan {
    pub(crate) run: SpillFile,
    pub(crate) sample: Table,
}

impl SpillScan {
    /// Errors: the run has no rows, or its file is damaged.
    pub(crate) fn open(run: SpillFile) -> Result<SpillScan> {
        const SAMPLE: usize = 1 << 12;
        let sample = match run.frames() {
            0 => run.columns().cloned(),
            _ => Some(run.frame(0)?.head(SAMPLE)),
        };
        let none = || Table::from_columns(Vec::<(&str, ArrayRef)>::new());
        let sample = sample.map_or_else(none, Ok)?;
        Ok(SpillScan { run, sample })
    }
}

impl Scan for SpillScan {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        self.run.rows()
    }

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        for number in 0..self.run.frames() {
            let table = self.run.frame(number)?;
            let taken = take(match number {
                0 => table.with_not_numbers(self.run.not_numbers),
                _ => table,
            })?;
            if taken.is_break() {
                return Ok(taken);
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}
