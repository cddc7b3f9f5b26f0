//! [`Intervals`]: converts a start and an end column to the first and last tick of each row, and
//! finds the rows that have none.
//!
//! A tick is a day, or an hour for hours of moments. Both ends are inclusive. The settings for end
//! days, missing ends and dates that mean "no end" are applied here, once for all operations on
//! intervals.

use crate::{
    axis::{end_of, hours_of},
    calendar::{Day, Hours, MICROS_PER_DAY, Periods, Range, Zone},
    context::Context,
    dates::Dates,
    error::{Places, Result},
    ledger::Reason,
    parallel::{self, STRETCH},
    plan::Overall,
    table::Table,
};
use arrow_buffer::{BooleanBuffer, NullBuffer, ScalarBuffer};
use classify::{ClassifiedRows, RowClassifier};

mod classify;

/// Whether an interval is active on its end day.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum EndDay {
    /// It is: a stay from the 3rd to the 5th has three days.
    #[default]
    Inclusive,
    /// It is not: that stay has two days.
    Exclusive,
}

/// What to do with intervals without an end.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum OpenEnds {
    /// They last until the as-of date, or without one until the newest start or end of the table.
    #[default]
    AsOf,
    /// They are dropped, and counted.
    Drop,
    /// They are an error.
    Refuse,
}

/// How two columns make intervals.
#[derive(Clone)]
pub(crate) struct Rules {
    pub(crate) start: usize,
    pub(crate) end: usize,
    pub(crate) end_day: EndDay,
    pub(crate) open_ends: OpenEnds,
    /// End dates that mean "no end".
    pub(crate) never_ends: Vec<Day>,
    /// Only these days count.
    pub(crate) range: Option<Range>,
    /// Whether ticks are hours.
    pub(crate) hours: bool,
    /// Whether nothing after the as-of date counts: an interval that ends later has not ended yet.
    pub(crate) only_until_as_of: bool,
}

impl Rules {
    /// The rows without an end, and the newest tick of all starts and ends.
    pub(crate) fn open_rows(
        &self,
        table: &Table,
        context: &Context,
    ) -> (BooleanBuffer, Option<i32>) {
        let (starts, ends) = (table.dates_at(self.start), table.dates_at(self.end));
        let zone = &context.zone;
        let ticks = Ticks { zone, hours: self.hours.then(|| hours_of(&starts, zone)) };
        let (first, last) = (ticks.convert(&starts, false), ticks.convert(&ends, true));
        let valid = |dates: &Dates| dates.nulls().map(NullBuffer::into_inner);
        let (started, ended) = (valid(&starts), valid(&ends));
        let none = || BooleanBuffer::new_unset(table.rows());
        let open = ended.map_or_else(none, |ended| !&ended);
        let open = match never_ending(&ends, &self.never_ends, zone) {
            Some(never) => &open | &never,
            None => open,
        };
        let has_start = |row: usize| started.as_ref().is_none_or(|valid| valid.value(row));
        let is_open = |row: usize| open.value(row);
        let newest = ticks.close((&first, starts.periods()), &last, &has_start, &is_open, None);
        (open.clone(), newest)
    }

    /// What all rows must know of a part of them: its newest date, until which open intervals last
    /// without an as-of date.
    pub(crate) fn newest_of_part(&self, table: &Table, context: &Context) -> Option<Overall> {
        let is_needed = context.as_of.is_none() && self.open_ends == OpenEnds::AsOf;
        is_needed
            .then(|| Overall { newest: self.open_rows(table, context).1, ..Overall::default() })
    }

    /// The ticks of a range; points in time need the time zone.
    pub(crate) fn ticks_of_range(&self, range: Range, instants: bool, zone: &Zone) -> (i32, i32) {
        let hours = || if instants { Hours::new(zone) } else { Hours::default() };
        Ticks { zone, hours: self.hours.then(hours) }.range(range)
    }

    /// The day of a tick.
    pub(crate) fn day_of_tick(&self, tick: i32, hours: Option<&Hours>, zone: &Zone) -> Day {
        Ticks { zone, hours: hours.cloned() }.day(tick)
    }
}

/// What an operation on intervals does with a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RowStatus {
    Active,
    NoStart,
    Reversed,
    Open,
    AfterAsOf,
    Outside,
    NoDay,
}

impl RowStatus {
    /// The statuses that drop a row, and those that set it aside, with their reasons.
    const DROPPED: [(RowStatus, Reason); 4] = [
        (RowStatus::Outside, Reason::OutsideRange),
        (RowStatus::Open, Reason::Open),
        (RowStatus::AfterAsOf, Reason::AfterAsOf),
        (RowStatus::NoDay, Reason::NoActiveDay),
    ];
    const SET_ASIDE: [(RowStatus, Reason); 2] =
        [(RowStatus::NoStart, Reason::NoStart), (RowStatus::Reversed, Reason::EndBeforeStart)];

