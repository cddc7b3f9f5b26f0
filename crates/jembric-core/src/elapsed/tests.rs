use super::*;
use crate::calendar::notation;
use arrow_array::{Date32Array, TimestampMicrosecondArray};
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;

fn days(name: &str, texts: &[Option<&str>]) -> (String, ArrayRef) {
    let day = |text: &str| text.parse::<Day>().unwrap().number();
    (name.to_owned(), Arc::new(texts.iter().map(|text| text.map(day)).collect::<Date32Array>()))
}

fn moments(name: &str, text: &str, instants: bool) -> (String, ArrayRef) {
    let written = notation::read(text.as_bytes()).unwrap();
    let array = TimestampMicrosecondArray::from(vec![written.micros(notation::Order::DayFirst)]);
    (name.to_owned(), Arc::new(if instants { array.with_timezone("UTC") } else { array }))
}

fn context() -> Context {
    let day = |text: &str| text.parse().unwrap();
    Context::new()
        .as_of(day("2025-06-30"))
        .today(day("2025-07-01"))
        .zone("Europe/Lisbon".parse().unwrap())
}

fn column(outcome: &Outcome, name: &str) -> Vec<String> {
    let array = outcome.table.column(name).unwrap();
    (0..array.len()).map(|row| array_value_to_string(array, row).unwrap()).collect()
}

#[rstest]
#[case(Unit::Days, false, "2025-01-31", "2025-02-28", "28")]
#[case(Unit::Days, true, "2025-01-31", "2025-01-31", "1")]
#[case(Unit::Days, true, "2025-02-01", "2025-01-31", "-2")]
#[case(Unit::Weeks, false, "2025-01-01", "2025-01-14", "1")]
#[case(Unit::Weeks, true, "2025-01-01", "2025-01-14", "2")]
#[case(Unit::Months, false, "2025-01-31", "2025-02-28", "1")]
#[case(Unit::Months, false, "2025-01-31", "2025-02-27", "0")]
#[case(Unit::Months, true, "2025-01-01", "2025-01-31", "1")]
#[case(Unit::Years, false, "2024-02-29", "2025-02-28", "1")]
#[case(Unit::Years, false, "2025-02-28", "2024-02-29", "-1")]
#[case(Unit::Years, true, "9999-01-01", "9999-12-31", "1")]
#[case(Unit::Workdays, false, "2025-04-17", "2025-04-22", "1")]
#[case(Unit::Workdays, true, "2025-04-17", "2025-04-22", "2")]
#[case(Unit::Workdays, false, "2025-04-22", "2025-04-17", "-1")]
#[case(Unit::Hours, false, "2025-03-30", "2025-03-31", "24.0")]
fn from_one_date_to_another(
    #[case] unit: Unit,
    #[case] both_ends: bool,
    #[case] from: &str,
    #[case] to: &str,
    #[case] expected: &str,
) {
    let table = Table::from_columns([days("a", &[Some(from)]), days("b", &[Some(to)])]).unwrap();
    let mut elapsed = Elapsed::between("a", "b").unit(unit).name("e");
    elapsed.both_ends = both_ends;
    if unit == Unit::Workdays {
        // Good Friday and Easter Monday.
        elapsed =
            elapsed.holidays(["2025-04-18", "2025-04-21"].map(|day| day.parse().unwrap()).to_vec());
    }
    assert_eq!(column(&elapsed.apply(&table).unwrap(), "e"), [expected]);
}

#[rstest]
#[case::missing("a", "b", &[Some("10"), None, None], 2, 0)]
#[case::as_of("a", "as-of", &[Some("150"), Some("-1"), None], 1, 1)]
#[case::today("as-of", "today", &[Some("1"), Some("1"), Some("1")], 0, 0)]
#[case::a_date("2025-01-01", "a", &[Some("30"), Some("181"), None], 1, 0)]
fn either_end_is_a_column_or_one_date_for_all(
    #[case] from: &str,
    #[case] to: &str,
    #[case] expected: &[Option<&str>],
    #[case] missing: u64,
    #[case] negative: u64,
) {
    let a = days("a", &[Some("2025-01-31"), Some("2025-07-01"), None]);
    let table = Table::from_columns([a, days("b", &[Some("2025-02-10"), None, None])]).unwrap();
    let outcome = Elapsed::between(from, to).apply_with(&table, &context()).unwrap();
    let expected: Vec<&str> = expected.iter().map(|text| text.unwrap_or("")).collect();
    assert_eq!(column(&outcome, "elapsed_days"), expected);
    let counts = [
        "rows without both dates",
        "negative \
        values",
    ]
    .map(|name| outcome.ledger.count(name));
    assert_eq!(counts, [missing, negative]);
    assert_eq!(outcome.ledger.as_of.is_some(), [from, to].contains(&"as-of"));
}

