use super::*;
use arrow_array::cast::AsArray;
use arrow_cast::display::array_value_to_string;
use proptest::prelude::*;
use rstest::rstest;

fn table(name: &str, days: &[Option<i32>]) -> Table {
    Table::from_columns([(
        name,
        Arc::new(days.iter().copied().collect::<Date32Array>()) as ArrayRef,
    )])
    .unwrap()
}

fn row(outcome: &Outcome, row: usize) -> String {
    let cells =
        outcome.table.columns().iter().map(|column| array_value_to_string(column, row).unwrap());
    cells.collect::<Vec<_>>().join(" ")
}

#[test]
fn a_row_has_all_columns_of_its_day() {
    let stays = table("arrived", &[Some(20_240), Some(20_240), None]);
    let almanac = Almanac::new()
        .covering(&stays, ["arrived"])
        .unwrap()
        .year_start(crate::calendar::Month::April);
    let outcome = almanac.make_with(&Context::new().as_of("2025-06-30".parse().unwrap())).unwrap();
    let names: Vec<&str> = outcome.table.names().collect();
    insta::assert_snapshot!(names.join(" "), @"date year quarter month month_name day \
        year_quarter year_month iso_year iso_week weekday weekday_number day_of_year month_start \
        month_end fiscal_year fiscal_quarter is_workday covered records_arrived days_from_as_of");
    insta::assert_snapshot!(row(&outcome, 0), @"2025-06-01 2025 2 6 June 1 2025-04-01 2025-06-01 \
        2025 22 Sunday 7 152 2025-06-01 2025-06-30 2026 1 false true 2 -29");
    assert_eq!(outcome.table.rows(), 1);
}

#[rstest]
#[case::data(Almanac::new(), "2024-12-30", "2025-01-02", 3)]
#[case::range(Almanac::new().range("2025-01".parse().unwrap()), "2025-01-01", "2025-01-31", 2)]
#[case::whole_years(Almanac::new().whole_years(), "2024-01-01", "2025-12-31", 3)]
#[case::fiscal_years(Almanac::new().whole_years().year_start(Month::April), "2024-04-01",
    "2025-03-31", 3)]
fn the_almanac_covers_the_requested_days(
    #[case] almanac: Almanac,
    #[case] first: &str,
    #[case] last: &str,
    #[case] kept: u64,
) {
    let day = |text: &str| text.parse::<Day>().unwrap().number();
    let one = table("a", &[Some(day("2025-01-01")), Some(day("2025-01-02")), None]);
    let other = table("b", &[Some(day("2024-12-30"))]);
    let outcome = almanac
        .covering(&one, ["a"])
        .unwrap()
        .covering(&other, ["b as first"])
        .unwrap()
        .make()
        .unwrap();
    let dates =
        outcome.table.column("date").unwrap().as_primitive::<arrow_array::types::Date32Type>();
    assert_eq!((dates.value(0), dates.value(dates.len() - 1)), (day(first), day(last)));
    assert_eq!((outcome.ledger.kept, outcome.ledger.rows(Reason::NoDate)), (kept, 1));
    assert!(outcome.ledger.balances());
    let sum = |name: &str| {
        outcome
            .table
            .column(name)
            .unwrap()
            .as_primitive::<arrow_array::types::Int64Type>()
            .values()
            .iter()
            .sum::<i64>()
    };
    assert_eq!(sum("records_a") + sum("records_first"), kept as i64);
}

#[test]
fn a_column_that_cannot_be_covered_is_an_error() {
    let none = table("d", &[None]);
    let months = table("m", &[Some(0)]).with_periods("m", Grain::Month).unwrap();
    let wrong = [
        Almanac::new().make().unwrap_err(),
        Almanac::new().covering(&none, ["d"]).unwrap().make().unwrap_err(),
        Almanac::new().covering(&months, ["m"]).unwrap_err(),
        Almanac::new().covering(&none, ["e"]).unwrap_err(),
        Almanac::new().covering(&none, ["d", "d"]).unwrap_err(),
        Almanac::new()
            .covering(&none, ["d"])
            .unwrap()
            .covering(&none, ["d"])
            .unwrap()
            .range("2025".parse().unwrap())
            .make()
            .unwrap_err(),
    ];
    insta::assert_snapshot!(wrong.map(|error| error.to_string()).join("\n"), @"
    `covering` is not given: expected at least one column of dates to cover, or a `range`
    column `d` has no dates, so it has no newest date
    column `m` holds months, so it has no days. Ask for months
    there is no column `e`. Did you mean `d`?
    column `d` is listed twice: list it once, or rename one (`d as NAME`)
    two columns are named `records_d`. The names of columns must differ: rename one
    ");
}

#[test]
fn weekdays_and_months_sort_by_the_calendar() {
    let outcome = Almanac::new().range("2025-04-28..2025-05-04".parse().unwrap()).make().unwrap();
    for column in ["weekday", "month_name"] {
        let sorted =
            crate::Sort::new([column]).apply_with(&outcome.table, &Context::new()).unwrap();
        assert_eq!(row(&sorted, 6), row(&outcome, 6), "{column}");
    }
}

proptest! {
    #[test]
    fn every_day_agrees_with_an_independent_calendar(
        first in Day::MIN.number()..=Day::MAX.number(),
        days in 0_i32..800,
        start in 1_u32..=12,
    ) {
        let last = (first + days).min(Day::MAX.number());
        let range = Range::new(Day::from_number(first).unwrap(),
            Day::from_number(last).unwrap()).unwrap();
        let outcome = Almanac::new().range(range).year_start(Month::ALL[start as usize - 1]).make()
            .unwrap();
        prop_assert_eq!(outcome.table.rows() as i32, last - first + 1);
        let mut theirs = jiff::civil::date(1970, 1,
            1).checked_add(jiff::Span::new().days(first)).unwrap();
        for day in 0..outcome.table.rows() {
            let week = theirs.iso_week_date();
            let (year, month) = (i32::from(theirs.year()), theirs.month() as u32);
            let fiscal = if start > 1 && month >= start { year + 1 } else { year };
            let expected = format!(
                "{theirs} {year} {} {month} {} {} {} {} {} {} {} {} {} {} {} {fiscal} {} {} false",
                (month - 1) / 3 + 1,
                Month::NAMES[month as usize - 1],
                theirs.day(),
                theirs.first_of_month().with().month((theirs.month() - 1) / 3 * 3 + 1).build()
                    .unwrap(),
                theirs.first_of_month(),
                week.year(),
                week.week(),
                Weekday::NAMES[week.weekday().to_monday_zero_offset() as usize],
                week.weekday().to_monday_one_offset(),
                theirs.day_of_year(),
                theirs.first_of_month(),
                theirs.last_of_month(),
                (month + 12 - start) % 12 / 3 + 1,
                week.weekday().to_monday_one_offset() <= 5,
            );
            prop_assert_eq!(row(&outcome, day), expected);
            theirs = theirs.tomorrow().unwrap_or(theirs);
        }
    }
}
