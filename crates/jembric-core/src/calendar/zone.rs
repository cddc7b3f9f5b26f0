//! [`Zone`]: the time zone that converts points in time to days. Its data is built into the
//! program.

use super::{
    Day, MICROS_PER_DAY,
    error::{Result, ValueError},
};
use crate::message::nearest;
use jiff::{
    Timestamp,
    tz::{TimeZone, TimeZoneDatabase},
};
use std::{cell::Cell, fmt, str::FromStr};

/// A time zone of the IANA database, such as `Europe/Lisbon`. The default is UTC.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Zone(TimeZone);

impl Default for Zone {
    fn default() -> Zone {
        Zone(TimeZone::UTC)
    }
}

impl FromStr for Zone {
    type Err = ValueError;

    fn from_str(text: &str) -> Result<Zone> {
        let known = TimeZoneDatabase::bundled();
        known.get(text.trim()).map(Zone).map_err(|_| ValueError::Unknown {
            what: "a time zone",
            text: text.to_owned(),
            nearest: {
                let names: Vec<String> =
                    known.available().map(|name| name.as_str().to_owned()).collect();
                nearest(text, names.iter().map(String::as_str))
            },
            known: "UTC, or a name of the IANA database such as Europe/Lisbon",
        })
    }
}

impl fmt::Display for Zone {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0.iana_name().unwrap_or("UTC"))
    }
}

impl Zone {
    /// Whether it is UTC, where a point in time and the reading of the clock are the same number.
    pub fn is_utc(&self) -> bool {
        self.0 == TimeZone::UTC
    }

    /// The first microsecond of a day, as a point in time. If the clocks skip midnight, it is the
    /// first moment of the day.
    pub fn day_start(&self, day: Day) -> i64 {
        let midnight = i64::from(day.number()) * MICROS_PER_DAY;
        self.instant(midnight)
    }

    /// The point in time at which the clocks show this reading. If they show it twice, it is the
    /// earlier one; if they skip it, it is the moment of the jump.
    pub fn instant(&self, reading: i64) -> i64 {
        if self.is_utc() {
            return reading;
        }
        // The offsets before and after any clock change nearby.
        let before = reading - self.offset(reading - MICROS_PER_DAY);
        let after = reading - self.offset(reading + MICROS_PER_DAY);
        let shows = |instant: i64| instant + self.offset(instant) == reading;
        let (first, second) = (before.min(after), before.max(after));
        match (shows(first), shows(second)) {
            (true, _) => first,
            (false, true) => second,
            (false, false) => self.change_between(first, second),
        }
    }

    /// The readings of the clock at points in time, in microseconds since 1970-01-01T00:00.
    pub fn readings<'a>(&'a self, instants: &'a [i64]) -> impl Iterator<Item = i64> + 'a {
        // An offset holds for a stretch of time, and most neighbours lie in the same one, so keep
        // the last.
        let known = Cell::new((i64::MAX, i64::MIN, 0));
        instants.iter().map(move |&instant| {
            let (from, to, offset) = known.get();
            if (from..to).contains(&instant) {
                return within_calendar(instant + offset);
            }
            let stretch = self.stretch(instant);
            known.set(stretch);
            within_calendar(instant + stretch.2)
        })
    }

    /// The reading of the clock at a point in time. Points in time whose day lies outside the years
    /// 0001 to 9999 in this zone are read as the first or last moment of these years.
    pub fn reading(&self, instant: i64) -> i64 {
        within_calendar(instant + self.offset(instant))
    }

    fn offset(&self, instant: i64) -> i64 {
        i64::from(self.0.to_offset(timestamp(instant)).seconds()) * 1_000_000
    }

    /// The stretch of time around a point with the same offset, and that offset.
    fn stretch(&self, instant: i64) -> (i64, i64, i64) {
        let at = timestamp(instant);
        // A change at the very point has taken place.
        let until = self
            .0
            .following(at)
            .next()
            .map_or(i64::MAX, |change| change.timestamp().as_microsecond());
        let from = self
            .0
            .preceding(at.saturating_add(jiff::SignedDuration::from_micros(1)).unwrap_or(at))
            .next()
            .map_or(i64::MIN, |change| change.timestamp().as_microsecond());
        (from, until, self.offset(instant))
    }

    /// The stretches of time over which the offset changes only by multiples of a unit, from the
    /// beginning of time: for each, the microsecond at which it begins, and an offset in it.
    pub(crate) fn phases(&self, unit: i64) -> Vec<(i64, i64)> {
        let offset = |offset: jiff::tz::Offset| i64::from(offset.seconds()) * 1_000_000;
        let mut phases = vec![(i64::MIN, offset(self.0.to_offset(Timestamp::MIN)))];
        // Zone data lists the changes up to 2037 and then repeats a rule every year, with at most
        // two changes. If a few of these keep the phase, all later ones do.
        let (repeats_from, enough) = (2_145_916_800_000_000, 4);
        let mut kept = 0;
        for change in self.0.following(Timestamp::MIN) {
            let (at, to) = (change.timestamp().as_microsecond(), offset(change.offset()));
            let last = phases.last().map_or(0, |&(_, last)| last);
            if (to - last) % unit != 0 {
                phases.push((at, to));
                kept = 0;
            } else if at >= repeats_from {
                kept += 1;
                if kept == enough {
                    break;
                }
            }
        }
        phases
    }

