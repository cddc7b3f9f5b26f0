//! [`ExactSum`]: sums without rounding, which do not depend on the order of the values.
//!
//! Whole numbers and decimals are summed as 128-bit integers. A float is an integer times a power
//! of two, so floats are summed as one long integer in units of 2⁻¹⁰⁷⁴, kept in 32-bit limbs with
//! room for carries, and rounded once at the end. Source: the "superaccumulator" of Kulisch,
//! "Computer Arithmetic and Validity" (2008).

use crate::{
    error::Result,
    number_text::{decimal_text, float},
    parallel::{self, STRETCH},
    table::Table,
};
use arrow_array::{Array, ArrayRef, cast::AsArray, types::*};
use arrow_buffer::BooleanBuffer;
use arrow_schema::DataType;
use borsh::{BorshDeserialize, BorshSerialize};
use serde::{Serialize, Serializer};
use std::{fmt, ops::Range};

/// Limbs of 32 bits from 2⁻¹⁰⁷⁴ to beyond 2¹⁰²⁴, with headroom.
const LIMBS: usize = 68;
/// The additions after which carries are propagated, long before a limb could overflow.
const UNTIL_CARRY: u32 = 1 << 29;

/// The exact sum of a column of numbers, in the type of the column.
#[derive(Clone, Debug, BorshSerialize, BorshDeserialize)]
pub struct ExactSum {
    kind: Sum,
}

#[derive(Clone, Debug, BorshSerialize, BorshDeserialize)]
enum Sum {
    Whole { sum: i128, places: i8 },
    Float(Box<Limbs>),
}

/// One long integer in units of 2⁻¹⁰⁷⁴.
#[derive(Clone, Debug, BorshSerialize, BorshDeserialize)]
pub(crate) struct Limbs {
    limbs: [i64; LIMBS],
    additions: u32,
    /// Infinite values, which decide the sum.
    #[borsh(
        serialize_with = "crate::packed::any_float::serialize",
        deserialize_with = "crate::packed::any_float::deserialize"
    )]
    infinite: f64,
}

/// The sum of at most a stretch of values. The halves of the values are added up apart, which does
/// not need 128 bits.
fn sum_of(values: &[i64]) -> i128 {
    // Sums of 32-bit halves cannot overflow within a stretch, and both loops can use vector
    // instructions.
    let (mut low, mut high) = (0_i64, 0_i64);
    for value in values {
        low += value & 0xFFFF_FFFF;
        high += value >> 32;
    }
    (i128::from(high) << 32) + i128::from(low)
}

impl ExactSum {
    /// Sums a column over the rows of the mask. Missing values add nothing.
    ///
    /// Errors: the column is missing or holds no numbers. Cost: one pass over the column.
    pub fn of_rows(table: &Table, column: &str, rows: &BooleanBuffer) -> Result<ExactSum> {
        table.shape().expect_numbers(column)?;
        Ok(ExactSum::of_column(table.column(column)?, rows))
    }

    /// The sum of a column of numbers over the rows of a mask.
    pub(crate) fn of_column(array: &ArrayRef, rows: &BooleanBuffer) -> ExactSum {
        let counted = match array.logical_nulls() {
            Some(nulls) => rows & nulls.inner(),
            None => rows.clone(),
        };
        let whole = |places: i8, sum: &(dyn Fn(Range<usize>) -> i128 + Sync)| {
            let of_stretch = |rows: Range<usize>| {
                let first = rows.start;
                let counted = counted.slice(first, rows.len());
                counted.set_slices().map(|(from, to)| sum(first + from..first + to)).sum::<i128>()
            };
            let sums = parallel::of_stretches(counted.len(), STRETCH, of_stretch);
            ExactSum { kind: Sum::Whole { sum: sums.into_iter().sum(), places } }
        };
        let narrow = |places: i8, values: &[i64]| whole(places, &|rows| sum_of(&values[rows]));
        match array.data_type() {
            DataType::Int64 => narrow(0, array.as_primitive::<Int64Type>().values()),
            DataType::Decimal64(_, places) => {
                narrow(*places, array.as_primitive::<Decimal64Type>().values())
            }
            DataType::Decimal128(_, places) => {
                let values = array.as_primitive::<Decimal128Type>().values();
                whole(*places, &|rows| values[rows].iter().sum())
            }
            DataType::Float64 => {
                let values = array.as_primitive::<Float64Type>().values();
                let mut limbs = Limbs::default();
                counted.set_indices().for_each(|row| limbs.add(values[row]));
                ExactSum { kind: Sum::Float(Box::new(limbs)) }
            }
            _ => ExactSum { kind: Sum::Whole { sum: 0, places: 0 } },
        }
    }

