//! [`Order`]: numbers in the order of a column's values, so that which of two is the greater is told without looking at what they are.

use crate::{columnwise, error::Result};
use arrow_array::{
    Array, ArrayRef, Decimal64Array, Float64Array, Int64Array,
    cast::AsArray,
    types::{Date32Type, Decimal64Type, Float64Type, Int64Type, TimestampMicrosecondType},
};
use arrow_buffer::ScalarBuffer;
use arrow_ord::rank::rank;
use arrow_schema::DataType;
use std::sync::Arc;

/// Numbers that are in the order of a column's values.
pub(crate) enum Order {
    Numbers(ScalarBuffer<i64>),
    Ranks(Vec<u32>),
}

impl Order {
    /// A missing value has a number that means nothing.
    pub(crate) fn of(array: &ArrayRef) -> Result<Order> {
        Ok(match array.data_type() {
            DataType::Int64 => Order::Numbers(array.as_primitive::<Int64Type>().values().clone()),
            DataType::Decimal64(..) => Order::Numbers(array.as_primitive::<Decimal64Type>().values().clone()),
            DataType::Float64 => {
                let keys = columnwise::map(array.as_primitive::<Float64Type>().values(), |value: f64| {
                    in_order_of_floats(value.to_bits() as i64)
                });
                Order::Numbers(keys.into())
            }
            DataType::Date32 => {
                let days = array.as_primitive::<Date32Type>().values();
                Order::Numbers(columnwise::map(days, i64::from).into())
            }
            DataType::Timestamp(..) => {
                Order::Numbers(array.as_primitive::<TimestampMicrosecondType>().values().clone())
            }
            DataType::Null => Order::Ranks(vec![0; array.len()]),
            _ => Order::Ranks(rank(array, None)?),
        })
    }

    /// The column whose values have these numbers.
    pub(crate) fn column(numbers: Vec<i64>, data_type: &DataType) -> Result<ArrayRef> {
        Ok(match data_type {
            DataType::Decimal64(precision, places) => {
                Arc::new(Decimal64Array::from(numbers).with_precision_and_scale(*precision, *places)?)
            }
            DataType::Float64 => {
                let value = |number| f64::from_bits(in_order_of_floats(number) as u64);
                Arc::new(Float64Array::from(columnwise::map(&numbers, value)))
            }
            _ => Arc::new(Int64Array::from(numbers)),
        })
    }

    #[inline]
    pub(crate) fn of_row(&self, row: usize) -> i64 {
        match self {
            Order::Numbers(numbers) => numbers[row],
            Order::Ranks(ranks) => ranks[row].into(),
        }
    }
}

/// The bits of floats are in order once those of negative ones are turned round, and so back.
pub(crate) fn in_order_of_floats(bits: i64) -> i64 {
    bits ^ (((bits >> 63) as u64) >> 1) as i64
}
