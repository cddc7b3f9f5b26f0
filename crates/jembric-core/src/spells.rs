//! [`Spells`]: unbroken stretches of time, made of intervals that overlap or touch or of dated states that do not change, and
//! the idle time between them.
//!
//! Intervals are dealt out to their entities, sorted by their starts within each, and joined in one scan; states are taken
//! from the timeline. Entities are worked side by side.

use crate::{
    calendar::{Day, Periods},
    dates::Dates,
    entities::{Entities, Missing},
    error::{Error, Result},
    intervals::{
        END_DAY, EndDay, Fate, Intervals, NEVER_ENDS, OPEN_ENDS, OpenEnds, Rules, told_of_intervals,
        with_no_key,
    },
    ledger::{Fates, Outcome, Reason},
    operation::{Context, Operation, Setting, Takes, called_alone, told_in_lists},
    rows::{WholeRows, check_reconciled, entities_in_order},
    shape::{Named, Shape, Type},
    table::{Table, period_field},
    timeline::{Dealt, Timeline},
};
use arrow_array::{ArrayRef, Date32Array, Int64Array, UInt32Array};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The unbroken spells of each entity: `per…, start, end, days, records`, in order of entity and start.
///
/// * Of intervals: those that overlap, touch, or leave a hole of at most [`join_gaps`](Spells::join_gaps) days become one
///   spell. [`idle`](Spells::idle) gives the holes between an entity's spells instead (`per…, start, end, days`). The end is
///   to be understood as that of the intervals: with exclusive end days it is the day after the last active one. A spell with an
///   open interval has no end; its days are counted up to the as-of date, without one to the newest date of both columns.
/// * Of dated states: each record holds until the day before the entity's next one, and neighbours with equal values are one
///   spell; the last has no end, and its days are those up to the as-of date, where that is given. Of several records on one
///   day the last moment counts; on one moment the greatest values do, and the ledger counts them.
///
/// Points in time are cut into days of [`Context::zone`]. Set aside: rows without a start or date, rows whose end is before
/// their start, rows that miss a key. Dropped: open intervals if so asked, states after the as-of date, intervals without an
/// active day.
///
/// Errors: a column is missing or holds no dates; open ends that are refused; settings of one kind with the other. Costs one
/// numbering of the entities, a random access a row, and n log n within an entity.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Spells {
    /// The columns that identify the entity; none: the whole table is one.
    #[serde(default)]
    pub per: Vec<String>,
    /// The column of starts.
    #[serde(default)]
    pub start: Option<String>,
    /// The column of ends.
    #[serde(default)]
    pub end: Option<String>,
    /// Instead of these: the column of dates of states.
    #[serde(default)]
    pub date: Option<String>,
    /// The columns that make the state.
    #[serde(default)]
    pub value: Vec<String>,
    /// Holes of so many days do not break a spell.
    #[serde(default)]
    pub join_gaps: u32,
    /// The holes between spells instead.
    #[serde(default)]
    pub idle: bool,
    /// Whether the end day is still active.
    #[serde(default)]
    pub end_day: EndDay,
    /// What becomes of intervals without an end.
    #[serde(default)]
    pub open_ends: OpenEnds,
    /// End dates that mean there is no end.
    #[serde(default)]
    pub never_ends: Vec<Day>,
}

called_alone!(Spells);
told_in_lists!(Spells { per: "The columns that identify the entity." });
told_of_intervals!(Spells);

