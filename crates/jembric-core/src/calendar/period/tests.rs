use super::*;
use crate::calendar::Span;
use proptest::prelude::*;
use rstest::rstest;

fn jiff_date(day: Day) -> jiff::civil::Date {
    let (year, month, of_month) = day.ymd();
    jiff::civil::date(year as i16, month as i8, of_month as i8)
}

#[test]
fn weeks_and_days_of_the_year_agree_with_an_independent_calendar_over_400_years_and_at_both_ends() {
    let day = |number| Day::from_number(number).unwrap();
    let (first, last) = (Day::MIN.number(), Day::MAX.number());
    let four_hundred =
        Day::from_ymd(1800, 1, 1).unwrap().number()..Day::from_ymd(2200, 1, 1).unwrap().number();
    for day in four_hundred.chain(first..first + 800).chain(last - 800..=last).map(day) {
        let theirs = jiff_date(day);
        let week = theirs.iso_week_date();
        assert_eq!(day.iso_week(), (week.year().into(), week.week() as u32), "{day}");
        assert_eq!(day.weekday().number(), theirs.weekday().to_monday_one_offset() as u32, "{day}");
        assert_eq!(day.of_year(), theirs.day_of_year() as u32, "{day}");
    }
}

#[test]
fn every_period_of_every_grain_begins_where_the_one_before_it_ends() {
    let grains =
        [Grain::Day, Grain::Week, Grain::Month, Grain::Quarter, Grain::Year].map(Periods::from);
    let odd = ["week from Sunday", "quarter from April", "year from February"]
        .map(|text| text.parse().unwrap());
    for periods in grains.into_iter().chain(odd) {
        let mut period = periods.containing(Day::MIN);
        assert_eq!(period.first(), Day::MIN);
        while period.last() < Day::MAX {
            let next = period.plus(1);
            assert_eq!(next.first().plus_days(-1), Some(period.last()), "{periods} {period}");
            assert_eq!(periods.containing(next.first()), next);
            assert_eq!(periods.containing(next.last()), next);
            period = next;
        }
        assert_eq!(periods.to_string().parse::<Periods>().unwrap(), periods);
    }
}

#[rstest]
#[case("2025-06-30", "2025-06-30", "2025-06-30")]
#[case("2025-W01", "2024-12-30", "2025-01-05")]
#[case("2026-W53", "2026-12-28", "2027-01-03")]
#[case("2024-02", "2024-02-01", "2024-02-29")]
#[case("2025-Q4", "2025-10-01", "2025-12-31")]
#[case("2025", "2025-01-01", "2025-12-31")]
#[case("9999-W52", "9999-12-27", "9999-12-31")]
fn a_label_is_parsed_and_formatted_as_a_period(
    #[case] label: &str,
    #[case] first: Day,
    #[case] last: Day,
) {
    let period: Period = label.parse().unwrap();
    assert_eq!((period.first(), period.last(), period.to_string().as_str()), (first, last, label));
}

#[rstest]
#[case("2025-13")]
#[case("2025-W53")]
#[case("2025-W00")]
#[case("2025-Q5")]
#[case("0000-01")]
#[case("25-01")]
#[case("2025-1")]
#[case("")]
fn a_text_that_is_not_a_period_is_an_error(#[case] text: &str) {
    assert!(text.parse::<Period>().is_err());
}

#[rstest]
#[case("2025-06-30", "quarter from April", "FY2026-Q1")]
#[case("2026-03-31", "year from April", "FY2026")]
#[case("2026-04-01", "year from April", "FY2027")]
#[case("2025-06-30", "week from Sunday", "2025-06-29")]
fn fiscal_years_are_named_by_the_year_they_end_in(
    #[case] day: Day,
    #[case] periods: Periods,
    #[case] label: &str,
) {
    assert_eq!(periods.containing(day).to_string(), label);
}

#[rstest]
#[case("202506", Grain::Month, Some("2025-06-01"))]
#[case("Jun 2025", Grain::Month, Some("2025-06-01"))]
#[case("june-2025", Grain::Month, Some("2025-06-01"))]
#[case("2025-06-01", Grain::Month, Some("2025-06-01"))]
#[case("01/06/2025", Grain::Month, Some("2025-06-01"))]
#[case("2025-06-02", Grain::Month, None)]
#[case("2025-06", Grain::Quarter, None)]
#[case("Q2 2025", Grain::Quarter, Some("2025-04-01"))]
#[case("2025Q2", Grain::Quarter, Some("2025-04-01"))]
#[case("2025-04-01 00:00", Grain::Quarter, Some("2025-04-01"))]
#[case("2025W27", Grain::Week, Some("2025-06-30"))]
#[case("30.06.2025", Grain::Week, Some("2025-06-30"))]
#[case("07/06/2025", Grain::Week, None)]
#[case("2025", Grain::Year, Some("2025-01-01"))]
#[case("01/01/2025", Grain::Year, Some("2025-01-01"))]
#[case("soon", Grain::Year, None)]
fn periods_are_read_as_exported_tables_write_them(
    #[case] text: &str,
    #[case] grain: Grain,
    #[case] first: Option<&str>,
) {
    assert_eq!(loose_label(text.as_bytes(), grain).map(|day| day.to_string()).as_deref(), first);
}

#[rstest]
#[case("2025-01-31", "2025-02-28", 1)]
#[case("2024-01-31", "2024-02-28", 0)]
#[case("2024-01-31", "2024-02-29", 1)]
#[case("2024-02-29", "2025-02-28", 12)]
#[case("2025-01-15", "2025-02-14", 0)]
#[case("2025-03-31", "2025-02-28", -1)]
#[case("0001-01-01", "9999-12-31", 119_987)]
fn completed_months_end_where_months_end(#[case] from: Day, #[case] to: Day, #[case] months: i32) {
    assert_eq!((from.months_until(to), to.months_until(from)), (months, -months));
}

proptest! {
    #[test]
    fn completed_months_are_the_whole_months_that_fit(
        from in 0_i32..800_000,
        days in 0_i32..3_000,
        at_month_ends in any::<bool>(),
    ) {
        let mut ends = [from, from + days].map(|number| Day::from_number(number).unwrap());
        if at_month_ends {
            ends = ends.map(|day| Periods::from(Grain::Month).containing(day).last());
        }
        let [from, to] = ends;
        let months = (1..).find(|&months| Span::months(months).after(from).unwrap() > to)
            .unwrap() - 1;
        prop_assert_eq!(from.months_until(to), months);
        prop_assert_eq!(to.months_until(from), -months);
        // An independent calendar has the same month ends.
        let theirs = jiff_date(from).checked_add(jiff::Span::new().months(months)).unwrap();
        prop_assert_eq!(theirs, jiff_date(Span::months(months).after(from).unwrap()));
    }
}
