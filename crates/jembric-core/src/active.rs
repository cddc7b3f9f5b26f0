//! [`Active`]: expands intervals into the periods in which they are active, counts them per period,
//! or selects those that are active on a date.
//!
//! `intervals` validates the start and end columns. `active/rows` makes a row for each record and
//! period, in batches. `active/counts` counts in a sweep over starts and ends, without those rows.

mod counts;
mod cutting;
mod events;
mod rows;
mod settled;

use crate::{
    calendar::{Day, Grain, Periods, Range},
    context::{Context, Sink},
    dates::check_grain,
    error::{Error, Result, Smaller, excludes, in_setting, needs},
    intervals::{EndDay, Intervals, OpenEnds, RowStatus, Rules},
    kind::Type,
    ledger::{Accounting, Cause, Ledger, Outcome, Reason, RowMasks, Warning},
    limits::MOST_ROWS,
    operation::{Operation, callable},
    plan::{
        Apply, Division, FoldBatches, InParts, Inputs, Kind, Overall, Plan, Prepared, Roles, State,
        handed_over,
    },
    role::Role,
    shape::{ColumnShape, Named, Shape},
    table::Table,
};
use arrow_buffer::BooleanBuffer;
use rows::Expansion;
use serde::Serialize;
use settled::CountsState;
use std::sync::Arc;

/// Lists the periods in which each record is active, from its start to its end.
///
/// * By default, the result has a row for each record and period in which it is active: all
///   columns, then the period in a column named after the grain, then `active_days` if the grain is
///   longer than a day, then the shares.
/// * [`count`](Active::count): a row for every period (and group), also if no record is active. The
///   columns are `active` (at any time in the period), `started`, `ended` (the last active day lies
///   in the period; open intervals and those that continue beyond the range have not ended),
///   `active_at_end`, `most_at_once`, `active_days` (`active_hours` for hours), and `sum_COL` over
///   the active records.
/// * [`on`](Active::on): the records that are active on a date, unchanged.
///
/// A share is the part of a measure that belongs to a period, in proportion to its active days. The
/// shares of a record add up to its measure exactly (whole numbers are shared to two decimal
/// places). With a range, shares outside it are not part of the result.
///
/// Moments are converted to days in [`Context::zone`]. With hours, an interval is not active in an
/// hour at whose very beginning it ends. Set aside: rows without a start, and rows that end before
/// they start. Dropped: rows outside the range, open intervals if `open-ends` is `drop`, open
/// intervals that start after the as-of date, and rows without an active day because the end day is
/// exclusive.
///
/// Errors: a column is missing or holds no dates; the periods are finer than a column's own;
/// missing ends are refused; a share or sum of a column that holds no numbers, or a sum of an
/// infinite number; more rows than the limit, checked before any row is made; a name that is taken.
/// Cost: for rows, one write of the result; for counts, one pass over the intervals and one over
/// the periods (with groups, also a sort of each group's starts and ends).
///
/// ```
/// use jembric_core::{Active, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let arrived: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001]));
/// let left: ArrayRef = Arc::new(Date32Array::from(vec![20_002, 20_001]));
/// let stays = Table::from_columns([("arrived", arrived), ("left", left)])?;
///
/// let days = Active::new("arrived", "left").apply(&stays)?;
/// assert_eq!(days.table.rows(), 4);
/// let counts = Active::new("arrived", "left").count().apply(&stays)?;
/// assert_eq!(counts.table.rows(), 3);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "active",
    does = "Expand intervals into the periods in which they are active, or count them per period",
    answers = "Which vessels were in port in each month, and how many at once?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Active {
    /// The column of start dates.
    #[setting(column, required)]
    pub start: String,
    /// The column of end dates.
    #[setting(column, required)]
    pub end: String,
    /// Use periods of this length: hour (for moments), day, week, month, quarter or year. The
    /// default is `day`.
    #[setting(text = "GRAIN", default = Grain::Day)]
    pub grain: Grain,
    /// Use only this range of days or whole periods: 2025-01-01..2025-03-31, 2025-01..2025-06.
    #[setting(text = "A..B")]
    pub range: Option<Range>,
    /// Count the end day as active, or not. The default is `inclusive`.
    #[setting(one_of)]
    pub end_day: EndDay,
    /// Let intervals without an end last until the as-of date (or the newest date of both columns),
    /// drop them, or refuse them. The default is `as-of`.
    #[setting(one_of)]
    pub open_ends: OpenEnds,
    /// Treat these end dates as missing, such as 9999-12-31.
    #[setting(texts = "DATE,…")]
    pub never_ends: Vec<Day>,
    /// Split these measures over the periods in proportion to active days.
    #[setting(columns)]
    pub share: Vec<String>,
    /// Count the active records of each period instead of listing them.
    #[setting(yes)]
    pub count: bool,
    /// Group the counts by these columns; needs `count`.
    #[setting(columns)]
    pub per: Vec<String>,
    /// Sum these measures over the active records; needs `count`.
    #[setting(columns)]
    pub sum: Vec<String>,
    /// Keep only the records that are active on this date.
    #[setting(text = "DATE")]
    pub on: Option<Day>,
    /// Name the column of periods. The default is `day`, `month` and so on, after the grain.
    #[setting(name)]
    pub name: Option<String>,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

