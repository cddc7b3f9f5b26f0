//! Hands work to all threads: each thread takes a part of the rows and writes that part of the new
//! column.
//!
//! Only [`each`] hands out work, and it is compiled once. What wraps it is compiled for each type
//! of values, but not for each function that makes them. So a new kernel does not bring its own
//! copy of the scheduler's code.

use crate::room::{self, Room};
use arrow_buffer::{BooleanBuffer, Buffer};
use rayon::prelude::*;
use std::{
    ops::Range,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
};

/// The rows that a thread takes at a time: many enough to be worth it, and few enough to stay in
/// its cache.
pub(crate) const STRETCH: usize = 1 << 16;

/// Calls a function with each number below this one.
pub(crate) fn each(count: usize, work: &(dyn Fn(usize) + Sync)) {
    match count {
        0 => {}
        1 => work(0),
        _ => (0..count).into_par_iter().for_each(work),
    }
}

/// Makes a value from each part and its number, in their order.
pub(crate) fn of_parts<P: Send, T: Send>(
    parts: impl IntoIterator<Item = P>,
    make: impl Fn(usize, P) -> T + Sync,
) -> Vec<T> {
    all_of_parts(parts.into_iter().map(|part| (Some(part), None)).collect(), &make)
}

/// The parts, and what is made from each.
type Parts<P, T> = Vec<(Option<P>, Option<T>)>;

fn all_of_parts<P: Send, T: Send>(
    mut parts: Parts<P, T>,
    make: &(dyn Fn(usize, P) -> T + Sync),
) -> Vec<T> {
    // Many small parts are handed out several at a time.
    const MOST_GROUPS: usize = 1 << 10;
    let at_once = parts.len().div_ceil(MOST_GROUPS).max(1);
    let groups: Vec<_> = parts.chunks_mut(at_once).map(Mutex::new).collect();
    each(groups.len(), &|group| {
        let mut parts = groups[group].lock().unwrap_or_else(PoisonError::into_inner);
        for (n, (part, made)) in (group * at_once..).zip(parts.iter_mut()) {
            *made = part.take().map(|part| make(n, part));
        }
    });
    parts.into_iter().filter_map(|(_, made)| made).collect()
}

/// Makes a value from each number below this one.
pub(crate) fn of_numbers<T: Send>(count: usize, make: impl Fn(usize) -> T + Sync) -> Vec<T> {
    fn all<T: Send>(count: usize, make: &(dyn Fn(usize) -> T + Sync)) -> Vec<T> {
        of_parts(0..count, |n, _| make(n))
    }
    all(count, &make)
}

/// Makes a value from each stretch of this many rows: from the first row on, up to another one.
pub(crate) fn of_stretches<T: Send>(
    rows: usize,
    stretch: usize,
    make: impl Fn(Range<usize>) -> T + Sync,
) -> Vec<T> {
    let of = |n: usize| make(n * stretch..rows.min((n + 1) * stretch));
    of_numbers(rows.div_ceil(stretch), of)
}

/// Writes stretches of this many values, each from its first row on.
pub(crate) fn fill<T: Send>(
    values: &mut [T],
    stretch: usize,
    write: impl Fn(usize, &mut [T]) + Sync,
) {
    fn all<T: Send>(values: &mut [T], stretch: usize, write: &(dyn Fn(usize, &mut [T]) + Sync)) {
        of_parts(values.chunks_mut(stretch), |n, own| write(n * stretch, own));
    }
    all(values, stretch, &write);
}

