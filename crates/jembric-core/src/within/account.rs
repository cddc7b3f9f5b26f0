//! [`Join`]: runs the search on both tables, and makes the result and the account of both sides.

use super::{
    Keep, Pick, WithinPlan, clash_free,
    index::Index,
    keys,
    pairs::{Pairs, Strays},
    search::{Found, Meeting, Search},
    ticks::{Clock, Tick, TickColumns},
};
use crate::{
    context::Context,
    entities::{Entities, Missing},
    error::{Error, Result, Smaller},
    exact::ExactSum,
    intervals::{Reasons, with_no_key},
    ledger::{Ledger, Outcome, Reason, RowMasks, Warning},
    ordering::WholeRows,
    shape::Shape,
    table::Table,
};
use arrow_array::{Array, StringViewArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use std::sync::Arc;

/// Makes the pairs, and the sums over them.
pub(super) type Make<'a> = dyn FnMut(&Pairs<'_>) -> Result<(Table, Vec<ExactSum>)> + 'a;

/// The column with the reason why an event is in no window.
pub(super) const STRAY_BECAUSE: &str = "stray_because";

/// The side of each column to reconcile.
pub(super) struct Reconciling {
    pub(super) events: Context,
    pub(super) windows: Context,
}

impl Reconciling {
    /// A column that neither side has is looked up among the events, for the error.
    pub(super) fn new(context: &Context, events: &Shape, windows: &Shape) -> Reconciling {
        let of_events = |name: &&String| events.find(name).is_ok() || windows.find(name).is_err();
        let of_windows = |name: &&String| windows.find(name).is_ok();
        let with = |names: Vec<String>| Context { reconcile: names, ..context.clone() };
        Reconciling {
            events: with(context.reconcile.iter().filter(of_events).cloned().collect()),
            windows: with(context.reconcile.iter().filter(of_windows).cloned().collect()),
        }
    }
}

/// The tables to join.
pub(super) struct Join<'a> {
    pub(super) within: &'a WithinPlan,
    pub(super) events: &'a Table,
    pub(super) windows: &'a Table,
    pub(super) context: &'a Context,
    pub(super) columns: &'a TickColumns,
}

/// The events are a piece of all. The windows are accounted for with the last piece.
pub(super) struct PieceOfEvents<'a> {
    /// The windows with an event in any piece so far.
    pub(super) used: &'a mut BooleanBuffer,
    pub(super) are_last: bool,
}

impl Join<'_> {
    /// The result and its ledger, in one unit of time.
    pub(super) fn answer<T: Tick>(
        &self,
        clock: Clock<'_>,
        piece: Option<PieceOfEvents<'_>>,
        make: &mut Make<'_>,
    ) -> Result<Outcome> {
        let Join { within, events, windows, context, columns } = *self;
        let pairs = &within.pairs;
        let numbered = keys::number(pairs, events, windows, Missing::NoEntity)?;
        let (of_events, of_windows) = numbered.ids().split_at(events.rows());
        let keyed =
            |ids: &[u32]| BooleanBuffer::collect_bool(ids.len(), |row| ids[row] != Entities::NONE);

        let mut their_time = columns.windows::<T>(within, clock, windows, context)?;
        let window_keyed = keyed(of_windows);
        their_time.usable = &their_time.usable & &window_keyed;
        let order = WholeRows::new(windows)?;
        let by_row = within.pick == Pick::All;
        let index = Index::new(of_windows, numbered.count(), &their_time, |one, other| {
            let starts = their_time.start(one).cmp(&their_time.start(other));
            starts.then_with(|| if by_row { one.cmp(&other) } else { order.compare(one, other) })
        });
        let near = within.near.map(|place| {
            let dates = windows.dates_at(place);
            let there = dates
                .nulls()
                .map_or_else(|| BooleanBuffer::new_set(windows.rows()), NullBuffer::into_inner);
            (clock.points(&dates), there)
        });
        let search = Search {
            within,
            clock,
            index,
            keys: of_events,
            events: columns.events::<T>(within, clock, events, context)?,
            windows: their_time,
            near,
            order,
        };
        let mut found = search.found(Entities::NONE, windows.rows());
        let mut accounts_for_windows = true;
        if let Some(PieceOfEvents { used, are_last }) = piece {
            *used = &*used | &found.used;
            found.used = used.clone();
            accounts_for_windows = are_last;
        }
        let mut have_windows = vec![false; numbered.count()];
        for &key in of_windows.iter().filter(|&&key| key != Entities::NONE) {
            have_windows[key as usize] = true;
        }
        let strays = Strays::find(&found.of_events, of_events, &have_windows);
        let nearly = keys::nearly(
            pairs,
            events,
            windows,
            numbered.ids(),
            strays.no_such_key.set_indices(),
            0..windows.rows(),
        )?;

        let event_keyed = keyed(of_events);
        let account = Account {
            join: self,
            found: &found,
            strays: &strays,
            event_fates: (
                search.events.dropped.clone(),
                search.events.set_aside.clone(),
                event_keyed,
            ),
            window_fates: (
                search.windows.dropped.clone(),
                search.windows.set_aside.clone(),
                window_keyed,
            ),
            nearly,
            accounts_for_windows,
            closed: search.events.closed || search.windows.closed,
        };
        account.outcome(&search, make)
    }
}

