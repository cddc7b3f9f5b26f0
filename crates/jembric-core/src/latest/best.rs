//! The best record of each entity, in one pass over ids and dates: the kernel of [`latest`](super).
//!
//! A record is its date and its row in one number, so that the greater number is the better record,
//! and an array holds the best record so far of each entity. Rows that meet a record with their own
//! date are noted on the way; those whose date is still the best at the end are the ties. While the
//! array fits into the cache, the threads divide the rows; beyond that, they divide the entities.

use crate::{dates::Dates, entities::Entities, parallel};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder};
use std::ops::Range;

/// The records with the best dates, including ties.
pub(super) struct Chosen {
    pub(super) best: BooleanBuffer,
    pub(super) ties: Groups,
    pub(super) entities: u64,
}

impl Default for Chosen {
    fn default() -> Chosen {
        Chosen { best: BooleanBuffer::new_unset(0), ties: Groups::default(), entities: 0 }
    }
}

impl Chosen {
    /// Merges the choice for other entities.
    fn and(self, other: Chosen) -> Chosen {
        let mut ties = self.ties;
        other.ties.iter().for_each(|group| ties.push(group));
        Chosen { best: &self.best | &other.best, ties, entities: self.entities + other.entities }
    }
}

/// Groups of rows with the same entity and date. The groups of one entity are next to each other.
#[derive(Default)]
pub(super) struct Groups {
    rows: Vec<u32>,
    ends: Vec<usize>,
}

impl Groups {
    pub(super) fn push(&mut self, rows: &[u32]) {
        self.rows.extend_from_slice(rows);
        self.ends.push(self.rows.len());
    }

    pub(super) fn iter(&self) -> impl Iterator<Item = &[u32]> {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts.zip(&self.ends).map(|(start, &end)| &self.rows[start..end])
    }
}

/// Finds the record with the best date of each entity, in one pass.
pub(super) fn one_each(
    earliest: bool,
    entities: &Entities,
    dates: &Dates,
    considered: &BooleanBuffer,
) -> Chosen {
    match dates {
        Dates::Days(days, _) => best_records(entities, days.values(), earliest, considered),
        Dates::Moments(moments) => best_records(entities, moments.values(), earliest, considered),
        Dates::Missing(rows) => {
            Chosen { best: BooleanBuffer::new_unset(*rows), ..Chosen::default() }
        }
    }
}

/// A date as a number of 32 or 64 bits.
trait Date: Copy + Sync {
    /// Packs a date and a row into one number: the better date is greater, and on the same date the
    /// earlier row is. 0 is no record.
    type Record: Copy + Ord + Default + Send + Sync;
    /// Flipping all bits of a date reverses the order.
    fn record(self, row: u32, earliest: bool) -> Self::Record;
    fn same_date(one: Self::Record, other: Self::Record) -> bool;
    fn row(record: Self::Record) -> u32;
}

impl Date for i32 {
    type Record = u64;
    #[inline]
    fn record(self, row: u32, earliest: bool) -> u64 {
        // Flipping the sign bit makes signed dates sort as unsigned numbers. Flipping all bits
        // first reverses the order for `earliest`. The row is complemented, so that of two equal
        // dates the earlier row is greater.
        let sortable = (self ^ -i32::from(earliest)) as u32 ^ 1 << 31;
        // No record is 0, because that would need row u32::MAX, which tables do not reach.
        u64::from(sortable) << 32 | u64::from(!row)
    }
    #[inline]
    fn same_date(one: u64, other: u64) -> bool {
        (one ^ other) >> 32 == 0
    }
    #[inline]
    fn row(record: u64) -> u32 {
        !(record as u32)
    }
}

impl Date for i64 {
    type Record = u128;
    #[inline]
    fn record(self, row: u32, earliest: bool) -> u128 {
        // The same for moments, whose 64 bits and the row need 96.
        let sortable = (self ^ -i64::from(earliest)) as u64 ^ 1 << 63;
        u128::from(sortable) << 32 | u128::from(!row)
    }
    #[inline]
    fn same_date(one: u128, other: u128) -> bool {
        (one ^ other) >> 32 == 0
    }
    #[inline]
    fn row(record: u128) -> u32 {
        !(record as u32)
    }
}

/// The rows to choose from.
struct Rows<'a, D> {
    ids: &'a [u32],
    dates: &'a [D],
    earliest: bool,
    /// None stands for all rows.
    considered: Option<&'a BooleanBuffer>,
}

/// The best record of some entities, and the rows that met a record with their own date.
struct Best<D: Date> {
    records: Vec<D::Record>,
    met: Vec<u32>,
}

/// Beyond this many bytes the records do not stay in the cache. Then the threads divide the
/// entities instead of the rows, and the records of a block of rows are fetched together.
const FETCH_AHEAD_FROM: usize = 4 << 20;
/// The rows whose records are fetched together.
const BLOCK: usize = 64;

impl<D: Date> Best<D> {
    fn none(entities: usize) -> Best<D> {
        Best { records: vec![D::Record::default(); entities], met: Vec::new() }
    }

    #[inline]
    fn consider(&mut self, entity: usize, record: D::Record) {
        // A row that meets its own date may be a tie. Whether it is shows only at the end, when the
        // best date is known.
        let best = &mut self.records[entity];
        if D::same_date(record, *best) {
            self.met.push(D::row(record));
        }
        *best = record.max(*best);
    }