    /// All reasons, in the order of the ledger.
    pub(crate) fn reasons() -> impl Iterator<Item = Reason> + Clone {
        RowStatus::DROPPED.into_iter().chain(RowStatus::SET_ASIDE).map(|(_, reason)| reason)
    }
}

/// Masks of rows, with the reason of each.
pub(crate) type Reasons = Vec<(Reason, BooleanBuffer)>;

/// The first and last tick of each row. The ticks of rows that are not active have no meaning.
pub(crate) struct Intervals {
    pub(crate) first: ScalarBuffer<i32>,
    pub(crate) last: ScalarBuffer<i32>,
    pub(crate) statuses: Vec<RowStatus>,
    /// The statuses that occur, one bit each.
    seen: u8,
    /// The rows without an end of their own; none if all have one.
    closed: Option<Vec<bool>>,
    /// Of these, the rows that end after the as-of date; none if no row is cut.
    cut: Option<BooleanBuffer>,
    /// The day that replaces missing ends, if there is any, and its last tick.
    pub(crate) closed_on: Option<Day>,
    closing_tick: Option<i32>,
    /// The ticks of the range, if one is given.
    pub(crate) range: Option<(i32, i32)>,
    /// How to format ticks: the microseconds of tick 0 if ticks are hours.
    pub(crate) hours: Option<Hours>,
    /// Whether points in time were converted.
    pub(crate) instants: bool,
}

impl Intervals {
    /// Finds the ticks of each row.
    #[cfg(test)]
    pub(crate) fn from_table(table: &Table, rules: &Rules, context: &Context) -> Result<Intervals> {
        Intervals::closed_at(table, rules, None, context)
    }

    /// Finds the ticks of each row. Without an as-of date, open intervals last until the given
    /// tick, or else until the newest date of the table.
    ///
    /// Errors: a column holds no dates; hours of a column of days; missing ends are refused and
    /// there are some.
    pub(crate) fn closed_at(
        table: &Table,
        rules: &Rules,
        newest: Option<i32>,
        context: &Context,
    ) -> Result<Intervals> {
        let (starts, ends) = (table.dates_at(rules.start), table.dates_at(rules.end));
        let zone = &context.zone;
        let hours = rules.hours.then(|| hours_of(&starts, zone));
        let ticks = Ticks { zone, hours: hours.clone() };
        let (first, ended) = (ticks.convert(&starts, false), ticks.convert(&ends, true));
        let (started, has_end) =
            (starts.nulls().map(NullBuffer::into_inner), ends.nulls().map(NullBuffer::into_inner));
        let never = never_ending(&ends, &rules.never_ends, zone);
        let is_open = |row: usize| {
            has_end.as_ref().is_some_and(|valid| !valid.value(row))
                || never.as_ref().is_some_and(|never| never.value(row))
        };
        let has_start = |row: usize| started.as_ref().is_none_or(|valid| valid.value(row));
        let range = rules.range.map(|range| ticks.range(range));
        let until = context.as_of.filter(|_| rules.only_until_as_of).map(Day::number);
        let any_open = has_end.is_some() || never.is_some();
        let close = any_open.then(|| {
            ticks.close((&first, starts.periods()), &ended, &has_start, &is_open, context.as_of)
        });
        let close = newest.filter(|_| context.as_of.is_none()).or(close.flatten());
        let classify = RowClassifier {
            rules,
            first: &first,
            ended: &ended,
            started: started.as_ref(),
            has_end: has_end.as_ref(),
            never: never.as_ref(),
            ends: &ends,
            backwards: Backwards::new(&starts, &ends),
            close,
            until,
            range,
            // An exclusive end day is not active, but the as-of day of an open interval is.
            end_is_exclusive: rules.end_day == EndDay::Exclusive && hours.is_none(),
            by_hours: hours.is_some(),
        };
        let ClassifiedRows { last, statuses, seen, closed } = classify.all(table.rows());
        let any_closed = closed.iter().any(|&closed| closed);
        let last = last.map_or(ended, ScalarBuffer::from);
        if rules.open_ends == OpenEnds::Refuse {
            refuse_open(table, rules, &statuses)?;
        }
        let closing_tick = if any_closed { close.or(until) } else { None };
        let cut = until
            .filter(|_| any_closed)
            .map(|_| BooleanBuffer::collect_bool(closed.len(), |row| closed[row] && !is_open(row)));
        let closed_on = closing_tick.map(|tick| context.as_of.unwrap_or_else(|| ticks.day(tick)));
        let instants = starts.are_instants() || ends.are_instants();
        let closed = any_closed.then_some(closed);
        Ok(Intervals {
            first,
            last,
            statuses,
            seen,
            closed,
            cut,
            closed_on,
            closing_tick,
            range,
            hours,
            instants,
        })
    }