callable!(Active);

impl Active {
    /// Intervals between two columns, by days.
    pub fn new(start: impl Into<String>, end: impl Into<String>) -> Active {
        Active { start: start.into(), end: end.into(), ..Active::default() }
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

    /// The type of the column of periods, which depends on whether the starts are points in time.
    fn period_type(&self, instants: bool) -> Type {
        if self.hours() { Type::Moment { instant: instants } } else { Type::Date(self.periods()) }
    }

    fn check_settings(&self) -> Result<()> {
        match (self.count, self.on) {
            (true, Some(_)) => excludes("on", "`count`"),
            (false, _) if !self.per.is_empty() => needs("per", "`count`"),
            (false, _) if !self.sum.is_empty() => needs("sum", "`count`"),
            (true, _) if !self.share.is_empty() => excludes("share", "`count`"),
            (_, Some(_)) if !self.share.is_empty() => excludes("share", "`on`"),
            (_, Some(_)) if self.range.is_some() => excludes("range", "`on`"),
            _ => Ok(()),
        }
    }

    fn step(&self) -> String {
        let Active { start, end, grain, .. } = self;
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" and {}", self.per.join(", "))
        };
        match (self.count, self.on) {
            (true, _) => format!("active from {start} to {end}, counted per {grain}{per}"),
            (_, Some(day)) => format!("active from {start} to {end} on {day}"),
            _ => format!("active from {start} to {end}, by {grain}"),
        }
    }
}

impl Active {
    /// The roles of the columns of the result.
    fn roles(&self, gives: &Gives) -> Roles {
        let roles = Roles::default();
        match gives {
            Gives::On(_) => {
                let is_exclusive = self.end_day == EndDay::Exclusive;
                let end = if is_exclusive { Role::ExclusiveEnd } else { Role::End };
                roles.with(&self.start, Role::Start).with(&self.end, end)
            }
            Gives::Counts { per, sum } => {
                let roles = roles.with(self.period_name(), Role::Period).keys(per);
                match &sum[..] {
                    [] => roles.with("active", Role::State),
                    sums => {
                        sums.iter().fold(roles, |roles, (name, _)| roles.with(name, Role::State))
                    }
                }
            }
            Gives::Rows { share } => {
                let roles = roles.with(self.period_name(), Role::Period);
                match &share[..] {
                    [] => roles.with("active_days", Role::Measure),
                    shares => shares.iter().fold(roles, |roles, named| {
                        roles.with(rows::share_name(named), Role::Measure)
                    }),
                }
            }
        }
    }
}

impl Active {
    /// The range, which takes in whole periods if both columns hold nothing finer than periods, and
    /// the warning that it does.
    fn whole_range(
        &self,
        shape: &Shape,
        start: usize,
        end: usize,
    ) -> (Option<Range>, Option<Warning>) {
        let periods = |place: usize| shape.kind(place).and_then(Type::periods);
        let own = periods(start).filter(|own| periods(end) == Some(*own));
        match self.range.zip(own) {
            Some((range, own)) => {
                let warning = Warning::of_whole_periods(range, &self.start, own);
                (Some(range.to_whole(own)), warning)
            }
            None => (self.range, None),
        }
    }
}

