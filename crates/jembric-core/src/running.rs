//! [`Running`]: the running maximum, minimum, sum, mean and count, over all earlier dates or a
//! trailing span.
//!
//! The rows of each entity are sorted by date, unless they are sorted already. At each date, the
//! rows that count form a run that ends there. The start of the run only moves forward, so sums add
//! and subtract each value once, and the maximum is at the head of a queue of values that are each
//! less than those before them (the "ascending minima" of Douglas, 1996). This is one pass over
//! each entity.

mod carried;
mod sorted_records;
mod track;

use crate::{
    calendar::{Grain, Month, Periods, Span, Weekday},
    context::Context,
    decimal::Decimal,
    entities::{Entities, Missing},
    error::{Result, excludes, in_setting, needs, refuse},
    kind::Type,
    ledger::{Accounting, Cause, Outcome, Reason, RowMasks},
    operation::{Operation, callable},
    plan::{Apply, ByEntity, InOrder, Inputs, Kind, Pieces, Plan, Prepared, ResultOrder, Roles},
    role::Role,
    shape::{ColumnShape, Named, Shape},
    table::Table,
};
use arrow_array::{Array, ArrayRef};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use carried::{Carrying, Earlier};
use serde::Serialize;
use std::{collections::BTreeMap, sync::Arc};
use track::Track;

/// Adds the maximum, minimum, sum, mean and count so far to each record, per entity and by date.
///
/// The columns are `max_so_far_COL`, `min_so_far_COL`, `sum_so_far_COL`, `mean_so_far_COL` and
/// `count_so_far` (of records). With [`trailing`](Running::trailing) they are `max_trailing_COL`
/// and so on, over the days of that span up to and including the date. Rows keep their order.
/// Records with the same date share the value of the whole date (for moments: of the same moment),
/// unless [`row_by_row`](Running::row_by_row) takes them in the order of the rows. Missing values
/// are skipped, and the running value continues. Before the first value a maximum, minimum or mean
/// is missing, and a sum is 0 or the opening balance.
///
/// Sums of whole numbers and decimals are exact, in the column's own type. Sums of floats are exact
/// until they are rounded once, so they do not depend on the order of the rows either. Means are
/// floats. Set aside: rows without a date, rows without a key. Points in time are converted to days
/// in [`Context::zone`].
///
/// Errors: a column is missing, or holds no dates or numbers; no figure is requested; periods or a
/// span finer than the column's own; a sum that is too large, or of an infinite value. Cost: a
/// timeline, one pass over each entity, and one random access for each row and column.
///
/// ```
/// use jembric_core::{Running, Table};
/// use jembric_core::arrow::{ArrayRef, Date32Array, Int64Array, cast::AsArray, types::Int64Type};
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
    does = "Add running maxima, minima, sums, means and counts",
    answers = "What is the highest level so far, or the mean of the last 28 days?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Running {
    /// Identify the entity by these columns. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Add the running maximum of these columns.
    #[setting(columns)]
    pub max: Vec<String>,
    /// Add the running minimum of these columns.
    #[setting(columns)]
    pub min: Vec<String>,
    /// Add the running sum of these columns.
    #[setting(columns)]
    pub sum: Vec<String>,
    /// Add the running mean of these columns.
    #[setting(columns)]
    pub mean: Vec<String>,
    /// Add the running count of records.
    #[setting(yes)]
    pub count: bool,
    /// Use only the days of this span up to and including the date: '28 days', '3 months'.
    #[setting(text = "SPAN")]
    pub trailing: Option<Span>,
    /// Restart at the beginning of every week, month, quarter or year.
    #[setting(text = "GRAIN")]
    pub anew_each: Option<Grain>,
    /// Begin weeks on this weekday; needs `anew-each`. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// Begin years in this month; needs `anew-each`. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// Begin the sums with this opening balance.
    #[setting(text = "NUMBER")]
    pub opening: Option<Decimal>,
    /// Add a column with this name that is true if the first `max` column exceeds every earlier
    /// date.
    #[setting(name)]
    pub mark_highs: Option<String>,
    /// Take records with the same date one by one, in the order of the rows, instead of together.
    #[setting(yes)]
    pub row_by_row: bool,
}

callable!(Running);

