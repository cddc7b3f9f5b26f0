//! [`Replay`]: a copy of the dates, sorted by entity and date, and how results return from it to
//! the order of the rows.

use crate::parallel::{self, STRETCH};
use std::sync::{
    OnceLock,
    atomic::{AtomicI64, AtomicU32, Ordering::Relaxed},
};

/// The entities that a thread takes at a time, at least.
const ENTITIES_AT_ONCE: usize = 1 << 8;

/// The records, sorted by entity and date.
pub(super) struct SortedRecords {
    /// The date and row of each record.
    pub(super) records: Vec<(i64, u32)>,
    /// The place of each row among them, once it is needed.
    places: OnceLock<Vec<u32>>,
}

impl SortedRecords {
    pub(super) fn new(records: Vec<(i64, u32)>) -> SortedRecords {
        SortedRecords { records, places: OnceLock::new() }
    }

    /// The values of the records, in the order of the rows.
    pub(super) fn in_row_order<T: Copy + Default + Send + Sync>(&self, of_records: &[T]) -> Vec<T> {
        let places = self.places.get_or_init(|| {
            let places: Vec<AtomicU32> =
                vec![0; self.records.len()].into_iter().map(AtomicU32::new).collect();
            parallel::of_stretches(places.len(), STRETCH, |stretch| {
                for (&(_, row), place) in self.records[stretch.clone()].iter().zip(stretch) {
                    places[row as usize].store(place as u32, Relaxed);
                }
            });
            places.into_iter().map(AtomicU32::into_inner).collect()
        });
        parallel::map(places, |place| of_records[place as usize])
    }

    /// Makes a number for each record of each entity, and writes it to its row, without a copy in
    /// the order of the records. `bounds` has the first record of each entity, and the number of
    /// all records. `work` fills the numbers of an entity from its first record on.
    pub(super) fn computed_in_row_order(
        &self,
        bounds: &[u32],
        work: &(dyn Fn(usize, &mut [i64]) + Sync),
    ) -> Vec<i64> {
        let made: Vec<AtomicI64> =
            vec![0; self.records.len()].into_iter().map(AtomicI64::new).collect();
        parallel::of_stretches(bounds.len() - 1, ENTITIES_AT_ONCE, |entities| {
            let mut own = Vec::new();
            for bounds in bounds[entities.start..=entities.end].windows(2) {
                let (from, to) = (bounds[0] as usize, bounds[1] as usize);
                if from == to {
                    continue;
                }
                own.clear();
                own.resize(to - from, 0);
                work(from, &mut own);
                for ((_, row), value) in self.records[from..to].iter().zip(&own) {
                    made[*row as usize].store(*value, Relaxed);
                }
            }
        });
        made.into_iter().map(AtomicI64::into_inner).collect()
    }
}
