use super::*;
use arrow_array::{
    BooleanArray, Date32Array, Decimal64Array, Decimal128Array, Float64Array, Int64Array,
    StringViewArray,
};
use proptest::prelude::*;
use std::{collections::HashMap, fmt::Write, sync::Arc};

/// The obvious model: rows belong to one entity if the texts of their keys are equal.
fn assert_like_model(table: &Table, columns: &[&str], missing: Missing) {
    let entities = Entities::number(table, columns, missing).unwrap();
    let mut numbers: HashMap<String, u32> = HashMap::new();
    for row in 0..table.rows() {
        let (mut key, mut misses) = (String::new(), false);
        for name in columns {
            let column = table.column(name).unwrap();
            misses |= column.is_null(row);
            write!(key, "{:?}|", arrow_cast::display::array_value_to_string(column, row)).unwrap();
            write!(key, "{}|", column.is_null(row)).unwrap();
        }
        let id = entities.ids()[row];
        if misses && missing == Missing::NoEntity {
            assert_eq!(id, Entities::NONE);
            continue;
        }
        assert!((id as usize) < entities.count(), "numbers are dense");
        assert_eq!(*numbers.entry(key).or_insert(id), id, "one entity, one number");
    }
    let distinct: std::collections::HashSet<u32> = numbers.values().copied().collect();
    assert_eq!((distinct.len(), numbers.len()), (entities.count(), entities.count()));
    let mut first = vec![u32::MAX; entities.count()];
    for (row, &id) in entities.ids().iter().enumerate().rev() {
        if id != Entities::NONE {
            first[id as usize] = row as u32;
        }
    }
    assert_eq!(entities.first_rows(), first);
}

proptest! {
    #[test]
    fn one_entity_has_one_number(
        texts in prop::collection::vec(prop::option::of("[ab]{0,2}(a long text of twenty)?"),
            0..80),
        numbers in prop::collection::vec(prop::option::of(-2_i64..3), 80),
        floats in prop::collection::vec(prop::option::of(prop::sample::select(vec![0.0, -0.0,
            f64::NAN, 1.5])), 80),
    ) {
        let rows = texts.len();
        let table = Table::from_columns([
            ("text", Arc::new(texts.into_iter().collect::<StringViewArray>()) as ArrayRef),
            ("number", Arc::new(Int64Array::from(numbers[..rows].to_vec()))),
            ("float", Arc::new(Float64Array::from(floats[..rows].to_vec()))),
            ("wide", Arc::new(Decimal128Array::from_iter(numbers[..rows].iter().map(|n| n
                .map(i128::from))))),
        ]).unwrap();
        for missing in [Missing::NoEntity, Missing::IsAKey] {
            for columns in [&["text"][..], &["number", "text"], &["float", "wide", "number"], &[]] {
                assert_like_model(&table, columns, missing);
            }
        }
    }
}

#[test]
fn threads_and_growth_do_not_change_who_is_who() {
    let rows = ROWS_FOR_THREADS as i64 + 77;
    let keys = |row: i64| (row % 5 != 0).then(|| format!("vessel number {}", row * 31 % 70_001));
    let texts: StringViewArray = (0..rows).map(keys).collect();
    let table = Table::from_columns([("vessel", Arc::new(texts) as ArrayRef)]).unwrap();
    for threads in [1, 2, 3, 8] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| assert_like_model(&table, &["vessel"], Missing::NoEntity));
    }
}

#[test]
fn the_first_rows_of_few_keys_are_found_by_all_threads() {
    let rows = ROWS_FOR_THREADS + 77;
    // The last key has only the last row, and one number has no row.
    let id = |row: usize| match row {
        _ if row + 1 == rows => 51,
        _ if row.is_multiple_of(5) => Entities::NONE,
        _ => (row / 1_000 % 50) as u32,
    };
    let ids: Vec<u32> = (0..rows).map(id).collect();
    let first =
        |id: u32| ids.iter().position(|&other| other == id).map_or(u32::MAX, |row| row as u32);
    let expected: Vec<u32> = (0..52).map(first).collect();
    let entities = Entities::from_ids(ids.clone(), 52).unwrap();
    for threads in [1, 2, 7] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        assert_eq!(pool.install(|| entities.first_rows()), expected);
    }
}

