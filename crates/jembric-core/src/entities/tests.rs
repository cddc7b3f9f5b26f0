use super::*;
use arrow_array::{Decimal128Array, Float64Array, Int64Array, StringViewArray};
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
    for (id, row) in entities.first_rows().into_iter().enumerate() {
        assert_eq!(
            entities.ids().iter().position(|&other| other as usize == id),
            Some(row as usize)
        );
    }
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
