//! Running figures, each beside the least work that it must do.

#[path = "../../../benches/threads.rs"]
mod threads;

use arrow_select::filter::FilterBuilder;
use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Add, Filter, Latest, Running, Table,
    arrow::{
        ArrayRef, BooleanArray, Date32Array, Int64Array,
        buffer::BooleanBuffer,
        cast::AsArray,
        types::{Date32Type, Int64Type},
    },
    calendar::{Day, Grain, Span},
};
use std::{hint::black_box, sync::Arc};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;
const ENTITIES: usize = 100_000;

fn table(who: &[u32], days: &[i32], level: &[i64]) -> Table {
    let who: ArrayRef = Arc::new(Int64Array::from_iter_values(who.iter().map(|&who| who.into())));
    let day: ArrayRef = Arc::new(Date32Array::from(days.to_vec()));
    Table::from_columns([
        ("who", who),
        ("day", day),
        ("level", Arc::new(Int64Array::from(level.to_vec()))),
    ])
    .expect("a table")
}

fn running(criterion: &mut Criterion) {
    let mut random = fastrand::Rng::with_seed(8);
    let who: Vec<u32> = (0..ROWS).map(|_| random.u32(0..ENTITIES as u32)).collect();
    let days: Vec<i32> = (0..ROWS).map(|_| random.i32(0..3_652)).collect();
    let level: Vec<i64> = (0..ROWS).map(|_| random.i64(0..1_000_000)).collect();
    let keys: Vec<i64> = who.iter().map(|&who| who.into()).collect();
    let unsorted = table(&who, &days, &level);
    let highest = Running::new("day").per(["who"]).max(["level"]);
    threads::compare(
        criterion,
        "running max, 10 million unsorted rows, 100 thousand entities",
        ("partition by id, a sort in cache, scan, replay", || highest_so_far(&keys, &days, &level)),
        ("running", || highest.apply(&unsorted).expect("an answer")),
        Some(1.3),
    );
    let trailing = highest.clone().trailing(Span::days(28));
    threads::compare(
        criterion,
        "trailing max over 28 days",
        ("the running max", || highest.apply(&unsorted).expect("an answer")),
        ("running, trailing", || trailing.apply(&unsorted).expect("an answer")),
        Some(1.5),
    );

    let mut in_order: Vec<usize> = (0..ROWS).collect();
    in_order.sort_unstable_by_key(|&row| (who[row], days[row]));
    let by = |values: &[u32]| in_order.iter().map(|&row| values[row]).collect::<Vec<_>>();
    let (who, days) = (by(&who), in_order.iter().map(|&row| days[row]).collect::<Vec<_>>());
    let sorted = table(&who, &days, &level);
    let keys: Vec<i64> = who.iter().map(|&who| who.into()).collect();
    threads::compare(
        criterion,
        "running max on input in order",
        ("one stream that checks the order of keys and dates", || {
            let mut answer = vec![0_i64; ROWS];
            let mut begun = vec![false; ENTITIES];
            let (mut most, mut in_order, mut same) = (i64::MIN, true, 0);
            for row in 0..ROWS {
                let is_new = row == 0 || keys[row] != keys[row - 1];
                if is_new {
                    let begun = &mut begun[keys[row] as usize];
                    in_order &= !std::mem::replace(begun, true);
                    most = level[row];
                } else {
                    in_order &= days[row - 1] <= days[row];
                    most = most.max(level[row]);
                }
                // Records with the same date share the value of the last one.
                if is_new || days[row] != days[row - 1] {
                    same = row;
                }
                answer[same..=row].fill(most);
            }
            (answer, in_order)
        }),
        ("running", || highest.apply(&sorted).expect("an answer")),
        Some(2.0),
    );
    threads::compare(
        criterion,
        "running max on input in order, beside a kernel that checks nothing",
        ("one stream over the columns", || {
            let (mut most, mut last) = (i64::MIN, i64::MAX);
            let scan = keys.iter().zip(&level).map(|(&who, &level)| {
                most = if who == last { most.max(level) } else { level };
                last = who;
                most
            });
            scan.collect::<Vec<i64>>()
        }),
        ("running", || highest.apply(&sorted).expect("an answer")),
        None,
    );
}

