//! Columns, ledgers, what is known of all rows, and the states of folds as bytes, so that other
//! processes of the same version can have them. `table` has the bytes of a whole table.

use crate::error::Result;
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_ipc::{reader::StreamReader, writer::StreamWriter};
use arrow_schema::{ArrowError, Field, Schema};
use borsh::{BorshDeserialize, BorshSerialize};
use std::{
    io::{self, Read, Write},
    sync::Arc,
};

/// The rows of a batch as an Arrow IPC stream.
pub(crate) fn stream(batch: &RecordBatch) -> std::result::Result<Vec<u8>, ArrowError> {
    let mut writer = StreamWriter::try_new(Vec::new(), batch.schema_ref())?;
    writer.write(batch)?;
    writer.into_inner()
}

pub(crate) fn batch(stream: &[u8]) -> io::Result<RecordBatch> {
    let batch =
        StreamReader::try_new(stream, None).and_then(|mut reader| reader.next().transpose());
    batch.map_err(invalid)?.ok_or_else(|| invalid("the rows of a table are missing"))
}

/// A value as bytes.
pub(crate) fn packed(value: &impl BorshSerialize) -> Result<Vec<u8>> {
    borsh::to_vec(value).map_err(|error| ArrowError::IpcError(error.to_string()).into())
}

/// The value of some bytes.
///
/// Errors: they are damaged, or of another type.
pub(crate) fn unpacked<T: BorshDeserialize>(bytes: &[u8]) -> Result<T> {
    borsh::from_slice(bytes).map_err(|error| ArrowError::IpcError(error.to_string()).into())
}

pub(crate) fn invalid(problem: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, problem)
}

/// Columns without names, as a field of a struct.
pub(crate) mod columns {
    use super::*;

    pub(crate) fn serialize<W: Write>(columns: &[ArrayRef], writer: &mut W) -> io::Result<()> {
        let fields = columns
            .iter()
            .enumerate()
            .map(|(place, column)| Field::new(place.to_string(), column.data_type().clone(), true));
        let schema = Arc::new(Schema::new(fields.collect::<Vec<_>>()));
        let rows =
            RecordBatchOptions::new().with_row_count(columns.first().map(|column| column.len()));
        let batch = RecordBatch::try_new_with_options(schema, columns.to_vec(), &rows);
        batch.and_then(|batch| stream(&batch)).map_err(invalid)?.serialize(writer)
    }

    pub(crate) fn deserialize<R: Read>(reader: &mut R) -> io::Result<Vec<ArrayRef>> {
        Ok(batch(&Vec::deserialize_reader(reader)?)?.columns().to_vec())
    }
}

/// A float of any value, as a field of a struct: one that is not a number, too.
pub(crate) mod any_float {
    use super::*;

    pub(crate) fn serialize<W: Write>(value: &f64, writer: &mut W) -> io::Result<()> {
        value.to_bits().serialize(writer)
    }

    pub(crate) fn deserialize<R: Read>(reader: &mut R) -> io::Result<f64> {
        u64::deserialize_reader(reader).map(f64::from_bits)
    }
}
