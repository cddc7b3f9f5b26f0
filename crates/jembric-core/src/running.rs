//! [`Running`]: what has been so far, or in a trailing stretch of time: the highest, the lowest,
//! the sum, the mean, the count.
//!
//! Each entity's rows are put in order of date, unless they stand so already. At each date the rows
//! that count form a run that ends there; where the run begins only moves forward, so sums gain and
//! lose each value once, and the greatest of a run is at the head of a queue in which every value
//! was greater than those before it (the "ascending minima" of Douglas, 1996). One pass over each
//! entity.

mod track;

use crate::{
    calendar::{Grain, Month, Periods, Span, Weekday},
    context::Context,
    decimal::Decimal,
    entities::{Entities, Missing},
    error::{Result, in_setting, refuse, excludes, needs},
    ledger::{Accounting, Cause, Outcome, Reason, RowMasks},
    operation::{Operation, callable},
    plan::{Access, Inputs, Plan, Prepared},
    shape::{ColumnShape, Named, Shape, Type},
    table::Table,
};
use arrow_array::{Array, ArrayRef};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use serde::Serialize;
use std::{collections::BTreeMap, sync::Arc};
use track::Track;

/// The highest, lowest, sum, mean and count so far, beside each record, per entity and by date.
///
/// Columns `max_so_far_COL`, `min_so_far_COL`, `sum_so_far_COL`, `mean_so_far_COL` and
/// `count_so_far` (of records), or with [`trailing`](Running::trailing) `max_trailing_COL` … over
/// the days of that span up to and including the date. Rows stay in their order. Records of one
/// date share the value of the whole date (of moments: of one moment), unless
/// [`row_by_row`](Running::row_by_row) takes them in the order of the rows. Missing values are
/// passed over: the running value goes on; before any value a maximum, minimum or mean is missing
/// and a sum is 0, or what it is opened with.
///
/// Sums of whole numbers and decimals are exact, in the column's own type. Sums of floats are exact
/// before their one rounding, so they do not depend on the order of the rows either. Means are
/// floats. Set aside: rows without a date, rows that miss a key. Points in time are cut into days
/// of [`Context::zone`].
///
/// Errors: a column is missing, or holds no dates or numbers; nothing is asked; periods or a span
/// finer than the column's own; a sum that does not fit, or of an infinite value. Costs a timeline,
/// one pass over each entity, and a random access a row and column.
///
/// ```
/// use jembric_core::{Running, Table, arrow::{ArrayRef, Date32Array, Int64Array, cast::AsArray, types::Int64Type}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_002]));
/// let level: ArrayRef = Arc::new(Int64Array::from(vec![3, 5, 4]));
/// let gauge = Table::from_columns([("day", day), ("level", level)])?;
///
/// let outcome = Running::new("day").max(["level"]).apply(&gauge)?;
/// let highest = outcome.table.column("max_so_far_level")?.as_primitive::<Int64Type>();
/// assert_eq!(highest, &Int64Array::from(vec![3, 5, 5]));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "running",
    answers = "What is the highest so far, the balance so far, the mean of the last 28 days?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Running {
    /// The columns that identify the entity. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// The greatest so far of these.
    #[setting(columns)]
    pub max: Vec<String>,
    /// The least so far of these.
    #[setting(columns)]
    pub min: Vec<String>,
    /// The sums so far of these.
    #[setting(columns)]
    pub sum: Vec<String>,
    /// The means so far of these.
    #[setting(columns)]
    pub mean: Vec<String>,
    /// How many records so far.
    #[setting(yes)]
    pub count: bool,
    /// Over the days of this span up to and including the date, instead: '28 days', '3 months'.
    #[setting(text = "SPAN")]
    pub trailing: Option<Span>,
    /// Begin anew with every week, month, quarter or year.
    #[setting(text = "GRAIN")]
    pub anew_each: Option<Grain>,
    /// The day on which weeks begin, for `anew-each`. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// The month in which years begin, for `anew-each`. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// The sums begin with this balance, brought forward.
    #[setting(text = "NUMBER")]
    pub opening: Option<Decimal>,
    /// Tell in a column of this name where the first `max` column is above that of every
    /// earlier date.
    #[setting(name)]
    pub mark_highs: Option<String>,
    /// Take records of one date one by one, in the order of the rows, instead of together.
    #[setting(yes)]
    pub row_by_row: bool,
}

