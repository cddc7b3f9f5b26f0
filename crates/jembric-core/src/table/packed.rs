//! Tables as bytes: those of an Arrow IPC stream with the rows, the number of NaN cells, and the
//! origin.

use super::{Origin, Table};
use crate::packed::{batch, invalid, stream};
use borsh::{BorshDeserialize, BorshSerialize};
use std::io::{self, Read, Write};

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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Context, Latest, ledger::Warning};
    use arrow_array::ArrayRef;
    use arrow_array::{Date32Array, Decimal64Array, Float64Array, Int64Array, StringViewArray};
    use rstest::rstest;
    use std::sync::Arc;

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
