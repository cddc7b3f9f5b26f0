//! [`Elapsed`]: the time between two dates of a row, or since the previous record of the entity.
//!
//! Both ends of a row are day numbers (microseconds for hours). They come from columns, from one
//! date for all rows, or from the entity's previous record on the timeline. The rest is arithmetic
//! on two numbers.

mod bands;
mod ends;
mod months;

use crate::{
    calendar::{Day, Grain, Periods, Workdays, Zone},
    context::Context,
    dates::Dates,
    entities::{Entities, Missing},
    error::{Error, Result, excludes, in_setting, needs, refuse},
    kind::Type,
    ledger::{Accounting, Outcome},
    operation::{Operation, callable},
    plan::{
        Apply, ByEntity, InOrder, Inputs, Kind, Pieces, Plan, Prepared, ResultOrder, Roles,
        before_last_date,
    },
    role::Role,
    rows::all_kept,
    shape::{Named, Shape},
    table::{Table, ordered_field},
    timeline::Timeline,
};
use arrow_array::{
    Array, ArrayRef, Float64Array, Int64Array, UInt32Array,
    cast::AsArray,
    types::{Float64Type, Int64Type},
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::Field;
use bands::{band_labels, in_bands};
use ends::{End, Ends};
use months::completed_months;
use serde::Serialize;
use std::sync::Arc;

/// The unit of elapsed time.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Unit {
    /// Days, from midnight to midnight.
    #[default]
    Days,
    /// Completed weeks.
    Weeks,
    /// Completed months: the number of whole months that fit.
    Months,
    /// Completed years.
    Years,
    /// Days from Monday to Friday that are not holidays. The first day is not counted, the last one
    /// is.
    Workdays,
    /// Hours, with fractions for moments.
    Hours,
}

impl Unit {
    /// The longest periods that this unit can be computed from.
    fn grain(self) -> Grain {
        match self {
            Unit::Days | Unit::Workdays | Unit::Hours => Grain::Day,
            Unit::Weeks => Grain::Week,
            Unit::Months => Grain::Month,
            Unit::Years => Grain::Year,
        }
    }
}

/// Computes the time from one date to another, in a column `elapsed_days` (named after the unit).
///
/// All rows are kept, in their order. The result is missing if one of the dates is, and negative if
/// the first date is later: elapsed(a, b) = −elapsed(b, a). The ledger counts the rows with a
/// missing or negative result. Points in time are converted to days in [`Context::zone`]; hours
/// between them are exact, so a day on which the clocks change has 23 or 25. A date stands for its
/// midnight.
///
/// With [`since_previous`](Elapsed::since_previous), the result is the time since the entity's
/// previous date. Records with the same date have the same result, and those with the first date
/// have none.
///
/// Errors: a column is missing or holds no dates; it holds months or longer periods, and the unit
/// is finer; the as-of date or today's date is needed and not known; bands that do not rise. Cost:
/// one pass over the dates (plus a search among the holidays for each row, and a timeline for
/// previous records).
///
/// ```
/// use jembric_core::{Elapsed, Table};
/// use jembric_core::arrow::{ArrayRef, Date32Array, Int64Array, cast::AsArray, types::Int64Type};
/// use std::sync::Arc;
///
/// let due: ArrayRef = Arc::new(Date32Array::from(vec![20_000]));
/// let paid: ArrayRef = Arc::new(Date32Array::from(vec![20_012]));
/// let dues = Table::from_columns([("due", due), ("paid", paid)])?;
///
/// let outcome = Elapsed::between("due", "paid").apply(&dues)?;
/// let days = outcome.table.column("elapsed_days")?.as_primitive::<Int64Type>();
/// assert_eq!(days, &Int64Array::from(vec![12]));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "elapsed",
    does = "Compute the time between two dates, or since the previous record",
    answers = "How long did it take, how old is it, how late is it?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Elapsed {
    /// Start at this column, `as-of`, `today` or a date.
    #[setting(text = "WHEN", plain)]
    pub from: Option<String>,
    /// End at this column, `as-of`, `today` or a date.
    #[setting(text = "WHEN", plain)]
    pub to: Option<String>,
    /// Measure from the entity's previous date instead of `from` and `to`.
    #[setting(yes, plain)]
    pub since_previous: bool,
    /// Identify the entity by these columns; needs `since-previous`.
    #[setting(columns)]
    pub per: Vec<String>,
    /// Order the records by this column of dates; needs `since-previous`.
    #[setting(column, plain)]
    pub date: Option<String>,
    /// Measure in this unit; weeks, months and years are completed ones. The default is `days`.
    #[setting(one_of)]
    pub unit: Unit,
    /// Name the new column. The default is `elapsed_days`, after the unit.
    #[setting(name)]
    pub name: Option<String>,
    /// Count both the first and the last day, so that a date has one day to itself.
    #[setting(yes)]
    pub both_ends: bool,
    /// Add a column of bands with these lower bounds: 0,30,60 makes `under 0`, `0-29`, `30-59` and
    /// `60+`.
    #[setting(numbers)]
    pub bands: Vec<i64>,
    /// Read holidays from this file, with one date on each line or in the first column.
    #[setting(days)]
    pub holidays: Workdays,
}