    /// A sum over no rows, of the same type.
    pub(crate) fn minus_itself(&self) -> ExactSum {
        let kind = match &self.kind {
            Sum::Whole { places, .. } => Sum::Whole { sum: 0, places: *places },
            Sum::Float(_) => Sum::Float(Box::default()),
        };
        ExactSum { kind }
    }

    /// Whether the sum is 0.
    pub(crate) fn is_zero(&self) -> bool {
        match &self.kind {
            Sum::Whole { sum, .. } => *sum == 0,
            Sum::Float(limbs) => limbs.rounded() == 0.0,
        }
    }

    /// The sum of both.
    #[must_use]
    pub fn plus(self, other: &ExactSum) -> ExactSum {
        let kind = match (self.kind, &other.kind) {
            (Sum::Whole { sum, places }, Sum::Whole { sum: more, .. }) => {
                Sum::Whole { sum: sum + more, places }
            }
            (Sum::Float(mut limbs), Sum::Float(more)) => {
                limbs.add_all(more);
                Sum::Float(limbs)
            }
            (kind, _) => kind,
        };
        ExactSum { kind }
    }
}

/// Two sums are equal if their texts are: floats after the one rounding.
impl PartialEq for ExactSum {
    fn eq(&self, other: &ExactSum) -> bool {
        self.to_string() == other.to_string()
    }
}

impl fmt::Display for ExactSum {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.kind {
            Sum::Whole { sum, places } => f.pad(&decimal_text(*sum, *places)),
            Sum::Float(limbs) => {
                let mut text = String::new();
                float(&mut text, limbs.rounded());
                f.pad(&text)
            }
        }
    }
}

impl Serialize for ExactSum {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl Default for Limbs {
    fn default() -> Limbs {
        Limbs { limbs: [0; LIMBS], additions: 0, infinite: 0.0 }
    }
}

impl Limbs {
    /// Adds the sum of another.
    pub(crate) fn add_all(&mut self, other: &Limbs) {
        self.carry();
        let mut more = other.clone();
        more.carry();
        // Both are carried, so each limb has 32 bits, and their sum fits.
        self.limbs.iter_mut().zip(more.limbs).for_each(|(limb, more)| *limb += more);
        self.infinite += more.infinite;
        self.carry();
    }

    /// A single float.
    pub(crate) fn from_float(value: f64) -> Limbs {
        let mut limbs = Limbs::default();
        limbs.add(value);
        limbs
    }

    /// The powers of two of its lowest bit and of the one above its highest; none of 0.
    pub(crate) fn reach(&self) -> Option<(i32, i32)> {
        let (magnitude, _) = self.magnitude();
        let low = magnitude.iter().position(|&limb| limb != 0)?;
        let high = magnitude.iter().rposition(|&limb| limb != 0)?;
        let low = 32 * low as i32 + magnitude[low].trailing_zeros() as i32;
        let high = 32 * high as i32 + 64 - magnitude[high].leading_zeros() as i32;
        Some((low - 1074, high - 1074))
    }

    /// Some of its bits (at most 127), from this power of two on, as a number with its sign.
    pub(crate) fn digit(&self, from: i32, bits: u32) -> i128 {
        let (magnitude, is_negative) = self.magnitude();
        let mut digit = 0_u128;
        for (&limb, n) in magnitude.iter().zip(0..) {
            // How far the lowest bit of the limb is above that of the digit.
            let up = 32 * n - 1074 - from;
            digit |= match up {
                0.. if up < bits as i32 => (limb as u128) << up,
                -31..0 => limb as u128 >> -up,
                _ => 0,
            };
        }
        let digit = (digit & ((1 << bits) - 1)) as i128;
        if is_negative { -digit } else { digit }
    }

    /// The limbs without the sign, each in 0..2³², and whether the sum is negative.
    fn magnitude(&self) -> ([i64; LIMBS], bool) {
        let mut magnitude = self.clone();
        // After carrying, only the last limb can be negative, and so it has the sign of the whole.
        magnitude.carry();
        let is_negative = magnitude.limbs[LIMBS - 1] < 0;
        if is_negative {
            magnitude.limbs.iter_mut().for_each(|limb| *limb = -*limb);
            magnitude.carry();
        }
        (magnitude.limbs, is_negative)
    }