impl Operation for Active {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        self.check_settings()?;
        let accounting = Accounting::prepare(shape, context)?.warning_of([
            Cause::NoDate { column: self.start.clone() },
            Cause::Reversed { start: self.start.clone(), end: self.end.clone() },
            Cause::OutsideRange,
        ]);
        let start = in_setting("start", || shape.place_of_dates(&self.start))?;
        let end = in_setting("end", || shape.place_of_dates(&self.end))?;
        let instants = shape.kind(start) == Some(Type::Moment { instant: true });
        let mut uses = Inputs::passing(shape);
        // Without an as-of date, open intervals end on the newest date of all rows, so all rows are
        // needed together. The limit on rows also holds for all of them together.
        let mut kind = Kind::Divided(Division::Rows);
        let (gives, result) = match (self.on, self.count) {
            (Some(day), _) => {
                if context.as_of.is_some() {
                    kind = Kind::ByRow;
                }
                (Gives::On(day), shape.clone())
            }
            (None, true) => {
                let per = in_setting("per", || shape.named(&self.per))?;
                let sum = in_setting("sum", || self.sums(shape))?;
                let result = self.counts_shape(shape, &per, &sum, instants)?;
                uses = Inputs::new().using_named(&per).using(sum.iter().map(|(_, place)| *place));
                kind = Kind::OnePass(None);
                (Gives::Counts { per, sum }, result)
            }
            (None, false) => {
                let mut result = in_setting("name", || {
                    shape.with(self.period_name(), self.period_type(instants))
                })?;
                if self.grain > Grain::Day {
                    result = result.with("active_days", Type::Integer)?;
                }
                let share = in_setting("share", || shape.named(&self.share))?;
                for named in &share {
                    in_setting("share", || shape.expect_numbers(&named.column))?;
                    let kind = rows::share_type(shape.columns()[named.place].kind);
                    let column = ColumnShape::new(rows::share_name(named), kind);
                    result = in_setting("share", || result.with_shape(column))?;
                }
                uses = uses.using_named(&share);
                (Gives::Rows { share }, result)
            }
        };
        let (range, range_warning) = self.whole_range(shape, start, end);
        let rules = Rules {
            start,
            end,
            end_day: self.end_day,
            open_ends: self.open_ends,
            never_ends: self.never_ends.clone(),
            range,
            hours: self.hours(),
            only_until_as_of: false,
        };
        let roles = self.roles(&gives);
        let plan = ActivePlan {
            shape: shape.clone(),
            step: self.step(),
            names: [self.start.clone(), self.end.clone()],
            rules,
            gives,
            grain: self.grain,
            periods: self.periods(),
            period_name: self.period_name().to_owned(),
            most_rows: self.most_rows,
            newest: None,
            range_warning,
            accounting: accounting.clone(),
        };
        let uses = uses.using([start, end]).accounting(&accounting);
        // A part without the newest date learns it before.
        let plan = Plan::new(&[shape], context, (result, uses, kind), plan.prepared());
        Ok(plan.limited(self.most_rows, Smaller::LongerGrainOrRange).with_roles(roles))
    }
}

/// What the result contains.
#[derive(Clone)]
enum Gives {
    /// A row for each record and period.
    Rows { share: Vec<Named> },
    /// Counts per period and group, with the sums of these columns under these names.
    Counts { per: Vec<Named>, sum: Vec<(String, usize)> },
    /// The records that are active on a date.
    On(Day),
}

#[derive(Clone)]
struct ActivePlan {
    /// The shape that the plan was prepared for.
    shape: Shape,
    step: String,
    /// The names of the columns of starts and ends.
    names: [String; 2],
    rules: Rules,
    gives: Gives,
    grain: Grain,
    periods: Periods,
    period_name: String,
    most_rows: u64,
    /// The newest tick of all rows, if these are only a part of them.
    newest: Option<i32>,
    /// The warning that the range was extended to whole periods.
    range_warning: Option<Warning>,
    accounting: Accounting,
}

