//! [`Totals`]: sums, means, counts and other figures per period and key, laid out for a report.
//!
//! `totals/cells` finds the cell of each row: its period, part of a period (such as a weekday),
//! entity and column. `totals/figures` computes the figures of all cells in one pass. Coarser
//! figures (a margin, or a year beside its months) are merged cells, so that no figure is ever
//! computed from rounded ones. `totals/part` holds the cells of some rows and merges those of
//! different rows, and `totals/sheet` lays them out. `totals/of_all` has what a part of the rows
//! must know of all.

mod cells;
mod figures;
mod of_all;
mod partial;
mod requested;
mod sheet;
mod state;

pub use requested::Each;

use crate::{
    calendar::{Grain, Month, Periods, Range, Weekday},
    context::Context,
    error::{Result, Smaller, excludes, in_setting, needs, refuse},
    kind::Type,
    ledger::{Accounting, Cause},
    limits::MOST_ROWS,
    operation::{Operation, callable},
    plan::{
        self, ByEntity, Division, FoldBatches, InParts, Inputs, Kind, Overall, Plan, Prepared,
        ResultOrder, Roles, State,
    },
    role::Role,
    shape::{ColumnShape, Named, Shape},
    table::Table,
    written::EntityList,
};
use of_all::OfAll;
use requested::{RequestedFigure, Scope, What, suffixes};
use serde::Serialize;
use state::TotalsState;
use std::sync::Arc;

/// The default limit on columns side by side.
const MOST_COLUMNS: u64 = 1_000;