/// Some keys begin again, some are missing, and the last stretches are short.
#[test]
fn keys_in_long_stretches_are_numbered_as_any_others() {
    let rows = ROWS_FOR_THREADS as i64 + 77;
    let stretch = |row: i64| if row + 100 > rows { row } else { row / 50 % 2_001 };
    let text = |row| (stretch(row) % 7 != 0).then(|| format!("vessel number {}", stretch(row)));
    let number = |row| (stretch(row) % 5 != 0).then(|| stretch(row) / 3);
    let texts: ArrayRef = Arc::new((0..rows).map(text).collect::<StringViewArray>());
    let numbers: ArrayRef = Arc::new((0..rows).map(number).collect::<Int64Array>());
    let table = Table::from_columns([("text", texts), ("number", numbers)]).unwrap();
    let columns: Vec<ArrayRef> = table.columns().to_vec();
    let stretches = Stretches::find(&columns, table.rows()).unwrap();
    assert!(stretches.is_some_and(|stretches| stretches.starts.len() < table.rows() / 20));
    for missing in [Missing::NoEntity, Missing::IsAKey] {
        for columns in [&["text"][..], &["number"], &["number", "text"]] {
            assert_like_model(&table, columns, missing);
        }
    }
    let mixed = Int64Array::from_iter_values((0..rows).map(|row| row * 31 % 70_001));
    assert!(Stretches::find(&[Arc::new(mixed)], table.rows()).unwrap().is_none());
}

proptest! {
    #[test]
    fn two_tables_are_numbered_as_one(
        one in prop::collection::vec(prop::option::of("[ab]{0,2}( with a long end)?"), 0..40),
        other in prop::collection::vec(prop::option::of("[ab]{0,2}( with a long end)?"), 0..40),
        far in any::<bool>(),
    ) {
        let texts = |texts: &[Option<String>]| Arc::new(texts.iter().cloned()
            .collect::<StringViewArray>()) as ArrayRef;
        // Numbers close together and far apart are numbered in different ways.
        let by = if far { 1_000_000_007 } else { 1 };
        let lengths = |texts: &[Option<String>]| -> ArrayRef {
            Arc::new(texts.iter().map(|text| text.as_ref().map(|text| text.len() as i64 * by - 3))
                .collect::<Int64Array>())
        };
        let (these, those) = ([texts(&one), lengths(&one)], [texts(&other), lengths(&other)]);
        let side = |columns| Side { columns, rows: 0 };
        let entities = Entities::number_both(
            Side { rows: one.len(), ..side(&these) },
            Side { rows: other.len(), ..side(&those) },
            Missing::NoEntity,
        ).unwrap();
        let all: Vec<&Option<String>> = one.iter().chain(&other).collect();
        for (row, text) in all.iter().enumerate() {
            prop_assert_eq!(entities.ids()[row] == Entities::NONE, text.is_none());
            for (before, earlier) in all[..row].iter().enumerate().filter(|(_,
                earlier)| earlier.is_some()) {
                prop_assert_eq!(entities.ids()[before] == entities.ids()[row], earlier == text);
            }
        }
    }
}

/// The columns of keys, which are numbered in batches.
fn batches(rows: &[(Option<String>, Option<i64>)], cut: usize) -> Vec<Table> {
    let cut = cut.min(rows.len());
    let table = |rows: &[(Option<String>, Option<i64>)], wide: bool| {
        let texts: StringViewArray = rows.iter().map(|(text, _)| text.clone()).collect();
        let numbers = || rows.iter().map(|(_, number)| *number);
        // The same decimals may have 64 or 128 bits.
        let narrow: Decimal64Array = numbers().collect();
        let broad: Decimal128Array = numbers().map(|n| n.map(i128::from)).collect();
        let decimals: ArrayRef = if !wide {
            Arc::new(narrow.with_precision_and_scale(18, 2).unwrap())
        } else {
            Arc::new(broad.with_precision_and_scale(38, 2).unwrap())
        };
        let days: Date32Array = numbers().map(|n| n.map(|n| n as i32)).collect();
        let truths: BooleanArray = numbers().map(|n| n.map(|n| n > 0)).collect();
        let columns: [(&str, ArrayRef); 4] = [
            ("text", Arc::new(texts)),
            ("decimal", decimals),
            ("day", Arc::new(days)),
            ("truth", Arc::new(truths)),
        ];
        Table::from_columns(columns).unwrap()
    };
    vec![table(&rows[..cut], false), table(&rows[cut..], true), table(&rows[..cut], true)]
}