    /// Adds a whole number of units of 2⁻¹⁰⁷⁴, times a power of two.
    pub(crate) fn add_integer(&mut self, value: i128, shift: u32) {
        let (magnitude, sign) = (value.unsigned_abs(), if value < 0 { -1 } else { 1 });
        for part in 0..4 {
            let bits = u64::from((magnitude >> (32 * part)) as u32) << (shift % 32);
            let at = shift as usize / 32 + part;
            for (limb, bits) in [(at, bits as u32), (at + 1, (bits >> 32) as u32)] {
                // Beyond the last limb all bits are zero, because no sum of floats is that large.
                if let Some(limb) = self.limbs.get_mut(limb) {
                    *limb += sign * i64::from(bits);
                }
            }
        }
        self.carry();
    }

    fn add(&mut self, value: f64) {
        if !value.is_finite() {
            self.infinite += value;
            return;
        }
        let bits = value.to_bits();
        let exponent = (bits >> 52 & 0x7FF) as usize;
        let fraction = bits & ((1 << 52) - 1);
        // In units of 2⁻¹⁰⁷⁴: the fraction itself for subnormal floats, otherwise the fraction with
        // its leading one, shifted.
        let (mantissa, shift) =
            if exponent == 0 { (fraction, 0) } else { (fraction | 1 << 52, exponent - 1) };
        let wide = u128::from(mantissa) << (shift % 32);
        let sign = if value < 0.0 { -1 } else { 1 };
        // A mantissa of 53 bits that is shifted by up to 31 has parts in three limbs.
        for part in 0..3 {
            self.limbs[shift / 32 + part] += sign * i64::from((wide >> (32 * part)) as u32);
        }
        self.additions += 1;
        if self.additions == UNTIL_CARRY {
            self.carry();
        }
    }

    /// Propagates carries, so that every limb but the last is in 0..2³².
    fn carry(&mut self) {
        let mut carry = 0;
        for limb in &mut self.limbs[..LIMBS - 1] {
            let sum = *limb + carry;
            // The shift keeps the sign, so a negative limb borrows from the next one.
            carry = sum >> 32;
            *limb = sum & 0xFFFF_FFFF;
        }
        self.limbs[LIMBS - 1] += carry;
        self.additions = 0;
    }

    fn rounded(&self) -> f64 {
        self.divided(1)
    }

