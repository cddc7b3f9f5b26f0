use super::*;
use arrow_array::{Decimal64Array, Decimal128Array, Float64Array, Int64Array};
use proptest::prelude::*;
use rstest::rstest;
use std::sync::Arc;

#[rstest]
#[case(0.1, "0.1")]
#[case(-0.5, "-0.5")]
#[case(0.0, "0")]
#[case(1e15, "1000000000000000")]
#[case(9_007_199_254_740_992.0, "9007199254740992")]
#[case(4_611_686_018_427_387_904.0, "4611686018427387904")]
#[case(1e300, "1e300")]
#[case(-1.5e-300, "-1.5e-300")]
#[case(f64::MAX, "1.7976931348623157e308")]
#[case(f64::INFINITY, "inf")]
fn a_float_has_the_value_of_its_text(#[case] float: f64, #[case] text: &str) {
    assert_eq!(Number::of_float(float).to_string(), text);
}

#[rstest]
#[case(Number::of_float(0.3), Number::of_float(0.1), Some("0.2"))]
#[case(
    Number::of_units(9_007_199_254_740_993, 0),
    Number::of_float(9_007_199_254_740_992.0),
    Some("1")
)]
#[case(Number::of_units(0, 0), Number::of_float(1e-9), Some("-0.000000001"))]
#[case(Number::of_float(1e300), Number::of_float(0.5), None)]
fn differences_are_exact(
    #[case] one: Number,
    #[case] other: Number,
    #[case] difference: Option<&str>,
) {
    assert_eq!(one.minus(other).map(|number| number.to_string()).as_deref(), difference);
}

/// A value of each type, as text: whole numbers and decimals that floats hold and do not hold.
fn text() -> impl Strategy<Value = String> {
    let near =
        (-3_i64..4, prop::sample::select(vec![0_i64, 1 << 53, 1 << 62, 999_999_999_999_999]));
    prop_oneof![
        near.prop_map(|(more, around)| (around + more).to_string()),
        (-2000_i64..2000, 0..4_u32)
            .prop_map(|(units, places)| { decimal_text(units.into(), places as i8) }),
        (any::<i64>(), 0..19_i8).prop_map(|(units, places)| {
            decimal_text((units % 1_000_000_000_000_000_000).into(), places)
        }),
    ]
}

/// A number's text without the zeros that do not matter.
fn plain(text: &str) -> String {
    let text =
        if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.') } else { text };
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// The column of one decimal, as it is in tables.
fn exact(text: &str) -> ArrayRef {
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    let units: i128 = format!("{whole}{part}").parse().unwrap();
    let places = part.len() as i8;
    match (places, i64::try_from(units)) {
        (0, Ok(units)) => Arc::new(Int64Array::from(vec![units])),
        (_, Ok(units)) if units.unsigned_abs() < 1_000_000_000_000_000_000 => Arc::new(
            Decimal64Array::from(vec![units]).with_precision_and_scale(18, places).unwrap(),
        ),
        _ => Arc::new(
            Decimal128Array::from(vec![units]).with_precision_and_scale(38, places).unwrap(),
        ),
    }
}

proptest! {
    /// An exact number equals a float exactly if both have the same text, and otherwise they are
    /// in the order of their floats where these differ.
    #[test]
    fn exact_numbers_and_floats_have_one_order(one in text(), other in text()) {
        let (array, float) = (exact(&one), other.parse::<f64>().unwrap());
        let floats: ArrayRef = Arc::new(Float64Array::from(vec![float]));
        let exact = Numbers::from_array(&array).unwrap();
        let floats = Numbers::from_array(&floats).unwrap();
        let order = exact.compare(0, &floats, 0);
        // The text of a whole float is all its digits.
        let shown = if float.fract() == 0.0 { format!("{float:.0}") } else { float.to_string() };
        let same = plain(&one) == plain(&shown);
        prop_assert_eq!(order == Ordering::Equal, same, "{} {}", one, shown);
        let nearest = one.parse::<f64>().unwrap();
        if nearest != float {
            prop_assert_eq!(Some(order), nearest.partial_cmp(&float));
        }
        prop_assert_eq!(floats.compare(0, &exact, 0), order.reverse());
        prop_assert_eq!(exact.at(0).cmp(&floats.at(0)), order);
    }

    #[test]
    fn floats_keep_their_order_and_come_back(one in any::<f64>(), other in any::<f64>()) {
        prop_assume!(!one.is_nan() && !other.is_nan());
        let order = Number::of_float(one).cmp(&Number::of_float(other));
        prop_assert_eq!(Some(order), one.partial_cmp(&other));
        if one.is_finite() {
            prop_assert_eq!(Number::of_float(one).to_float(), one);
        }
    }
}