callable!(Elapsed);

impl Elapsed {
    /// The time from one date to another. Each is a column, `as-of`, `today` or a date.
    pub fn between(from: impl Into<String>, to: impl Into<String>) -> Elapsed {
        Elapsed { from: Some(from.into()), to: Some(to.into()), ..Elapsed::default() }
    }

    /// The time since the previous date of the same entity, in this column of dates.
    pub fn since_previous(date: impl Into<String>) -> Elapsed {
        Elapsed { since_previous: true, date: Some(date.into()), ..Elapsed::default() }
    }

    fn new_name(&self) -> String {
        let first = if self.since_previous { "since_previous" } else { "elapsed" };
        let default = if self.since_previous {
            format!("{}_{first}", self.unit.word())
        } else {
            format!("{first}_{}", self.unit.word())
        };
        self.name.clone().unwrap_or(default)
    }

    fn step(&self) -> String {
        let unit = self.unit.word();
        let (from, to) =
            (self.from.as_deref().unwrap_or_default(), self.to.as_deref().unwrap_or_default());
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" per {}", self.per.join(", "))
        };
        match &self.date {
            Some(date) if self.since_previous => {
                format!("elapsed {unit} since the previous {date}{per}")
            }
            _ => format!("elapsed {unit} from {from} to {to}"),
        }
    }

    /// The two ends, found among the columns of a shape.
    fn ends(&self, shape: &Shape, context: &Context) -> Result<[End; 2]> {
        let end = |setting, text: &Option<String>| match text {
            Some(text) => in_setting(setting, || End::resolve(text, shape, context)),
            None => refuse(
                setting,
                "not given",
                "a column, `as-of`, `today` or a date; or `since-previous` with `date`",
            ),
        };
        Ok([end("from", &self.from)?, end("to", &self.to)?])
    }

    fn check_settings(&self) -> Result<()> {
        if self.since_previous {
            if self.from.is_some() || self.to.is_some() {
                return excludes("since-previous", "`from` and `to`");
            }
            if self.date.is_none() {
                return needs("since-previous", "`date`");
            }
        } else if self.date.is_some() || !self.per.is_empty() {
            let setting = if self.date.is_some() { "date" } else { "per" };
            return needs(setting, "`since-previous`. Without it, use `from` and `to`");
        }
        if self.both_ends && self.unit == Unit::Hours {
            return excludes("both-ends", "`unit` hours");
        }
        if self.both_ends && self.since_previous {
            return excludes("both-ends", "`since-previous`");
        }
        if !self.holidays.is_without_holidays() && self.unit != Unit::Workdays {
            return needs("holidays", "`unit` workdays");
        }
        if !self.bands.is_sorted_by(|one, next| one < next) {
            let value = self.bands.iter().map(i64::to_string).collect::<Vec<_>>().join(",");
            return Err(Error::Setting {
                setting: "bands",
                value,
                expected: "numbers that rise, such as 0,30,60,90".into(),
            });
        }
        Ok(())
    }
}

