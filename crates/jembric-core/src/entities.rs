//! [`Entities`]: maps key columns to dense numbers 0..n, so that what is known of an entity is a
//! slot in an array.
//!
//! The columns are numbered one at a time, through an open-addressing table of (hash, number)
//! slots. Two numbered columns make one column of pairs, which is numbered in turn. A change must
//! keep what makes this fast:
//!
//! * The 16-byte view of a short text (up to 12 bytes) is its own key, so the text itself is not
//!   read.
//! * Rows are processed in blocks: first load all slots of a block, then all keys, and only then
//!   compare. The loads of a block do not depend on each other, so the processor fetches them in
//!   parallel. With millions of entities this decides the speed.
//! * The place of a slot comes from the *top* bits of its hash, so that growing the table reads the
//!   old and writes the new one in the same order.
//! * In a table that is sorted by its keys, only the key of each stretch is numbered (`stretches`).
//! * Threads share no table. Each one numbers the keys whose hash belongs to it, and the numbers
//!   are shifted at the end. The number of an entity is not part of any result.

mod growing;
mod numbering;
mod stretches;

use crate::{
    error::Result,
    parallel::{self, STRETCH},
    table::Table,
};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
pub(crate) use growing::{GrowingEntities, GrowingKeys};
use numbering::{Keys, Numbering, Numbers, SHORT, Texts, Wide};
pub(crate) use numbering::{hash_of_bytes, hash_of_number};
use std::{
    ops::Range,
    sync::atomic::{AtomicU32, Ordering::Relaxed},
};
use stretches::Stretches;

/// Below this number of rows, a second thread costs more than it gains.
const ROWS_FOR_THREADS: usize = 1 << 17;

/// The entity of each row, as a dense number.
#[derive(Clone, Debug)]
pub struct Entities {
    ids: Vec<u32>,
    count: u32,
    /// The rows that belong to no entity.
    without: u32,
}

/// How a missing key is treated.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Missing {
    /// The row belongs to no entity; its number is [`Entities::NONE`].
    NoEntity,
    /// It is a value like any other: rows with the same missing keys belong together.
    IsAKey,
}

impl Entities {
    /// The number of a row that belongs to no entity.
    pub const NONE: u32 = u32::MAX;

    /// Numbers the entities that these columns identify. Without columns, all rows are one entity.
    ///
    /// Errors: a column is missing. Cost: about one random memory access for each row and column.
    pub fn number<N: AsRef<str>>(
        table: &Table,
        columns: &[N],
        missing: Missing,
    ) -> Result<Entities> {
        let columns = columns.iter().map(|name| table.column(name.as_ref()).cloned());
        Entities::of_columns(&columns.collect::<Result<Vec<_>>>()?, table.rows(), missing)
    }

    /// Numbers the entities that these columns identify; they have this many rows.
    pub(crate) fn of_columns(
        columns: &[ArrayRef],
        rows: usize,
        missing: Missing,
    ) -> Result<Entities> {
        if let Some(stretches) = Stretches::find(columns, rows)? {
            return stretches.numbered(columns, missing);
        }
        Entities::of_any_rows(columns, rows, missing)
    }

    /// Numbers the entities of rows in any order.
    fn of_any_rows(columns: &[ArrayRef], rows: usize, missing: Missing) -> Result<Entities> {
        let none: Vec<ArrayRef> = columns.iter().map(|column| column.slice(0, 0)).collect();
        let other = Side { columns: &none, rows: 0 };
        Entities::number_both(Side { columns, rows }, other, missing)
    }

    /// The entities of the rows in a mask, with the same numbers.
    pub(crate) fn only(&self, rows: &BooleanBuffer) -> Entities {
        if rows.count_set_bits() == self.ids.len() {
            return self.clone();
        }
        let of_stretch = |stretch: Range<usize>| -> Vec<u32> {
            let own = rows.slice(stretch.start, stretch.len());
            own.set_indices().map(|row| self.ids[stretch.start + row]).collect()
        };
        let ids = parallel::of_stretches(rows.len(), parallel::STRETCH, of_stretch).concat();
        let without = ids.iter().filter(|&&id| id == Entities::NONE).count() as u32;
        Entities { ids, count: self.count, without }
    }