// On 2025-03-30 the clocks of Lisbon skip an hour.
#[rstest]
#[case::readings("2025-03-29T12:00", "2025-03-30T12:30", false, Unit::Hours, "24.5")]
#[case::instants("2025-03-29T12:00", "2025-03-30T11:30", true, Unit::Hours, "23.5")]
#[case::days_of_the_zone("2025-03-29T23:30", "2025-03-30T23:30", true, Unit::Days, "2")]
#[case::days_of_readings("2025-03-29T23:30", "2025-03-30T00:30", false, Unit::Days, "1")]
fn moments_are_exact_in_hours_and_become_days(
    #[case] from: &str,
    #[case] to: &str,
    #[case] instants: bool,
    #[case] unit: Unit,
    #[case] expected: &str,
) {
    let table =
        Table::from_columns([moments("a", from, instants), moments("b", to, instants)]).unwrap();
    let outcome =
        Elapsed::between("a", "b").unit(unit).name("e").apply_with(&table, &context()).unwrap();
    assert_eq!(column(&outcome, "e"), [expected]);
    assert_eq!(outcome.ledger.zone.is_some(), instants);
}

#[test]
fn a_day_among_points_in_time_is_its_midnight_in_the_time_zone() {
    let columns = [
        moments("a", "2025-07-01T12:00", true),
        moments("b", "2025-07-01T12:00", false),
        days("d", &[Some("2025-07-02")]),
    ];
    let table = Table::from_columns(columns).unwrap();
    let hours = |from: &str, to: &str| {
        let elapsed = Elapsed::between(from, to).unit(Unit::Hours).name("e");
        column(&elapsed.apply_with(&table, &context()).unwrap(), "e")[0].clone()
    };
    assert_eq!(["a", "b"].map(|from| hours(from, "d")), ["11.0", "12.0"]);
    assert_eq!(hours("a", "b"), "-1.0");
}

#[test]
fn periods_cannot_be_counted_in_a_finer_unit() {
    let columns =
        [days("month", &[Some("2025-01-01"), None]), days("quarter", &[Some("2025-04-01"); 2])];
    let table = Table::from_columns(columns).unwrap().with_periods("month", Grain::Month).unwrap();
    let table = table.with_periods("quarter", Grain::Quarter).unwrap();
    let elapsed = |from: &str, to: &str, unit| {
        Elapsed::between(from, to).unit(unit).name("e").apply_with(&table, &context())
    };
    assert_eq!(column(&elapsed("month", "as-of", Unit::Months).unwrap(), "e"), ["5", ""]);
    assert_eq!(column(&elapsed("month", "quarter", Unit::Years).unwrap(), "e"), ["0", ""]);
    insta::assert_snapshot!(
        elapsed("month", "as-of", Unit::Days).unwrap_err(),
        @"column `month` or `as-of` holds months, so it has no days. Ask for months"
    );
    assert!(elapsed("month", "quarter", Unit::Months).is_err());
}

#[test]
fn bands_are_named_by_their_numbers_and_sort_by_them() {
    let from = days(
        "d",
        &[
            Some("2025-06-30"),
            Some("2025-03-01"),
            Some("2025-06-20"),
            None,
            Some("2025-07-05"),
            Some("2025-05-31"),
        ],
    );
    let table = Table::from_columns([from]).unwrap();
    let banded = Elapsed::between("d", "as-of")
        .bands([0, 1, 30, 90])
        .apply_with(&table, &context())
        .unwrap();
    assert_eq!(column(&banded, "elapsed_days_band"), ["0", "90+", "1-29", "", "under 0", "30-89"]);
    let sorted = crate::Sort::new(["elapsed_days_band:down"]).apply(&banded.table).unwrap();
    assert_eq!(column(&sorted, "elapsed_days_band"), ["90+", "30-89", "1-29", "0", "under 0", ""]);
    assert_eq!(band_labels(&[-30, 0, 30]), ["under -30", "-30 to -1", "0-29", "30+"]);
}

#[rstest]
#[case(Elapsed { to: None, ..Elapsed::between("d", "d") }, "`to` is not given")]
#[case(Elapsed::between("dd", "as-of"), "there is no column `dd`")]
#[case(Elapsed::between("d", "d").bands([0, 30, 30]), "`bands` is 0,30,30")]
#[case(Elapsed::between("d", "d").unit(Unit::Hours).both_ends(),
    "`both-ends` cannot be used together with `unit` hours")]
