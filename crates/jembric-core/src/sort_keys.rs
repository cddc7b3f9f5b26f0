//! [`SortKeys`]: numbers in the order of a column's values, so that two values can be compared
//! without their type.

use crate::{error::Result, parallel};
use arrow_array::{
    Array, ArrayRef, Decimal64Array, Float64Array, Int64Array,
    cast::AsArray,
    types::{Date32Type, Decimal64Type, Float64Type, Int64Type, TimestampMicrosecondType},
};
use arrow_buffer::ScalarBuffer;
use arrow_ord::rank::rank;
use arrow_schema::DataType;
use std::sync::Arc;

/// Numbers in the order of a column's values.
pub(crate) enum SortKeys {
    Numbers(ScalarBuffer<i64>),
    Ranks(Vec<u32>),
}

impl SortKeys {
    /// The number of a missing value has no meaning.
    pub(crate) fn from_column(array: &ArrayRef) -> Result<SortKeys> {
        Ok(match array.data_type() {
            DataType::Int64 => {
                SortKeys::Numbers(array.as_primitive::<Int64Type>().values().clone())
            }
            DataType::Decimal64(..) => {
                SortKeys::Numbers(array.as_primitive::<Decimal64Type>().values().clone())
            }
            DataType::Float64 => {
                let keys =
                    parallel::map(array.as_primitive::<Float64Type>().values(), |value: f64| {
                        in_order_of_floats(value.to_bits() as i64)
                    });
                SortKeys::Numbers(keys.into())
            }
            DataType::Date32 => {
                let days = array.as_primitive::<Date32Type>().values();
                SortKeys::Numbers(parallel::map(days, i64::from).into())
            }
            DataType::Timestamp(..) => {
                SortKeys::Numbers(array.as_primitive::<TimestampMicrosecondType>().values().clone())
            }
            DataType::Null => SortKeys::Ranks(vec![0; array.len()]),
            _ => SortKeys::Ranks(rank(array, None)?),
        })
    }

    /// The column whose values have these numbers.
    pub(crate) fn column(numbers: Vec<i64>, data_type: &DataType) -> Result<ArrayRef> {
        Ok(match data_type {
            DataType::Decimal64(precision, places) => Arc::new(
                Decimal64Array::from(numbers).with_precision_and_scale(*precision, *places)?,
            ),
            DataType::Float64 => {
                let value = |number| f64::from_bits(in_order_of_floats(number) as u64);
                Arc::new(Float64Array::from(parallel::map(&numbers, value)))
            }
            _ => Arc::new(Int64Array::from(numbers)),
        })
    }

    #[inline]
    pub(crate) fn of_row(&self, row: usize) -> i64 {
        match self {
            SortKeys::Numbers(numbers) => numbers[row],
            SortKeys::Ranks(ranks) => ranks[row].into(),
        }
    }
}

/// The bits of floats are in order once those of negative floats are flipped, and the same flip
/// reverses it.
pub(crate) fn in_order_of_floats(bits: i64) -> i64 {
    bits ^ (((bits >> 63) as u64) >> 1) as i64
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::table;
    use arrow_ord::ord::make_comparator;
    use arrow_schema::SortOptions;

    #[test]
    fn numbers_are_in_the_order_of_the_values_and_lead_back_to_them() {
        let rows = "a:number b:float c:money d:date e:instant f:text g:moment
            3  -0.5   1.00  2025-06-30 2025-06-30T10:00:00Z pear  2025-06-30T10:00:00
            -7 0      -1.25 0001-01-01 1969-12-31T23:59:59Z apple 1969-12-31T23:59:59
            0  1e300  0.00  9999-12-31 2025-06-30T09:59:59Z pearl 2025-06-30T09:59:59
            3  -1e-9  1.00  2024-02-29 2025-06-30T10:00:00Z pear  2025-06-30T10:00:00";
        for (_, array) in table(rows).fields() {
            let order = SortKeys::from_column(&array).unwrap();
            let compare = make_comparator(&array, &array, SortOptions::default()).unwrap();
            for (one, other) in (0..4).flat_map(|one| (0..4).map(move |other| (one, other))) {
                assert_eq!(
                    order.of_row(one).cmp(&order.of_row(other)),
                    compare(one, other),
                    "{}",
                    array.data_type()
                );
            }
            if let (
                SortKeys::Numbers(numbers),
                DataType::Int64 | DataType::Float64 | DataType::Decimal64(..),
            ) = (&order, array.data_type())
            {
                assert_eq!(&SortKeys::column(numbers.to_vec(), array.data_type()).unwrap(), &array);
            }
        }
    }
}
