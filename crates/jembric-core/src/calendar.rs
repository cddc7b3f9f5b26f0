//! Date arithmetic without clock or files: days as numbers, periods of every grain, spans, ranges,
//! as-of dates, workdays, time zones, and the notations of dates in text.
//!
//! A day is the number of days since 1970-01-01 in the proleptic Gregorian calendar, from
//! 0001-01-01 to 9999-12-31. A moment is the number of microseconds since that day's midnight. A
//! result outside these years is an error and never wraps around.

/// Values are serialized in their text form.
macro_rules! serialized_as_text {
    ($($kind:ty),*) => {$(
        impl serde::Serialize for $kind {
            fn serialize<S: serde::Serializer>(&self, serializer: S) -> std::result::Result<S::Ok,
                S::Error> {
                // Formats write the text alone. The name tells tables of records the type.
                let text = self.to_string();
                serializer.serialize_newtype_struct(stringify!($kind), &text)
            }
        }

        impl<'de> serde::Deserialize<'de> for $kind {
            fn deserialize<D: serde::Deserializer<'de>>(deserializer: D)
                -> std::result::Result<$kind, D::Error> {
                String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
            }
        }
    )*};
}
pub(crate) use serialized_as_text;

pub(crate) const MICROS_PER_HOUR: i64 = 3_600_000_000;

serialized_as_text!(Day, Grain, Month, Span, Range, Weekday, Zone);

mod as_of;
mod day;
mod directives;
mod error;
mod grain;
mod hours;
pub mod notation;
mod period;
mod range;
mod span;
mod workdays;
mod zone;

pub use as_of::AsOf;
pub use day::{Day, MICROS_PER_DAY, Moment};
pub use directives::Directives;
pub use error::ValueError;
pub use grain::{Grain, Month, Weekday};
pub(crate) use hours::Hours;
pub(crate) use period::common_periods;
pub use period::{Period, Periods, label, loose_label};
pub use range::Range;
pub use span::Span;
pub use workdays::Workdays;
pub use zone::Zone;

#[cfg(test)]
mod tests;
