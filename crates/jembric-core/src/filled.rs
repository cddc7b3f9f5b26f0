//! [`Filled`]: makes a row for every entity and every period of a range, and fills gaps by rules.
//!
//! `filled/cells` lays out the cells, entity by entity, and finds the row of each one.
//! `filled/holes` makes the columns, each by its rule. Both work on any group of entities, so that
//! a long result can be delivered in batches.

mod cells;
mod holes;

use crate::{
    axis::Axis,
    calendar::{Day, Grain, Month, Periods, Range, Weekday},
    context::{Context, Sink},
    dates::Dates,
    error::{Error, Result, Smaller, excludes, in_setting, needs, refuse},
    kind::Type,
    ledger::{Accounting, Cause, Ledger, Outcome, Reason, RowMasks, Warning},
    limits::MOST_ROWS,
    operation::{Operation, callable},
    plan::{
        Apply, ByEntity, Division, EntityPart, InParts, Inputs, Kind, Overall, Plan, Prepared,
        ResultOrder, Roles,
    },
    role::Role,
    settings::from_given_text,
    shape::{Named, Shape},
    table::Table,
    written::EntityList,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use cells::SeriesCells;
use holes::Fill;
use serde::Serialize;
use std::{fmt, str::FromStr, sync::Arc};

/// Makes one row for every entity and every period of a range: adds missing rows, and fills gaps by
/// rules.
///
/// In added rows all columns except the key and the date are missing, unless a rule fills them:
/// * [`carry`](Filled::carry): the last value, over at most [`limit`](Filled::limit) periods;
/// * [`linear`](Filled::linear): a value interpolated between those on both sides, by elapsed time,
///   never beyond the first and last value. These columns become floats;
/// * [`zero`](Filled::zero), [`set`](Filled::set): a constant, in added rows;
/// * [`keep_with`](Filled::keep_with): the entity's constant value, in added rows.
///
/// `carry` and `linear` fill both added rows and missing values in recorded rows
/// ([`added_only`](Filled::added_only): only added rows). The other rules fill added rows only,
/// because a recorded missing value is unknown and not zero ([`blanks_too`](Filled::blanks_too):
/// both). The ledger counts the two kinds separately.
///
/// The date of an added row is the last day of its period if all records are on last days,
/// otherwise the first; for moments it is the beginning of that day in [`Context::zone`]. Records
/// keep their own dates. The result is sorted by entity and date. Set aside: rows without a date,
/// rows without a key. Dropped: rows outside the range.
///
/// Errors: a column is missing, holds no dates, or holds no numbers if the rule needs them; a
/// column has two rules; the periods are finer than the column's own; one entity and period has two
/// records; a value is not of the column's type; a column of `keep_with` is not constant; more rows
/// than the limit. Cost: one timeline and one write of the result.
///
/// ```
/// use jembric_core::{Filled, Table, arrow::{ArrayRef, Date32Array, Int64Array}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_003]));
/// let level: ArrayRef = Arc::new(Int64Array::from(vec![3, 5]));
/// let gauge = Table::from_columns([("day", day), ("level", level)])?;
///
/// let outcome = Filled::new("day").carry(["level"]).apply(&gauge)?;
/// assert_eq!((outcome.table.rows(), outcome.ledger.count("rows added")), (4, 2));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "filled",
    does = "Add a row for every missing period, and fill the gaps by rules",
    answers = "What was the level on the days without a reading?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Filled {
    /// Identify the entity by these columns. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Make one row for every hour (for moments), day, week, month, quarter or year. The default is
    /// `day`.
    #[setting(text = "GRAIN")]
    pub grain: Option<Grain>,
    /// Cover this range: from the first to the last date of all data, of `each` entity, or from one
    /// day or period to another. The default is `data`.
    #[setting(text = "data|each|A..B")]
    pub range: Extent,
    /// Carry the last value of these columns forward into gaps.
    #[setting(columns)]
    pub carry: Vec<String>,
    /// Interpolate these columns linearly between values.
    #[setting(columns)]
    pub linear: Vec<String>,
    /// Set these columns to 0 in added rows.
    #[setting(columns)]
    pub zero: Vec<String>,
    /// Set a column to this value in added rows.
    #[setting(texts = "COL=VALUE")]
    pub set: Vec<String>,
    /// Carry a value over at most this many periods.
    #[setting(number, from = 1)]
    pub limit: Option<u32>,
    /// Carry and interpolate only into added rows, not into missing values of recorded rows.
    #[setting(yes)]
    pub added_only: bool,
    /// Set zeros and values also where recorded rows have missing values.
    #[setting(yes)]
    pub blanks_too: bool,
    /// Date added rows on the first or the last day of their period. The default is the side on
    /// which the records are.
    #[setting(one_of)]
    pub dated: Option<Dated>,
    /// Add a column with this name that marks added rows.
    #[setting(name)]
    pub mark: Option<String>,
    /// Repeat these columns, which are constant for each entity, in added rows.
    #[setting(columns)]
    pub keep_with: Vec<String>,
    /// Add rows also for the entities in these columns of a file, in the order of `per`:
    /// vessels.csv:vessel.
    #[setting(entities)]
    pub entities: Option<EntityList>,
    /// Begin weeks on this weekday. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// Begin years in this month. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

/// The range in which every period has a row.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Extent {
    /// From the first to the last date of the whole table, for every entity.
    #[default]
    Data,
    /// From each entity's own first date to its last.
    Each,
    /// These days, or whole periods.
    Stated(Range),
}

