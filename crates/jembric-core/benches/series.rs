//! Series without gaps, and totals, each beside the least work that it must do.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Context, Filled, Table, Totals,
    arrow::{ArrayRef, Date32Array, Int64Array},
    calendar::Grain,
};
use std::{ops::Range, sync::Arc, thread};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn table(who: &[i64], days: &[i32], level: &[i64]) -> Table {
    let who: ArrayRef = Arc::new(Int64Array::from(who.to_vec()));
    let day: ArrayRef = Arc::new(Date32Array::from(days.to_vec()));
    Table::from_columns([
        ("who", who),
        ("day", day),
        ("level", Arc::new(Int64Array::from(level.to_vec()))),
    ])
    .expect("a table")
}

/// A hundred thousand entities, one year of days, and a record on about every third day.
fn filled(criterion: &mut Criterion) {
    const ENTITIES: usize = 100_000;
    const DAYS: usize = 365;
    let mut random = fastrand::Rng::with_seed(10);
    let (mut who, mut days) = (Vec::new(), Vec::new());
    for entity in 0..ENTITIES as i64 {
        for day in 0..DAYS as i32 {
            // Every entity has a record on the first and on the last day.
            if day == 0 || day == DAYS as i32 - 1 || random.u32(0..3) == 0 {
                who.push(entity);
                days.push(20_000 + day);
            }
        }
    }
    let level: Vec<i64> = (0..who.len() as i64).collect();
    let records = table(&who, &days, &level);
    let series = Filled::new("day").per(["who"]).carry(["level"]);
    // Writes the cells of the rows, each with the values of the record before it.
    let half = who.partition_point(|&who| who < ENTITIES as i64 / 2);
    let write = |rows: Range<usize>| {
        let (who, days, level) = (&who[rows.clone()], &days[rows.clone()], &level[rows]);
        let cells = ENTITIES / 2 * DAYS;
        let mut made =
            (Vec::with_capacity(cells), Vec::with_capacity(cells), Vec::with_capacity(cells));
        for row in 0..who.len() {
            let next = days.get(row + 1).filter(|&&next| next > days[row]).copied();
            for day in days[row]..next.unwrap_or(days[row] + 1) {
                made.0.push(who[row]);
                made.1.push(day);
                made.2.push(level[row]);
            }
        }
        made
    };
    // Whether the records of each entity are next to each other and in order, one to a day, and the
    // first and the last day.
    let check = |rows: Range<usize>| {
        let mut begun = vec![false; ENTITIES];
        let (mut in_order, mut first, mut last) = (true, i32::MAX, i32::MIN);
        for row in rows.clone() {
            if row == rows.start || who[row] != who[row - 1] {
                in_order &= !std::mem::replace(&mut begun[who[row] as usize], true);
            } else {
                in_order &= days[row] > days[row - 1];
            }
            (first, last) = (first.min(days[row]), last.max(days[row]));
        }
        (begun, in_order, first, last)
    };
    let halves = [0..half, half..who.len()];
    let operation = || series.apply(&records).expect("an answer");
    threads::compare(
        criterion,
        "dense series, 36.5 million cells, sorted input, carried",
        ("check the order and the range, and write the cells, two threads", || {
            let checked = on_two_threads(halves.clone(), check);
            (checked, on_two_threads(halves.clone(), write))
        }),
        ("filled", operation),
        Some(1.5),
    );
    threads::compare(
        criterion,
        "the same beside a kernel that checks nothing",
        ("read the input and write the cells, two threads", || {
            on_two_threads(halves.clone(), write)
        }),
        ("filled", operation),
        None,
    );
    threads::compare(
        criterion,
        "the same into a sink that only counts",
        ("filled, collected", || series.apply(&records).expect("an answer")),
        ("filled, in batches", || {
            let mut rows = 0;
            let count = &mut |batch: &Table| {
                rows += batch.rows();
                Ok(())
            };
            series.apply_into(&records, &Context::new(), count).expect("an answer");
            rows
        }),
        None,
    );
}

/// Ten thousand entities over two years.
fn totals(criterion: &mut Criterion) {
    const ROWS: usize = 10_000_000;
    const ENTITIES: usize = 10_000;
    const MONTHS: usize = 24;
    let mut random = fastrand::Rng::with_seed(11);
    let who: Vec<i64> = (0..ROWS).map(|_| random.i64(0..ENTITIES as i64)).collect();
    // From 1 January of one year to the end of the next.
    let days: Vec<i32> = (0..ROWS).map(|_| 19_723 + random.i32(0..731)).collect();
    let level: Vec<i64> = (0..ROWS).map(|_| random.i64(0..1_000_000)).collect();
    let records = table(&who, &days, &level);
    let months: Vec<u8> = (0..731).map(|day| (day * 24 / 731) as u8).collect();
    let monthly =
        Totals::new().date(["day"]).grain(Grain::Month).per(["who"]).sum(["level"]).count();
    let halves = [0..ROWS / 2, ROWS / 2..ROWS];
    // Adds up the values of each cell. The first key and the first day have the first place.
    let cells = |key: i64, day: i32, entities: usize| {
        let [mut cells, more] = on_two_threads(halves.clone(), |rows| {
            let mut cells = vec![(0_i64, 0_u64); MONTHS * entities];
            for row in rows {
                let month = usize::from(months[(days[row] - day) as usize]);
                let cell = &mut cells[month * entities + (who[row] - key) as usize];
                *cell = (cell.0 + level[row], cell.1 + 1);
            }
            cells
        });
        let both = cells.iter_mut().zip(more);
        both.for_each(|(cell, more)| *cell = (cell.0 + more.0, cell.1 + more.1));
        cells
    };
    let operation = || monthly.apply(&records).expect("an answer");
    threads::compare(
        criterion,
        "totals per month and entity, sum and count, 10 million rows",
        ("the ranges, then dense accumulators on each of two threads, and the rows", || {
            let ends = on_two_threads(halves.clone(), |rows| {
                (ends_of(&who[rows.clone()]), ends_of(&days[rows]))
            });
            let [((least, greatest), (first, _)), ((less, greater), (earlier, _))] = ends;
            let (key, entities) = (least.min(less), greatest.max(greater));
            let entities = (entities - key + 1) as usize;
            let cells = cells(key, first.min(earlier), entities);
            let rows = cells.iter().enumerate().filter(|(_, cell)| cell.1 > 0);
            rows.map(|(at, cell)| {
                ((at / entities) as i32, (at % entities) as i64 + key, cell.0, cell.1)
            })
            .collect::<Vec<_>>()
        }),
        ("totals", operation),
        Some(1.3),
    );
    threads::compare(
        criterion,
        "the same beside a kernel that knows the ranges and makes no rows",
        ("dense accumulators on each of two threads, put together", || cells(0, 19_723, ENTITIES)),
        ("totals", operation),
        None,
    );
}

/// Calls a function with both halves, each on a thread of its own.
fn on_two_threads<T: Send>(
    halves: [Range<usize>; 2],
    work: impl Fn(Range<usize>) -> T + Sync,
) -> [T; 2] {
    let work = &work;
    thread::scope(|scope| {
        halves
            .map(|rows| scope.spawn(move || work(rows)))
            .map(|thread| thread.join().expect("no panic"))
    })
}

/// The least and the greatest value.
fn ends_of<T: Copy + Ord>(values: &[T]) -> (T, T) {
    let first = (values[0], values[0]);
    values.iter().fold(first, |ends, &value| (ends.0.min(value), ends.1.max(value)))
}

criterion_group!(benches, filled, totals);
criterion_main!(benches);
