//! Operations on intervals, each beside the least work that it must do.

#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Active, Context, Spells, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray},
    calendar::Grain,
};
use rayon::prelude::*;
use std::{hint::black_box, sync::Arc};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// 2010-01-01.
const FIRST: i32 = 14_610;
const TEN_YEARS: i32 = 3_652;

/// Starts and ends of intervals within ten years, at most this long.
fn intervals(count: usize, longest: i32) -> (Vec<i32>, Vec<i32>) {
    let mut random = fastrand::Rng::with_seed(4);
    (0..count)
        .map(|_| {
            let length = random.i32(0..longest);
            let start = FIRST + random.i32(0..TEN_YEARS - length);
            (start, start + length)
        })
        .unzip()
}

fn dates(days: &[i32]) -> ArrayRef {
    Arc::new(Date32Array::from(days.to_vec()))
}

/// A million intervals of 30 days on average, with a number and a text.
fn rows(criterion: &mut Criterion) {
    const COUNT: usize = 1_000_000;
    let (starts, ends) = intervals(COUNT, 60);
    let number: ArrayRef = Arc::new(Int64Array::from_iter_values(0..COUNT as i64));
    let text: ArrayRef = Arc::new(StringViewArray::from_iter_values(
        (0..COUNT).map(|n| format!("ship {}", n % 1000)),
    ));
    let columns = [("number", number), ("text", text), ("a", dates(&starts)), ("z", dates(&ends))];
    let table = Table::from_columns(columns).expect("a table");
    let answer: usize =
        starts.iter().zip(&ends).map(|(start, end)| (end - start + 1) as usize).sum();
    let active = Active::new("a", "z");
    println!("{answer} rows of a number, a text, two dates and the day");
    ratio::compare(
        criterion,
        "1 million intervals to 30 million rows, collected",
        ("a fresh write of the same bytes", || {
            let numbers = fresh(answer, 1_u64);
            let texts = fresh(answer, 2_u128);
            let days = [3_u32, 4, 5].map(|day| fresh(answer, day));
            (numbers, texts, days)
        }),
        ("active", || active.apply(&table).expect("an answer")),
        Some(1.3),
    );
    const BATCH: usize = 1 << 16;
    let (mut numbers, mut texts, mut days) =
        (vec![0_u64; BATCH], vec![0_u128; BATCH], vec![0_u32; 3 * BATCH]);
    ratio::compare(
        criterion,
        "the same into a sink that only counts",
        ("a warm write of the same bytes", || {
            for batch in 0..answer.div_ceil(BATCH) as u64 {
                numbers.fill(batch);
                texts.fill(batch.into());
                days.fill(batch as u32);
                black_box((&mut numbers, &mut texts, &mut days));
            }
        }),
        ("active into a sink", || {
            let mut rows = 0;
            let sink = &mut |batch: &Table| {
                rows += batch.rows();
                Ok(())
            };
            active.apply_into(&table, &Context::new(), sink).expect("an answer");
            rows
        }),
        Some(1.5),
    );
}

fn fresh<T: Copy + Send + Sync>(rows: usize, value: T) -> Vec<T> {
    black_box((0..rows).into_par_iter().with_min_len(1 << 16).map(|_| value).collect())
}

fn counts(criterion: &mut Criterion) {
    const COUNT: usize = 10_000_000;
    let (starts, ends) = intervals(COUNT, 60);
    let mut random = fastrand::Rng::with_seed(5);
    let who: Vec<i64> = (0..COUNT).map(|_| random.i64(0..100_000)).collect();
    let columns = [
        ("who", Arc::new(Int64Array::from(who.clone())) as ArrayRef),
        ("a", dates(&starts)),
        ("z", dates(&ends)),
    ];
    let table = Table::from_columns(columns).expect("a table");
    let per_day = Active::new("a", "z").count();
    ratio::compare(
        criterion,
        "counts per day over 10 years from 10 million intervals",
        ("the difference array, two threads", || {
            let half = |from: usize, to: usize| {
                let mut changes = vec![0_i32; TEN_YEARS as usize + 2];
                for row in from..to {
                    changes[(starts[row] - FIRST) as usize] += 1;
                    changes[(ends[row] - FIRST) as usize + 1] -= 1;
                }
                changes
            };
            let (mut one, other) = rayon::join(|| half(0, COUNT / 2), || half(COUNT / 2, COUNT));
            one.iter_mut().zip(&other).for_each(|(one, other)| *one += other);
            one
        }),
        ("active, counted", || per_day.apply(&table).expect("an answer")),
        Some(1.5),
    );
    let per_month = Active::new("a", "z").grain(Grain::Month).count().per(["who"]);
    const MONTHS: usize = 121;
    ratio::compare(
        criterion,
        "counts per month and entity, 100 thousand entities",
        ("a difference array for each entity", || {
            let mut changes = vec![0_i32; 100_000 * MONTHS];
            for row in 0..COUNT {
                let entity = who[row] as usize * MONTHS;
                changes[entity + (starts[row] - FIRST) as usize / 31] += 1;
                changes[entity + (ends[row] - FIRST) as usize / 31 + 1] -= 1;
            }
            changes
        }),
        ("active, counted per entity", || per_month.apply(&table).expect("an answer")),
        Some(1.5),
    );
}

fn spells(criterion: &mut Criterion) {
    const COUNT: usize = 10_000_000;
    const ENTITIES: usize = 1_000_000;
    let (starts, ends) = intervals(COUNT, 60);
    let mut random = fastrand::Rng::with_seed(6);
    let who: Vec<u32> = (0..COUNT).map(|_| random.u32(0..ENTITIES as u32)).collect();
    let column: ArrayRef =
        Arc::new(who.iter().map(|&who| Some(i64::from(who))).collect::<Int64Array>());
    let table = Table::from_columns([("who", column), ("a", dates(&starts)), ("z", dates(&ends))])
        .expect("a table");
    let spells = Spells::of_intervals("a", "z").per(["who"]);
    ratio::compare(
        criterion,
        "spells of 10 million intervals, 1 million entities",
        ("partition by entity and one scan", || {
            let mut places = vec![0_u32; ENTITIES + 1];
            who.iter().for_each(|&who| places[who as usize + 1] += 1);
            for entity in 1..places.len() {
                places[entity] += places[entity - 1];
            }
            let mut parts = vec![(0, 0); COUNT];
            for row in 0..COUNT {
                let place = &mut places[who[row] as usize];
                parts[*place as usize] = (starts[row], ends[row]);
                *place += 1;
            }
            parts.iter().fold((0_u64, i32::MIN), |(spells, last), &(start, end)| {
                (spells + u64::from(start > last), last.max(end))
            })
        }),
        ("spells", || spells.apply(&table).expect("an answer")),
        Some(1.2),
    );
}

criterion_group!(benches, rows, counts, spells);
criterion_main!(benches);