impl Operation for Elapsed {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        self.check_settings()?;
        let accounting = Accounting::prepare(shape, context)?;
        let between = match &self.date {
            Some(date) if self.since_previous => {
                let date = in_setting("date", || shape.place_of_dates(date))?;
                let per = in_setting("per", || shape.named(&self.per))?;
                Between::Previous { date, per }
            }
            _ => Between::Ends(self.ends(shape, context)?),
        };
        let used = match &between {
            Between::Ends(ends) => ends.iter().filter_map(End::column).collect(),
            Between::Previous { date, per } => std::iter::once(*date)
                .chain(per.iter().map(|named| named.place))
                .collect::<Vec<_>>(),
        };
        let name = self.new_name();
        let kind = if self.unit == Unit::Hours { Type::Float } else { Type::Integer };
        let mut result = in_setting("name", || shape.with(&name, kind))?;
        let band_name = format!("{name}_band");
        if !self.bands.is_empty() {
            result = in_setting("name", || result.with(&band_name, Type::Text))?;
        }
        let uses = Inputs::passing(shape).using(used).accounting(&accounting);
        let columns = [&self.from, &self.to, &self.date].into_iter().flatten();
        // Bands are classes whose rows are counted. Otherwise each row is an event at its date.
        let roles = match &between {
            _ if !self.bands.is_empty() => Roles::default().with(&band_name, Role::Key),
            Between::Previous { date, .. } => {
                let date = &shape.columns()[*date].name;
                Roles::default().with(date, Role::Event).with(&name, Role::Measure)
            }
            Between::Ends(ends) => {
                let date = ends.iter().find_map(End::column).map(|place| &shape.columns()[place]);
                let roles = Roles::default().with(&name, Role::Measure);
                date.into_iter().fold(roles, |roles, date| roles.with(&date.name, Role::Event))
            }
        };
        let plan = ElapsedPlan {
            between,
            step: self.step(),
            name,
            band_name,
            columns: columns.map(String::as_str).collect::<Vec<_>>().join("` or `"),
            unit: self.unit,
            both_ends: self.both_ends,
            bands: self.bands.clone(),
            holidays: self.holidays.clone(),
            accounting,
        };
        let plan = Arc::new(plan);
        let (kind, prepared) = match &plan.between {
            Between::Previous { date, per } => {
                let keys = per.iter().map(|key| key.place);
                let division = ByEntity::or_dates(keys, *date, ResultOrder::Rows(0));
                let plan = SincePrevious { plan: plan.clone(), date: *date };
                (Kind::Divided(division), Prepared::in_order(Arc::new(plan)))
            }
            Between::Ends(_) => (Kind::ByRow, Prepared::applied(plan)),
        };
        Ok(Plan::new(&[shape], context, (result, uses, kind), prepared).with_roles(roles))
    }
}

/// The dates that time is measured between.
enum Between {
    Ends([End; 2]),
    /// From the entity's previous record to the record itself.
    Previous {
        date: usize,
        per: Vec<Named>,
    },
}

struct ElapsedPlan {
    between: Between,
    step: String,
    name: String,
    band_name: String,
    /// The names of the columns, for messages.
    columns: String,
    unit: Unit,
    both_ends: bool,
    bands: Vec<i64>,
    holidays: Workdays,
    accounting: Accounting,
}

impl Apply for ElapsedPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        self.after(None, tables[0], context)
    }
}

/// A plan that measures from the entity's previous record, in order of this column of dates.
struct SincePrevious {
    plan: Arc<ElapsedPlan>,
    date: usize,
}

impl Apply for SincePrevious {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        self.plan.apply(tables, context)
    }
}

impl InOrder for SincePrevious {
    fn begin(self: Arc<Self>) -> Box<dyn Pieces> {
        Box::new(AfterPrevious { plan: self.plan.clone(), date: self.date, previous: None })
    }
}

/// A plan with the last record of earlier pieces that has a date.
struct AfterPrevious {
    plan: Arc<ElapsedPlan>,
    date: usize,
    previous: Option<Table>,
}

impl Pieces for AfterPrevious {
    fn complete(&self, rows: &Table, _: &Context) -> usize {
        let dates = rows.dates_at(self.date);
        before_last_date(rows.rows(), &dates, |row| dates.sortable(row))
    }

