//! Tables as bytes, so that other processes can have them, with all that is built of them: ledgers,
//! what is known of all rows, and the states of folds.
//!
//! The bytes of a table are those of an Arrow IPC stream with its rows, the number of its NaN
//! cells, and its origin. They are for processes of the same version.

use crate::{
    error::Result,
    table::{Origin, Table},
};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_ipc::{reader::StreamReader, writer::StreamWriter};
use arrow_schema::{ArrowError, Field, Schema};
use borsh::{BorshDeserialize, BorshSerialize};
use std::{
    io::{self, Read, Write},
    sync::Arc,
};

/// The rows of a batch as an Arrow IPC stream.
fn stream(batch: &RecordBatch) -> std::result::Result<Vec<u8>, ArrowError> {
    let mut writer = StreamWriter::try_new(Vec::new(), batch.schema_ref())?;
    writer.write(batch)?;
    writer.into_inner()
}

fn batch(stream: &[u8]) -> io::Result<RecordBatch> {
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

fn invalid(problem: impl Into<Box<dyn std::error::Error + Send + Sync>>) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, problem)
}

impl BorshSerialize for Table {
    fn serialize<W: Write>(&self, writer: &mut W) -> io::Result<()> {
        let own = self.with_own_texts().map_err(invalid)?;
        stream(own.batch()).map_err(invalid)?.serialize(writer)?;
        self.not_numbers().serialize(writer)?;
        // A part of a table has its own lines only.
        let own = |origin: &Origin| origin.only(origin.lines(self.rows()).collect());
        self.origin().map(own).serialize(writer)
    }
}

impl BorshDeserialize for Table {
    fn deserialize_reader<R: Read>(reader: &mut R) -> io::Result<Table> {
        let table =
            Table::from_batch(&batch(&Vec::deserialize_reader(reader)?)?).map_err(invalid)?;
        let not_numbers = u64::deserialize_reader(reader)?;
        let origin = Option::<Origin>::deserialize_reader(reader)?;
        Ok(table.with_facts(not_numbers, origin))
    }
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Context, Latest, ledger::Warning};
    use arrow_array::{Date32Array, Decimal64Array, Float64Array, Int64Array, StringViewArray};
    use rstest::rstest;

    fn through<T: BorshSerialize + BorshDeserialize>(value: &T) -> T {
        borsh::from_slice(&borsh::to_vec(value).unwrap()).unwrap()
    }

    fn fees() -> Table {
        let fee = Decimal64Array::from(vec![Some(1250), None, Some(-5)]);
        let columns: [(&str, ArrayRef); 4] = [
            ("vessel", Arc::new(StringViewArray::from(vec![Some("Kestrel"), None, Some("")]))),
            ("day", Arc::new(Date32Array::from(vec![Some(20_269), Some(-719_162), None]))),
            ("fee", Arc::new(fee.with_precision_and_scale(18, 2).unwrap())),
            ("level", Arc::new(Float64Array::from(vec![f64::NAN, f64::INFINITY, 0.1]))),
        ];
        let mut origin = Origin::new("fees.csv", 2);
        origin.jump(2, 9);
        origin.notation("day", "%d.%m.%Y".to_owned());
        Table::from_columns(columns).unwrap().with_origin(origin)
    }

    fn fees_of_a_database() -> Table {
        let key: ArrayRef = Arc::new(Int64Array::from(vec![7, 8, 9]));
        fees().with_origin(Origin::of_rows("fees").with_key([("fee_id", key)]))
    }

    #[rstest]
    #[case::all(fees())]
    #[case::some(fees().slice(1, 2))]
    #[case::with_keys(fees_of_a_database())]
    #[case::some_with_keys(fees_of_a_database().slice(1, 2))]
    #[case::none(fees().emptied())]
    #[case::without_columns(Table::from_columns(Vec::<(&str, ArrayRef)>::new()).unwrap())]
    fn a_table_has_its_cells_its_nan_cells_and_its_lines(#[case] table: Table) {
        let same = through(&table);
        assert_eq!(same, table);
        assert_eq!((same.rows(), same.not_numbers()), (table.rows(), table.not_numbers()));
        let places = |table: &Table| -> Vec<String> {
            let origin = table.origin().into_iter();
            origin.flat_map(|origin| (0..table.rows()).map(|row| origin.place(row))).collect()
        };
        assert_eq!(places(&same), places(&table));
        let notation = |table: &Table| {
            table.origin().and_then(|origin| origin.notation_of("day")).map(str::to_owned)
        };
        assert_eq!(notation(&same), notation(&table));
    }

    #[test]
    fn a_ledger_has_all_its_facts() {
        let context = Context::new().reconcile(["fee", "level"].map(str::to_owned));
        let latest = Latest { per: vec!["vessel".to_owned()], ..Latest::new("day") };
        let mut ledger = latest.apply_with(&fees(), &context).unwrap().ledger;
        ledger.warnings.push(Warning::Repeated { events: 2, pairs: 5 });
        ledger.other_side = Some(Box::new(ledger.clone()));
        let same = through(&ledger);
        assert_eq!(same, ledger);
        assert_eq!(same.to_string(), ledger.to_string());
        assert_eq!(same.noted, ledger.noted);
    }

    #[test]
    fn damaged_bytes_are_an_error() {
        let bytes = borsh::to_vec(&fees()).unwrap();
        for length in [0, 3, 20, bytes.len() - 1] {
            assert!(borsh::from_slice::<Table>(&bytes[..length]).is_err());
        }
    }
}
