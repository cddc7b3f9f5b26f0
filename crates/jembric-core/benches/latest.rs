//! `latest` over dense ids, beside the least work that it must do: one pass that keeps the best row
//! of each entity.
//!
//! Two times are measured: choosing the rows from ids and dates in memory, as the kernel does, and
//! for information the whole operation, which numbers an id column and copies the result.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Entities, Latest, Table,
    arrow::{ArrayRef, Date32Array, Int64Array},
    latest_rows,
};
use rayon::prelude::*;
use std::sync::Arc;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;

fn latest(criterion: &mut Criterion) {
    for (entities, single_pass) in [(100_000, two_threads as Kernel), (5_000_000, fetching_ahead)] {
        let mut random = fastrand::Rng::with_seed(3);
        let ids: Vec<u32> = (0..ROWS).map(|_| random.u32(0..entities)).collect();
        let days: Vec<i32> = (0..ROWS).map(|_| random.i32(7_000..20_000)).collect();
        let dates: ArrayRef = Arc::new(Date32Array::from(days.clone()));
        let numbered = Entities::from_ids(ids.clone(), entities).expect("dense ids");
        let column: Int64Array = ids.iter().map(|&id| Some(i64::from(id))).collect();
        let table = Table::from_columns([("id", Arc::new(column) as ArrayRef), ("day", dates)])
            .expect("a table");
        threads::compare(
            criterion,
            &format!("latest on dense ids, {entities} entities"),
            ("single pass", || single_pass(&ids, &days, entities as usize)),
            ("latest rows", || latest_rows(&numbered, &table, "day").expect("dates")),
            Some(1.3),
        );
        let operation = Latest::new("day").per(["id"]);
        threads::compare(
            criterion,
            &format!("latest with numbering and copying, {entities} entities"),
            ("single pass", || single_pass(&ids, &days, entities as usize)),
            ("apply", || operation.apply(&table).expect("an answer")),
            None,
        );
    }
}

type Kernel = fn(&[u32], &[i32], usize) -> Vec<u64>;

fn packed(day: i32, row: usize) -> u64 {
    u64::from(day as u32) << 32 | row as u64
}

fn two_threads(ids: &[u32], days: &[i32], entities: usize) -> Vec<u64> {
    let half = ids.len() / 2;
    let part = |from: usize, to: usize| {
        let mut best = vec![0; entities];
        for row in from..to {
            let best: &mut u64 = &mut best[ids[row] as usize];
            *best = packed(days[row], row).max(*best);
        }
        best
    };
    let (mut one, other) = rayon::join(|| part(0, half), || part(half, ids.len()));
    one.par_iter_mut().zip(other).for_each(|(one, other)| *one = other.max(*one));
    one
}

#[allow(unsafe_code)]
fn fetching_ahead(ids: &[u32], days: &[i32], entities: usize) -> Vec<u64> {
    const AHEAD: usize = 16;
    let mut best: Vec<u64> = vec![0; entities];
    for row in 0..ids.len() {
        #[cfg(target_arch = "x86_64")]
        if let Some(&id) = ids.get(row + AHEAD) {
            use std::arch::x86_64::{_MM_HINT_T0, _mm_prefetch};
            // SAFETY: a prefetch reads nothing, and the place is in the vector.
            unsafe { _mm_prefetch::<_MM_HINT_T0>(best.as_ptr().add(id as usize).cast()) };
        }
        let best = &mut best[ids[row] as usize];
        *best = packed(days[row], row).max(*best);
    }
    best
}

criterion_group!(benches, latest);
criterion_main!(benches);
