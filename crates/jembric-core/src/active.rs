//! [`Active`]: intervals turned into the periods in which they are active, or counted per period, or looked up on a day.
//!
//! `intervals` settles what the two columns mean; `active/rows` makes a row for each record and period, in batches;
//! `active/counts` counts by a sweep over starts and ends, without those rows.

mod counts;
mod rows;

use crate::{
    calendar::{Day, Grain, Periods, Range},
    error::{Error, Result},
    intervals::{
        END_DAY, EndDay, Fate, Intervals, NEVER_ENDS, OPEN_ENDS, OpenEnds, Rules, check_grain,
        told_of_intervals,
    },
    ledger::{Fates, Ledger, Outcome, Reason, Warning},
    operation::{Context, Operation, Setting, Sink, Takes, called_alone, told_in_lists},
    rows::check_reconciled,
    shape::{Shape, Type},
    table::Table,
};
use arrow_buffer::BooleanBuffer;
use rows::Expansion;
use serde::{Deserialize, Serialize};

/// The most rows that an answer may have, if not said otherwise.
pub(crate) const MOST_ROWS: u64 = 200_000_000;

/// In which periods each record is active, from its start to its end.
///
/// * As it is: a row for each record and period in which it is active: all columns, then the period, in a column named after
///   the grain, then `active_days` where the grain is longer than a day, then the shares.
/// * [`count`](Active::count): a row for each period (and group), every period present: `active` (at any time in the period),
///   `started`, `ended` (the last active day lies in it; open intervals and those that go on beyond the range have not
///   ended), `active_at_end`, `most_at_once`, `active_days` (`active_hours` of hours), and `sum_COL` over the active records.
/// * [`on`](Active::on): the records that are active on a day, as they are.
///
/// A share is the part of a measure that falls to a period by its active days; the shares of a record add up to its measure
/// exactly (whole numbers are shared to two places). With a range, shares of what lies outside are not shown.
///
/// Moments are cut into days of [`Context::zone`]; for hours, the hour at whose very beginning a moment ends does not count.
/// Set aside: rows without a start, and rows whose end is before their start. Dropped: rows outside the range, open ones if
/// so asked, open ones that start after the as-of date, and those that have no active day because their end day is exclusive.
///
/// Errors: a column is missing or holds no dates; periods finer than a column's own; open ends that are refused; a share or
/// sum of no numbers, a sum of an infinite one; more rows than allowed, told before any is made; a name that is taken. Costs: rows, one write of the
/// answer; counts, a pass over the intervals and one over all periods (with groups, a sort of each group's starts and ends).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Active {
    /// The column of starts.
    pub start: String,
    /// The column of ends.
    pub end: String,
    /// The size of the periods.
    #[serde(default = "day")]
    pub grain: Grain,
    /// Only these days are looked at.
    #[serde(default)]
    pub range: Option<Range>,
    /// Whether the end day is still active.
    #[serde(default)]
    pub end_day: EndDay,
    /// What becomes of intervals without an end.
    #[serde(default)]
    pub open_ends: OpenEnds,
    /// End dates that mean there is no end.
    #[serde(default)]
    pub never_ends: Vec<Day>,
    /// Measures that are split over the periods by active days.
    #[serde(default)]
    pub share: Vec<String>,
    /// Count per period instead.
    #[serde(default)]
    pub count: bool,
    /// Count apart for each of these.
    #[serde(default)]
    pub per: Vec<String>,
    /// Measures summed over the active records, when counting.
    #[serde(default)]
    pub sum: Vec<String>,
    /// The records active on this day instead.
    #[serde(default)]
    pub on: Option<Day>,
    /// The name of the period's column.
    #[serde(default)]
    pub name: Option<String>,
    /// How many rows the answer may have.
    #[serde(default = "most_rows")]
    pub most_rows: u64,
}

called_alone!(Active);
told_in_lists!(Active {
    share: "Split these measures over the periods by active days.",
    per: "Count apart for each of these.",
    sum: "Sum these measures over the active records, when counting.",
});
told_of_intervals!(Active);

/// What to do where an answer would be too long.
const TOO_LONG: &str =
    "Ask for a longer grain or a range, name the dates that mean there is no end (`--never-ends 9999-12-31`)";

fn day() -> Grain {
    Grain::Day
}

pub(crate) fn most_rows() -> u64 {
    MOST_ROWS
}