/// Computes sums, means, least and greatest values, and counts of records and of distinct values,
/// per period and key.
///
/// The result has a row for each period (in a column named after the grain), part of a period
/// ([`each`](Totals::each)) and combination of keys that has a record, in order. A missing key is a
/// group of its own, the last one. The figures are `sum_COL`, `mean_COL`, `min_COL`, `max_COL`,
/// `count` and `distinct_COL`. With several columns of dates, each has its own figures
/// (`count_arrived`, `count_left`) on a common axis. The default figure is the count. Missing
/// values are skipped: a sum of none is 0; a mean, least or greatest value is missing.
///
/// * [`side_by_side`](Totals::side_by_side): a column for each value of a column, named after the
///   value, with the name of the figure before it if there are several figures; `(missing)` for
///   rows without a value.
/// * [`margins`](Totals::margins): a column `total` over the columns side by side, and a last row
///   over all rows, with `(total)` in its first column of text and missing values in the other key
///   columns.
/// * [`dense`](Totals::dense): every period of the range (or of the data), every part, and every
///   combination of keys that occurs in any row. With
///   [`every_combination`](Totals::every_combination): every value of each key with every value of
///   the others.
/// * [`beside`](Totals::beside): beside each figure the same figure over its whole year
///   (`sum_COL_of_year`, and for sums and counts `share_of_year_COL`), or over all periods.
///   [`beside_every`](Totals::beside_every): over all values of a key (`sum_COL_every_vessel`).
///
/// Sums of whole numbers and decimals are exact. Sums of floats are exact up to the end, where they
/// are rounded once. Means and shares are floats. Set aside: rows without any of the dates.
/// Dropped: rows outside the range. The ledger compares each sum over the rows with the sum over
/// the result.
///
/// Sums of nothing are 0; other figures of nothing are missing. Without a figure, the rows are
/// counted. With parts of periods and no grain, there are no periods. The row of totals has
/// `(total)` in its first column of text. Columns side by side can have margins, but no figures
/// beside them.
///
/// Errors: a column is missing, or holds no dates or no numbers; periods finer than a column's own;
/// settings that contradict each other; more rows or columns than the limit; a sum that is too
/// large, or of an infinite value. Cost: one numbering of the keys, and one pass over the rows for
/// each figure; for the least, greatest and distinct texts also a sort of them.
///
/// ```
/// use jembric_core::{Totals, calendar::Grain, Table, arrow::{ArrayRef, Date32Array, Int64Array}};
/// use std::sync::Arc;
///
/// let issued: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_040]));
/// let amount: ArrayRef = Arc::new(Int64Array::from(vec![10, 20, 5]));
/// let dues = Table::from_columns([("issued", issued), ("amount", amount)])?;
///
/// let outcome = Totals::new().date(["issued"]).grain(Grain::Month).sum(["amount"]).apply(&dues)?;
/// assert_eq!(outcome.table.names().collect::<Vec<_>>(), ["month", "sum_amount"]);
/// assert_eq!(outcome.table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "totals",
    does = "Compute sums, means, counts and other figures per period and group",
    answers = "How many tons arrived in each month, by class of vessel?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Totals {
    /// The column of dates or moments; several share one axis.
    #[setting(columns)]
    pub date: Vec<String>,
    /// Use periods of this length: hour (for moments), day, week, month, quarter or year. The
    /// default is `day`, and none with `each`.
    #[setting(text = "GRAIN")]
    pub grain: Option<Grain>,
    /// Group by these columns.
    #[setting(columns)]
    pub per: Vec<String>,
    /// Group by a recurring part of the date: weekday, month of year, day of month or hour of day.
    #[setting(one_of)]
    pub each: Option<Each>,
    /// Sum these columns.
    #[setting(columns)]
    pub sum: Vec<String>,
    /// Average these columns.
    #[setting(columns)]
    pub mean: Vec<String>,
    /// Find the least value of these columns.
    #[setting(columns)]
    pub min: Vec<String>,
    /// Find the greatest value of these columns.
    #[setting(columns)]
    pub max: Vec<String>,
    /// Count the records. This is the default without any figure.
    #[setting(yes)]
    pub count: bool,
    /// Count the distinct values of these columns.
    #[setting(columns)]
    pub distinct: Vec<String>,
    /// Make a column for each value of this column.
    #[setting(column)]
    pub side_by_side: Option<String>,
    /// Add a column of totals over the columns side by side, and a row of totals.
    #[setting(yes)]
    pub margins: bool,
    /// List every period and every combination of keys that occurs, also without records.
    #[setting(yes)]
    pub dense: bool,
    /// With `dense`, list every combination of the values of the keys, also those that occur in no
    /// row.
    #[setting(yes)]
    pub every_combination: bool,
    /// Use only this range of days or whole periods: 2025-01-01..2025-03-31, 2025-01..2025-06.
    #[setting(text = "A..B")]
    pub range: Option<Range>,
    /// With `dense`, add the keys in these columns of a file, in the order of `per`:
    /// vessels.csv:vessel.
    #[setting(entities)]
    pub entities: Option<EntityList>,
    /// Add each figure over its whole month, quarter or year, or over all periods, and the share of
    /// it.
    #[setting(texts = "GRAIN|all,…")]
    pub beside: Vec<String>,
    /// Add each figure over all values of these keys.
    #[setting(columns)]
    pub beside_every: Vec<String>,
    /// Name the column of periods. The default is `day`, `month` and so on, after the grain.
    #[setting(name)]
    pub name: Option<String>,
    /// Begin weeks on this weekday. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// Begin years in this month. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
    /// Limit the number of columns side by side. The default is `1000`.
    #[setting(number, default = MOST_COLUMNS)]
    pub most_side_by_side: u64,
}

callable!(Totals);

impl Totals {
    /// Totals over the whole table; add the grouping and the figures next.
    pub fn new() -> Totals {
        Totals::default()
    }

    /// How days are grouped into the periods of rows; none if rows are not by period.
    fn periods(&self) -> Option<Periods> {
        let day = (!self.date.is_empty() && self.each.is_none()).then_some(Grain::Day);
        self.grain.or(day).map(|grain| self.cut(grain))
    }

    fn cut(&self, grain: Grain) -> Periods {
        Periods::cut(grain, self.week_start, self.year_start)
    }