/// Makes a column of parts, each with its length. The function must fill the room of each part.
pub(crate) fn written<T: Copy + Send>(
    lengths: impl Iterator<Item = usize> + Clone,
    write: impl Fn(usize, &mut Room<'_, T>) + Sync,
) -> Vec<T> {
    room::filled(lengths, |rooms| {
        of_parts(rooms, write);
    })
}

/// Computes one value for each row.
pub(crate) fn of_rows<T: Copy + Send>(rows: usize, make: impl Fn(usize) -> T + Sync) -> Vec<T> {
    let stretch = |n: usize| n * STRETCH..rows.min((n + 1) * STRETCH);
    let stretches = 0..rows.div_ceil(STRETCH);
    written(stretches.map(|n| stretch(n).len()), |n, room| room.extend(stretch(n).map(&make)))
}

/// Computes one value from each value.
pub(crate) fn map<A: Copy + Sync, T: Copy + Send>(
    values: &[A],
    make: impl Fn(A) -> T + Sync,
) -> Vec<T> {
    written(values.chunks(STRETCH).map(<[A]>::len), |n, room| {
        room.extend(values[n * STRETCH..].iter().map(|&value| make(value)));
    })
}

/// Computes one value from each pair of values.
pub(crate) fn map_two<A: Copy + Sync, B: Copy + Sync, T: Copy + Send>(
    one: &[A],
    other: &[B],
    make: impl Fn(A, B) -> T + Sync,
) -> Vec<T> {
    let one = &one[..one.len().min(other.len())];
    written(one.chunks(STRETCH).map(<[A]>::len), |n, room| {
        let both = one[n * STRETCH..].iter().zip(&other[n * STRETCH..]);
        room.extend(both.map(|(&one, &other)| make(one, other)));
    })
}

/// Computes one value from each value, and notes whether any had a problem.
pub(crate) fn noting<A: Copy + Sync, T: Copy + Send>(
    values: &[A],
    make: impl Fn(A) -> (T, bool) + Sync,
) -> (Vec<T>, bool) {
    let any = AtomicBool::new(false);
    let made = map(values, |value| note(make(value), &any));
    (made, any.into_inner())
}

/// Computes one value from each pair of values, and notes whether any had a problem.
pub(crate) fn noting_two<A: Copy + Sync, B: Copy + Sync, T: Copy + Send>(
    one: &[A],
    other: &[B],
    make: impl Fn(A, B) -> (T, bool) + Sync,
) -> (Vec<T>, bool) {
    let any = AtomicBool::new(false);
    let made = map_two(one, other, |one, other| note(make(one, other), &any));
    (made, any.into_inner())
}

/// Whether a condition is true for any row.
pub(crate) fn any(rows: usize, is: impl Fn(usize) -> bool + Sync) -> bool {
    let any = AtomicBool::new(false);
    each(rows.div_ceil(STRETCH), &|n| {
        if !any.load(Relaxed) && (n * STRETCH..rows.min((n + 1) * STRETCH)).any(&is) {
            any.store(true, Relaxed);
        }
    });
    any.into_inner()
}

/// The least and the greatest value of the rows that have one.
pub(crate) fn ends<T: Copy + Ord + Send>(
    rows: usize,
    value: impl Fn(usize) -> Option<T> + Sync,
) -> Option<(T, T)> {
    let wider = |one: (T, T), other: (T, T)| (one.0.min(other.0), one.1.max(other.1));
    let of_stretch = |rows: Range<usize>| {
        let mut values = rows.filter_map(&value);
        let first = values.next()?;
        Some(values.fold((first, first), |ends, value| wider(ends, (value, value))))
    };
    of_stretches(rows, STRETCH, of_stretch).into_iter().flatten().reduce(wider)
}

/// One bit for each row.
pub(crate) fn bits(rows: usize, is: impl Fn(usize) -> bool + Sync) -> BooleanBuffer {
    let mut words = vec![0_u64; rows.div_ceil(64)];
    fill(&mut words, STRETCH / 64, |first, words| {
        for (word, first) in words.iter_mut().zip((first * 64..).step_by(64)) {
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
    let both = below.chunks_mut(STRETCH / 64).zip(above.chunks_mut(STRETCH / 64));
    of_parts(both.zip(values.chunks(STRETCH)), |_, ((below, above), values)| {
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// Whatever it makes on one thread, on two and on seven.
    fn on_threads<T: PartialEq + std::fmt::Debug + Send>(make: impl Fn() -> T + Sync) -> T {
        let on = |threads: usize| {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build();
            pool.expect("threads").install(&make)
        };
        let made = on(1);
        assert_eq!((on(2), on(7)), (on(1), on(1)));
        made
    }

    #[rstest]
    fn parts_are_made_in_their_order(#[values(0, 1, 2, 1_023, 1_024, 1_025, 5_000)] count: usize) {
        let parts = || (0..count).map(|n| vec![n; 2]);
        let made = on_threads(|| of_parts(parts(), |n, part| (n, part)));
        assert_eq!(made, parts().enumerate().collect::<Vec<_>>());
        assert_eq!(
            on_threads(|| of_numbers(count, |n| n * 3)),
            Vec::from_iter((0..count).map(|n| n * 3))
        );
    }

    #[rstest]
    fn rows_are_those_of_one_loop(
        #[values(0, 1, 63, STRETCH - 1, STRETCH, STRETCH + 1, 3 * STRETCH + 5)] rows: usize,
    ) {
        let value = |row: usize| (row as i64 * 7_919) % 1_009 - 500;
        let values: Vec<i64> = (0..rows).map(value).collect();
        assert_eq!(on_threads(|| of_rows(rows, value)), values);
        let doubled: Vec<i64> = values.iter().map(|value| 2 * value).collect();
        assert_eq!(on_threads(|| map(&values, |value| 2 * value)), doubled);
        assert_eq!(on_threads(|| map_two(&values, &values, |one, other| one + other)), doubled);

        let is_even = |row: usize| value(row) % 2 == 0;
        let has_value = |row: usize| is_even(row).then(|| value(row));
        let even = || (0..rows).filter_map(has_value);
        let expected = even().min().zip(even().max());
        assert_eq!(on_threads(|| ends(rows, has_value)), expected);
        let expected = BooleanBuffer::collect_bool(rows, is_even);
        assert_eq!(on_threads(|| bits(rows, is_even)), expected);
        for wanted in [0, rows / 2, rows.saturating_sub(1), rows] {
            assert_eq!(on_threads(|| any(rows, |row| row == wanted)), wanted < rows);
        }

        let (noted, any_negative) = on_threads(|| noting(&values, |value| (value, value < 0)));
        assert_eq!((noted, any_negative), (values.clone(), values.iter().any(|value| *value < 0)));
        let [below, above] = on_threads(|| outside(&values, -100, 100));
        let bit = |words: &[u64], row: usize| words[row / 64] >> (row % 64) & 1 == 1;
        for (row, value) in values.iter().enumerate() {
            assert_eq!((bit(&below, row), bit(&above, row)), (*value < -100, *value > 100));
        }
    }

    #[test]
    fn stretches_cover_all_rows_once() {
        let stretches = of_stretches(10, 4, |rows| rows);
        assert_eq!(stretches, [0..4, 4..8, 8..10]);
        let mut values = vec![0; 10];
        fill(&mut values, 4, |first, own| own.iter_mut().for_each(|value| *value += first));
        assert_eq!(values, [0, 0, 0, 0, 4, 4, 4, 4, 8, 8]);
        assert!(of_stretches(0, 4, |rows| rows).is_empty());
    }

    #[test]
    fn a_panic_reaches_the_caller() {
        let made = std::panic::catch_unwind(|| of_numbers(9, |n| assert!(n < 8)));
        assert!(made.is_err());
    }
}
