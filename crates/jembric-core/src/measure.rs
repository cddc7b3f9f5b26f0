//! [`Measure`]: a column of numbers as integers, which can be added and subtracted without
//! rounding.
//!
//! Whole numbers and decimals are integers in units of their last decimal place. Floats are
//! integers in units of the smallest power of two that any value of the column needs. If all values
//! and their sum fit into 127 bits in this unit, one integer holds a sum. Otherwise (for example a
//! fill value such as -3.4e38 beside 0.25) each value is split into digits of 94 bits, and every
//! digit is a *layer* with its own sums. Sums therefore do not depend on the order of the rows or
//! on other values of the column, and are rounded once at the end.

use crate::{
    decimal::Decimal,
    error::{Error, Result},
    exact::{Limbs, power_of_two},
    parallel,
    table::Table,
};
use arrow_array::{
    Array, ArrayRef, Decimal128Array, Float64Array, Int64Array, NullArray, cast::AsArray, types::*,
};
use arrow_buffer::{NullBuffer, ScalarBuffer};
use arrow_schema::DataType;
use std::{ops::Range, sync::Arc};

/// The bits of a layer's digit. The sum of 2³² rows has 126 bits, which fits a signed integer.
const DIGIT_BITS: u32 = 94;

pub(crate) struct Measure {
    column: String,
    kind: SumUnit,
    units: Units,
    layers: usize,
    valid: Option<NullBuffer>,
}

