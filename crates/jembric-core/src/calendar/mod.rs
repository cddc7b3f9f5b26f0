//! Pure date arithmetic: days as numbers, spans, ranges, as-of dates, and the notations of dates in text.
//!
//! A day is the number of days since 1970-01-01 in the proleptic Gregorian calendar, from 0001-01-01 to 9999-12-31;
//! a moment is the number of microseconds since that day's midnight. What leaves those years is an error, never a wrap.

mod as_of;
mod day;
pub mod notation;
mod range;
mod span;

pub use as_of::AsOf;
pub use day::{Day, MICROS_PER_DAY, Moment};
pub use range::Range;
pub use span::Span;
