//! Tables through Arrow's C data interface: handed to another language in the same process, and
//! taken from it, without a copy.

use super::batches::whole;
use crate::{
    Table,
    arrow::{
        RecordBatchIterator, RecordBatchReader,
        ffi_stream::{FFI_ArrowArrayStream, RecordBatchStreamReader},
        schema::ArrowError,
    },
    error::{Error, Result},
};
use std::io;

/// A table as a stream of the C stream interface, of one batch. Whoever takes it over releases it.
///
/// Grains and orders of columns are in the fields' metadata. Costs nothing a row: the columns are
/// shared.
pub fn to_c_stream(table: &Table) -> FFI_ArrowArrayStream {
    let (batch, schema) = (table.batch().clone(), table.batch().schema());
    FFI_ArrowArrayStream::new(Box::new(RecordBatchIterator::new([Ok(batch)], schema)))
}

/// The table that a stream of the C stream interface holds; the stream is read to its end and
/// released.
///
/// Columns come in as from any record batch (see [`Table::from_batch`]): of one batch they are
/// shared, of several put together. Errors: those of the stream, types that a table does not have.
pub fn from_c_stream(stream: FFI_ArrowArrayStream) -> Result<Table> {
    let failed = |error: ArrowError| Error::Read {
        file: "the stream".to_owned(),
        source: io::Error::other(error),
        nearest: None,
    };
    let reader = RecordBatchStreamReader::try_new(stream).map_err(failed)?;
    let schema = reader.schema();
    let batches = reader.collect::<std::result::Result<Vec<_>, _>>().map_err(failed)?;
    Ok(Table::from_batch(&whole(&schema, &batches).map_err(failed)?)?)
}
