//! [`Axis`]: divides time into numbered periods, from hours to years, finds the period of each
//! date, and formats periods.

use crate::{
    calendar::{Day, Grain, Hours, MICROS_PER_DAY, Moment, Periods, Range, Zone},
    dates::{Dates, check_grain},
    day_table::DayTable,
    error::Result,
    kind::period_field,
    parallel,
};
use arrow_array::{Array, ArrayRef, Date32Array, TimestampMicrosecondArray};
use arrow_schema::Field;
use std::sync::Arc;

/// Periods that follow each other have consecutive numbers.
#[derive(Clone)]
pub(crate) struct Axis {
    periods: Periods,
    /// The hours of the time zone, if the periods are hours.
    hours: Option<Hours>,
    /// Whether the dates are points in time, which need a time zone to become days.
    pub(crate) instants: bool,
    zone: Zone,
}

impl Axis {
    /// The axis for a column of dates.
    ///
    /// Errors: the periods are finer than the column's own, or are hours in a column of days.
    pub(crate) fn for_dates(
        column: &str,
        dates: &Dates,
        periods: Periods,
        zone: &Zone,
    ) -> Result<Axis> {
        check_grain(column, dates, periods.grain())?;
        let hours = (periods.grain() == Grain::Hour).then(|| hours_of(dates, zone));
        Ok(Axis { periods, hours, instants: dates.are_instants(), zone: zone.clone() })
    }

    /// The axis of the hours or days of intervals.
    pub(crate) fn cut(periods: Periods, hours: Option<Hours>, instants: bool) -> Axis {
        Axis { periods, hours, instants, zone: Zone::default() }
    }

    /// The number of the period of each date. The numbers of rows without a date have no meaning.
    pub(crate) fn numbers(&self, dates: &Dates) -> Vec<i32> {
        match (&self.hours, dates) {
            (Some(hours), Dates::Moments(moments)) => {
                parallel::map(moments.values(), |micros| hours.tick(micros))
            }
            _ if self.periods.grain() <= Grain::Day => dates.day_numbers(&self.zone).into_owned(),
            _ => {
                let days = dates.day_numbers(&self.zone);
                let number = |day: i32| self.number(Day::clamped(day));
                match DayTable::build(&[&days], number) {
                    Some(table) => parallel::map(&days, |day| table.at(day)),
                    None => parallel::map(&days, number),
                }
            }
        }
    }

    /// The period that contains a day; with hours, the first hour of the day.
    pub(crate) fn number(&self, day: Day) -> i32 {
        match &self.hours {
            Some(hours) => hours.tick(self.midnight(day)),
            None => self.periods.number(day),
        }
    }

    /// The first and last period of a range.
    pub(crate) fn range(&self, range: Range) -> (i32, i32) {
        let last = match &self.hours {
            Some(hours) if self.instants => hours.tick(end_of(&self.zone, range.last()) - 1),
            Some(_) => self.number(range.last()) + 23,
            None => self.number(range.last()),
        };
        (self.number(range.first()), last)
    }

    /// The first day of a period.
    pub(crate) fn first_day(&self, number: i32) -> Day {
        match &self.hours {
            Some(hours) => {
                let reading =
                    hours.start(number) + if self.instants { self.shift(hours, number) } else { 0 };
                Day::clamped(reading.div_euclid(MICROS_PER_DAY) as i32)
            }
            None => self.periods.numbered(number).first(),
        }
    }

    fn shift(&self, hours: &Hours, number: i32) -> i64 {
        let start = hours.start(number);
        self.zone.reading(start) - start
    }

    /// The last day of a period.
    pub(crate) fn last_day(&self, number: i32) -> Day {
        if self.hours.is_some() {
            self.first_day(number)
        } else {
            self.periods.numbered(number).last()
        }
    }

    /// The microsecond at which a day begins, in the unit of the dates.
    pub(crate) fn midnight(&self, day: Day) -> i64 {
        if self.instants {
            self.zone.day_start(day)
        } else {
            i64::from(day.number()) * MICROS_PER_DAY
        }
    }

    /// The microsecond at which a period begins, in the unit of the dates.
    pub(crate) fn start(&self, number: i32) -> i64 {
        self.hours
            .as_ref()
            .map_or_else(|| self.midnight(self.first_day(number)), |hours| hours.start(number))
    }

    /// The time zone that converts points in time to days.
    pub(crate) fn zone(&self) -> &Zone {
        &self.zone
    }

