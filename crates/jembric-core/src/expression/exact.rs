//! Arithmetic on numbers: exact for whole numbers and decimals, in floating point otherwise.
//!
//! A decimal is a whole number of units of its last decimal place. The first pass computes in 64
//! bits and notes whether a result did not fit (more than 18 digits). Only then a second pass
//! computes in 128 bits, and a result that does not fit (more than 38 digits) is an error. Only
//! `round` and floating point round.

use super::{
    ast::Arithmetic,
    types::{TermType, common_number},
    value::Value,
};
use crate::{
    error::{Error, Result},
    kind::Type,
    number::Numbers,
    parallel,
};
use arrow_array::{
    Array, ArrayRef, ArrowNativeTypeOp, ArrowPrimitiveType, Decimal64Array, Decimal128Array,
    Float64Array, Int64Array, PrimitiveArray,
    cast::AsArray,
    types::{Decimal64Type, Decimal128Type, Float64Type, Int64Type},
};
use arrow_buffer::NullBuffer;
use arrow_schema::DataType;
use std::sync::Arc;

/// The most decimal places.
pub(super) const MOST_PLACES: i8 = 38;
/// The least number with 19 digits.
const NARROW: u64 = 1_000_000_000_000_000_000;
/// The least number with 39 digits.
const WIDE: u128 = 100_000_000_000_000_000_000_000_000_000_000_000_000;

/// The values of one operand: one for each row, or one for all.
#[derive(Clone, Copy)]
enum Side<'a, T> {
    Rows(&'a [T]),
    One(T),
}

impl<T: Copy> Side<'_, T> {
    fn at(&self, row: usize) -> T {
        match self {
            Side::Rows(values) => values[row],
            Side::One(value) => *value,
        }
    }
}

/// Computes a result for each row, and whether any was noted as too large. Which operand is
/// constant is decided outside the loop.
#[inline]
fn each_row<A, B, T>(
    left: Side<'_, A>,
    right: Side<'_, B>,
    work: impl Fn(A, B) -> (T, bool) + Sync,
) -> (Vec<T>, bool)
where
    A: Copy + Sync,
    B: Copy + Sync,
    T: Copy + Default + Send,
{
    match (left, right) {
        (Side::Rows(left), Side::Rows(right)) => parallel::noting_two(left, right, work),
        (Side::Rows(left), Side::One(b)) => parallel::noting(left, |a| work(a, b)),
        (Side::One(a), Side::Rows(right)) => parallel::noting(right, |b| work(a, b)),
        (Side::One(a), Side::One(b)) => parallel::noting(&[()], |()| work(a, b)),
    }
}

/// The same in floating point. Division by zero is missing, and counted.
fn float_arithmetic(
    operation: Arithmetic,
    left: &Value,
    right: &Value,
    divisions_by_zero: &mut u64,
) -> Value {
    let constant = left.constant && right.constant;
    let nulls = both_nulls(left, right);
    let (a, b) = (floats(left), floats(right));
    let (a, b) = (side(&a, left), side(&b, right));
    let (values, by_zero) = match operation {
        Arithmetic::Plus => each_row(a, b, |a, b| (a + b, false)),
        Arithmetic::Minus => each_row(a, b, |a, b| (a - b, false)),
        Arithmetic::Times => each_row(a, b, |a, b| (a * b, false)),
        Arithmetic::Over => each_row(a, b, |a, b| (a / b, b == 0.0)),
    };
    if by_zero {
        let is_valid = |row| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        let whole: Float64Array = (0..values.len())
            .map(|row| (is_valid(row) && b.at(row) != 0.0).then_some(values[row]))
            .collect();
        *divisions_by_zero +=
            (whole.null_count() - nulls.as_ref().map_or(0, NullBuffer::null_count)) as u64;
        return Value::new(TermType::Of(Type::Float), Arc::new(plain(whole)), constant);
    }
    let array = plain(Float64Array::new(values.into(), nulls));
    Value::new(TermType::Of(Type::Float), Arc::new(array), constant)
}

/// The error for two decimals with these places, whose result is too large.
fn overflow(operation: Arithmetic, left: (i128, i8), right: (i128, i8), row: usize) -> Error {
    let sign = match operation {
        Arithmetic::Plus => '+',
        Arithmetic::Minus => '-',
        _ => '*',
    };
    let shown = |(value, places)| crate::number_text::decimal_text(value, places);
    let example = format!("{} {sign} {} in row {}", shown(left), shown(right), row + 1);
    Error::Overflow { what: format!("`{sign}`"), example }
}

