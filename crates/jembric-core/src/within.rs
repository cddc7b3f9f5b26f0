//! [`Within`]: events joined with the windows in which they fall.
//!
//! Both sides' bounds become ticks (`ticks`), the keys of both are numbered together (`keys`), the windows of each key are put
//! in order (`index`), each event looks up its own (`search`), and only then are pairs made (`pairs`) and both sides accounted for (`account`).

mod account;
mod index;
mod keys;
mod pairs;
mod search;
mod ticks;
mod window;

pub use window::Window;

use crate::{
    active::most_rows,
    calendar::Day,
    error::{Error, Result},
    intervals::{EndDay, NEVER_ENDS, OpenEnds, told_of_intervals},
    ledger::Outcome,
    operation::{Context, Setting, Sink, Takes, told_in_lists},
    shape::{Named, Shape, Type},
    table::Table,
};
use account::{Join, Make, Reconciling, STRAY_BECAUSE};
use keys::Pair;
use search::MOST_WINDOWS;
use serde::{Deserialize, Serialize};
use ticks::{Columns, Unit};

/// Which rows the answer has.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Keep {
    /// Events with the windows in which they fall.
    #[default]
    Matched,
    /// These, and all other events, without a window.
    EveryEvent,
    /// The events that fall in no window, and why.
    StrayEvents,
    /// The windows in which no event falls.
    EmptyWindows,
}

/// Which of several windows an event is joined with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Pick {
    /// All of them: the event is repeated.
    #[default]
    All,
    /// That which starts first.
    First,
    /// That which starts last.
    Last,
    /// That whose date in a column of its own is nearest to the event's.
    Nearest,
}

/// Which events fall in which windows: both tables' rows side by side.
///
/// An event falls in a window of its own key (`matching`; without it there is one key for all) if its date is between the
/// window's bounds, both included; an [`interval`](Within::intervals) if it has any time in common with the window. A bound that
/// is not named or is missing is open; a window with a missing end lasts until [`Context::as_of`] where that is given, one whose
/// end is not named has none at all. A row for each pair: the
/// event's columns, then the window's without those that were matched (a name that clashes gets `_window`), and of intervals
/// `overlap_start`, `overlap_end` and `overlap_days`. Events stay in their order; an event's windows are in order of start.
///
/// A day as a bound is the whole day. Days and longer periods as events are compared with the days or periods in which the
/// bounds lie. Moments are compared to the microsecond where both sides have them, as points in time or, if only one side is
/// such, by what the clocks of [`Context::zone`] show. Intervals are compared so only if all bounds are moments.
///
/// Windows start and are reversed at the grain of their own columns, also where events are of longer periods. Of windows that
/// start together, or are equally near, `pick` takes the least row as a whole (`last`: the greatest); the
/// ledger counts these. Set aside on both sides: rows that miss a key, and those whose end is before their start; events without
/// a date. Windows that have no active day since their end day is exclusive are dropped. The ledger is that of the side that the
/// answer has rows of, with the other side's in [`Ledger::other_side`](crate::Ledger::other_side).
///
/// Errors: a column is missing or holds no dates; keys whose types are never equal; settings that contradict each other; more
/// rows than allowed, told before any is made. Costs a numbering of both sides' keys, a sort of each key's windows, a binary
/// search for each event, and its windows: n log n + pairs, however they overlap.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Within {
    /// The columns that must be equal: `COLUMN`, or `COLUMN=COLUMN` where the windows' has another name.
    #[serde(default, rename = "match")]
    pub matching: Vec<String>,
    /// The events' column of dates.
    #[serde(default)]
    pub date: Option<String>,
    /// Instead of that: from which to which column an event lasts.
    #[serde(default)]
    pub interval: Option<Window>,
    /// The bounds of a window.
    pub window: Window,
    /// Which rows the answer has.
    #[serde(default)]
    pub keep: Keep,
    /// Which of several windows an event is joined with.
    #[serde(default)]
    pub pick: Pick,
    /// The windows' column of dates from which `nearest` measures.
    #[serde(default)]
    pub nearest_to: Option<String>,
    /// The windows' columns that are brought along; all if none is named.
    #[serde(default)]
    pub bring: Vec<String>,
    /// Whether the end day is still inside.
    #[serde(default)]
    pub end_day: EndDay,
    /// What becomes of windows without a bound and intervals without an end.
    #[serde(default)]
    pub open_ends: OpenEnds,
    /// End dates that mean there is no end.
    #[serde(default)]
    pub never_ends: Vec<Day>,
    /// How many rows the answer may have.
    #[serde(default = "most_rows")]
    pub most_rows: u64,
}

told_of_intervals!(Within);

told_in_lists!(Within {
    matching: "The columns that must be equal: `COLUMN`, or `COLUMN=COLUMN` where the windows' has another name.",
    bring: "The windows' columns that are brought along.",
});

