use super::*;
use arrow_array::{
    BooleanArray, Date32Array, Decimal64Array, Decimal128Array, Float64Array, Int64Array,
    StringViewArray, Time64MicrosecondArray, TimestampMicrosecondArray,
};
use proptest::prelude::*;
use std::sync::Arc;

/// A column of one of the types of tables, made of numbers.
fn column(kind: usize, numbers: &[Option<i64>]) -> ArrayRef {
    let each = || numbers.iter().copied();
    let text = |make: fn(i64) -> String| -> ArrayRef {
        Arc::new(each().map(|n| n.map(make)).collect::<StringViewArray>())
    };
    match kind {
        0 => Arc::new(each().collect::<Int64Array>()),
        1 => Arc::new(each().map(|n| n.map(|n| n as f64 / 3.0)).collect::<Float64Array>()),
        2 => Arc::new(each().map(|n| n.map(|n| n as i32)).collect::<Date32Array>()),
        3 => Arc::new(each().collect::<Decimal64Array>()),
        4 => Arc::new(each().map(|n| n.map(|n| i128::from(n) << 40)).collect::<Decimal128Array>()),
        5 => Arc::new(each().map(|n| n.map(|n| n > 0)).collect::<BooleanArray>()),
        6 => Arc::new(each().collect::<TimestampMicrosecondArray>()),
        7 => Arc::new(each().map(|n| n.map(i64::abs)).collect::<Time64MicrosecondArray>()),
        8 => text(|n| "ab".repeat(n.unsigned_abs() as usize % 5)),
        9 => text(|n| "é\0".repeat(n.unsigned_abs() as usize % 4)),
        10 => text(|n| format!("vessel {}", n % 3)),
        11 => text(|n| format!("a vessel whose name is long, number {}", n % 3)),
        12 => text(|n| format!("a vessel whose name is long, number {n}")),
        _ => Arc::new(
            each()
                .map(|n| n.map(|n| n.unsigned_abs() as u32))
                .collect::<arrow_array::UInt32Array>(),
        ),
    }
}

/// The obvious model: a stable sort that compares the columns.
fn compared(columns: &[(ArrayRef, bool)], rows: usize) -> Vec<u32> {
    let compare = comparators(columns).unwrap();
    let mut order: Vec<u32> = (0..rows as u32).collect();
    order.sort_by(|&one, &other| {
        let orders = compare.iter().map(|compare| compare(one as usize, other as usize));
        orders.fold(Ordering::Equal, Ordering::then)
    });
    order
}

fn number() -> impl Strategy<Value = Option<i64>> {
    prop::option::weighted(
        0.8,
        prop_oneof![
            8 => -4_i64..5,
            1 => Just(i64::from(i32::MIN)),
            1 => -1_000_000_i64..1_000_000,
        ],
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(400))]

    #[test]
    fn packed_keys_sort_as_comparing_does(
        rows in prop::collection::vec(prop::array::uniform4(number()), 0..60),
        kinds in prop::collection::vec((0_usize..14, any::<bool>()), 0..5),
    ) {
        let columns: Vec<(ArrayRef, bool)> = kinds.iter().enumerate().map(|(n, &(kind, down))| {
            let numbers: Vec<Option<i64>> = rows.iter().map(|row| row[n % 4]).collect();
            (column(kind, &numbers), down)
        }).collect();
        let sorted = order_of_rows(&columns, rows.len()).unwrap();
        prop_assert_eq!(sorted, compared(&columns, rows.len()), "{:?}", columns);
    }
}

#[test]
fn the_ends_of_a_type_are_in_order_with_missing_values_last() {
    let ends = [Some(i64::MAX), None, Some(i64::MIN), Some(0), Some(i64::MAX), None];
    for (down, expected) in [(false, [2, 3, 0, 4, 1, 5]), (true, [0, 4, 3, 2, 1, 5])] {
        let numbers: ArrayRef = Arc::new(Int64Array::from(ends.to_vec()));
        let truths: ArrayRef = Arc::new(BooleanArray::from(vec![true; 6]));
        assert_eq!(order_of_rows(&[(numbers.clone(), down)], 6).unwrap(), expected);
        assert_eq!(order_of_rows(&[(truths, true), (numbers, down)], 6).unwrap(), expected);
    }
    let without: ArrayRef = Arc::new(Int64Array::from(vec![i64::MAX, i64::MIN, -1]));
    assert_eq!(order_of_rows(&[(without, false)], 3).unwrap(), [1, 2, 0]);
}

#[test]
fn many_rows_on_any_number_of_threads_have_one_order() {
    let rows = 5 * ROWS_A_THREAD as i64 + 3;
    let numbers: Vec<Option<i64>> = (0..rows).map(|n| Some(n * 7_919 % 1_009)).collect();
    let different: Vec<Option<i64>> = (0..rows).map(|n| Some(n * 7_919 % rows)).collect();
    let columns = [
        (column(12, &different), true),
        (column(8, &numbers), false),
        (column(2, &numbers), true),
        (column(0, &different), false),
    ];
    for columns in [&columns[..], &columns[1..], &columns[2..3]] {
        let expected = compared(columns, rows as usize);
        for threads in [1, 2, 7] {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            let sorted = pool.install(|| order_of_rows(columns, rows as usize)).unwrap();
            assert!(sorted == expected, "{threads} threads");
        }
    }
}