    /// Numbers the entities of two tables with common numbers. The rows of the first table come
    /// first, then those of the second. The types of the columns agree in pairs.
    ///
    /// Errors: both tables together have more rows than there are numbers.
    pub(crate) fn number_both(
        one: Side<'_>,
        other: Side<'_>,
        missing: Missing,
    ) -> Result<Entities> {
        let rows = one.rows + other.rows;
        if rows >= u32::MAX as usize {
            return Err(crate::Error::TableTooLong { rows });
        }
        let mut all: Option<Entities> = None;
        for (one, other) in one.columns.iter().zip(other.columns) {
            // Number one column at a time. The pair of two numbers is again one key of 64 bits, so
            // any number of columns is reduced to one without building composite keys.
            let column = number_columns(one, other, missing);
            all = Some(match all {
                None => column,
                Some(before) => before.paired_with(&column),
            });
        }
        Ok(all.unwrap_or_else(|| Entities {
            ids: vec![0; rows],
            count: (rows > 0).into(),
            without: 0,
        }))
    }

    /// Uses numbers that are dense already: each is below `count`, or [`Entities::NONE`]. Otherwise
    /// none.
    pub fn from_ids(ids: Vec<u32>, count: u32) -> Option<Entities> {
        let without = ids.iter().filter(|&&id| id == Entities::NONE).count() as u32;
        let fit = ids.iter().fold(true, |all, &id| all & ((id < count) | (id == Entities::NONE)));
        fit.then_some(Entities { ids, count, without })
    }

    /// Forgets the rows after these first ones. The numbers stay the same.
    pub(crate) fn truncate(&mut self, rows: usize) {
        if rows >= self.ids.len() {
            return;
        }
        self.ids.truncate(rows);
        self.without = self.ids.iter().filter(|&&id| id == Entities::NONE).count() as u32;
    }

    /// The numbers alone.
    pub(crate) fn into_ids(self) -> Vec<u32> {
        self.ids
    }

    /// The number of each row's entity: below [`count`](Entities::count), or [`Entities::NONE`].
    pub fn ids(&self) -> &[u32] {
        &self.ids
    }

    /// The number of entities.
    pub fn count(&self) -> usize {
        self.count as usize
    }

    /// The rows that belong to an entity; none if all do.
    pub(crate) fn rows_with_one(&self) -> Option<BooleanBuffer> {
        (self.without > 0).then(|| {
            BooleanBuffer::collect_bool(self.ids.len(), |row| self.ids[row] != Entities::NONE)
        })
    }

    /// The first row of each entity, in the order of their numbers.
    pub fn first_rows(&self) -> Vec<u32> {
        const NONE: u32 = u32::MAX;
        let of_stretch = |rows: Range<usize>| {
            let mut first = vec![NONE; self.count()];
            for (row, &id) in rows.clone().zip(&self.ids[rows]) {
                // Rows are visited in order, so the first row to set a slot is the least.
                if id != Entities::NONE && first[id as usize] == NONE {
                    first[id as usize] = row as u32;
                }
            }
            first
        };
        let rows = self.ids.len();
        // The entities of each thread are put together, and must be few compared with its rows.
        let threads = if rows < ROWS_FOR_THREADS {
            1
        } else {
            rayon::current_num_threads().min(rows / (4 * self.count() + 1)).max(1)
        };
        let firsts = parallel::of_stretches(rows, rows.div_ceil(threads).max(1), of_stretch);
        let least = |mut one: Vec<u32>, other: Vec<u32>| {
            one.iter_mut().zip(other).for_each(|(one, other)| *one = other.min(*one));
            one
        };
        firsts.into_iter().reduce(least).unwrap_or_else(|| vec![NONE; self.count()])
    }

    fn paired_with(&self, other: &Entities) -> Entities {
        let (these, those) = (&self.ids, &other.ids);
        let both = (self.rows_with_one(), other.rows_with_one());
        let both = match both {
            (Some(these), Some(those)) => Some(&these & &those),
            (one, another) => one.or(another),
        };
        // Both numbers fit into 32 bits, so the pair is a plain number. It is made when it is
        // needed, and never stored.
        let pair = |row: usize| u64::from(these[row]) << 32 | u64::from(those[row]);
        number(&Numbers(pair), these.len(), both.map(NullBuffer::new).as_ref(), Missing::NoEntity)
    }
}