    fn take(&mut self, rows: &Table, _: bool, context: &Context) -> Result<Outcome> {
        let outcome = self.plan.after(self.previous.as_ref(), rows, context)?;
        let undated = rows.dates_at(self.date).nulls().map_or(0, |nulls| nulls.null_count());
        if let Some(last) = (rows.rows() - undated).checked_sub(1) {
            self.previous = Some(rows.slice(last, 1).anonymous().without_others_texts()?);
        }
        Ok(outcome)
    }
}

impl ElapsedPlan {
    /// The result of rows that may come after another record.
    fn after(&self, previous: Option<&Table>, table: &Table, context: &Context) -> Result<Outcome> {
        let [from, to] = match &self.between {
            Between::Previous { date, per } => {
                let before = match previous {
                    None => date_before(table, *date, per)?,
                    Some(previous) => {
                        let all = Table::joined(previous, &[table.clone().anonymous()])?;
                        let own = UInt32Array::from_iter_values(1..=table.rows() as u32);
                        date_before(&all, *date, per)?.take(&own)?
                    }
                };
                [Ends::Rows(before), Ends::Rows(table.dates_at(*date))]
            }
            Between::Ends([from, to]) => {
                [Ends::new(from, table, context)?, Ends::new(to, table, context)?]
            }
        };
        let nulls = NullBuffer::union(from.nulls().as_ref(), to.nulls().as_ref());
        let array = self.counted(&from, &to, table.rows(), nulls.clone(), &context.zone)?;
        let mut answer = table
            .with_field(Field::new(&self.name, array.data_type().clone(), true), array.clone())?;
        if !self.bands.is_empty() {
            let labels = band_labels(&self.bands);
            let bands = in_bands(&array, &self.bands, &labels)?;
            answer = answer.with_field(ordered_field(&self.band_name, &labels), bands)?;
        }
        let as_of = matches!(&self.between,
            Between::Ends(ends) if ends.iter().any(|end| matches!(end, End::AsOf)));
        let instants = from.are_instants() || to.are_instants();
        all_kept(answer.anonymous(), self.step.clone(), table, &self.accounting, |ledger| {
            ledger.as_of = if as_of { context.as_of } else { None };
            ledger.zone = instants.then(|| context.zone.to_string());
            let without = match self.between {
                Between::Previous { .. } => "rows without a previous date",
                Between::Ends(_) => "rows without both dates",
            };
            ledger.note(without, nulls.map_or(0, |nulls| nulls.null_count()) as u64);
            ledger.note("negative values", negatives(&array));
        })
    }
}

/// The previous date of the same entity for each row, if there is one.
fn date_before(table: &Table, date: usize, per: &[Named]) -> Result<Dates> {
    let dates = table.dates_at(date);
    let entities = Entities::of_columns(&table.columns_at(per), table.rows(), Missing::NoEntity)?;
    let all = || BooleanBuffer::new_set(table.rows());
    let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
    let keyed = entities.rows_with_one().unwrap_or_else(all);
    let timeline = Timeline::new(&entities, &dates, &(&dated & &keyed));
    let mut before: Vec<Option<u32>> = vec![None; table.rows()];
    for rows in timeline.entities() {
        let mut last = None;
        // Records with the same date share the date before it.
        for same in rows.chunk_by(|&a, &b| dates.sortable(a as usize) == dates.sortable(b as usize))
        {
            same.iter().for_each(|&row| before[row as usize] = last);
            last = same.first().copied();
        }
    }
    dates.take(&UInt32Array::from(before))
}

