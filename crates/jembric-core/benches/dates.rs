//! Dates and expressions over 10 million rows, each beside the least work that it must do.
//!
//! Whole operations are timed, from the table to the result with its ledger.

#[path = "../../../benches/threads.rs"]
mod threads;

use arrow_arith::boolean::and_kleene;
use arrow_ord::cmp;
use arrow_select::filter::{FilterBuilder, filter_record_batch};
use criterion::{Criterion, criterion_group, criterion_main};
use jembric_core::{
    Add, Elapsed, Filter, Recent, Table, Unit,
    arrow::{
        ArrayRef, BooleanArray, Date32Array, Decimal64Array, Int64Array, Scalar,
        buffer::BooleanBuffer,
    },
    calendar::{Day, Span},
};
use std::{hint::black_box, sync::Arc};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;
/// 1997-05-19, and this number of days from there.
const FIRST: i32 = 10_000;
const DAYS: i32 = 10_000;

fn days(seed: u64) -> Vec<i32> {
    let mut random = fastrand::Rng::with_seed(seed);
    (0..ROWS).map(|_| FIRST + random.i32(0..DAYS)).collect()
}

fn decimals(seed: u64) -> Decimal64Array {
    let mut random = fastrand::Rng::with_seed(seed);
    let units: Vec<i64> = (0..ROWS).map(|_| random.i64(0..1_000_000)).collect();
    Decimal64Array::from(units).with_precision_and_scale(18, 2).expect("six digits")
}

fn table(columns: Vec<(&str, ArrayRef)>) -> Table {
    Table::from_columns(columns).expect("a table")
}

fn parts(criterion: &mut Criterion) {
    let of = days(1);
    let table = table(vec![("day", Arc::new(Date32Array::from(of.clone())))]);
    let add = Add::new(["y = year(day)", "m = month(day)", "d = day(day)"]);
    threads::compare(
        criterion,
        "days to year, month, day columns",
        ("branch-free arithmetic over the slice", || {
            let (mut years, mut months, mut days) =
                (vec![0_i64; ROWS], vec![0_i64; ROWS], vec![0_i64; ROWS]);
            for (row, &day) in of.iter().enumerate() {
                let (year, month, day) = Day::from_number(day).unwrap_or(Day::MIN).ymd();
                (years[row], months[row], days[row]) = (year.into(), month.into(), day.into());
            }
            (years, months, days)
        }),
        ("add of three columns", || add.apply(&table).expect("an answer")),
        Some(1.3),
    );
}

fn completed_months(criterion: &mut Criterion) {
    let (from, to) = (days(1), days(2));
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("a", Arc::new(Date32Array::from(from.clone()))),
        ("b", Arc::new(Date32Array::from(to.clone()))),
    ];
    let table = table(columns);
    let elapsed = Elapsed::between("a", "b").unit(Unit::Months);
    threads::compare(
        criterion,
        "completed months between two date columns",
        ("reading both columns and writing one", || {
            from.iter().zip(&to).map(|(&from, &to)| i64::from(to - from)).collect::<Vec<i64>>()
        }),
        ("elapsed", || elapsed.apply(&table).expect("an answer")),
        Some(3.0),
    );
}

fn filter(criterion: &mut Criterion) {
    let level: ArrayRef = Arc::new(decimals(3));
    let day: ArrayRef = Arc::new(Date32Array::from(days(4)));
    let table = table(vec![("level", level.clone()), ("day", day.clone())]);
    let limit =
        Decimal64Array::from(vec![500_000]).with_precision_and_scale(18, 2).expect("six digits");
    let since = Date32Array::from(vec![FIRST + DAYS / 2]);
    let text = format!(
        "level > 5000.00 and day >= {}",
        Day::from_number(FIRST + DAYS / 2).unwrap_or(Day::MIN)
    );
    let filter = Filter::new(text);
    threads::compare(
        criterion,
        "filter with two comparisons and `and`",
        ("Arrow's own kernels by hand", || {
            let above = cmp::gt(&level, &Scalar::new(limit.clone())).expect("comparable");
            let later = cmp::gt_eq(&day, &Scalar::new(since.clone())).expect("comparable");
            let both = and_kleene(&above, &later).expect("of one length");
            filter_record_batch(table.batch(), &both).expect("a mask of its length")
        }),
        ("filter", || filter.apply(&table).expect("an answer")),
        Some(1.2),
    );
}

fn add(criterion: &mut Criterion) {
    let amount = decimals(5);
    let table = table(vec![("amount", Arc::new(amount.clone()))]);
    let add = Add::new(["fee = amount * 0.075"]);
    threads::compare(
        criterion,
        "add 'fee = amount * 0.075'",
        ("the multiplication of one slice", || {
            let by = black_box(75);
            amount.values().iter().map(|&units| units.wrapping_mul(by)).collect::<Vec<i64>>()
        }),
        ("add", || add.apply(&table).expect("an answer")),
        Some(1.5),
    );
}

fn recent(criterion: &mut Criterion) {
    let day = days(6);
    let mut random = fastrand::Rng::with_seed(7);
    let number: Int64Array = (0..ROWS).map(|_| Some(random.i64(0..1_000_000))).collect();
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("day", Arc::new(Date32Array::from(day.clone()))),
        ("n", Arc::new(number)),
        ("amount", Arc::new(decimals(8))),
    ];
    let table = table(columns);
    let recent = Recent::last("day", Span::days(DAYS / 10));
    let first = FIRST + DAYS - DAYS / 10;
    threads::compare(
        criterion,
        "recent, a tenth of the rows stays",
        ("one read of the date column and the gather", || {
            let kept = BooleanBuffer::collect_bool(ROWS, |row| day[row] >= first);
            let filter = FilterBuilder::new(&BooleanArray::new(kept, None)).optimize().build();
            filter.filter_record_batch(table.batch()).expect("a mask of its length")
        }),
        ("recent", || recent.apply(&table).expect("an answer")),
        Some(1.3),
    );
}

criterion_group!(benches, parts, completed_months, filter, add, recent);
criterion_main!(benches);