    /// The lists of columns, each with its figure.
    fn lists(&self) -> [(What, &'static str, &[String]); 5] {
        [
            (What::Sum, "sum", &self.sum),
            (What::Mean, "mean", &self.mean),
            (What::Min, "min", &self.min),
            (What::Max, "max", &self.max),
            (What::Distinct, "distinct", &self.distinct),
        ]
    }

    fn requested(&self, shape: &Shape) -> Result<Vec<RequestedFigure>> {
        let mut requested = Vec::new();
        for (what, word, list) in self.lists() {
            for Named { column, shown_as, place } in in_setting(word, || shape.named(list))? {
                if matches!(what, What::Sum | What::Mean) {
                    in_setting(word, || shape.expect_numbers(&column))?;
                }
                let name =
                    if shown_as == column { format!("{word}_{column}") } else { shown_as.clone() };
                let share = (what == What::Sum).then_some(shown_as);
                requested.push(RequestedFigure { what, column, place: Some(place), name, share });
            }
        }
        if self.count || requested.is_empty() {
            let name = "count".to_owned();
            let (column, share) = (String::new(), Some(name.clone()));
            requested.push(RequestedFigure { what: What::Count, column, place: None, name, share });
        }
        Ok(requested)
    }

    /// The wider scopes whose figures stand beside each figure.
    fn scopes(&self, per: &[Named]) -> Result<Vec<Scope>> {
        let mut scopes = Vec::new();
        for word in &self.beside {
            scopes.push(match word.trim() {
                "all" => Scope::All,
                grain => Scope::Periods(self.cut(in_setting("beside", || Ok(grain.parse()?))?)),
            });
        }
        for name in &self.beside_every {
            let key = per.iter().position(|named| named.column == *name || named.shown_as == *name);
            let Some(key) = key else {
                return refuse("beside-every", format!("`{name}`"), "one of the columns of `per`");
            };
            scopes.push(Scope::Every { key, shown_as: per[key].shown_as.clone() });
        }
        Ok(scopes)
    }

    fn check_settings(&self, scopes: &[Scope]) -> Result<()> {
        let periods = self.periods();
        if self.date.is_empty() {
            let needing = [
                ("grain", self.grain.is_some()),
                ("each", self.each.is_some()),
                ("range", self.range.is_some()),
                ("beside", !self.beside.is_empty()),
            ];
            if let Some((setting, _)) = needing.into_iter().find(|(_, given)| *given) {
                return needs(setting, "`date`");
            }
        }
        let is_grouped = !self.date.is_empty() || !self.per.is_empty();
        let has_more_beside = !self.beside.is_empty() || !self.beside_every.is_empty();
        match self {
            Totals { dense: false, entities: Some(_), .. } => needs("entities", "`dense`")?,
            Totals { dense: false, every_combination: true, .. } => {
                needs("every-combination", "`dense`")?;
            }
            Totals { per, every_combination: true, .. } if per.len() < 2 => {
                needs("every-combination", "at least two columns in `per`")?;
            }
            Totals { per, entities: Some(_), .. } if per.is_empty() => needs("entities", "`per`")?,
            Totals { dense: true, date, entities: None, every_combination: false, .. }
                if date.is_empty() =>
            {
                needs("dense", "`date`, `entities` or `every-combination`")?;
            }
            Totals { margins: true, side_by_side: None, .. } if !is_grouped => {
                needs("margins", "`date`, `per` or `side-by-side`")?;
            }
            Totals { side_by_side: Some(_), .. } if has_more_beside => {
                excludes("side-by-side", "`beside` and `beside-every`")?;
            }
            Totals { year_start, week_start, .. }
                if periods.is_none()
                    && self.each.is_none()
                    && (year_start.is_some() || week_start.is_some()) =>
            {
                let given = if week_start.is_some() { "week-start" } else { "year-start" };
                needs(given, "`date`")?;
            }
            _ => {}
        }
        for scope in scopes {
            let Scope::Periods(longer) = *scope else { continue };
            let fits = periods.is_some_and(|periods| {
                longer.grain().holds(periods.grain()) && (longer != periods || self.each.is_some())
            });
            if !fits {
                let expected =
                    "`all`, or a longer period that consists of whole periods of `grain`";
                return refuse("beside", longer.grain().word(), expected);
            }
        }
        Ok(())
    }

    /// The names of the columns of figures, for each date and for each scope, if nothing is side by
    /// side.
    fn figure_names<'a>(
        requested: &'a [RequestedFigure],
        dates: &[Named],
        scopes: &[Scope],
    ) -> Vec<(String, What, Option<&'a RequestedFigure>)> {
        let mut names = Vec::new();
        for requested in requested {
            for suffix in suffixes(dates) {
                names.push((
                    format!("{}{suffix}", requested.name),
                    requested.what,
                    Some(requested),
                ));
            }
        }
        for scope in scopes {
            for requested in requested {
                for suffix in suffixes(dates) {
                    let share = requested.share.as_ref().map(|share| format!("{share}{suffix}"));
                    let (name, share) =
                        scope.names(&format!("{}{suffix}", requested.name), share.as_deref());
                    names.push((name, requested.what, Some(requested)));
                    names.extend(share.map(|share| (share, What::Mean, None)));
                }
            }
        }
        names
    }

