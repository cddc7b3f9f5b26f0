use super::*;
use crate::arrow::{
    ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array,
    StringViewArray, TimestampMicrosecondArray,
};
use rstest::rstest;
use std::sync::Arc;

fn of(column: ArrayRef, what: What) -> String {
    let table = Table::from_columns([("c", column)]).unwrap();
    Quantity { what, column: Some("c".to_owned()) }.compute(&table).unwrap().text
}

fn days(days: &[&str]) -> ArrayRef {
    let number = |day: &&str| (!day.is_empty()).then(|| day.parse::<Day>().unwrap().number());
    Arc::new(Date32Array::from(days.iter().map(number).collect::<Vec<_>>()))
}

#[test]
fn figures_skip_missing_values() {
    let numbers = || Arc::new(Int64Array::from(vec![Some(1_200), None, Some(34)])) as ArrayRef;
    let figures =
        [What::Sum, What::Mean, What::Min, What::Max, What::Distinct, What::First, What::Last];
    assert_eq!(
        figures.map(|what| of(numbers(), what)),
        ["1,234", "617", "34", "1,200", "2", "1,200", "34"]
    );
    let table = Table::from_columns([("c", numbers())]).unwrap();
    assert_eq!(Quantity { what: What::Rows, column: None }.compute(&table).unwrap().text, "3");
}

#[test]
fn figures_of_no_rows_are_zero_or_have_no_value() {
    let none = || Arc::new(Int64Array::from(Vec::<i64>::new())) as ArrayRef;
    assert_eq!(of(none(), What::Sum), "0");
    for what in [What::Mean, What::Min, What::Max, What::First, What::Last] {
        assert_eq!(of(none(), what), NO_VALUE);
    }
    assert_eq!(of(Arc::new(Int64Array::from(vec![None, Some(1)])), What::First), NO_VALUE);
}

#[test]
fn dates_are_written_as_in_a_sentence() {
    let dates = || days(&["2024-02-29", "", "0001-01-01", "9999-12-31"]);
    assert_eq!(of(dates(), What::Newest), "31 December 9999");
    assert_eq!(of(dates(), What::Oldest), "1 January 1");
    assert_eq!(of(dates(), What::First), "29 February 2024");
    let moment = |zone: bool| {
        let array = TimestampMicrosecondArray::from(vec![1_751_292_300_000_000]);
        let array = if zone { array.with_timezone("UTC") } else { array };
        of(Arc::new(array), What::Max)
    };
    assert_eq!([false, true].map(moment), ["30 June 2025, 14:05", "30 June 2025, 14:05 UTC"]);
}

#[rstest]
#[case(Grain::Year, "2025")]
#[case(Grain::Quarter, "2025-Q2")]
#[case(Grain::Month, "June 2025")]
#[case(Grain::Week, "2025-W27")]
#[case(Grain::Day, "30 June 2025")]
fn periods_have_their_labels(#[case] grain: Grain, #[case] text: &str) {
    let table = Table::from_columns([("day", days(&["2025-06-30"]))]).unwrap();
    let totals = Totals::new().date(["day"]).grain(grain).apply(&table).unwrap().table;
    let newest = Quantity { what: What::Newest, column: Some(grain.word().to_owned()) };
    assert_eq!(newest.compute(&totals).unwrap().text, text);
}

#[rstest]
#[case::decimal(
    Arc::new(Decimal128Array::from(vec![123_456_700]).with_precision_and_scale(38, 2).unwrap()),
    "1,234,567.00"
)]
#[case::float(Arc::new(Float64Array::from(vec![1_234.567_89])), "1,234.57")]
#[case::text(Arc::new(StringViewArray::from(vec!["<b>\u{0}"])), "<b>\\u{0}")]
#[case::truth(Arc::new(BooleanArray::from(vec![true])), "true")]
fn values_have_group_separators_and_few_digits(#[case] column: ArrayRef, #[case] text: &str) {
    assert_eq!(of(column, What::First), text);
}

#[rstest]
#[case(1.0, 4.0, "25%")]
#[case(3.0, 70.0, "4.3%")]
#[case(4.0, 700.0, "0.57%")]
#[case(0.0, 9.0, "0%")]
#[case(9.0, 9.0, "100%")]
#[case::not_all(997.0, 1_000.0, "99.7%")]
#[case::almost_all(99_996.0, 100_000.0, "99.996%")]
#[case::more_than_all(1_004.0, 1_000.0, "100.4%")]
#[case::hardly_any(1.0, 1e9, "less than 0.01%")]
#[case::negative(-1.0, 3.0, "-33%")]
#[case::many(123.0, 1.0, "12,300%")]
#[case::of_nothing(1.0, 0.0, NO_VALUE)]
#[case::nothing_of_nothing(0.0, 0.0, NO_VALUE)]
fn a_share_has_two_digits_and_a_part_is_never_the_whole(
    #[case] part: f64,
    #[case] whole: f64,
    #[case] text: &str,
) {
    assert_eq!(percent(part, whole), text);
}