    /// The sum divided by a number. Only the two steps round; division by 1 rounds once.
    pub(crate) fn divided(&self, by: u64) -> f64 {
        if self.infinite != 0.0 {
            return self.infinite;
        }
        let (limbs, negative) = self.magnitude();
        let Some(top) = limbs.iter().rposition(|&limb| limb != 0) else { return 0.0 };
        // The top limbs hold more than the 53 bits of a float. Any bit below them decides a tie.
        let low = top.saturating_sub(3);
        let leading =
            limbs[low..=top].iter().rev().fold(0_u128, |all, &limb| all << 32 | limb as u128);
        let below = limbs[..low].iter().any(|&limb| limb != 0);
        let rounded = (leading | u128::from(below)) as f64 / by as f64;
        // Two exact steps, because 2⁻¹⁰⁷⁴ is the smallest float.
        let exponent = 32 * low as i32 - 1074;
        let half = exponent / 2;
        let value = rounded * power_of_two(half) * power_of_two(exponent - half);
        if negative { -value } else { value }
    }
}

/// A power of two from 2⁻¹⁰⁷⁴ to 2¹⁰²³, exactly.
pub(crate) fn power_of_two(exponent: i32) -> f64 {
    match exponent {
        -1022.. => f64::from_bits(((exponent.min(1023) + 1023) as u64) << 52),
        _ => f64::from_bits(1 << (exponent.max(-1074) + 1074)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use arrow_array::{ArrayRef, Decimal64Array, Float64Array, Int64Array};
    use proptest::prelude::*;
    use rstest::rstest;
    use std::sync::Arc;

    fn sum(array: ArrayRef) -> ExactSum {
        let all = BooleanBuffer::new_set(array.len());
        ExactSum::of_rows(&Table::from_columns([("amount", array)]).unwrap(), "amount", &all)
            .unwrap()
    }

    fn floats(values: Vec<f64>) -> ExactSum {
        sum(Arc::new(Float64Array::from(values)))
    }

    #[rstest]
    #[case(vec![], "0")]
    #[case(vec![0.1; 10], "1")]
    #[case(vec![1e16, 1.0, -1e16], "1")]
    #[case(vec![1e308, 1e308, -1e308], "1e308")]
    #[case(vec![f64::INFINITY, 1.0], "inf")]
    #[case(vec![-0.5, 0.25], "-0.25")]
    fn floats_are_rounded_once_at_the_end(#[case] values: Vec<f64>, #[case] expected: &str) {
        assert_eq!(floats(values).to_string(), expected);
    }

    #[test]
    fn whole_numbers_of_any_size_add_up_over_all_threads() {
        let rows = 2 * STRETCH + 7;
        let number = |row: usize| match row % 4 {
            0 => i64::MIN + row as i64,
            1 => i64::MAX - row as i64,
            2 => -1 - row as i64,
            _ => i64::MAX,
        };
        let counted = BooleanBuffer::collect_bool(rows, |row| row % 3 > 0 || row > STRETCH);
        let expected: i128 = counted.set_indices().map(|row| i128::from(number(row))).sum();
        let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values((0..rows).map(number)));
        assert_eq!(ExactSum::of_column(&numbers, &counted).to_string(), expected.to_string());
    }

    #[test]
    fn the_smallest_floats_are_not_lost() {
        let tiny = f64::from_bits(1);
        assert_eq!(floats(vec![tiny, tiny, 1.0, -1.0]).to_string(), "1e-323");
    }

    #[test]
    fn money_adds_up_to_the_last_place_and_beyond_64_bits() {
        let most = 999_999_999_999_999_999;
        let money =
            Decimal64Array::from(vec![Some(most); 20]).with_precision_and_scale(18, 2).unwrap();
        assert_eq!(sum(Arc::new(money)).to_string(), "199999999999999999.80");
        let cents = Decimal64Array::from(vec![Some(-5), None, Some(2)])
            .with_precision_and_scale(18, 2)
            .unwrap();
        assert_eq!(sum(Arc::new(cents)).to_string(), "-0.03");
        assert_eq!(
            sum(Arc::new(Int64Array::from(vec![i64::MAX; 2]))).to_string(),
            "18446744073709551614"
        );
    }

    proptest! {
        #[test]
        fn neither_order_nor_pieces_change_a_sum(
            values in prop::collection::vec(prop::num::f64::NORMAL, 0..40),
            cut in 0_usize..40,
        ) {
            let whole = floats(values.clone());
            let reversed = floats(values.iter().rev().copied().collect());
            let (left, right) = values.split_at(cut.min(values.len()));
            prop_assert_eq!(&whole, &reversed);
            prop_assert_eq!(&whole, &floats(left.to_vec()).plus(&floats(right.to_vec())));
        }

        /// However a sum is cut into digits, they add up to it, and no bit lies outside its reach.
        #[test]
        fn digits_add_up_to_the_sum(
            values in prop::collection::vec(prop::num::f64::NORMAL | prop::num::f64::SUBNORMAL,
                0..8),
            bits in 1..127_u32,
        ) {
            let mut limbs = Limbs::default();
            values.iter().for_each(|&value| limbs.add_all(&Limbs::from_float(value)));
            let Some((low, high)) = limbs.reach() else {
                prop_assert_eq!(limbs.divided(1), 0.0);
                return Ok(());
            };
            prop_assert!(limbs.digit(low, 1) != 0 && limbs.digit(high - 1, 1) != 0);
            let mut again = Limbs::default();
            for from in (low..high).step_by(bits as usize) {
                again.add_integer(limbs.digit(from, bits), (from + 1074) as u32);
            }
            prop_assert_eq!(again.magnitude(), limbs.magnitude());
        }

        #[test]
        fn whole_floats_add_up_as_integers(
            values in prop::collection::vec(-(1_i64 << 50)..(1_i64 << 50), 0..40),
        ) {
            let exact: i64 = values.iter().sum();
            prop_assert_eq!(floats(values.iter().map(|&value| value as f64).collect()).to_string(),
                (exact as f64).to_string());
        }
    }
}