impl Within {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "within";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "Which of these events fell inside which of those windows?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "match",
            Takes::Columns,
            "The columns that must be equal; COL=COL where the windows' has another name. Without them all windows are everybody's",
        ),
        Setting::new("date", Takes::Column, "The events' column of dates"),
        Setting::new(
            "interval",
            Takes::Text("START..END"),
            "Instead of --date: events last from one column to another, and are joined with the windows that they overlap",
        ),
        Setting::new(
            "window",
            Takes::Text("A..B"),
            "The windows' columns for the bounds, each with a span added or taken, or nothing for an open side: arrived..left, 'due - 7 days..due + 3 days', valid_from..",
        )
        .required(),
        Setting::new(
            "keep",
            Takes::OneOf(&["matched", "every-event", "stray-events", "empty-windows"]),
            "Events with their windows; all events; events in no window, and why; windows without an event [default: matched]",
        ),
        Setting::new(
            "pick",
            Takes::OneOf(&["all", "first", "last", "nearest"]),
            "Of several windows all, that which starts first or last, or that which is nearest [default: all]",
        ),
        Setting::new(
            "nearest-to",
            Takes::Column,
            "The windows' dates from which nearest measures [default: the column of both bounds, if it is one]",
        ),
        Setting::new("bring", Takes::Columns, "The windows' columns that are brought along [default: all]"),
        Setting::new(
            "end-day",
            Takes::OneOf(&["inclusive", "exclusive"]),
            "Whether a window and an interval are active on their end day [default: inclusive]",
        ),
        Setting::new(
            "open-ends",
            Takes::OneOf(&["as-of", "drop", "refuse"]),
            "Windows with a missing bound are open (a missing end: to the as-of date, if there is one), are dropped, or are an error [default: as-of]",
        ),
        NEVER_ENDS,
        Setting::new("most-rows", Takes::Number, "How many rows the answer may have [default: 200000000]"),
    ];

    /// Events on the dates of this column, in windows with these bounds.
    pub fn new(date: impl Into<String>, window: Window) -> Within {
        Within::of(Some(date.into()), None, window)
    }

    /// Events that last from one column to another, in the windows that they overlap.
    pub fn intervals(interval: Window, window: Window) -> Within {
        Within::of(None, Some(interval), window)
    }

    fn of(date: Option<String>, interval: Option<Window>, window: Window) -> Within {
        Within {
            matching: Vec::new(),
            date,
            interval,
            window,
            keep: Keep::default(),
            pick: Pick::default(),
            nearest_to: None,
            bring: Vec::new(),
            end_day: EndDay::default(),
            open_ends: OpenEnds::default(),
            never_ends: Vec::new(),
            most_rows: most_rows(),
        }
    }

    /// Which rows the answer has.
    pub fn keep(mut self, keep: Keep) -> Within {
        self.keep = keep;
        self
    }

    /// Which of several windows an event is joined with.
    pub fn pick(mut self, pick: Pick) -> Within {
        self.pick = pick;
        self
    }

    /// The windows' column of dates from which `nearest` measures.
    pub fn nearest_to(mut self, column: impl Into<String>) -> Within {
        self.nearest_to = Some(column.into());
        self
    }

    /// How many rows the answer may have.
    pub fn most_rows(mut self, rows: u64) -> Within {
        self.most_rows = rows;
        self
    }

    /// From when to when an event lasts: the date alone, where it is a point in time.
    fn time_of_events(&self) -> Window {
        self.interval.clone().unwrap_or_else(|| Window::starting(self.date.as_deref().unwrap_or_default()))
    }

    /// The column from which `nearest` measures.
    fn measured_from(&self) -> Result<Option<&str>> {
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        match (self.pick, &self.nearest_to) {
            (Pick::Nearest, _) if self.interval.is_some() => refused(
                "pick",
                "nearest",
                "first, last or all beside `interval`: distances are measured from a date",
            ),
            (Pick::Nearest, Some(column)) => Ok(Some(column)),
            (Pick::Nearest, None) => {
                let mut columns = self.window.bounds().map(|bound| bound.column.as_str());
                let first = columns.next();
                match first.filter(|first| columns.all(|column| column == *first)) {
                    Some(column) => Ok(Some(column)),
                    None => {
                        refused("nearest-to", "not given", "the windows' column from which nearest measures")
                    }
                }
            }
            (_, Some(_)) => refused("nearest-to", "given", "`pick` nearest beside it"),
            (_, None) => Ok(None),
        }
    }

    fn check_settings(&self) -> Result<()> {
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        let shows_windows = matches!(self.keep, Keep::Matched | Keep::EveryEvent);
        match (&self.date, &self.interval) {
            (None, None) => refused("date", "not given", "the events' column of dates, or `interval`"),
            (Some(_), Some(_)) => refused("date", "given", "either it or `interval`"),
            (_, Some(interval)) if interval.from.is_none() => {
                refused("interval", "open at its start", "a column of starts: `arrived..left` or `arrived..`")
            }
            _ if !shows_windows && !self.bring.is_empty() => {
                refused("bring", "given", "`keep` matched or every-event beside it")
            }
            _ => self.measured_from().map(drop),
        }
    }

    /// The windows' columns that are brought along, under names that no column of the events has.
    fn brought(&self, pairs: &[Pair], events: &Shape, windows: &Shape) -> Result<Vec<Named>> {
        let chosen = match self.bring.is_empty() {
            false => windows.named(&self.bring)?,
            true => {
                let all = windows.columns().iter().map(|column| column.name.clone());
                let all = all.filter(|name| !pairs.iter().any(|pair| pair.of_windows == *name));
                windows.named(&all.collect::<Vec<_>>())?
            }
        };
        Ok(chosen.into_iter().map(|named| clash_free(named, events)).collect())
    }

    /// An error where a column of dates is missing or holds something else; that of the windows is looked at only if given.
    fn check_dates(&self, events: &Shape, windows: Option<&Shape>) -> Result<()> {
        self.check_settings()?;
        self.time_of_events().bounds().try_for_each(|bound| bound.expect_in(events))?;
        let Some(windows) = windows else { return Ok(()) };
        self.window.bounds().try_for_each(|bound| bound.expect_in(windows))?;
        self.measured_from()?.map_or(Ok(()), |column| windows.expect_dates(column))
    }

    /// Everything that can be wrong without the data; otherwise what is known of the answer's columns.
    pub fn check(&self, events: &Shape, windows: &Shape) -> Result<Shape> {
        self.check_with(events, windows, &Context::new())
    }

    /// The same, with an as-of date and sums to reconcile.
    pub fn check_with(&self, events: &Shape, windows: &Shape, context: &Context) -> Result<Shape> {
        let pairs = keys::pairs(&self.matching, events, windows)?;
        self.check_dates(events, Some(windows))?;
        let reconciled = Reconciling::of(context, events, windows);
        reconciled.events.reconcile.iter().try_for_each(|column| events.expect_numbers(column))?;
        reconciled.windows.reconcile.iter().try_for_each(|column| windows.expect_numbers(column))?;
        match self.keep {
            Keep::StrayEvents => return events.with(STRAY_BECAUSE, Type::Text),
            Keep::EmptyWindows => return Ok(windows.clone()),
            Keep::Matched | Keep::EveryEvent => {}
        }
        let mut answer = events.clone();
        for named in self.brought(&pairs, events, windows)? {
            let mut column = windows.find(&named.column)?.clone();
            column.name = named.shown_as;
            answer = answer.with_shape(column)?;
        }
        if self.interval.is_some() {
            for name in ["overlap_start", "overlap_end"] {
                answer = answer.with_shape(crate::ColumnShape { name: name.to_owned(), kind: None })?;
            }
            answer = answer.with("overlap_days", Type::Integer)?;
        }
        Ok(answer)
    }

    /// The answer for events and windows, without an as-of date and with days of UTC.
    pub fn apply(&self, events: &Table, windows: &Table) -> Result<Outcome> {
        self.apply_with(events, windows, &Context::new())
    }

    /// The answer for events and windows.
    pub fn apply_with(&self, events: &Table, windows: &Table, context: &Context) -> Result<Outcome> {
        self.answer(events, windows, context, &mut |pairs| pairs.whole(context))
    }

    /// The answer handed over in batches; the outcome's own table has no rows.
    pub fn apply_into(
        &self,
        events: &Table,
        windows: &Table,
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        if matches!(self.keep, Keep::Matched | Keep::EveryEvent) {
            return self.answer(events, windows, context, &mut |pairs| pairs.in_batches(sink));
        }
        let outcome = self.apply_with(events, windows, context)?;
        sink(&outcome.table).map_err(Error::Sink)?;
        Ok(Outcome { table: outcome.table.head(0), ..outcome })
    }

    fn answer(
        &self,
        events: &Table,
        windows: &Table,
        context: &Context,
        make: &mut Make<'_>,
    ) -> Result<Outcome> {
        let (these, those) = (events.shape(), windows.shape());
        self.check_dates(&these, None).map_err(|error| events.explain(error))?;
        self.check_dates(&these, Some(&those)).map_err(|error| windows.explain(error))?;
        let explain = |error| keys::with_examples(error, events, windows);
        self.check_with(&these, &those, context).map_err(explain)?;
        if windows.rows() >= MOST_WINDOWS {
            return Err(Error::TooManyRows { rows: windows.rows() });
        }
        let columns = Columns::of(self, events, windows)?;
        let clock = columns.clock(&context.zone);
        let join = Join { within: self, events, windows, context, columns: &columns };
        match clock.unit {
            Unit::Days => join.answer::<i32>(clock, make),
            Unit::Instants | Unit::Readings => join.answer::<i64>(clock, make),
        }
    }
}

/// A name in the answer that no column of the events has.
fn clash_free(named: Named, events: &Shape) -> Named {
    let clashes = named.shown_as == named.column && events.find(&named.column).is_ok();
    let shown_as = if clashes { format!("{}_window", named.column) } else { named.shown_as };
    Named { column: named.column, shown_as }
}

#[cfg(test)]
mod tests;
