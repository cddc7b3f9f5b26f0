//! [`Within`]: joins events with the windows that contain them.
//!
//! The bounds of both sides become ticks (`ticks`), the keys of both are numbered together
//! (`keys`), the windows of each key are sorted (`index`), and each event looks up its windows
//! (`search`). Only then are pairs made (`pairs`) and both sides accounted for (`account`).

mod account;
mod index;
pub(crate) mod keys;
mod pairs;
mod search;
mod ticks;
mod window;

pub use window::Window;

use crate::{
    calendar::Day,
    context::{Context, Sink},
    error::{Error, Result, Smaller, excludes, in_setting, needs, refuse},
    intervals::{EndDay, OpenEnds},
    kind::Type,
    ledger::{Accounting, Cause, Outcome},
    limits::MOST_ROWS,
    plan::{
        self, Apply, ByEntity, Division, Inputs, Kind, Pieces, Plan, Prepared, ResultOrder, Roles,
        handed_over,
    },
    role::Role,
    row_numbers::has_row_numbers,
    shape::{ColumnShape, Named, Shape},
    table::Table,
};
pub(crate) use account::both_aside;
use account::{Join, Make, PieceOfEvents, Reconciling, STRAY_BECAUSE};
use arrow_buffer::BooleanBuffer;
use keys::Pair;
use search::MOST_WINDOWS;
use serde::Serialize;
use std::sync::Arc;
use ticks::{TickColumns, TickUnit};
use window::PlacedWindow;

/// The rows of the result.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Keep {
    /// Events with the windows that contain them.
    #[default]
    Matched,
    /// The same, and all other events without a window.
    EveryEvent,
    /// The events in no window, with the reason.
    StrayEvents,
    /// The windows without an event.
    EmptyWindows,
}

/// Which of several windows an event is joined with.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Pick {
    /// All of them, so that the event is repeated.
    #[default]
    All,
    /// The one that starts first.
    First,
    /// The one that starts last.
    Last,
    /// The one whose date in a given column is nearest to that of the event.
    Nearest,
}

/// Joins events with the windows that contain them.
///
/// A window contains an event with the same key (`matching`; without it all rows have one key) if
/// the event's date is between the bounds of the window, both inclusive, or if the event's
/// [`interval`](Within::intervals) overlaps the window. A bound that is not named or is missing is
/// open. A window whose end is missing lasts until [`Context::as_of`], if it is set; one whose end
/// is not named has no end. The result has a row for each pair: the columns of the event, then
/// those of the window except the matched ones (a name that is taken gets the suffix `_window`),
/// and for intervals `overlap_start`, `overlap_end` and `overlap_days`. Events keep their order,
/// and the windows of an event are sorted by start.
///
/// A bound that is a day is the whole day. Events that are days or longer periods are compared with
/// the days or periods of the bounds. Moments are compared to the microsecond if both sides have
/// them: as points in time, or as readings of the clocks of [`Context::zone`] if only one side has
/// points in time. Intervals are compared in this way only if all bounds are moments.
///
/// Whether a window is reversed, and where it starts, is decided at the grain of its own columns,
/// even if the events have longer periods. If several windows start together or are equally near,
/// `pick` takes the least row as a whole (`last`: the greatest), and the ledger counts these ties.
/// Set aside on both sides: rows without a key, rows that end before they start, events without a
/// date. Dropped: windows without an active day because their end day is exclusive. The ledger is
/// that of the side whose rows the result has; [`Ledger::other_side`](crate::Ledger::other_side) is
/// that of the other.
///
/// Errors: a column is missing or holds no dates; the types of two keys are never equal; settings
/// contradict each other; more rows than the limit, checked before any row is made. Cost: one
/// numbering of both sides' keys, a sort of each key's windows, a binary search for each event, and
/// its windows: n log n + pairs, however the windows overlap.
///
/// Open windows end on the as-of date if there is one, and otherwise stay open. The nearest window
/// is measured from the column of both bounds, if these are the same one, or from a column that is
/// named. Of equal windows the least row counts, or for the last one the greatest. Stray events
/// have a column `stray_because`. Rows set aside on both sides are in one table, each with the
/// columns of its side.
///
/// ```
/// use jembric_core::{Window, Within, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let day = |days: Vec<i32>| -> ArrayRef { Arc::new(Date32Array::from(days)) };
/// let lifts = Table::from_columns([("lifted_on", day(vec![20_001, 20_009]))])?;
/// let stays = Table::from_columns([("arrived", day(vec![20_000])), ("left", day(vec![20_002]))])?;
///
/// let within = Within::new("lifted_on", Window::between("arrived", "left"));
/// assert_eq!(within.apply(&lifts, &stays)?.table.rows(), 1);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "within",
    does = "Join events with the windows that contain them",
    answers = "Which lifts took place while the vessel was at a berth?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Within {
    /// Match these columns, or COL=COL if the windows have another name. Without them every window
    /// is for every event.
    #[setting(columns, rename = "match")]
    #[serde(rename = "match")]
    pub matching: Vec<String>,
    /// The column of dates of the events.
    #[setting(column, plain)]
    pub date: Option<String>,
    /// Join events that last from one column to another with the windows that they overlap, instead
    /// of `date`.
    #[setting(text = "START..END", plain)]
    pub interval: Option<Window>,
    /// The columns of the windows for both bounds, each plus or minus a span; leave out an open
    /// side: arrived..left, 'due - 7 days..due + 3 days', valid_from...
    #[setting(text = "A..B", required)]
    pub window: Window,
    /// Keep events with their windows, all events, events in no window (with the reason), or
    /// windows without an event. The default is `matched`.
    #[setting(one_of)]
    pub keep: Keep,
    /// Of several windows of an event keep all, the one that starts first or last, or the nearest.
    /// The default is `all`.
    #[setting(one_of)]
    pub pick: Pick,
    /// Measure `nearest` from this column of dates of the windows. The default is the column of
    /// both bounds, if it is the same.
    #[setting(column)]
    pub nearest_to: Option<String>,
    /// Add these columns of the windows. The default is `all`.
    #[setting(columns)]
    pub bring: Vec<String>,
    /// Count the end day of windows and intervals as active, or not. The default is `inclusive`.
    #[setting(one_of)]
    pub end_day: EndDay,
    /// Let windows with a missing bound be open (a missing end: up to the as-of date, if there is
    /// one), drop them, or refuse them. The default is `as-of`.
    #[setting(one_of)]
    pub open_ends: OpenEnds,
    /// Treat these end dates as missing, such as 9999-12-31.
    #[setting(texts = "DATE,…")]
    pub never_ends: Vec<Day>,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

