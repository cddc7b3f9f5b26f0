//! Primary keys name rows, whatever became of the table that they came from.

use super::*;
use arrow_array::{Int64Array, StringViewArray};
use proptest::prelude::*;
use rstest::rstest;

/// A table of a database with these keys, of which others come before.
fn stays(keys: &[i64], before: usize) -> Table {
    let stay: ArrayRef = Arc::new(Int64Array::from(keys.to_vec()));
    let berths = keys.iter().map(|key| Some(format!("berth {key}")));
    let berth: ArrayRef = Arc::new(berths.collect::<StringViewArray>());
    let table = Table::from_columns([("stay", stay.clone()), ("berth", berth)]).unwrap();
    let origin = Origin::of_rows("harbour.sqlite:stays").after(before);
    table.with_origin(origin.with_key([("stay", stay)]))
}

fn places(table: &Table) -> Vec<String> {
    let origin = table.origin().unwrap();
    (0..table.rows()).map(|row| origin.place(row)).collect()
}

#[rstest]
#[case::whole(0, &["row 1 (stay 70)", "row 2 (stay 71)"])]
#[case::a_batch(5, &["row 6 (stay 70)", "row 7 (stay 71)"])]
fn rows_of_a_database_are_named_by_their_keys(#[case] before: usize, #[case] named: &[&str]) {
    assert_eq!(places(&stays(&[70, 71], before)), named);
}

#[test]
fn a_key_of_several_columns_names_all_of_them() {
    let table = stays(&[7], 0);
    let columns = ["stay", "berth"].map(|name| (name, table.column(name).unwrap().clone()));
    let origin = Origin::of_rows("harbour.sqlite:stays").with_key(columns);
    assert_eq!(places(&table.with_origin(origin)), ["row 1 (stay 7, berth berth 7)"]);
}

#[test]
fn rows_of_several_batches_keep_their_keys() {
    let batches = [stays(&[70, 71], 0), stays(&[72], 2), stays(&[73, 74], 3)];
    let all = Table::joined(&batches[0], &batches[1..]).unwrap();
    let named: Vec<String> = batches.iter().flat_map(places).collect();
    assert_eq!(places(&all), named);
    // Selected rows keep theirs, also when they are selected and joined once more.
    let some = all.take_with_origin(&UInt32Array::from(vec![4, 1])).unwrap();
    assert_eq!(places(&some), ["row 5 (stay 74)", "row 2 (stay 71)"]);
    let more = Table::joined(&some, &[stays(&[75], 5)]).unwrap();
    let last = more.take_with_origin(&UInt32Array::from(vec![2, 0])).unwrap();
    assert_eq!(places(&last), ["row 6 (stay 75)", "row 5 (stay 74)"]);
}

#[test]
fn a_part_of_the_rows_has_the_keys_in_its_columns() {
    let (sample, part) = (stays(&[70, 71], 0), stays(&[90, 95], 0));
    let origin = || sample.origin().unwrap().of_lines([21, 26]);
    let named = part.clone().with_origin(origin().with_key_in(&part, vec![21, 26]));
    assert_eq!(places(&named), ["row 21 (stay 90)", "row 26 (stay 95)"]);
    // Without a column of the key, rows are named by their numbers only.
    let berths = part.without("stay").unwrap();
    let named = berths.clone().with_origin(origin().with_key_in(&berths, vec![21, 26]));
    assert_eq!(places(&named), ["row 21", "row 26"]);
}

#[test]
fn rows_without_a_key_have_only_numbers() {
    let plain = stays(&[70, 71], 0).with_origin(Origin::of_rows("harbour.sqlite:stays"));
    let mixed = Table::joined(&plain, &[stays(&[72], 2)]).unwrap();
    assert_eq!(places(&mixed), ["row 1", "row 2", "row 3"]);
    assert_eq!(stays(&[70], 0).origin().unwrap().key(2), None);
}

proptest! {
    #[test]
    fn any_rows_of_any_batches_keep_their_keys(
        lengths in prop::collection::vec(1..5_usize, 1..6),
        rows in prop::collection::vec(0..100_usize, 0..8),
    ) {
        let all: usize = lengths.iter().sum();
        let (mut batches, mut before) = (Vec::new(), 0);
        for length in lengths {
            let keys: Vec<i64> = (before..before + length).map(|row| 1_000 - row as i64).collect();
            batches.push(stays(&keys, before));
            before += length;
        }
        let joined = Table::joined(&batches[0], &batches[1..]).unwrap();
        let rows: Vec<u32> = rows.into_iter().map(|row| (row % all) as u32).collect();
        let taken = joined.take_with_origin(&UInt32Array::from(rows.clone())).unwrap();
        let named = rows.iter().map(|row| format!("row {} (stay {})", row + 1, 1_000 - row));
        prop_assert_eq!(places(&taken), named.collect::<Vec<_>>());
    }

    #[test]
    fn lines_come_in_order_and_as_bytes(
        lines in prop::collection::vec(prop_oneof![0..40_u64, Just(u64::MAX / 4)], 0..30),
        before in 0..8_usize,
    ) {
        let origin = Origin::new("stays.csv", 2).of_lines(lines.iter().copied());
        let rest: Vec<u64> = lines.iter().skip(before).copied().collect();
        let after = origin.after(before);
        prop_assert_eq!(after.lines(rest.len()).collect::<Vec<_>>(), rest.clone());
        let bytes = borsh::to_vec(&after).unwrap();
        let same: Origin = borsh::from_slice(&bytes).unwrap();
        prop_assert_eq!(same.lines(rest.len()).collect::<Vec<_>>(), rest.clone());
        prop_assert!((0..rest.len()).all(|row| same.line(row) == rest[row]));
    }
}
