//! [`Cutting`]: the periods into which ticks are cut.

use crate::calendar::{Day, Grain, Periods};

/// Converts ticks to periods.
#[derive(Clone, Copy)]
pub(super) struct Cutting {
    periods: Periods,
    /// Whether each period is one tick.
    simple: bool,
}

impl Cutting {
    /// Hours and days are ticks.
    pub(super) fn new(grain: Grain, periods: Periods) -> Cutting {
        Cutting { periods, simple: matches!(grain, Grain::Hour | Grain::Day) }
    }

    pub(super) fn number(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.number(Day::clamped(tick)) }
    }

    /// The last tick of the period that contains a tick.
    pub(super) fn end_of(self, tick: i32) -> i32 {
        if self.simple { tick } else { self.periods.containing(Day::clamped(tick)).last().number() }
    }

    /// The first and last tick of a period, clipped to these ticks.
    pub(super) fn bounds(self, number: i32, first: i32, last: i32) -> (i32, i32) {
        if self.simple {
            return (number, number);
        }
        let period = self.periods.numbered(number);
        (period.first().number().max(first), period.last().number().min(last))
    }
}
