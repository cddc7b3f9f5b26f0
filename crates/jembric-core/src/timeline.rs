//! [`Timeline`]: the rows of each entity in order of date, for everything that needs more than one
//! pass over the rows; and [`GroupedByEntity`], which it is made of.

use crate::{
    dates::Dates,
    entities::Entities,
    parallel::{self, STRETCH},
};
use arrow_buffer::BooleanBuffer;
use std::{
    ops::Range,
    sync::atomic::{AtomicUsize, Ordering::Relaxed},
};

/// The rows of each entity, sorted by date and then by row.
#[derive(Clone, Debug)]
pub struct Timeline {
    rows: Vec<u32>,
    starts: Vec<u32>,
}

impl Timeline {
    /// Sorts the rows of a mask, all of which have an entity and a date (as a number in the order
    /// of time).
    ///
    /// Cost: one random access for each row, and n log n within an entity, unless its rows are
    /// sorted already.
    pub(crate) fn new(entities: &Entities, dates: &Dates, rows: &BooleanBuffer) -> Timeline {
        let GroupedByEntity { starts, values } = Timeline::dated(entities, dates, rows);
        Timeline { rows: values.into_iter().map(|(_, row)| row).collect(), starts }
    }

    /// The same, with the dates beside the rows.
    pub(crate) fn dated(
        entities: &Entities,
        dates: &Dates,
        rows: &BooleanBuffer,
    ) -> GroupedByEntity<(i64, u32)> {
        let dated = |row: usize| (dates.sortable(row), row as u32);
        let mut grouped =
            GroupedByEntity::group(entities.ids(), entities.count(), |row| rows.value(row), dated);
        grouped.each(|_, rows| {
            if !rows.is_sorted() {
                rows.sort_unstable();
            }
        });
        grouped
    }

    /// The rows of all entities.
    pub(crate) fn rows(&self) -> &[u32] {
        &self.rows
    }

    /// The rows of an entity.
    pub(crate) fn of_entity(&self, entity: usize) -> &[u32] {
        &self.rows[self.starts[entity] as usize..self.starts[entity + 1] as usize]
    }

    /// The rows of each entity, in the order of the entities' numbers.
    pub fn entities(&self) -> impl Iterator<Item = &[u32]> {
        self.starts.windows(2).map(|bounds| &self.rows[bounds[0] as usize..bounds[1] as usize])
    }
}

/// The first row of each entity, if the rows of each are next to each other and sorted by date
/// already. Every row has an entity; an entity may have no row.
pub(crate) fn in_order(ids: &[u32], count: usize, dates: &Dates) -> Option<Vec<u32>> {
    let starts = match dates {
        Dates::Days(days, _) => starts_in_order(ids, count, |row| days.values()[row]),
        Dates::Moments(moments) => starts_in_order(ids, count, |row| moments.values()[row]),
        Dates::Missing(_) => starts_in_order(ids, count, |_| 0),
    }?;
    // If an entity begins a second time, its rows are not next to each other.
    let mut begun = vec![false; count];
    let firsts = &starts[..starts.len() - 1];
    let is_new = |&row: &u32| !std::mem::replace(&mut begun[ids[row as usize] as usize], true);
    firsts.iter().all(is_new).then_some(starts)
}

/// The rows at which another entity begins, and the number of all rows; none if a date is before
/// that of the row above, of the same entity, or if there are more such rows than entities.
fn starts_in_order<D: PartialOrd>(
    ids: &[u32],
    count: usize,
    date: impl Fn(usize) -> D + Sync,
) -> Option<Vec<u32>> {
    let all = AtomicUsize::new(0);
    let pieces = parallel::of_stretches(ids.len(), STRETCH, |rows| {
        // Most tables are not in order. A few stretches are enough to know it.
        if all.load(Relaxed) > count {
            return None;
        }
        let mut starts = Vec::new();
        for row in rows {
            if row == 0 || ids[row] != ids[row - 1] {
                starts.push(row as u32);
            } else if date(row) < date(row - 1) {
                all.store(count + 1, Relaxed);
                return None;
            }
        }
        all.fetch_add(starts.len(), Relaxed);
        Some(starts)
    });
    if all.into_inner() > count {
        return None;
    }
    let mut starts = pieces.into_iter().collect::<Option<Vec<Vec<u32>>>>()?.concat();
    starts.push(ids.len() as u32);
    Some(starts)
}

/// A value of each row, grouped by entity: the values of one entity are next to each other, in the
/// order of the rows.
pub(crate) struct GroupedByEntity<V> {
    pub(crate) starts: Vec<u32>,
    pub(crate) values: Vec<V>,
}

/// Calls a function with each used row of some entities, in order.
#[inline]
fn rows_of(
    entities: &Range<usize>,
    ids: &[u32],
    used: &impl Fn(usize) -> bool,
    mut work: impl FnMut(usize),
) {
    const BLOCK: usize = 64;
    let (first, count) = (entities.start as u32, entities.len() as u32);
    let mut rows = [0_usize; BLOCK];
    for start in (0..ids.len()).step_by(BLOCK) {
        let mut len = 0;
        // Every row is written to the block, and the length grows only if the row belongs. A branch
        // would be mispredicted half of the time.
        for (row, id) in (start..).zip(&ids[start..ids.len().min(start + BLOCK)]) {
            rows[len] = row;
            len += usize::from((id.wrapping_sub(first) < count) & used(row));
        }
        rows[..len].iter().for_each(|&row| work(row));
    }
}

/// Below this number of rows, one thread does it all.
const ROWS_FOR_THREADS: usize = 1 << 17;