    /// Of all entities, over a part of the rows.
    fn of_stretch(entities: usize, rows: &Rows<'_, D>, stretch: Range<usize>) -> Best<D> {
        let mut best = Best::none(entities);
        let (ids, dates) = (&rows.ids[stretch.clone()], &rows.dates[stretch.clone()]);
        // All rows count in most tables. That loop has no test of a bit for each row.
        match rows.considered {
            None => {
                for ((&id, date), row) in ids.iter().zip(dates).zip(stretch.start as u32..) {
                    best.consider(id as usize, date.record(row, rows.earliest));
                }
            }
            Some(considered) => {
                for i in considered.slice(stretch.start, stretch.len()).set_indices() {
                    best.consider(
                        ids[i] as usize,
                        dates[i].record((stretch.start + i) as u32, rows.earliest),
                    );
                }
            }
        }
        best
    }

    /// Of a part of the entities, over all rows.
    fn of_entities(entities: Range<u32>, rows: &Rows<'_, D>) -> Best<D> {
        let mut best = Best::none(entities.len());
        // Only the rows of this thread's entities go into the block. The write is unconditional and
        // the length grows by 0 or 1, so there is no branch that the processor could predict
        // wrongly.
        let mut block = [(0_usize, D::Record::default()); BLOCK];
        for start in (0..rows.ids.len()).step_by(BLOCK) {
            let end = rows.ids.len().min(start + BLOCK);
            let mut len = 0;
            for ((&id, date), row) in
                rows.ids[start..end].iter().zip(&rows.dates[start..end]).zip(start as u32..)
            {
                block[len] =
                    (id.wrapping_sub(entities.start) as usize, date.record(row, rows.earliest));
                let considered =
                    rows.considered.is_none_or(|considered| considered.value(row as usize));
                len += usize::from(entities.contains(&id) & considered);
            }
            // These loads do not wait for each other. The loop below then finds the records in the
            // cache.
            let touched = block[..len].iter().map(|&(entity, _)| best.records[entity]).max();
            std::hint::black_box(touched);
            block[..len].iter().for_each(|&(entity, record)| best.consider(entity, record));
        }
        best
    }

    /// Merges two parts for the same entities, of which the second has the later rows.
    fn and_later(mut self, later: Best<D>) -> Best<D> {
        self.met.extend(later.met);
        for (entity, record) in later.records.into_iter().enumerate() {
            // The later part has later rows, so a record that equals the date of an earlier one is
            // noted as a possible tie, as within one part.
            if record != D::Record::default() {
                self.consider(entity, record);
            }
        }
        self
    }
}

fn best_records<D: Date>(
    entities: &Entities,
    dates: &[D],
    earliest: bool,
    considered: &BooleanBuffer,
) -> Chosen {
    let (ids, count, all) = (entities.ids(), entities.count(), considered.len());
    let rows = Rows {
        ids,
        dates,
        earliest,
        considered: (considered.count_set_bits() < all).then_some(considered),
    };
    let threads = rayon::current_num_threads();
    let cut = |length: usize, pieces: usize| {
        let piece = length.div_ceil(pieces).max(1);
        (0..pieces).map(move |i| (i * piece).min(length)..((i + 1) * piece).min(length))
    };
    // With few entities every thread keeps its own records of all entities and takes some of the
    // rows. With many, that would be too much memory, so every thread reads all rows and keeps the
    // records of its own entities.
    let in_cache = count * size_of::<D::Record>() < FETCH_AHEAD_FROM;
    let chosen: Vec<(usize, Best<D>)> = if in_cache {
        // Each thread has its own records, and they must be few compared with its rows.
        let stretches = cut(all, threads.min(all / (4 * count + 1)).max(1));
        let parts =
            parallel::of_parts(stretches, |_, stretch| Best::of_stretch(count, &rows, stretch));
        parts.into_iter().reduce(Best::and_later).map(|best| (0, best)).into_iter().collect()
    } else {
        parallel::of_parts(cut(count, threads), |_, part| {
            (part.start, Best::of_entities(part.start as u32..part.end as u32, &rows))
        })
    };
    let parts = parallel::of_parts(chosen, |_, (first, best)| best.chosen(&rows, first));
    parts.into_iter().reduce(Chosen::and).unwrap_or_default()
}

impl<D: Date> Best<D> {
    /// The rows of the best records and of those that tie with them, for the entities from this one
    /// on.
    fn chosen(self, rows: &Rows<'_, D>, first: usize) -> Chosen {
        let Best { records, mut met } = self;
        let entity = |row: u32| rows.ids[row as usize] as usize - first;
        // Keep the rows whose date is still the best one. The best record itself was not noted,
        // because it came first.
        met.retain(|&row| {
            D::same_date(rows.dates[row as usize].record(row, rows.earliest), records[entity(row)])
        });
        // Group them by entity, in the order of the rows.
        met.sort_unstable_by_key(|&row| (entity(row), row));
        let mut ties = Groups::default();
        let mut group = Vec::new();
        for others in met.chunk_by(|&a, &b| entity(a) == entity(b)) {
            group.clear();
            // The record in the array is the earliest row of the group.
            group.push(D::row(records[entity(others[0])]));
            group.extend_from_slice(others);
            ties.push(&group);
        }
        let mut entities = 0;
        let found = records
            .iter()
            .filter(|&&record| record != D::Record::default())
            .inspect(|_| entities += 1);
        let best =
            mask(rows.ids.len(), found.map(|&record| D::row(record)).chain(met.iter().copied()));
        Chosen { best, ties, entities }
    }
}

pub(super) fn mask(rows: usize, set: impl Iterator<Item = u32>) -> BooleanBuffer {
    let mut mask = BooleanBufferBuilder::new(rows);
    mask.append_n(rows, false);
    set.for_each(|row| mask.set_bit(row as usize, true));
    mask.finish()
}

pub(super) fn except(rows: &BooleanBuffer, others: &BooleanBuffer) -> BooleanBuffer {
    rows & &!others
}
