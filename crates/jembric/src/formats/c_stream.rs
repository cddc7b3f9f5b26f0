//! Passes tables to and from other languages in the same process, through Arrow's C data interface
//! and without a copy.

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

/// A table as a stream of the C stream interface, with one batch. The receiver releases it.
///
/// The metadata of fields holds grains and orders. No row is copied; the columns are shared.
pub fn to_c_stream(table: &Table) -> FFI_ArrowArrayStream {
    let (batch, schema) = (table.batch().clone(), table.batch().schema());
    FFI_ArrowArrayStream::new(Box::new(RecordBatchIterator::new([Ok(batch)], schema)))
}

/// The table in a stream of the C stream interface. The stream is read to its end and released.
///
/// The columns are those of any record batch (see [`Table::from_batch`]). One batch is shared;
/// several are joined. Errors: those of the stream; types that tables do not support.
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
