//! [`Measure`]: a column of numbers as whole units that are added up and taken away again without rounding.
//!
//! Whole numbers and decimals are units of their last place; floats are units of a power of two under the column's greatest
//! exponent. So sums do not depend on the order of the rows, and are rounded once, where they come out.

use crate::{
    error::{Error, Result},
    table::Table,
};
use arrow_array::{
    Array, ArrayRef, Decimal128Array, Float64Array, Int64Array, NullArray, cast::AsArray, types::*,
};
use arrow_buffer::{NullBuffer, ScalarBuffer};
use arrow_schema::DataType;
use std::sync::Arc;

pub(crate) struct Measure {
    column: String,
    kind: Kind,
    units: Units,
    valid: Option<NullBuffer>,
}

/// The units of each row; what stands where the value is missing means nothing.
enum Units {
    Narrow(ScalarBuffer<i64>),
    Wide(Vec<i128>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Whole,
    Decimal(i8),
    /// In units of this power of two.
    Float(i32),
    Nothing,
}

impl Measure {
    /// Errors: the column is missing or holds no numbers; an infinite value, which no sum can hold.
    pub(crate) fn of(table: &Table, column: &str) -> Result<Measure> {
        table.shape().expect_numbers(column)?;
        let array = table.column(column)?;
        let (kind, units) = match array.data_type() {
            DataType::Int64 => {
                (Kind::Whole, Units::Narrow(array.as_primitive::<Int64Type>().values().clone()))
            }
            DataType::Decimal64(_, places) => {
                let values = array.as_primitive::<Decimal64Type>().values().clone();
                (Kind::Decimal(*places), Units::Narrow(values))
            }
            DataType::Decimal128(_, places) => {
                let values = array.as_primitive::<Decimal128Type>().values().to_vec();
                (Kind::Decimal(*places), Units::Wide(values))
            }
            DataType::Float64 => {
                let floats = array.as_primitive::<Float64Type>();
                let greatest = floats.iter().flatten().fold(0.0, |most: f64, x| most.max(x.abs()));
                if greatest.is_infinite() {
                    return Err(overflow(column, "a value is infinite".to_owned()));
                }
                // 94 bits for the greatest value leave 33 for four thousand million rows.
                let unit = greatest.log2().max(-900.0).ceil() as i32 - 93;
                let by = f64::exp2(-f64::from(unit));
                let units = floats.values().iter().map(|x| (x * by) as i128).collect();
                (Kind::Float(unit), Units::Wide(units))
            }
            _ => (Kind::Nothing, Units::Wide(vec![0; table.rows()])),
        };
        let valid = array.logical_nulls().filter(|valid| valid.null_count() > 0);
        Ok(Measure { column: column.to_owned(), kind, units, valid })
    }

    /// The units of all rows, where none is missing and no sum of them can leave 64 bits.
    pub(crate) fn narrow(&self) -> Option<&[i64]> {
        let Units::Narrow(units) = &self.units else { return None };
        let greatest = || units.iter().fold(0, |most, unit| unit.unsigned_abs().max(most));
        let fits = || greatest().checked_mul(units.len() as u64).is_some_and(|sum| sum < 1 << 63);
        (self.valid.is_none() && fits()).then_some(units)
    }

    /// The units of a row; 0 where its value is missing.
    #[inline]
    pub(crate) fn unit(&self, row: usize) -> i128 {
        let unit = match &self.units {
            Units::Narrow(units) => units[row].into(),
            Units::Wide(units) => units[row],
        };
        if self.is_valid(row) { unit } else { 0 }
    }

    #[inline]
    pub(crate) fn is_valid(&self, row: usize) -> bool {
        self.valid.as_ref().is_none_or(|valid| valid.is_valid(row))
    }

    pub(crate) fn missing(&self) -> u64 {
        self.valid.as_ref().map_or(0, NullBuffer::null_count) as u64
    }

    /// A number that was written out, in units of the measure, which gets as many places as it takes. None where it is no number.
    pub(crate) fn take_in(&mut self, text: &str) -> Option<i128> {
        let (whole, fraction) = text.split_once('.').unwrap_or((text, ""));
        let digits = fraction.len() as u32;
        let is_number = (fraction.bytes().all(|digit| digit.is_ascii_digit()) && digits <= 6)
            && !whole.is_empty()
            && !text.ends_with('.');
        if let Kind::Float(unit) = self.kind {
            let value: f64 = text.parse().ok().filter(|value: &f64| is_number && value.is_finite())?;
            let units = value * f64::exp2(-f64::from(unit));
            return (units.abs() < f64::exp2(126.0)).then_some(units as i128);
        }
        let value: i128 = format!("{whole}{fraction}").parse::<i64>().ok().filter(|_| is_number)?.into();
        let places = match self.kind {
            Kind::Decimal(places) => places as u32,
            _ => 0,
        };
        let all = places.max(digits);
        if all > places {
            let by = 10_i128.pow(all - places);
            let scaled = match &self.units {
                Units::Narrow(units) => units.iter().map(|&unit| i128::from(unit) * by).collect(),
                Units::Wide(units) => units.iter().map(|unit| unit.saturating_mul(by)).collect(),
            };
            self.units = Units::Wide(scaled);
        }
        if all > 0 {
            self.kind = Kind::Decimal(all as i8);
        }
        Some(value * 10_i128.pow(all - digits))
    }