/// `+ - * /` of two numbers. A quotient is a float.
pub(super) fn arithmetic(
    operation: Arithmetic,
    left: &Value,
    right: &Value,
    divisions_by_zero: &mut u64,
) -> Result<Value> {
    let constant = left.constant && right.constant;
    let nulls = both_nulls(left, right);
    // Only a float or a quotient makes a float. All other results are exact, or an error.
    let float = operation == Arithmetic::Over
        || [left, right].iter().any(|side| side.kind == TermType::Of(Type::Float));
    if float {
        return Ok(float_arithmetic(operation, left, right, divisions_by_zero));
    }
    let whole = common_number(left.kind, right.kind) == TermType::Of(Type::Integer);
    let (left_places, right_places) = (places(left), places(right));
    let (places, scale) = match operation {
        // A product has the places of both factors. For sums, the side with fewer places is scaled
        // up.
        Arithmetic::Times => (left_places + right_places, (0, 0)),
        _ => {
            let most = left_places.max(right_places);
            (most, (most - left_places, most - right_places))
        }
    };
    // Nearly all tables fit 64 bits, so these are tried first. If a single row does not fit, all
    // rows are computed again in 128 bits.
    let narrow = || narrow(operation, left, right, scale, whole);
    if let Some(values) = narrow() {
        let array: ArrayRef = if whole {
            Arc::new(Int64Array::new(values.into(), nulls))
        } else if places <= 18 {
            Arc::new(decimal64(Decimal64Array::new(values.into(), nulls), places)?)
        } else {
            let wide: Vec<i128> = values.into_iter().map(i128::from).collect();
            Arc::new(decimal128(Decimal128Array::new(wide.into(), nulls), places)?)
        };
        return Ok(Value::new(number_kind(whole, places), array, constant));
    }
    let (a, b) = (wide(left), wide(right));
    let (a, b) = (side(&a, left), side(&b, right));
    let work = |a: i128, b: i128| {
        let a = a.checked_mul(power(scale.0)?)?;
        let b = b.checked_mul(power(scale.1)?)?;
        let result = match operation {
            Arithmetic::Plus => a.checked_add(b),
            Arithmetic::Minus => a.checked_sub(b),
            _ => a.checked_mul(b),
        };
        let most = if whole { 1 << 63 } else { WIDE };
        result.filter(|result| result.unsigned_abs() < most || whole && *result == i64::MIN.into())
    };
    let noted = |a, b| {
        let result = work(a, b);
        (result.unwrap_or_default(), result.is_none())
    };
    let (results, unfit) = each_row(a, b, noted);
    // The values behind missing cells are arbitrary.
    let is_valid = |row| nulls.as_ref().is_none_or(|nulls: &NullBuffer| nulls.is_valid(row));
    let fails = |row: &usize| work(a.at(*row), b.at(*row)).is_none() && is_valid(*row);
    if let Some(row) = (0..results.len()).filter(|_| unfit).find(fails) {
        return Err(overflow(operation, (a.at(row), left_places), (b.at(row), right_places), row));
    }
    let array: ArrayRef = if whole {
        let results: Vec<i64> = results.into_iter().map(|value| value as i64).collect();
        Arc::new(Int64Array::new(results.into(), nulls))
    } else {
        Arc::new(decimal128(Decimal128Array::new(results.into(), nulls), places)?)
    };
    Ok(Value::new(number_kind(whole, places), array, constant))
}