    /// The clock change between two points in time.
    fn change_between(&self, from: i64, to: i64) -> i64 {
        let next = self
            .0
            .following(timestamp(from))
            .next()
            .map(|change| change.timestamp().as_microsecond());
        next.filter(|&change| change <= to).unwrap_or(to)
    }
}

/// The point in time, or the nearest one for which the zone data has an offset. No clock changes in
/// the first or last days of the calendar.
fn timestamp(micros: i64) -> Timestamp {
    let days = |day: Day, more: i64| (i64::from(day.number()) + more) * MICROS_PER_DAY;
    Timestamp::from_microsecond(micros.clamp(days(Day::MIN, 3), days(Day::MAX, -3)))
        .unwrap_or(Timestamp::UNIX_EPOCH)
}

/// A reading, or the nearest one in the calendar.
fn within_calendar(reading: i64) -> i64 {
    let first = Day::MIN.number() as i64 * MICROS_PER_DAY;
    reading.clamp(first, (i64::from(Day::MAX.number()) + 1) * MICROS_PER_DAY - 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::calendar::{Moment, notation};
    use jiff::civil::DateTime;
    use proptest::prelude::*;
    use rstest::rstest;

    fn show(micros: i64) -> String {
        Moment::from_micros(micros).unwrap().to_string()
    }

    // Lisbon: 2025-03-30 has 23 hours, 2025-10-26 has 25. Santiago skips midnight on 2025-09-07.
    #[rstest]
    #[case("UTC", "2025-03-30", "2025-03-30T00:00", 24)]
    #[case("Europe/Lisbon", "2025-03-30", "2025-03-30T00:00", 23)]
    #[case("Europe/Lisbon", "2025-10-26", "2025-10-25T23:00", 25)]
    #[case("America/Santiago", "2025-09-07", "2025-09-07T04:00", 23)]
    #[case("Asia/Kolkata", "2025-01-01", "2024-12-31T18:30", 24)]
    fn a_day_begins_where_the_zone_has_it(
        #[case] zone: Zone,
        #[case] day: Day,
        #[case] start: &str,
        #[case] hours: i64,
    ) {
        let next = zone.day_start(day.plus_days(1).unwrap());
        assert_eq!(
            (show(zone.day_start(day)).as_str(), (next - zone.day_start(day)) / 3_600_000_000),
            (start, hours)
        );
    }

    #[test]
    fn a_zone_that_is_not_known_is_an_error_with_the_nearest_name() {
        insta::assert_snapshot!(
            "Europe/Lisbonne".parse::<Zone>().unwrap_err(),
            @"`Europe/Lisbonne` is not a time zone. Did you mean `Europe/Lisbon`?"
        );
    }

    #[rstest]
    #[case("Pacific/Apia", "9999-12-31T05:00Z", "9999-12-31T18:00")]
    #[case("Pacific/Apia", "9999-12-31T12:00Z", "9999-12-31T23:59:59.999999")]
    #[case("America/Santiago", "0001-01-01T12:00Z", "0001-01-01T07:17:15")]
    #[case("America/Santiago", "0001-01-01T03:00Z", "0001-01-01T00:00")]
    fn the_ends_of_the_calendar_are_within_it(
        #[case] zone: Zone,
        #[case] instant: &str,
        #[case] reading: &str,
    ) {
        let written = notation::read(instant.as_bytes()).unwrap();
        let instant = written.micros(notation::Order::DayFirst).unwrap();
        assert_eq!(show(zone.reading(instant)), reading);
        assert_eq!(zone.readings(&[instant]).map(show).collect::<Vec<_>>(), [reading]);
    }

    proptest! {
        #[test]
        fn readings_and_instants_agree_with_an_independent_calendar(
            name in prop::sample::select(vec!["Europe/Lisbon", "America/Santiago", "Asia/Kolkata",
                "Pacific/Apia", "UTC"]),
            mut seconds in prop::collection::vec(-2_000_000_000_i64..4_000_000_000, 1..40),
            near in 0_usize..40,
        ) {
            let zone: Zone = name.parse().unwrap();
            // Some that are close together, so that stretches are used again.
            let base = seconds[near % seconds.len()];
            seconds.extend((0..20).map(|hour| base + hour * 3_600));
            let instants: Vec<i64> = seconds.iter().map(|second| second * 1_000_000).collect();
            let readings: Vec<i64> = zone.readings(&instants).collect();
            for (&instant, &reading) in instants.iter().zip(&readings) {
                let theirs = Timestamp::from_microsecond(instant).unwrap().to_zoned_datetime(zone.0
                    .clone());
                prop_assert_eq!(show(reading).parse::<DateTime>().unwrap(), theirs.datetime());
                prop_assert!(zone.instant(reading) <= instant);
                prop_assert_eq!(zone.reading(zone.instant(reading)), reading);
                let day = Moment::from_micros(reading).unwrap().day();
                let start = theirs.start_of_day().unwrap().timestamp().as_microsecond();
                prop_assert_eq!(zone.day_start(day), start);
            }
        }
    }
}
