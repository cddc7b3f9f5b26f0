//! Completed months between many days, looked up instead of computed.

use crate::{calendar::Day, day_table::DayTable, parallel};

/// For each day, from the upper bits to the lower ones: the number of the month, the day of the
/// month, and the same day again, but a day that no month reaches if it is the last one of its
/// month. They are in the order of the days.
struct MonthTable(DayTable<u32>);

/// The bits of a day of the month.
const BITS: u32 = 6;
const DAY: u32 = (1 << BITS) - 1;

impl MonthTable {
    fn build(columns: [&[i32]; 2]) -> Option<MonthTable> {
        let day = |number: i32| {
            let day = Day::clamped(number);
            let (year, month, of_month) = day.ymd();
            let months = year as u32 * 12 + month - 1;
            let is_last = day.plus_days(1).is_none_or(|next| next.ymd().2 == 1);
            months << (2 * BITS) | of_month << BITS | if is_last { DAY } else { of_month }
        };
        DayTable::build(&columns, day).map(MonthTable)
    }

    /// The completed months from one day to another, as of [`Day::months_until`].
    #[inline]
    fn between(&self, from: i32, to: i32) -> i64 {
        let (from, to) = (self.0.at(from), self.0.at(to));
        let (earlier, later) = (from.min(to), from.max(to));
        let months = (later >> (2 * BITS)) as i32 - (earlier >> (2 * BITS)) as i32;
        let incomplete = (earlier >> BITS) & DAY > later & DAY;
        let forwards = 2 * i32::from(from <= to) - 1;
        i64::from((months - i32::from(incomplete)) * forwards)
    }
}

/// The completed months from each day to the other; none if a table is not worth it.
pub(super) fn completed_months(from: &[i32], to: &[i32]) -> Option<Vec<i64>> {
    let table = MonthTable::build([from, to])?;
    Some(match (from, to) {
        ([from], to) => parallel::map(to, |to| table.between(*from, to)),
        (from, [to]) => parallel::map(from, |from| table.between(from, *to)),
        (from, to) => parallel::map_two(from, to, |from, to| table.between(from, to)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn looked_up_months_are_those_that_are_computed(
            first in -719_162_i32..2_932_000,
            days in prop::collection::vec((0..800_i32, 0..800_i32), 4_000..4_001),
        ) {
            let from: Vec<i32> = days.iter().map(|days| first + days.0).collect();
            let to: Vec<i32> = days.iter().map(|days| first + days.1).collect();
            let day = |number: &i32| Day::from_number(*number).expect("within the calendar");
            let computed = |from: &i32, to: &i32| i64::from(day(from).months_until(day(to)));
            let expected: Vec<i64> = from.iter().zip(&to).map(|(one, other)| computed(one, other))
                .collect();
            prop_assert_eq!(completed_months(&from, &to), Some(expected));
            let to_one: Vec<i64> = from.iter().map(|one| computed(one, &to[0])).collect();
            prop_assert_eq!(completed_months(&from, &to[..1]), Some(to_one));
            let from_one: Vec<i64> = to.iter().map(|other| computed(&from[0], other)).collect();
            prop_assert_eq!(completed_months(&from[..1], &to), Some(from_one));
        }
    }

    #[test]
    fn days_far_apart_are_not_looked_up() {
        assert_eq!(completed_months(&[0, 400], &[1, 800]), None);
        assert_eq!(completed_months(&[i32::MIN; 9], &[i32::MAX; 9]), None);
        assert_eq!(completed_months(&[], &[]), None);
    }
}