    /// Sums of it as a column, in its own type.
    ///
    /// Errors: a sum of whole numbers does not fit 64 bits, one of decimals not 38 digits.
    pub(crate) fn sums(&self, sums: &[i128]) -> Result<ArrayRef> {
        Ok(match self.kind {
            Kind::Whole => {
                let fits = |sum: &i128| i64::try_from(*sum).ok();
                if let Some(sum) = sums.iter().find(|sum| fits(sum).is_none()) {
                    return Err(overflow(&self.column, sum.to_string()));
                }
                Arc::new(Int64Array::from_iter_values(sums.iter().filter_map(fits)))
            }
            Kind::Decimal(places) => {
                if let Some(sum) = sums.iter().find(|sum| sum.unsigned_abs() >= 10_u128.pow(38)) {
                    return Err(overflow(&self.column, format!("{sum} units of the last place")));
                }
                let sums = Decimal128Array::from_iter_values(sums.iter().copied());
                Arc::new(sums.with_precision_and_scale(38, places)?)
            }
            Kind::Float(unit) => Arc::new(Float64Array::from_iter_values(
                sums.iter().map(|&sum| sum as f64 * f64::exp2(unit.into())),
            )),
            Kind::Nothing => Arc::new(NullArray::new(sums.len())),
        })
    }

    /// The mean of so many values with this sum; none of no values. Of whole numbers and decimals it is the nearest float where the sum has at
    /// most 53 bits, and beyond still that of equal values is that value.
    pub(crate) fn mean(&self, sum: i128, count: u64) -> Option<f64> {
        let scale = match self.kind {
            Kind::Whole => 1,
            Kind::Decimal(places) => 10_i128.pow(places as u32),
            Kind::Float(unit) => {
                return (count > 0).then(|| sum as f64 / (count as f64 * f64::exp2(f64::from(-unit))));
            }
            Kind::Nothing => return None,
        };
        let by = i128::from(count).checked_mul(scale).filter(|&by| by > 0)?;
        const HELD: u128 = 1 << f64::MANTISSA_DIGITS;
        Some(match sum.unsigned_abs() < HELD && by.unsigned_abs() < HELD {
            true => sum as f64 / by as f64,
            false => (sum / by) as f64 + (sum % by) as f64 / by as f64,
        })
    }
}

fn overflow(column: &str, example: String) -> Error {
    Error::Overflow { what: format!("the sum of `{column}`"), example }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::Decimal64Array;
    use proptest::prelude::*;
    use rstest::rstest;

    fn of(array: ArrayRef) -> Result<Measure> {
        Measure::of(&Table::from_columns([("n", array)])?, "n")
    }

    fn text(array: &ArrayRef) -> String {
        arrow_cast::display::array_value_to_string(array, 0).unwrap()
    }

    #[rstest]
    #[case::whole_into_whole("12", Some("13"))]
    #[case::places_are_added("0.125", Some("1.125"))]
    #[case::negative("-0.5", Some("0.5"))]
    #[case::too_many_places("0.1234567", None)]
    #[case::no_digits("", None)]
    #[case::half_a_number("1.", None)]
    #[case::words("ten", None)]
    #[case::exponent("1e3", None)]
    fn what_is_brought_forward_gives_a_measure_its_places(#[case] written: &str, #[case] sum: Option<&str>) {
        let mut measure = of(Arc::new(Int64Array::from(vec![1]))).unwrap();
        let opening = measure.take_in(written);
        let total = opening.map(|opening| measure.sums(&[opening + measure.unit(0)]).unwrap());
        assert_eq!(total.as_ref().map(text).as_deref(), sum);
    }

    #[test]
    fn what_does_not_fit_is_refused_and_not_wrapped() {
        let whole = of(Arc::new(Int64Array::from(vec![i64::MAX]))).unwrap();
        assert!(
            whole.sums(&[i128::from(i64::MAX) + 1]).unwrap_err().to_string().contains("9223372036854775808")
        );
        let decimals = Decimal64Array::from(vec![5]).with_precision_and_scale(18, 1).unwrap();
        let decimals = of(Arc::new(decimals)).unwrap();
        assert_eq!(text(&decimals.sums(&[i128::from(i64::MAX) + 1]).unwrap()), "922337203685477580.8");
        assert!(decimals.sums(&[10_i128.pow(38)]).is_err());
        assert!(of(Arc::new(Float64Array::from(vec![f64::INFINITY]))).is_err());
        assert_eq!((decimals.mean(10, 4), decimals.mean(0, 0)), (Some(0.25), None));
        let far = i64::MAX - 1;
        assert_eq!(whole.mean(i128::from(far) * 11, 11), Some(far as f64));
    }

    proptest! {
        #[test]
        fn floats_are_added_and_taken_away_without_a_trace(floats in prop::collection::vec(-1e12_f64..1e12, 1..40)) {
            let measure = of(Arc::new(Float64Array::from(floats.clone()))).unwrap();
            let all: i128 = (0..floats.len()).map(|row| measure.unit(row)).sum();
            let but_first: i128 = (1..floats.len()).map(|row| measure.unit(row)).sum();
            let alone = measure.sums(&[all - but_first]).unwrap();
            prop_assert_eq!(alone.as_primitive::<Float64Type>().value(0), floats[0]);
        }
    }
}
