//! Gathers the values of some rows into a new column, on all threads for values of fixed width.

use crate::{error::Result, parallel, room::Room, table::Table, timeline::GroupedByEntity};
use arrow_array::{
    Array, ArrayRef, ArrowPrimitiveType, PrimitiveArray, UInt32Array, downcast_primitive_array,
};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder, NullBuffer};
use arrow_select::take::take;
use std::sync::Arc;

/// In place of a row number: no row, so the value is missing.
pub(crate) const NONE: u32 = u32::MAX;

/// Gathers the values of these rows. Cost: one read of the row numbers and of the values, and one
/// write.
pub(crate) fn gather(array: &ArrayRef, rows: Vec<u32>) -> Result<ArrayRef> {
    Ok(downcast_primitive_array! {
        array => Arc::new(of_one_width(array, &rows)),
        _ => take(array, &numbered(rows), None)?,
    })
}

/// Repeats each row for the length of its stretch: `starts` has the beginning of each stretch and
/// the end of the last. Cost: one write of the result.
pub(crate) fn repeated(table: &Table, starts: &[u32]) -> Result<Table> {
    let rows = starts.last().map_or(0, |&rows| rows as usize);
    table.with_columns(repeated_columns(table.columns(), starts)?, rows)
}

fn repeated_columns(columns: &[ArrayRef], starts: &[u32]) -> Result<Vec<ArrayRef>> {
    // Values of one width are written directly. Others are gathered, all with the same row numbers.
    let is_gathered = |array: &ArrayRef| !array.data_type().is_primitive();
    let rows = if columns.iter().any(is_gathered) {
        of_stretches(starts, |n, own| own.repeat(n as u32, own.len()))
    } else {
        Vec::new()
    };
    let rows = UInt32Array::from(rows);
    let one = |_, array: &ArrayRef| -> Result<ArrayRef> {
        Ok(downcast_primitive_array! {
            array => Arc::new(repeated_values(array, starts)),
            _ => take(array, &rows, None)?,
        })
    };
    parallel::of_parts(columns, one).into_iter().collect()
}

fn repeated_values<T: ArrowPrimitiveType>(
    array: &PrimitiveArray<T>,
    starts: &[u32],
) -> PrimitiveArray<T> {
    let values = of_stretches(starts, |n, own| own.repeat(array.values()[n], own.len()));
    let nulls = array.nulls().filter(|nulls| nulls.null_count() > 0).map(|nulls| {
        let mut valid = BooleanBufferBuilder::new(values.len());
        for (n, bounds) in starts.windows(2).enumerate() {
            valid.append_n((bounds[1] - bounds[0]) as usize, nulls.is_valid(n));
        }
        NullBuffer::new(valid.finish())
    });
    let nulls = nulls.filter(|nulls| nulls.null_count() > 0);
    PrimitiveArray::<T>::new(values.into(), nulls).with_data_type(array.data_type().clone())
}

