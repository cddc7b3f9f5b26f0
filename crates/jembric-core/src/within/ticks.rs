//! The first and last tick of each event and window, in a unit in which both can be compared: days
//! or microseconds.
//!
//! All settings of bounds are applied here: spans, missing bounds, dates that mean "no end",
//! exclusive end days, and periods and whole days beside moments. What remains are two inclusive
//! numbers for each row.

use super::{
    WithinPlan,
    window::{Bound, PlacedWindow},
};
use crate::{
    calendar::{Day, MICROS_PER_DAY, Periods, Span, Zone},
    context::Context,
    dates::Dates,
    error::{Error, Places, Result},
    intervals::{EndDay, OpenEnds, Reasons, never_ending},
    ledger::Reason,
    parallel,
    table::Table,
};
use arrow_array::{ArrayRef, Date32Array, TimestampMicrosecondArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use std::{borrow::Cow, fmt::Debug, hash::Hash, sync::Arc};

/// A number in the order of time.
pub(super) trait Tick:
    Copy + Ord + Default + Send + Sync + Debug + Hash + Into<i64>
{
    const MIN: Self;
    const MAX: Self;
    /// Converts a number to this unit.
    fn from_number(number: i64) -> Self;
}

impl Tick for i32 {
    const MIN: i32 = i32::MIN;
    const MAX: i32 = i32::MAX;
    fn from_number(number: i64) -> i32 {
        number as i32
    }
}

impl Tick for i64 {
    const MIN: i64 = i64::MIN;
    const MAX: i64 = i64::MAX;
    fn from_number(number: i64) -> i64 {
        number
    }
}

/// The ticks of each row, and the rows that have them.
pub(super) struct Stretches<T> {
    pub(super) first: Vec<T>,
    /// None if each row is a point in time.
    pub(super) last: Option<Vec<T>>,
    /// The starts in a finer unit, if the common unit loses their order.
    starts: Option<Vec<i64>>,
    pub(super) usable: BooleanBuffer,
    pub(super) dropped: Reasons,
    pub(super) set_aside: Reasons,
    /// Whether missing ends were replaced by the as-of date.
    pub(super) closed: bool,
}

impl<T: Tick> Stretches<T> {
    #[inline]
    pub(super) fn at(&self, row: usize) -> (T, T) {
        let first = self.first[row];
        (first, self.last.as_ref().map_or(first, |last| last[row]))
    }

    /// The start of a row, at the grain of its own column.
    #[inline]
    pub(super) fn start(&self, row: u32) -> i64 {
        let row = row as usize;
        self.starts.as_ref().map_or_else(|| self.first[row].into(), |starts| starts[row])
    }
}

/// How dates are converted to ticks.
#[derive(Clone, Copy)]
pub(super) struct Clock<'a> {
    pub(super) unit: TickUnit,
    pub(super) zone: &'a Zone,
    /// The periods of the events, if they are points in time: windows then begin and end with whole
    /// periods.
    widened_to: Periods,
}

#[derive(Clone, Copy, PartialEq, Eq)]
pub(super) enum TickUnit {
    Days,
    /// Microseconds of points in time.
    Instants,
    /// Microseconds of readings of a clock.
    Readings,
}

/// The columns that bound events and windows, as dates.
pub(super) struct TickColumns {
    events: Sides,
    windows: Sides,
    point: bool,
}

struct Sides {
    from: Option<(Bound, Dates)>,
    to: Option<(Bound, Dates)>,
}

impl Sides {
    fn new(window: &PlacedWindow, table: &Table) -> Sides {
        let dates = |bound: &Option<(Bound, usize)>| {
            bound.as_ref().map(|(bound, place)| (bound.clone(), table.dates_at(*place)))
        };
        Sides { from: dates(&window.from), to: dates(&window.to) }
    }

    fn dates(&self) -> impl Iterator<Item = &Dates> {
        self.from.iter().chain(&self.to).map(|(_, dates)| dates)
    }
}

impl TickColumns {
    pub(super) fn new(within: &WithinPlan, events: &Table, windows: &Table) -> TickColumns {
        TickColumns {
            events: Sides::new(&within.event_bounds, events),
            windows: Sides::new(&within.window_bounds, windows),
            point: within.point,
        }
    }

