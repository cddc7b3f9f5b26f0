//! [`Warning`]: what a reader should know before using a result.

use super::{
    Entry, Reason, Tally,
    display::{Rendered, number},
    total,
};
use crate::{
    calendar::{Day, Periods, Range},
    error::Advised,
    shape::Named,
};
use borsh::{BorshDeserialize, BorshSerialize};
use serde::{Serialize, Serializer};
use std::fmt;

/// What a reader should know before using a result.
#[derive(Clone, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
#[non_exhaustive]
pub enum Warning {
    /// Several records of one entity were kept because they tie.
    Tied {
        /// The date column on which they tie.
        date: String,
        /// The number of entities with such records.
        entities: u64,
        /// The number of these records.
        records: u64,
    },
    /// Several windows were kept for one event, which the result repeats.
    Repeated {
        /// The number of events with several windows.
        events: u64,
        /// The number of rows that they make in the result.
        pairs: u64,
    },
    /// Some keys of events match keys of windows only if case and outer blanks are ignored.
    KeysNearlyMatch {
        /// The number of events with such keys.
        events: u64,
        /// The least of these keys.
        stray: String,
        /// The key of windows that is similar to it.
        window: String,
    },
    /// Some records that appeared have the key of an older one if case and outer blanks are
    /// ignored.
    KeysNearlySame {
        /// The number of records with such keys.
        records: u64,
        /// The least of these keys.
        now: String,
        /// The older key that is similar to it.
        before: String,
    },
    /// No record is as old as the earlier date, so that all records appeared.
    NothingBefore {
        /// The earlier date.
        date: Day,
    },
    /// The range covers some periods only in part, and rows outside the range do not count.
    PeriodsInPart {
        /// The range.
        range: String,
        /// What the part becomes: a row of the result, or this column.
        what: Option<String>,
        /// The first and last of these periods.
        periods: Vec<String>,
    },
    /// The range covers some periods only in part, and they count as a whole, because the column
    /// holds nothing finer.
    PeriodsAsAWhole {
        /// The range.
        range: String,
        /// The column of dates.
        column: String,
        /// What it holds: months and the like.
        holds: String,
        /// The first and last of these periods.
        periods: Vec<String>,
    },
    /// Most or all rows are left out, and this is the probable cause. It is part of a ledger only
    /// if it is due.
    RowsLost {
        /// The probable cause.
        cause: Cause,
        /// The number of rows that are left out for it.
        rows: u64,
        /// The number of rows to compare with.
        of: u64,
    },
}

/// A probable mistake that explains why rows are left out.
#[derive(Clone, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
#[non_exhaustive]
pub enum Cause {
    /// More than half of the intervals end before they start.
    Reversed {
        /// The column of starts.
        start: String,
        /// The column of ends.
        end: String,
    },
    /// More than half of the rows have no date.
    NoDate {
        /// The column of dates.
        column: String,
    },
    /// More than half of the rows have no key.
    NoKey {
        /// The columns of the key.
        columns: Vec<String>,
    },
    /// Every date is after the as-of date.
    AfterAsOf {
        /// The column of dates.
        column: String,
    },
    /// Every row lies outside the range.
    OutsideRange,
    /// The condition is unknown for every row.
    ConditionUnknown,
    /// No event has the key of any window.
    NoKeyMatches {
        /// The columns of the events.
        columns: Vec<String>,
        /// The columns of the windows.
        of_windows: Vec<String>,
    },
}

impl Cause {
    pub(crate) fn no_key(key: &[Named]) -> Cause {
        Cause::NoKey { columns: key.iter().map(|named| named.column.clone()).collect() }
    }

    /// The reasons for leaving rows out that this mistake explains.
    fn reasons(&self) -> &'static [Reason] {
        match self {
            Cause::Reversed { .. } => &[Reason::EndBeforeStart],
            Cause::NoDate { .. } => &[Reason::NoDate, Reason::NoStart],
            Cause::NoKey { .. } => &[Reason::NoKey],
            Cause::AfterAsOf { .. } => &[Reason::AfterAsOf],
            Cause::OutsideRange => &[Reason::BeforeView, Reason::AfterView, Reason::OutsideRange],
            Cause::ConditionUnknown => &[Reason::ConditionUndecided],
            Cause::NoKeyMatches { .. } => &[Reason::NoWindowForItsKey],
        }
    }

    /// Whether the mistake sets rows aside. Then more than half of the rows are suspicious;
    /// otherwise only all of the rows that were not set aside.
    fn sets_aside(&self) -> bool {
        matches!(self, Cause::Reversed { .. } | Cause::NoDate { .. } | Cause::NoKey { .. })
    }

    /// The warning for this cause, which may not be due.
    pub(super) fn warning(&self, tally: &Tally) -> Warning {
        let rows = |entries: &[Entry]| -> u64 {
            let own = entries.iter().filter(|entry| self.reasons().contains(&entry.reason));
            own.map(|entry| entry.rows).sum()
        };
        let rows = rows(&tally.dropped) + rows(&tally.set_aside);
        let unused = if self.sets_aside() { 0 } else { total(&tally.set_aside) };
        Warning::RowsLost { cause: self.clone(), rows, of: tally.rows_in - unused }
    }
}

impl Warning {
    /// The warning that a range covers some periods only in part; none if it covers all of them.
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