impl<V: Copy + Default + Send + Sync> GroupedByEntity<V> {
    /// Groups the values of the rows that are used. Each thread handles its own entities, so that
    /// no two write to the same place.
    pub(crate) fn group(
        ids: &[u32],
        count: usize,
        used: impl Fn(usize) -> bool + Sync,
        value: impl Fn(usize) -> V + Sync,
    ) -> GroupedByEntity<V> {
        let threads = if ids.len() < ROWS_FOR_THREADS { 1 } else { rayon::current_num_threads() };
        let of_thread = |n: usize| count * n / threads..count * (n + 1) / threads;
        let mut starts = vec![0_u32; count + 1];
        let mut counts = Vec::new();
        let mut rest = &mut starts[1..];
        for n in 0..threads {
            let (own, others) = rest.split_at_mut(of_thread(n).len());
            counts.push((of_thread(n), own));
            rest = others;
        }
        parallel::of_parts(counts, |_, (entities, counts)| {
            rows_of(&entities, ids, &used, |row| {
                counts[ids[row] as usize - entities.start] += 1;
            });
        });
        for entity in 1..starts.len() {
            starts[entity] += starts[entity - 1];
        }
        let mut values = vec![V::default(); starts.last().map_or(0, |&all| all as usize)];
        let mut places = Vec::new();
        let mut rest = &mut values[..];
        for n in 0..threads {
            let entities = of_thread(n);
            let (own, others) =
                rest.split_at_mut((starts[entities.end] - starts[entities.start]) as usize);
            places.push((entities, own));
            rest = others;
        }
        parallel::of_parts(places, |_, (entities, places)| {
            let mut next = starts[entities.clone()].to_vec();
            let base = starts[entities.start];
            rows_of(&entities, ids, &used, |row| {
                let place = &mut next[ids[row] as usize - entities.start];
                places[(*place - base) as usize] = value(row);
                *place += 1;
            });
        });
        GroupedByEntity { starts, values }
    }

    /// The values of an entity.
    pub(crate) fn of_entity(&self, entity: usize) -> &[V] {
        &self.values[self.starts[entity] as usize..self.starts[entity + 1] as usize]
    }

    /// Calls a function with the values of each entity, entities in parallel.
    pub(crate) fn each(&mut self, work: impl Fn(usize, &mut [V]) + Sync) {
        const ENTITIES_AT_ONCE: usize = 1 << 10;
        let mut parts = Vec::new();
        let mut rest = &mut self.values[..];
        let count = self.starts.len() - 1;
        for first in (0..count).step_by(ENTITIES_AT_ONCE) {
            let bounds = &self.starts[first..=(first + ENTITIES_AT_ONCE).min(count)];
            let (own, others) = rest.split_at_mut((bounds[bounds.len() - 1] - bounds[0]) as usize);
            parts.push((first, bounds, own));
            rest = others;
        }
        parallel::of_parts(parts, |_, (first, bounds, mut own)| {
            for (n, bounds) in bounds.windows(2).enumerate() {
                let (of_entity, others) = own.split_at_mut((bounds[1] - bounds[0]) as usize);
                work(first + n, of_entity);
                own = others;
            }
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Missing, Table};
    use arrow_array::{ArrayRef, Date32Array, Int64Array};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn each_entity_has_its_rows_in_order_of_date_and_then_of_row(
            rows in prop::collection::vec((0_i64..4, 0_i32..6, any::<bool>()), 0..60),
        ) {
            let table = Table::from_columns([
                ("entity",
                    Arc::new(rows.iter().map(|row| Some(row.0))
                        .collect::<Int64Array>()) as ArrayRef),
                ("day", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<Date32Array>())),
            ]).unwrap();
            let entities = Entities::number(&table, &["entity"], Missing::NoEntity).unwrap();
            let used = BooleanBuffer::collect_bool(rows.len(), |row| rows[row].2);
            let timeline = Timeline::new(&entities, &table.dates("day").unwrap(), &used);
            let mut expected = vec![Vec::new(); entities.count()];
            for row in used.set_indices() {
                expected[entities.ids()[row] as usize].push(row as u32);
            }
            for of_entity in &mut expected {
                of_entity.sort_by_key(|&row| (rows[row as usize].1, row));
            }
            prop_assert_eq!(timeline.entities().map(<[u32]>::to_vec).collect::<Vec<_>>(), expected);
        }
    }

    /// Enough rows for several threads, each with its own entities.
    #[test]
    fn what_is_dealt_does_not_depend_on_the_number_of_threads() {
        let rows = ROWS_FOR_THREADS + 77;
        let ids: Vec<u32> = (0..rows as u32)
            .map(|row| if row % 11 == 0 { Entities::NONE } else { row * 31 % 1_009 })
            .collect();
        let used = |row: usize| !row.is_multiple_of(7);
        let mut expected = vec![Vec::new(); 1_009];
        for row in (0..rows).filter(|&row| used(row) && ids[row] != Entities::NONE) {
            expected[ids[row] as usize].push(row);
        }
        for threads in [1, 2, 3, 8] {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            let mut grouped = pool.install(|| GroupedByEntity::group(&ids, 1_009, used, |row| row));
            for (entity, rows) in expected.iter().enumerate() {
                assert_eq!(grouped.of_entity(entity), rows, "{threads} threads");
            }
            pool.install(|| grouped.each(|entity, rows| rows.fill(entity)));
            assert!(
                (0..1_009).all(|entity| grouped.of_entity(entity).iter().all(|&of| of == entity))
            );
        }
    }
}
