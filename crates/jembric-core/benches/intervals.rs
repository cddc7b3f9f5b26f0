//! Operations on intervals, each beside the least work that it must do.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Active, Context, Spells, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray},
    calendar::{Day, Grain},
};
use rayon::prelude::*;
use std::{hint::black_box, iter::repeat_n, ops::Range, sync::Arc};

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
    let texts = (0..COUNT).map(|n| format!("ship {}", n % 1000));
    let text = StringViewArray::from_iter_values(texts);
    let views = text.views().to_vec();
    let text: ArrayRef = Arc::new(text);
    let columns = [("number", number), ("text", text), ("a", dates(&starts)), ("z", dates(&ends))];
    let table = Table::from_columns(columns).expect("a table");
    let answer: usize =
        starts.iter().zip(&ends).map(|(start, end)| (end - start + 1) as usize).sum();
    let active = Active::new("a", "z");
    println!("{answer} rows of a number, a text, two dates and the day");
    let operation = || active.apply(&table).expect("an answer");
    threads::compare(
        criterion,
        "1 million intervals to 30 million rows, collected",
        ("a write of each column, interval by interval, two threads", || {
            let half = |rows: Range<usize>| {
                let cells = rows.clone().map(|row| (ends[row] - starts[row] + 1) as usize);
                let cells = cells.sum();
                let mut numbers = Vec::with_capacity(cells);
                let mut texts = Vec::with_capacity(cells);
                let mut dates = [(); 3].map(|()| Vec::with_capacity(cells));
                for row in rows {
                    let days = starts[row]..=ends[row];
                    let count = days.clone().count();
                    numbers.extend(repeat_n(row as i64, count));
                    texts.extend(repeat_n(views[row], count));
                    dates[0].extend(repeat_n(starts[row], count));
                    dates[1].extend(repeat_n(ends[row], count));
                    dates[2].extend(days);
                }
                (numbers, texts, dates)
            };
            rayon::join(|| half(0..COUNT / 2), || half(COUNT / 2..COUNT))
        }),
        ("active", operation),
        Some(1.3),
    );
    threads::compare(
        criterion,
        "the same beside a kernel without intervals",
        ("a fresh write of the same bytes", || {
            let numbers = fresh(answer, 1_u64);
            let texts = fresh(answer, 2_u128);
            let days = [3_u32, 4, 5].map(|day| fresh(answer, day));
            (numbers, texts, days)
        }),
        ("active", operation),
        None,
    );
    const BATCH: usize = 1 << 16;
    let (mut numbers, mut texts, mut days) =
        (vec![0_u64; BATCH], vec![0_u128; BATCH], vec![0_u32; 3 * BATCH]);
    threads::compare(
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

#[expect(clippy::too_many_lines, reason = "one bench after the other")]
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
    let day_kernel = || {
        // The range of the days comes first, and whether any interval ends before it starts.
        let (first, last, reversed) = survey(&starts, &ends);
        let days = (last - first + 1) as usize;
        let half = |rows: Range<usize>| {
            let (mut begun, mut ended) = (vec![0_i64; days], vec![0_i64; days]);
            for (start, end) in starts[rows.clone()].iter().zip(&ends[rows]) {
                begun[(start - first) as usize] += 1;
                ended[(end - first) as usize] += 1;
            }
            [begun, ended]
        };
        let (mut one, other) = rayon::join(|| half(0..COUNT / 2), || half(COUNT / 2..COUNT));
        for (one, other) in one.iter_mut().zip(&other) {
            one.iter_mut().zip(other).for_each(|(one, other)| *one += other);
        }
        let [begun, ended] = one;
        let mut now = 0;
        let active: Vec<i64> = begun
            .iter()
            .zip(&ended)
            .map(|(begun, ended)| {
                now += begun;
                let active = now;
                now -= ended;
                active
            })
            .collect();
        (begun, ended, active, reversed)
    };
    let two_arrays = || {
        let half = |rows: Range<usize>| {
            let mut changes = vec![0_i32; TEN_YEARS as usize + 2];
            for (start, end) in starts[rows.clone()].iter().zip(&ends[rows]) {
                changes[(start - FIRST) as usize] += 1;
                changes[(end - FIRST) as usize + 1] -= 1;
            }
            changes
        };
        let (mut one, other) = rayon::join(|| half(0..COUNT / 2), || half(COUNT / 2..COUNT));
        one.iter_mut().zip(&other).for_each(|(one, other)| *one += other);
        one
    };
    let name = "counts per day over 10 years from 10 million intervals";
    let operation = || per_day.apply(&table).expect("an answer");
    threads::compare(
        criterion,
        name,
        ("the range, then starts and ends of each day, two threads", day_kernel),
        ("active, counted", operation),
        Some(1.5),
    );
    threads::compare(
        criterion,
        &format!("{name}, beside a kernel that knows the range and checks nothing"),
        ("the difference array, two threads", two_arrays),
        ("active, counted", operation),
        None,
    );
    let per_month = Active::new("a", "z").grain(Grain::Month).count().per(["who"]);
    let months = months();
    let name = "counts per month and entity, 100 thousand entities";
    let operation = || per_month.apply(&table).expect("an answer");
    threads::compare(
        criterion,
        name,
        ("a partition by entity, a sort in cache, and a write of the six counts", || {
            monthly_counts(&months, &who, &starts, &ends)
        }),
        ("active, counted per entity", operation),
        Some(1.5),
    );
    threads::compare(
        criterion,
        &format!("{name}, beside a kernel that makes one of the six counts and no rows"),
        ("a difference array for each entity", || {
            let mut changes = vec![0_i32; 100_000 * months.len()];
            for row in 0..COUNT {
                let entity = who[row] as usize * months.len();
                changes[entity + (starts[row] - FIRST) as usize / 31] += 1;
                changes[entity + (ends[row] - FIRST) as usize / 31 + 1] -= 1;
            }
            changes
        }),
        ("active, counted per entity", operation),
        None,
    );
}

