//! Numbering text keys, beside the least work that it must do: a table of the final size over
//! 16-byte views, on two threads that divide the keys by their hash, with the next slots
//! prefetched.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use foldhash::fast::FixedState;
use jembric_core::{
    Entities, Missing, Table,
    arrow::{ArrayRef, StringViewArray},
};
use rayon::prelude::*;
use std::{
    hash::BuildHasher,
    sync::{
        Arc,
        atomic::{AtomicU32, Ordering::Relaxed},
    },
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;
const THREADS: u64 = 2;

fn entities(criterion: &mut Criterion) {
    for distinct in [100_000_u32, 5_000_000] {
        let mut random = fastrand::Rng::with_seed(5);
        let keys = (0..ROWS).map(|_| Some(format!("v{:07}", random.u32(0..distinct))));
        let keys: StringViewArray = keys.collect();
        let table =
            Table::from_columns([("vessel", Arc::new(keys.clone()) as ArrayRef)]).expect("a table");
        threads::compare(
            criterion,
            &format!("text keys to dense ids, {distinct} distinct"),
            ("presized table", || presized(keys.views(), distinct as usize)),
            ("number", || {
                Entities::number(&table, &["vessel"], Missing::NoEntity).expect("a column")
            }),
            Some(1.5),
        );
    }
}

#[allow(unsafe_code)]
fn presized(views: &[u128], distinct: usize) -> Vec<AtomicU32> {
    const AHEAD: usize = 16;
    let hasher = FixedState::with_seed(1);
    let mut ids: Vec<AtomicU32> = Vec::new();
    ids.resize_with(views.len(), AtomicU32::default);
    (0..THREADS).into_par_iter().for_each(|thread| {
        let size = (distinct * 2 / THREADS as usize).next_power_of_two();
        let mut slots: Vec<(u128, u32)> = vec![(0, 0); size];
        let mut count = 0;
        let hashes = |row: usize| hasher.hash_one(views[row]);
        let mut waiting = [0_usize; AHEAD];
        let mut waited = 0;
        let mut settle = |row: usize, slots: &mut Vec<(u128, u32)>| {
            let mut place = hashes(row) as usize & (size - 1);
            loop {
                let slot = &mut slots[place];
                if slot.1 == 0 {
                    count += 1;
                    *slot = (views[row], count);
                }
                if slot.0 == views[row] {
                    ids[row].store(slot.1 - 1, Relaxed);
                    break;
                }
                place = (place + 1) & (size - 1);
            }
        };
        for row in 0..views.len() {
            let hash = hashes(row);
            if hash >> 63 != thread {
                continue;
            }
            #[cfg(target_arch = "x86_64")]
            {
                use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
                // SAFETY: a prefetch reads nothing, and the place is in the vector.
                unsafe {
                    _mm_prefetch::<_MM_HINT_T0>(
                        slots.as_ptr().add(hash as usize & (size - 1)).cast(),
                    )
                };
            }
            let at = waited % AHEAD;
            if waited >= AHEAD {
                settle(waiting[at], &mut slots);
            }
            waiting[at] = row;
            waited += 1;
        }
        for i in waited.saturating_sub(AHEAD)..waited {
            settle(waiting[i % AHEAD], &mut slots);
        }
    });
    ids
}

criterion_group!(benches, entities);
criterion_main!(benches);