impl Within {
    /// Joins events on the dates of this column with windows with these bounds.
    pub fn new(date: impl Into<String>, window: Window) -> Within {
        Within::with_defaults(Some(date.into()), None, window)
    }

    /// Joins events that last from one column to another with the windows that they overlap.
    pub fn intervals(interval: Window, window: Window) -> Within {
        Within::with_defaults(None, Some(interval), window)
    }

    fn with_defaults(date: Option<String>, interval: Option<Window>, window: Window) -> Within {
        Within { date, interval, window, ..Within::default() }
    }

    /// When an event begins and ends: at its date, if it is a point in time.
    fn time_of_events(&self) -> Window {
        self.interval
            .clone()
            .unwrap_or_else(|| Window::starting(self.date.as_deref().unwrap_or_default()))
    }

    /// The column that `nearest` measures from.
    fn measured_from(&self) -> Result<Option<&str>> {
        match (self.pick, &self.nearest_to) {
            (Pick::Nearest, _) if self.interval.is_some() => {
                excludes("interval", "`pick` nearest, because the distance is measured from a date")
            }
            (Pick::Nearest, Some(column)) => Ok(Some(column)),
            (Pick::Nearest, None) => {
                let mut columns = self.window.bounds().map(|bound| bound.column.as_str());
                let first = columns.next();
                match first.filter(|first| columns.all(|column| column == *first)) {
                    Some(column) => Ok(Some(column)),
                    None => {
                        let expected =
                            "the column of the windows from which the distance is measured";
                        refuse("nearest-to", "not given", expected)
                    }
                }
            }
            (_, Some(_)) => needs("nearest-to", "`pick` nearest"),
            (_, None) => Ok(None),
        }
    }

    fn check_settings(&self) -> Result<()> {
        let shows_windows = matches!(self.keep, Keep::Matched | Keep::EveryEvent);
        match (&self.date, &self.interval) {
            (None, None) => {
                refuse("date", "not given", "the column of dates of the events, or `interval`")
            }
            (Some(_), Some(_)) => excludes("date", "`interval`"),
            (_, Some(interval)) if interval.from.is_none() => {
                let expected = "a column of starts: `arrived..left` or `arrived..`";
                refuse("interval", "without a start", expected)
            }
            _ if !shows_windows && !self.bring.is_empty() => {
                needs("bring", "`keep` matched or every-event")
            }
            _ => Ok(()),
        }
    }