impl ActivePlan {
    /// The intervals of a table. Without an as-of date, open intervals last until the given tick,
    /// or until the newest date of the table.
    fn intervals(&self, table: &Table, close: Option<i32>, context: &Context) -> Result<Intervals> {
        for (name, place) in self.names.iter().zip([self.rules.start, self.rules.end]) {
            let dates = table.dates_at(place);
            if !matches!(self.gives, Gives::On(_)) {
                check_grain(name, &dates, self.grain)?;
            }
        }
        Intervals::closed_at(table, &self.rules, close.or(self.newest), context)
    }

    /// The ledger, and the rows set aside.
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
        let masks = RowMasks { kept, dropped, set_aside };
        let (mut ledger, aside) = masks.account(self.step.clone(), table, &self.accounting)?;
        self.tell(&mut ledger, (intervals.closed_on, intervals.instants), open, context);
        Ok((ledger, aside))
    }

    /// Adds to the ledger what the result depends on: as-of date, range, time zone.
    fn tell(
        &self,
        ledger: &mut Ledger,
        (closed_on, instants): (Option<Day>, bool),
        open: u64,
        context: &Context,
    ) {
        ledger.as_of = closed_on;
        ledger.view = self.rules.range;
        let is_on_a_day = matches!(self.gives, Gives::On(_));
        let cut = self
            .rules
            .range
            .and_then(|range| Warning::of_periods_in_part(range, self.periods, None));
        if !is_on_a_day {
            ledger.warnings.extend(cut);
        }
        ledger.warnings.extend(self.range_warning.clone());
        ledger.zone = instants.then(|| context.zone.to_string());
        ledger.note("without an end", open);
    }

    fn on(&self, day: Day, table: &Table, context: &Context) -> Result<Outcome> {
        let intervals = self.intervals(table, None, context)?;
        let is_active = |row: usize| {
            let active = intervals.statuses[row] == RowStatus::Active;
            active && intervals.first[row] <= day.number() && day.number() <= intervals.last[row]
        };
        let kept = BooleanBuffer::collect_bool(table.rows(), is_active);
        let (ledger, set_aside) = self.account(&intervals, Some(kept.clone()), table, context)?;
        Ok(Outcome { table: table.filter(&kept)?, ledger, set_aside })
    }
}

impl ActivePlan {
    fn prepared(self) -> Prepared {
        let plan = Arc::new(self);
        let prepared = if matches!(plan.gives, Gives::Counts { .. }) {
            Prepared::folded(plan.clone())
        } else {
            Prepared::applied(plan.clone())
        };
        prepared.in_parts(plan)
    }
}

impl InParts for ActivePlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        Ok(self.rules.newest_of_part(table, context))
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        ActivePlan { newest: overall.newest, ..self.clone() }.prepared()
    }
}

impl FoldBatches for ActivePlan {
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State> {
        CountsState::begin(self, context)
    }
}

impl Apply for ActivePlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        let share = match &self.gives {
            Gives::On(day) => return self.on(*day, table, context),
            Gives::Counts { .. } => {
                return Err(Error::Broken { invariant: "counts were not folded" });
            }
            Gives::Rows { share } => share,
        };
        let intervals = self.intervals(table, None, context)?;
        let (mut ledger, set_aside) = self.account(&intervals, None, table, context)?;
        let expansion = Expansion::new(self, share, &intervals, table)?;
        ledger.counts.insert(0, ("rows in the result".into(), expansion.rows()));
        if expansion.rows() >= u32::MAX.into() {
            return Err(Error::TableTooLong { rows: expansion.rows() as usize });
        }
        let row_bytes = 16 + table.row_bytes() + 16 * share.len() as u64;
        context.expect_room(expansion.rows(), row_bytes, Smaller::LongerGrainOrRange)?;
        Ok(Outcome { table: expansion.whole()?, ledger, set_aside })
    }

    fn apply_into(
        &self,
        tables: &[&Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        let Gives::Rows { share } = &self.gives else {
            return handed_over(self.apply(tables, context)?, sink);
        };
        let table = tables[0];
        let intervals = self.intervals(table, None, context)?;
        let (mut ledger, set_aside) = self.account(&intervals, None, table, context)?;
        let expansion = Expansion::new(self, share, &intervals, table)?;
        ledger.counts.insert(0, ("rows in the result".into(), expansion.rows()));
        let none = expansion.in_batches(sink)?;
        Ok(Outcome { table: none, ledger, set_aside })
    }
}

#[cfg(test)]
mod tests;