    /// The active rows, those that were dropped and those that were set aside.
    pub(crate) fn masks(&self) -> (BooleanBuffer, Reasons, Reasons) {
        let rows = self.statuses.len();
        let of = |status: RowStatus| match (self.seen & 1 << status as u8 != 0, self.all_active()) {
            (true, true) => BooleanBuffer::new_set(rows),
            (true, false) => BooleanBuffer::collect_bool(rows, |row| self.statuses[row] == status),
            (false, _) => BooleanBuffer::new_unset(rows),
        };
        let with_reasons = |statuses: &[(RowStatus, Reason)]| {
            let seen = statuses.iter().filter(|(status, _)| self.seen & 1 << *status as u8 != 0);
            seen.map(|&(status, reason)| (reason, of(status))).collect()
        };
        (
            of(RowStatus::Active),
            with_reasons(&RowStatus::DROPPED),
            with_reasons(&RowStatus::SET_ASIDE),
        )
    }

    /// Whether every row is active.
    pub(crate) fn all_active(&self) -> bool {
        self.seen == 1 << RowStatus::Active as u8
    }

    /// Whether a row has no end of its own.
    #[inline]
    pub(crate) fn is_closed(&self, row: usize) -> bool {
        self.closed.as_ref().is_some_and(|closed| closed[row])
    }

    /// The tick until which open intervals last, if there are any.
    pub(crate) fn closing_tick(&self) -> Option<i32> {
        self.closing_tick
    }

    /// How many of the active rows in a mask have no end of their own.
    pub(crate) fn closed_in(&self, rows: &BooleanBuffer) -> u64 {
        match &self.closed {
            None => 0,
            Some(closed) => rows.set_indices().filter(|&row| closed[row]).count() as u64,
        }
    }

    /// How many of the active rows in a mask end after the as-of date.
    pub(crate) fn cut_in(&self, rows: &BooleanBuffer) -> u64 {
        self.cut.as_ref().map_or(0, |cut| (cut & rows).count_set_bits() as u64)
    }

    /// The ticks of a row, clipped to the range.
    #[inline]
    pub(crate) fn clipped(&self, row: usize) -> (i32, i32) {
        match self.range {
            Some((from, to)) => (self.first[row].max(from), self.last[row].min(to)),
            None => (self.first[row], self.last[row]),
        }
    }

    /// The ticks from the first to the last of any active row, or those of the range.
    pub(crate) fn overall(&self) -> Option<(i32, i32)> {
        if self.range.is_some() {
            return self.range;
        }
        let all_active = self.all_active();
        let none = (i32::MAX, i32::MIN);
        let stretches = parallel::of_parts(self.statuses.chunks(STRETCH), |n, statuses| {
            let rows = n * STRETCH..n * STRETCH + statuses.len();
            let both = self.first[rows.clone()].iter().zip(&self.last[rows]);
            if all_active {
                return both.fold(none, |(a, z), (&first, &last)| (a.min(first), z.max(last)));
            }
            let active =
                statuses.iter().zip(both).filter(|(status, _)| **status == RowStatus::Active);
            active.fold(none, |(a, z), (_, (&first, &last))| (a.min(first), z.max(last)))
        });
        let wider = |one: (i32, i32), other: (i32, i32)| (one.0.min(other.0), one.1.max(other.1));
        let (first, last) = stretches.into_iter().fold(none, wider);
        (first <= last).then_some((first, last))
    }
}

/// Accounts for rows without a key. A row without a date or start is set aside for that, and any
/// other row without a key for its key.
pub(crate) fn with_no_key(dropped: &mut Reasons, set_aside: &mut Reasons, keyed: &BooleanBuffer) {
    let mut no_key = !keyed;
    for (reason, rows) in dropped.iter_mut().chain(set_aside.iter_mut()) {
        match reason {
            Reason::NoStart | Reason::NoDate => no_key = &no_key & &!&*rows,
            _ => *rows = &*rows & keyed,
        }
    }
    set_aside.push((Reason::NoKey, no_key));
}

/// How dates are converted to ticks.
struct Ticks<'a> {
    zone: &'a Zone,
    hours: Option<Hours>,
}