    /// The roles of the columns of the result. Figures of another kind have another unit, so only
    /// the first one is drawn.
    fn roles(&self, dates: &[Named], per: &[Named], requested: &[RequestedFigure]) -> Roles {
        let mut roles = Roles::default();
        if let Some(periods) = self.periods() {
            roles =
                roles.with(self.name.as_deref().unwrap_or(periods.grain().word()), Role::Period);
        }
        if let Some(each) = self.each {
            roles = roles.with(each.column(), Role::Key);
        }
        roles = roles.keys(per);
        match requested.first() {
            // With several figures side by side, the columns of the first cannot be told apart.
            _ if self.side_by_side.is_some() => roles.others(Role::Measure, sheet::TOTAL_COLUMN),
            Some(first) => suffixes(dates).into_iter().fold(roles, |roles, suffix| {
                roles.with(format!("{}{suffix}", first.name), Role::Measure)
            }),
            None => roles,
        }
    }

    /// The columns of the result, as far as they are known without the data.
    fn result(
        &self,
        shape: &Shape,
        dates: &[Named],
        per: &[Named],
        requested: &[RequestedFigure],
        scopes: &[Scope],
    ) -> Result<Shape> {
        let mut result = Shape::of_names(Vec::<String>::new());
        if let Some(periods) = self.periods() {
            let instant =
                |named: &Named| shape.kind(named.place) == Some(Type::Moment { instant: true });
            let kind = match periods.grain() {
                Grain::Hour => Type::Moment { instant: dates.first().is_some_and(instant) },
                _ => Type::Date(periods),
            };
            let name = self.name.as_deref().unwrap_or(periods.grain().word());
            result = in_setting("name", || result.with(name, kind))?;
        }
        if let Some(each) = self.each {
            let text = matches!(each, Each::Weekday | Each::MonthOfYear);
            result = result.with(each.column(), if text { Type::Text } else { Type::Integer })?;
        }
        for column in shape.select(per)?.columns {
            result = in_setting("per", || result.with_shape(column))?;
        }
        if self.side_by_side.is_some() {
            // The columns side by side depend on the data.
            return Ok(result);
        }
        for (name, what, requested) in Totals::figure_names(requested, dates, scopes) {
            let kind = match what {
                What::Count | What::Distinct => Some(Type::Integer),
                What::Mean => Some(Type::Float),
                _ => requested.and_then(|requested| shape.kind(requested.place?)),
            };
            result = result.with_shape(ColumnShape::new(name, kind))?;
        }
        Ok(result)
    }

    fn step(&self) -> String {
        let mut requested: Vec<String> = Vec::new();
        for (_, word, list) in self.lists().into_iter().filter(|(.., list)| !list.is_empty()) {
            requested.push(format!("{word} of {}", list.join(", ")));
        }
        if self.count || requested.is_empty() {
            requested.push("count".to_owned());
        }
        let mut by = Vec::new();
        if let Some(periods) = self.periods() {
            by.push(format!("{} of {}", periods.grain(), self.date.join(", ")));
        }
        if let Some(each) = self.each {
            by.push(each.column().replace('_', " "));
        }
        by.extend(self.per.iter().cloned());
        let by = if by.is_empty() { String::new() } else { format!(" by {}", by.join(", ")) };
        let beside = self
            .side_by_side
            .as_ref()
            .map(|column| format!(", {column} side by side"))
            .unwrap_or_default();
        format!("totals: {}{by}{beside}", requested.join(", "))
    }
}