callable!(Running);

/// A figure that runs along a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Figure {
    Max,
    Min,
    Sum,
    Mean,
}

impl Figure {
    fn word(self) -> &'static str {
        match self {
            Figure::Max => "max",
            Figure::Min => "min",
            Figure::Sum => "sum",
            Figure::Mean => "mean",
        }
    }
}

/// One column that is asked for.
struct RunningColumn {
    figure: Figure,
    /// The place of the column that it is made from.
    place: usize,
    /// What it is called.
    name: String,
}

impl Running {
    /// By the dates of this column, with the whole table as one entity; what is asked of it
    /// follows.
    pub fn new(date: impl Into<String>) -> Running {
        Running { date: date.into(), ..Running::default() }
    }

    fn periods(&self) -> Option<Periods> {
        self.anew_each.map(|grain| Periods::cut(grain, self.week_start, self.year_start))
    }

    /// The lists of columns, each with the figure that is asked of them.
    fn lists(&self) -> [(Figure, &[String]); 4] {
        [
            (Figure::Max, &self.max),
            (Figure::Min, &self.min),
            (Figure::Sum, &self.sum),
            (Figure::Mean, &self.mean),
        ]
    }

    fn name(&self, figure: Figure, named: &Named) -> String {
        match named.shown_as == named.column {
            true => format!("{}_{}_{}", figure.word(), self.reach(), named.column),
            false => named.shown_as.clone(),
        }
    }

    fn reach(&self) -> &'static str {
        if self.trailing.is_some() { "trailing" } else { "so_far" }
    }

    fn check_settings(&self) -> Result<()> {
        let refused = refuse::<()>;
        let nothing = self.lists().iter().all(|(_, list)| list.is_empty()) && !self.count;
        let not_forward =
            |span: Span| span.month_count() < 0 || span.day_count() < 0 || span == Span::default();
        match (&self.opening, self.anew_each) {
            _ if nothing => {
                refused("max", "not given", "one of `max`, `min`, `sum`, `mean` and `count`")
            }
            _ if self.mark_highs.is_some() && self.max.is_empty() => {
                needs("mark-highs", "`max`")
            }
            _ if self.trailing.is_some_and(not_forward) => {
                refused("trailing", "not a span forward in time", "a span such as `28 days`")
            }
            (_, Some(Grain::Hour)) => refused("anew-each", "hour", "a day or longer"),
            (Some(_), _) if self.sum.is_empty() => needs("opening", "`sum`"),
            (Some(_), Some(_)) => excludes("opening", "`anew-each`"),
            (Some(_), _) if self.trailing.is_some() => {
                excludes("opening", "`trailing`")
            }
            (_, None) if self.week_start.is_some() => needs("week-start", "`anew-each`"),
            (_, None) if self.year_start.is_some() => needs("year-start", "`anew-each`"),
            _ => Ok(()),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" per {}", self.per.join(", "))
        };
        let asked = self.lists().into_iter().filter(|(_, list)| !list.is_empty());
        let mut asked: Vec<String> = asked
            .map(|(figure, list)| format!("{} of {}", figure.word(), list.join(", ")))
            .collect();
        if self.count {
            asked.push("count".to_owned());
        }
        let over = self.trailing.map(|span| format!(", trailing {span}")).unwrap_or_default();
        let anew = self.anew_each.map(|grain| format!(", anew each {grain}")).unwrap_or_default();
        format!("running {}{per} by {}{over}{anew}", asked.join(", "), self.date)
    }
}

