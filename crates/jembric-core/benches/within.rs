//! Events in windows, beside the least work that they must do; and how the worst cases grow.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Entities, Keep, Missing, Pick, Table, Window, Within,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray},
};
use rayon::prelude::*;
use std::{sync::Arc, time::Instant};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const EVENTS: usize = 10_000_000;
const WINDOWS: usize = 2_000_000;
const KEYS: usize = 200_000;
const TEN_YEARS: i32 = 3_652;

struct Sides {
    event_keys: Vec<u32>,
    days: Vec<i32>,
    window_keys: Vec<u32>,
    starts: Vec<i32>,
    ends: Vec<i32>,
}

/// Ten windows for each key, one after the other with gaps between them, not sorted.
fn disjoint() -> Sides {
    let mut random = fastrand::Rng::with_seed(5);
    let mut windows: Vec<(u32, i32, i32)> = (0..WINDOWS)
        .map(|n| {
            let start = (n / KEYS) as i32 * 365 + random.i32(0..100);
            ((n % KEYS) as u32, start, start + random.i32(0..200))
        })
        .collect();
    random.shuffle(&mut windows);
    Sides {
        event_keys: (0..EVENTS).map(|_| random.u32(0..KEYS as u32)).collect(),
        days: (0..EVENTS).map(|_| random.i32(0..TEN_YEARS)).collect(),
        window_keys: windows.iter().map(|window| window.0).collect(),
        starts: windows.iter().map(|window| window.1).collect(),
        ends: windows.iter().map(|window| window.2).collect(),
    }
}

fn coded(keys: &[u32]) -> ArrayRef {
    Arc::new(Int64Array::from_iter_values(keys.iter().map(|&key| key.into())))
}

fn named(keys: &[u32]) -> ArrayRef {
    Arc::new(StringViewArray::from_iter_values(keys.iter().map(|key| format!("ship {key:06}"))))
}

fn table(key: ArrayRef, dates: &[(&str, &[i32])]) -> Table {
    let dates = dates
        .iter()
        .map(|(name, days)| (*name, Arc::new(Date32Array::from(days.to_vec())) as ArrayRef));
    Table::from_columns([("key", key)].into_iter().chain(dates)).expect("a table")
}

/// Sorted starts for each key and a binary search, and the rows of the pairs with their dates.
fn kernel(sides: &Sides, open: bool) -> (Vec<u64>, [Vec<i32>; 3]) {
    let mut places = vec![0_u32; KEYS + 1];
    sides.window_keys.iter().for_each(|&key| places[key as usize + 1] += 1);
    for key in 1..places.len() {
        places[key] += places[key - 1];
    }
    let mut next = places.clone();
    let mut windows = vec![(0, 0); WINDOWS];
    for (row, &key) in sides.window_keys.iter().enumerate() {
        windows[next[key as usize] as usize] = (sides.starts[row], row as u32);
        next[key as usize] += 1;
    }
    for bounds in places.windows(2) {
        windows[bounds[0] as usize..bounds[1] as usize].sort_unstable();
    }
    let pairs: Vec<(u32, u32)> = (0..EVENTS)
        .into_par_iter()
        .with_min_len(1 << 16)
        .filter_map(|event| {
            let (key, day) = (sides.event_keys[event] as usize, sides.days[event]);
            let windows = &windows[places[key] as usize..places[key + 1] as usize];
            let begun = windows.partition_point(|window| window.0 <= day);
            let (_, row) = windows[..begun].last()?;
            (open || sides.ends[*row as usize] >= day).then_some((event as u32, *row))
        })
        .collect();
    let column = |of: &(dyn Fn((u32, u32)) -> i32 + Sync)| -> Vec<i32> {
        pairs.par_iter().with_min_len(1 << 16).map(|&pair| of(pair)).collect()
    };
    let keys = pairs
        .par_iter()
        .with_min_len(1 << 16)
        .map(|&(event, _)| sides.event_keys[event as usize].into());
    (
        keys.collect(),
        [
            column(&|(event, _)| sides.days[event as usize]),
            column(&|(_, row)| sides.starts[row as usize]),
            column(&|(_, row)| sides.ends[row as usize]),
        ],
    )
}

fn joins(criterion: &mut Criterion) {
    let sides = disjoint();
    let events = table(coded(&sides.event_keys), &[("day", &sides.days)]);
    let windows = table(coded(&sides.window_keys), &[("a", &sides.starts), ("z", &sides.ends)]);
    let inside = Within::new("day", Window::between("a", "z")).matching(["key"]);
    threads::compare(
        criterion,
        "10 million events in 2 million disjoint windows, coded keys",
        ("sorted starts per key and a binary search", || kernel(&sides, false)),
        ("within", || inside.apply(&events, &windows).expect("an answer")),
        Some(1.3),
    );
    let in_force = Within::new("day", Window::starting("a")).matching(["key"]).pick(Pick::Last);
    threads::compare(
        criterion,
        "the last of open windows, coded keys",
        ("sorted starts per key and a binary search", || kernel(&sides, true)),
        ("within, pick last", || in_force.apply(&events, &windows).expect("an answer")),
        Some(1.3),
    );

    let events = table(named(&sides.event_keys), &[("day", &sides.days)]);
    let windows = table(named(&sides.window_keys), &[("a", &sides.starts), ("z", &sides.ends)]);
    let all_keys: Vec<u32> = sides.event_keys.iter().chain(&sides.window_keys).copied().collect();
    let both = table(named(&all_keys), &[]);
    threads::compare(
        criterion,
        "10 million events in 2 million disjoint windows, text keys",
        ("that kernel and the coding of both", || {
            let coded = Entities::number(&both, &["key"], Missing::NoEntity).expect("numbers");
            (coded, kernel(&sides, false))
        }),
        ("within", || inside.apply(&events, &windows).expect("an answer")),
        Some(1.4),
    );
}

