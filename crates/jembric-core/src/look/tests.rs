//! Each rule of what looks wrong, and that it is silent if nothing does.

use super::*;
use crate::table::Origin;
use arrow_array::{Date32Array, StringViewArray};
use rstest::rstest;
use std::sync::Arc;

fn text(cells: &[&str]) -> ArrayRef {
    Arc::new(
        cells.iter().map(|cell| (!cell.is_empty()).then_some(*cell)).collect::<StringViewArray>(),
    )
}

fn dates(days: &[i32]) -> ArrayRef {
    Arc::new(Date32Array::from(days.to_vec()))
}

fn look(columns: Vec<(&str, ArrayRef)>) -> Look {
    let table = Table::from_columns(columns).unwrap().with_origin(Origin::new("stays.csv", 2));
    Look::at(&table).unwrap()
}

const TWENTY: [i32; 20] = [
    20_000, 20_001, 20_002, 20_003, 20_004, 20_005, 20_006, 20_007, 20_008, 20_009, 20_010, 20_011,
    20_012, 20_013, 20_014, 20_015, 20_016, 20_017, 20_018, 20_019,
];

#[test]
fn a_column_is_described_by_exact_facts() {
    let look = look(vec![
        ("vessel", text(&["Petrel", "", "Bolt Head", "Petrel"])),
        ("day", dates(&[20_003, 20_000, 20_003, 20_010])),
    ]);
    let [vessel, day] = &look.columns[..] else { panic!("two columns") };
    assert_eq!(
        (vessel.missing, vessel.distinct, vessel.least.as_str(), vessel.greatest.as_str()),
        (1, 2, "Bolt Head", "Petrel")
    );
    assert_eq!((day.least.as_str(), day.greatest.as_str()), ("2024-10-04", "2024-10-14"));
    assert_eq!(day.dates.unwrap().without, 8);
    let go_on = look.go_on.unwrap();
    assert_eq!((go_on.per.as_deref(), go_on.date.as_str()), (Some("vessel"), "day"));
    assert_eq!(go_on.interval, None);
    assert_eq!(look.findings, []);
}

#[rstest]
#[case::reversed(vec![("arrived", dates(&TWENTY)), ("left",
    dates(&{ let mut left = TWENTY.map(|day| day + 3); left[4] -= 5; left }))],
        &["`left` is before `arrived` in 1 row: line 6"])]
#[case::far(vec![("day", dates(&{ let mut days = TWENTY; days[0] = 2_932_896; days }))],
    &["1 date in `day` lies far outside 2024-10-05..2024-10-23: line 2 9999-12-31"])]
#[case::blanks(vec![("vessel", text(&["Petrel", "petrel", "Bolt  Head", "Bolt Head "]))],
    &["2 values differ in `vessel` only by case or blanks: `Bolt  Head` / `Bolt Head `, `Petrel` \
        / `petrel`"])]
#[case::twice(vec![("vessel", text(&["Petrel", "Tern", "Petrel", "", ""]))],
    &["2 rows repeat earlier ones in every column: line 4, line 6"])]
#[case::nearly(vec![("day", text(&["2025-06-30", "2025-06-31", "2025-07-01"]))],
    &["stays.csv: column `day` cannot be used as dates: 1 of its 3 values is not a date (line 3 \
        `2025-06-31` (June 2025 has 30 days)). Correct these cells, mark them as missing \
        (`Reading::missing`), or give the format of the dates (`Reading::read`)"])]
#[case::no_number(vec![("level", text(&["3.1", "-", "2.9", "0"]))],
    &["`level` is read as text, because 1 of its 4 values is not a number (line 3 `-`). If `-` \
        means that there is no value, use `Reading::missing([\"-\"])`"])]
#[case::names(vec![("code", text(&["00417", "+44", "3"]))], &[])]
#[case::nothing_wrong(vec![("arrived", dates(&TWENTY)), ("left", dates(&TWENTY))], &[])]
fn findings_have_their_places(#[case] columns: Vec<(&str, ArrayRef)>, #[case] expected: &[&str]) {
    let findings: Vec<String> = look(columns).findings.iter().map(Finding::to_string).collect();
    assert_eq!(findings, expected);
}

#[test]
fn a_table_without_rows_or_columns_can_be_looked_at() {
    assert_eq!(look(vec![("day", dates(&[]))]).go_on, None);
    assert_eq!(look(vec![]).columns, []);
}

proptest::proptest! {
    #[test]
    fn facts_agree_with_a_plain_count(
        cells in proptest::collection::vec(proptest::option::of(19_990_i32..20_010), 0..50),
    ) {
        let column: ArrayRef = Arc::new(Date32Array::from(cells.clone()));
        let look = look(vec![("day", column)]);
        let values: std::collections::BTreeSet<i32> = cells.iter().flatten().copied().collect();
        let text = |day: Option<&i32>| day.and_then(|&day| Day::from_number(day)).map(|day| day
            .to_string()).unwrap_or_default();
        let of = &look.columns[0];
        proptest::prop_assert_eq!(of.missing as usize,
            cells.iter().filter(|cell| cell.is_none()).count());
        proptest::prop_assert_eq!(of.distinct as usize, values.len());
        proptest::prop_assert_eq!(&of.least, &text(values.first()));
        proptest::prop_assert_eq!(&of.greatest, &text(values.last()));
        let without = values.first().zip(values.last()).map(|(first,
            last)| (last - first + 1) as usize - values.len());
        proptest::prop_assert_eq!(of.dates.map(|dates| dates.without as usize), without);
        let repeated = cells.len() - values.len() - usize::from(cells.contains(&None));
        let found = look.findings.iter().find_map(|finding| match finding {
            Finding::DuplicateRows { rows, .. } => Some(*rows as usize),
            _ => None,
        });
        proptest::prop_assert_eq!(found.unwrap_or(0), repeated);
    }
}

