//! Sorts rows by several columns through packed keys: one number for each row that holds its values
//! in all columns, and its row number in the lowest bits.
//!
//! Most columns need few bits: the days of ten years need twelve, and a short text needs eight for
//! each byte. So the keys of most tables fit into 64 or 128 bits, and sorting compares numbers that
//! lie next to each other in memory. Because the row number is part of the key, equal rows keep
//! their order whatever the sort does. If the values need more bits, the key holds the first of
//! them, and rows with equal keys are compared by the columns.

use crate::{
    entities::{Entities, Missing},
    error::Result,
    parallel,
    sort_keys::SortKeys,
};
use arrow_array::{Array, ArrayRef, UInt32Array, cast::AsArray, types::*};
use arrow_ord::ord::{DynComparator, make_comparator};
use arrow_schema::{DataType, SortOptions};
use arrow_select::take::take;
use rayon::prelude::*;
use std::{cmp::Ordering, ops::Range};

/// The bytes of longer texts that are part of a key.
const PREFIX: usize = 8;
/// Texts up to this many bytes are part of a key with their length.
const SHORT_TEXT: usize = 11;
/// Fewer rows are sorted by one thread.
const ROWS_A_THREAD: usize = 1 << 14;

/// The values of a column as numbers in its order. Missing values are greater than all others.
enum Values {
    Narrow(Vec<u64>),
    Wide(Vec<u128>),
}

/// The part of a key that is made of one column.
struct KeyPart {
    values: Values,
    bits: u32,
    /// Whether equal numbers are equal values.
    is_exact: bool,
}

/// A key with the row in its lowest bits.
trait Key: Copy + Ord + Send + Sync + Default {
    /// Keys of the values of one column.
    fn pack(values: Values) -> Vec<Self>;
    fn appended(self, bits: u32, value: u128) -> Self;
    fn low(self, bits: u32) -> u32;
    fn without(self, bits: u32) -> Self;
}

macro_rules! key {
    ($type:ty, $narrow:expr, $wide:expr) => {
        impl Key for $type {
            fn pack(values: Values) -> Vec<$type> {
                match values {
                    Values::Narrow(values) => $narrow(values),
                    Values::Wide(values) => $wide(values),
                }
            }
            #[inline]
            fn appended(self, bits: u32, value: u128) -> $type {
                self << bits | value as $type
            }
            #[inline]
            fn low(self, bits: u32) -> u32 {
                (self & ((1 << bits) - 1)) as u32
            }
            #[inline]
            fn without(self, bits: u32) -> $type {
                self >> bits
            }
        }
    };
}

key!(u64, |values| values, |values: Vec<u128>| parallel::map(&values, |value| value as u64));
key!(u128, |values: Vec<u64>| parallel::map(&values, u128::from), |values| values);

/// The numbers of the rows in the order of these columns, each with whether it is descending.
/// Missing values come last; equal rows keep their order.
///
/// Cost: a few passes over the columns, and one sort of a number for each row on all threads.
pub(super) fn order_of_rows(columns: &[(ArrayRef, bool)], rows: usize) -> Result<Vec<u32>> {
    // The bits of a row number.
    let of_row = usize::BITS - rows.leading_zeros();
    let (mut parts, mut bits, mut is_exact) = (Vec::new(), of_row, true);
    for (column, descending) in columns {
        let Some(part) = KeyPart::from_column(column, *descending)? else {
            is_exact = false;
            break;
        };
        if bits + part.bits > u128::BITS {
            is_exact = false;
            break;
        }
        bits += part.bits;
        is_exact = part.is_exact;
        parts.push(part);
        if !is_exact {
            break;
        }
    }
    // The last column of a key may be inexact, so it is compared again.
    let compared =
        parts.len() - usize::from(!is_exact && parts.last().is_some_and(|last| !last.is_exact));
    let rest = if is_exact { Vec::new() } else { comparators(&columns[compared..])? };
    Ok(if bits <= u64::BITS {
        sorted::<u64>(parts, of_row, rows, &rest)
    } else {
        sorted::<u128>(parts, of_row, rows, &rest)
    })
}