/// A running figure of a column.
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

/// A requested column.
struct RunningColumn {
    figure: Figure,
    /// The place of its input column.
    place: usize,
    /// Its name.
    name: String,
}

impl Running {
    /// Uses this column of dates, with the whole table as one entity; request figures next.
    pub fn new(date: impl Into<String>) -> Running {
        Running { date: date.into(), ..Running::default() }
    }

    fn periods(&self) -> Option<Periods> {
        self.anew_each.map(|grain| Periods::cut(grain, self.week_start, self.year_start))
    }

    /// The lists of columns, each with its figure.
    fn lists(&self) -> [(Figure, &[String]); 4] {
        [
            (Figure::Max, &self.max),
            (Figure::Min, &self.min),
            (Figure::Sum, &self.sum),
            (Figure::Mean, &self.mean),
        ]
    }

    fn name(&self, figure: Figure, named: &Named) -> String {
        if named.shown_as == named.column {
            format!("{}_{}_{}", figure.word(), self.reach(), named.column)
        } else {
            named.shown_as.clone()
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
            _ if self.mark_highs.is_some() && self.max.is_empty() => needs("mark-highs", "`max`"),
            _ if self.trailing.is_some_and(not_forward) => {
                refused("trailing", "not a span forward in time", "a span such as `28 days`")
            }
            (_, Some(Grain::Hour)) => refused("anew-each", "hour", "a day or longer"),
            (Some(_), _) if self.sum.is_empty() => needs("opening", "`sum`"),
            (Some(_), Some(_)) => excludes("opening", "`anew-each`"),
            (Some(_), _) if self.trailing.is_some() => excludes("opening", "`trailing`"),
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
        let requested = self.lists().into_iter().filter(|(_, list)| !list.is_empty());
        let mut requested: Vec<String> = requested
            .map(|(figure, list)| format!("{} of {}", figure.word(), list.join(", ")))
            .collect();
        if self.count {
            requested.push("count".to_owned());
        }
        let over = self.trailing.map(|span| format!(", trailing {span}")).unwrap_or_default();
        let anew =
            self.anew_each.map(|grain| format!(", restarting each {grain}")).unwrap_or_default();
        format!("running {}{per} by {}{over}{anew}", requested.join(", "), self.date)
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
        let mut requested = Vec::new();
        for (figure, list) in self.lists() {
            in_setting(figure.word(), || {
                for named in shape.named(list)? {
                    shape.expect_numbers(&named.column)?;
                    let name = self.name(figure, &named);
                    let own = shape.kind(named.place);
                    let kind = if figure == Figure::Mean { Some(Type::Float) } else { own };
                    result = result.with_shape(ColumnShape::new(&name, kind))?;
                    requested.push(RunningColumn { figure, place: named.place, name });
                }
                Ok(())
            })?;
        }
        let count = self.count.then(|| format!("count_{}", self.reach()));
        if let Some(name) = &count {
            result = in_setting("count", || result.with(name, Type::Integer))?;
        }
        let highs = requested.first().map(|first| first.place);
        let highs = self.mark_highs.clone().zip(highs);
        if let Some((name, _)) = &highs {
            result = in_setting("mark-highs", || result.with(name, Type::Boolean))?;
        }
        let mut uses =
            Inputs::passing(shape).using([date]).using_named(&per).accounting(&accounting);
        uses = uses.using(requested.iter().map(|requested| requested.place));
        // The figures hold until the next date. The columns that they run over are not drawn.
        let added = requested.iter().map(|requested| requested.name.clone()).chain(count.clone());
        let roles = Roles::default().with(&self.date, Role::Date).keys(&per);
        let roles = added.fold(roles, |roles, name| roles.with(name, Role::State));
        let plan = RunningPlan {
            step: self.step(),
            date_name: self.date.clone(),
            date,
            per,
            requested,
            count,
            highs,
            trailing: self.trailing,
            periods: self.periods(),
            opening: self.opening,
            row_by_row: self.row_by_row,
            accounting,
        };
        let keys = plan.per.iter().map(|key| key.place);
        let division = ByEntity::or_dates(keys, date, ResultOrder::Rows(0));
        let (kind, prepared) = (Kind::Divided(division), Prepared::in_order(Arc::new(plan)));
        Ok(Plan::new(&[shape], context, (result, uses, kind), prepared).with_roles(roles))
    }
}

struct RunningPlan {
    step: String,
    date_name: String,
    date: usize,
    per: Vec<Named>,
    requested: Vec<RunningColumn>,
    /// The name of the column of counts, if it is requested.
    count: Option<String>,
    /// The name of the column of new highs, and its input column.
    highs: Option<(String, usize)>,
    trailing: Option<Span>,
    /// The periods at which runs restart.
    periods: Option<Periods>,
    opening: Option<Decimal>,
    row_by_row: bool,
    accounting: Accounting,
}

impl Apply for RunningPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        Ok(self.piece(tables[0], None, false, context)?.0)
    }
}