impl Ticks<'_> {
    /// The tick of each date. An end in a column of periods is its last day, and an end at a full
    /// hour is the hour before.
    fn convert(&self, dates: &Dates, end: bool) -> ScalarBuffer<i32> {
        match (&self.hours, dates) {
            (Some(hours), Dates::Moments(moments)) => {
                moments.values().iter().map(|&micros| hours.tick(micros - i64::from(end))).collect()
            }
            _ if end && dates.periods() != Periods::DAYS => {
                let last = |day: i32| dates.periods().containing(Day::clamped(day)).last().number();
                dates.day_numbers(self.zone).iter().map(|&day| last(day)).collect()
            }
            (None, Dates::Days(days, _)) => days.values().clone(),
            _ => dates.day_numbers(self.zone).into_owned().into(),
        }
    }

    fn range(&self, range: Range) -> (i32, i32) {
        match &self.hours {
            None => (range.first().number(), range.last().number()),
            Some(hours) => (
                hours.tick(self.zone.day_start(range.first())),
                hours.tick(end_of(self.zone, range.last()) - 1),
            ),
        }
    }

    /// The tick until which open intervals last.
    fn close(
        &self,
        (first, started_in): (&[i32], Periods),
        last: &[i32],
        has_start: &impl Fn(usize) -> bool,
        is_open: &impl Fn(usize) -> bool,
        as_of: Option<Day>,
    ) -> Option<i32> {
        match (as_of, &self.hours) {
            (Some(day), None) => Some(day.number()),
            (Some(day), Some(hours)) => Some(hours.tick(end_of(self.zone, day) - 1)),
            (None, _) => {
                // A start in a column of periods counts as the last day of its period here.
                let newest =
                    (0..first.len()).filter(|&row| has_start(row)).map(|row| first[row]).max();
                let starts = newest.map(|tick| match self.hours {
                    None => started_in.containing(Day::clamped(tick)).last().number(),
                    Some(_) => tick,
                });
                let ends = (0..last.len()).filter(|&row| !is_open(row)).map(|row| last[row]);
                starts.into_iter().chain(ends).max()
            }
        }
    }

    fn day(&self, tick: i32) -> Day {
        match &self.hours {
            None => Day::clamped(tick),
            Some(hours) => {
                Day::clamped(self.zone.reading(hours.start(tick)).div_euclid(MICROS_PER_DAY) as i32)
            }
        }
    }
}

/// The number of ticks in the period of an end, which are not active if the end day is exclusive.
fn ends_period(ends: &Dates, row: usize) -> i32 {
    match ends {
        Dates::Days(days, periods) if *periods != Periods::DAYS => {
            let period = periods.containing(Day::clamped(days.value(row)));
            period.last().number() - period.first().number() + 1
        }
        _ => 1,
    }
}

/// The ends that mean "no end": those on one of the days, by the clocks of the time zone or, for
/// points in time, by UTC. (The last moment of the year 9999 in UTC is in the year 10000 further
/// east.)
pub(crate) fn never_ending(ends: &Dates, never_ends: &[Day], zone: &Zone) -> Option<BooleanBuffer> {
    if never_ends.is_empty() {
        return None;
    }
    let on_one = |zone: &Zone| {
        let days = ends.day_numbers(zone);
        BooleanBuffer::collect_bool(days.len(), |row| {
            never_ends.iter().any(|never| never.number() == days[row])
        })
    };
    let by_zone = on_one(zone);
    Some(if ends.are_instants() && !zone.is_utc() {
        &by_zone | &on_one(&Zone::default())
    } else {
        by_zone
    })
}

/// The rows whose end is before their start, to the microsecond if both are moments of one kind.
enum Backwards<'a> {
    Moments(&'a [i64], &'a [i64]),
    ByTicks,
}

impl<'a> Backwards<'a> {
    fn new(starts: &'a Dates, ends: &'a Dates) -> Backwards<'a> {
        match (starts, ends) {
            (Dates::Moments(one), Dates::Moments(other))
                if one.timezone().is_some() == other.timezone().is_some() =>
            {
                Backwards::Moments(one.values(), other.values())
            }
            _ => Backwards::ByTicks,
        }
    }

    fn is(&self, row: usize) -> bool {
        match self {
            Backwards::Moments(starts, ends) => ends[row] < starts[row],
            Backwards::ByTicks => false,
        }
    }

    /// Whether the end of a row is the same moment as its start.
    fn is_without_length(&self, row: usize) -> bool {
        matches!(self, Backwards::Moments(starts, ends) if ends[row] == starts[row])
    }
}

fn refuse_open(table: &Table, rules: &Rules, statuses: &[RowStatus]) -> Result<()> {
    let open = || (0..statuses.len()).filter(|&row| statuses[row] == RowStatus::Open);
    let first: Vec<String> = open().take(3).map(|row| table.place(row)).collect();
    match open().count() as u64 {
        0 => Ok(()),
        rows => {
            let end = table.names().nth(rules.end).unwrap_or_default().to_owned();
            Err(Places::OpenRefused { end, rows, first }.into())
        }
    }
}