    /// The columns of the windows to add, under names that no column of the events has.
    fn brought(&self, pairs: &[Pair], events: &Shape, windows: &Shape) -> Result<Vec<Named>> {
        let chosen = if !self.bring.is_empty() {
            in_setting("bring", || windows.named(&self.bring))?
        } else {
            let all = windows.columns().iter().enumerate();
            let all = all.filter(|(_, column)| !has_row_numbers(&column.name));
            let all = all.filter(|(place, _)| !pairs.iter().any(|pair| pair.of_windows == *place));
            all.map(|(place, column)| Named::unrenamed(place, &column.name)).collect()
        };
        Ok(chosen.into_iter().map(|named| clash_free(named, events, "window")).collect())
    }

    fn step(&self) -> String {
        let time = match &self.interval {
            Some(interval) => interval.to_string(),
            None => self.date.clone().unwrap_or_default(),
        };
        let keys = if self.matching.is_empty() {
            String::new()
        } else {
            format!(", matched on {}", self.matching.join(", "))
        };
        let what = match self.keep {
            Keep::Matched => "within",
            Keep::EveryEvent => "within, every event",
            Keep::StrayEvents => "within, stray events",
            Keep::EmptyWindows => "within, empty windows",
        };
        let verb = if self.interval.is_some() { "overlapping" } else { "in" };
        format!("{what}: {time} {verb} {}{keys}", self.window)
    }

    /// The roles of the columns of the result: an overlap is an interval, and so is a window.
    fn roles(&self, plan: &WithinPlan, events: &Shape, windows: &Shape) -> Roles {
        let keys = |shape: &Shape, place: &dyn Fn(&Pair) -> usize| {
            plan.pairs.iter().fold(Roles::default(), |roles, pair| {
                roles.with(&shape.columns()[place(pair)].name, Role::Key)
            })
        };
        let (bounds, is_exclusive) = (&plan.window_bounds, self.end_day == EndDay::Exclusive);
        let end = if is_exclusive { Role::ExclusiveEnd } else { Role::End };
        match (self.keep, &self.interval, &self.date) {
            (Keep::EmptyWindows, ..) => {
                let roles = keys(windows, &|pair| pair.of_windows);
                match bounds.columns() {
                    Some((from, to)) => roles.with(from, Role::Start).with(to, end),
                    None => roles,
                }
            }
            (Keep::Matched | Keep::EveryEvent, Some(_), _) => keys(events, &|pair| pair.of_events)
                .with("overlap_start", Role::Start)
                .with("overlap_end", Role::End),
            (_, Some(_), _) => {
                let roles = keys(events, &|pair| pair.of_events);
                match plan.event_bounds.columns() {
                    Some((from, to)) => roles.with(from, Role::Start).with(to, end),
                    None => roles,
                }
            }
            (_, None, date) => {
                date.iter().fold(keys(events, &|pair| pair.of_events), |roles, date| {
                    roles.with(date, Role::Date)
                })
            }
        }
    }

    /// Prepares the operation for events and windows of these shapes.
    ///
    /// Errors: everything that can be wrong without the data.
    pub fn prepare(&self, events: &Shape, windows: &Shape, context: &Context) -> Result<Plan> {
        let plan = self.plan(events, windows, context)?;
        let (events_columns, windows_columns) =
            (0..events.columns().len(), 0..windows.columns().len());
        let mut uses = Inputs::new();
        let result = match self.keep {
            Keep::StrayEvents => {
                uses = Inputs::passing(events);
                events.with(STRAY_BECAUSE, Type::Text)?
            }
            Keep::EmptyWindows => {
                windows_columns.clone().for_each(|place| uses.pass([(1, place)]));
                windows.clone()
            }
            Keep::Matched | Keep::EveryEvent => {
                uses = Inputs::passing(events);
                let mut result = events.clone();
                for named in &plan.brought {
                    let (name, kind) = (named.shown_as.clone(), windows.kind(named.place));
                    result =
                        in_setting("bring", || result.with_shape(ColumnShape::new(name, kind)))?;
                    uses.pass([(1, named.place)]);
                    // The name is that of a column of the events.
                    let clashes =
                        events.columns().iter().position(|column| column.name == named.column);
                    uses = uses.using(clashes.filter(|_| named.shown_as != named.column));
                }
                if self.interval.is_some() {
                    for name in ["overlap_start", "overlap_end"] {
                        result = result.with_shape(ColumnShape::new(name, None))?;
                    }
                    result = result.with("overlap_days", Type::Integer)?;
                }
                result
            }
        };
        uses = uses.using(plan.event_bounds.places()).using_of(1, plan.window_bounds.places());
        uses = uses
            .using(plan.pairs.iter().map(|pair| pair.of_events))
            .accounting(&plan.events_accounting);
        uses =
            uses.using_of(1, plan.pairs.iter().map(|pair| pair.of_windows)).using_of(1, plan.near);
        uses = uses.using_of(1, plan.windows_accounting.reconcile.iter().map(|(_, place)| *place));
        if self.pick != Pick::All {
            // Of several windows that start together, the least row as a whole is picked.
            uses = uses.using(events_columns).using_of(1, windows_columns);
        }
        let roles = self.roles(&plan, events, windows);
        let (kind, prepared) = (Kind::Divided(plan.division()), Prepared::beside(Arc::new(plan)));
        let plan = Plan::new(&[events, windows], context, (result, uses, kind), prepared);
        Ok(plan.limited(self.most_rows, Smaller::FewerPairs).with_roles(roles))
    }

