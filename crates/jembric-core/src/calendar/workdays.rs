//! [`Workdays`]: Monday to Friday except holidays, counted by arithmetic and one search.

use super::{Day, Weekday};
use serde::{Deserialize, Serialize};

/// The days of work: Monday to Friday except holidays.
///
/// It serializes as the list of its holidays.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(from = "Vec<Day>", into = "Vec<Day>")]
pub struct Workdays {
    /// In order, without duplicates.
    holidays: Vec<Day>,
    /// The holidays from Monday to Friday.
    on_weekdays: Vec<i32>,
}

impl From<Vec<Day>> for Workdays {
    fn from(mut holidays: Vec<Day>) -> Workdays {
        holidays.sort_unstable();
        holidays.dedup();
        let on_weekdays =
            holidays.iter().filter(|day| is_weekday(**day)).map(|day| day.number()).collect();
        Workdays { holidays, on_weekdays }
    }
}

impl From<Workdays> for Vec<Day> {
    fn from(workdays: Workdays) -> Vec<Day> {
        workdays.holidays
    }
}

impl Workdays {
    /// Whether there are no holidays.
    pub fn is_without_holidays(&self) -> bool {
        self.holidays.is_empty()
    }

    /// Whether the day is a workday.
    pub fn contains(&self, day: Day) -> bool {
        is_weekday(day) && self.on_weekdays.binary_search(&day.number()).is_err()
    }

    /// The number of workdays after one day, up to and including another. In the other direction
    /// the result is the negative number.
    pub fn between(&self, after: Day, to: Day) -> i32 {
        self.up_to(to.number()) - self.up_to(after.number())
    }

    /// The number of workdays up to and including a day, from some day long ago. Cost: a search
    /// among the holidays.
    fn up_to(&self, number: i32) -> i32 {
        // Counted from the Monday before 1970: five for each whole week, then one for each day, at
        // most five.
        let since_monday = number + 4;
        let weekdays = since_monday.div_euclid(7) * 5 + since_monday.rem_euclid(7).min(5);
        weekdays - self.on_weekdays.partition_point(|&holiday| holiday <= number) as i32
    }
}

fn is_weekday(day: Day) -> bool {
    day.weekday() < Weekday::Saturday
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn workdays_are_counted_as_one_would_on_a_calendar(
            from in Day::MIN.number()..Day::MAX.number() - 500,
            days in 0_i32..500,
            holidays in prop::collection::vec(0_i32..500, 0..20),
        ) {
            let day = |number| Day::from_number(number).unwrap();
            let workdays = Workdays::from(holidays.iter().map(|&after| day(from + after))
                .collect::<Vec<_>>());
            let worked = |number: i32| {
                let weekday = jiff::civil::date(1970, 1,
                    1).checked_add(jiff::Span::new().days(number)).unwrap().weekday();
                weekday.to_monday_one_offset() <= 5 && !holidays.contains(&(number - from))
            };
            let expected = (from + 1..=from + days).filter(|&number| worked(number)).count() as i32;
            prop_assert_eq!(workdays.between(day(from), day(from + days)), expected);
            prop_assert_eq!(workdays.between(day(from + days), day(from)), -expected);
            prop_assert_eq!(workdays.contains(day(from + days)), worked(from + days));
        }
    }
}
