//! [`Replay`]: a copy of the dates, sorted by entity and date, and how results return from it to
//! the order of the rows.

use crate::parallel;
use std::sync::{
    OnceLock,
    atomic::{AtomicI64, Ordering::Relaxed},
};

/// The entities that a thread takes at a time, at least.
const ENTITIES_AT_ONCE: usize = 1 << 8;

/// The records, sorted by entity and date.
pub(super) struct Replay {
    /// The date and row of each record.
    pub(super) records: Vec<(i64, u32)>,
    /// The place of each row among them, once it is needed.
    places: OnceLock<Vec<u32>>,
}

impl Replay {
    pub(super) fn of(records: Vec<(i64, u32)>) -> Replay {
        Replay { records, places: OnceLock::new() }
    }

    /// The values of the records, in the order of the rows.
    pub(super) fn returned<T: Copy + Default + Send + Sync>(&self, of_records: &[T]) -> Vec<T> {
        let places = self.places.get_or_init(|| {
            let mut places = vec![0_u32; self.records.len()];
            let records = self.records.iter().zip(0..);
            records.for_each(|(&(_, row), place)| places[row as usize] = place);
            places
        });
        parallel::map(places, |place| of_records[place as usize])
    }

    /// Makes a number for each record of each entity, and writes it to its row, without a copy in
    /// the order of the records. `bounds` has the first record of each entity, and the number of
    /// all records. `begin` makes the state of an entity from its first record.
    pub(super) fn written<S>(
        &self,
        bounds: &[u32],
        begin: impl Fn(usize) -> S + Sync,
        make: impl Fn(&mut S, usize) -> i64 + Sync,
        share: impl Fn(usize, &mut [i64]) + Sync,
    ) -> Vec<i64> {
        let mut made: Vec<AtomicI64> = Vec::new();
        made.resize_with(self.records.len(), AtomicI64::default);
        parallel::of_stretches(bounds.len() - 1, ENTITIES_AT_ONCE, |entities| {
            let mut own = Vec::new();
            for bounds in bounds[entities.start..=entities.end].windows(2) {
                let (from, to) = (bounds[0] as usize, bounds[1] as usize);
                if from == to {
                    continue;
                }
                let (records, mut state) = (&self.records[from..to], begin(from));
                own.clear();
                own.extend(records.iter().map(|(_, row)| make(&mut state, *row as usize)));
                share(from, &mut own);
                for ((_, row), value) in records.iter().zip(&own) {
                    made[*row as usize].store(*value, Relaxed);
                }
            }
        });
        made.into_iter().map(AtomicI64::into_inner).collect()
    }
}
