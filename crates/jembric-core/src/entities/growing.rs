//! [`GrowingEntities`]: numbers the entities of one batch after the other, so that a key has the
//! same number in all batches. [`GrowingKeys`] keeps their keys as well.
//!
//! Each batch costs one access to the table for each row, however many entities there were before.
//! The table has as many parts as there are threads, as in [`Entities`]; here the part is the
//! remainder of a number, because the parts keep growing.

use super::{
    Entities, Missing,
    numbering::{Keys, Numbering, Numbers, SHORT, Texts, Wide},
};
use crate::{
    error::{Error, Result},
    parallel::{self, STRETCH},
    table::Table,
};
use arrow_array::{Array, ArrayRef, UInt32Array, cast::AsArray, types::*};
use arrow_buffer::NullBuffer;
use arrow_schema::DataType;
use std::sync::atomic::{AtomicU32, Ordering::Relaxed};

/// The entities of all batches so far.
pub(crate) struct GrowingEntities {
    missing: Missing,
    columns: Vec<Column>,
    /// The pairs of the first two columns, of these and the third, and so on.
    pairs: Vec<Growing<u64>>,
}

/// The keys of a column.
#[derive(Default)]
enum Column {
    /// Every key so far is missing.
    #[default]
    Missing,
    Numbers(Growing<u64>),
    /// Decimals, which may have 64 or 128 bits.
    Decimals(Growing<i128>),
    Texts(Growing<u128>),
}

/// The numbered keys of one type.
struct Growing<Key> {
    parts: Vec<ThreadKeys<Key>>,
}

/// The keys that one thread numbers.
struct ThreadKeys<Key> {
    numbering: Numbering<Key>,
    /// The long texts among the keys.
    texts: Vec<Vec<u8>>,
}

/// The bytes of long texts that are kept together.
const TEXTS_TOGETHER: usize = 1 << 24;

impl GrowingEntities {
    pub(crate) fn new(missing: Missing) -> GrowingEntities {
        GrowingEntities { missing, columns: Vec::new(), pairs: Vec::new() }
    }

    /// Numbers the rows of the next batch by these columns. Without columns, all rows are one
    /// entity.
    ///
    /// Errors: the types of the columns differ from those of earlier batches; there are more
    /// entities than numbers. Cost: one random memory access for each row and column.
    pub(crate) fn number(&mut self, columns: &[ArrayRef], rows: usize) -> Result<Entities> {
        if columns.is_empty() {
            return Entities::of_columns(columns, rows, self.missing);
        }
        self.columns.resize_with(columns.len(), Column::default);
        self.pairs.resize_with(columns.len() - 1, Growing::default);
        let (first, others) = (&columns[0], &columns[1..]);
        // Each column is numbered by itself; then pairs of numbers are, from left to right. So keys
        // of any types and any number of columns need one kind of table only.
        let mut all = self.columns[0].number(first, self.missing)?;
        let more = self.columns[1..].iter_mut().zip(&mut self.pairs);
        for ((of_column, pairs), column) in more.zip(others) {
            let column = of_column.number(column, self.missing)?;
            // Numbers of earlier batches stay as they are, and so the pairs do.
            all = pairs.number_pairs(&all, &column)?;
        }
        Ok(all)
    }

    /// About the bytes that the keys take in memory.
    pub(crate) fn bytes(&self) -> u64 {
        let columns = self.columns.iter().map(|column| match column {
            Column::Missing => 0,
            Column::Numbers(numbers) => numbers.bytes(),
            Column::Decimals(decimals) => decimals.bytes(),
            Column::Texts(texts) => texts.bytes(),
        });
        columns.chain(self.pairs.iter().map(Growing::bytes)).sum::<usize>() as u64
    }
}

/// The distinct keys of all batches so far, numbered in the order in which they come. A missing
/// value is a key like any other.
pub(crate) struct GrowingKeys {
    entities: GrowingEntities,
    /// The number of each entity; [`Entities::NONE`] for numbers that no entity has.
    numbers: Vec<u32>,
    /// The keys that were new in each batch, in the order of their numbers.
    keys: Vec<Table>,
    count: u32,
}

impl GrowingKeys {
    pub(crate) fn new() -> GrowingKeys {
        let entities = GrowingEntities::new(Missing::IsAKey);
        GrowingKeys { entities, numbers: Vec::new(), keys: Vec::new(), count: 0 }
    }

    /// The number of keys.
    pub(crate) fn count(&self) -> usize {
        self.count as usize
    }

