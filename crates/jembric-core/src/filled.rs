//! [`Filled`]: a row for every entity and every period of a range, holes filled by stated rules.
//!
//! `filled/cells` lays out the cells, entity by entity, and finds the row that stands in each;
//! `filled/holes` makes the columns of them, each by its rule. Both do so for any stretch of
//! entities, so that a long answer can be handed over in batches.

mod cells;
mod holes;

use crate::{
    axis::Axis,
    calendar::{Grain, Month, Periods, Range, Weekday},
    context::{Context, Sink},
    error::{Error, Result, Smaller, in_setting, refuse, excludes, needs},
    ledger::{Accounting, Cause, Ledger, Outcome, Reason, RowMasks, Warning},
    limits::MOST_ROWS,
    operation::{Operation, callable},
    plan::{Access, Inputs, Plan, Prepared},
    settings::from_given_text,
    shape::{Named, Shape, Type},
    table::Table,
    written::EntityList,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use cells::Cells;
use holes::Fill;
use serde::Serialize;
use std::{fmt, str::FromStr};

/// One row for every entity and every period of a range: what is missing is added, and holes are
/// filled by stated rules.
///
/// All columns but the entity's and the date are blank in added rows, unless a rule fills them:
/// * [`carry`](Filled::carry): the last value, over at most [`limit`](Filled::limit) periods;
/// * [`linear`](Filled::linear): between the values on both sides, by elapsed time, never beyond
///   the ends; such columns come out as floats;
/// * [`zero`](Filled::zero), [`set`](Filled::set): a stated value, in added rows;
/// * [`keep_with`](Filled::keep_with): what the entity's other rows say, in added rows.
///
/// The first two fill every hole, that of a row that was missing and that of a value that was
/// ([`added_only`](Filled::added_only): not the latter). The next two fill added rows alone, since
/// a blank that was recorded is an unknown and not a nothing ([`blanks_too`](Filled::blanks_too):
/// those as well). The ledger counts both kinds of hole apart.
///
/// Added rows are dated by the last day of their period where all records stand on last days, else
/// by the first; moments at the beginning of that day in [`Context::zone`]. Records keep their own
/// date. The answer is in order of entity and date. Set aside: rows without a date, rows that miss
/// a key. Dropped: rows outside a stated range.
///
/// Errors: a column is missing, holds no dates, or no numbers where such are needed; a column has
/// two rules; periods finer than the column's own; two records of one entity and period; a value
/// that is none of its column; a column to keep that varies; more rows than allowed. Costs a
/// timeline and one write of the answer.
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
/// assert_eq!((outcome.table.rows(), outcome.ledger.count("added")), (4, 2));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "filled",
    answers = "What does the series look like with one row for every day, its holes filled by a \
        stated rule?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Filled {
    /// The columns that identify the entity. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// One row for every hour (of moments), day, week, month, quarter or year. The default is
    /// `day`.
    #[setting(text = "GRAIN")]
    pub grain: Option<Grain>,
    /// From when to when: over all of the data, from each entity's first date to its last, or
    /// from one day or period to another. The default is `data`.
    #[setting(text = "data|each|A..B")]
    pub range: Extent,
    /// Carry the last value of these into every hole.
    #[setting(columns)]
    pub carry: Vec<String>,
    /// Draw a straight line through the holes of these, between values.
    #[setting(columns)]
    pub linear: Vec<String>,
    /// Write 0 into added rows of these.
    #[setting(columns)]
    pub zero: Vec<String>,
    /// Write this value into added rows of the column.
    #[setting(texts = "COL=VALUE")]
    pub set: Vec<String>,
    /// Carry a value over at most so many periods.
    #[setting(number, from = 1)]
    pub limit: Option<u32>,
    /// Carry and draw into added rows alone, not into blanks.
    #[setting(yes)]
    pub added_only: bool,
    /// Write zeros and set values into blanks too.
    #[setting(yes)]
    pub blanks_too: bool,
    /// Date added rows by the first or last day of their period. The default is as the data is.
    #[setting(one_of)]
    pub dated: Option<Dated>,
    /// Tell in a column of this name which rows were added.
    #[setting(name)]
    pub mark: Option<String>,
    /// Repeat these, which never vary within an entity, in added rows.
    #[setting(columns)]
    pub keep_with: Vec<String>,
    /// Rows for the entities in these columns of a file too, in the order of `per`:
    /// vessels.csv:vessel.
    #[setting(entities)]
    pub entities: Option<EntityList>,
    /// The day on which weeks begin. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// The month in which years begin. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// How many rows the answer may have. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

/// From when to when there is a row for every period.
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

/// Which day of its period an added row is dated by.
#[derive(Clone, Copy, Debug, PartialEq, Eq, jembric_derive::Words)]
pub enum Dated {
    /// The first.
    First,
    /// The last.
    Last,
}

callable!(Filled);

impl Filled {
    /// By the dates of this column, one row a day, with the whole table as one entity.
    pub fn new(date: impl Into<String>) -> Filled {
        Filled { date: date.into(), ..Filled::default() }
    }

    fn grain_or_day(&self) -> Grain {
        self.grain.unwrap_or(Grain::Day)
    }

    fn periods(&self) -> Periods {
        Periods::cut(self.grain_or_day(), self.week_start, self.year_start)
    }

    /// The columns that have a rule, each with its rule and the setting that gives it.
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
                    let value = format!("`{}`, which has a rule already", named.column);
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
            Filled { limit: Some(_), carry, .. } if carry.is_empty() => {
                needs("limit", "`carry`")
            }
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
            Filled { entities: Some(_), per, .. } if per.is_empty() => {
                needs("entities", "`per`")
            }
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
            Extent::Data => String::new(),
            Extent::Each => ", each from its first date to its last".to_owned(),
            Extent::Stated(range) => format!(", {range}"),
        };
        format!("filled by {}{per} and {}{over}", self.date, self.grain_or_day())
    }
}