impl Operation for Running {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        self.check_settings()?;
        let date = in_setting("date", || shape.place_of_dates(&self.date))?;
        let per = in_setting("per", || shape.named(&self.per))?;
        let accounting = Accounting::prepare(shape, context)?
            .warning_of([Cause::NoDate { column: self.date.clone() }, Cause::no_key(&per)]);
        let mut result = in_setting("per", || shape.renamed(&per))?;
        let mut asked = Vec::new();
        for (figure, list) in self.lists() {
            in_setting(figure.word(), || {
                for named in shape.named(list)? {
                    shape.expect_numbers(&named.column)?;
                    let name = self.name(figure, &named);
                    let own = shape.kind(named.place);
                    let kind = if figure == Figure::Mean { Some(Type::Float) } else { own };
                    result = result.with_shape(ColumnShape { name: name.clone(), kind })?;
                    asked.push(RunningColumn { figure, place: named.place, name });
                }
                Ok(())
            })?;
        }
        let count = self.count.then(|| format!("count_{}", self.reach()));
        if let Some(name) = &count {
            result = in_setting("count", || result.with(name, Type::Integer))?;
        }
        let highs = asked.first().map(|first| first.place);
        let highs = self.mark_highs.clone().zip(highs);
        if let Some((name, _)) = &highs {
            result = in_setting("mark-highs", || result.with(name, Type::Boolean))?;
        }
        let mut uses =
            Inputs::passing(shape).using([date]).using_named(&per).accounting(&accounting);
        uses = uses.using(asked.iter().map(|asked| asked.place));
        let access = if self.per.is_empty() { Access::Ordered } else { Access::ByEntity };
        let plan = RunningPlan {
            step: self.step(),
            date_name: self.date.clone(),
            date,
            per,
            asked,
            count,
            highs,
            trailing: self.trailing,
            periods: self.periods(),
            opening: self.opening,
            row_by_row: self.row_by_row,
            accounting,
        };
        Ok(Plan::new(&[shape], context, (result, uses, access), plan))
    }
}

struct RunningPlan {
    step: String,
    date_name: String,
    date: usize,
    per: Vec<Named>,
    asked: Vec<RunningColumn>,
    /// What the column of counts is called, if there is one.
    count: Option<String>,
    /// What the column of new highs is called, and the column that they are found in.
    highs: Option<(String, usize)>,
    trailing: Option<Span>,
    /// The periods that runs begin anew with.
    periods: Option<Periods>,
    opening: Option<Decimal>,
    row_by_row: bool,
    accounting: Accounting,
}

impl Prepared for RunningPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = table.dates_at(self.date).nulls().map_or_else(all, NullBuffer::into_inner);
        let keyed = self.entities(table)?.rows_with_one().unwrap_or_else(all);
        let kept = &dated & &keyed;
        let masks = RowMasks {
            kept: kept.clone(),
            dropped: Vec::new(),
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = masks.account(self.step.clone(), table, &self.accounting)?;

        let used = table.filter(&kept)?;
        let dates = used.dates_at(self.date);
        let entities = self.entities(&used)?;
        let track = Track::of(self, &entities, &dates, context)?;
        ledger.zone =
            Some(context.zone.to_string()).filter(|_| track.days.is_some() && dates.are_instants());

        let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
        let mut missing = BTreeMap::new();
        for asked in &self.asked {
            let array = track.asked(self.opening, &used, asked)?;
            // A cell that is missing is counted once, however many figures are made of it.
            missing.insert(asked.place, used.at(asked.place).logical_null_count() as u64);
            columns.push((Field::new(&asked.name, array.data_type().clone(), true), array));
        }
        if let Some(name) = &self.count {
            columns.push((Field::new(name, DataType::Int64, true), track.counts()));
        }
        ledger.note("missing values skipped", missing.into_values().sum());
        if let Some((name, place)) = &self.highs {
            let highs = track.highs(used.at(*place))?;
            ledger.counts.push(("new highs".into(), highs.true_count() as u64));
            columns.push((Field::new(name, DataType::Boolean, true), Arc::new(highs)));
        }
        let mut answer = used.renamed(&self.per)?.anonymous();
        for (field, array) in columns {
            answer = answer.with_field(field, array)?;
        }
        Ok(Outcome { table: answer, ledger, set_aside })
    }
}

impl RunningPlan {
    fn entities(&self, table: &Table) -> Result<Entities> {
        Entities::of_columns(&table.columns_at(&self.per), table.rows(), Missing::NoEntity)
    }
}

#[cfg(test)]
mod tests;