fn comparators(columns: &[(ArrayRef, bool)]) -> Result<Vec<DynComparator>> {
    let compare = columns.iter().map(|(column, descending)| {
        let options = SortOptions { descending: *descending, nulls_first: false };
        make_comparator(column, column, options)
    });
    Ok(compare.collect::<std::result::Result<_, _>>()?)
}

fn sorted<K: Key>(
    parts: Vec<KeyPart>,
    of_row: u32,
    rows: usize,
    rest: &[DynComparator],
) -> Vec<u32> {
    let mut parts = parts.into_iter();
    let mut keys = match parts.next() {
        Some(first) => K::pack(first.values),
        None => vec![K::default(); rows],
    };
    let parts: Vec<KeyPart> = parts.collect();
    parallel::fill(&mut keys, ROWS_A_THREAD, |first, keys| {
        for part in &parts {
            let with = |(key, value): (&mut K, u128)| *key = key.appended(part.bits, value);
            let own = first..first + keys.len();
            match &part.values {
                Values::Narrow(values) => {
                    let values = values[own].iter().map(|&value| value.into());
                    keys.iter_mut().zip(values).for_each(with);
                }
                Values::Wide(values) => {
                    keys.iter_mut().zip(values[own].iter().copied()).for_each(with)
                }
            }
        }
        for (key, row) in keys.iter_mut().zip(first as u128..) {
            *key = key.appended(of_row, row);
        }
    });
    // Tables are often sorted already.
    if !keys.is_sorted() {
        if rows < ROWS_A_THREAD { keys.sort_unstable() } else { keys.par_sort_unstable() }
    }
    let mut order = parallel::map(&keys, |key: K| key.low(of_row));
    if !rest.is_empty() {
        let compared = |&one: &u32, &other: &u32| {
            let orders = rest.iter().map(|compare| compare(one as usize, other as usize));
            orders.into_iter().find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
        };
        let (mut groups, mut left) = (Vec::new(), &mut order[..]);
        for same in keys.chunk_by(|one, other| one.without(of_row) == other.without(of_row)) {
            let (group, others) = left.split_at_mut(same.len());
            left = others;
            if group.len() > 1 {
                groups.push(group);
            }
        }
        parallel::of_parts(groups, |_, group| group.par_sort_by(compared));
    }
    order
}

impl KeyPart {
    /// None for a column whose values do not fit into numbers.
    fn from_column(column: &ArrayRef, descending: bool) -> Result<Option<KeyPart>> {
        let mut is_exact = true;
        let values = match column.data_type() {
            DataType::Utf8View => match longest(column) {
                longest @ ..=SHORT_TEXT => Values::Wide(short_texts(column, longest)),
                _ => match ranks(column)? {
                    Some(ranks) => Values::Narrow(ranks),
                    None => {
                        is_exact = false;
                        Values::Narrow(prefixes(column))
                    }
                },
            },
            DataType::Boolean => {
                let values = column.as_boolean().values();
                Values::Narrow(values.iter().map(u64::from).collect())
            }
            DataType::UInt32 => {
                let ranks = column.as_primitive::<UInt32Type>().values();
                Values::Narrow(parallel::map(ranks, u64::from))
            }
            DataType::Time64(_) => {
                let micros = column.as_primitive::<Time64MicrosecondType>().values();
                Values::Narrow(parallel::map(micros, in_order))
            }
            DataType::Decimal128(..) => {
                let units = column.as_primitive::<Decimal128Type>().values();
                let flipped = |unit: i128| unit as u128 ^ 1 << 127;
                Values::Wide(parallel::map(units, flipped))
            }
            DataType::Int64
            | DataType::Decimal64(..)
            | DataType::Float64
            | DataType::Date32
            | DataType::Timestamp(..) => match SortKeys::from_column(column)? {
                SortKeys::Numbers(numbers) => Values::Narrow(parallel::map(&numbers, in_order)),
                SortKeys::Ranks(ranks) => Values::Narrow(parallel::map(&ranks, u64::from)),
            },
            _ => return Ok(None),
        };
        let nulls = column.logical_nulls().filter(|nulls| nulls.null_count() > 0);
        let is_valid = |row: usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        // Numbers are counted from the least or down from the greatest, so they need few bits.
        macro_rules! counted {
            ($values:ident, $wrap:path) => {{
                let valid = |row: usize| is_valid(row).then(|| $values[row]);
                let (least, most) = parallel::ends($values.len(), valid).unwrap_or_default();
                let Some(none) = (most - least).checked_add(nulls.is_some().into()) else {
                    // There is no number left for missing values.
                    return Ok(None);
                };
                let counted = |row: usize| {
                    if !is_valid(row) {
                        none
                    } else if descending {
                        most - $values[row]
                    } else {
                        $values[row] - least
                    }
                };
                let numbers = parallel::of_rows($values.len(), counted);
                let bits = none.checked_ilog2().map_or(0, |bits| bits + 1);
                KeyPart { values: $wrap(numbers), bits, is_exact }
            }};
        }
        Ok(Some(match values {
            Values::Narrow(values) => counted!(values, Values::Narrow),
            Values::Wide(values) => counted!(values, Values::Wide),
        }))
    }
}

