use super::*;
use arrow_array::{Array, ArrayRef, Date32Array, TimestampMicrosecondArray};
use proptest::prelude::*;
use rstest::rstest;

fn view(recent: &Recent, column: Grain, as_of: &str) -> String {
    let periods = Periods::from(column);
    let days = recent.view().and_then(|view| {
        view.expect_to_fit(&recent.date, periods)?;
        view.days(periods, as_of.parse()?)
    });
    days.map_or_else(|error| error.to_string(), |range| range.to_string())
}

fn span(text: &str) -> Span {
    text.parse().unwrap()
}

#[rstest]
#[case::one_day(Recent::last("d", span("1 day")), "2025-06-30..2025-06-30")]
#[case::a_week(Recent::last("d", span("7 days")), "2025-06-24..2025-06-30")]
#[case::months(Recent::last("d", span("9 months")), "2024-10-01..2025-06-30")]
#[case::iso(Recent::last("d", span("P1Y")), "2024-07-01..2025-06-30")]
#[case::both_ends(Recent::last("d", span("7 days")).both_ends(), "2025-06-23..2025-06-30")]
#[case::this_week(Recent::this("d", Grain::Week), "2025-06-30..2025-07-06")]
#[case::sunday(Recent::this("d", Grain::Week).week_start(Weekday::Sunday),
    "2025-06-29..2025-07-05")]
#[case::this_quarter(Recent::this("d", Grain::Quarter), "2025-04-01..2025-06-30")]
#[case::fiscal(Recent::this("d", Grain::Year).year_start(crate::calendar::Month::July),
    "2024-07-01..2025-06-30")]
#[case::previous(Recent::previous("d", 2, Grain::Quarter), "2024-10-01..2025-03-31")]
#[case::previous_day(Recent::previous("d", 1, Grain::Day), "2025-06-29..2025-06-29")]
#[case::range(Recent::range("d", "2025-01..2025-02".parse().unwrap()), "2025-01-01..2025-02-28")]
#[case::beyond(
    Recent::last("d", span("3000 years")),
    "-3000 years after 2025-06-30 is outside the years 0001 to 9999"
)]
#[case::no_grain(Recent::this("d", Grain::Hour), "`this` is hour: expected days or longer periods")]
#[case::nothing(
    Recent::with_defaults("d"),
    "`last` is not given: expected one of `last`, `this`, `previous` and `range`"
)]
#[case::two(Recent { this: Some(Grain::Day), ..Recent::last("d", span("1 day")) },
    "`last` cannot be used together with `this`")]
#[case::no_span(
    Recent::last("d", Span::default()),
    "`last` is 0 days: expected a span of at least a day"
)]
#[case::no_last(Recent::this("d", Grain::Day).both_ends(),
    "`both-ends` needs `last`")]
fn days_in_view(#[case] recent: Recent, #[case] expected: &str) {
    assert_eq!(view(&recent, Grain::Day, "2025-06-30"), expected);
}

#[rstest]
#[case(Recent::last("m", span("9 months")), Grain::Month, "2024-10-01..2025-06-30")]
#[case(Recent::last("m", span("9 months")).both_ends(), Grain::Month, "2024-09-01..2025-06-30")]
#[case(Recent::last("m", span("1 year")), Grain::Quarter, "2024-07-01..2025-06-30")]
#[case(Recent::last("m", span("2 weeks")), Grain::Week, "2025-06-02..2025-06-15")]
#[case(Recent::this("m", Grain::Quarter), Grain::Month, "2025-04-01..2025-06-30")]
#[case(
    Recent::this("m", Grain::Month),
    Grain::Week,
    "column `m` holds weeks, so it has no months. Ask for weeks"
)]
#[case(Recent::range("m", "2025-02-10..2025-03-05".parse().unwrap()), Grain::Month,
    "2025-02-01..2025-03-31")]
#[case(
    Recent::last("m", span("7 days")),
    Grain::Month,
    "column `m` holds months, so it has no 7 days. Ask for months"
)]
#[case(
    Recent::this("m", Grain::Week),
    Grain::Month,
    "column `m` holds months, so it has no weeks. Ask for months"
)]
#[case(
    Recent::last("m", span("1 month")),
    Grain::Quarter,
    "column `m` holds quarters, so it has no 1 month. Ask for quarters"
)]
fn in_columns_of_periods_a_day_is_first_converted_to_its_period(
    #[case] recent: Recent,
    #[case] column: Grain,
    #[case] expected: &str,
) {
    assert_eq!(view(&recent, column, "2025-06-15"), expected);
}

