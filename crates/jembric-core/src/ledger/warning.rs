//! [`Warning`]: what whoever reads an answer should know before using it.

use crate::calendar::{Periods, Range};
use serde::{Serialize, Serializer};
use std::fmt;

/// What the reader of an answer should know before using it.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Warning {
    /// Several records of one entity were kept, since nothing decides between them.
    Tied {
        /// The date column on which they tie.
        date: String,
        /// How many entities have such records.
        entities: u64,
        /// How many records that are.
        records: u64,
    },
    /// Several windows were kept for one event, which the answer repeats.
    Repeated {
        /// How many events have several.
        events: u64,
        /// How many rows of the answer that makes.
        pairs: u64,
    },
    /// Keys without a window are like the keys of windows but for case and blanks at the ends.
    KeysNearlyMatch {
        /// How many events have such keys.
        events: u64,
        /// The least of these keys.
        stray: String,
        /// The key of windows that it is like.
        window: String,
    },
    /// The range holds some periods only in part, and rows outside the range do not count.
    PeriodsInPart {
        /// The range.
        range: String,
        /// What is made of the part: a row of the answer, or a column beside it.
        what: Option<String>,
        /// The first and last of these periods.
        periods: Vec<String>,
    },
}

impl Warning {
    /// The warning that a range holds some periods only in part; none where it holds all of them.
    pub(crate) fn of_periods_in_part(
        range: Range,
        periods: Periods,
        what: Option<String>,
    ) -> Option<Warning> {
        let cut = range.cut_periods(periods);
        let periods = cut.iter().map(ToString::to_string).collect();
        (!cut.is_empty()).then(|| Warning::PeriodsInPart {
            range: range.to_string(),
            what,
            periods,
        })
    }

    /// Adds another warning of the same kind; tells whether it is one.
    pub(super) fn absorb(&mut self, other: &Warning) -> bool {
        match (&mut *self, other) {
            (
                Warning::Tied { entities, records, .. },
                Warning::Tied { entities: more_entities, records: more_records, .. },
            ) => {
                *entities += more_entities;
                *records += more_records;
            }
            (
                Warning::Repeated { events, pairs },
                Warning::Repeated { events: more_events, pairs: more_pairs },
            ) => {
                *events += more_events;
                *pairs += more_pairs;
            }
            (
                Warning::KeysNearlyMatch { events, stray, window },
                Warning::KeysNearlyMatch { events: more, stray: other_stray, window: other_window },
            ) => {
                *events += more;
                if (other_stray, other_window) < (&*stray, &*window) {
                    stray.clone_from(other_stray);
                    window.clone_from(other_window);
                }
            }
            // It is said of the setting, and is the same of every part of a table.
            (Warning::PeriodsInPart { .. }, other) => return *self == *other,
            _ => return false,
        }
        true
    }
}

impl fmt::Display for Warning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Warning::Tied { date, entities, records } => {
                let (entity, has) =
                    if *entities == 1 { ("entity", "has") } else { ("entities", "have") };
                write!(
                    f,
                    "{entities} {entity} {has} {records} records that tie on {date}: a sum over \
                        the answer counts each of them. \
                     Break ties with `then`, or choose with `ties`"
                )
            }
            Warning::Repeated { events, pairs } => {
                let (event, falls) =
                    if *events == 1 { ("event", "falls") } else { ("events", "fall") };
                write!(
                    f,
                    "{events} {event} {falls} in several windows and {} {pairs} rows: a sum over \
                        the answer counts each of them. \
                     Choose one window with `pick`",
                    if *events == 1 { "makes" } else { "make" }
                )
            }
            Warning::KeysNearlyMatch { events, stray, window } => {
                let (event, has) = if *events == 1 { ("event", "has") } else { ("events", "have") };
                write!(
                    f,
                    "{events} {event} that {has} no window for the key would have one if case and \
                        blanks at the ends did not \
                     count: `{stray}` beside `{window}`"
                )
            }
            Warning::PeriodsInPart { range, what, periods } => {
                let periods = periods.join(" and ");
                match what {
                    None => write!(
                        f,
                        "the range {range} holds only a part of {periods}: rows outside it do not \
                            count"
                    ),
                    Some(what) => {
                        write!(
                            f,
                            "{what} counts only rows in the range {range}, which holds only a \
                                part of {periods}"
                        )
                    }
                }
            }
        }
    }
}

impl Serialize for Warning {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