impl Operation for Totals {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let accounting = Accounting::prepare(shape, context)?.warning_of([Cause::OutsideRange]);
        let per = in_setting("per", || shape.named(&self.per))?;
        let scopes = self.scopes(&per)?;
        self.check_settings(&scopes)?;
        let dates = in_setting("date", || {
            let dates = shape.named(&self.date)?;
            dates.iter().try_for_each(|named| shape.expect_dates(&named.column))?;
            Ok(dates)
        })?;
        let side = in_setting("side-by-side", || shape.named(self.side_by_side.as_slice()))?;
        let requested = self.requested(shape)?;
        let result = self.result(shape, &dates, &per, &requested, &scopes)?;
        let uses = Inputs::new().using_named(&dates).using_named(&per).using_named(&side);
        let uses = uses
            .using(requested.iter().filter_map(|requested| requested.place))
            .accounting(&accounting);
        let first_part = match self.each {
            Some(Each::Weekday) => self.week_start.unwrap_or(Weekday::Monday).number() - 1,
            Some(Each::MonthOfYear) => self.year_start.unwrap_or(Month::January).number() - 1,
            _ => 0,
        };
        let periods = self.periods();
        let default_name = periods.map_or("", |periods| periods.grain().word());
        let roles = self.roles(&dates, &per, &requested);
        let plan = TotalsPlan {
            shape: shape.clone(),
            step: self.step(),
            suffixes: suffixes(&dates),
            dates,
            per,
            side,
            requested,
            scopes,
            period_name: self.name.clone().unwrap_or_else(|| default_name.to_owned()),
            periods,
            each: self.each,
            first_part,
            range: self.range,
            dense: self.dense,
            every_combination: self.every_combination,
            margins: self.margins,
            only_last_row: false,
            entities: self.entities.clone(),
            most_rows: self.most_rows,
            most_side_by_side: self.most_side_by_side,
            accounting,
            of_all: None,
        };
        // Rows are in the order of their periods, parts and keys, which are the first columns.
        let first = usize::from(plan.periods.is_some()) + usize::from(plan.each.is_some());
        let order = ResultOrder::Columns((0..first + plan.per.len()).collect());
        let keys = plan.dividing_keys().into_iter().map(|key| plan.per[key].place).collect();
        let division = ByEntity::by(keys, order)
            .map(|division| Division::Entities(ByEntity { missing_is_a_key: true, ..division }));
        let last_rows = self.margins.then(|| TotalsPlan { only_last_row: true, ..plan.clone() });
        let kind = Kind::OnePass(division);
        let plan = Plan::new(&[shape], context, (result, uses, kind), plan.prepared());
        let plan = plan.with_columns_of_the_data(self.side_by_side.is_some());
        let plan = plan.with_last_rows(last_rows.map(TotalsPlan::prepared));
        let plan = if self.dense {
            plan.limited(self.most_rows, Smaller::LongerGrainOrRange)
        } else {
            plan
        };
        Ok(plan.with_roles(roles))
    }
}

#[derive(Clone)]
struct TotalsPlan {
    /// The shape that the plan was prepared for.
    shape: Shape,
    step: String,
    /// The columns of dates, and the suffix of a figure's name for each.
    dates: Vec<Named>,
    suffixes: Vec<String>,
    per: Vec<Named>,
    /// The column whose values are side by side, if there is one.
    side: Vec<Named>,
    requested: Vec<RequestedFigure>,
    scopes: Vec<Scope>,
    period_name: String,
    /// How days are grouped into the periods of rows; none if rows are not by period.
    periods: Option<Periods>,
    each: Option<Each>,
    /// The first of the parts: the weekday on which weeks begin (from Monday), or the month in
    /// which years begin.
    first_part: u32,
    range: Option<Range>,
    dense: bool,
    every_combination: bool,
    margins: bool,
    /// Whether the result is only the row over all rows.
    only_last_row: bool,
    entities: Option<EntityList>,
    most_rows: u64,
    most_side_by_side: u64,
    accounting: Accounting,
    /// What is known of all rows, if these are only a part of them.
    of_all: Option<OfAll>,
}

impl TotalsPlan {
    fn prepared(self) -> Prepared {
        let plan = Arc::new(self);
        Prepared::folded(plan.clone()).in_parts(plan)
    }
}

impl InParts for TotalsPlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        self.surveyed(table, context).map(Some)
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        let of_all = Some(OfAll { overall, is_first: true });
        TotalsPlan { of_all, ..self.clone() }.prepared()
    }

    fn for_part(&self, part: plan::EntityPart, sample: &Table) -> Result<Option<Prepared>> {
        Ok(Some(self.of_part(part, sample)?.prepared()))
    }
}

impl FoldBatches for TotalsPlan {
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State> {
        TotalsState::begin(self, context)
    }
}

#[cfg(test)]
mod tests;