impl ElapsedPlan {
    /// The time between both ends of each row.
    fn counted(
        &self,
        from: &Ends,
        to: &Ends,
        rows: usize,
        nulls: Option<NullBuffer>,
        zone: &Zone,
    ) -> Result<ArrayRef> {
        let periods = self.periods(from, to)?;
        let integers = |numbers: Vec<i64>| Arc::new(Int64Array::new(numbers.into(), nulls.clone()));
        Ok(match self.unit {
            Unit::Hours if from.are_moments() || to.are_moments() => {
                let instants = from.are_instants() || to.are_instants();
                let (from, to) =
                    (from.micros(rows, instants, zone), to.micros(rows, instants, zone));
                let hours = from
                    .iter()
                    .zip(&to)
                    .map(|(from, to)| (to - from) as f64 / 3_600_000_000.0)
                    .collect();
                Arc::new(Float64Array::new(hours, nulls))
            }
            Unit::Hours => {
                let days = from
                    .each_day_to(to, periods, rows, zone, |from, to| to.number() - from.number());
                let hours: Vec<f64> = days.iter().map(|&days| days as f64 * 24.0).collect();
                Arc::new(Float64Array::new(hours.into(), nulls))
            }
            // The common units have their own loop.
            Unit::Days if !self.both_ends => {
                integers(
                    from.each_day_to(to, periods, rows, zone, |from, to| {
                        to.number() - from.number()
                    }),
                )
            }
            Unit::Months if !self.both_ends => {
                let looked_up =
                    completed_months(&from.days(periods, zone), &to.days(periods, zone));
                integers(looked_up.unwrap_or_else(|| {
                    from.each_day_to(to, periods, rows, zone, |from, to| from.months_until(to))
                }))
            }
            _ if self.both_ends => {
                integers(from.each_day_to(to, periods, rows, zone, |from, to| {
                    self.between_both_ends(from, to)
                }))
            }
            _ => integers(
                from.each_day_to(to, periods, rows, zone, |from, to| self.between(from, to)),
            ),
        })
    }

    fn between(&self, from: Day, to: Day) -> i32 {
        let days = to.number() - from.number();
        match self.unit {
            Unit::Days | Unit::Hours => days,
            Unit::Weeks => days / 7,
            Unit::Months => from.months_until(to),
            Unit::Years => from.months_until(to) / 12,
            Unit::Workdays => self.holidays.between(from, to),
        }
    }

    /// Counting both ends is the same as beginning one day earlier, or as ending one day later if
    /// the dates are reversed.
    fn between_both_ends(&self, from: Day, to: Day) -> i32 {
        if from > to {
            return -self.between_both_ends(to, from);
        }
        match (self.unit, from.plus_days(-1), to.plus_days(1)) {
            (Unit::Workdays, Some(before), _) => self.between(before, to),
            (Unit::Workdays, None, _) => {
                self.between(from, to) + i32::from(self.holidays.contains(from))
            }
            (_, _, Some(after)) => self.between(from, after),
            (_, Some(before), None) => self.between(before, to),
            (_, None, None) => self.between(from, to),
        }
    }

    /// The periods that both ends share, and that the unit can be computed from.
    fn periods(&self, from: &Ends, to: &Ends) -> Result<Periods> {
        let (one, other) = (from.periods(), to.periods());
        let Some(periods) = crate::calendar::common_periods(one, other) else {
            let problem = format!("{} and {}", Type::Date(one), Type::Date(other));
            return Err(Error::Setting {
                setting: "to",
                value: problem,
                expected: "dates of one grain, or of a grain that is made of the other's".into(),
            });
        };
        if self.unit.grain().holds(periods.grain())
            && (self.unit != Unit::Hours || periods == Periods::DAYS)
        {
            return Ok(periods);
        }
        let (column, requested) = (self.columns.clone(), self.unit.word().to_owned());
        Err(Error::TooFine { column, grain: periods.grain(), requested })
    }
}

fn negatives(numbers: &ArrayRef) -> u64 {
    let below_zero = match numbers.as_primitive_opt::<Int64Type>() {
        Some(numbers) => numbers.values().iter().map(|&number| u64::from(number < 0)).sum(),
        None => numbers
            .as_primitive::<Float64Type>()
            .values()
            .iter()
            .map(|&number| u64::from(number < 0.0))
            .sum(),
    };
    if below_zero == 0 {
        return below_zero;
    }
    let Some(nulls) = numbers.nulls() else { return below_zero };
    let is_negative = |row: &usize| match numbers.as_primitive_opt::<Int64Type>() {
        Some(numbers) => numbers.value(*row) < 0,
        None => numbers.as_primitive::<Float64Type>().value(*row) < 0.0,
    };
    nulls.valid_indices().filter(is_negative).count() as u64
}

#[cfg(test)]
mod tests;