    /// How days are grouped into periods.
    pub(crate) fn periods(&self) -> Periods {
        self.periods
    }

    /// The column of periods, from their numbers.
    pub(crate) fn column(&self, name: &str, numbers: Vec<i32>) -> (Field, ArrayRef) {
        if let Some(hours) = &self.hours {
            let starts: Vec<i64> = numbers.into_iter().map(|number| hours.start(number)).collect();
            let starts = TimestampMicrosecondArray::from(starts);
            let array: ArrayRef =
                Arc::new(if self.instants { starts.with_timezone("UTC") } else { starts });
            return (Field::new(name, array.data_type().clone(), true), array);
        }
        let days = match self.periods.grain() {
            Grain::Day => numbers,
            _ => {
                // Rows of the same period often follow each other.
                let mut last = None;
                let first_day = |number: i32| match last {
                    Some((before, day)) if before == number => day,
                    _ => {
                        let day = self.periods.numbered(number).first().number();
                        last = Some((number, day));
                        day
                    }
                };
                numbers.into_iter().map(first_day).collect()
            }
        };
        (period_field(name, self.periods), Arc::new(Date32Array::from(days)))
    }

    /// Formats a period.
    pub(crate) fn text(&self, number: i32) -> String {
        match &self.hours {
            Some(hours) => {
                let utc = if self.instants { "Z" } else { "" };
                let start = Moment::from_micros(hours.start(number));
                start.map(|moment| format!("{moment}{utc}")).unwrap_or_default()
            }
            None => self.periods.numbered(number).to_string(),
        }
    }
}

/// The first microsecond after a day.
pub(crate) fn end_of(zone: &Zone, day: Day) -> i64 {
    day.plus_days(1)
        .map_or((i64::from(day.number()) + 1) * MICROS_PER_DAY, |next| zone.day_start(next))
}

/// The hours for a column of moments.
pub(crate) fn hours_of(starts: &Dates, zone: &Zone) -> Hours {
    if starts.are_instants() { Hours::new(zone) } else { Hours::default() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{calendar::Weekday, sample::table};
    use proptest::prelude::*;
    use rstest::rstest;

    fn of_days(periods: Periods) -> Axis {
        Axis { periods, hours: None, instants: false, zone: Zone::default() }
    }

    proptest! {
        #[test]
        fn every_day_lies_in_its_period_and_the_next_one_follows(
            day in Day::MIN.number()..=Day::MAX.number(),
            grain in prop::sample::select(vec![Grain::Day, Grain::Week, Grain::Month,
                Grain::Quarter, Grain::Year]),
            month in 1_u32..=12,
        ) {
            let axis = of_days(Periods::from(grain).year_start(month)
                .week_start(Weekday::ALL[month as usize % 7]));
            let day = Day::from_number(day).unwrap();
            let number = axis.number(day);
            prop_assert!(axis.first_day(number) <= day && day <= axis.last_day(number));
            if axis.last_day(number) < Day::MAX {
                prop_assert_eq!(axis.last_day(number).plus_days(1).unwrap(),
                    axis.first_day(number + 1));
            }
            prop_assert_eq!(axis.range(Range::new(day, day).unwrap()), (number, number));
        }
    }

    /// A time zone whose offset has half an hour, and days of 23 and 25 hours.
    #[rstest]
    #[case("Asia/Kolkata", "2025-03-30", 24, "2025-03-29T18:30Z")]
    #[case("Europe/Lisbon", "2025-03-30", 23, "2025-03-30T00:00Z")]
    #[case("Europe/Lisbon", "2025-10-26", 25, "2025-10-25T23:00Z")]
    #[case("UTC", "0001-01-01", 24, "0001-01-01T00:00Z")]
    fn a_day_has_the_hours_that_its_clocks_show(
        #[case] zone: &str,
        #[case] day: &str,
        #[case] hours: i32,
        #[case] first: &str,
    ) {
        let moments = table("at:instant\n2025-06-01T12:00:00Z").dates("at").unwrap();
        let axis =
            Axis::for_dates("at", &moments, Grain::Hour.into(), &zone.parse().unwrap()).unwrap();
        let (from, to) = axis.range(day.parse().unwrap());
        assert_eq!((to - from + 1, axis.text(from).as_str()), (hours, first));
        assert_eq!(
            [axis.first_day(from), axis.last_day(to)].map(|day| day.to_string()),
            [day, day]
        );
    }
}