    /// Numbers the rows of a table of keys. Without columns all rows are one, and none is numbered.
    ///
    /// Errors: those of [`GrowingEntities::number`]. Cost: two random memory accesses for each row.
    pub(crate) fn number(&mut self, keys: &Table) -> Result<Entities> {
        if keys.columns().is_empty() {
            return Ok(Entities { ids: Vec::new(), count: 1, without: 0 });
        }
        let entities = self.entities.number(keys.columns(), keys.rows())?;
        self.numbers.resize(self.numbers.len().max(entities.count()), Entities::NONE);
        let mut ids = entities.into_ids();
        // Most keys are known, and all threads look them up. New ones are numbered in the order of
        // the rows.
        let numbers = &self.numbers;
        let unknown = parallel::of_parts(ids.chunks_mut(STRETCH), |n, ids| {
            let mut unknown = Vec::new();
            for (row, id) in (n * STRETCH..).zip(ids) {
                match numbers[*id as usize] {
                    Entities::NONE => unknown.push(row),
                    number => *id = number,
                }
            }
            unknown
        });
        let mut new = Vec::new();
        for row in unknown.into_iter().flatten() {
            let number = &mut self.numbers[ids[row] as usize];
            if *number == Entities::NONE {
                *number = self.count;
                self.count += 1;
                new.push(row as u32);
            }
            ids[row] = *number;
        }
        if self.keys.is_empty() || !new.is_empty() {
            self.keys.push(keys.take(&UInt32Array::from(new))?.without_others_texts()?);
        }
        Ok(Entities { ids, count: self.count, without: 0 })
    }

    /// The keys in the order of their numbers; none if no rows were numbered.
    pub(crate) fn values(&self) -> Result<Option<Table>> {
        let Some((first, others)) = self.keys.split_first() else { return Ok(None) };
        Table::joined(first, others).map(Some)
    }

    /// About the bytes that the keys take in memory.
    pub(crate) fn bytes(&self) -> u64 {
        let keys: u64 = self.keys.iter().map(Table::bytes).sum();
        self.entities.bytes() + keys + 4 * self.numbers.len() as u64
    }
}

impl Column {
    fn number(&mut self, column: &ArrayRef, missing: Missing) -> Result<Entities> {
        let nulls = column.logical_nulls().filter(|nulls| nulls.null_count() > 0);
        let mut entities = self.number_valid(column, nulls.as_ref())?;
        if missing == Missing::IsAKey {
            // The missing value has the first number.
            entities.ids.iter_mut().for_each(|id| *id = id.wrapping_add(1));
            (entities.count, entities.without) = (entities.count + 1, 0);
        }
        Ok(entities)
    }

