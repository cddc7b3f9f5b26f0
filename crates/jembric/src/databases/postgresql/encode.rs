//! Encodes rows in the binary form of COPY, which `decode` describes.

use super::decode::{EPOCH_DAYS, EPOCH_MICROS, SIGNATURE};
use crate::{
    Table,
    arrow::{
        Array, ArrayRef,
        cast::AsArray,
        schema::DataType,
        types::{
            Date32Type, Decimal64Type, Decimal128Type, Float64Type, Int64Type,
            Time64MicrosecondType, TimestampMicrosecondType,
        },
    },
};
use std::ops::Range;

/// What comes before the first row.
pub(super) fn header() -> Vec<u8> {
    let mut header = SIGNATURE.to_vec();
    header.extend_from_slice(&[0; 8]);
    header
}

/// What comes after the last row.
pub(super) const TRAILER: [u8; 2] = (-1_i16).to_be_bytes();

/// A text that the server cannot hold.
#[derive(Debug, PartialEq)]
pub(super) struct NulInText {
    pub(super) row: usize,
    pub(super) column: usize,
}

/// A column to encode.
enum ColumnValues<'a> {
    Booleans(&'a arrow_array::BooleanArray),
    Integers(&'a [i64]),
    Floats(&'a [f64]),
    Decimals64(&'a [i64], u16),
    Decimals128(&'a [i128], u16),
    Texts(&'a arrow_array::StringViewArray),
    Dates(&'a [i32]),
    Times(&'a [i64]),
    Moments(&'a [i64]),
    Nothing,
}

impl<'a> ColumnValues<'a> {
    fn new(array: &'a ArrayRef) -> ColumnValues<'a> {
        match array.data_type() {
            DataType::Boolean => ColumnValues::Booleans(array.as_boolean()),
            DataType::Int64 => ColumnValues::Integers(array.as_primitive::<Int64Type>().values()),
            DataType::Float64 => ColumnValues::Floats(array.as_primitive::<Float64Type>().values()),
            DataType::Decimal64(_, places) => {
                let values = array.as_primitive::<Decimal64Type>().values();
                ColumnValues::Decimals64(values, (*places).max(0) as u16)
            }
            DataType::Decimal128(_, places) => {
                let values = array.as_primitive::<Decimal128Type>().values();
                ColumnValues::Decimals128(values, (*places).max(0) as u16)
            }
            DataType::Utf8View => ColumnValues::Texts(array.as_string_view()),
            DataType::Date32 => ColumnValues::Dates(array.as_primitive::<Date32Type>().values()),
            DataType::Time64(_) => {
                ColumnValues::Times(array.as_primitive::<Time64MicrosecondType>().values())
            }
            DataType::Timestamp(..) => {
                ColumnValues::Moments(array.as_primitive::<TimestampMicrosecondType>().values())
            }
            _ => ColumnValues::Nothing,
        }
    }
}

/// Appends rows of a table. Cost: one pass over their cells.
///
/// Errors: a text has a NUL character.
pub(super) fn rows(
    table: &Table,
    rows: Range<usize>,
    to: &mut Vec<u8>,
) -> std::result::Result<(), NulInText> {
    let columns: Vec<(&ArrayRef, ColumnValues<'_>)> =
        table.columns().iter().map(|array| (array, ColumnValues::new(array))).collect();
    let fields = (columns.len() as i16).to_be_bytes();
    let fixed = |to: &mut Vec<u8>, value: &[u8]| {
        to.extend_from_slice(&(value.len() as i32).to_be_bytes());
        to.extend_from_slice(value);
    };
    for row in rows {
        to.extend_from_slice(&fields);
        for (column, (array, cells)) in columns.iter().enumerate() {
            if matches!(cells, ColumnValues::Nothing) || array.is_null(row) {
                to.extend_from_slice(&(-1_i32).to_be_bytes());
                continue;
            }
            match cells {
                ColumnValues::Booleans(values) => fixed(to, &[values.value(row).into()]),
                ColumnValues::Integers(values) | ColumnValues::Times(values) => {
                    fixed(to, &values[row].to_be_bytes());
                }
                ColumnValues::Floats(values) => fixed(to, &values[row].to_be_bytes()),
                ColumnValues::Dates(values) => fixed(to, &(values[row] - EPOCH_DAYS).to_be_bytes()),
                ColumnValues::Moments(values) => {
                    fixed(to, &(values[row] - EPOCH_MICROS).to_be_bytes())
                }
                ColumnValues::Decimals64(values, places) => {
                    numeric(values[row].into(), *places, to)
                }
                ColumnValues::Decimals128(values, places) => numeric(values[row], *places, to),
                ColumnValues::Texts(values) => {
                    let text = values.value(row).as_bytes();
                    if memchr::memchr(0, text).is_some() {
                        return Err(NulInText { row, column });
                    }
                    fixed(to, text);
                }
                ColumnValues::Nothing => {}
            }
        }
    }
    Ok(())
}

/// Appends a decimal in units of its last place as a `numeric`, with its length.
fn numeric(units: i128, places: u16, to: &mut Vec<u8>) {
    const BASE: u128 = 10_000;
    let mut rest = units.unsigned_abs();
    // The point stands between two digits of base 10,000, so the last one may need zeros.
    let filled = u32::from(places % 4);
    let mut digits = [0_u16; 11];
    let mut count = 0;
    if filled > 0 {
        let part = 10_u128.pow(filled);
        digits[count] = ((rest % part) * 10_u128.pow(4 - filled)) as u16;
        rest /= part;
        count += 1;
    }
    while rest > 0 {
        digits[count] = (rest % BASE) as u16;
        rest /= BASE;
        count += 1;
    }
    let weight = count as i16 - places.div_ceil(4) as i16 - 1;
    // Zeros at the end are left out, and so is all of a zero.
    let zeros = digits[..count].iter().take_while(|digit| **digit == 0).count();
    let digits = &digits[zeros..count];
    let sign: u16 = if units < 0 { 0x4000 } else { 0 };
    to.extend_from_slice(&(8 + 2 * digits.len() as i32).to_be_bytes());
    to.extend_from_slice(&(digits.len() as i16).to_be_bytes());
    to.extend_from_slice(&weight.to_be_bytes());
    to.extend_from_slice(&sign.to_be_bytes());
    to.extend_from_slice(&places.to_be_bytes());
    digits.iter().rev().for_each(|digit| to.extend_from_slice(&digit.to_be_bytes()));
}
