//! Pictures of 10 million points, beside one pass that keeps the least and greatest value of each
//! pixel column; and pictures of a thousand intervals.
//!
//! The kernel knows the ends of the axis, and does on two threads what the picture needs: for every
//! row its pixel column, and two comparisons. The picture finds the ends, checks for missing and
//! infinite values, accounts for the rows, and writes the SVG.

#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Table,
    arrow::{ArrayRef, Date32Array, Float64Array, StringViewArray},
};
use jembric_draw::{Draw, Form};
use rayon::prelude::*;
use std::{hint::black_box, sync::Arc};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;
const FIRST: i32 = 10_000;
const DAYS: i32 = 20_000;
const COLUMNS: usize = 880;

/// The least and greatest value of each pixel column.
fn extremes(days: &[i32], values: &[f64]) -> Vec<(f64, f64)> {
    const NONE: (f64, f64) = (f64::INFINITY, f64::NEG_INFINITY);
    let scale = COLUMNS as f64 / f64::from(DAYS);
    let pieces = days.par_chunks(1 << 16).zip(values.par_chunks(1 << 16));
    pieces
        .fold(
            || vec![NONE; COLUMNS],
            |mut columns, (days, values)| {
                for (day, value) in days.iter().zip(values) {
                    let column = (f64::from(day - FIRST) * scale) as usize;
                    let (low, high) = &mut columns[column];
                    *low = if value < low { *value } else { *low };
                    *high = if value > high { *value } else { *high };
                }
                columns
            },
        )
        .reduce(
            || vec![NONE; COLUMNS],
            |one, other| {
                let both = one.iter().zip(&other);
                both.map(|(one, other)| (one.0.min(other.0), one.1.max(other.1))).collect()
            },
        )
}

fn many(criterion: &mut Criterion) {
    let mut random = fastrand::Rng::with_seed(4);
    let days: Vec<i32> = (0..ROWS).map(|_| FIRST + random.i32(0..DAYS)).collect();
    let values: Vec<f64> = (0..ROWS).map(|_| random.f64() * 100.0).collect();
    let day: ArrayRef = Arc::new(Date32Array::from(days.clone()));
    let level: ArrayRef = Arc::new(Float64Array::from(values.clone()));
    let gauge: ArrayRef = Arc::new(StringViewArray::from_iter_values(
        (0..ROWS).map(|row| ["Outer Mole", "River Gate"][row % 2]),
    ));
    let one =
        Table::from_columns([("day", day.clone()), ("level", level.clone())]).expect("a table");
    let two =
        Table::from_columns([("day", day), ("level", level), ("gauge", gauge)]).expect("a table");
    let kernel = ("extremes of each pixel column", || extremes(&days, &values));
    let svg = |draw: &Draw, table: &Table| draw.picture(table).expect("a picture").svg();
    let draw = Draw::new().form(Form::Lines);
    let size = svg(&draw, &one).len();
    println!("the SVG of 10 million points has {size} bytes");
    ratio::compare(
        criterion,
        "10 million points to SVG",
        kernel,
        ("draw, one series", || svg(&draw, &one)),
        Some(2.0),
    );
    let draw = Draw::new().form(Form::Lines).per(["gauge"]);
    ratio::compare(
        criterion,
        "10 million points of two series to SVG",
        ("extremes of each pixel column", || extremes(&days, &values)),
        ("draw, with numbering of the series", || svg(&draw, &two)),
        None,
    );
}

/// One thousand intervals: SVG and PNG.
fn few(criterion: &mut Criterion) {
    let mut random = fastrand::Rng::with_seed(5);
    let from: Vec<i32> = (0..1_000).map(|_| FIRST + random.i32(0..1_000)).collect();
    let to = from.iter().map(|from| from + 1 + (from % 30));
    let berth = from.iter().map(|from| format!("berth {:02}", from % 40));
    let berth: ArrayRef = Arc::new(StringViewArray::from_iter_values(berth));
    let to: ArrayRef = Arc::new(Date32Array::from_iter_values(to));
    let from: ArrayRef = Arc::new(Date32Array::from(from));
    let table =
        Table::from_columns([("arrived", from), ("left", to), ("berth", berth)]).expect("a table");
    let mut group = criterion.benchmark_group("1,000 intervals");
    group.sample_size(10);
    let picture = || Draw::new().picture(&table).expect("a picture");
    group.bench_function("SVG", |bencher| bencher.iter(|| black_box(picture().svg())));
    group.bench_function("PNG", |bencher| bencher.iter(|| black_box(picture().png())));
    group.finish();
}

criterion_group!(benches, many, few);
criterion_main!(benches);