/// The results, if both operands and all results have at most 18 digits (64 bits for whole
/// numbers).
fn narrow(
    operation: Arithmetic,
    left: &Value,
    right: &Value,
    scale: (i8, i8),
    whole: bool,
) -> Option<Vec<i64>> {
    let (a, b) = (narrow_side(left)?, narrow_side(right)?);
    let most = if whole { u64::MAX } else { NARROW - 1 };
    // Results are computed without a branch, and only whether any did not fit is kept: so the loop
    // can use vector instructions.
    let fits = |(value, overflows): (i64, bool)| (value, overflows | (value.unsigned_abs() > most));
    let (values, unfit) = match (operation, scale) {
        (Arithmetic::Times, _) => match (a, b) {
            (Side::Rows(rows), Side::One(by)) | (Side::One(by), Side::Rows(rows))
                if by != 0 && !whole =>
            {
                // The greatest factor that fits is computed in advance.
                let greatest = most / by.unsigned_abs();
                parallel::noting(rows, |a| (a.wrapping_mul(by), a.unsigned_abs() > greatest))
            }
            _ => each_row(a, b, |a: i64, b: i64| fits(a.overflowing_mul(b))),
        },
        (_, (0, 0)) if operation == Arithmetic::Plus => {
            each_row(a, b, |a, b| fits(a.overflowing_add(b)))
        }
        (_, (0, 0)) => each_row(a, b, |a, b| fits(a.overflowing_sub(b))),
        (_, (left, right)) => {
            let (left, right) =
                (i64::try_from(power(left)?).ok()?, i64::try_from(power(right)?).ok()?);
            each_row(a, b, |a, b| {
                let ((a, one), (b, other)) = (a.overflowing_mul(left), b.overflowing_mul(right));
                let (value, overflows) = if operation == Arithmetic::Plus {
                    a.overflowing_add(b)
                } else {
                    a.overflowing_sub(b)
                };
                fits((value, overflows | one | other))
            })
        }
    };
    (!unfit).then_some(values)
}

/// `-x`, and `abs(x)`.
pub(super) fn negative(value: &Value, only_negatives: bool) -> Result<Value> {
    let zero = Value::new(TermType::Of(Type::Integer), Arc::new(Int64Array::from(vec![0])), true);
    match value.array.data_type() {
        // `0.0 - value` gives 0 for 0, and not the −0 of `-value`: tables have no −0.
        DataType::Float64 => {
            let floats = value.array.as_primitive::<Float64Type>();
            let array: Float64Array =
                floats.unary(|value| if only_negatives { value.abs() } else { 0.0 - value });
            Ok(value.with(value.kind, Arc::new(array)))
        }
        _ if only_negatives => {
            let turned = negative(value, false)?;
            let is_negative = match value.array.data_type() {
                DataType::Int64 => below_zero(value.array.as_primitive::<Int64Type>()),
                DataType::Decimal64(..) => below_zero(value.array.as_primitive::<Decimal64Type>()),
                _ => below_zero(value.array.as_primitive::<Decimal128Type>()),
            };
            super::value::choose(&is_negative, &turned, value)
        }
        _ => arithmetic(Arithmetic::Minus, &zero, value, &mut 0),
    }
}

fn below_zero<T: ArrowPrimitiveType>(values: &PrimitiveArray<T>) -> arrow_array::BooleanArray {
    arrow_array::BooleanArray::from_unary(values, |value| value.is_lt(T::default_value()))
}

/// Rounds to a number of decimal places, halves away from zero. With no places the result is a
/// whole number.
pub(super) fn round(value: &Value, to: i8) -> Result<Value> {
    let has = places(value);
    let whole = to == 0;
    let units: Vec<Option<i128>> = match value.array.data_type() {
        DataType::Int64 => return Ok(value.clone()),
        DataType::Float64 => value
            .array
            .as_primitive::<Float64Type>()
            .iter()
            .map(|x| x.map(|x| rounded(x, to)))
            .collect(),
        _ if has <= to && !whole => return Ok(value.clone()),
        _ => {
            let by = power(has - to).unwrap_or(WIDE as i128);
            // Half of the divisor is added to the magnitude, so halves round away from zero on both
            // sides.
            let cut =
                |units: i128| (units.unsigned_abs() + by.unsigned_abs() / 2) / by.unsigned_abs();
            let signed =
                |units: i128| if units < 0 { -(cut(units) as i128) } else { cut(units) as i128 };
            let nulls = value.array.nulls();
            let is_valid = |row| nulls.is_none_or(|nulls| nulls.is_valid(row));
            wide(value)
                .iter()
                .enumerate()
                .map(|(row, &units)| is_valid(row).then(|| signed(units)))
                .collect()
        }
    };
    let too_large = |units: &i128| units.unsigned_abs() >= if whole { 1 << 63 } else { WIDE };
    if let Some(row) = units.iter().position(|units| units.as_ref().is_some_and(too_large)) {
        let example = format!(
            "{} in row {}",
            arrow_cast::display::array_value_to_string(&value.array, row)?,
            row + 1
        );
        return Err(Error::Overflow { what: "`round`".to_owned(), example });
    }
    let kind = number_kind(whole, to);
    let narrow = units.iter().flatten().all(|units| units.unsigned_abs() < NARROW.into());
    let array: ArrayRef = if whole {
        Arc::new(units.iter().map(|units| units.map(|units| units as i64)).collect::<Int64Array>())
    } else if narrow {
        Arc::new(decimal64(
            units.iter().map(|units| units.map(|units| units as i64)).collect(),
            to,
        )?)
    } else {
        Arc::new(decimal128(units.into_iter().collect(), to)?)
    };
    Ok(value.with(kind, array))
}