    /// Moments are compared as moments if that can matter: points in time in windows with a moment
    /// as a bound, and intervals whose bounds are all moments. Everything else is compared by days.
    pub(super) fn clock<'z>(&self, zone: &'z Zone) -> Clock<'z> {
        let is_moment = |dates: &Dates| matches!(dates, Dates::Moments(_));
        let all = || self.events.dates().chain(self.windows.dates());
        // An event with a time of day lies within the whole of a day, so moments matter only if a
        // window begins or ends with one.
        let by_moments = if self.point {
            self.events.dates().all(is_moment) && self.windows.dates().any(is_moment)
        } else {
            all().all(|dates| is_moment(dates) || matches!(dates, Dates::Missing(_)))
                && all().any(is_moment)
        };
        let unit = if !by_moments {
            TickUnit::Days
        } else if all().filter(|dates| is_moment(dates)).all(Dates::are_instants) {
            // Points in time and readings of clocks have no common order. If both occur, the points
            // in time are read in the zone of the context.
            TickUnit::Instants
        } else {
            TickUnit::Readings
        };
        let periods = self.events.dates().next().map_or(Periods::DAYS, Dates::periods);
        Clock { unit, zone, widened_to: if self.point { periods } else { Periods::DAYS } }
    }

    pub(super) fn cut_instants(&self) -> bool {
        self.events.dates().chain(self.windows.dates()).any(Dates::are_instants)
    }

    /// The ticks of the events.
    pub(super) fn events<T: Tick>(
        &self,
        within: &WithinPlan,
        clock: Clock<'_>,
        table: &Table,
        context: &Context,
    ) -> Result<Stretches<T>> {
        if !self.point {
            return self.events.stretches(within, clock, table, context, Reason::NoStart);
        }
        let Some((_, dates)) = &self.events.from else {
            return Err(Error::Setting {
                setting: "date",
                value: "not given".to_owned(),
                expected: "a column".into(),
            });
        };
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        Ok(Stretches {
            first: clock.ticks(dates, Span::default(), Edge::Start),
            last: None,
            starts: None,
            set_aside: vec![(Reason::NoDate, !&dated)],
            usable: dated,
            dropped: Vec::new(),
            closed: false,
        })
    }

    /// The ticks of the windows.
    pub(super) fn windows<T: Tick>(
        &self,
        within: &WithinPlan,
        clock: Clock<'_>,
        table: &Table,
        context: &Context,
    ) -> Result<Stretches<T>> {
        self.windows.stretches(within, clock, table, context, Reason::Open)
    }
}

/// The rows that cannot be used, some of them for several reasons.
struct Unusable {
    /// Intervals without a start.
    useless: BooleanBuffer,
    dropped_open: BooleanBuffer,
    backwards: BooleanBuffer,
    /// Rows without a tick.
    empty: BooleanBuffer,
}

impl Unusable {
    /// The rows that can be used, and the reasons of those that are dropped and set aside. Each row
    /// has one reason, the first of these that applies.
    fn reasons(self, no_end: &BooleanBuffer) -> (BooleanBuffer, Reasons, Reasons) {
        let Unusable { useless, dropped_open, backwards, empty } = self;
        let left = !&(&useless | &dropped_open);
        // An interval that is only closed before its start begins after the as-of date.
        let after = &(&backwards & no_end) & &left;
        let reversed = &(&backwards & &!no_end) & &left;
        let no_day = &(&empty & &!&backwards) & &left;
        let usable = &left & &!&(&backwards | &empty);
        let dropped = vec![
            (Reason::Open, dropped_open),
            (Reason::AfterAsOf, after),
            (Reason::NoActiveDay, no_day),
        ];
        (usable, dropped, vec![(Reason::NoStart, useless), (Reason::EndBeforeStart, reversed)])
    }
}

