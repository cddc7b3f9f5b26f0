//! Computes one value for each row, on all threads: each thread takes a part of the rows and writes
//! that part of the new column.

use arrow_buffer::{BooleanBuffer, Buffer};
use rayon::prelude::*;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

/// The rows that a thread takes at a time: many enough to be worth it, and few enough to stay in
/// its cache.
const STRETCH: usize = 1 << 16;

/// Computes one value from each value.
pub(crate) fn map<A: Copy + Sync, T: Send>(values: &[A], make: impl Fn(A) -> T + Sync) -> Vec<T> {
    values.par_iter().with_min_len(STRETCH).map(|&value| make(value)).collect()
}

/// Computes one value from each pair of values.
pub(crate) fn map_two<A: Copy + Sync, B: Copy + Sync, T: Send>(
    one: &[A],
    other: &[B],
    make: impl Fn(A, B) -> T + Sync,
) -> Vec<T> {
    one.par_iter().zip(other).with_min_len(STRETCH).map(|(&one, &other)| make(one, other)).collect()
}

/// Computes one value from each value, and notes whether any had a problem.
pub(crate) fn noting<A: Copy + Sync, T: Send>(
    values: &[A],
    make: impl Fn(A) -> (T, bool) + Sync,
) -> (Vec<T>, bool) {
    let any = AtomicBool::new(false);
    let made = map(values, |value| note(make(value), &any));
    (made, any.into_inner())
}

/// Computes one value from each pair of values, and notes whether any had a problem.
pub(crate) fn noting_two<A: Copy + Sync, B: Copy + Sync, T: Send>(
    one: &[A],
    other: &[B],
    make: impl Fn(A, B) -> (T, bool) + Sync,
) -> (Vec<T>, bool) {
    let any = AtomicBool::new(false);
    let made = map_two(one, other, |one, other| note(make(one, other), &any));
    (made, any.into_inner())
}

/// One bit for each row.
pub(crate) fn bits(rows: usize, is: impl Fn(usize) -> bool + Sync) -> BooleanBuffer {
    let mut words = vec![0_u64; rows.div_ceil(64)];
    words.par_chunks_mut(STRETCH / 64).enumerate().for_each(|(n, words)| {
        for (word, first) in words.iter_mut().zip((n * STRETCH..).step_by(64)) {
            let of_word = (first..rows.min(first + 64)).enumerate();
            *word = of_word.fold(0, |all, (bit, row)| all | u64::from(is(row)) << bit);
        }
    });
    BooleanBuffer::new(Buffer::from_vec(words), 0, rows)
}

#[inline]
fn note<T>((value, noted): (T, bool), any: &AtomicBool) -> T {
    if noted {
        any.store(true, Relaxed);
    }
    value
}

/// The values below the first and those above the last, as bits.
pub(crate) fn outside<T: Copy + PartialOrd + Sync>(
    values: &[T],
    first: T,
    last: T,
) -> [Vec<u64>; 2] {
    let words = values.len().div_ceil(64);
    let (mut below, mut above) = (vec![0_u64; words], vec![0_u64; words]);
    let both = below.par_chunks_mut(STRETCH / 64).zip(above.par_chunks_mut(STRETCH / 64));
    both.zip(values.par_chunks(STRETCH)).for_each(|((below, above), values)| {
        for ((below, above), block) in below.iter_mut().zip(above).zip(values.chunks(64)) {
            let (mut low, mut high) = (0, 0);
            for (bit, &value) in block.iter().enumerate() {
                low |= u64::from(value < first) << bit;
                high |= u64::from(value > last) << bit;
            }
            (*below, *above) = (low, high);
        }
    });
    [below, above]
}