/// The first and the last day, and whether an interval ends before it starts.
fn survey(starts: &[i32], ends: &[i32]) -> (i32, i32, bool) {
    let of = |(starts, ends): (&[i32], &[i32])| {
        starts.iter().zip(ends).fold((i32::MAX, i32::MIN, false), |(first, last, any), (s, e)| {
            (first.min(*s), last.max(*e), any | (e < s))
        })
    };
    let (one, other) = (starts.split_at(starts.len() / 2), ends.split_at(ends.len() / 2));
    let (one, other) = rayon::join(|| of((one.0, other.0)), || of((one.1, other.1)));
    (one.0.min(other.0), one.1.max(other.1), one.2 | other.2)
}

/// The last day of each month in the ten years.
fn months() -> Vec<i32> {
    let months = (0..=TEN_YEARS)
        .filter(|day| Day::from_number(FIRST + day + 1).is_some_and(|next| next.ymd().2 == 1));
    months.map(|day| FIRST + day).collect()
}

/// The key, the period and the six counts of a month: active, started, ended, active at the end,
/// most at once, and active days.
type Month = (i64, i32, [i64; 6]);

fn monthly_counts(months: &[i32], who: &[i64], starts: &[i32], ends: &[i32]) -> Vec<Month> {
    let (_, _, reversed) = survey(starts, ends);
    let entities = who.iter().max().map_or(0, |&most| most as usize + 1);
    let mut places = vec![0_usize; entities + 1];
    who.iter().for_each(|&who| places[who as usize + 1] += 1);
    for entity in 1..places.len() {
        places[entity] += places[entity - 1];
    }
    let mut next = places.clone();
    let mut events = [vec![0_i32; who.len()], vec![0_i32; who.len()]];
    for (row, &who) in who.iter().enumerate() {
        let place = &mut next[who as usize];
        (events[0][*place], events[1][*place]) = (starts[row], ends[row]);
        *place += 1;
    }
    let mut made: Vec<Month> = vec![Month::default(); entities * months.len()];
    let parts = made.par_chunks_mut(months.len()).with_min_len(1 << 8).enumerate();
    parts.for_each_init(
        || [Vec::new(), Vec::new()],
        |[starts, ends], (entity, made)| {
            for (own, all) in [&mut *starts, &mut *ends].into_iter().zip(&events) {
                own.clear();
                own.extend_from_slice(&all[places[entity]..places[entity + 1]]);
                own.sort_unstable();
            }
            let (mut start, mut end, mut from) = (0, 0, FIRST);
            for (made, &to) in made.iter_mut().zip(months) {
                let (begun, ended, mut now) = (start, end, (start - end) as i64);
                let (before, mut most, mut days) = (now, now, now * i64::from(to - from + 1));
                // A start comes before an end on the same day, because both are active on it.
                while let Some(&day) = starts.get(start).filter(|&&day| day <= to) {
                    while ends.get(end).is_some_and(|&ended| ended < day) {
                        days -= i64::from(to - ends[end]);
                        (now, end) = (now - 1, end + 1);
                    }
                    days += i64::from(to - day + 1);
                    (now, start) = (now + 1, start + 1);
                    most = most.max(now);
                }
                while ends.get(end).is_some_and(|&ended| ended < to) {
                    days -= i64::from(to - ends[end]);
                    (now, end) = (now - 1, end + 1);
                }
                let at_end = now;
                while ends.get(end).is_some_and(|&ended| ended == to) {
                    end += 1;
                }
                let (begun, ended) = ((start - begun) as i64, (end - ended) as i64);
                let counts = [before + begun, begun, ended, at_end, most, days];
                *made = (entity as i64, to, counts);
                from = to + 1;
            }
        },
    );
    assert!(!reversed, "every interval ends after it starts");
    made
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
    threads::compare(
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