proptest! {
    #[test]
    fn a_key_has_one_number_in_all_batches(
        rows in prop::collection::vec((
            prop::option::of("[ab]{0,2}( with a long end)?"),
            prop::option::of(-1_i64..2),
        ), 0..40),
        cut in 0_usize..40,
        places in prop::sample::select(vec![vec![0], vec![1], vec![2, 0], vec![3, 1, 0], vec![]]),
        missing in prop::sample::select(vec![Missing::NoEntity, Missing::IsAKey]),
    ) {
        let mut growing = GrowingEntities::new(missing);
        let mut found: Vec<(String, bool, u32)> = Vec::new();
        for batch in batches(&rows, cut) {
            let columns: Vec<ArrayRef> = places.iter().map(|&place| batch.at(place).clone())
                .collect();
            let entities = growing.number(&columns, batch.rows()).unwrap();
            for row in 0..batch.rows() {
                let text = |column: &ArrayRef| (column.is_null(row),
                    arrow_cast::display::array_value_to_string(column, row).unwrap());
                let key: Vec<(bool, String)> = columns.iter().map(text).collect();
                let misses = key.iter().any(|(misses, _)| *misses);
                let id = entities.ids()[row];
                let has_none = misses && missing == Missing::NoEntity;
                prop_assert_eq!(id == Entities::NONE, has_none);
                prop_assert!(has_none || (id as usize) < entities.count());
                found.push((format!("{key:?}"), has_none, id));
            }
            let without = found[found.len() - batch.rows()..].iter().filter(|row| row.1).count();
            prop_assert_eq!(entities.rows_with_one().is_some(), without > 0);
        }
        for (n, (key, has_none, id)) in found.iter().enumerate() {
            for (other, _, number) in found[..n].iter().filter(|other| !has_none && !other.1) {
                prop_assert_eq!(key == other, id == number, "{} and {}", key, other);
            }
        }
    }

    #[test]
    fn keys_are_numbered_in_the_order_in_which_they_come(
        rows in prop::collection::vec((
            prop::option::of("[ab]{0,2}( with a long end)?"),
            prop::option::of(-1_i64..2),
        ), 0..40),
        cut in 0_usize..40,
    ) {
        let (mut growing, mut expected) = (GrowingKeys::new(), Vec::new());
        prop_assert!(growing.values().unwrap().is_none());
        for batch in batches(&rows, cut) {
            let text = |row: usize| crate::sample::shown(&batch.slice(row, 1)).pop().unwrap();
            let numbers = growing.number(&batch).unwrap().into_ids();
            for (row, number) in numbers.into_iter().enumerate() {
                let known = expected.iter().position(|key| *key == text(row));
                let known = known.unwrap_or_else(|| {
                    expected.push(text(row));
                    expected.len() - 1
                });
                prop_assert_eq!(number as usize, known);
            }
            prop_assert_eq!(growing.count(), expected.len());
        }
        prop_assert_eq!(crate::sample::shown(&growing.values().unwrap().unwrap()), expected);
    }
}

#[test]
fn many_long_keys_keep_their_numbers_as_the_table_grows() {
    let batch = |from: usize, rows: usize| -> ArrayRef {
        let text = |row: usize| format!("vessel with a long name, {}", row % 90_001);
        Arc::new((from..from + rows).map(|row| Some(text(row))).collect::<StringViewArray>())
    };
    for threads in [1, 2, 7] {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| {
            let mut growing = GrowingEntities::new(Missing::NoEntity);
            let first = growing.number(&[batch(0, 50_000)], 50_000).unwrap();
            let bytes = growing.bytes();
            let all = growing.number(&[batch(0, 200_000)], 200_000).unwrap();
            assert_eq!(first.ids(), &all.ids()[..50_000]);
            assert_eq!(all.ids()[..100_000], all.ids()[90_001..190_001]);
            let distinct: std::collections::HashSet<u32> = all.ids().iter().copied().collect();
            assert_eq!(distinct.len(), 90_001);
            assert!(bytes > 50_000 * 40 && growing.bytes() > 90_001 * 40);
        });
    }
}

#[test]
fn a_key_of_another_type_is_refused() {
    let mut growing = GrowingEntities::new(Missing::NoEntity);
    let numbers: ArrayRef = Arc::new(Int64Array::from(vec![1]));
    let texts: ArrayRef = Arc::new(StringViewArray::from(vec!["1"]));
    growing.number(&[numbers], 1).unwrap();
    let error = growing.number(&[texts], 1).unwrap_err();
    assert!(matches!(error, crate::Error::OtherShape { .. }), "{error}");
}
