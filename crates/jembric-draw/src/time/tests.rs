use super::*;
use proptest::prelude::*;
use rstest::rstest;

fn span(from: &str, to: &str, zone: &str) -> Span {
    let zone: Zone = zone.parse().unwrap();
    let micros = |text: &str| {
        let written = jembric_core::calendar::notation::read(text.as_bytes()).unwrap();
        written.micros(jembric_core::calendar::notation::Order::DayFirst).unwrap()
    };
    let (low, high) = (zone.instant(micros(from)), zone.instant(micros(to)));
    Span::new(low, high, Some(zone), None)
}

fn of_days(from: &str, to: &str, periods: Periods) -> Span {
    let micros = |text: &str| i64::from(text.parse::<Day>().unwrap().number()) * MICROS_PER_DAY;
    Span::new(micros(from), micros(to), None, Some(periods))
}

/// The labels and the longer periods of an axis of this width.
fn shown(span: &Span, width: f64) -> (String, String) {
    let ticks = span.ticks(40.0, 40.0 + width);
    let join = |labels: &[Label]| {
        labels.iter().map(|label| label.text.as_str()).collect::<Vec<_>>().join(" ")
    };
    (join(&ticks.labels), join(&ticks.groups))
}

#[rstest]
#[case::an_hour(
    span("2025-06-30T08:05", "2025-06-30T09:05", "UTC"),
    400.0,
    "08:10 08:20 08:30 08:40 08:50 09:00",
    "30 Jun 2025"
)]
#[case::two_days(
    span("2025-12-31T00:00", "2026-01-02T00:00", "UTC"),
    420.0,
    "00:00 06:00 12:00 18:00 00:00 06:00 12:00 18:00",
    "31 Dec 2025 1 Jan 2026"
)]
#[case::ten_days(
    of_days("2025-02-24", "2025-03-06", Periods::DAYS),
    400.0,
    "24 25 26 27 28 1 2 3 4 5",
    "Feb 2025 Mar 2025"
)]
#[case::two_months(
    of_days("2025-01-01", "2025-03-01", Periods::DAYS),
    600.0,
    "6 Jan 13 Jan 20 Jan 27 Jan 3 Feb 10 Feb 17 Feb 24 Feb",
    "2025"
)]
#[case::a_year(
    of_days("2024-11-01", "2025-11-01", Periods::DAYS),
    600.0,
    "Nov Dec Jan Feb Mar Apr May Jun Jul Aug Sep Oct",
    "2024 2025"
)]
#[case::three_years(
    of_days("2023-01-01", "2026-01-01", Periods::DAYS),
    500.0,
    "Q1 Q2 Q3 Q4 Q1 Q2 Q3 Q4 Q1 Q2 Q3 Q4",
    "2023 2024 2025"
)]
#[case::fiscal_quarters(
    of_days("2024-04-01", "2026-04-01", Periods::from(Grain::Quarter).year_start(4)), 500.0,
    "Q1 Q2 Q3 Q4 Q1 Q2 Q3 Q4", "FY2025 FY2026")]
#[case::fiscal_years(
    of_days("2020-07-01", "2023-07-01", Periods::from(Grain::Year).year_start(7)), 500.0,
    "FY2021 FY2022 FY2023", "")]
#[case::weeks_from_sunday(of_days("2025-06-01", "2025-06-29",
    Periods::from(Grain::Week).week_start(Weekday::Sunday)), 400.0,
    "1 Jun 8 Jun 15 Jun 22 Jun", "2025")]
#[case::a_century(
    of_days("1925-01-01", "2025-01-01", Periods::DAYS),
    500.0,
    "1930 1940 1950 1960 1970 1980 1990 2000 2010 2020",
    ""
)]
#[case::two_thousand_years(
    of_days("0001-01-01", "2000-01-01", Periods::DAYS),
    600.0,
    "0200 0400 0600 0800 1000 1200 1400 1600 1800",
    ""
)]
#[case::all_years(
    of_days("0001-01-01", "9999-12-31", Periods::DAYS),
    320.0,
    "2000 4000 6000 8000",
    ""
)]
fn ticks_are_at_the_boundaries_of_the_calendar(
    #[case] span: Span,
    #[case] width: f64,
    #[case] labels: &str,
    #[case] groups: &str,
) {
    assert_eq!(shown(&span, width), (labels.to_owned(), groups.to_owned()));
}

/// In Lisbon the clocks went from 1 to 2 o'clock on 30 March 2025, and from 2 back to 1 on 26
/// October.
#[rstest]
#[case::spring("2025-03-30", "2025-03-31", 23)]
#[case::autumn("2025-10-26", "2025-10-27", 25)]
fn a_change_of_clocks_neither_doubles_nor_drops_an_hour(
    #[case] from: &str,
    #[case] to: &str,
    #[case] hours: i64,
) {
    let span = span(&format!("{from}T00:00"), &format!("{to}T00:00"), "Europe/Lisbon");
    assert_eq!(span.length(), (hours * 3_600 * SECOND) as f64);
    let ticks = span.ticks(0.0, 1_100.0);
    let hour = 3_600.0 * SECOND as f64;
    for pair in ticks.places.windows(2) {
        let apart = (pair[1].0 - pair[0].0) / hour;
        // The repeated hour has one label, so the tick after it is two hours away.
        assert!(apart == 1.0 || hours == 25 && apart == 2.0, "{pair:?}");
    }
    let midday = ticks.places.iter().find(|(_, title)| title.ends_with("T12:00")).unwrap();
    assert_eq!(midday.0 / hour, if hours == 23 { 11.0 } else { 13.0 });
}

proptest! {
    #[test]
    fn labels_never_overlap(
        first in Day::MIN.number()..Day::MAX.number(),
        log in 0.0_f64..13.5,
        width in 240.0_f64..2_400.0,
        grain in prop::sample::select(vec![None, Some(Grain::Day), Some(Grain::Week),
            Some(Grain::Month), Some(Grain::Quarter), Some(Grain::Year)]),
        month in 1_u32..=12,
    ) {
        // From a second to more than ten thousand years.
        let low = i64::from(first) * MICROS_PER_DAY;
        let last = (i64::from(Day::MAX.number()) + 1) * MICROS_PER_DAY;
        let high = low.saturating_add((10f64.powf(log) * SECOND as f64) as i64).min(last);
        let periods = grain.map(|grain| Periods::from(grain).year_start(month));
        let span = Span::new(low, high, None, periods);
        let ticks = span.ticks(0.0, width);
        for labels in [&ticks.labels, &ticks.groups] {
            for pair in labels.windows(2) {
                prop_assert!(pair[0].right < pair[1].left, "{pair:?}");
            }
        }
        prop_assert!(ticks.places.len() as f64 <= width / 10.0 + 3.0);
        for (place, title) in &ticks.places {
            // A tick is where its date begins.
            let reading = low + *place as i64;
            let text = if title.contains('T') {
                Moment::from_micros(reading).unwrap().to_string()
            } else {
                prop_assert_eq!(reading.rem_euclid(MICROS_PER_DAY), 0);
                day_of(reading).unwrap().to_string()
            };
            prop_assert_eq!(&text, title);
        }
    }
}