impl Spells {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "spells";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "What are the unbroken spells, and the idle time between them?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "per",
            Takes::Columns,
            "The columns that identify the entity. Without them the whole table is one entity",
        ),
        Setting::new("start", Takes::Column, "The column of starts"),
        Setting::new("end", Takes::Column, "The column of ends"),
        Setting::new(
            "date",
            Takes::Column,
            "Instead of --start and --end: the column of dates of states, each of which holds until the next",
        ),
        Setting::new("value", Takes::Columns, "The columns that make the state, with --date"),
        Setting::new("join-gaps", Takes::Number, "Holes of at most so many days do not break a spell"),
        Setting::new("idle", Takes::Yes, "The holes between an entity's spells instead"),
        END_DAY,
        OPEN_ENDS,
        NEVER_ENDS,
    ];

    /// Of intervals from these columns.
    pub fn of_intervals(start: impl Into<String>, end: impl Into<String>) -> Spells {
        Spells { start: Some(start.into()), end: Some(end.into()), ..Spells::default() }
    }

    /// Of states: these columns' values from this date on.
    pub fn of_states<N: Into<String>>(date: impl Into<String>, value: impl IntoIterator<Item = N>) -> Spells {
        Spells {
            date: Some(date.into()),
            value: value.into_iter().map(Into::into).collect(),
            ..Spells::default()
        }
    }

    /// Holes of at most so many days do not break a spell.
    pub fn join_gaps(mut self, days: u32) -> Spells {
        self.join_gaps = days;
        self
    }

    /// The holes between spells instead.
    pub fn idle(mut self) -> Spells {
        self.idle = true;
        self
    }

    fn check_settings(&self) -> Result<()> {
        let error = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        let of_intervals = self.join_gaps > 0 || self.idle || self.end_day == EndDay::Exclusive;
        match (&self.start, &self.end, &self.date) {
            (Some(_), Some(_), None) if !self.value.is_empty() => error("value", "given", "`date` beside it"),
            (Some(_), Some(_), None) => Ok(()),
            (None, None, Some(_)) if self.value.is_empty() => {
                error("value", "not given", "the columns that make the state")
            }
            (None, None, Some(_))
                if of_intervals || self.open_ends != OpenEnds::AsOf || !self.never_ends.is_empty() =>
            {
                error(
                    "date",
                    "given",
                    "`join-gaps`, `idle`, `end-day`, `open-ends` and `never-ends` with `start` and `end` alone",
                )
            }
            (None, None, Some(_)) => Ok(()),
            (_, _, Some(_)) => error("date", "given", "either it or `start` and `end`"),
            (None, ..) => error("start", "not given", "the column of starts, or `date` and `value`"),
            (_, None, _) => error("end", "not given", "the column of ends"),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() { String::new() } else { format!(" per {}", self.per.join(", ")) };
        let what = if self.idle { "idle time between spells" } else { "spells" };
        match (&self.start, &self.end, &self.date) {
            (Some(start), Some(end), _) => {
                let gaps = if self.join_gaps > 0 {
                    format!(", gaps up to {} days joined", self.join_gaps)
                } else {
                    String::new()
                };
                format!("{what}{per} from {start} to {end}{gaps}")
            }
            _ => format!(
                "{what}{per} of {} by {}",
                self.value.join(", "),
                self.date.as_deref().unwrap_or_default()
            ),
        }
    }
}

/// Entities that a thread takes at a time.
const ENTITIES_A_THREAD: usize = 1 << 12;

/// A stretch of time of an entity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Spell {
    entity: u32,
    first: i32,
    last: i32,
    /// Whether one of its intervals has no end.
    open: bool,
    records: u32,
}

impl Operation for Spells {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings()?;
        check_reconciled(shape, context)?;
        let mut named = shape.named(&self.per)?;
        let mut kind = Type::DAYS;
        for name in [&self.start, &self.end, &self.date].into_iter().flatten() {
            shape.expect_dates(name)?;
        }
        if let Some(date) = &self.date {
            named.extend(shape.named(&self.value)?);
            kind = shape.find(date)?.kind.and_then(Type::periods).map_or(Type::DAYS, Type::Date);
        }
        let shape =
            shape.select(&named)?.with("start", kind)?.with("end", kind)?.with("days", Type::Integer)?;
        if self.idle { Ok(shape) } else { shape.with("records", Type::Integer) }
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let per = table.shape().named(&self.per)?;
        let keys: Vec<&str> = per.iter().map(|named| named.column.as_str()).collect();
        let entities = Entities::number(table, &keys, Missing::NoEntity)?;
        match &self.date {
            Some(date) => self.of_dated_states(table, date, &per, &entities, context),
            None => self.of_table_intervals(table, &per, &entities, context),
        }
    }
}

