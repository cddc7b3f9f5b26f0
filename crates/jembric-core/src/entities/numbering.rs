//! [`Numbering`]: an open-addressing table that numbers keys, and the forms of keys that it takes.

use arrow_buffer::NullBuffer;
use foldhash::fast::FixedState;
use std::hash::BuildHasher;

/// The rows whose slots and keys are fetched together.
const BLOCK: usize = 128;

/// The keys of a column, in a form that is quick to hash and compare.
pub(super) trait Keys: Sync {
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

pub(super) struct Numbers<F>(pub(super) F);

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

pub(super) struct Wide<F>(pub(super) F);

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
pub(super) struct Texts<'a, F> {
    pub(super) view: F,
    pub(super) buffers: Vec<&'a [u8]>,
}

/// The longest text that its view contains.
pub(super) const SHORT: u32 = 12;

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

    /// Fills the block with those rows of a range whose keys belong to a part.
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
pub(super) struct Numbering<Key> {
    pub(super) keys_found: Vec<Key>,
    slots: Vec<u64>,
    /// How far a hash is shifted to give a place.
    shift: u32,
    /// The rows numbered so far, and about how many there will be in all.
    rows: usize,
    rows_in_all: usize,
}

impl<Key: Copy + Default> Numbering<Key> {
    /// An empty table for about this number of rows.
    pub(super) fn of_rows(rows_in_all: usize) -> Numbering<Key> {
        const BITS: u32 = 10;
        let (keys_found, slots, shift) = (Vec::new(), vec![0; 1 << BITS], 32 - BITS);
        Numbering { keys_found, slots, shift, rows: 0, rows_in_all }
    }

    /// About the bytes that it takes in memory.
    pub(super) fn bytes(&self) -> usize {
        size_of_val(&self.slots[..]) + self.keys_found.capacity() * size_of::<Key>()
    }

    /// Numbers the keys of the rows that belong to one of some parts. Rows without a key get no
    /// number.
    pub(super) fn number_part<K: Keys<Key = Key>>(
        &mut self,
        keys: &K,
        rows: usize,
        nulls: Option<&NullBuffer>,
        (part, parts): (usize, usize),
        mut number: impl FnMut(u32, u32),
    ) {
        let mut block = Block::new();
        for start in (0..rows).step_by(BLOCK) {
            let end = rows.min(start + BLOCK);
            block.gather(keys, start..end, nulls, parts, part);
            self.number_block(keys, &mut block);
            for (&row, &id) in block.rows[..block.len].iter().zip(&block.ids) {
                number(row, id);
            }
        }
    }

    #[inline]
    fn number_block<K: Keys<Key = Key>>(&mut self, keys: &K, block: &mut Block<Key>) {
        // Load the slots of all rows of the block. With millions of entities almost every load
        // misses the cache, and here they are all in flight at once.
        let mut slots = [0_u64; BLOCK];
        for (slot, &hash) in slots.iter_mut().zip(&block.hashes[..block.len]) {
            *slot = self.slots[(hash >> self.shift) as usize];
        }
        // Then load the keys that these slots name, again all at once.
        let mut found = [Key::default(); BLOCK];
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
            let hit = slot != 0 && (slot >> 32) as u32 == hash && keys.same(found[i], key);
            block.ids[i] = if hit { slot as u32 - 1 } else { self.find_or_add(keys, hash, key) };
        }
        self.rows += block.len;
    }

    #[inline(never)]
    fn find_or_add<K: Keys<Key = Key>>(&mut self, keys: &K, hash: u32, key: Key) -> u32 {
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
                && keys.same(self.keys_found[(slot as u32 - 1) as usize], key)
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