/// A signed number as one without a sign in the same order.
fn in_order(number: i64) -> u64 {
    number as u64 ^ 1 << 63
}

/// The bytes of the longest text.
fn longest(column: &ArrayRef) -> usize {
    let views = column.as_string_view().views();
    let of_stretch = |rows: Range<usize>| views[rows].iter().map(|view| *view as u32).max();
    let longest = parallel::of_stretches(views.len(), ROWS_A_THREAD, of_stretch);
    longest.into_iter().flatten().max().unwrap_or(0) as usize
}

/// Texts of up to eleven bytes: their bytes, and then their length, because a text comes before
/// those that begin with it.
fn short_texts(column: &ArrayRef, longest: usize) -> Vec<u128> {
    let views = column.as_string_view().views();
    // A view has the length in its lowest four bytes, and then twelve bytes of text, padded with
    // zeros. Swapped, the first byte of the text is the highest.
    let unused = 8 * (12 - longest);
    parallel::map(views, |view: u128| {
        let (text, length) = ((view >> 32 << 32).swap_bytes(), u128::from(view as u32 & 0xF));
        text >> unused << 4 | length
    })
}

/// The rank of each text among the different ones, if most texts occur several times.
fn ranks(column: &ArrayRef) -> Result<Option<Vec<u64>>> {
    let columns = std::slice::from_ref(column);
    let entities = Entities::of_columns(columns, column.len(), Missing::IsAKey)?;
    if 2 * entities.count() > column.len() {
        return Ok(None);
    }
    let distinct = take(column, &UInt32Array::from(entities.first_rows()), None)?;
    let count = distinct.len();
    let mut ranks = vec![0; count];
    let order = order_of_rows(&[(distinct, false)], count)?;
    order.into_iter().zip(0..).for_each(|(number, rank)| ranks[number as usize] = rank);
    Ok(Some(parallel::map(entities.ids(), |id| ranks[id as usize])))
}

/// The first bytes of each text in which not all texts agree.
fn prefixes(column: &ArrayRef) -> Vec<u64> {
    let texts = column.as_string_view();
    let bytes = |row: usize| texts.is_valid(row).then(|| texts.value(row).as_bytes());
    let first = (0..texts.len()).find_map(bytes).unwrap_or_default();
    let shared =
        |text: &[u8]| text.iter().zip(first).take_while(|(one, other)| one == other).count();
    let of_stretch = |rows: Range<usize>| rows.filter_map(bytes).map(shared).min();
    let common = parallel::of_stretches(texts.len(), ROWS_A_THREAD, of_stretch);
    let common = common.into_iter().flatten().min().unwrap_or(0);
    let prefix = |row: usize| {
        let text = bytes(row).map_or(&[][..], |text| &text[common..]);
        let mut prefix = [0; PREFIX];
        let length = text.len().min(PREFIX);
        prefix[..length].copy_from_slice(&text[..length]);
        u64::from_be_bytes(prefix)
    };
    parallel::of_rows(texts.len(), prefix)
}

#[cfg(test)]
mod tests;