impl fmt::Display for Extent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Extent::Data => f.write_str("data"),
            Extent::Each => f.write_str("each"),
            Extent::Stated(range) => range.fmt(f),
        }
    }
}

impl FromStr for Extent {
    type Err = Error;

    fn from_str(text: &str) -> Result<Extent> {
        Ok(match text.trim() {
            "data" => Extent::Data,
            "each" => Extent::Each,
            range => Extent::Stated(range.parse()?),
        })
    }
}

crate::calendar::serialized_as_text!(Extent);
from_given_text!(Extent);

/// The day of its period on which an added row is dated.
#[derive(Clone, Copy, Debug, PartialEq, Eq, jembric_derive::Words)]
pub enum Dated {
    /// The first day.
    First,
    /// The last day.
    Last,
}

callable!(Filled);

impl Filled {
    /// Fills by this column of dates, with one row a day and the whole table as one entity.
    pub fn new(date: impl Into<String>) -> Filled {
        Filled { date: date.into(), ..Filled::default() }
    }

    fn grain_or_day(&self) -> Grain {
        self.grain.unwrap_or(Grain::Day)
    }

    fn periods(&self) -> Periods {
        Periods::cut(self.grain_or_day(), self.week_start, self.year_start)
    }

    /// The columns with a rule, and the setting that gives it.
    fn ruled(&self, shape: &Shape) -> Result<Vec<(&'static str, Named, FillRule)>> {
        let mut set = Vec::new();
        let mut values = Vec::new();
        for text in &self.set {
            let (column, value) = in_setting("set", || split_set(text))?;
            set.push(column.to_owned());
            values.push(FillRule::Set(value.to_owned()));
        }
        let carry = FillRule::Carry { limit: self.limit.unwrap_or(u32::MAX) };
        let all = |list: &[String], rule: FillRule| vec![rule; list.len()];
        let lists = [
            ("carry", &self.carry, all(&self.carry, carry)),
            ("linear", &self.linear, all(&self.linear, FillRule::Linear)),
            ("zero", &self.zero, all(&self.zero, FillRule::Zero)),
            ("set", &set, values),
            ("keep-with", &self.keep_with, all(&self.keep_with, FillRule::KeepWith)),
        ];
        let mut ruled: Vec<(&'static str, Named, FillRule)> = Vec::new();
        for (setting, list, rules) in lists {
            for (named, rule) in in_setting(setting, || shape.named(list))?.into_iter().zip(rules) {
                if ruled.iter().any(|(_, other, _)| other.place == named.place) {
                    let value = format!("`{}`, which already has a rule", named.column);
                    return refuse(setting, value, "one rule for each column");
                }
                ruled.push((setting, named, rule));
            }
        }
        Ok(ruled)
    }

    fn check_settings(&self) -> Result<()> {
        let refused =
            |setting, value: String, expected: &'static str| refuse(setting, value, expected);
        match self {
            _ if self.per.contains(&self.date) => {
                refused("per", format!("`{}`", self.date), "columns other than `date`")
            }
            Filled { limit: Some(_), carry, .. } if carry.is_empty() => needs("limit", "`carry`"),
            Filled { added_only: true, carry, linear, .. }
                if carry.is_empty() && linear.is_empty() =>
            {
                needs("added-only", "`carry` or `linear`")
            }
            Filled { blanks_too: true, zero, set, .. } if zero.is_empty() && set.is_empty() => {
                needs("blanks-too", "`zero` or `set`")
            }
            Filled { dated: Some(_), grain: Some(Grain::Hour), .. } => {
                excludes("dated", "`grain` hour, because an hour has no days")
            }
            Filled { entities: Some(_), per, .. } if per.is_empty() => needs("entities", "`per`"),
            Filled { entities: Some(_), range: Extent::Each, .. } => excludes(
                "entities",
                "`range` each, because an entity without a record has no dates of its own",
            ),
            _ => Ok(()),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" per {}", self.per.join(", "))
        };
        let over = match self.range {
            Extent::Data | Extent::Stated(_) => String::new(),
            Extent::Each => ", from each entity's first date to its last".to_owned(),
        };
        format!("filled by {}{per}, one row for each {}{over}", self.date, self.grain_or_day())
    }
}

