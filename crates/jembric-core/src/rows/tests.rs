use super::*;
use crate::{Context, Operation, Type, calendar::Grain};
use arrow_array::{
    Array, ArrayRef, Date32Array, Decimal64Array, Float64Array, Int64Array, StringViewArray,
    TimestampMicrosecondArray,
};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

fn integers(values: &[Option<i64>]) -> ArrayRef {
    Arc::new(Int64Array::from(values.to_vec()))
}

fn texts(values: &[Option<&str>]) -> ArrayRef {
    Arc::new(StringViewArray::from(values.to_vec()))
}

fn decimals(units: i64, places: i8) -> ArrayRef {
    Arc::new(Decimal64Array::from(vec![units]).with_precision_and_scale(18, places).unwrap())
}

fn shown(table: &Table) -> Vec<String> {
    let row = |row| {
        let cells =
            table.columns().iter().map(|column| array_value_to_string(column, row).unwrap());
        cells.collect::<Vec<_>>().join("|")
    };
    (0..table.rows()).map(row).collect()
}

fn table() -> Table {
    let columns = [
        ("a", integers(&[Some(2), None, Some(1), Some(2)])),
        ("b", texts(&[Some("x"), Some("y"), None, Some("w")])),
    ];
    Table::from_columns(columns).unwrap()
}

#[rstest]
#[case(&["a"], &["1|", "2|x", "2|w", "|y"])]
#[case(&["a:down", "b"], &["2|w", "2|x", "1|", "|y"])]
#[case(&["b:down"], &["|y", "2|x", "2|w", "1|"])]
#[case(&["b:up", "a"], &["2|w", "2|x", "|y", "1|"])]
fn rows_are_sorted_and_missing_values_come_last(#[case] by: &[&str], #[case] expected: &[&str]) {
    let outcome = Sort::new(by.iter().copied()).apply(&table()).unwrap();
    assert_eq!(shown(&outcome.table), expected);
    assert!(outcome.ledger.balances());
}

#[test]
fn columns_are_chosen_and_renamed() {
    let outcome = Columns::new(["b as name", "a"]).apply(&table()).unwrap();
    assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["name", "a"]);
    assert_eq!(shown(&outcome.table)[0], "x|2");
    let wrong = [["a", "b as a"], ["a", "c"]]
        .map(|keep| Columns::new(keep).apply(&table()).unwrap_err().to_string());
    assert_eq!(wrong[0], "two columns are named `a`. The names of columns must differ: rename one");
    assert!(wrong[1].starts_with("there is no column `c`"), "{}", wrong[1]);
}

#[test]
fn the_field_of_a_column_is_passed_on() {
    let months: ArrayRef = Arc::new(Date32Array::from(vec![31, 0]));
    let table =
        Table::from_columns([("m", months)]).unwrap().with_periods("m", Grain::Month).unwrap();
    let kinds = |table: &Table| table.shape().columns()[0].kind;
    let steps: [&dyn Operation; 4] = [
        &Sort::new(["m"]),
        &Columns::new(["m as month"]),
        &Filter::new("m = 1970-02"),
        &Add::new(["n = m"]),
    ];
    for step in steps {
        let outcome = step.apply_with(&table, &Context::new()).unwrap();
        assert_eq!(kinds(&outcome.table), Some(Type::Date(Grain::Month.into())));
    }
    let stacked = Stack::new().apply(&[("one", &table), ("two", &table)]).unwrap();
    assert_eq!(kinds(&stacked.table), Some(Type::Date(Grain::Month.into())));
    let back = Table::from_batch(table.batch()).unwrap();
    assert_eq!(kinds(&back), Some(Type::Date(Grain::Month.into())));
}

#[test]
fn added_columns_are_named_before_the_sign() {
    let outcome =
        Add::new(["double = a * 2", "\"more than one\"=double > 2"]).apply(&table()).unwrap();
    assert_eq!(shown(&outcome.table), ["2|x|4|true", "|y||", "1||2|false", "2|w|4|true"]);
    for wrong in ["a * 2", "a >= 2", "= 3", "\"x\" 3", "two words = 3", "x == 3", "\"\" = 3"] {
        let error = Add::new([wrong]).check(&table().shape()).unwrap_err().to_string();
        assert!(error.contains("is not a new column"), "{wrong}: {error}");
    }
    assert!(
        Add::new(["a = 3"])
            .check(&table().shape())
            .unwrap_err()
            .to_string()
            .contains("already has a column `a`")
    );
}