/// The key columns of one of two tables.
#[derive(Clone, Copy)]
pub(crate) struct Side<'a> {
    pub(crate) columns: &'a [ArrayRef],
    pub(crate) rows: usize,
}

/// Numbers the values of a column, then those of another column of the same type.
fn number_columns(one: &ArrayRef, other: &ArrayRef, missing: Missing) -> Entities {
    let (split, rows) = (one.len(), one.len() + other.len());
    let valid = |nulls: Option<NullBuffer>, rows| {
        nulls.map_or_else(|| BooleanBuffer::new_set(rows), NullBuffer::into_inner)
    };
    let nulls = match (one.logical_nulls(), other.logical_nulls()) {
        (None, None) => None,
        (these, None) if other.is_empty() => these,
        (these, those) => {
            let (these, those) = (valid(these, split), valid(those, other.len()));
            let both = |row| if row < split { these.value(row) } else { those.value(row - split) };
            Some(NullBuffer::new(BooleanBuffer::collect_bool(rows, both)))
        }
    };
    let nulls = nulls.as_ref();
    macro_rules! numbered {
        ($keys:ident, $type:ty, $key:expr) => {{
            let these = one.as_primitive::<$type>().values();
            let those = other.as_primitive::<$type>().values();
            let value = |row: usize| if row < split { these[row] } else { those[row - split] };
            number(&$keys(|row: usize| $key(value(row))), rows, nulls, missing)
        }};
        ($type:ty) => {{
            let these = one.as_primitive::<$type>().values();
            let those = other.as_primitive::<$type>().values();
            let value =
                |row: usize| i64::from(if row < split { these[row] } else { those[row - split] });
            // Try the table without hashes first; it needs one pass to find the range.
            number_close(value, rows, nulls, missing).unwrap_or_else(|| {
                number(&Numbers(|row: usize| value(row) as u64), rows, nulls, missing)
            })
        }};
    }
    match one.data_type() {
        DataType::Utf8View => {
            let (these, those) = (one.as_string_view(), other.as_string_view());
            let buffers = these.data_buffers().iter().chain(those.data_buffers().iter());
            // The views of the second column refer to its own buffers. Adding to the index of the
            // buffer makes them refer to the buffers of both.
            let more = (these.data_buffers().len() as u128) << 64;
            let view = |row: usize| match row.checked_sub(split) {
                None => these.views()[row],
                Some(row) if those.views()[row] as u32 <= SHORT => those.views()[row],
                Some(row) => those.views()[row] + more,
            };
            let texts = Texts { view, buffers: buffers.map(|buffer| &buffer[..]).collect() };
            number(&texts, rows, nulls, missing)
        }
        DataType::Int64 => numbered!(Int64Type),
        DataType::Date32 => numbered!(Date32Type),
        DataType::Timestamp(..) => numbered!(TimestampMicrosecondType),
        DataType::Time64(_) => numbered!(Time64MicrosecondType),
        DataType::Decimal64(..) => numbered!(Decimal64Type),
        DataType::Float64 => numbered!(Numbers, Float64Type, f64::to_bits),
        DataType::Decimal128(..) => numbered!(Wide, Decimal128Type, |value| value),
        DataType::Boolean => {
            let (these, those) = (one.as_boolean().values(), other.as_boolean().values());
            let value =
                |row: usize| if row < split { these.value(row) } else { those.value(row - split) };
            number(&Numbers(|row: usize| value(row).into()), rows, nulls, missing)
        }
        // Both columns have no values.
        _ => number(&Numbers(|_| 0), rows, nulls, missing),
    }
}