/// Splits `COL=VALUE` into the column and the value.
fn split_set(text: &str) -> Result<(&str, &str)> {
    match text.split_once('=') {
        Some((column, value)) => Ok((column.trim(), value.trim())),
        None => {
            refuse("set", format!("`{text}`"), "a column and its value, such as `state=closed`")
        }
    }
}

/// How the gaps of a column are filled.
#[derive(Clone, Debug, PartialEq, Eq)]
enum FillRule {
    /// With the last value, over at most this many periods.
    Carry {
        limit: u32,
    },
    /// By interpolation between the values on both sides.
    Linear,
    Zero,
    /// With this value.
    Set(String),
    /// With the entity's constant value.
    KeepWith,
}

impl Operation for Filled {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        crate::settings::Settings::check_ranges(self)?;
        self.check_settings()?;
        let date = in_setting("date", || shape.place_of_dates(&self.date))?;
        let per = in_setting("per", || shape.named(&self.per))?;
        let accounting = Accounting::prepare(shape, context)?.warning_of([
            Cause::NoDate { column: self.date.clone() },
            Cause::no_key(&per),
            Cause::OutsideRange,
        ]);
        let ruled = self.ruled(shape)?;
        let mut rules = vec![None; shape.columns().len()];
        let mut names = per.clone();
        for (setting, named, rule) in ruled {
            if named.place == date || per.iter().any(|key| key.place == named.place) {
                let value = format!("`{}`", named.column);
                return refuse(setting, value, "a column other than `per` and `date`");
            }
            if matches!(rule, FillRule::Linear | FillRule::Zero) {
                in_setting(setting, || shape.expect_numbers(&named.column))?;
            }
            rules[named.place] = Some((named.shown_as.clone(), rule));
            names.push(named);
        }
        let mut result = shape.renamed(&names)?;
        for (column, rule) in result.columns.iter_mut().zip(&rules) {
            if let Some((_, FillRule::Linear)) = rule {
                column.kind = Some(Type::Float);
            }
        }
        if let Some(name) = &self.mark {
            result = in_setting("mark", || result.with(name, Type::Boolean))?;
        }
        let uses = Inputs::passing(shape).using([date]).using_named(&names).accounting(&accounting);
        let mut roles = Roles::default().with(&self.date, Role::Date).keys(&per);
        for (place, rule) in rules.iter().enumerate() {
            let Some((name, rule)) = rule else { continue };
            // A carried value holds until the next one; constants are not drawn.
            let role = match rule {
                FillRule::Carry { .. } => Role::State,
                FillRule::Linear | FillRule::Zero => Role::Measure,
                _ => continue,
            };
            if shape.kind(place).is_none_or(Type::is_number) {
                roles = roles.with(name, role);
            }
        }
        let roles = self.mark.iter().fold(roles, |roles, name| roles.with(name, Role::Mark));
        let plan = FilledPlan {
            step: self.step(),
            date_name: self.date.clone(),
            date,
            per,
            rules,
            grain: self.grain,
            periods: self.periods(),
            extent: self.range,
            fills_blanks: !self.added_only,
            sets_blanks: self.blanks_too,
            dated: self.dated,
            mark: self.mark.clone(),
            entities: self.entities.clone().unwrap_or_default(),
            most_rows: self.most_rows,
            overall: None,
            accounting,
        };
        let division = plan.division().map(Division::Entities);
        let kind = Kind::apart(division);
        let plan = Plan::new(&[shape], context, (result, uses, kind), plan.prepared());
        let plan = plan.limited(self.most_rows, Smaller::LongerGrainOrRange);
        Ok(plan.with_roles(roles))
    }
}

