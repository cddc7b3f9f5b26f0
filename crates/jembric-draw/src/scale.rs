//! [`Scale`]: places and values to pixels. Ticks of number axes.

use crate::numbers::shown;

/// A linear map of an axis to pixels.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) struct Scale {
    /// The values at both ends.
    pub(crate) low: f64,
    pub(crate) high: f64,
    /// The pixels at both ends.
    pub(crate) start: f64,
    pub(crate) end: f64,
}

impl Scale {
    pub(crate) fn at(&self, value: f64) -> f64 {
        let width = self.high - self.low;
        let share = if width > 0.0 { (value - self.low) / width } else { 0.5 };
        self.start + share * (self.end - self.start)
    }

    /// The pixels of a length on the axis.
    pub(crate) fn pixels(&self, length: f64) -> f64 {
        (self.at(self.low + length) - self.start).abs()
    }
}

/// The steps between ticks: 1, 2 or 5 times a power of ten.
fn step_above(least: f64) -> f64 {
    let power = 10f64.powf(least.log10().floor());
    let factor = [1.0, 2.0, 5.0].into_iter().find(|factor| factor * power >= least * 0.999_999);
    factor.unwrap_or(10.0) * power
}

/// The values and texts of at most this many ticks.
pub(crate) fn ticks(low: f64, high: f64, most: usize) -> Vec<(f64, String)> {
    let range = high - low;
    if !range.is_finite() || range <= 0.0 || most == 0 {
        return vec![(low, shown(low))];
    }
    let mut step = step_above(range / most as f64);
    // A step that the floats at this magnitude cannot tell apart would never end.
    if low + step == low || high - step == high {
        step = range;
    }
    let first = (low / step - 1e-9).ceil();
    let count = ((high - first * step) / step + 1e-9).floor().max(0.0) as usize;
    (0..=count.min(most + 1))
        .map(|n| (first + n as f64) * step)
        .filter(|value| *value <= high + step * 1e-6)
        .map(|value| (value, shown(if value.abs() < step * 1e-9 { 0.0 } else { value })))
        .collect()
}

/// A range that ends on ticks and contains all values. A single value gets room on both sides.
pub(crate) fn round_range(low: f64, high: f64, from_zero: bool, most: usize) -> (f64, f64) {
    let (mut low, mut high) = if low > high { (0.0, 1.0) } else { (low, high) };
    if from_zero {
        (low, high) = (low.min(0.0), high.max(0.0));
    }
    if low == high {
        let room = if low == 0.0 { 1.0 } else { low.abs() * 0.1 };
        (low, high) = match from_zero {
            true => (low, low + 1.0),
            false => (low - room, high + room),
        };
    }
    let range = high - low;
    if !range.is_finite() {
        // Each half fits into a float, the whole does not.
        return (low / 2.0, high / 2.0);
    }
    let step = step_above(range / most.max(1) as f64);
    let down = (low / step + 1e-9).floor() * step;
    let up = (high / step - 1e-9).ceil() * step;
    if down.is_finite() && up.is_finite() && down < up { (down, up) } else { (low, high) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_round_range_contains_the_values_and_ends_on_ticks(
            one in -1e12_f64..1e12, other in -1e12_f64..1e12, most in 2_usize..12,
        ) {
            let (low, high) = round_range(one.min(other), one.max(other), false, most);
            prop_assert!(low <= one.min(other) && one.max(other) <= high);
            let ticks = ticks(low, high, most + 1);
            prop_assert!(ticks.len() >= 2, "{ticks:?}");
            prop_assert!(ticks.is_sorted_by(|one, next| one.0 < next.0));
            let step = ticks[1].0 - ticks[0].0;
            let near = |one: f64, other: f64| (one - other).abs() < step * 1e-3;
            prop_assert!(near(ticks[0].0, low) && near(ticks[ticks.len() - 1].0, high));
        }
    }

    #[test]
    fn bars_begin_at_zero_and_a_single_value_has_room() {
        assert_eq!(round_range(3.0, 7.0, true, 5), (0.0, 8.0));
        assert_eq!(round_range(-3.0, -3.0, true, 5), (-3.0, 0.0));
        assert_eq!(round_range(0.0, 0.0, true, 5), (0.0, 1.0));
        let (low, high) = round_range(5.0, 5.0, false, 5);
        assert!(low < 5.0 && 5.0 < high);
        let labels = |low, high| -> Vec<String> {
            ticks(low, high, 5).into_iter().map(|(_, text)| text).collect()
        };
        assert_eq!(labels(0.0, 20_000.0), ["0", "5,000", "10,000", "15,000", "20,000"]);
        assert_eq!(labels(-0.2, 0.2), ["-0.2", "-0.1", "0", "0.1", "0.2"]);
    }
}