impl Sides {
    /// The ticks between two bounds. A missing start makes a window open, but an interval unusable.
    fn stretches<T: Tick>(
        &self,
        within: &WithinPlan,
        clock: Clock<'_>,
        table: &Table,
        context: &Context,
        without_start: Reason,
    ) -> Result<Stretches<T>> {
        let rows = table.rows();
        let free = within.end_day == EndDay::Exclusive;
        let missing = |side: &Option<(Bound, Dates)>| {
            let nulls = side.as_ref().and_then(|(_, dates)| dates.nulls());
            nulls.map_or_else(|| BooleanBuffer::new_unset(rows), |nulls| !nulls.inner())
        };
        let no_start = missing(&self.from);
        let mut no_end = missing(&self.to);
        let never = self
            .to
            .as_ref()
            .and_then(|(_, dates)| never_ending(dates, &within.never_ends, clock.zone));
        if let Some(never) = never {
            no_end = &no_end | &never;
        }
        let open = if without_start == Reason::Open { &no_start | &no_end } else { no_end.clone() };
        if within.open_ends == OpenEnds::Refuse && open.count_set_bits() > 0 {
            return Err(self.refused(&open, table));
        }
        let closed_by = if within.open_ends == OpenEnds::AsOf { context.as_of } else { None };
        // Without a date that closes it, an open interval lasts until the end of the calendar.
        let close = closed_by.map_or(T::MAX, |day| clock.end_of(day));

        let mut first = match &self.from {
            Some((bound, dates)) => clock.ticks(dates, bound.span, Edge::Start),
            None => vec![T::MIN; rows],
        };
        no_start.set_indices().for_each(|row| first[row] = T::MIN);
        let ends = |edge| match &self.to {
            Some((bound, dates)) => clock.ticks::<T>(dates, bound.span, edge),
            None => vec![T::MAX; rows],
        };
        let mut last = ends(Edge::End);
        no_end.set_indices().for_each(|row| last[row] = close);
        // The ticks may be of longer periods than the columns. What the columns themselves say of
        // the order of start and end still holds.
        let own = self.own_ticks(clock, [&no_start, &no_end], free, closed_by);
        // Reversed rows are found before an exclusive end takes a day away: an interval of no day
        // is not reversed.
        let mut backwards = BooleanBuffer::collect_bool(rows, |row| last[row] < first[row]);
        if free {
            let free = ends(Edge::FreeEnd);
            (0..rows).filter(|&row| !no_end.value(row)).for_each(|row| last[row] = free[row]);
        }
        let mut empty = BooleanBuffer::collect_bool(rows, |row| last[row] < first[row]);
        // A row that is reversed or empty at the grain of its own columns stays so, however long
        // the periods of the events are.
        if let Some(reversed) = &own.reversed {
            backwards = &backwards | reversed;
            empty = &empty | reversed;
        }
        if let Some(without_day) = &own.empty {
            empty = &empty | without_day;
        }

        let useless =
            if without_start == Reason::Open { BooleanBuffer::new_unset(rows) } else { no_start };
        let drop_open = within.open_ends == OpenEnds::Drop;
        let dropped_open =
            if drop_open { &open & &!&useless } else { BooleanBuffer::new_unset(rows) };
        let unusable = Unusable { useless, dropped_open, backwards, empty };
        let (usable, dropped, set_aside) = unusable.reasons(&no_end);
        Ok(Stretches {
            usable,
            closed: closed_by.is_some() && no_end.count_set_bits() > 0,
            first,
            last: Some(last),
            starts: own.starts,
            dropped,
            set_aside,
        })
    }