#[test]
fn tables_are_stacked_by_the_names_of_their_columns() {
    let other = Table::from_columns([("c", integers(&[Some(9)])), ("a", decimals(55, 1))]).unwrap();
    let outcome = Stack::new().source("from").apply(&[("one", &table()), ("two", &other)]).unwrap();
    assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["a", "b", "c", "from"]);
    assert_eq!(
        shown(&outcome.table),
        ["2.0|x||one", "|y||one", "1.0|||one", "2.0|w||one", "5.5||9|two"]
    );
    assert_eq!([outcome.ledger.rows_in, outcome.ledger.count("from two")], [5, 1]);
    assert_eq!(outcome.ledger.count("columns missing from some tables"), 2);
}

#[rstest]
#[case::whole(integers(&[Some(1)]), integers(&[Some(2)]), Some((Type::Integer, "1", "2")))]
#[case::more_places(decimals(15, 1), decimals(125, 2), Some((Type::Decimal { places: 2 }, "1.50",
    "1.25")))]
#[case::widest(integers(&[Some(i64::MAX)]), decimals(5, 1), Some((Type::Decimal { places: 1 },
    "9223372036854775807.0", "0.5")))]
#[case::no_room(decimals(99_999_999_999_999_999, 0), decimals(1, 6),
    Some((Type::Decimal { places: 6 }, "99999999999999999.000000", "0.000001")))]
#[case::floats(integers(&[Some(1)]), Arc::new(Float64Array::from(vec![0.5])), Some((Type::Float,
    "1.0", "0.5")))]
#[case::moments(Arc::new(Date32Array::from(vec![1])),
    Arc::new(TimestampMicrosecondArray::from(vec![1_000_000])),
        Some((Type::Moment { instant: false }, "1970-01-02T00:00:00", "1970-01-01T00:00:01")))]
#[case::nothing(Arc::new(arrow_array::NullArray::new(1)), texts(&[Some("x")]), Some((Type::Text,
    "", "x")))]
#[case::clash(integers(&[Some(1)]), texts(&[Some("x")]), None)]
#[case::other_clash(Arc::new(Date32Array::from(vec![1])), integers(&[Some(1)]), None)]
fn types_are_unified_if_no_value_changes(
    #[case] one: ArrayRef,
    #[case] other: ArrayRef,
    #[case] expected: Option<(Type, &str, &str)>,
) {
    let [one, other] = [one, other].map(|array| Table::from_columns([("v", array)]).unwrap());
    let stacked = Stack::new().apply(&[("one", &one), ("two", &other)]);
    match expected {
        Some((kind, first, second)) => {
            let table = stacked.unwrap().table;
            assert_eq!(
                (table.shape().columns()[0].kind, shown(&table)),
                (Some(kind), vec![first.to_owned(), second.to_owned()])
            );
        }
        None => {
            let error = stacked.unwrap_err().to_string();
            assert!(
                error.starts_with("column `v` holds")
                    && error.contains(" in one and ")
                    && error.contains(" in two"),
                "{error}"
            );
        }
    }
}

proptest! {
    #[test]
    fn sorting_is_that_of_a_stable_sort(rows in prop::collection::vec((prop::option::of(0_i64..4),
        0_i64..3), 0..50), down in any::<bool>()) {
        let n: Vec<Option<i64>> = (0..rows.len() as i64).map(Some).collect();
        let columns = [
            ("a", integers(&rows.iter().map(|row| row.0).collect::<Vec<_>>())),
            ("b", integers(&rows.iter().map(|row| Some(row.1)).collect::<Vec<_>>())),
            ("n", integers(&n)),
        ];
        let table = Table::from_columns(columns).unwrap();
        let mut expected: Vec<usize> = (0..rows.len()).collect();
        expected.sort_by_key(|&row| {
            let a = rows[row].0.map(|a| if down { -a } else { a });
            (a.is_none(), a, rows[row].1)
        });
        let outcome = Sort::new([if down { "a:down" } else { "a" }, "b"]).apply(&table).unwrap();
        let order: Int64Array = expected.into_iter().map(|row| Some(row as i64)).collect();
        prop_assert_eq!(outcome.table.column("n").unwrap().to_data(), order.to_data());
    }
}

#[test]
fn a_column_whose_name_contains_the_word_for_renaming_can_be_renamed() {
    let rows = crate::sample::table("n:number\n7");
    let names = |list: &[&str], rows: &Table| {
        let outcome = Columns::new(list.iter().copied()).apply(rows).unwrap();
        outcome.table.names().map(str::to_owned).collect::<Vec<_>>()
    };
    let shown = Columns::new(["n as seen as new"]).apply(&rows).unwrap().table;
    assert_eq!(names(&["seen as new"], &shown), ["seen as new"]);
    assert_eq!(names(&["seen as new as old"], &shown), ["old"]);
}