#[case(Elapsed::between("d", "d").holidays(vec![Day::MIN]), "`holidays` needs `unit` workdays")]
#[case(Elapsed { date: None, ..Elapsed::since_previous("d") }, "`since-previous` needs `date`")]
#[case(Elapsed { since_previous: true, ..Elapsed::between("d", "d") },
    "`since-previous` cannot be used together with `from` and `to`")]
#[case(Elapsed::between("d", "d").per(["d"]),
    "`per` needs `since-previous`. Without it, use `from` and `to`")]
#[case(Elapsed::between("d", "d").name("d"),
    "the table already has a column `d`: choose another name")]
fn invalid_settings_are_refused(#[case] elapsed: Elapsed, #[case] begins: &str) {
    let table = Table::from_columns([days("d", &[Some("2025-01-01")])]).unwrap();
    let error = elapsed.apply(&table).unwrap_err().to_string();
    assert!(error.starts_with(begins), "{error}");
}

#[test]
fn missing_information_is_an_error() {
    let table = Table::from_columns([days("d", &[Some("2025-01-01")])]).unwrap();
    let errors = ["as-of", "today"]
        .map(|to| Elapsed::between("d", to).apply(&table).unwrap_err().to_string());
    assert!(
        errors[0].contains("`Context::as_of`, 2025-06-30") && errors[1].contains("`today`"),
        "{errors:?}"
    );
}

proptest! {
    #[test]
    fn reversed_dates_give_the_negative_result(
        rows in prop::collection::vec((-800_000_i32..2_900_000, -3_000_i32..3_000), 1..30),
        both_ends in any::<bool>(),
    ) {
        let column = |of: &dyn Fn(&(i32,
            i32)) -> i32| -> ArrayRef { Arc::new(Date32Array::from_iter_values(rows.iter()
                .map(of))) };
        let clamped = |day: i32| day.clamp(Day::MIN.number(), Day::MAX.number());
        let table = Table::from_columns([
            ("a", column(&|row| clamped(row.0))),
            ("b", column(&|row| clamped(row.0 + row.1))),
        ]).unwrap();
        for unit in [Unit::Days, Unit::Weeks, Unit::Months, Unit::Years, Unit::Workdays] {
            let elapsed = |from: &str, to: &str| {
                let mut elapsed = Elapsed::between(from, to).unit(unit).name("e");
                elapsed.both_ends = both_ends;
                elapsed
            };
            let there = elapsed("a", "b").apply(&table).unwrap();
            let back = elapsed("b", "a").apply(&table).unwrap();
            let numbers = |outcome: &Outcome| outcome.table.column("e").unwrap()
                .as_primitive::<Int64Type>().values().to_vec();
            let negated: Vec<i64> = numbers(&back).iter().map(|number| -number).collect();
            for ((there, back), row) in numbers(&there).into_iter().zip(negated).zip(&rows) {
                // With both ends counted, a date is one day from itself in either direction.
                let same_day = both_ends && clamped(row.0) == clamped(row.0 + row.1);
                prop_assert!(there == back || same_day, "{:?} {} {}", unit, there, back);
            }
        }
    }

    #[test]
    fn the_previous_date_is_that_of_the_same_entity_in_any_order_of_rows(
        rows in prop::collection::vec((prop::option::of(0_i64..3), prop::option::of(0_i32..8)),
            0..40),
    ) {
        let model = |row: &(Option<i64>, Option<i32>)| -> Option<i64> {
            let ((Some(_), Some(date)), entity) = (*row, row.0) else { return None };
            let before = rows.iter().filter(|other| other.0 == entity).filter_map(|other| other.1)
                .filter(|&other| other < date);
            before.max().map(|before| (date - before).into())
        };
        let table = Table::from_columns([
            ("who", Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()) as ArrayRef),
            ("d", Arc::new(rows.iter().map(|row| row.1).collect::<Date32Array>())),
        ]).unwrap();
        let outcome = Elapsed::since_previous("d").per(["who"]).apply(&table).unwrap();
        let array = outcome.table.column("days_since_previous").unwrap()
            .as_primitive::<Int64Type>();
        prop_assert_eq!(array.iter().collect::<Vec<_>>(),
            rows.iter().map(model).collect::<Vec<_>>());
        prop_assert!(outcome.ledger.balances());
    }
}