/// Makes the result and its ledger from the search.
struct Account<'a> {
    join: &'a Join<'a>,
    found: &'a Found,
    strays: &'a Strays,
    /// The rows that were dropped and set aside for their dates, and those that have a key.
    event_fates: (Reasons, Reasons, BooleanBuffer),
    window_fates: (Reasons, Reasons, BooleanBuffer),
    nearly: Option<Warning>,
    accounts_for_windows: bool,
    /// Whether missing ends were replaced by the as-of date.
    closed: bool,
}

impl Account<'_> {
    /// Makes the pairs, and completes the ledgers of both sides.
    fn paired(
        &self,
        meeting: &dyn Meeting,
        make: &mut Make<'_>,
        of_events: &mut Ledger,
        of_windows: &mut Ledger,
    ) -> Result<Table> {
        let Join { within, events, windows, .. } = *self.join;
        let several: u64 = self.found.several.iter().map(|(_, count)| u64::from(*count)).sum();
        let several_events = self.found.several.len() as u64;
        let matched = self.strays.matched.count_set_bits() as u64;
        let all = if within.keep == Keep::Matched { matched } else { events.rows() as u64 };
        let rows = all - several_events + several;
        if rows > within.most_rows {
            let widest =
                self.found.several.iter().max_by_key(|(_, count)| *count).map(|(event, count)| {
                    let place = events.place(*event as usize);
                    format!("{place} of the events alone falls in {count} windows")
                });
            let advice = Smaller::FewerPairs;
            return Err(Error::TooManyRows { rows, most: within.most_rows, widest, advice });
        }
        let brought = &within.brought;
        // The sums over the result, for its columns that are to be reconciled.
        let width = events.columns().len();
        let event_sums: Vec<Option<usize>> =
            within.events_accounting.reconcile.iter().map(|(_, place)| Some(*place)).collect();
        let shown = |place: usize| brought.iter().position(|named| named.place == place);
        let window_sums: Vec<Option<usize>> = within
            .windows_accounting
            .reconcile
            .iter()
            .map(|(_, place)| Some(width + shown(*place)?))
            .collect();
        let reconcile: Vec<usize> =
            event_sums.iter().chain(&window_sums).flatten().copied().collect();
        let (table, sums) = make(&Pairs {
            rows,
            events,
            windows,
            brought,
            keep: within.keep,
            found: self.found,
            meeting,
            overlaps: !within.point,
            reconcile: &reconcile,
        })?;
        let mut sums = sums.into_iter();
        for (ledger, names) in [(&mut *of_events, event_sums), (of_windows, window_sums)] {
            for (reconciled, name) in ledger.reconciled.iter_mut().zip(names) {
                reconciled.in_answer = name.and_then(|_| sums.next());
            }
        }
        of_events.counts.insert(0, ("pairs".into(), matched - several_events + several));
        Ok(table)
    }

    fn outcome(&self, meeting: &dyn Meeting, make: &mut Make<'_>) -> Result<Outcome> {
        let Join { within, windows, context, columns, .. } = *self.join;
        let (mut of_events, events_aside) = self.of_events()?;
        let (mut of_windows, windows_aside) = self.of_windows()?;
        let pairs_made = matches!(within.keep, Keep::Matched | Keep::EveryEvent);
        let table = match within.keep {
            Keep::StrayEvents => self.strays()?,
            Keep::EmptyWindows => {
                let empty = self.window_masks().0;
                if self.accounts_for_windows { windows.filter(&empty)? } else { windows.emptied() }
            }
            Keep::Matched | Keep::EveryEvent => {
                self.paired(meeting, make, &mut of_events, &mut of_windows)?
            }
        };
        let (repeated, windows_each) = self.found.repeated;
        if pairs_made && within.pick == Pick::All && repeated > 0 {
            of_events.warnings.push(Warning::Repeated { events: repeated, pairs: windows_each });
        }
        of_events.note("events in several windows", repeated);
        let which = if within.pick == Pick::Last { "greatest" } else { "least" };
        of_events.note(format!("ties decided by the {which} row"), self.found.tied);
        of_events.warnings.extend(self.nearly.clone());
        let (mut ledger, other) = match within.keep {
            Keep::EmptyWindows => (of_windows, of_events),
            _ => (of_events, of_windows),
        };
        ledger.as_of = if self.closed { context.as_of } else { None };
        ledger.zone = columns.cut_instants().then(|| context.zone.to_string());
        ledger.other_side = Some(Box::new(other));
        Ok(Outcome { table, ledger, set_aside: both_aside(events_aside, windows_aside, "window")? })
    }

    /// Why an event is in no window: there is none, none is usable, or it is outside all.
    fn reasons(&self) -> [Reason; 3] {
        if self.join.within.pairs.is_empty() {
            return [Reason::NoWindow, Reason::NoUsableWindow, Reason::OutsideAllWindows];
        }
        [Reason::NoWindowForItsKey, Reason::NoUsableWindowForItsKey, Reason::OutsideEveryWindow]
    }

    /// The events in no window, with the reason.
    fn strays(&self) -> Result<Table> {
        let Strays { no_usable, outside, .. } = self.strays;
        let strays = self.strays.all();
        let [none, none_usable, elsewhere] = self.reasons();
        let because: StringViewArray = strays
            .set_indices()
            .map(|event| {
                let reason = match () {
                    () if outside.value(event) => elsewhere,
                    () if no_usable.value(event) => none_usable,
                    () => none,
                };
                Some(reason.text())
            })
            .collect();
        self.join.events.filter(&strays)?.with_column(STRAY_BECAUSE, Arc::new(because))
    }

    fn of_events(&self) -> Result<(Ledger, Table)> {
        let Join { within, events, .. } = *self.join;
        let Strays { no_such_key, no_usable, outside, matched } = self.strays;
        let (dropped, set_aside, keyed) = &self.event_fates;
        let (mut dropped, mut set_aside) = (dropped.clone(), set_aside.clone());
        with_no_key(&mut dropped, &mut set_aside, keyed);
        let kept = if within.keep == Keep::StrayEvents {
            dropped.push((Reason::InAWindow, matched.clone()));
            self.strays.all()
        } else {
            let [none, none_usable, elsewhere] = self.reasons();
            dropped.push((none, no_such_key.clone()));
            dropped.push((none_usable, no_usable.clone()));
            dropped.push((elsewhere, outside.clone()));
            matched.clone()
        };
        let fates = RowMasks { kept, dropped, set_aside };
        let accounting = &within.events_accounting;
        let step = within.step.clone();
        match within.keep {
            Keep::EveryEvent => fates.account_of_all_kept(step, events, accounting),
            Keep::EmptyWindows => fates.account("events".to_owned(), events, accounting),
            Keep::Matched | Keep::StrayEvents => fates.account(step, events, accounting),
        }
    }

    /// The usable windows without an event, and those with one.
    fn window_masks(&self) -> (BooleanBuffer, BooleanBuffer) {
        let (dropped, set_aside, keyed) = &self.window_fates;
        let unusable = dropped.iter().chain(set_aside);
        let usable = unusable.fold(keyed.clone(), |usable, (_, rows)| &usable & &!rows);
        (&usable & &!&self.found.used, self.found.used.clone())
    }

    fn of_windows(&self) -> Result<(Ledger, Table)> {
        let Join { within, windows, .. } = *self.join;
        let (empty, used) = self.window_masks();
        let (dropped, set_aside, keyed) = &self.window_fates;
        let (mut dropped, mut set_aside) = (dropped.clone(), set_aside.clone());
        with_no_key(&mut dropped, &mut set_aside, keyed);
        let (step, kept, other) = match within.keep {
            Keep::EmptyWindows => (within.step.clone(), empty, (Reason::WithAnEvent, used)),
            _ => (within.windows_step.clone(), used, (Reason::WithoutAnEvent, empty)),
        };
        dropped.push(other);
        let fates = RowMasks { kept, dropped, set_aside };
        if self.accounts_for_windows {
            fates.account(step, windows, &within.windows_accounting)
        } else {
            fates.of_no_row().account(step, &windows.emptied(), &within.windows_accounting)
        }
    }
}

/// The rows of both sides that were set aside, with the columns of both. A name of the second side
/// that is taken gets a suffix.
pub(crate) fn both_aside(one: Table, other: Table, suffix: &str) -> Result<Table> {
    let because = [&one, &other].map(|table| table.columns().last().cloned());
    let [Some(one_because), Some(other_because)] = because else { return Ok(one) };
    let name = one.names().last().unwrap_or_default().to_owned();
    let (one, other) = (one.without(&name)?, other.without(&name)?);
    let shape = one.shape();
    let named = other.all_named().into_iter().map(|named| clash_free(named, &shape, suffix));
    let other = other.select(&named.collect::<Vec<_>>())?;
    // The rows of one side are missing in the columns of the other.
    let none = |rows: usize| std::iter::repeat_n(None, rows);
    let all = |rows: usize| (0..rows as u32).map(Some);
    let (of_one, of_other) = (one_because.len(), other_because.len());
    let one = one.take(&all(of_one).chain(none(of_other)).collect())?;
    let other = other.take(&none(of_one).chain(all(of_other)).collect())?;
    let because = arrow_select::concat::concat(&[&*one_because, &*other_because])?;
    Table::of_known(one.fields().chain(other.fields()))?.with_column(&name, because)
}