/// A million events, each in about ten of the windows of its key.
fn overlapping(criterion: &mut Criterion) {
    const COUNT: usize = 1_000_000;
    let mut random = fastrand::Rng::with_seed(6);
    let keys = |random: &mut fastrand::Rng, count| {
        (0..count).map(|_| random.u32(0..1_000)).collect::<Vec<_>>()
    };
    let (event_keys, window_keys) = (keys(&mut random, COUNT), keys(&mut random, COUNT / 5));
    let days: Vec<i32> = (0..COUNT).map(|_| random.i32(0..TEN_YEARS)).collect();
    let starts: Vec<i32> = (0..COUNT / 5).map(|_| random.i32(0..TEN_YEARS)).collect();
    let ends: Vec<i32> = starts.iter().map(|start| start + random.i32(0..365)).collect();
    let events = table(coded(&event_keys), &[("day", &days)]);
    let windows = table(coded(&window_keys), &[("a", &starts), ("z", &ends)]);
    let inside = Within::new("day", Window::between("a", "z")).matching(["key"]);
    let pairs = inside.apply(&events, &windows).expect("an answer").table.rows();
    println!("{pairs} pairs");
    let mut of_key: Vec<Vec<(i32, i32)>> = vec![Vec::new(); 1_000];
    for row in 0..starts.len() {
        of_key[window_keys[row] as usize].push((starts[row], ends[row]));
    }
    of_key.iter_mut().for_each(|windows| windows.sort_unstable());
    threads::compare(
        criterion,
        "1 million events, ten hits each",
        ("a walk over all windows that have begun, and a fresh write of the pairs", || {
            let hits: Vec<(u32, i32, i32, i32)> = (0..COUNT)
                .into_par_iter()
                .flat_map_iter(|event| {
                    let (key, day) = (event_keys[event], days[event]);
                    let windows = &of_key[key as usize];
                    let begun = windows.partition_point(|window| window.0 <= day);
                    let hits = windows[..begun].iter().filter(move |window| window.1 >= day);
                    hits.map(move |&(start, end)| (key, day, start, end))
                })
                .collect();
            hits
        }),
        ("within", || inside.apply(&events, &windows).expect("an answer")),
        Some(1.5),
    );
}

/// The worst cases at ten and a hundred times the size. The time for each row (times its logarithm)
/// and pair should stay about the same.
fn growth(_: &mut Criterion) {
    type Shape = fn(i32, i32) -> (i32, i32);
    let shapes: [(&str, Shape, Keep, Pick); 5] = [
        (
            "all windows of one key overlap, few hits",
            |n, all| (n / 2, n / 2 + all / 2),
            Keep::StrayEvents,
            Pick::All,
        ),
        (
            "one window spans everything",
            |n, all| if n == 0 { (0, 2 * all) } else { (n, n) },
            Keep::Matched,
            Pick::All,
        ),
        ("nested windows, the last", |n, all| (n, 2 * all - n), Keep::Matched, Pick::Last),
        ("nearest among equal starts", |n, all| (0, all / 2 + n / 2), Keep::Matched, Pick::Nearest),
        ("all events on one day", |n, _| (n, n), Keep::Matched, Pick::All),
    ];
    for (name, shape, keep, pick) in shapes {
        let mut line = format!("GROWTH {name}:");
        for count in [10_000, 100_000, 1_000_000_i32] {
            let mut random = fastrand::Rng::with_seed(7);
            let (starts, ends): (Vec<i32>, Vec<i32>) = (0..count).map(|n| shape(n, count)).unzip();
            let one_day = name.starts_with("all events");
            let late = if keep == Keep::StrayEvents { count - 40 } else { 0 };
            let days =
                (0..count).map(|_| if one_day { count / 2 } else { late + random.i32(0..count) });
            let days: Vec<i32> = days.collect();
            let key = |rows: i32| coded(&vec![0; rows as usize]);
            let events = table(key(count), &[("day", &days)]);
            let windows = table(key(count), &[("a", &starts), ("z", &ends)]);
            let mut within = Within::new("day", Window::between("a", "z"))
                .matching(["key"])
                .keep(keep)
                .pick(pick);
            if pick == Pick::Nearest {
                within = within.nearest_to("z");
            }
            let began = Instant::now();
            let outcome = within.apply(&events, &windows).expect("an answer");
            let took = began.elapsed().as_secs_f64();
            let work =
                f64::from(count) * f64::from(count).log2() + outcome.ledger.count("pairs") as f64;
            line += &format!(" {count} rows {took:.4} s, {:.1} ns a unit;", took / work * 1e9);
        }
        println!("{line}");
    }
}

criterion_group!(benches, joins, overlapping, growth);
criterion_main!(benches);
