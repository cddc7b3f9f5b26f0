//! Series without gaps, and totals, each beside the least work that it must do.

#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Context, Filled, Table, Totals,
    arrow::{ArrayRef, Date32Array, Int64Array},
    calendar::Grain,
};
use std::{sync::Arc, thread};

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
    ratio::compare(
        criterion,
        "dense series, 36.5 million cells, sorted input, carried",
        ("read the input and write the cells, two threads", || {
            let half = who.partition_point(|&who| who < ENTITIES as i64 / 2);
            thread::scope(|scope| {
                let made = [0..half, half..who.len()].map(|rows| {
                    let (who, days, level) =
                        (&who[rows.clone()], &days[rows.clone()], &level[rows]);
                    scope.spawn(move || {
                        let cells = ENTITIES / 2 * DAYS;
                        let mut made = (
                            Vec::with_capacity(cells),
                            Vec::with_capacity(cells),
                            Vec::with_capacity(cells),
                        );
                        for row in 0..who.len() {
                            let next = days.get(row + 1).filter(|&&next| next > days[row]).copied();
                            for day in days[row]..next.unwrap_or(days[row] + 1) {
                                made.0.push(who[row]);
                                made.1.push(day);
                                made.2.push(level[row]);
                            }
                        }
                        made
                    })
                });
                made.map(|thread| thread.join().expect("no panic"))
            })
        }),
        ("filled", || series.apply(&records).expect("an answer")),
        Some(1.5),
    );
    ratio::compare(
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
    ratio::compare(
        criterion,
        "totals per month and entity, sum and count, 10 million rows",
        ("dense accumulators on each of two threads, put together", || {
            let parts = thread::scope(|scope| {
                let parts = [0..ROWS / 2, ROWS / 2..ROWS].map(|rows| {
                    let (who, days, level, months) = (&who, &days, &level, &months);
                    scope.spawn(move || {
                        let mut cells = vec![(0_i64, 0_u64); MONTHS * ENTITIES];
                        for row in rows {
                            let month = usize::from(months[(days[row] - 19_723) as usize]);
                            let cell = &mut cells[month * ENTITIES + who[row] as usize];
                            *cell = (cell.0 + level[row], cell.1 + 1);
                        }
                        cells
                    })
                });
                parts.map(|part| part.join().expect("no panic"))
            });
            let [mut cells, more] = parts;
            cells
                .iter_mut()
                .zip(more)
                .for_each(|(cell, more)| *cell = (cell.0 + more.0, cell.1 + more.1));
            cells
        }),
        ("totals", || monthly.apply(&records).expect("an answer")),
        Some(1.3),
    );
}

criterion_group!(benches, filled, totals);
criterion_main!(benches);
