//! [`Reason`]: why a row is not in the result.

use borsh::{BorshDeserialize, BorshSerialize};
use serde::{Serialize, Serializer};
use std::fmt;

/// Why a row is not in the result. The order is that in which ledgers list the reasons.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, BorshSerialize, BorshDeserialize,
)]
#[non_exhaustive]
pub enum Reason {
    /// Its date is missing.
    NoDate,
    /// Its start is missing.
    NoStart,
    /// Its end is before its start.
    EndBeforeStart,
    /// One of its key columns is missing.
    NoKey,
    /// Its entity has a later record.
    Superseded,
    /// Its entity has an earlier record.
    Preceded,
    /// It ties with the record that was kept.
    TiedWithTheOneKept,
    /// Its date is before the range.
    BeforeView,
    /// Its date is after the range.
    AfterView,
    /// It lies outside the range.
    OutsideRange,
    /// Its end is missing.
    Open,
    /// Its date is after the as-of date.
    AfterAsOf,
    /// It has no active day: it ends on the day it starts, and the end day is exclusive.
    NoActiveDay,
    /// It is not active on the date asked for.
    NotActiveThen,
    /// The condition is false.
    ConditionNotTrue,
    /// The condition is unknown, because it compares a missing value.
    ConditionUndecided,
    /// No window has its key.
    NoWindowForItsKey,
    /// Windows have its key, but each of them was set aside or dropped.
    NoUsableWindowForItsKey,
    /// It lies outside every window with its key.
    OutsideEveryWindow,
    /// There is no window, and none is matched by key.
    NoWindow,
    /// Each window was set aside or dropped, and none is matched by key.
    NoUsableWindow,
    /// It lies outside every window, and none is matched by key.
    OutsideAllWindows,
    /// It lies inside a window.
    InAWindow,
    /// It contains no event.
    WithoutAnEvent,
    /// It contains an event.
    WithAnEvent,
    /// It has the totals of other rows.
    TotalRow,
    /// It is equal to the record on the other side.
    Unchanged,
}

impl Reason {
    /// The reason as text.
    pub fn text(self) -> &'static str {
        match self {
            Reason::NoDate => "date missing",
            Reason::NoKey => "key missing",
            Reason::AfterAsOf => "after the as-of date",
            Reason::Superseded => "superseded by a later record",
            Reason::Preceded => "preceded by an earlier record",
            Reason::TiedWithTheOneKept => "tied with the record kept",
            Reason::BeforeView => "before the range",
            Reason::AfterView => "after the range",
            Reason::OutsideRange => "outside the range",
            Reason::Open => "end date missing",
            Reason::NoActiveDay => "no active day",
            Reason::NoStart => "start date missing",
            Reason::EndBeforeStart => "end before start",
            Reason::NotActiveThen => "not active on that date",
            Reason::ConditionNotTrue => "condition false",
            Reason::ConditionUndecided => "condition unknown (missing value)",
            Reason::NoWindowForItsKey => "no window with this key",
            Reason::NoUsableWindowForItsKey => "no usable window with this key",
            Reason::OutsideEveryWindow => "outside every window with this key",
            Reason::NoWindow => "no window",
            Reason::NoUsableWindow => "no usable window",
            Reason::OutsideAllWindows => "outside every window",
            Reason::InAWindow => "inside a window",
            Reason::WithoutAnEvent => "contains no event",
            Reason::WithAnEvent => "contains an event",
            Reason::TotalRow => "row of totals",
            Reason::Unchanged => "unchanged",
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.text())
    }
}

impl Serialize for Reason {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(self.text())
    }
}
