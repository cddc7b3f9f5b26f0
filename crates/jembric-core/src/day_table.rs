//! [`DayTable`]: a value of each day of a range, computed once and looked up many times.
//!
//! The days of a table mostly lie within some decades, and each of them is needed many times.

use crate::parallel;

/// A value of each day from the first one on.
pub(crate) struct DayTable<T> {
    first: i32,
    values: Vec<T>,
}

impl<T: Copy> DayTable<T> {
    /// The values from the first to the last of all days; none if these are far apart, so that the
    /// table would not stay in the cache or not be worth it. Cost: one pass over the days.
    pub(crate) fn build(columns: &[&[i32]], value: impl Fn(i32) -> T) -> Option<DayTable<T>> {
        const MOST_DAYS: usize = 1 << 17;
        let rows = columns.iter().map(|days| days.len()).max().unwrap_or(0);
        let ends = |days: &&[i32]| parallel::ends(days.len(), |row| Some(days[row]));
        let wider = |one: (i32, i32), other: (i32, i32)| (one.0.min(other.0), one.1.max(other.1));
        let (first, last) = columns.iter().filter_map(ends).reduce(wider)?;
        let span = last.checked_sub(first)? as usize;
        let is_worth_it = span < MOST_DAYS.min(rows / 4);
        is_worth_it.then(|| DayTable { first, values: (first..=last).map(value).collect() })
    }

    #[inline]
    pub(crate) fn at(&self, day: i32) -> T {
        self.values[(day - self.first) as usize]
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn looked_up_values_are_those_that_are_computed(
            first in -719_162_i32..2_932_000,
            days in prop::collection::vec(0..90_i32, 400..500),
        ) {
            let days: Vec<i32> = days.into_iter().map(|day| first + day).collect();
            let of_day = |day: i32| i64::from(day) * 3;
            let table = DayTable::build(&[&days[..7], &days], of_day).expect("days close together");
            for &day in &days {
                prop_assert_eq!(table.at(day), of_day(day));
            }
        }
    }

    #[test]
    fn days_far_apart_or_few_have_no_table() {
        let table = |columns: &[&[i32]]| DayTable::build(columns, |day| day).is_some();
        assert!(table(&[&[5; 8]]));
        assert!(!table(&[&[5; 3]]), "it would take longer than it saves");
        assert!(!table(&[&[5; 8], &[5_000; 8]]));
        assert!(!table(&[&[i32::MIN; 9], &[i32::MAX; 9]]));
        assert!(!table(&[&[], &[]]));
    }
}