    /// The warning that a range covers some periods of a column only in part.
    pub(crate) fn of_whole_periods(
        range: Range,
        column: &str,
        periods: Periods,
    ) -> Option<Warning> {
        let cut = range.cut_periods(periods);
        (!cut.is_empty()).then(|| Warning::PeriodsAsAWhole {
            range: range.to_string(),
            column: column.to_owned(),
            holds: periods.grain().plural().to_owned(),
            periods: cut.iter().map(ToString::to_string).collect(),
        })
    }

    /// Whether readers should see the warning.
    pub(super) fn is_due(&self) -> bool {
        match self {
            Warning::RowsLost { cause, rows, of } if cause.sets_aside() => rows * 2 > *of,
            Warning::RowsLost { rows, of, .. } => *rows > 0 && rows == of,
            _ => true,
        }
    }

    /// Adds another warning of the same kind, and returns whether it is one.
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
            (
                Warning::RowsLost { cause, rows, of },
                Warning::RowsLost { cause: other, rows: more, of: more_of },
            ) if cause == other => {
                *rows += more;
                *of += more_of;
            }
            // This is about the setting, and the same for every part of a table.
            (Warning::PeriodsInPart { .. } | Warning::PeriodsAsAWhole { .. }, other) => {
                return *self == *other;
            }
            _ => return false,
        }
        true
    }
}

impl fmt::Display for Warning {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        Rendered(self, &|advised| advised.in_rust()).fmt(f)
    }
}

impl fmt::Display for Rendered<'_, Warning> {
    #[expect(
        clippy::too_many_lines,
        reason = "one arm for each fact, so that the compiler finds one without a text"
    )]
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let named = |name| (self.1)(&Advised::Named(name));
        match self.0 {
            Warning::Tied { date, entities, records } => {
                let (entity, has) =
                    if *entities == 1 { ("entity", "has") } else { ("entities", "have") };
                let [entities, records] = [entities, records].map(|n| number(f, n));
                write!(
                    f,
                    "{entities} {entity} {has} {records} records that tie on `{date}`, so a sum \
                        over the result counts each of them. Break ties with {}, or choose with {}",
                    named("then"),
                    named("ties")
                )
            }
            Warning::Repeated { events, pairs } => {
                let (event, lies, makes) = match events {
                    1 => ("event", "lies", "makes"),
                    _ => ("events", "lie", "make"),
                };
                let [events, pairs] = [events, pairs].map(|n| number(f, n));
                write!(
                    f,
                    "{events} {event} {lies} in several windows and {makes} {pairs} rows, so a \
                        sum over the result counts each of them. Choose one window with {}",
                    named("pick")
                )
            }
            Warning::KeysNearlyMatch { events, stray, window } => {
                let (event, matches) =
                    if *events == 1 { ("event", "matches") } else { ("events", "match") };
                let events = number(f, events);
                write!(
                    f,
                    "{events} {event} {matches} a window only if upper and lower case and outer \
                        blanks are ignored: `{stray}` and `{window}`"
                )
            }
            Warning::KeysNearlySame { records, now, before } => {
                let (record, has) =
                    if *records == 1 { ("record", "has") } else { ("records", "have") };
                let records = number(f, records);
                write!(
                    f,
                    "{records} {record} that appeared {has} the key of an older one if upper and \
                        lower case and outer blanks are ignored: `{now}` and `{before}`"
                )
            }
            Warning::NothingBefore { date } => {
                write!(f, "no record is as old as {date}, so all records appeared")
            }
            Warning::PeriodsInPart { range, what, periods } => {
                let periods = periods.join(" and ");
                match what {
                    None => write!(
                        f,
                        "the range {range} covers only part of {periods}. Rows outside the range \
                            are not counted"
                    ),
                    Some(what) => write!(
                        f,
                        "{what} counts only rows in the range {range}, which covers only part of \
                            {periods}"
                    ),
                }
            }
            Warning::PeriodsAsAWhole { range, column, holds, periods } => {
                let (periods, count) =
                    (periods.join(" and "), if periods.len() == 1 { "counts" } else { "count" });
                write!(
                    f,
                    "the range {range} covers only part of {periods}, which {count} as a whole, \
                        because `{column}` holds {holds}"
                )
            }
            Warning::RowsLost { cause, rows, of } => {
                let [rows, of] = [rows, of].map(|n| number(f, n));
                match cause {
                    Cause::Reversed { start, end } => write!(
                        f,
                        "{rows} of {of} intervals end before they start: are `{start}` and \
                            `{end}` swapped?"
                    ),
                    Cause::NoDate { column } => write!(
                        f,
                        "`{column}` is missing in {rows} of {of} rows: is it the right column?"
                    ),
                    Cause::NoKey { columns } => write!(
                        f,
                        "{} is missing in {rows} of {of} rows: is it the right key?",
                        quoted(columns)
                    ),
                    Cause::AfterAsOf { column } => write!(
                        f,
                        "every `{column}` is after the as-of date: is the as-of date right?"
                    ),
                    Cause::OutsideRange => {
                        f.write_str("every row lies outside the range: is the range right?")
                    }
                    Cause::ConditionUnknown => f.write_str(
                        "the condition is unknown for every row, because it compares missing \
                            values. Test for them with `is missing` or `is not missing`",
                    ),
                    Cause::NoKeyMatches { columns, of_windows } => write!(
                        f,
                        "no event matches a window: {} and {} of the windows have no value in \
                            common. Are these the right columns to match?",
                        quoted(columns),
                        quoted(of_windows)
                    ),
                }
            }
        }
    }
}

fn quoted(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}

impl Serialize for Warning {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}