/// The column and the value of `COL=VALUE`.
fn split_set(text: &str) -> Result<(&str, &str)> {
    match text.split_once('=') {
        Some((column, value)) => Ok((column.trim(), value.trim())),
        None => {
            refuse("set", format!("`{text}`"), "a column and its value, such as `state=closed`")
        }
    }
}

/// How the holes of a column are filled.
#[derive(Clone, Debug, PartialEq, Eq)]
enum FillRule {
    /// By the last value, over at most so many periods.
    Carry {
        limit: u32,
    },
    /// In a straight line between the values on both sides.
    Linear,
    Zero,
    /// By this value.
    Set(String),
    /// By what the entity's other rows say.
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
            accounting,
        };
        Ok(Plan::new(&[shape], context, (result, uses, Access::ByEntity), plan))
    }
}

struct FilledPlan {
    step: String,
    date_name: String,
    date: usize,
    per: Vec<Named>,
    /// For each column of the table its new name and how its holes are filled, if they are.
    rules: Vec<Option<(String, FillRule)>>,
    grain: Option<Grain>,
    periods: Periods,
    extent: Extent,
    /// Whether values are carried and drawn into blanks, and whether zeros and values are set
    /// there.
    fills_blanks: bool,
    sets_blanks: bool,
    dated: Option<Dated>,
    mark: Option<String>,
    entities: EntityList,
    most_rows: u64,
    accounting: Accounting,
}

impl FilledPlan {
    /// What is needed to make the answer, and the account of the rows.
    fn laid_out(
        &self,
        table: &Table,
        context: &Context,
    ) -> Result<(Cells, Vec<Fill>, Ledger, Table)> {
        let dates = table.dates_at(self.date);
        let axis = Axis::of(&self.date_name, &dates, self.periods, &context.zone)?;
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        let mut keyed = all();
        for named in &self.per {
            if let Some(nulls) = table.at(named.place).logical_nulls() {
                keyed = &keyed & nulls.inner();
            }
        }
        let usable = &dated & &keyed;
        let stated = match self.extent {
            Extent::Stated(range) => Some(range.to_whole(dates.periods())),
            _ => None,
        };
        let none = || [(); 2].map(|()| BooleanBuffer::new_unset(table.rows()));
        let [before, after] = stated.map_or_else(none, |range| dates.outside(range, &context.zone));
        let outside = &usable & &(&before | &after);
        let kept = &usable & &!&outside;
        let masks = RowMasks {
            kept: kept.clone(),
            dropped: vec![(Reason::OutsideRange, outside)],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = masks.account(self.step.clone(), table, &self.accounting)?;
        ledger.zone = Some(context.zone.to_string()).filter(|_| axis.instants);

        let cells = Cells::lay_out(self, table, [&usable, &kept, &before], axis)?;
        ledger.view = stated.or_else(|| cells.view());
        let cut = stated.and_then(|range| Warning::of_periods_in_part(range, self.periods, None));
        ledger.warnings.extend(cut);
        ledger.counts.push(("rows in the result".into(), cells.count()));
        ledger.counts.push(("rows recorded".into(), ledger.kept));
        ledger.counts.push(("rows added".into(), cells.count() - ledger.kept));
        ledger.note("entities without a record", cells.without_record);
        ledger.note("entities named twice", cells.named_twice);
        ledger.note("entities named without a key", cells.without_key);
        let fills = Fill::of(self, &cells)?;
        Ok((cells, fills, ledger, set_aside))
    }
}

impl Prepared for FilledPlan {
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