impl Active {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "active";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str =
        "Which days, weeks or months was it active, and how many were active at once?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new("start", Takes::Column, "The column of starts").required(),
        Setting::new("end", Takes::Column, "The column of ends").required(),
        Setting::new(
            "grain",
            Takes::Text("GRAIN"),
            "The size of the periods: hour (of moments), day, week, month, quarter or year [default: day]",
        ),
        Setting::new(
            "range",
            Takes::Text("A..B"),
            "Look only at these days or whole periods: 2025-01-01..2025-03-31, 2025-01..2025-06",
        ),
        END_DAY,
        OPEN_ENDS,
        NEVER_ENDS,
        Setting::new("share", Takes::Columns, "Split these measures over the periods by active days"),
        Setting::new(
            "count",
            Takes::Yes,
            "Count per period instead: active, started, ended, active at the end, most at once, active days",
        ),
        Setting::new("per", Takes::Columns, "Count apart for each of these, with --count"),
        Setting::new("sum", Takes::Columns, "Sum these measures over the active records, with --count"),
        Setting::new("on", Takes::Text("DATE"), "The records active on this day instead, as they are"),
        Setting::new("name", Takes::Name, "The name of the period's column [default: day, by the grain]"),
        Setting::new("most-rows", Takes::Number, "How many rows the answer may have [default: 200000000]"),
    ];

    /// Intervals from these columns, by days.
    pub fn new(start: impl Into<String>, end: impl Into<String>) -> Active {
        Active {
            start: start.into(),
            end: end.into(),
            grain: Grain::Day,
            range: None,
            end_day: EndDay::Inclusive,
            open_ends: OpenEnds::AsOf,
            never_ends: Vec::new(),
            share: Vec::new(),
            count: false,
            per: Vec::new(),
            sum: Vec::new(),
            on: None,
            name: None,
            most_rows: MOST_ROWS,
        }
    }

    /// The size of the periods.
    pub fn grain(mut self, grain: Grain) -> Active {
        self.grain = grain;
        self
    }

    /// Look only at these days.
    pub fn range(mut self, range: Range) -> Active {
        self.range = Some(range);
        self
    }

    /// Count per period instead.
    pub fn count(mut self) -> Active {
        self.count = true;
        self
    }

    /// The records active on this day instead.
    pub fn on(mut self, day: Day) -> Active {
        self.on = Some(day);
        self
    }

    /// The name of the period's column.
    pub fn name(mut self, name: impl Into<String>) -> Active {
        self.name = Some(name.into());
        self
    }

    /// How many rows the answer may have.
    pub fn most_rows(mut self, rows: u64) -> Active {
        self.most_rows = rows;
        self
    }

    fn hours(&self) -> bool {
        self.grain == Grain::Hour && self.on.is_none()
    }

    fn periods(&self) -> Periods {
        self.grain.into()
    }

    fn period_name(&self) -> &str {
        self.name.as_deref().unwrap_or(self.grain.word())
    }

    /// What the periods' column holds, where the starts are points in time or not.
    fn period_type(&self, instants: bool) -> Type {
        if self.hours() { Type::Moment { instant: instants } } else { Type::Date(self.periods()) }
    }

    fn check_settings(&self) -> Result<()> {
        let refused =
            |setting, expected| Err(Error::Setting { setting, value: "given".to_owned(), expected });
        match (self.count, self.on) {
            (true, Some(_)) => refused("on", "either it or `count`"),
            (false, _) if !self.per.is_empty() => refused("per", "`count` beside it"),
            (false, _) if !self.sum.is_empty() => refused("sum", "`count` beside it"),
            (true, _) if !self.share.is_empty() => refused("share", "rows for each period, without `count`"),
            (_, Some(_)) if !self.share.is_empty() => refused("share", "rows for each period, without `on`"),
            (_, Some(_)) if self.range.is_some() => refused("range", "either it or `on`"),
            _ => Ok(()),
        }
    }

    fn intervals(&self, table: &Table, context: &Context) -> Result<Intervals> {
        for name in [&self.start, &self.end] {
            let grain = if self.on.is_some() { table.dates(name)?.periods().grain() } else { self.grain };
            check_grain(name, &table.dates(name)?, grain)?;
        }
        let rules = Rules {
            start: &self.start,
            end: &self.end,
            end_day: self.end_day,
            open_ends: self.open_ends,
            never_ends: &self.never_ends,
            range: self.range,
            hours: self.hours(),
        };
        Intervals::of(table, &rules, context)
    }

    fn step(&self) -> String {
        let Active { start, end, grain, .. } = self;
        let per = if self.per.is_empty() { String::new() } else { format!(" and {}", self.per.join(", ")) };
        match (self.count, self.on) {
            (true, _) => format!("active from {start} to {end}, counted per {grain}{per}"),
            (_, Some(day)) => format!("active from {start} to {end} on {day}"),
            _ => format!("active from {start} to {end}, by {grain}"),
        }
    }

    /// The ledger, and the rows that could not be used.
    fn account(
        &self,
        intervals: &Intervals,
        kept: Option<BooleanBuffer>,
        table: &Table,
        context: &Context,
    ) -> Result<(Ledger, Table)> {
        let (active, mut dropped, set_aside) = intervals.masks();
        let kept = match kept {
            None => active,
            Some(kept) => {
                dropped.push((Reason::NotActiveThen, &active & &!&kept));
                kept
            }
        };
        let open = intervals.closed_in(&kept);
        let (mut ledger, aside) = Fates { kept, dropped, set_aside }.account(self.step(), table, context)?;
        ledger.as_of = intervals.closed_on;
        ledger.view = self.range;
        let cut = self.range.and_then(|range| Warning::of_periods_in_part(range, self.periods(), None));
        ledger.warnings.extend(cut.filter(|_| self.on.is_none()));
        ledger.zone = Some(context.zone.to_string()).filter(|_| intervals.instants);
        ledger.note("open", open);
        Ok((ledger, aside))
    }
}