/// Makes a column of stretches, each of which is filled from its beginning to its end.
pub(crate) fn of_stretches<T: Copy + Send>(
    starts: &[u32],
    write: impl Fn(usize, &mut Room<'_, T>) + Sync,
) -> Vec<T> {
    /// The stretches that a thread takes at a time.
    const AT_ONCE: usize = 1 << 10;
    let bounds = |n: usize| &starts[n * AT_ONCE..starts.len().min((n + 1) * AT_ONCE + 1)];
    let parts = 0..starts.len().saturating_sub(1).div_ceil(AT_ONCE);
    let length = |bounds: &[u32]| bounds.last().zip(bounds.first()).map_or(0, |(z, a)| z - a);
    parallel::written(parts.map(|n| length(bounds(n)) as usize), |n, room| {
        for (stretch, bounds) in (n * AT_ONCE..).zip(bounds(n).windows(2)) {
            room.part((bounds[1] - bounds[0]) as usize, |own| write(stretch, own));
        }
    })
}

/// Makes a column whose stretches are written separately, on all threads.
pub(crate) fn stretched<T: Copy + Default + Send + Sync>(
    starts: &[u32],
    write: impl Fn(usize, &mut [T]) + Sync,
) -> Vec<T> {
    let all = starts.last().map_or(0, |&all| all as usize);
    let mut made = GroupedByEntity { starts: starts.to_vec(), values: vec![T::default(); all] };
    made.each(write);
    made.values
}

fn of_one_width<T: ArrowPrimitiveType>(
    array: &PrimitiveArray<T>,
    rows: &[u32],
) -> PrimitiveArray<T> {
    let from = array.values();
    let values = parallel::map(rows, |row| from.get(row as usize).copied().unwrap_or_default());
    let nulls = match array.nulls().filter(|nulls| nulls.null_count() > 0) {
        Some(nulls) => validity(rows, |row| row != NONE && nulls.is_valid(row as usize)),
        None if parallel::any(rows.len(), |place| rows[place] == NONE) => {
            validity(rows, |row| row != NONE)
        }
        None => None,
    };
    PrimitiveArray::<T>::new(values.into(), nulls).with_data_type(array.data_type().clone())
}

fn validity(rows: &[u32], is_valid: impl Fn(u32) -> bool) -> Option<NullBuffer> {
    let valid =
        NullBuffer::new(BooleanBuffer::collect_bool(rows.len(), |place| is_valid(rows[place])));
    Some(valid).filter(|valid| valid.null_count() > 0)
}

/// Row numbers, some of which are missing.
fn numbered(rows: Vec<u32>) -> UInt32Array {
    let nulls = validity(&rows, |row| row != NONE);
    UInt32Array::new(rows.into(), nulls)
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{
        BooleanArray, Date32Array, Decimal64Array, Float64Array, Int64Array, StringViewArray,
    };
    use arrow_cast::display::array_value_to_string;
    use proptest::prelude::*;

    /// A column of each width, made of the same numbers.
    fn columns(numbers: &[Option<i64>]) -> Vec<ArrayRef> {
        let each = || numbers.iter().copied();
        let decimals: Decimal64Array = each().collect();
        vec![
            Arc::new(each().collect::<Int64Array>()),
            Arc::new(each().map(|n| n.map(|n| n as f64)).collect::<Float64Array>()),
            Arc::new(each().map(|n| n.map(|n| n as i32)).collect::<Date32Array>()),
            Arc::new(decimals.with_precision_and_scale(18, 2).unwrap()),
            Arc::new(each().map(|n| n.map(|n| n > 0)).collect::<BooleanArray>()),
            Arc::new(
                each()
                    .map(|n| n.map(|n| format!("a text that is long, {n}")))
                    .collect::<StringViewArray>(),
            ),
        ]
    }

    fn text(array: &ArrayRef, row: usize) -> Option<String> {
        array.is_valid(row).then(|| array_value_to_string(array, row).unwrap())
    }

    proptest! {
        #[test]
        fn values_are_those_of_their_rows_and_missing_where_there_is_none(
            numbers in prop::collection::vec(prop::option::weighted(0.8, -40_i64..40), 1..20),
            rows in prop::collection::vec(prop::option::weighted(0.8,
                any::<prop::sample::Index>()), 0..60),
            lengths in prop::collection::vec(0_u32..5, 20),
        ) {
            let rows: Vec<Option<usize>> = rows.iter().map(|row| row.map(|row| row.index(numbers
                .len()))).collect();
            let ends = lengths[..numbers.len()].iter().scan(0, |end,
                length| { *end += length; Some(*end) });
            let starts: Vec<u32> = std::iter::once(0).chain(ends).collect();
            for array in columns(&numbers) {
                let gathered = gather(&array, rows.iter().map(|row| row.map_or(NONE,
                    |row| row as u32)).collect()).unwrap();
                prop_assert_eq!(gathered.data_type(), array.data_type());
                for (place, row) in rows.iter().enumerate() {
                    prop_assert_eq!(text(&gathered, place), row.and_then(|row| text(&array, row)));
                }
                let one = std::slice::from_ref(&array);
                let stretches = repeated_columns(one, &starts).unwrap().remove(0);
                let expected = (0..numbers.len()).flat_map(|n| std::iter::repeat_n(n,
                    lengths[n] as usize));
                let expected: Vec<Option<String>> = expected.map(|row| text(&array, row)).collect();
                prop_assert_eq!((0..stretches.len()).map(|place| text(&stretches,
                    place)).collect::<Vec<_>>(), expected);
            }
        }
    }
}