/// A float in units of its last decimal place, by the digits that are shown: 2.675 becomes 2.68, as
/// a reader expects.
fn rounded(number: f64, places: i8) -> i128 {
    const WHOLE_FROM: f64 = 9_007_199_254_740_992.0;
    let scaled = number * 10_f64.powi(places.into());
    if number.abs() >= WHOLE_FROM {
        // It is a whole number, and exact as an integer. If it does not fit, the result is too
        // large anyway.
        return (number as i128).saturating_mul(power(places).unwrap_or(i128::MAX));
    }
    let to_half = (scaled.abs().fract() - 0.5).abs();
    if to_half > 1e-3 && scaled.abs() < 1e12 {
        return scaled.round() as i128;
    }
    // Close to a half, or with as many digits as a float has, the shortest digits that identify the
    // number decide.
    let digits = format!("{}", number.abs());
    let (whole, part) = digits.split_once('.').unwrap_or((&digits, ""));
    let kept: String = part.chars().chain(std::iter::repeat('0')).take(places as usize).collect();
    let next = part.as_bytes().get(places as usize).is_some_and(|digit| *digit >= b'5');
    let units = format!("{whole}{kept}").parse::<i128>().unwrap_or_default() + i128::from(next);
    if number < 0.0 { -units } else { units }
}

/// Converts a number to another kind that can hold it: whole numbers to decimals or floats,
/// decimals to more places or to floats.
pub(super) fn converted(value: &Value, kind: TermType) -> Result<Value> {
    match kind {
        _ if value.kind == kind => Ok(value.clone()),
        TermType::Of(Type::Float) => {
            let array = Float64Array::new(floats(value).into(), value.array.logical_nulls());
            Ok(value.with(kind, Arc::new(array)))
        }
        TermType::Of(Type::Decimal { places }) => {
            let units =
                Decimal64Array::from(vec![0]).with_precision_and_scale(18, places.min(18))?;
            let zero: ArrayRef = if places > 18 {
                Arc::new(decimal128(Decimal128Array::from(vec![0]), places)?)
            } else {
                Arc::new(units)
            };
            arithmetic(Arithmetic::Plus, value, &Value::new(kind, zero, true), &mut 0)
        }
        _ => Ok(value.clone()),
    }
}

/// Compares two numbers, of which one is a float, by their exact values: -1, 0 or 1, to be compared
/// with 0. A short constant is compared as a float.
pub(super) fn compared(left: &Value, right: &Value) -> Result<(Value, Value)> {
    let is_short = |value: &Value| {
        let known = if value.constant { Numbers::from_array(&value.array) } else { None };
        known.is_some_and(|numbers| numbers.known_as_float(0).is_some())
    };
    if is_short(left) || is_short(right) {
        return alike(left, right);
    }
    let constant = left.constant && right.constant;
    let nulls = both_nulls(left, right);
    let rows = if left.constant { right.array.len() } else { left.array.len() };
    let orders = match (Numbers::from_array(&left.array), Numbers::from_array(&right.array)) {
        (Some(one), Some(other)) => {
            let place = |value: &Value, row| if value.constant { 0 } else { row };
            parallel::of_rows(rows, |row| {
                one.compare(place(left, row), &other, place(right, row)) as i64
            })
        }
        _ => vec![0; rows],
    };
    let whole = |array: Int64Array, constant| {
        Value::new(TermType::Of(Type::Integer), Arc::new(array) as ArrayRef, constant)
    };
    let orders = whole(Int64Array::new(orders.into(), nulls), constant);
    Ok((orders, whole(Int64Array::from(vec![0]), true)))
}