/// Whole numbers that lie close together, as ids mostly do: each number is its own place in a
/// table, without a hash. None if they are too far apart.
fn number_close(
    value: impl Fn(usize) -> i64 + Sync,
    rows: usize,
    nulls: Option<&NullBuffer>,
    missing: Missing,
) -> Option<Entities> {
    let there = |row: usize| nulls.is_none_or(|nulls| nulls.is_valid(row));
    let (least, greatest) = parallel::ends(rows, |row| there(row).then(|| value(row)))?;
    // The table may have two places for each row, and at most 64 million. Beyond that, hashing is
    // cheaper than clearing the memory.
    let range =
        greatest.checked_sub(least).filter(|&range| range < (2 * rows as i64).min(1 << 26))?;
    let place = |row: usize| (value(row) - least) as usize;
    // First mark the values that occur, then number the marks from the least on by a running sum.
    let numbers: Vec<AtomicU32> = (0..=range).map(|_| AtomicU32::new(0)).collect();
    parallel::of_stretches(rows, STRETCH, |rows| {
        for row in rows.filter(|&row| there(row)) {
            // Skip the write if it changes nothing, because other threads use the same memory.
            if numbers[place(row)].load(Relaxed) == 0 {
                numbers[place(row)].store(1, Relaxed);
            }
        }
    });
    let mut count = 0;
    let numbers: Vec<u32> = numbers
        .into_iter()
        .map(|number| {
            count += number.into_inner();
            count.wrapping_sub(1)
        })
        .collect();
    let without = match missing {
        Missing::NoEntity => Entities::NONE,
        Missing::IsAKey => count,
    };
    let id = |row: usize| if there(row) { numbers[place(row)] } else { without };
    let ids = parallel::of_rows(rows, id);
    let missed = nulls.map_or(0, NullBuffer::null_count) as u32;
    Some(match missing {
        Missing::NoEntity => Entities { ids, count, without: missed },
        Missing::IsAKey => Entities { ids, count: count + u32::from(missed > 0), without: 0 },
    })
}

/// Numbers the distinct keys of all rows.
fn number<K: Keys>(
    keys: &K,
    rows: usize,
    nulls: Option<&NullBuffer>,
    missing: Missing,
) -> Entities {
    let nulls = nulls.filter(|nulls| nulls.null_count() > 0);
    // The top bits of a number tell which part gave it, until the numbers of the parts are shifted.
    let threads =
        if rows < ROWS_FOR_THREADS { 1 } else { rayon::current_num_threads().clamp(1, 8) };
    let part_bits = usize::BITS - (threads - 1).leading_zeros();
    let (parts, part_bits) =
        if (rows as u64) < 1 << (32 - part_bits) { (threads, part_bits) } else { (1, 0) };
    let tops = |part: usize| if part_bits == 0 { 0 } else { (part as u32) << (32 - part_bits) };

    // Each thread reads all keys and numbers those of its own part, so no table is shared. Atomic
    // stores let all threads write to one vector; each row is written once.
    let mut ids: Vec<AtomicU32> = Vec::new();
    ids.resize_with(rows, AtomicU32::default);
    let counts = parallel::of_numbers(parts, |part| {
        // A thread numbers its part from 0, with the part in the top bits.
        let mut numbering = Numbering::of_rows(rows / parts);
        numbering.number_part(keys, rows, nulls, (part, parts), |row, id| {
            ids[row as usize].store(tops(part) | id, Relaxed);
        });
        numbering.keys_found.len() as u32
    });

    let mut ids: Vec<u32> = ids.into_iter().map(AtomicU32::into_inner).collect();
    if parts > 1 {
        // Shift the numbers of each part past those of the parts before it.
        let mut before = [0; 8];
        for part in 1..parts {
            before[part] = before[part - 1] + counts[part - 1];
        }
        let low = u32::MAX >> part_bits;
        parallel::fill(&mut ids, STRETCH, |_, ids| {
            ids.iter_mut()
                .for_each(|id| *id = (*id & low) + before[(*id >> (32 - part_bits)) as usize & 7]);
        });
    }
    let (mut count, mut without) = (counts.iter().sum(), 0);
    if let Some(nulls) = nulls {
        // Rows without a key get the last number, or none.
        let id = if missing == Missing::IsAKey { count } else { Entities::NONE };
        (!nulls.inner()).set_indices().for_each(|row| ids[row] = id);
        match missing {
            Missing::IsAKey => count += 1,
            Missing::NoEntity => without = nulls.null_count() as u32,
        }
    }
    Entities { ids, count, without }
}

#[cfg(test)]
mod tests;
