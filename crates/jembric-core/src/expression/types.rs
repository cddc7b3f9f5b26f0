//! [`TermType`]: the types of the parts of an expression, and which types go together.

use super::problem::Problem;
use crate::{calendar::Grain, kind::Type};
use std::ops::Range;

/// The kind of a part of an expression.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum TermType {
    Of(Type),
    Weekday,
    Span,
    /// No value at all, which fits every type.
    Missing,
    /// A column whose type is unknown until the file is read.
    Unknown,
}

pub(super) const BOOLEAN: TermType = TermType::Of(Type::Boolean);

impl TermType {
    pub(super) fn words(self) -> String {
        match self {
            TermType::Of(Type::Boolean) => "true or false".to_owned(),
            TermType::Of(kind) => kind.to_string(),
            TermType::Weekday => "weekdays".to_owned(),
            TermType::Span => "a span".to_owned(),
            TermType::Missing => "no value".to_owned(),
            TermType::Unknown => "a value of unknown type".to_owned(),
        }
    }

    pub(super) fn is_number(self) -> bool {
        matches!(self, TermType::Of(Type::Integer | Type::Decimal { .. } | Type::Float))
    }

    /// Whether it fits every type.
    pub(super) fn is_open(self) -> bool {
        matches!(self, TermType::Missing | TermType::Unknown)
    }
}

/// The kind of number that holds both.
pub(super) fn common_number(one: TermType, other: TermType) -> TermType {
    match (one, other) {
        (TermType::Of(Type::Float), _) | (_, TermType::Of(Type::Float)) => {
            TermType::Of(Type::Float)
        }
        _ if whole(one) && whole(other) => TermType::Of(Type::Integer),
        _ => TermType::Of(Type::Decimal { places: places(one).max(places(other)) }),
    }
}

pub(super) fn whole(kind: TermType) -> bool {
    kind == TermType::Of(Type::Integer)
}

/// The decimal places of a number.
pub(super) fn places(kind: TermType) -> i8 {
    match kind {
        TermType::Of(Type::Decimal { places }) => places,
        _ => 0,
    }
}

/// The error for a part of another type than the expected one.
pub(super) fn needed(at: &Range<usize>, what: &str, found: TermType) -> Problem {
    Problem::new(at, format!("expected {what} here, but this is {}", found.words()))
}

/// Errors: the part is not a number.
pub(super) fn number(at: &Range<usize>, kind: TermType) -> Result<TermType, Problem> {
    if kind.is_number() || kind.is_open() { Ok(kind) } else { Err(needed(at, "a number", kind)) }
}

/// Errors: the part is not a date, or is too coarse for a period of this grain.
pub(super) fn dated(at: &Range<usize>, kind: TermType, grain: Grain) -> Result<(), Problem> {
    match kind {
        TermType::Of(Type::Moment { .. }) | TermType::Missing | TermType::Unknown => Ok(()),
        TermType::Of(Type::Date(periods)) if grain.holds(periods.grain()) => Ok(()),
        TermType::Of(Type::Date(periods)) => {
            let words = format!("this holds {}, so it has no {grain}", periods.grain().plural());
            Err(Problem::new(at, words))
        }
        kind => Err(needed(at, "a date", kind)),
    }
}

/// The common type of some parts, if they have one. `at` is the place of the whole.
///
/// Errors: one column cannot hold all of them.
pub(super) fn common<'a>(
    at: &Range<usize>,
    parts: impl IntoIterator<Item = (&'a Range<usize>, TermType)>,
) -> Result<TermType, Problem> {
    let mut all = TermType::Missing;
    let mut unknown = false;
    for (part, kind) in parts {
        all = match (all, kind) {
            (all, TermType::Missing) => all,
            (TermType::Missing, kind) => kind,
            (all, TermType::Unknown) => {
                unknown = true;
                all
            }
            (TermType::Unknown, kind) => {
                unknown = true;
                kind
            }
            (one, other) if one.is_number() && other.is_number() => common_number(one, other),
            (one, other) if one == other && one != TermType::Span => one,
            (one, other) => {
                let words = format!(
                    "{} here, but {} elsewhere: one column cannot hold both",
                    other.words(),
                    one.words()
                );
                return Err(Problem::new(part, words));
            }
        };
    }
    if all == TermType::Span {
        return Err(Problem::new(at, "a column cannot hold a span"));
    }
    Ok(if unknown { TermType::Unknown } else { all })
}