#[rstest]
#[case("2 quarters", Some((2, Grain::Quarter)))]
#[case("month", Some((1, Grain::Month)))]
#[case("0 months", None)]
#[case("two months", None)]
#[case("2 moons", None)]
fn whole_periods_are_a_number_and_a_grain(
    #[case] text: &str,
    #[case] expected: Option<(u32, Grain)>,
) {
    assert_eq!(text.parse::<Whole>().ok().map(|whole| (whole.count, whole.grain)), expected);
}

fn table(days: &[Option<i32>]) -> Table {
    Table::from_columns([(
        "d",
        Arc::new(days.iter().copied().collect::<Date32Array>()) as ArrayRef,
    )])
    .unwrap()
}

#[test]
fn a_table_without_dates_has_no_range() {
    for days in [&[][..], &[None, None]] {
        let outcome = Recent::this("d", Grain::Month).apply(&table(days)).unwrap();
        assert_eq!(
            (outcome.table.rows(), outcome.ledger.rows(Reason::NoDate)),
            (0, days.len() as u64)
        );
        assert!(outcome.ledger.view.is_none() && outcome.ledger.balances());
    }
}

#[test]
fn a_day_begins_and_ends_by_the_clocks_of_the_time_zone() {
    // In Lisbon, 2025-03-30 has the 23 hours from midnight to 23:00 UTC.
    let hours = (0..26).map(|hour| (20_177 * 24 + hour) * 3_600_000_000).collect::<Vec<i64>>();
    let at: ArrayRef = Arc::new(TimestampMicrosecondArray::from(hours).with_timezone("UTC"));
    let table = Table::from_columns([("at", at)]).unwrap();
    let context =
        Context::new().as_of("2025-03-30".parse().unwrap()).zone("Europe/Lisbon".parse().unwrap());
    let outcome = Recent::last("at", span("1 day")).apply_with(&table, &context).unwrap();
    assert_eq!(outcome.table.rows(), 23);
    assert_eq!(outcome.ledger.zone.as_deref(), Some("Europe/Lisbon"));
}

proptest! {
    #[test]
    fn rows_in_the_range_are_kept_and_the_others_accounted_for(
        days in prop::collection::vec(prop::option::of(0_i32..400), 0..80),
        last in 1_i32..200,
        as_of in prop::option::of(0_i32..400),
    ) {
        let context = Context { as_of: as_of.and_then(Day::from_number), ..Context::new() };
        let recent = Recent::last("d", Span::days(last));
        let outcome = recent.apply_with(&table(&days), &context).unwrap();
        let end = as_of.or(days.iter().flatten().max().copied()).unwrap_or(0);
        let in_view = |day: i32| day > end - last && day <= end;
        let expected: Vec<i32> = days.iter().flatten().copied().filter(|&day| in_view(day))
            .collect();
        prop_assert_eq!(outcome.table.columns()[0].to_data(),
            Date32Array::from(expected.clone()).to_data());
        prop_assert!(outcome.ledger.balances());
        prop_assert_eq!(outcome.ledger.rows(Reason::NoDate) as usize,
            days.iter().filter(|day| day.is_none()).count());
        let marked = recent.mark("m").apply_with(&table(&days), &context).unwrap();
        prop_assert_eq!(marked.ledger.count("rows marked") as usize, expected.len());
    }
}

#[test]
fn months_that_a_range_of_days_cuts_count_as_a_whole() {
    let rows = crate::sample::table("m:date\n2024-01\n2024-02\n2024-03");
    let outcome =
        Recent::range("m", "2024-01-10..2024-02-15".parse().unwrap()).apply(&rows).unwrap();
    assert_eq!(crate::sample::shown(&outcome.table), ["2024-01", "2024-02"]);
    let ledger = outcome.ledger.to_string();
    assert!(ledger.contains("covers only part of 2024-01 and 2024-02, which count"), "{ledger}");
}