#[derive(Clone)]
struct FilledPlan {
    step: String,
    date_name: String,
    date: usize,
    per: Vec<Named>,
    /// For each column of the table its new name, and its rule if it has one.
    rules: Vec<Option<(String, FillRule)>>,
    grain: Option<Grain>,
    periods: Periods,
    extent: Extent,
    /// Whether recorded missing values are carried and interpolated over, and whether zeros and
    /// values are set there.
    fills_blanks: bool,
    sets_blanks: bool,
    dated: Option<Dated>,
    mark: Option<String>,
    entities: EntityList,
    most_rows: u64,
    /// What is known of all rows, if these are only a part of them.
    overall: Option<Overall>,
    accounting: Accounting,
}

impl FilledPlan {
    fn prepared(self) -> Prepared {
        let plan = Arc::new(self);
        Prepared::applied(plan.clone()).in_parts(plan)
    }

    fn division(&self) -> Option<ByEntity> {
        let places: Vec<usize> = self.per.iter().map(|key| key.place).collect();
        ByEntity::by(places.clone(), ResultOrder::Columns(places))
    }

    /// The range, if one is given, in whole periods of the dates.
    fn stated(&self, dates: &Dates) -> Option<Range> {
        match self.extent {
            Extent::Stated(range) => Some(range.to_whole(dates.periods())),
            _ => None,
        }
    }

    /// The rows with a date, those that also have a key, those of them in the range, and those with
    /// a date before it.
    fn usable(&self, table: &Table, dates: &Dates, context: &Context) -> [BooleanBuffer; 4] {
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        let mut keyed = all();
        for named in &self.per {
            if let Some(nulls) = table.at(named.place).logical_nulls() {
                keyed = &keyed & nulls.inner();
            }
        }
        let usable = &dated & &keyed;
        let none = || [(); 2].map(|()| BooleanBuffer::new_unset(table.rows()));
        let outside = |range| dates.outside(range, &context.zone);
        let [before, after] = self.stated(dates).map_or_else(none, outside);
        let kept = &usable & &!&(&before | &after);
        [dated, usable, kept, before]
    }