/// The units of each row. Those of missing values have no meaning.
enum Units {
    Narrow(ScalarBuffer<i64>),
    Wide(Vec<i128>),
    /// Floats that need several layers.
    Floats(ScalarBuffer<f64>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum SumUnit {
    Whole,
    Decimal(i8),
    /// In units of this power of two.
    Float(i32),
    Nothing,
}

/// An exact sum: in units of the column's last decimal place, or of floats.
#[derive(Clone, Debug)]
pub(crate) enum ExactUnits {
    Whole(i128),
    Floats(Box<Limbs>),
}

/// The sums of a measure: for each layer the sum of each cell, the lowest layer first.
pub(crate) type Sums = Vec<Vec<i128>>;

impl Measure {
    /// The measure of the column at a place.
    ///
    /// Errors: an infinite value, which no sum can hold.
    pub(crate) fn from_column(table: &Table, place: usize) -> Result<Measure> {
        Measure::beside(table, place, None)
    }

    /// The measure of a column, with room for one more sum of floats.
    fn beside(table: &Table, place: usize, more: Option<&Limbs>) -> Result<Measure> {
        let column = table.names().nth(place).unwrap_or_default();
        let array = table.at(place);
        let valid = array.logical_nulls().filter(|valid| valid.null_count() > 0);
        let mut layers = 1;
        let (kind, units) = match array.data_type() {
            DataType::Int64 => {
                (SumUnit::Whole, Units::Narrow(array.as_primitive::<Int64Type>().values().clone()))
            }
            DataType::Decimal64(_, places) => {
                let values = array.as_primitive::<Decimal64Type>().values().clone();
                (SumUnit::Decimal(*places), Units::Narrow(values))
            }
            DataType::Decimal128(_, places) => {
                let values = array.as_primitive::<Decimal128Type>().values().to_vec();
                (SumUnit::Decimal(*places), Units::Wide(values))
            }
            DataType::Float64 => {
                let floats = array.as_primitive::<Float64Type>();
                // A float is a whole number times a power of two. In units of the least such power
                // in the column all values are whole numbers, which are added without rounding.
                // The lowest and the highest bit of any value.
                let mut bits = more.and_then(Limbs::reach).unwrap_or((i32::MAX, i32::MIN));
                for value in floats.iter().flatten() {
                    if value.is_infinite() {
                        return Err(overflow(column, "a value is infinite".to_owned()));
                    }
                    let (mantissa, exponent) = parts(value);
                    if mantissa != 0 {
                        let low = exponent + mantissa.trailing_zeros() as i32;
                        let high = exponent + 64 - mantissa.leading_zeros() as i32;
                        bits = (bits.0.min(low), bits.1.max(high));
                    }
                }
                let (unit, high) = if bits.0 > bits.1 { (0, 0) } else { bits };
                let width = (high - unit) as u32;
                // Each bit of the number of rows may carry the sum one bit further.
                let carried = u64::BITS - (floats.len() as u64 + 1).leading_zeros();
                let units = if width + carried < i128::BITS {
                    let value =
                        |value: &f64| if value.is_finite() { shifted(*value, unit) } else { 0 };
                    Units::Wide(floats.values().iter().map(value).collect())
                } else {
                    // Values of very different size need more than 128 bits. Each layer adds up one
                    // digit of 94 bits, and the layers are combined at the end.
                    layers = width.div_ceil(DIGIT_BITS) as usize;
                    Units::Floats(floats.values().clone())
                };
                (SumUnit::Float(unit), units)
            }
            _ => (SumUnit::Nothing, Units::Wide(vec![0; table.rows()])),
        };
        Ok(Measure { column: column.to_owned(), kind, units, layers, valid })
    }

    /// The measure of a column, and the units in each layer of the sum with which sums begin: that
    /// of earlier rows, or else an opening number. The column gets as many decimal places as the
    /// number has. None if it does not fit.
    ///
    /// Errors: as for [`Measure::from_column`].
    pub(crate) fn begun(
        table: &Table,
        place: usize,
        opening: Option<Decimal>,
        before: Option<&ExactUnits>,
    ) -> Result<Option<(Measure, Vec<i128>)>> {
        if table.at(place).data_type() == &DataType::Float64 {
            let first = match before {
                Some(ExactUnits::Floats(sum)) => Some((**sum).clone()),
                _ => opening.map(|opening| Limbs::from_float(opening.to_float())),
            };
            let measure = Measure::beside(table, place, first.as_ref())?;
            let first = first.unwrap_or_default();
            let units = (0..measure.layers).map(|layer| measure.digit_of(&first, layer)).collect();
            return Ok(Some((measure, units)));
        }
        let mut measure = Measure::from_column(table, place)?;
        let opening = opening.map_or(Some(0), |opening| measure.take_in(opening));
        let first = match before {
            Some(ExactUnits::Whole(sum)) => opening.map(|_| *sum),
            _ => opening,
        };
        Ok(first.map(|first| (measure, vec![first])))
    }

    /// A sum, from its layers, in a form that does not depend on the rows.
    pub(crate) fn exact(&self, layers: &[i128]) -> ExactUnits {
        match self.long(layers) {
            Some(sum) => ExactUnits::Floats(Box::new(sum)),
            None => ExactUnits::Whole(layers.first().copied().unwrap_or(0)),
        }
    }

    /// The digit of a sum of floats in a layer.
    fn digit_of(&self, sum: &Limbs, layer: usize) -> i128 {
        let SumUnit::Float(unit) = self.kind else { return 0 };
        match self.layers {
            1 => sum.digit(unit, i128::BITS - 1),
            _ => sum.digit(unit + layer as i32 * DIGIT_BITS as i32, DIGIT_BITS),
        }
    }

    /// A number in units of the measure, which gets as many decimal places as the number has. None
    /// if it does not fit.
    fn take_in(&mut self, number: Decimal) -> Option<i128> {
        let places = match self.kind {
            SumUnit::Decimal(places) => places as u32,
            _ => 0,
        };
        let all = places.max(u32::from(number.places()));
        if all > places {
            let by = 10_i128.pow(all - places);
            // The opening number has more places than the column, so the column is scaled to them.
            let scaled = match &self.units {
                Units::Narrow(units) => units.iter().map(|&unit| i128::from(unit) * by).collect(),
                Units::Wide(units) => units.iter().map(|unit| unit.saturating_mul(by)).collect(),
                Units::Floats(_) => return None,
            };
            self.units = Units::Wide(scaled);
        }
        if all > 0 {
            self.kind = SumUnit::Decimal(all as i8);
        }
        number.units().checked_mul(10_i128.pow(all - u32::from(number.places())))
    }

    /// The units of all rows, if none is missing and no sum of them can exceed 64 bits.
    pub(crate) fn narrow(&self) -> Option<&[i64]> {
        self.narrow_from(0).map(|(units, _)| units)
    }

    /// The same for sums that begin with this number of units. Returns the number as well, in 64
    /// bits.
    pub(crate) fn narrow_from(&self, first: i128) -> Option<(&[i64], i64)> {
        let Units::Narrow(units) = &self.units else { return None };
        let first = i64::try_from(first).ok()?;
        // The greatest value times the number of rows bounds every partial sum, whatever the order
        // and the groups. So no addition is checked.
        let greatest = || {
            let of_stretch = |rows: Range<usize>| {
                units[rows].iter().fold(0, |most, unit| unit.unsigned_abs().max(most))
            };
            let stretches = parallel::of_stretches(units.len(), parallel::STRETCH, of_stretch);
            stretches.into_iter().max().unwrap_or(0)
        };
        let fits = || {
            let sum = greatest().checked_mul(units.len() as u64)?.checked_add(first.unsigned_abs());
            sum.filter(|sum| *sum < 1 << 63)
        };
        (self.valid.is_none() && fits().is_some()).then_some((units, first))
    }

    /// The column of sums that fit into 64 bits, in the type of the measure.
    pub(crate) fn narrow_sums(&self, sums: Vec<i64>) -> Result<ArrayRef> {
        Ok(match self.kind {
            SumUnit::Decimal(places) => {
                let sums = Decimal128Array::from(parallel::map(&sums, i128::from));
                Arc::new(sums.with_precision_and_scale(38, places)?)
            }
            _ => Arc::new(Int64Array::from(sums)),
        })
    }

    /// The number of integers that hold a sum.
    pub(crate) fn layers(&self) -> usize {
        self.layers
    }

    /// The units of a row in a layer; 0 if its value is missing.
    #[inline]
    pub(crate) fn unit(&self, row: usize, layer: usize) -> i128 {
        if !self.is_valid(row) {
            return 0;
        }
        match &self.units {
            Units::Narrow(units) => units[row].into(),
            Units::Wide(units) => units[row],
            Units::Floats(floats) => self.unit_of(floats[row], layer),
        }
    }

    /// The digit of a float in a layer.
    fn unit_of(&self, value: f64, layer: usize) -> i128 {
        let SumUnit::Float(unit) = self.kind else { return 0 };
        if self.layers == 1 { shifted(value, unit) } else { digit(value, unit, layer) }
    }

    #[inline]
    pub(crate) fn is_valid(&self, row: usize) -> bool {
        self.valid.as_ref().is_none_or(|valid| valid.is_valid(row))
    }

    pub(crate) fn missing(&self) -> u64 {
        self.valid.as_ref().map_or(0, NullBuffer::null_count) as u64
    }

    /// The column of these sums, in the type of the measure.
    ///
    /// Errors: a sum of whole numbers exceeds 64 bits, one of decimals 38 digits, or one of floats
    /// the greatest float.
    pub(crate) fn sums(&self, sums: &Sums) -> Result<ArrayRef> {
        let [least, ..] = &sums[..] else { return Ok(Arc::new(NullArray::new(0))) };
        Ok(match self.kind {
            SumUnit::Whole => {
                let fits = |sum: i128| i64::try_from(sum).is_ok();
                let (sums, is_any_too_great) =
                    parallel::noting(least, |sum| (sum as i64, !fits(sum)));
                if let Some(sum) = least.iter().find(|sum| is_any_too_great && !fits(**sum)) {
                    return Err(overflow(&self.column, sum.to_string()));
                }
                Arc::new(Int64Array::from(sums))
            }
            SumUnit::Decimal(places) => {
                if let Some(sum) = least.iter().find(|sum| sum.unsigned_abs() >= 10_u128.pow(38)) {
                    return Err(overflow(&self.column, format!("{sum} units of the last place")));
                }
                let sums = Decimal128Array::from_iter_values(least.iter().copied());
                Arc::new(sums.with_precision_and_scale(38, places)?)
            }
            SumUnit::Float(_) => {
                let floats: Vec<f64> = match &sums[..] {
                    [only] => only.iter().map(|&sum| self.float(&[sum], 1)).collect(),
                    _ => (0..least.len()).map(|cell| self.float(&of_cell(sums, cell), 1)).collect(),
                };
                if let Some(sum) = floats.iter().find(|sum| sum.is_infinite()) {
                    return Err(overflow(&self.column, sum.to_string()));
                }
                Arc::new(Float64Array::from(floats))
            }
            SumUnit::Nothing => Arc::new(NullArray::new(least.len())),
        })
    }

    /// The measure without its rows, for sums that are complete.
    pub(crate) fn without_rows(self) -> Measure {
        Measure { units: Units::Wide(Vec::new()), valid: None, ..self }
    }

    /// Sums of floats, each as one long integer that can be added to the sums of any other column
    /// of floats; none for other columns.
    pub(crate) fn long_sums(&self, sums: &Sums) -> Option<Vec<Limbs>> {
        let SumUnit::Float(unit) = self.kind else { return None };
        let cells = sums.first().map_or(0, Vec::len);
        Some((0..cells).map(|cell| long(&of_cell(sums, cell), unit)).collect())
    }

    /// A sum of floats, from its layers, as one long integer; none for other columns.
    pub(crate) fn long(&self, layers: &[i128]) -> Option<Limbs> {
        match self.kind {
            SumUnit::Float(unit) => Some(long(layers, unit)),
            _ => None,
        }
    }

    /// A sum of floats that is one long integer, as a float.
    ///
    /// Errors: it exceeds the greatest float.
    pub(crate) fn long_sum(&self, sum: &Limbs) -> Result<f64> {
        let float = sum.divided(1);
        if float.is_infinite() {
            return Err(overflow(&self.column, float.to_string()));
        }
        Ok(float)
    }

    /// A sum, from its layers, divided by a number, as a float.
    fn float(&self, layers: &[i128], by: u64) -> f64 {
        let SumUnit::Float(unit) = self.kind else { return 0.0 };
        let &[sum] = layers else {
            return long(layers, unit).divided(by);
        };
        // Multiply in two steps, because 2^unit can be outside the range of floats although the
        // result is not.
        let half = unit / 2;
        sum as f64 / by as f64 * power_of_two(half) * power_of_two(unit - half)
    }

    /// The mean of this many values with this sum, from its layers; none of no values. For whole
    /// numbers and decimals it is the nearest float if the sum has at most 53 bits; beyond that,
    /// the mean of equal values is still that value.
    pub(crate) fn mean(&self, layers: &[i128], count: u64) -> Option<f64> {
        let scale = match self.kind {
            SumUnit::Whole => 1,
            SumUnit::Decimal(places) => 10_i128.pow(places as u32),
            SumUnit::Float(_) => return (count > 0).then(|| self.float(layers, count)),
            SumUnit::Nothing => return None,
        };
        let &sum = layers.first()?;
        let by = i128::from(count).checked_mul(scale).filter(|&by| by > 0)?;
        const HELD: u128 = 1 << f64::MANTISSA_DIGITS;
        Some(if sum.unsigned_abs() < HELD && by.unsigned_abs() < HELD {
            sum as f64 / by as f64
        } else {
            (sum / by) as f64 + (sum % by) as f64 / by as f64
        })
    }

    /// The mean of two rows with these weights, whose values are also given as floats. It depends
    /// on nothing but values and weights, whatever the other rows are, and is rounded at the end,
    /// unless two decimals of 128 bits are too large for their products.
    pub(crate) fn weighted(
        &self,
        [one, other]: [usize; 2],
        floats: [f64; 2],
        weights: [i64; 2],
    ) -> f64 {
        let [of_one, of_other] = weights.map(i128::from);
        let all = of_one + of_other;
        let products = || {
            let one = self.unit(one, 0).checked_mul(of_one)?;
            self.mean(&[one.checked_add(self.unit(other, 0).checked_mul(of_other)?)?], all as u64)
        };
        if let Some(mean) = Some(self.layers).filter(|&layers| layers == 1).and_then(|_| products())
        {
            return mean;
        }
        let weighted = floats.into_iter().zip([of_one, of_other]);
        match self.kind {
            SumUnit::Float(_) => {
                let sum = weighted.fold(Limbs::default(), |mut sum, (value, weight)| {
                    let (mantissa, exponent) = parts(value);
                    let product = signed(u128::from(mantissa), value) * weight;
                    sum.add_integer(product, (exponent + 1074) as u32);
                    sum
                });
                sum.divided(all as u64)
            }
            // Weights are at most 1, so that values near the greatest float stay finite.
            _ => weighted.map(|(value, weight)| value * (weight as f64 / all as f64)).sum(),
        }
    }
}

/// A sum, from its layers in units of this power of two, as one long integer.
fn long(layers: &[i128], unit: i32) -> Limbs {
    let mut limbs = Limbs::default();
    for (&sum, layer) in layers.iter().zip(0..) {
        limbs.add_integer(sum, (unit + 1074) as u32 + layer * DIGIT_BITS);
    }
    limbs
}

/// The sum of a cell in each layer.
pub(crate) fn of_cell(sums: &Sums, cell: usize) -> Vec<i128> {
    sums.iter().map(|layer| layer[cell]).collect()
}

/// The digits of a float as a whole number, and the power of two to multiply them by.
fn parts(value: f64) -> (u64, i32) {
    let bits = value.to_bits();
    let (exponent, fraction) = ((bits >> 52 & 0x7FF) as i32, bits & ((1 << 52) - 1));
    match exponent {
        // NaN has no digits; infinity was refused before.
        0x7FF => (0, 0),
        0 => (fraction, -1074),
        _ => (fraction | 1 << 52, exponent - 1075),
    }
}

fn signed(magnitude: u128, value: f64) -> i128 {
    if value < 0.0 { -(magnitude as i128) } else { magnitude as i128 }
}

/// A float in units of a power of two, in which it is a whole number that fits.
fn shifted(value: f64, unit: i32) -> i128 {
    let (mantissa, exponent) = parts(value);
    let up = exponent - unit;
    let wide = u128::from(mantissa);
    // The bits shifted out below the unit are zeros.
    signed(if up < 0 { wide >> -up.max(-127) } else { wide << up.min(127) }, value)
}

/// The digit of a float in a layer: its bits from `94 layer` up to `94 (layer + 1)`, in this unit.
fn digit(value: f64, unit: i32, layer: usize) -> i128 {
    let (mantissa, exponent) = parts(value);
    // How far the lowest bit of the mantissa is above that of the digit.
    let up = exponent - unit - layer as i32 * DIGIT_BITS as i32;
    let wide = u128::from(mantissa);
    const MASK: u128 = (1 << DIGIT_BITS) - 1;
    let magnitude = match up {
        0.. if up >= DIGIT_BITS as i32 => 0,
        // Bits beyond 128 belong to the next digit.
        0.. => (wide << up) & MASK,
        -63..0 => (wide >> -up) & MASK,
        _ => 0,
    };
    signed(magnitude, value)
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

    fn table(array: ArrayRef) -> Table {
        Table::from_columns([("n", array)]).unwrap()
    }

    fn of(array: ArrayRef) -> Result<Measure> {
        Measure::from_column(&table(array), 0)
    }

    fn text(array: &ArrayRef) -> String {
        arrow_cast::display::array_value_to_string(array, 0).unwrap()
    }

    /// The sum over some rows, in each layer.
    fn summed(measure: &Measure, rows: impl Iterator<Item = usize> + Clone) -> Sums {
        let layers = 0..measure.layers();
        layers.map(|layer| vec![rows.clone().map(|row| measure.unit(row, layer)).sum()]).collect()
    }

    #[rstest]
    #[case::whole_into_whole("12", "13")]
    #[case::places_are_added("0.125", "1.125")]
    #[case::negative("-0.5", "0.5")]
    fn an_opening_balance_gives_a_measure_its_places(#[case] written: &str, #[case] sum: &str) {
        let one = table(Arc::new(Int64Array::from(vec![1])));
        let opened = Measure::begun(&one, 0, Some(written.parse().unwrap()), None).unwrap();
        let total = opened.map(|(measure, units)| {
            measure.sums(&vec![vec![units[0] + measure.unit(0, 0)]]).unwrap()
        });
        assert_eq!(total.as_ref().map(text).as_deref(), Some(sum));
    }

    #[rstest]
    #[case("12000", 0.0000001)]
    #[case("0.1", 1e300)]
    #[case("-5", -3.4e38)]
    fn an_opening_balance_fits_beside_any_float(#[case] written: &str, #[case] value: f64) {
        let one = table(Arc::new(Float64Array::from(vec![value])));
        let (measure, opening) =
            Measure::begun(&one, 0, Some(written.parse().unwrap()), None).unwrap().unwrap();
        let units =
            opening.iter().zip(0..).map(|(opening, layer)| vec![opening + measure.unit(0, layer)]);
        let sums = measure.sums(&units.collect()).unwrap();
        let expected = written.parse::<f64>().unwrap() + value;
        assert_eq!(sums.as_primitive::<Float64Type>().value(0), expected);
    }

    #[rstest]
    #[case::fits(&[Some(3), Some(-4)], 10, Some(10))]
    #[case::just_fits(&[Some(5), Some(-5)], i128::from(i64::MAX) - 10, Some(i64::MAX - 10))]
    #[case::may_not_fit(&[Some(5), Some(-5)], i128::from(i64::MAX) - 9, None)]
    #[case::first_does_not_fit(&[Some(0)], i128::from(i64::MAX) + 1, None)]
    #[case::least(&[Some(i64::MIN)], 0, None)]
    #[case::missing(&[Some(1), None], 0, None)]
    #[case::no_row(&[], -7, Some(-7))]
    fn sums_are_narrow_only_if_none_can_exceed_64_bits(
        #[case] numbers: &[Option<i64>],
        #[case] first: i128,
        #[case] narrow: Option<i64>,
    ) {
        let measure = of(Arc::new(numbers.iter().copied().collect::<Int64Array>())).unwrap();
        assert_eq!(measure.narrow_from(first).map(|(_, first)| first), narrow);
        if let Some((units, first)) = measure.narrow_from(first) {
            let sums: Vec<i64> = units.iter().map(|unit| first + unit).collect();
            let narrow = measure.narrow_sums(sums.clone()).unwrap();
            let wide = measure.sums(&vec![sums.into_iter().map(i128::from).collect()]).unwrap();
            assert_eq!(&narrow, &wide);
        }
    }

    #[test]
    fn sums_that_do_not_fit_are_refused_and_not_wrapped() {
        let whole = of(Arc::new(Int64Array::from(vec![i64::MAX]))).unwrap();
        let one = |sum: i128| vec![vec![sum]];
        assert!(
            whole
                .sums(&one(i128::from(i64::MAX) + 1))
                .unwrap_err()
                .to_string()
                .contains("9223372036854775808")
        );
        let decimals = Decimal64Array::from(vec![5]).with_precision_and_scale(18, 1).unwrap();
        let decimals = of(Arc::new(decimals)).unwrap();
        assert_eq!(
            text(&decimals.sums(&one(i128::from(i64::MAX) + 1)).unwrap()),
            "922337203685477580.8"
        );
        assert!(decimals.sums(&one(10_i128.pow(38))).is_err());
        assert!(of(Arc::new(Float64Array::from(vec![f64::INFINITY]))).is_err());
        let greatest = of(Arc::new(Float64Array::from(vec![f64::MAX; 2]))).unwrap();
        assert!(greatest.sums(&summed(&greatest, 0..2)).is_err());
        assert_eq!(greatest.mean(&of_cell(&summed(&greatest, 0..2), 0), 2), Some(f64::MAX));
        assert_eq!((decimals.mean(&[10], 4), decimals.mean(&[0], 0)), (Some(0.25), None));
        let far = i64::MAX - 1;
        assert_eq!(whole.mean(&[i128::from(far) * 11], 11), Some(far as f64));
    }

    proptest! {
        #[test]
        fn floats_are_added_and_taken_away_without_a_trace(
            floats in prop::collection::vec(prop_oneof![-1e12_f64..1e12, prop::num::f64::NORMAL,
                prop::num::f64::SUBNORMAL], 1..40),
        ) {
            let measure = of(Arc::new(Float64Array::from(floats.clone()))).unwrap();
            let (all, but_first) = (summed(&measure, 0..floats.len()), summed(&measure,
                1..floats.len()));
            let first = all.iter().zip(&but_first).map(|(all,
                rest)| vec![all[0] - rest[0]]).collect();
            let alone = measure.sums(&first).unwrap();
            prop_assert_eq!(alone.as_primitive::<Float64Type>().value(0), floats[0]);
        }

        /// The ledger's exact sum is an independent way to the same number.
        #[test]
        fn sums_of_huge_and_tiny_floats_are_rounded_once(
            floats in prop::collection::vec((any::<bool>(), -300_i32..300, -1.0_f64..1.0), 1..40),
        ) {
            let floats: Vec<f64> =
                floats.iter().map(|&(far, exponent,
                    x)| if far { x * 2_f64.powi(exponent) } else { x }).collect();
            let table = table(Arc::new(Float64Array::from(floats.clone())));
            let measure = Measure::from_column(&table, 0).unwrap();
            let sums = measure.sums(&summed(&measure, 0..floats.len())).unwrap();
            let all = arrow_buffer::BooleanBuffer::new_set(floats.len());
            let exact = crate::exact::ExactSum::of_rows(&table, "n", &all).unwrap();
            prop_assert_eq!(sums.as_primitive::<Float64Type>().value(0),
                exact.to_string().parse::<f64>().unwrap());
        }
    }
}