    /// What the bounds decide at the grain of their own columns, if it is finer than the ticks.
    fn own_ticks(
        &self,
        clock: Clock<'_>,
        [no_start, no_end]: [&BooleanBuffer; 2],
        free: bool,
        closed_by: Option<Day>,
    ) -> OwnTicks {
        if clock.unit != TickUnit::Days {
            return OwnTicks::default();
        }
        let by_days = Clock { widened_to: Periods::DAYS, ..clock };
        let is_widened = clock.widened_to != Periods::DAYS;
        let starts = |clock: Clock<'_>| {
            let mut starts = match &self.from {
                Some((bound, dates)) => clock.ticks::<i64>(dates, bound.span, Edge::Start),
                None => vec![i64::MIN; no_start.len()],
            };
            no_start.set_indices().for_each(|row| starts[row] = i64::MIN);
            starts
        };
        let before_start = |clock: Clock<'_>, starts: &[i64], edge| {
            let mut ends = match &self.to {
                Some((bound, dates)) => clock.ticks::<i64>(dates, bound.span, edge),
                None => vec![i64::MAX; no_end.len()],
            };
            let close = closed_by.map_or(i64::MAX, |day| clock.end_of(day));
            no_end.set_indices().for_each(|row| ends[row] = close);
            BooleanBuffer::collect_bool(ends.len(), |row| ends[row] < starts[row])
        };
        let of_moments = |side: &Option<(Bound, Dates)>| match side.as_ref().map(|(_, dates)| dates)
        {
            Some(dates @ Dates::Moments(_)) => Some(dates.are_instants()),
            _ => None,
        };
        let micros = |instants: bool| {
            let unit = if instants { TickUnit::Instants } else { TickUnit::Readings };
            Clock { unit, ..by_days }
        };
        // Both bounds are compared by microseconds if both are moments.
        let there = || self.dates().filter(|dates| !matches!(dates, Dates::Missing(_)));
        let all_moments = there().all(|dates| matches!(dates, Dates::Moments(_)));
        let exact = if there().next().is_some() && all_moments {
            Some(micros(there().all(Dates::are_instants)))
        } else {
            is_widened.then_some(by_days)
        };
        OwnTicks {
            reversed: exact.map(|clock| before_start(clock, &starts(clock), Edge::End)),
            // An exclusive end leaves whole days, however long the periods of the events are.
            empty: (free && is_widened)
                .then(|| before_start(by_days, &starts(by_days), Edge::FreeEnd)),
            starts: match of_moments(&self.from) {
                Some(instants) => Some(starts(micros(instants))),
                None => is_widened.then(|| starts(by_days)),
            },
        }
    }

    fn refused(&self, open: &BooleanBuffer, table: &Table) -> Error {
        let names: Vec<&str> =
            self.from.iter().chain(&self.to).map(|(bound, _)| bound.column.as_str()).collect();
        let places = Places::OpenRefused {
            end: names.join("` or `"),
            rows: open.count_set_bits() as u64,
            first: open.set_indices().take(3).map(|row| table.place(row)).collect(),
        };
        places.into()
    }
}

/// What the own grain of a side decides about its rows.
#[derive(Default)]
struct OwnTicks {
    starts: Option<Vec<i64>>,
    /// The rows that end before they start.
    reversed: Option<BooleanBuffer>,
    /// The rows that have no day before their exclusive end.
    empty: Option<BooleanBuffer>,
}

/// Which tick of a date is needed.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Edge {
    Start,
    End,
    /// The last tick before an exclusive end.
    FreeEnd,
}

