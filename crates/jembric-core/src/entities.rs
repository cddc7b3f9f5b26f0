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
//! * Threads share no table. Each one numbers the keys whose hash belongs to it, and the numbers
//!   are shifted at the end. The number of an entity is not part of any result.

use crate::{error::Result, table::Table};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
use foldhash::fast::FixedState;
use rayon::prelude::*;
use std::{
    hash::BuildHasher,
    sync::atomic::{AtomicU32, Ordering::Relaxed},
};

/// The rows whose slots and keys are fetched together.
const BLOCK: usize = 128;
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
        let none: Vec<ArrayRef> = columns.iter().map(|column| column.slice(0, 0)).collect();
        let other = Side { columns: &none, rows: 0 };
        Entities::number_both(Side { columns, rows }, other, missing)
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
        let mut first = vec![u32::MAX; self.count()];
        for (row, &id) in self.ids.iter().enumerate() {
            // Rows are visited in order, so the first row to set a slot is the least.
            if id != Entities::NONE && first[id as usize] == u32::MAX {
                first[id as usize] = row as u32;
            }
        }
        first
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

/// The keys of a column, in a form that is quick to hash and compare.
trait Keys: Sync {
    type Key: Copy + Default + Send;
    fn key(&self, row: usize) -> Self::Key;
    fn hash(&self, key: Self::Key) -> u64;
    fn same(&self, one: Self::Key, other: Self::Key) -> bool;
}

const HASHER: FixedState = FixedState::with_seed(0x6A65_6D62_7269_6320);

/// The hash of a number. It is the same in all parts of a table.
#[inline]
pub(crate) fn hash_of_number(number: u64, seed: u64) -> u64 {
    HASHER.hash_one((number, seed))
}

/// The hash of a text or of the bytes of a long number.
#[inline]
pub(crate) fn hash_of_bytes(bytes: &[u8], seed: u64) -> u64 {
    HASHER.hash_one((bytes, seed))
}

struct Numbers<F>(F);

impl<F: Fn(usize) -> u64 + Sync> Keys for Numbers<F> {
    type Key = u64;
    #[inline]
    fn key(&self, row: usize) -> u64 {
        self.0(row)
    }
    #[inline]
    fn hash(&self, key: u64) -> u64 {
        HASHER.hash_one(key)
    }
    #[inline]
    fn same(&self, one: u64, other: u64) -> bool {
        one == other
    }
}

struct Wide<F>(F);

impl<F: Fn(usize) -> i128 + Sync> Keys for Wide<F> {
    type Key = i128;
    fn key(&self, row: usize) -> i128 {
        self.0(row)
    }
    fn hash(&self, key: i128) -> u64 {
        HASHER.hash_one(key)
    }
    fn same(&self, one: i128, other: i128) -> bool {
        one == other
    }
}

/// The views of texts: the length and up to twelve bytes, or the length, four bytes and the place
/// of the text.
struct Texts<'a, F> {
    view: F,
    buffers: Vec<&'a [u8]>,
}

/// The longest text that its view contains.
const SHORT: u32 = 12;

impl<F> Texts<'_, F> {
    fn bytes(&self, view: u128) -> &[u8] {
        let (buffer, offset) = ((view >> 64) as u32, (view >> 96) as u32 as usize);
        &self.buffers[buffer as usize][offset..offset + (view as u32) as usize]
    }
}