    fn plan(&self, events: &Shape, windows: &Shape, context: &Context) -> Result<WithinPlan> {
        self.check_settings()?;
        let pairs =
            in_setting("match", || keys::pairs(&self.matching, events, windows, "of the windows"))?;
        let time = if self.interval.is_some() { "interval" } else { "date" };
        let event_bounds = in_setting(time, || self.time_of_events().placed(events))?;
        let window_bounds = in_setting("window", || self.window.placed(windows))?;
        let measured_from = self.measured_from()?;
        let near = measured_from.map(|column| windows.place_of_dates(column)).transpose();
        let reversed = |bounds: &PlacedWindow| {
            let (start, end) = bounds.columns()?;
            Some(Cause::Reversed { start: start.to_owned(), end: end.to_owned() })
        };
        let mut of_events: Vec<Cause> = reversed(&event_bounds).into_iter().collect();
        of_events.extend(self.date.iter().map(|date| Cause::NoDate { column: date.clone() }));
        if !pairs.is_empty() {
            let names = |shape: &Shape, place: &dyn Fn(&Pair) -> usize| -> Vec<String> {
                pairs.iter().map(|pair| shape.columns()[place(pair)].name.clone()).collect()
            };
            of_events.push(Cause::NoKeyMatches {
                columns: names(events, &|pair| pair.of_events),
                of_windows: names(windows, &|pair| pair.of_windows),
            });
        }
        let of_windows = reversed(&window_bounds);
        let reconciling = Reconciling::new(context, events, windows);
        Ok(WithinPlan {
            step: self.step(),
            windows_step: format!("windows {}", self.window),
            near: in_setting("nearest-to", || near)?,
            brought: match self.keep {
                Keep::Matched | Keep::EveryEvent => self.brought(&pairs, events, windows)?,
                Keep::StrayEvents | Keep::EmptyWindows => Vec::new(),
            },
            pairs,
            point: self.interval.is_none(),
            event_bounds,
            window_bounds,
            keep: self.keep,
            pick: self.pick,
            end_day: self.end_day,
            open_ends: self.open_ends,
            never_ends: self.never_ends.clone(),
            most_rows: self.most_rows,
            events_accounting: Accounting::prepare(events, &reconciling.events)?
                .warning_of(of_events),
            windows_accounting: Accounting::prepare(windows, &reconciling.windows)?
                .warning_of(of_windows),
        })
    }

    /// Checks everything that can be wrong without the data, and returns the known columns of the
    /// result.
    pub fn check(&self, events: &Shape, windows: &Shape) -> Result<Shape> {
        self.prepare(events, windows, &Context::new()).map(|plan| plan.known_columns().clone())
    }

    /// Applies the operation to events and windows, without an as-of date and with days of UTC.
    ///
    /// Errors: the settings do not fit the tables; the data cannot be used.
    pub fn apply(&self, events: &Table, windows: &Table) -> Result<Outcome> {
        self.apply_with(events, windows, &Context::new())
    }

    /// Applies the operation to events and windows in a context.
    ///
    /// Errors: the settings do not fit the tables; the data cannot be used.
    pub fn apply_with(
        &self,
        events: &Table,
        windows: &Table,
        context: &Context,
    ) -> Result<Outcome> {
        self.prepare_for(events, windows, context)?.apply(&[events, windows])
    }

    /// Applies the operation and delivers the result in batches. The table of the outcome has no
    /// rows.
    ///
    /// Errors: as for [`apply_with`](Within::apply_with), and those of the sink.
    pub fn apply_into(
        &self,
        events: &Table,
        windows: &Table,
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        self.prepare_for(events, windows, context)?.apply_into(&[events, windows], sink)
    }