impl<'a> Clock<'a> {
    /// The ticks of a column. Those of missing dates have no meaning.
    fn ticks<T: Tick>(self, dates: &Dates, span: Span, edge: Edge) -> Vec<T> {
        match (self.unit, dates) {
            (TickUnit::Days, _) => {
                let days = dates.day_numbers(self.zone);
                if self.is_plain(dates, span, edge) {
                    return parallel::map(&days, |day| T::from_number(day.into()));
                }
                parallel::map(&days, |day| {
                    T::from_number(self.day(day, dates.periods(), span, edge).into())
                })
            }
            (_, Dates::Moments(moments)) => {
                let readings: Cow<'_, [i64]> = match (self.unit, dates.are_instants()) {
                    (TickUnit::Readings, true) => {
                        Cow::Owned(self.zone.readings(moments.values()).collect())
                    }
                    _ => Cow::Borrowed(moments.values()),
                };
                let before = i64::from(edge == Edge::FreeEnd);
                parallel::map(&readings, |micros| T::from_number(self.moved(micros, span) - before))
            }
            // Dates count as whole days.
            _ => parallel::map(&dates.day_numbers(self.zone), |day| {
                let day = self.day(day, dates.periods(), span, edge);
                T::from_number(if edge == Edge::Start {
                    self.midnight(day)
                } else {
                    self.midnight(day + 1) - 1
                })
            }),
        }
    }

    fn is_plain(self, dates: &Dates, span: Span, edge: Edge) -> bool {
        let days = dates.periods() == Periods::DAYS && self.widened_to == Periods::DAYS;
        days && span == Span::default() && edge != Edge::FreeEnd
    }

    /// The day of a period that is meant, plus a span.
    fn day(self, number: i32, periods: Periods, span: Span, edge: Edge) -> i32 {
        let of_whole_periods = span.fits(periods.grain());
        let moved = |day: Day| clamped_after(day, span);
        let period = periods.containing(Day::clamped(number));
        let (first, last) = if of_whole_periods {
            let period = periods.containing(moved(period.first()));
            (period.first(), period.last())
        } else {
            (moved(period.first()), moved(period.last()))
        };
        let widened = |number: i32| self.widened_to.containing(Day::clamped(number));
        match edge {
            Edge::Start => widened(first.number()).first().number(),
            Edge::End => widened(last.number()).last().number(),
            // With an exclusive end, no day of the end's period belongs to the window.
            Edge::FreeEnd if self.widened_to == Periods::DAYS => first.number() - 1,
            Edge::FreeEnd => widened(first.number() - 1).last().number(),
        }
    }

    /// A moment plus a span, by the clocks.
    fn moved(self, micros: i64, span: Span) -> i64 {
        if span == Span::default() {
            return micros;
        }
        let reading =
            if self.unit == TickUnit::Instants { self.zone.reading(micros) } else { micros };
        let day = Day::clamped(reading.div_euclid(MICROS_PER_DAY) as i32);
        let day = i64::from(clamped_after(day, span).number());
        let moved = day * MICROS_PER_DAY + reading.rem_euclid(MICROS_PER_DAY);
        if self.unit == TickUnit::Instants { self.zone.instant(moved) } else { moved }
    }

    /// The first microsecond of a day.
    fn midnight(self, day: i32) -> i64 {
        match (self.unit, Day::from_number(day)) {
            (TickUnit::Instants, Some(day)) => self.zone.day_start(day),
            _ => i64::from(day) * MICROS_PER_DAY,
        }
    }

    /// The last tick of a day.
    fn end_of<T: Tick>(self, day: Day) -> T {
        T::from_number(match self.unit {
            TickUnit::Days => self.widened_to.containing(day).last().number().into(),
            _ => self.midnight(day.number() + 1) - 1,
        })
    }

    /// The ticks of the dates that a distance is measured from.
    pub(super) fn points<T: Tick>(self, dates: &Dates) -> Vec<T> {
        self.ticks(dates, Span::default(), Edge::Start)
    }

    /// The number of days from one tick to another, both inclusive.
    pub(super) fn days(self, first: i64, last: i64) -> i64 {
        let day = |tick: i64| match self.unit {
            TickUnit::Days => tick,
            TickUnit::Instants => self.zone.reading(tick).div_euclid(MICROS_PER_DAY),
            TickUnit::Readings => tick.div_euclid(MICROS_PER_DAY),
        };
        day(last) - day(first) + 1
    }

    /// Ticks as a column. Ticks beyond the calendar become its last one.
    pub(super) fn column(self, ticks: impl Iterator<Item = Option<i64>>) -> ArrayRef {
        let last_day = i64::from(Day::MAX.number());
        let last = if self.unit == TickUnit::Days {
            last_day
        } else {
            (last_day + 1) * MICROS_PER_DAY - 1
        };
        let ticks = ticks.map(|tick| tick.map(|tick| tick.min(last)));
        match self.unit {
            TickUnit::Days => {
                Arc::new(ticks.map(|tick| tick.map(|tick| tick as i32)).collect::<Date32Array>())
            }
            TickUnit::Instants => {
                Arc::new(ticks.collect::<TimestampMicrosecondArray>().with_timezone("UTC"))
            }
            TickUnit::Readings => Arc::new(ticks.collect::<TimestampMicrosecondArray>()),
        }
    }
}

/// A day plus a span, or the last day of the calendar in that direction.
fn clamped_after(day: Day, span: Span) -> Day {
    let beyond = if span.month_count() < 0 || span.day_count() < 0 { Day::MIN } else { Day::MAX };
    if span == Span::default() { day } else { span.after(day).unwrap_or(beyond) }
}