impl<F: Fn(usize) -> u128 + Sync> Keys for Texts<'_, F> {
    type Key = u128;
    #[inline]
    fn key(&self, row: usize) -> u128 {
        (self.view)(row)
    }
    #[inline]
    fn hash(&self, view: u128) -> u64 {
        // A short text is hashed by its view alone, without touching the text in memory.
        if view as u32 <= SHORT { HASHER.hash_one(view) } else { HASHER.hash_one(self.bytes(view)) }
    }
    #[inline]
    fn same(&self, one: u128, other: u128) -> bool {
        let (length, other_length) = (one as u32, other as u32);
        // Equal views are equal texts. Long texts with different views may still be equal, so
        // compare their lengths and bytes.
        one == other
            || (length > SHORT && length == other_length && self.bytes(one) == self.bytes(other))
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
    let all = || (0..rows).into_par_iter().with_min_len(1 << 16);
    let none = || (i64::MAX, i64::MIN);
    let wider = |one: (i64, i64), other: (i64, i64)| (one.0.min(other.0), one.1.max(other.1));
    // The range of the values, in one pass over all rows.
    let (least, greatest) = all()
        .fold(
            none,
            |range, row| if there(row) { wider(range, (value(row), value(row))) } else { range },
        )
        .reduce(none, wider);
    // The table may have two places for each row, and at most 64 million. Beyond that, hashing is
    // cheaper than clearing the memory.
    let range = greatest
        .checked_sub(least)
        .filter(|&range| range >= 0 && range < (2 * rows as i64).min(1 << 26))?;
    let place = |row: usize| (value(row) - least) as usize;
    // First mark the values that occur, then number the marks from the least on by a running sum.
    let numbers: Vec<AtomicU32> = (0..=range).map(|_| AtomicU32::new(0)).collect();
    all().filter(|&row| there(row)).for_each(|row| {
        // Skip the write if it changes nothing, because other threads use the same memory.
        if numbers[place(row)].load(Relaxed) == 0 {
            numbers[place(row)].store(1, Relaxed);
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
    let ids = all().map(|row| if there(row) { numbers[place(row)] } else { without }).collect();
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
    let counts: Vec<u32> = (0..parts)
        .into_par_iter()
        .map(|part| {
            // A thread numbers its part from 0, with the part in the top bits.
            let mut numbering = Numbering::new(keys, rows / parts);
            let mut block = Block::new();
            for start in (0..rows).step_by(BLOCK) {
                let end = rows.min(start + BLOCK);
                block.gather(keys, start..end, nulls, parts, part);
                numbering.number_block(&mut block);
                for (&row, &id) in block.rows[..block.len].iter().zip(&block.ids) {
                    ids[row as usize].store(tops(part) | id, Relaxed);
                }
            }
            numbering.keys_found.len() as u32
        })
        .collect();

    let mut ids: Vec<u32> = ids.into_iter().map(AtomicU32::into_inner).collect();
    if parts > 1 {
        // Shift the numbers of each part past those of the parts before it.
        let mut before = [0; 8];
        for part in 1..parts {
            before[part] = before[part - 1] + counts[part - 1];
        }
        let low = u32::MAX >> part_bits;
        ids.par_chunks_mut(1 << 16).for_each(|ids| {
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

/// The rows of one block that belong to one part.
struct Block<Key> {
    len: usize,
    rows: [u32; BLOCK],
    keys: [Key; BLOCK],
    hashes: [u32; BLOCK],
    ids: [u32; BLOCK],
}

impl<Key: Copy + Default> Block<Key> {
    fn new() -> Block<Key> {
        Block {
            len: 0,
            rows: [0; BLOCK],
            keys: [Key::default(); BLOCK],
            hashes: [0; BLOCK],
            ids: [0; BLOCK],
        }
    }

    #[inline]
    fn gather<K: Keys<Key = Key>>(
        &mut self,
        keys: &K,
        rows: std::ops::Range<usize>,
        nulls: Option<&NullBuffer>,
        parts: usize,
        part: usize,
    ) {
        self.len = 0;
        // Every row is written to the block, and the length grows only if it belongs to the part. A
        // branch would be mispredicted half of the time.
        let mut add = |row: usize| {
            let key = keys.key(row);
            // The upper half of the hash chooses the part, and the rest places the key within it.
            let spread = (keys.hash(key) >> 32) * parts as u64;
            self.rows[self.len] = row as u32;
            self.keys[self.len] = key;
            self.hashes[self.len] = spread as u32;
            self.len += usize::from((spread >> 32) as usize == part);
        };
        match nulls {
            None => rows.for_each(add),
            Some(nulls) => rows.for_each(|row| {
                if nulls.is_valid(row) {
                    add(row);
                }
            }),
        }
    }
}

/// The table of one part: distinct keys, and slots of (hash, number + 1). An empty slot is 0.
struct Numbering<'a, K: Keys> {
    keys: &'a K,
    keys_found: Vec<K::Key>,
    slots: Vec<u64>,
    /// How far a hash is shifted to give a place.
    shift: u32,
    /// The rows numbered so far, and about how many there will be in all.
    rows: usize,
    rows_in_all: usize,
}

impl<'a, K: Keys> Numbering<'a, K> {
    fn new(keys: &'a K, rows_in_all: usize) -> Self {
        const BITS: u32 = 10;
        let (keys_found, slots, shift) = (Vec::new(), vec![0; 1 << BITS], 32 - BITS);
        Numbering { keys, keys_found, slots, shift, rows: 0, rows_in_all }
    }

    #[inline]
    fn number_block(&mut self, block: &mut Block<K::Key>) {
        // Load the slots of all rows of the block. With millions of entities almost every load
        // misses the cache, and here they are all in flight at once.
        let mut slots = [0_u64; BLOCK];
        for (slot, &hash) in slots.iter_mut().zip(&block.hashes[..block.len]) {
            *slot = self.slots[(hash >> self.shift) as usize];
        }
        // Then load the keys that these slots name, again all at once.
        let mut found = [K::Key::default(); BLOCK];
        for (found, &slot) in found.iter_mut().zip(&slots[..block.len]) {
            // The number of an empty slot wraps around to a number that no key has.
            *found = self
                .keys_found
                .get((slot as u32).wrapping_sub(1) as usize)
                .copied()
                .unwrap_or_default();
        }
        // Only now compare. Almost all rows hit; a row that does not goes the slow way, which sees
        // what earlier rows of the block have added.
        for i in 0..block.len {
            let (slot, hash, key) = (slots[i], block.hashes[i], block.keys[i]);
            let hit = slot != 0 && (slot >> 32) as u32 == hash && self.keys.same(found[i], key);
            block.ids[i] = if hit { slot as u32 - 1 } else { self.find_or_add(hash, key) };
        }
        self.rows += block.len;
    }

    #[inline(never)]
    fn find_or_add(&mut self, hash: u32, key: K::Key) -> u32 {
        if self.keys_found.len() * 2 >= self.slots.len() {
            self.grow();
        }
        let last = self.slots.len() - 1;
        let mut place = (hash >> self.shift) as usize;
        loop {
            let slot = self.slots[place];
            if slot == 0 {
                let number = self.keys_found.len() as u32;
                self.slots[place] = u64::from(hash) << 32 | u64::from(number + 1);
                self.keys_found.push(key);
                return number;
            }
            if (slot >> 32) as u32 == hash
                && self.keys.same(self.keys_found[(slot as u32 - 1) as usize], key)
            {
                return slot as u32 - 1;
            }
            place = (place + 1) & last;
        }
    }

    fn grow(&mut self) {
        // If most rows so far had a new key, the rest will as well, so make room for all of them at
        // once.
        let found = self.keys_found.len();
        let most_are_new = found >= 1 << 15 && found * 2 > self.rows;
        let foreseen = if most_are_new {
            (found * (self.rows_in_all / self.rows.max(1))).next_power_of_two()
        } else {
            0
        };
        let size = foreseen.clamp(self.slots.len() * 2, 1 << 31);
        self.shift = 32 - size.trailing_zeros();
        let mut slots = vec![0; size];
        let last = slots.len() - 1;
        for &slot in self.slots.iter().filter(|&&slot| slot != 0) {
            let mut place = ((slot >> 32) as u32 >> self.shift) as usize;
            while slots[place] != 0 {
                place = (place + 1) & last;
            }
            slots[place] = slot;
        }
        self.slots = slots;
    }
}

#[cfg(test)]
mod tests;