    /// What is needed to make the result, and the ledger.
    fn laid_out(
        &self,
        table: &Table,
        context: &Context,
    ) -> Result<(SeriesCells, Vec<Fill>, Ledger, Table)> {
        let dates = table.dates_at(self.date);
        let axis = Axis::for_dates(&self.date_name, &dates, self.periods, &context.zone)?;
        let [dated, usable, kept, before] = self.usable(table, &dates, context);
        let stated = self.stated(&dates);
        let outside = &usable & &!&kept;
        let masks = RowMasks {
            kept: kept.clone(),
            dropped: vec![(Reason::OutsideRange, outside)],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&usable)],
        };
        let (mut ledger, set_aside) = masks.account(self.step.clone(), table, &self.accounting)?;
        ledger.zone = axis.instants.then(|| context.zone.to_string());

        let cells = SeriesCells::lay_out(self, table, [&usable, &kept, &before], axis)?;
        ledger.view = stated.or_else(|| cells.view());
        let cut = stated.and_then(|range| Warning::of_periods_in_part(range, self.periods, None));
        ledger.warnings.extend(cut);
        if let Extent::Stated(range) = self.extent {
            let whole = Warning::of_whole_periods(range, &self.date_name, dates.periods());
            ledger.warnings.extend(whole);
        }
        ledger.counts.push(("rows in the result".into(), cells.count()));
        ledger.counts.push(("rows recorded".into(), ledger.kept));
        ledger.counts.push(("rows added".into(), cells.count() - ledger.kept));
        ledger.note("entities without a record", cells.without_record);
        ledger.note("entities named twice", cells.named_twice);
        ledger.note("entities named without a key", cells.without_key);
        let fills = Fill::choose_all(self, &cells)?;
        Ok((cells, fills, ledger, set_aside))
    }
}

impl InParts for FilledPlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        let dates = table.dates_at(self.date);
        let axis = Axis::for_dates(&self.date_name, &dates, self.periods, &context.zone)?;
        let [_, usable, kept, _] = self.usable(table, &dates, context);
        let numbers = axis.numbers(&dates);
        let periods = usable.set_indices().map(|row| (numbers[row], numbers[row]));
        let wider = |one: (i32, i32), other: (i32, i32)| (one.0.min(other.0), one.1.max(other.1));
        let days = dates.day_numbers(axis.zone());
        let own = dates.periods();
        let is_last =
            |row| own.containing(Day::clamped(days[row])).last() == axis.last_day(numbers[row]);
        Ok(Some(Overall {
            periods: periods.reduce(wider),
            any_in_range: kept.count_set_bits() > 0,
            not_on_last_days: !kept.set_indices().all(is_last),
            ..Overall::default()
        }))
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        FilledPlan { overall: Some(overall), ..self.clone() }.prepared()
    }

    fn for_part(&self, part: EntityPart, sample: &Table) -> Result<Option<Prepared>> {
        if self.entities.is_empty() {
            return Ok(None);
        }
        // The listed entities are divided as those of the rows are.
        let keys = self.entities.after(&sample.head(0), &self.per)?;
        let places = (0..self.per.len()).collect();
        let Some(division) = ByEntity::by(places, ResultOrder::Rows(0)) else { return Ok(None) };
        let parts = division.parts(0, &keys, &[&keys], (part.parts, part.seed))?;
        let entities = self.entities.only(|n| parts[n] == part.number);
        Ok(Some(FilledPlan { entities, ..self.clone() }.prepared()))
    }
}

impl Apply for FilledPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        let (cells, mut fills, mut ledger, set_aside) = self.laid_out(table, context)?;
        context.expect_room(cells.count(), 16 + table.row_bytes(), Smaller::LongerGrainOrRange)?;
        let answer = cells.answer(0..cells.entities(), &mut fills)?;
        fills.iter().for_each(|fill| fill.account(&mut ledger));
        Ok(Outcome { table: answer, ledger, set_aside })
    }

    fn apply_into(
        &self,
        tables: &[&Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        let (cells, mut fills, mut ledger, set_aside) = self.laid_out(tables[0], context)?;
        let none = cells.answer(0..0, &mut fills)?;
        sink(&none).map_err(Error::Sink)?;
        for entities in cells.stretches() {
            sink(&cells.answer(entities, &mut fills)?).map_err(Error::Sink)?;
        }
        fills.iter().for_each(|fill| fill.account(&mut ledger));
        Ok(Outcome { table: none, ledger, set_aside })
    }
}

#[cfg(test)]
mod tests;
