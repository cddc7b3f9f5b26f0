//! Compares the columns of both sides, record by record.
//!
//! Numbers of different types are compared by their exact values. What is left of different types
//! is compared as text, which allocates, and is rare.

use super::Compared;
use crate::{
    cell_text::CellText,
    decimal::Decimal,
    error::Result,
    kind::Type,
    number::{Numbers, in_one_type},
    parallel,
    table::Table,
};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
use std::cmp::Ordering;

/// The longest text that its view contains.
const SHORT: u32 = 12;

/// For each column, the records of both sides whose cells differ.
pub(super) fn differing(
    compared: &[Compared],
    now: &Table,
    before: &Table,
    both: &[(u32, u32)],
    within: Option<Decimal>,
) -> Result<Vec<BooleanBuffer>> {
    let one = |column: &Compared| {
        let (one, other) = (now.at(column.now), before.at(column.before));
        let kinds = (now.kind(column.now), before.kind(column.before));
        let are_numbers = kinds.0.is_number() && kinds.1.is_number();
        if kinds.0 != kinds.1 && !are_numbers && !has_no_values(one) && !has_no_values(other) {
            return Ok(texts_differ(now, before, column, both));
        }
        let within = if are_numbers { within } else { None };
        let any_float = [kinds.0, kinds.1].contains(&Type::Float);
        if let (Some(these), Some(those)) = (Numbers::from_array(one), Numbers::from_array(other))
            && any_float
            && (within.is_some() || kinds.0 != kinds.1)
        {
            let far = |now: usize, before: usize| {
                these.compare(now, &those, before) != Ordering::Equal
                    && within.is_none_or(|within| {
                        let apart = these.at(now).minus(those.at(before));
                        apart.is_none_or(|apart| apart.size() > within.into())
                    })
            };
            return Ok(differ([one, other], both, far));
        }
        let (one, other) = in_one_type(one, other)?;
        Ok(values_differ(&one, &other, both, within))
    };
    compared.iter().map(one).collect()
}

fn has_no_values(array: &ArrayRef) -> bool {
    *array.data_type() == DataType::Null
}

/// The records for which a condition on their rows is true, on all threads.
fn records(both: &[(u32, u32)], is: impl Fn(usize, usize) -> bool + Sync) -> BooleanBuffer {
    parallel::bits(both.len(), |record| {
        let (now, before) = both[record];
        is(now as usize, before as usize)
    })
}

/// The records whose values differ by a condition. A missing value differs from any value.
fn differ(
    [one, other]: [&ArrayRef; 2],
    both: &[(u32, u32)],
    unequal: impl Fn(usize, usize) -> bool + Sync,
) -> BooleanBuffer {
    let (one_nulls, other_nulls) = (one.logical_nulls(), other.logical_nulls());
    let has = |nulls: &Option<NullBuffer>, row| {
        nulls.as_ref().is_none_or(|nulls: &NullBuffer| nulls.is_valid(row))
    };
    if one_nulls.is_none() && other_nulls.is_none() {
        return records(both, unequal);
    }
    records(both, |now, before| match (has(&one_nulls, now), has(&other_nulls, before)) {
        (true, true) => unequal(now, before),
        (one, other) => one != other,
    })
}

/// The records whose values differ, in columns of one type.
fn values_differ(
    one: &ArrayRef,
    other: &ArrayRef,
    both: &[(u32, u32)],
    within: Option<Decimal>,
) -> BooleanBuffer {
    macro_rules! differ {
        ($unequal:expr) => {
            differ([one, other], both, $unequal)
        };
    }
    macro_rules! values {
        ($type:ty) => {{
            let (one, other) = (one.as_primitive::<$type>(), other.as_primitive::<$type>());
            let (one, other) = (one.values(), other.values());
            differ!(|now: usize, before: usize| one[now] != other[before])
        }};
        ($type:ty, $places:expr) => {{
            let Some(within) = within else { return values!($type) };
            let (one, other) = (one.as_primitive::<$type>(), other.as_primitive::<$type>());
            let (one, other) = (one.values(), other.values());
            let far = farther(within, $places);
            differ!(|now: usize, before: usize| far(one[now].into(), other[before].into()))
        }};
    }
    match one.data_type() {
        DataType::Int64 => values!(Int64Type, 0),
        DataType::Decimal64(_, places) => values!(Decimal64Type, *places),
        DataType::Decimal128(_, places) => values!(Decimal128Type, *places),
        DataType::Float64 => {
            let (one, other) =
                (one.as_primitive::<Float64Type>(), other.as_primitive::<Float64Type>());
            let (one, other) = (one.values(), other.values());
            differ!(|now: usize, before: usize| one[now] != other[before])
        }
        DataType::Date32 => values!(Date32Type),
        DataType::Timestamp(..) => values!(TimestampMicrosecondType),
        DataType::Time64(_) => values!(Time64MicrosecondType),
        DataType::Boolean => {
            let (one, other) = (one.as_boolean(), other.as_boolean());
            differ!(|now: usize, before: usize| one.value(now) != other.value(before))
        }
        DataType::Utf8View => {
            let (one, other) = (one.as_string_view(), other.as_string_view());
            differ!(|now: usize, before: usize| {
                let (a, b) = (one.views()[now], other.views()[before]);
                // The view of a short text is the text. Long texts differ if their length or their
                // first bytes do; otherwise they are read.
                if a as u64 != b as u64 {
                    true
                } else if a as u32 <= SHORT {
                    a != b
                } else {
                    one.value(now) != other.value(before)
                }
            })
        }
        // Neither side has values.
        _ => BooleanBuffer::new_unset(both.len()),
    }
}

/// Whether two numbers with these decimal places differ by more than a limit.
fn farther(within: Decimal, places: i8) -> impl Fn(i128, i128) -> bool {
    let (own, limit) = (u32::from(places.max(0) as u8), u32::from(within.places()));
    let ten = |places: u32| 10_i128.pow(places);
    // Both in units of the longer number of places. A product beyond the range is beyond the limit.
    let scale = ten(limit.saturating_sub(own));
    let limit = within.units().saturating_mul(ten(own.saturating_sub(limit)));
    move |one, other| {
        let apart = one.checked_sub(other).and_then(|apart| apart.checked_abs());
        apart.and_then(|apart| apart.checked_mul(scale)).is_none_or(|apart| apart > limit)
    }
}

/// The records whose cells have different texts.
fn texts_differ(
    now: &Table,
    before: &Table,
    column: &Compared,
    both: &[(u32, u32)],
) -> BooleanBuffer {
    let (one, other) =
        (&CellText::for_columns(now)[column.now], &CellText::for_columns(before)[column.before]);
    records(both, |now, before| {
        one.is_missing(now) != other.is_missing(before) || one.text(now) != other.text(before)
    })
}
