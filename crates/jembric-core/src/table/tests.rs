//! What tables accept and refuse, and the messages.

use super::*;
use crate::{calendar::Grain, message::nearest};
use arrow_array::{
    DictionaryArray, Float32Array, Int32Array, Int64Array, ListArray, NullArray, StringArray,
    StringViewArray, TimestampNanosecondArray, UInt64Array,
    types::{Int32Type, Int64Type},
};
use rstest::rstest;

fn one(array: impl Array + 'static) -> Result<Table> {
    Table::from_columns([("it", Arc::new(array) as ArrayRef)])
}

#[rstest]
#[case(Int32Array::from(vec![1]), Type::Integer)]
#[case(UInt64Array::from(vec![1]), Type::Integer)]
#[case(Float32Array::from(vec![1.5]), Type::Float)]
#[case(StringArray::from(vec!["a"]), Type::Text)]
#[case(vec!["a"].into_iter().collect::<DictionaryArray<Int32Type>>(), Type::Text)]
#[case(TimestampNanosecondArray::from(vec![1_000]), Type::Moment { instant: false })]
#[case(TimestampNanosecondArray::from(vec![1_000]).with_timezone("+02:00"),
    Type::Moment { instant: true })]
#[case(NullArray::new(1), Type::Nothing)]
fn other_arrow_types_are_widened(#[case] array: impl Array + 'static, #[case] kind: Type) {
    assert_eq!(one(array).unwrap().shape().columns()[0].kind, Some(kind));
}

#[rstest]
#[case(one(ListArray::from_iter_primitive::<Int64Type, _, _>([Some([Some(1)])])),
    "column `it` has the Arrow type List(Int64), which is not supported. Convert it to numbers, \
        text, dates or timestamps")]
#[case(one(Date32Array::from(vec![0, 2_932_897])),
    "column `it`, row 2: the date is outside the years 0001 to 9999")]
#[case(one(TimestampMicrosecondArray::from(vec![i64::MIN])),
    "column `it`, row 1: the date is outside the years 0001 to 9999")]
#[case(one(UInt64Array::from(vec![u64::MAX])),
    "Arrow reported an error: Cast error: Can't cast value 18446744073709551615 to type Int64")]
#[case(Table::from_columns([("a", Arc::new(NullArray::new(1)) as ArrayRef), ("a",
    Arc::new(NullArray::new(1)))]), "two columns are named `a`. The names of columns must differ: \
        rename one")]
#[case(Table::from_columns([("a", Arc::new(NullArray::new(1)) as ArrayRef), ("b",
    Arc::new(NullArray::new(2)))]), "column `b` has 2 rows, but the columns before it have 1")]
fn invalid_tables_are_refused(#[case] table: Result<Table>, #[case] message: &str) {
    assert_eq!(table.unwrap_err().to_string(), message);
}

#[test]
fn nan_is_missing_and_counted_and_minus_zero_is_zero() {
    let table = one(Float64Array::from(vec![Some(f64::NAN), Some(-0.0), None])).unwrap();
    let floats = table.column("it").unwrap().as_primitive::<Float64Type>();
    assert_eq!(
        (table.not_numbers(), floats.null_count(), floats.value(1).is_sign_positive()),
        (1, 2, true)
    );
}

#[rstest]
#[case("Inspected On", &["inspected_on"])]
#[case("vesel", &["vessel"])]
#[case("inspected", &["inspected_on", "inspector"])]
#[case("zzz", &[])]
fn the_nearest_name_is_the_one_that_was_meant(#[case] wanted: &str, #[case] expected: &[&str]) {
    assert_eq!(
        nearest(wanted, ["vessel", "inspected_on", "inspector", "note"].into_iter()),
        expected
    );
}

#[test]
fn rows_know_their_lines() {
    let mut origin = Origin::new("a.csv", 2);
    origin.jump(2, 7);
    origin.jump(5, 12);
    assert_eq!([0, 1, 2, 4, 5, 6].map(|row| origin.line(row)), [2, 3, 7, 9, 12, 13]);
}

#[test]
fn a_table_is_found_by_its_names_and_grows_by_new_ones() {
    let table = one(Int64Array::from(vec![1, 2])).unwrap();
    assert!(table.with_column("it", Arc::new(NullArray::new(2))).is_err());
    let wider = table.with_column("more", Arc::new(NullArray::new(2))).unwrap();
    assert_eq!(wider.names().collect::<Vec<_>>(), ["it", "more"]);
    let taken = wider.take(&UInt32Array::from(vec![1, 1, 0])).unwrap();
    assert_eq!(taken.column("it").unwrap().as_primitive::<Int64Type>().values(), &[2, 2, 1]);
}

#[test]
fn periods_are_their_first_days_also_in_arrow() {
    let days: ArrayRef = Arc::new(Date32Array::from(vec![Some(0), None, Some(31)]));
    let table = Table::from_columns([("m", days)]).unwrap();
    let months = table.with_periods("m", Grain::Month).unwrap();
    assert_eq!(months.shape().columns()[0].kind, Some(Type::Date(Grain::Month.into())));
    let back = Table::from_batch(months.batch()).unwrap();
    assert_eq!(back.shape(), months.shape());
    insta::assert_snapshot!(
        table.with_periods("m", Grain::Quarter).unwrap_err(),
        @"column `m` holds quarters, but row 3 is 1970-02-01, which is not the first day of a \
            quarter"
    );
    let other: Vec<(&str, ArrayRef)> = vec![
        ("at", Arc::new(TimestampMicrosecondArray::from(vec![0]))),
        ("none", Arc::new(NullArray::new(1))),
        ("n", Arc::new(Int64Array::from(vec![1]))),
    ];
    let other = Table::from_columns(other).unwrap();
    assert_eq!(other.with_periods("none", Grain::Month).unwrap().shape(), other.shape());
    for name in ["at", "n", "nn"] {
        assert!(other.with_periods(name, Grain::Month).is_err(), "{name}");
    }
}

#[rstest]
#[case::in_order(&[2, 3, 4, 9, 10], &[2, 3, 4])]
#[case::descending(&[9, 7, 5, 3, 2], &[2, 3, 5])]
#[case::kept_rows_before_a_batch(&[6, 7, 8, 9, 2, 3], &[2, 3, 6])]
#[case::segments_that_overlap(&[2, 3, 4, 5, 4, 5], &[2, 3, 4])]
fn the_least_lines_of_rows_in_any_order(#[case] lines: &[u64], #[case] least: &[u64]) {
    let origin = Origin::new("a.csv", 2).of_lines(lines.iter().copied());
    assert_eq!(origin.least_lines(0..lines.len(), 3), least);
}

#[test]
fn texts_of_many_batches_are_together() {
    let long = |n: usize| format!("a vessel with a long name, number {n}");
    let batch = |n: usize| {
        let texts: ArrayRef = Arc::new(StringViewArray::from(vec![long(n), "short".to_owned()]));
        Table::from_columns([("vessel", texts)]).unwrap().with_origin(Origin::new("v.csv", 2))
    };
    let batches: Vec<Table> = (0..40).map(batch).collect();
    let joined = Table::joined(&batches[0], &batches[1..]).unwrap();
    let together = joined.with_own_texts().unwrap();
    assert_eq!(together, joined);
    assert_eq!(together.origin().unwrap().file(), "v.csv");
    let buffers = |table: &Table| table.at(0).as_string_view().data_buffers().len();
    assert_eq!((buffers(&joined), buffers(&together)), (40, 1));
}
