//! Numbered rows come out in order, with their lines and fields, whatever their order before.

use crate::{
    Context, Latest, Totals,
    plan::NumberedRows,
    sample::{shown, table as sample},
    table::{Origin, Table},
};
use arrow_array::{
    Array, ArrayRef, Date32Array, Decimal64Array, Decimal128Array, Int64Array, StringViewArray,
    cast::AsArray, types::Int64Type,
};
use proptest::prelude::*;
use std::sync::Arc;

fn lines(table: &Table) -> Vec<u64> {
    let origin = table.origin().unwrap();
    (0..table.rows()).map(|row| origin.line(row)).collect()
}

fn numbers(from: u64, rows: usize) -> Table {
    let rows: Vec<String> = (from..from + rows as u64).map(|number| number.to_string()).collect();
    sample(&format!("n:number\n{}", rows.join("\n")))
        .with_origin(Origin::new("stays.csv", from + 2))
}

#[test]
fn without_any_table_there_are_no_rows() {
    assert!(NumberedRows::default().in_order().unwrap().is_none());
    assert!(!NumberedRows::default().has_table());
    let mut rows = NumberedRows::default();
    rows.add(&numbers(0, 0), []);
    assert!(rows.has_table());
    assert_eq!(rows.in_order().unwrap().unwrap().rows(), 0);
}

#[test]
fn a_table_without_rows_gives_way_to_one_with_rows() {
    let mut rows = NumberedRows::default();
    for table in [numbers(0, 0), numbers(3, 2), numbers(9, 0)] {
        let first = if table.rows() == 0 { 0..0 } else { 3..5 };
        rows.add(&table, first);
    }
    let (table, places) = rows.take_in_order().unwrap().unwrap();
    assert_eq!((shown(&table), places), (vec!["3".to_owned(), "4".to_owned()], vec![3, 4]));
}

#[test]
fn taken_rows_are_gone() {
    let mut rows = NumberedRows::default();
    rows.add(&numbers(1, 1), [1]);
    assert_eq!(rows.take().unwrap().unwrap().1.at(0), 1);
    assert!(!rows.has_table() && rows.take().unwrap().is_none());
}

#[test]
fn decimals_of_two_widths_are_joined_in_the_wider() {
    let narrow: ArrayRef = Arc::new(
        Decimal64Array::from(vec![Some(150), None]).with_precision_and_scale(18, 2).unwrap(),
    );
    let wide: ArrayRef = Arc::new(
        Decimal128Array::from(vec![10_i128.pow(30)]).with_precision_and_scale(38, 2).unwrap(),
    );
    let table = |column: ArrayRef| Table::from_columns([("amount", column)]).unwrap();
    let (narrow, wide) = (table(narrow), table(wide));
    for tables in [[&narrow, &wide], [&wide, &narrow]] {
        let joined = Table::joined(tables[0], &[tables[1].clone()]).unwrap();
        assert_eq!(joined.columns()[0].data_type(), wide.columns()[0].data_type());
        assert_eq!(shown(&joined), [shown(tables[0]), shown(tables[1])].concat());
    }
}

proptest! {
    #[test]
    fn rows_come_out_in_order_with_their_lines(
        sizes in prop::collection::vec(0..4_usize, 1..8),
        order in any::<prop::sample::Index>(),
        states in 1..4_usize,
    ) {
        let mut batches = Vec::new();
        for size in &sizes {
            let first = batches.last().map_or(0, |(first, rows): &(u64,
                usize)| first + *rows as u64);
            batches.push((first, *size));
        }
        let all: u64 = sizes.iter().sum::<usize>() as u64;
        batches.rotate_left(order.index(sizes.len()));
        let mut states: Vec<NumberedRows> = (0..states).map(|_| NumberedRows::default()).collect();
        let count = states.len();
        for (n, (first, rows)) in batches.into_iter().enumerate() {
            states[n % count].add(&numbers(first, rows), first..first + rows as u64);
        }
        let mut merged = NumberedRows::default();
        states.into_iter().rev().for_each(|state| merged.merge(state));
        let table = merged.in_order().unwrap().unwrap();
        prop_assert_eq!(shown(&table),
            (0..all).map(|number| number.to_string()).collect::<Vec<_>>());
        prop_assert_eq!(lines(&table), (2..all + 2).collect::<Vec<_>>());
    }
}

#[test]
fn rows_set_aside_can_be_taken_out_and_are_counted() {
    let days: ArrayRef = Arc::new(Date32Array::from(vec![None, Some(20_000), None, None]));
    let numbers: ArrayRef = Arc::new(Int64Array::from(vec![0, 1, 2, 3]));
    let days = Table::from_columns([("day", days), ("number", numbers)]).unwrap();
    let plan = Totals::new().date(["day"]).prepare(&days.shape(), &Context::new()).unwrap();
    let mut fold = plan.begin().unwrap();
    // Batches may come in any order.
    fold.take(&days.slice(2, 1), 2).unwrap();
    fold.take(&days.head(2), 0).unwrap();
    assert_eq!(fold.take_set_aside(1 << 20).unwrap().map(|rows| rows.rows()), None);
    let taken = fold.take_set_aside(1).unwrap().unwrap();
    let numbers = taken.column("number").unwrap().as_primitive::<Int64Type>().values().to_vec();
    assert_eq!(numbers, [0, 2]);
    assert_eq!(fold.take_set_aside(1).unwrap().map(|rows| rows.rows()), None);
    fold.take(&days.slice(3, 1), 3).unwrap();
    let outcome = fold.finish().unwrap();
    assert_eq!((outcome.set_aside.rows(), outcome.ledger.set_aside[0].rows), (1, 3));
    assert!(outcome.ledger.balances());
}

