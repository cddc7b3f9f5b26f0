//! [`Hours`]: divides time into numbered hours of the local clock.
//!
//! An hour begins when the local clock shows a full hour, and when a clock change by part of an
//! hour cuts an hour short. Time therefore falls into phases in which the offset from UTC changes
//! only by whole hours. Within a phase the number of an hour is arithmetic, and each phase
//! continues the numbers of the one before.

use super::{MICROS_PER_HOUR, Zone};
use std::sync::Arc;

/// Hours that follow each other have consecutive numbers.
#[derive(Clone, Debug)]
pub(crate) struct Hours {
    phases: Arc<[Phase]>,
}

/// A phase: a stretch of time in which hours begin at the same minute and second of UTC.
#[derive(Clone, Copy, Debug)]
struct Phase {
    /// The microsecond at which it begins.
    from: i64,
    /// Added to a point in time, this makes whole hours of the sum whole hours of the clock.
    shift: i64,
    /// Added to the whole hours of that sum, this continues the numbers of the phase before.
    more: i64,
}

impl Default for Hours {
    /// The hours of UTC, also for moments without an offset.
    fn default() -> Hours {
        Hours { phases: [Phase { from: i64::MIN, shift: 0, more: 0 }].into() }
    }
}

impl Hours {
    /// The hours of a time zone.
    pub(crate) fn new(zone: &Zone) -> Hours {
        let mut phases: Vec<Phase> = Vec::new();
        for (from, offset) in zone.phases(MICROS_PER_HOUR) {
            let shift = offset.rem_euclid(MICROS_PER_HOUR);
            let more = phases.last().map_or(0, |last| {
                // The first hour of a phase follows the last hour of the phase before, even if that
                // one was cut short.
                let before = (from - 1 + last.shift).div_euclid(MICROS_PER_HOUR) + last.more;
                before + 1 - (from + shift).div_euclid(MICROS_PER_HOUR)
            });
            phases.push(Phase { from, shift, more });
        }
        Hours { phases: phases.into() }
    }

    /// The moment at which an hour begins.
    pub(crate) fn start(&self, tick: i32) -> i64 {
        let start = |phase: &Phase| {
            ((i64::from(tick) - phase.more) * MICROS_PER_HOUR - phase.shift).max(phase.from)
        };
        // The hour lies in the last phase that has begun when the hour begins.
        let is_later = |phase: &Phase| self.tick_in(phase, phase.from) > i64::from(tick);
        let later = self.phases[1..].partition_point(|phase| !is_later(phase));
        start(&self.phases[later])
    }

    fn tick_in(&self, phase: &Phase, micros: i64) -> i64 {
        (micros + phase.shift).div_euclid(MICROS_PER_HOUR) + phase.more
    }

    /// The hour that contains a moment.
    #[inline]
    pub(crate) fn tick(&self, micros: i64) -> i32 {
        let phase = match &self.phases[..] {
            [.., last] if last.from <= micros => last,
            phases => &phases[phases[1..].partition_point(|phase| phase.from <= micros)],
        };
        self.tick_in(phase, micros) as i32
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::Moment;
    use proptest::prelude::*;
    use rstest::rstest;

    fn instant(text: &str) -> i64 {
        text.parse::<jiff::Timestamp>().unwrap().as_microsecond()
    }

    fn starts(zone: &str, from: &str, to: &str) -> Vec<String> {
        let hours = Hours::new(&zone.parse().unwrap());
        let (first, last) = (hours.tick(instant(from)), hours.tick(instant(to)));
        (first..=last)
            .map(|tick| Moment::from_micros(hours.start(tick)).unwrap().to_string())
            .collect()
    }

    /// Lord Howe's clocks change by half an hour: the hour from 2:00 has half an hour in spring,
    /// and in autumn the hour that is broken off begins at 1:30 for the second time.
    #[rstest]
    #[case::spring("2024-10-05T14:45Z", "2024-10-05T16:10Z", &["2024-10-05T14:30",
        "2024-10-05T15:30", "2024-10-05T16:00"])]
    #[case::autumn("2024-04-06T14:10Z", "2024-04-06T15:45Z", &["2024-04-06T14:00",
        "2024-04-06T15:00", "2024-04-06T15:30"])]
    #[case::far_future("9000-07-01T00:40Z", "9000-07-01T00:40Z", &["9000-07-01T00:30"])]
    fn a_change_by_half_an_hour_breaks_an_hour_off(
        #[case] from: &str,
        #[case] to: &str,
        #[case] expected: &[&str],
    ) {
        assert_eq!(starts("Australia/Lord_Howe", from, to), expected);
    }

    #[test]
    fn a_zone_that_once_had_local_mean_time_has_full_hours_today() {
        let expected = ["2024-07-01T10:00", "2024-07-01T11:00"];
        assert_eq!(starts("Europe/Lisbon", "2024-07-01T10:13Z", "2024-07-01T11:00Z"), expected);
        assert_eq!(
            starts("Europe/Lisbon", "1900-07-01T10:13Z", "1900-07-01T10:13Z"),
            ["1900-07-01T09:36:45"]
        );
    }

    proptest! {
        #[test]
        fn every_moment_lies_in_an_hour_that_the_local_clock_shows(
            name in prop::sample::select(vec!["Australia/Lord_Howe", "Europe/Lisbon",
                "Asia/Kathmandu", "Africa/Monrovia", "UTC"]),
            second in -62_135_400_000_i64..253_402_100_000,
        ) {
            let zone: Zone = name.parse().unwrap();
            let hours = Hours::new(&zone);
            let micros = second * 1_000_000;
            let tick = hours.tick(micros);
            let (start, next) = (hours.start(tick), hours.start(tick + 1));
            prop_assert!(start <= micros && micros < next, "{start} {micros} {next}");
            prop_assert!(next - start <= MICROS_PER_HOUR);
            prop_assert_eq!((hours.tick(start), hours.tick(next)), (tick, tick + 1));
            // All of it stands under one hour of the clock, and nothing of that hour is before it.
            let hour = |micros: i64| zone.reading(micros).div_euclid(MICROS_PER_HOUR);
            prop_assert_eq!(hour(start), hour(next - 1));
            prop_assert!(hour(start - 1) != hour(start) || zone.reading(start - 1) > zone
                .reading(start));
        }
    }
}