/// Converts both numbers to one Arrow type, to compare them or to put them in one column.
pub(super) fn alike(one: &Value, other: &Value) -> Result<(Value, Value)> {
    let kind = common_number(one.kind, other.kind);
    let (one, other) = (converted(one, kind)?, converted(other, kind)?);
    if one.array.data_type() == other.array.data_type() {
        return Ok((one, other));
    }
    let widened = |value: Value| -> Result<Value> {
        let array = Decimal128Array::new(wide(&value).into(), value.array.logical_nulls());
        let array = decimal128(array, places(&value))?;
        Ok(value.with(value.kind, Arc::new(array)))
    };
    Ok((widened(one)?, widened(other)?))
}

fn number_kind(whole: bool, places: i8) -> TermType {
    TermType::Of(if whole { Type::Integer } else { Type::Decimal { places } })
}

fn decimal64(array: Decimal64Array, places: i8) -> Result<Decimal64Array> {
    Ok(array.with_precision_and_scale(18, places)?)
}

fn decimal128(array: Decimal128Array, places: i8) -> Result<Decimal128Array> {
    Ok(array.with_precision_and_scale(38, places)?)
}

fn places(value: &Value) -> i8 {
    match value.kind {
        TermType::Of(Type::Decimal { places }) => places,
        _ => 0,
    }
}

fn power(places: i8) -> Option<i128> {
    10_i128.checked_pow(places.max(0) as u32)
}

fn both_nulls(left: &Value, right: &Value) -> Option<NullBuffer> {
    let rows = if left.constant { right.array.len() } else { left.array.len() };
    let nulls = |side: &Value| match side.array.logical_nulls() {
        Some(nulls) if side.constant && nulls.null_count() > 0 => Some(NullBuffer::new_null(rows)),
        Some(_) if side.constant => None,
        nulls => nulls,
    };
    NullBuffer::union(nulls(left).as_ref(), nulls(right).as_ref())
}

fn side<'a, T: Copy>(values: &'a [T], of: &Value) -> Side<'a, T> {
    if of.constant { Side::One(values[0]) } else { Side::Rows(values) }
}

fn narrow_side(value: &Value) -> Option<Side<'_, i64>> {
    let values: &[i64] = match value.array.data_type() {
        DataType::Int64 => value.array.as_primitive::<Int64Type>().values(),
        DataType::Decimal64(..) => value.array.as_primitive::<Decimal64Type>().values(),
        _ => return None,
    };
    Some(side(values, value))
}

fn wide(value: &Value) -> Vec<i128> {
    match value.array.data_type() {
        DataType::Int64 => value
            .array
            .as_primitive::<Int64Type>()
            .values()
            .iter()
            .map(|&value| value.into())
            .collect(),
        DataType::Decimal64(..) => value
            .array
            .as_primitive::<Decimal64Type>()
            .values()
            .iter()
            .map(|&value| value.into())
            .collect(),
        _ => value.array.as_primitive::<Decimal128Type>().values().to_vec(),
    }
}

fn floats(value: &Value) -> Vec<f64> {
    let by = 10_f64.powi(places(value).into());
    match value.array.data_type() {
        DataType::Float64 => value.array.as_primitive::<Float64Type>().values().to_vec(),
        DataType::Int64 => value
            .array
            .as_primitive::<Int64Type>()
            .values()
            .iter()
            .map(|&value| value as f64)
            .collect(),
        DataType::Decimal64(..) => value
            .array
            .as_primitive::<Decimal64Type>()
            .values()
            .iter()
            .map(|&units| units as f64 / by)
            .collect(),
        _ => value
            .array
            .as_primitive::<Decimal128Type>()
            .values()
            .iter()
            .map(|&units| units as f64 / by)
            .collect(),
    }
}

/// Replaces NaN (∞ − ∞) and −0, which tables never hold.
fn plain(floats: Float64Array) -> Float64Array {
    let odd = |value: &f64| value.is_nan() || (*value == 0.0 && value.is_sign_negative());
    if !floats.values().iter().any(odd) {
        return floats;
    }
    floats
        .iter()
        .map(|value| value.filter(|value| !value.is_nan()).map(|value| value + 0.0))
        .collect()
}