impl Spells {
    fn of_table_intervals(
        &self,
        table: &Table,
        per: &[Named],
        entities: &Entities,
        context: &Context,
    ) -> Result<Outcome> {
        let rules = Rules {
            start: self.start.as_deref().unwrap_or_default(),
            end: self.end.as_deref().unwrap_or_default(),
            end_day: self.end_day,
            open_ends: self.open_ends,
            never_ends: &self.never_ends,
            range: None,
            hours: false,
        };
        let intervals = Intervals::of(table, &rules, context)?;
        let all_active = intervals.all_active();
        let used = |row: usize| all_active || intervals.fates[row] == Fate::Active;
        let interval = |row: usize| (intervals.first[row], intervals.last[row], intervals.is_closed(row));
        let parts = Dealt::of(entities.ids(), entities.count(), used, interval);
        let order = self.order(table, per, entities)?;
        let spells: Vec<Spell> = order
            .par_chunks(ENTITIES_A_THREAD)
            .flat_map_iter(|entities| {
                let mut spells = Vec::new();
                let mut sorted = Vec::new();
                for &entity in entities {
                    sorted.clear();
                    sorted.extend_from_slice(parts.of_entity(entity));
                    self.join(entity as u32, &mut sorted, &mut spells);
                }
                spells
            })
            .collect();

        let (mut kept, mut dropped, mut set_aside) = intervals.masks();
        if let Some(keyed) = entities.rows_with_one() {
            kept = &kept & &keyed;
            with_no_key(&mut dropped, &mut set_aside, &keyed);
        }
        let open = intervals.closed_in(&kept);
        let (mut ledger, aside) = Fates { kept, dropped, set_aside }.account(self.step(), table, context)?;
        ledger
            .counts
            .insert(0, (if self.idle { "idle stretches" } else { "spells" }.into(), spells.len() as u64));
        ledger.note("open", open);
        ledger.as_of = intervals.closed_on;
        ledger.zone = Some(context.zone.to_string()).filter(|_| intervals.instants);

        // The end is to be read as those of the intervals are.
        let free = i32::from(self.end_day == EndDay::Exclusive);
        let first_rows = entities.first_rows();
        let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
        if !per.is_empty() {
            let rows =
                UInt32Array::from_iter_values(spells.iter().map(|spell| first_rows[spell.entity as usize]));
            columns.extend(table.select(per)?.take(&rows)?.fields());
        }
        let starts = Date32Array::from_iter_values(spells.iter().map(|spell| spell.first));
        // An open spell has no end; its days are counted up to the day on which it was closed.
        let end = |spell: &Spell| (!spell.open).then(|| (spell.last + free).min(Day::MAX.number()));
        let ends: Date32Array = spells.iter().map(end).collect();
        let integers = |name: &str, of: fn(&Spell) -> i64| {
            let array: ArrayRef = Arc::new(Int64Array::from_iter_values(spells.iter().map(of)));
            (Field::new(name, DataType::Int64, true), array)
        };
        columns.push((period_field("start", Periods::DAYS), Arc::new(starts)));
        columns.push((period_field("end", Periods::DAYS), Arc::new(ends)));
        columns.push(integers("days", |spell| i64::from(spell.last) - i64::from(spell.first) + 1));
        if !self.idle {
            columns.push(integers("records", |spell| spell.records.into()));
        }
        Ok(Outcome { table: Table::of_fields(columns)?, ledger, set_aside: aside })
    }

    fn order(&self, table: &Table, per: &[Named], entities: &Entities) -> Result<Vec<usize>> {
        if per.is_empty() {
            return Ok((0..entities.count()).collect());
        }
        let keys: Vec<&str> = per.iter().map(|named| named.column.as_str()).collect();
        entities_in_order(table, &keys, entities)
    }

    /// Adds the spells of an entity, or the holes between them.
    fn join(&self, entity: u32, intervals: &mut [(i32, i32, bool)], spells: &mut Vec<Spell>) {
        if !intervals.is_sorted() {
            intervals.sort_unstable();
        }
        let gap = i64::from(self.join_gaps) + 1;
        let mut intervals = intervals.iter().copied();
        let Some((first, last, open)) = intervals.next() else { return };
        let mut spell = Spell { entity, first, last, open, records: 1 };
        for (first, last, open) in intervals {
            if i64::from(first) <= i64::from(spell.last) + gap {
                spell.last = spell.last.max(last);
                spell.open |= open;
                spell.records += 1;
                continue;
            }
            let hole = Spell { entity, first: spell.last + 1, last: first - 1, open: false, records: 0 };
            spells.push(if self.idle { hole } else { spell });
            spell = Spell { entity, first, last, open, records: 1 };
        }
        if !self.idle {
            spells.push(spell);
        }
    }