impl Operation for Active {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings()?;
        check_reconciled(shape, context)?;
        shape.expect_dates(&self.start)?;
        shape.expect_dates(&self.end)?;
        let instants = shape.find(&self.start)?.kind == Some(Type::Moment { instant: true });
        if self.on.is_some() {
            return Ok(shape.clone());
        }
        if self.count {
            return counts::check(self, shape, instants);
        }
        let mut shape = shape.with(self.period_name(), self.period_type(instants))?;
        if self.grain > Grain::Day {
            shape = shape.with("active_days", Type::Integer)?;
        }
        for named in shape.named(&self.share)? {
            shape.expect_numbers(&named.column)?;
            shape = shape.with(&rows::share_name(&named), Type::Float)?;
        }
        Ok(shape)
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let intervals = self.intervals(table, context)?;
        if let Some(day) = self.on {
            let is_active = |row: usize| {
                let active = intervals.fates[row] == Fate::Active;
                active && intervals.first[row] <= day.number() && day.number() <= intervals.last[row]
            };
            let kept = BooleanBuffer::collect_bool(table.rows(), is_active);
            let (ledger, set_aside) = self.account(&intervals, Some(kept.clone()), table, context)?;
            return Ok(Outcome { table: table.filter(&kept)?, ledger, set_aside });
        }
        let (mut ledger, set_aside) = self.account(&intervals, None, table, context)?;
        if self.count {
            let answer = counts::counted(self, &intervals, table, context, &mut ledger)?;
            return Ok(Outcome { table: answer, ledger, set_aside });
        }
        let expansion = Expansion::new(self, &intervals, table)?;
        ledger.counts.insert(0, ("rows out".into(), expansion.rows()));
        if expansion.rows() >= u32::MAX.into() {
            return Err(Error::TooManyRows { rows: expansion.rows() as usize });
        }
        let row_bytes = 16 + table.row_bytes() + 16 * self.share.len() as u64;
        context.expect_room(expansion.rows(), row_bytes, TOO_LONG)?;
        Ok(Outcome { table: expansion.whole()?, ledger, set_aside })
    }

    fn apply_into(&self, table: &Table, context: &Context, sink: &mut Sink<'_>) -> Result<Outcome> {
        if self.count || self.on.is_some() {
            let outcome = self.apply_with(table, context)?;
            sink(&outcome.table).map_err(Error::Sink)?;
            return Ok(Outcome { table: outcome.table.head(0), ..outcome });
        }
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let intervals = self.intervals(table, context)?;
        let (mut ledger, set_aside) = self.account(&intervals, None, table, context)?;
        let expansion = Expansion::new(self, &intervals, table)?;
        ledger.counts.insert(0, ("rows out".into(), expansion.rows()));
        let none = expansion.in_batches(sink)?;
        Ok(Outcome { table: none, ledger, set_aside })
    }
}

#[cfg(test)]
mod tests;
