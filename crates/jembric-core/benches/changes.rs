//! `changes` between two tables, beside the least work that it must do: numbering the keys of both
//! sides, and one comparison of each column.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Changes, Entities, Missing, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray, cast::AsArray, types::*},
};
use rayon::prelude::*;
use std::sync::Arc;

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The rows of each side. One in a hundred has a changed cell.
const ROWS: usize = 10_000_000;

fn side(changed: bool, repeat: usize) -> Table {
    let all = || (0..repeat).flat_map(|_| 0..ROWS);
    let keys: StringViewArray = all().map(|row| Some(format!("vessel {row}"))).collect();
    let differs = |row: usize| i64::from(changed && row % 100 == 7);
    let tons: Int64Array = all().map(|row| Some(row as i64 % 977 + differs(row))).collect();
    let days: Date32Array = all().map(|row| Some(row as i32 % 9_000)).collect();
    Table::from_columns([
        ("vessel", Arc::new(keys) as ArrayRef),
        ("tons", Arc::new(tons)),
        ("day", Arc::new(days)),
    ])
    .expect("a table")
}

/// The number of records whose cells differ, if the rows of both sides are in the same order.
fn differing(now: &Table, before: &Table) -> usize {
    let tons = |table: &Table| table.columns()[1].as_primitive::<Int64Type>().values().clone();
    let days = |table: &Table| table.columns()[2].as_primitive::<Date32Type>().values().clone();
    let tons = tons(now).par_iter().zip(tons(before).par_iter()).filter(|(a, b)| a != b).count();
    tons + days(now).par_iter().zip(days(before).par_iter()).filter(|(a, b)| a != b).count()
}

fn changes(criterion: &mut Criterion) {
    let (now, before, both) = (side(true, 1), side(false, 1), side(false, 2));
    let settings = Changes::per(["vessel"]);
    threads::compare(
        criterion,
        "changes, text keys, one in a hundred changed",
        ("numbering and comparing", || {
            let keys = Entities::number(&both, &["vessel"], Missing::NoEntity).expect("keys");
            (keys.count(), differing(&now, &before))
        }),
        ("changes", || settings.apply(&now, &before).expect("an answer").table.rows()),
        Some(1.4),
    );
}

criterion_group!(benches, changes);
criterion_main!(benches);
