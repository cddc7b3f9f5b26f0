//! Compares the calendar with another one: the file made by `vectors/make.py` has what Python's
//! standard library says about every day of 400 years.

use super::{Day, Span, Workdays};

#[test]
fn every_day_of_400_years_agrees_with_an_independent_calendar() {
    let vectors = include_str!("vectors/calendar.csv");
    let expected: Vec<(i32, u64)> = vectors
        .lines()
        .skip(1)
        .map(|line| {
            line.split_once(',')
                .map(|(year, folded)| (year.parse().unwrap(), folded.parse().unwrap()))
                .unwrap()
        })
        .collect();
    assert_eq!(expected.len(), 400);
    let first = Day::from_ymd(expected[0].0, 1, 1).unwrap();
    let holidays = expected.iter().flat_map(|&(year, _)| {
        [(1, 1), (5, 1), (12, 25), (12, 26)]
            .map(|(month, day)| Day::from_ymd(year, month, day).unwrap())
    });
    let workdays = Workdays::from(holidays.collect::<Vec<_>>());
    for (year, expected) in expected {
        let start = Day::from_ymd(year, 1, 1).unwrap();
        let days =
            (0..366).map(|after| start.plus_days(after).unwrap()).filter(|day| day.ymd().0 == year);
        let folded = days.fold(0_u64, |folded, day| {
            // Python counts days from 0001-01-01, which is 1.
            let ordinal = i64::from(day.number()) + 719_163;
            let later = day.plus_days((ordinal * 7919 % 400) as i32).unwrap();
            let (iso_year, iso_week) = day.iso_week();
            let before = first.plus_days(-1).unwrap();
            [
                i64::from(iso_year),
                iso_week.into(),
                day.weekday().number().into(),
                day.of_year().into(),
                Span::months(1).after(day).unwrap().number().into(),
                day.months_until(later).into(),
                workdays.between(before, day).into(),
            ]
            .into_iter()
            .fold(folded, |folded, number| folded.wrapping_mul(31).wrapping_add(number as u64))
        });
        assert_eq!(folded, expected, "{year}");
    }
}
