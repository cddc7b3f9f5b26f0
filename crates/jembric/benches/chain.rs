//! A chain of steps, beside the same operations applied one after the other.

#[path = "../../../benches/threads.rs"]
mod threads;

use criterion::{Criterion, criterion_group, criterion_main};
use jembric::{Add, Chain, Filter, Latest, Operation, Outcome, Table, Totals, calendar::Day};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: i64 = 5_000_000;

fn calls() -> Table {
    let day = |row: i64| Day::from_number((row * 7_919 % 9_000) as i32);
    Table::builder()
        .column("vessel", (0..ROWS).map(|row| row % 50_021))
        .column("day", (0..ROWS).map(day))
        .column("tons", (0..ROWS).map(|row| row % 977))
        .build()
        .expect("a table")
}

/// Rows that the first step leaves are few, so the cost of the steps is that of the operations.
fn chains(criterion: &mut Criterion) {
    let calls = calls();
    let applied = |operation: &dyn Operation, before: &Outcome| {
        operation.apply_with(&before.table, &jembric::Context::new()).expect("an outcome")
    };
    let latest = Latest::new("day").per(["vessel"]);
    let (heavy, totals) = (Filter::new("tons > 100"), Totals::new().per(["tons"]).count());
    threads::compare(
        criterion,
        "a chain of latest, filter and totals",
        ("the operations", || {
            let first = latest.apply(&calls).expect("an outcome");
            applied(&totals, &applied(&heavy, &first)).table.rows()
        }),
        ("chain", || {
            let chain = Chain::read(&calls).then(latest.clone()).then(heavy.clone());
            chain.then(totals.clone()).run().expect("an outcome").table.rows()
        }),
        Some(1.05),
    );
    let double = Add::new(["twice = tons * 2"]);
    threads::compare(
        criterion,
        "a chain of filter and add",
        ("the operations", || applied(&double, &heavy.apply(&calls).expect("rows")).table.rows()),
        ("chain", || {
            let chain = Chain::read(&calls).then(heavy.clone()).then(double.clone());
            chain.run().expect("an outcome").table.rows()
        }),
        Some(1.05),
    );
}

criterion_group!(benches, chains);
criterion_main!(benches);