#[test]
fn rows_set_aside_can_be_forgotten_and_are_counted() {
    let column: ArrayRef = Arc::new(Date32Array::from(vec![None, Some(20_000), None]));
    let days = Table::from_columns([("day", column)]).unwrap();
    let plan = Totals::new().date(["day"]).prepare(&days.shape(), &Context::new()).unwrap();
    let mut fold = plan.begin().unwrap();
    for (first_row, batch) in [(0, days.head(1)), (1, days.slice(1, 2))] {
        fold.take(&batch, first_row).unwrap();
        fold.forget_set_aside();
    }
    let outcome = fold.finish().unwrap();
    assert_eq!(outcome.set_aside.rows(), 0);
    assert_eq!(outcome.set_aside.names().collect::<Vec<_>>(), ["day", "set_aside_because"]);
    assert_eq!(outcome.ledger.set_aside[0].rows, 2);
    assert!(outcome.ledger.balances());
}

#[test]
fn a_state_keeps_no_texts_of_rows_that_are_gone() {
    let name = |n: i32| format!("a vessel with the long name {n}");
    let names: ArrayRef =
        Arc::new((0..1_000).map(|n| Some(name(n % 2))).collect::<StringViewArray>());
    let days: ArrayRef = Arc::new(Date32Array::from_iter_values(0..1_000));
    let table = Table::from_columns([("vessel", names), ("day", days)]).unwrap();
    let plan = Latest::new("day").per(["vessel"]);
    let plan = plan.prepare(&table.shape(), &Context::new()).unwrap();
    let mut fold = plan.begin().unwrap();
    for batch in 0..5 {
        fold.take(&table, 1_000 * batch).unwrap();
    }
    assert!(fold.bytes() < 2 * table.bytes(), "{} of {}", fold.bytes(), table.bytes());
    let latest = fold.finish().unwrap().table;
    let kept: usize =
        latest.columns()[0].as_string_view().data_buffers().iter().map(|b| b.len()).sum();
    assert!(kept < 2_000, "{kept} bytes of texts for {} rows", latest.rows());
}

/// Records of vessels in batches, later ones with later dates, as a log has them.
fn log(vessels: u32, batches: i32, rows: u32) -> Vec<Table> {
    let batch = |n: i32| {
        let row = |row: u32| row + n as u32 * rows;
        let names = (0..rows).map(|own| Some(format!("vessel {}", row(own) * 7 % vessels)));
        let names: StringViewArray = names.collect();
        let days =
            Date32Array::from_iter_values((0..rows).map(|own| 20_000 + n * 3 + own as i32 % 3));
        let tons: Decimal64Array = (0..rows).map(|own| Some(i64::from(row(own)))).collect();
        let columns: [(&str, ArrayRef); 3] =
            [("vessel", Arc::new(names)), ("day", Arc::new(days)), ("tons", Arc::new(tons))];
        Table::from_columns(columns).unwrap()
    };
    (0..batches).map(batch).collect()
}

/// With more rows than are kept before the first compaction, a state stays small, and its result is
/// that of all rows at once.
#[test]
fn states_of_long_logs_stay_small_and_give_the_same_result() {
    let batches = log(5_000, 12, 30_000);
    let whole = Table::joined(&batches[0], &batches[1..]).unwrap();
    let context = Context::new();
    let first = crate::Ties::First;
    let operations: [Box<dyn crate::Operation>; 4] = [
        Box::new(Latest::new("day").per(["vessel"]).ties(first)),
        Box::new(crate::Earliest::new("day").per(["vessel"]).ties(first)),
        Box::new(Totals::new().date(["day"]).grain(crate::calendar::Grain::Week).per(["vessel"])),
        Box::new(crate::Active::new("day", "day").count().per(["vessel"])),
    ];
    for operation in operations {
        let plan = operation.prepare(&whole.shape(), &context).unwrap();
        let mut fold = plan.begin().unwrap();
        let mut most = 0;
        for (n, batch) in (0..).zip(&batches) {
            fold.take(batch, n * 30_000).unwrap();
            most = most.max(fold.bytes());
        }
        let folded = fold.finish().unwrap();
        let applied = plan.apply(&[&whole]).unwrap();
        assert_eq!(folded.ledger.to_string(), applied.ledger.to_string());
        assert!(shown(&folded.table) == shown(&applied.table), "{operation:?}");
        // Twelve batches are 360,000 rows.
        let per_row = most / 360_000;
        assert!(per_row < 40, "{operation:?}: {per_row} bytes for each row");
    }
}
