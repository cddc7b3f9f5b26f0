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
        // Halves, because the distance of both ends may be beyond all floats.
        let width = self.high / 2.0 - self.low / 2.0;
        let share = if width > 0.0 { (value / 2.0 - self.low / 2.0) / width } else { 0.5 };
        self.start + share * (self.end - self.start)
    }
}

/// The steps between ticks: 1, 2 or 5 times a power of ten.
fn step_above(least: f64) -> f64 {
    let power = 10f64.powf(least.log10().floor());
    let factor = [1.0, 2.0, 5.0].into_iter().find(|factor| factor * power >= least * 0.999_999);
    factor.unwrap_or(10.0) * power
}

/// An axis of numbers: its ends, and the values and texts of its ticks.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct NumberAxis {
    pub(crate) low: f64,
    pub(crate) high: f64,
    pub(crate) ticks: Vec<(f64, String)>,
}

impl NumberAxis {
    /// The axis that contains these values and ends on ticks, of which there are about as many as
    /// asked for. A single value gets room on both sides. Ticks of whole numbers are whole.
    pub(crate) fn containing(
        (low, high): (f64, f64),
        from_zero: bool,
        is_whole: bool,
        most: usize,
    ) -> NumberAxis {
        let (mut low, mut high) = if low > high { (0.0, 1.0) } else { (low, high) };
        if from_zero {
            (low, high) = (low.min(0.0), high.max(0.0));
        }
        if low == high {
            let room = if low == 0.0 { 1.0 } else { low.abs() * 0.1 };
            (low, high) = if from_zero { (low, low + 1.0) } else { (low - room, high + room) };
        }
        let range = high / 2.0 - low / 2.0;
        let least = if is_whole { 1.0 } else { 0.0 };
        let step = (step_above(range / most.max(1) as f64 * 2.0)).max(least);
        let (first, last) = ((low / step + 1e-9).floor(), (high / step - 1e-9).ceil());
        // Floats of this magnitude cannot tell steps apart, or the ends are beyond all floats.
        let is_fine = (low + step == low && high + step == high) || !(last - first).is_finite();
        if is_fine || !(first * step).is_finite() || !(last * step).is_finite() {
            return NumberAxis { low, high, ticks: vec![(low, shown(low)), (high, shown(high))] };
        }
        let count = (last - first) as usize;
        let tick = |n: usize| {
            let value = (first + n as f64) * step;
            (value, shown(if value.abs() < step * 1e-9 { 0.0 } else { value }))
        };
        let ticks: Vec<(f64, String)> = (0..=count.min(1_000)).map(tick).collect();
        NumberAxis { low: first * step, high: last * step, ticks }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn an_axis_contains_the_values_and_ends_on_ticks(
            one in prop_oneof![-1e12_f64..1e12, any::<f64>()],
            other in prop_oneof![-1e12_f64..1e12, any::<f64>()],
            most in 2_usize..12,
            from_zero in any::<bool>(),
        ) {
            prop_assume!(one.is_finite() && other.is_finite());
            let range = (one.min(other), one.max(other));
            let axis = NumberAxis::containing(range, from_zero, false, most);
            let room = (axis.high / 2.0 - axis.low / 2.0) * 1e-6;
            prop_assert!(axis.low <= range.0 + room && range.1 - room <= axis.high, "{axis:?}");
            prop_assert!((2..=most * 3 + 2).contains(&axis.ticks.len()), "{axis:?}");
            prop_assert!(axis.ticks.is_sorted_by(|one, next| one.0 < next.0));
            prop_assert_eq!(axis.ticks[0].0, axis.low);
            prop_assert_eq!(axis.ticks[axis.ticks.len() - 1].0, axis.high);
        }
    }

    #[test]
    fn bars_begin_at_zero_and_a_single_value_has_room() {
        let ends = |low, high, from_zero| {
            let axis = NumberAxis::containing((low, high), from_zero, false, 5);
            (axis.low, axis.high)
        };
        assert_eq!(ends(3.0, 7.0, true), (0.0, 8.0));
        assert_eq!(ends(-3.0, -3.0, true), (-3.0, 0.0));
        assert_eq!(ends(0.0, 0.0, true), (0.0, 1.0));
        let (low, high) = ends(5.0, 5.0, false);
        assert!(low < 5.0 && 5.0 < high);
        let labels = |low, high, is_whole| -> Vec<String> {
            let axis = NumberAxis::containing((low, high), false, is_whole, 5);
            axis.ticks.into_iter().map(|(_, text)| text).collect()
        };
        assert_eq!(labels(0.0, 20_000.0, false), ["0", "5,000", "10,000", "15,000", "20,000"]);
        assert_eq!(labels(-0.2, 0.2, false), ["-0.2", "-0.1", "0", "0.1", "0.2"]);
        assert_eq!(labels(0.0, 2.0, true), ["0", "1", "2"]);
    }
}