/// The greatest level of each key up to each date.
fn highest_so_far(who: &[i64], days: &[i32], level: &[i64]) -> Vec<i64> {
    let mut places = vec![0_u32; ENTITIES + 1];
    who.iter().for_each(|&who| places[who as usize + 1] += 1);
    for entity in 1..places.len() {
        places[entity] += places[entity - 1];
    }
    let mut next = places.clone();
    let mut parts = vec![(0_i32, 0_u32, 0_i64); who.len()];
    for row in 0..who.len() {
        let place = &mut next[who[row] as usize];
        parts[*place as usize] = (days[row], row as u32, level[row]);
        *place += 1;
    }
    let mut answer = vec![0_i64; who.len()];
    for bounds in places.windows(2) {
        let part = &mut parts[bounds[0] as usize..bounds[1] as usize];
        part.sort_unstable();
        let mut most = i64::MIN;
        for same in part.chunk_by(|one, other| one.0 == other.0) {
            most = same.iter().fold(most, |most, record| most.max(record.2));
            same.iter().for_each(|record| answer[record.1 as usize] = most);
        }
    }
    answer
}

/// Three steps: a filter, a new column and a running figure.
fn chain(criterion: &mut Criterion) {
    let mut random = fastrand::Rng::with_seed(12);
    let who: Vec<u32> = (0..ROWS).map(|_| random.u32(0..ENTITIES as u32)).collect();
    let days: Vec<i32> = (0..ROWS).map(|_| random.i32(0..3_652)).collect();
    let level: Vec<i64> = (0..ROWS).map(|_| random.i64(0..1_000_000)).collect();
    let records = table(&who, &days, &level);
    const SINCE: i32 = 1_826;
    let since = Day::from_number(SINCE).unwrap_or(Day::MIN);
    let filter = Filter::new(format!("day >= {since}"));
    let add = Add::new(["double = level * 2"]);
    let highest = Running::new("day").per(["who"]).max(["double"]);
    threads::compare(
        criterion,
        "a filter, a new column and a running max in a chain",
        ("the mask and the gather, the multiplication, and the kernel of the running max", || {
            let kept = BooleanBuffer::collect_bool(ROWS, |row| days[row] >= SINCE);
            let kept = FilterBuilder::new(&BooleanArray::new(kept, None)).optimize().build();
            let kept = kept.filter_record_batch(records.batch()).expect("a mask of its length");
            let numbers = |place: usize| kept.column(place).as_primitive::<Int64Type>();
            let double: Vec<i64> =
                numbers(2).values().iter().map(|level| level.wrapping_mul(black_box(2))).collect();
            let days = kept.column(1).as_primitive::<Date32Type>();
            let answer = highest_so_far(numbers(0).values(), days.values(), &double);
            (kept, double, answer)
        }),
        ("chain", || {
            let kept = filter.apply(&records).expect("an answer").table;
            let added = add.apply(&kept).expect("an answer").table;
            highest.apply(&added).expect("an answer")
        }),
        Some(1.3),
    );
}

/// Two records for each month and entity, over ten years.
fn states(criterion: &mut Criterion) {
    const MONTHS: usize = 120;
    let mut random = fastrand::Rng::with_seed(9);
    let count = ENTITIES * 20;
    let who: Vec<u32> = (0..count).map(|_| random.u32(0..ENTITIES as u32)).collect();
    let days: Vec<i32> = (0..count).map(|_| random.i32(0..3_652)).collect();
    let level: Vec<i64> = (0..count as i64).collect();
    let records = table(&who, &days, &level);
    let states = Latest::new("day").per(["who"]).at_each(Grain::Month);
    threads::compare(
        criterion,
        "month-end states, 100 thousand entities, 120 months, 2 million records",
        ("the latest row of each cell, carried on, and a fresh write of the rows", || {
            let mut cells = vec![(i32::MIN, u32::MAX); ENTITIES * MONTHS];
            for row in 0..count {
                let cell = &mut cells
                    [who[row] as usize * MONTHS + (days[row] as usize / 31).min(MONTHS - 1)];
                *cell = (*cell).max((days[row], row as u32));
            }
            let mut rows = Vec::with_capacity(ENTITIES * MONTHS);
            for month in 0..MONTHS {
                for entity in 0..ENTITIES {
                    let at = entity * MONTHS + month;
                    if month > 0 && cells[at].1 == u32::MAX {
                        cells[at] = cells[at - 1];
                    }
                    let row = cells[at].1 as usize;
                    if row < count {
                        rows.push((i64::from(who[row]), level[row], days[row], month as i32));
                    }
                }
            }
            rows
        }),
        ("latest at each month", || states.apply(&records).expect("an answer")),
        Some(1.4),
    );
}

criterion_group!(benches, running, states, chain);
criterion_main!(benches);