    /// Prepares the operation for two tables. Errors name the cells that cause them.
    ///
    /// Errors: those of [`prepare`](Within::prepare).
    pub fn prepare_for(&self, events: &Table, windows: &Table, context: &Context) -> Result<Plan> {
        let of_events = |error: &Error| matches!(error.setting(), Some("date" | "interval"));
        self.prepare(&events.shape(), &windows.shape(), context).map_err(|error| {
            let table = if of_events(&error) { events } else { windows };
            keys::with_examples(table.explained(error), events, windows)
        })
    }
}

/// The join, with its columns resolved.
struct WithinPlan {
    step: String,
    windows_step: String,
    pairs: Vec<Pair>,
    /// Whether events are points in time.
    point: bool,
    event_bounds: PlacedWindow,
    window_bounds: PlacedWindow,
    /// The column of dates of the windows that `nearest` measures from.
    near: Option<usize>,
    /// The columns of the windows to add.
    brought: Vec<Named>,
    keep: Keep,
    pick: Pick,
    end_day: EndDay,
    open_ends: OpenEnds,
    never_ends: Vec<Day>,
    most_rows: u64,
    events_accounting: Accounting,
    windows_accounting: Accounting,
}

impl WithinPlan {
    fn division(&self) -> Division {
        let of_events = self.pairs.iter().map(|pair| pair.of_events).collect();
        let of_windows = self.pairs.iter().map(|pair| pair.of_windows).collect();
        let division = ByEntity {
            keys: vec![of_events, of_windows],
            folded: true,
            missing_is_a_key: false,
            date: None,
            order: ResultOrder::Rows(usize::from(self.keep == Keep::EmptyWindows)),
        };
        // Without keys, every window may contain every event.
        if self.pairs.is_empty() { Division::Beside } else { Division::Entities(division) }
    }

    fn result(
        &self,
        [events, windows]: [&Table; 2],
        piece: Option<PieceOfEvents<'_>>,
        context: &Context,
        make: &mut Make<'_>,
    ) -> Result<Outcome> {
        if windows.rows() >= MOST_WINDOWS {
            return Err(Error::TableTooLong { rows: windows.rows() });
        }
        let columns = TickColumns::new(self, events, windows);
        let clock = columns.clock(&context.zone);
        let join = Join { within: self, events, windows, context, columns: &columns };
        match clock.unit {
            TickUnit::Days => join.answer::<i32>(clock, piece, make),
            TickUnit::Instants | TickUnit::Readings => join.answer::<i64>(clock, piece, make),
        }
    }
}

impl plan::Beside for WithinPlan {
    fn begin(self: Arc<Self>, windows: Table) -> Box<dyn Pieces> {
        let used = BooleanBuffer::new_unset(windows.rows());
        Box::new(Beside { plan: self, windows, used })
    }
}

impl Apply for WithinPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        self.result([tables[0], tables[1]], None, context, &mut |pairs| pairs.whole(context))
    }

    fn apply_into(
        &self,
        tables: &[&Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        if matches!(self.keep, Keep::Matched | Keep::EveryEvent) {
            let tables = [tables[0], tables[1]];
            return self.result(tables, None, context, &mut |pairs| pairs.in_batches(sink));
        }
        handed_over(self.apply(tables, context)?, sink)
    }
}

/// A join without keys of one piece of the events after the other with all windows.
struct Beside {
    plan: Arc<WithinPlan>,
    windows: Table,
    /// The windows with an event so far.
    used: BooleanBuffer,
}

impl Beside {
    fn result(
        &mut self,
        events: &Table,
        are_last: bool,
        context: &Context,
        make: &mut Make<'_>,
    ) -> Result<Outcome> {
        let piece = PieceOfEvents { used: &mut self.used, are_last };
        self.plan.result([events, &self.windows], Some(piece), context, make)
    }
}

impl Pieces for Beside {
    fn take(&mut self, events: &Table, are_last: bool, context: &Context) -> Result<Outcome> {
        self.result(events, are_last, context, &mut |pairs| pairs.whole(context))
    }

    fn take_into(
        &mut self,
        events: &Table,
        are_last: bool,
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        if matches!(self.plan.keep, Keep::Matched | Keep::EveryEvent) {
            return self.result(events, are_last, context, &mut |pairs| pairs.in_batches(sink));
        }
        handed_over(self.take(events, are_last, context)?, sink)
    }
}

/// A name for the result that no column of the events has: with a suffix if it is taken.
fn clash_free(named: Named, events: &Shape, suffix: &str) -> Named {
    let clashes = named.shown_as == named.column && events.find(&named.column).is_ok();
    let shown_as =
        if clashes { format!("{}_{suffix}", named.column) } else { named.shown_as.clone() };
    Named { shown_as, ..named }
}

#[cfg(test)]
mod tests;