impl InOrder for RunningPlan {
    fn begin(self: Arc<Self>) -> Box<dyn Pieces> {
        Box::new(Carrying { plan: self, earlier: None })
    }
}

impl RunningPlan {
    /// The result of some rows, after those of which something is known, and if it is carried on,
    /// what is known after them.
    fn piece(
        &self,
        table: &Table,
        earlier: Option<&Earlier>,
        carries: bool,
        context: &Context,
    ) -> Result<(Outcome, Option<Earlier>)> {
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = table.dates_at(self.date).nulls().map_or_else(all, NullBuffer::into_inner);
        let entities = self.entities(table)?;
        let keyed = entities.rows_with_one().unwrap_or_else(all);
        let kept = &dated & &keyed;
        let masks = RowMasks {
            kept: kept.clone(),
            dropped: Vec::new(),
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = masks.account(self.step.clone(), table, &self.accounting)?;

        let own = table.filter(&kept)?;
        let (used, before) = match earlier {
            Some(Earlier::Records(records)) => {
                (Table::joined(records, &[own.clone().anonymous()])?, None)
            }
            Some(Earlier::Run(before)) => (own.clone(), Some(before)),
            None => (own.clone(), None),
        };
        // The results of records that are in front again are known already.
        let in_front = used.rows() - own.rows();
        let dates = used.dates_at(self.date);
        let entities = if in_front == 0 { entities.only(&kept) } else { self.entities(&used)? };
        let track = Track::new(self, &entities, &dates, before, context)?;
        let last = if carries { track.last_stop() } else { None };
        ledger.zone =
            (track.days.is_some() && dates.are_instants()).then(|| context.zone.to_string());

        let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
        let mut missing = BTreeMap::new();
        let mut figures = Vec::new();
        for (n, requested) in self.requested.iter().enumerate() {
            let before = before.and_then(|before| before.figures.get(n));
            let (array, figure) =
                track.figure_column(self.opening, &used, requested, (before, last.as_ref()))?;
            figures.extend(figure);
            // A missing cell is counted once, even if several figures use it.
            missing.insert(requested.place, own.at(requested.place).logical_null_count() as u64);
            columns.push((Field::new(&requested.name, array.data_type().clone(), true), array));
        }
        if let Some(name) = &self.count {
            columns.push((Field::new(name, DataType::Int64, true), track.counts()));
        }
        ledger.note("missing values skipped", missing.into_values().sum());
        if let Some((name, place)) = &self.highs {
            // The first figure is the maximum of this column.
            let before = before.and_then(|before| before.figures.first());
            let highs = track.highs(used.at(*place), before)?.slice(in_front, own.rows());
            ledger.counts.push(("new highs".into(), highs.true_count() as u64));
            columns.push((Field::new(name, DataType::Boolean, true), Arc::new(highs)));
        }
        let mut answer = own.renamed(&self.per)?.anonymous();
        for (field, array) in columns {
            let has_front = array.len() > own.rows();
            let array = if has_front { array.slice(in_front, own.rows()) } else { array };
            answer = answer.with_field(field, array)?;
        }
        let known = last.map(|last| track.known_after(&last, &used, figures)).transpose()?;
        Ok((Outcome { table: answer, ledger, set_aside }, known))
    }

    fn entities(&self, table: &Table) -> Result<Entities> {
        Entities::of_columns(&table.columns_at(&self.per), table.rows(), Missing::NoEntity)
    }
}

#[cfg(test)]
mod tests;