#[test]
fn an_ambiguous_order_of_day_and_month_is_a_finding() {
    let look = look(vec![("day", text(&["03/04/2025", "05/06/2025"]))]);
    let [Finding::NotQuiteDates { column, why }] = &look.findings[..] else {
        panic!("{:?}", look.findings)
    };
    assert_eq!(column, "day");
    assert!(format!("{why:?}").contains("line: Some(2), text: \"03/04/2025\""), "{why:?}");
    assert_eq!(look.go_on, None);
}

#[test]
fn moments_are_looked_at_by_their_days() {
    let noon = |day: i64| day * MICROS_PER_DAY + MICROS_PER_DAY / 2;
    let moments = arrow_array::TimestampMicrosecondArray::from(vec![
        noon(20_000),
        noon(20_000) + 1,
        noon(20_002),
    ]);
    let look = look(vec![("at", Arc::new(moments.with_timezone("UTC")))]);
    assert_eq!(
        (look.columns[0].least.as_str(), look.columns[0].distinct),
        ("2024-10-04T12:00Z", 3)
    );
    let dates = look.columns[0].dates.unwrap();
    assert_eq!((dates.periods, dates.without), (3, 1));
}

#[test]
fn the_suggested_entity_is_a_column_that_repeats() {
    let numbers: ArrayRef = Arc::new(arrow_array::Int64Array::from(vec![1, 1, 2, 2]));
    let suggested = |columns| look(columns).go_on.unwrap();
    let unique = text(&["a", "b", "c", "d"]);
    let days = dates(&[20_000, 20_001, 20_002, 20_003]);
    let go_on = suggested(vec![("stay", unique.clone()), ("day", days.clone())]);
    assert_eq!((go_on.per, go_on.date), (None, "day".to_owned()));
    let go_on = suggested(vec![("stay", unique), ("crane", numbers), ("day", days)]);
    assert_eq!((go_on.per, go_on.date), (Some("crane".to_owned()), "day".to_owned()));
}

#[test]
fn a_look_at_batches_of_two_shapes_is_an_error() {
    let table = |name: &str| Table::from_columns([(name, dates(&[20_000]))]).unwrap();
    let (mut one, mut other) = (LookFold::default(), LookFold::default());
    one.take(&table("day"), 0).unwrap();
    other.take(&table("left"), 1).unwrap();
    let expected = "the operation was prepared for column `day` of dates, but it was given \
        column `left` of dates";
    assert!(one.take(&table("left"), 1).unwrap_err().to_string().starts_with(expected));
    assert!(one.merge(other).unwrap_err().to_string().starts_with(expected));
    let nothing = LookFold::default().finish().unwrap();
    assert_eq!((nothing.rows, nothing.columns, nothing.findings), (0, Vec::new(), Vec::new()));
}

#[rstest]
// Of two columns of dates, the one that is hardly ever later is the start.
#[case(&[20_000, 20_010, 20_020], &[20_005, 20_010, 20_025], Some(("one", "other")))]
#[case(&[20_005, 20_010, 20_025], &[20_000, 20_010, 20_020], Some(("other", "one")))]
// One of three rows is reversed, which is too many.
#[case(&[20_000, 20_010, 20_020], &[20_005, 20_000, 20_025], None)]
// Dates that are equal everywhere have no order.
#[case(&[20_000, 20_010], &[20_000, 20_010], None)]
fn two_date_columns_in_order_are_the_bounds_of_intervals(
    #[case] one: &[i32],
    #[case] other: &[i32],
    #[case] interval: Option<(&str, &str)>,
) {
    let go_on = look(vec![("one", dates(one)), ("other", dates(other))]).go_on.unwrap();
    let found = go_on.interval.as_ref().map(|(start, end)| (start.as_str(), end.as_str()));
    assert_eq!(found, interval);
}

#[rstest]
#[case(dates(&[20_089, 20_120, 20_148]), Some(Grain::Month))]
#[case(dates(&[20_089, 20_179, 20_270]), Some(Grain::Quarter))]
#[case(dates(&[19_723, 20_089, 20_454]), Some(Grain::Year))]
#[case(dates(&[20_089, 20_120, 20_149]), None)]
// Two months are too few to tell.
#[case(dates(&[20_089, 20_120]), None)]
#[case(text(&["Jan 2025", "Feb 2025", "Mar 2025"]), Some(Grain::Month))]
#[case(text(&["Q1 2025", "Q2 2025", "Q3 2025"]), Some(Grain::Quarter))]
#[case(text(&["Jan 2025", "Feb 2025", "later"]), None)]
#[case(Arc::new(arrow_array::Int64Array::from(vec![202_501, 202_502, 202_503])),
    Some(Grain::Month))]
#[case(Arc::new(arrow_array::Int64Array::from(vec![202_501, 202_502, 202_513])), None)]
#[case(Arc::new(arrow_array::Int64Array::from(vec![1, 2, 3])), None)]
fn columns_that_look_like_periods_are_named_with_their_grain(
    #[case] column: ArrayRef,
    #[case] expected: Option<Grain>,
) {
    let look = look(vec![("period", column)]);
    let found = look.findings.iter().find_map(|finding| match finding {
        Finding::Periods { grain, .. } => Some(*grain),
        _ => None,
    });
    assert_eq!(found, expected, "{:?}", look.findings);
}