    fn of_dated_states(
        &self,
        table: &Table,
        date: &str,
        per: &[Named],
        entities: &Entities,
        context: &Context,
    ) -> Result<Outcome> {
        let dates = table.dates(date)?;
        let value = table.shape().named(&self.value)?;
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        let keyed = entities.rows_with_one().unwrap_or_else(all);
        let usable = &dated & &keyed;
        let after = context.as_of.map_or_else(
            || BooleanBuffer::new_unset(table.rows()),
            |day| &dates.after(day, &context.zone) & &usable,
        );
        let kept = &usable & &!&after;
        let timeline = Timeline::new(entities, &dates, &kept);
        let states = States::of(table, &dates, &value, context)?;
        let order = self.order(table, per, entities)?;
        let by_entity: Vec<&[u32]> = timeline.entities().collect();
        let mut spells = Vec::new();
        let mut told = (0, 0);
        for entity in order {
            states.join(by_entity.get(entity).copied().unwrap_or_default(), &mut spells, &mut told);
        }

        let fates = Fates {
            kept,
            dropped: vec![(Reason::AfterAsOf, after)],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = fates.account(self.step(), table, context)?;
        ledger.as_of = context.as_of;
        ledger.zone = Some(context.zone.to_string()).filter(|_| dates.are_instants());
        ledger.counts.insert(0, ("spells".into(), spells.len() as u64));
        ledger.note("overtaken on the same day", told.0);
        ledger.note("tied, of which the greatest counts", told.1);

        let rows = UInt32Array::from_iter_values(spells.iter().map(|spell| spell.row));
        let mut columns: Vec<(Field, ArrayRef)> =
            table.select(&[per, &value].concat())?.take(&rows)?.fields().collect();
        let periods = dates.periods();
        let starts = Date32Array::from_iter_values(spells.iter().map(|spell| spell.first));
        columns.push((period_field("start", periods), Arc::new(starts)));
        columns.push((
            period_field("end", periods),
            Arc::new(spells.iter().map(|spell| spell.end).collect::<Date32Array>()),
        ));
        let days = spells.iter().map(|spell| {
            let last = match spell.end {
                Some(end) => Some(periods.of(Day::clamped(end)).last()),
                None => context.as_of,
            };
            last.map(|last| i64::from(last.number() - spell.first + 1))
        });
        columns.push((Field::new("days", DataType::Int64, true), Arc::new(days.collect::<Int64Array>())));
        let records = Int64Array::from_iter_values(spells.iter().map(|spell| spell.records));
        columns.push((Field::new("records", DataType::Int64, true), Arc::new(records)));
        Ok(Outcome { table: Table::of_fields(columns)?, ledger, set_aside })
    }
}

/// A stretch in which a state does not change.
struct StateSpell {
    /// A row with its key and values.
    row: u32,
    first: i32,
    end: Option<i32>,
    records: i64,
}

/// What the state of each row is, and on which day.
struct States {
    days: Vec<i32>,
    periods: Periods,
    /// Rows of equal values have equal numbers.
    values: Entities,
    compare: WholeRows,
    times: Vec<i64>,
}

impl States {
    fn of(table: &Table, dates: &Dates, value: &[Named], context: &Context) -> Result<States> {
        let names: Vec<&str> = value.iter().map(|named| named.column.as_str()).collect();
        let is_valid = dates.nulls();
        let valid = |row: usize| is_valid.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        Ok(States {
            days: dates.day_numbers(&context.zone).into_owned(),
            periods: dates.periods(),
            values: Entities::number(table, &names, Missing::IsAKey)?,
            compare: WholeRows::of(&table.select(value)?)?,
            times: (0..table.rows()).map(|row| if valid(row) { dates.sortable(row) } else { 0 }).collect(),
        })
    }

    /// Joins an entity's rows, which are in order of their dates, and counts those overtaken on their day and those tied.
    fn join(&self, rows: &[u32], spells: &mut Vec<StateSpell>, (overtaken, tied): &mut (u64, u64)) {
        let before = spells.len();
        for of_day in rows.chunk_by(|&a, &b| self.days[a as usize] == self.days[b as usize]) {
            let latest = of_day.iter().map(|&row| self.times[row as usize]).max().unwrap_or(0);
            let last: Vec<u32> =
                of_day.iter().copied().filter(|&row| self.times[row as usize] == latest).collect();
            let Some(row) = last
                .iter()
                .copied()
                .reduce(|best, row| if self.compare.compare(best, row).is_lt() { row } else { best })
            else {
                continue;
            };
            let value = self.values.ids()[row as usize];
            let others =
                last.iter().filter(|&&other| self.values.ids()[other as usize] != value).count() as u64;
            *overtaken += (of_day.len() - last.len()) as u64;
            *tied += others;
            let (first, records) = (self.days[row as usize], of_day.len() as i64);
            match spells[before..].last_mut() {
                Some(spell) if self.values.ids()[spell.row as usize] == value => spell.records += records,
                last => {
                    let ends = self.periods.of(Day::clamped(first)).plus(-1).first().number();
                    if let Some(spell) = last {
                        spell.end = Some(ends);
                    }
                    spells.push(StateSpell { row, first, end: None, records });
                }
            }
        }
    }
}

#[cfg(test)]
mod tests;