    fn number_valid(&mut self, column: &ArrayRef, nulls: Option<&NullBuffer>) -> Result<Entities> {
        let rows = column.len();
        // A batch without values may have no type.
        if nulls.map_or(0, NullBuffer::null_count) == rows {
            return Ok(Entities {
                ids: vec![Entities::NONE; rows],
                count: 0,
                without: rows as u32,
            });
        }
        // The first batch with a value decides the type.
        if matches!(self, Column::Missing) {
            *self = match column.data_type() {
                DataType::Utf8View => Column::Texts(Growing::default()),
                DataType::Decimal64(..) | DataType::Decimal128(..) => {
                    Column::Decimals(Growing::default())
                }
                _ => Column::Numbers(Growing::default()),
            };
        }
        macro_rules! numbered {
            ($type:ty, $key:expr) => {{
                let values = column.as_primitive::<$type>().values();
                Numbers(|row: usize| $key(values[row]))
            }};
        }
        let signed = |value: i64| value as u64;
        match (self, column.data_type()) {
            (Column::Texts(texts), DataType::Utf8View) => texts.number_texts(column, nulls),
            (Column::Decimals(wide), DataType::Decimal64(..)) => {
                let values = column.as_primitive::<Decimal64Type>().values();
                wide.number(&Wide(|row: usize| i128::from(values[row])), rows, nulls)
            }
            (Column::Decimals(wide), DataType::Decimal128(..)) => {
                let values = column.as_primitive::<Decimal128Type>().values();
                wide.number(&Wide(|row: usize| values[row]), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Int64) => {
                numbers.number(&numbered!(Int64Type, signed), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Date32) => {
                numbers.number(&numbered!(Date32Type, |day| i64::from(day) as u64), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Timestamp(..)) => {
                numbers.number(&numbered!(TimestampMicrosecondType, signed), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Time64(_)) => {
                numbers.number(&numbered!(Time64MicrosecondType, signed), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Float64) => {
                numbers.number(&numbered!(Float64Type, f64::to_bits), rows, nulls)
            }
            (Column::Numbers(numbers), DataType::Boolean) => {
                let values = column.as_boolean().values();
                numbers.number(&Numbers(|row: usize| values.value(row).into()), rows, nulls)
            }
            (_, found) => Err(Error::OtherShape {
                prepared: "the type of a key".to_owned(),
                found: found.to_string(),
            }),
        }
    }
}

impl<Key> Default for Growing<Key> {
    fn default() -> Growing<Key> {
        Growing { parts: Vec::new() }
    }
}

impl<Key: Copy + Default + Send> Growing<Key> {
    fn bytes(&self) -> usize {
        let texts = |part: &ThreadKeys<Key>| part.texts.iter().map(Vec::capacity).sum::<usize>();
        self.parts.iter().map(|part| part.numbering.bytes() + texts(part)).sum()
    }

    /// Numbers keys that are whole by themselves, unlike long texts, which are in buffers.
    fn number<K: Keys<Key = Key>>(
        &mut self,
        keys: &K,
        rows: usize,
        nulls: Option<&NullBuffer>,
    ) -> Result<Entities> {
        self.number_parts(rows, nulls, |part, which, number| {
            part.numbering.number_part(keys, rows, nulls, which, number);
        })
    }

    /// Numbers the keys of a batch. `number_part` numbers those of one part.
    fn number_parts<F>(
        &mut self,
        rows: usize,
        nulls: Option<&NullBuffer>,
        number_part: F,
    ) -> Result<Entities>
    where
        F: Fn(&mut ThreadKeys<Key>, (usize, usize), &mut dyn FnMut(u32, u32)) + Sync,
    {
        if self.parts.is_empty() {
            let part = || ThreadKeys { numbering: Numbering::of_rows(0), texts: Vec::new() };
            self.parts.resize_with(rayon::current_num_threads().clamp(1, 8), part);
        }
        let parts = self.parts.len();
        // Each thread writes the numbers of the rows of its part, so each row is written once.
        // A thread writes only its own rows, so the order of the writes does not matter (Relaxed).
        let mut ids: Vec<AtomicU32> = Vec::new();
        ids.resize_with(rows, || AtomicU32::new(Entities::NONE));
        parallel::of_parts(&mut self.parts, |n, part| {
            number_part(part, (n, parts), &mut |row, id| {
                // Thread n has the numbers n, n + parts, n + 2 · parts and so on, and no two
                // threads share one.
                ids[row as usize].store(id * parts as u32 + n as u32, Relaxed);
            });
        });
        let most = self.parts.iter().map(|part| part.numbering.keys_found.len()).max();
        let count = most.unwrap_or_default() * parts;
        // One number is that of rows without a key.
        if count >= u32::MAX as usize - 1 {
            return Err(Error::TableTooLong { rows: count });
        }
        let ids = ids.into_iter().map(AtomicU32::into_inner).collect();
        let without = nulls.map_or(0, NullBuffer::null_count) as u32;
        Ok(Entities { ids, count: count as u32, without })
    }
}

impl Growing<u64> {
    /// Numbers pairs of the numbers of two columns.
    fn number_pairs(&mut self, one: &Entities, other: &Entities) -> Result<Entities> {
        let both = match (one.rows_with_one(), other.rows_with_one()) {
            (Some(these), Some(those)) => Some(&these & &those),
            (one, other) => one.or(other),
        };
        // Both numbers have 32 bits, so the pair is exact and not a hash.
        let pair = |row: usize| u64::from(one.ids[row]) << 32 | u64::from(other.ids[row]);
        self.number(&Numbers(pair), one.ids.len(), both.map(NullBuffer::new).as_ref())
    }
}

impl Growing<u128> {
    /// Numbers texts, and keeps the long ones.
    fn number_texts(&mut self, column: &ArrayRef, nulls: Option<&NullBuffer>) -> Result<Entities> {
        let texts = column.as_string_view();
        let (views, rows) = (texts.views(), texts.len());
        self.number_parts(rows, nulls, |part, which, number| {
            let known = part.numbering.keys_found.len();
            // Known texts are in the part's own buffers, and the new ones in those of the batch.
            let own = part.texts.len();
            let more = (own as u128) << 64;
            let view = |row: usize| match views[row] as u32 {
                ..=SHORT => views[row],
                _ => views[row] + more,
            };
            let of_batch = texts.data_buffers().iter().map(|buffer| &buffer[..]);
            let buffers = part.texts.iter().map(|texts| &texts[..]).chain(of_batch);
            let keys = Texts { view, buffers: buffers.collect() };
            part.numbering.number_part(&keys, rows, nulls, which, number);
            let new = part.numbering.keys_found[known..].iter_mut();
            for view in new.filter(|view| **view as u32 > SHORT) {
                let (buffer, from) = ((*view >> 64) as u32 as usize - own, (*view >> 96) as usize);
                let buffer = &texts.data_buffers()[buffer];
                let text = &buffer[from..from + *view as u32 as usize];
                *view = kept(&mut part.texts, text, *view as u64);
            }
        })
    }
}

/// Keeps a long text, and returns its view. `start` is the view's length and first bytes.
fn kept(texts: &mut Vec<Vec<u8>>, text: &[u8], start: u64) -> u128 {
    if texts.last().is_none_or(|last| last.len() + text.len() > TEXTS_TOGETHER) {
        texts.push(Vec::new());
    }
    let buffer = texts.len() - 1;
    let from = texts[buffer].len();
    texts[buffer].extend_from_slice(text);
    u128::from(start) | (buffer as u128) << 64 | (from as u128) << 96
}
