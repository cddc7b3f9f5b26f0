//! [`Totals`]: sums, means, counts and their kin per period and key, laid out for a report.
//!
//! `totals/cells` finds for each row its cell, which has a period, a part of one (a weekday …), an entity and a column to stand in;
//! `totals/figures` adds up in one pass what is asked of each cell; every coarser figure, a margin or a year beside its months, is
//! cells put together, so that nothing is ever made from figures that were rounded. `totals/sheet` lays the cells out.

mod asked;
mod cells;
mod figures;
mod sheet;

pub use asked::Each;

use crate::{
    active::MOST_ROWS,
    calendar::{Grain, Periods, Range, Weekday},
    error::{Error, Result},
    ledger::Outcome,
    operation::{Context, Operation, Setting, Takes, called_alone, told_in_lists, told_of_periods},
    rows::check_reconciled,
    shape::{ColumnShape, Named, Shape, Type},
    table::Table,
    written::EntityList,
};
use asked::{Asked, Scope, What, suffixes};
use serde::{Deserialize, Serialize};

/// How many columns stand side by side at most, if not said otherwise.
const MOST_COLUMNS: u64 = 1_000;

/// Sums, means, least and greatest values, counts of records and of distinct values, per period and per key.
///
/// The answer has a row for each period (in a column named after the grain), part of one ([`each`](Totals::each)) and combination of
/// keys that has a record, in their order; a missing key is a group of its own, the last. Its figures are `sum_COL`, `mean_COL`,
/// `min_COL`, `max_COL`, `count` and `distinct_COL`; of several dates each has its own (`count_arrived`, `count_left`) on one axis.
/// If nothing is asked, it is the count. Missing values are passed over: a sum of none is 0, a mean, least or greatest is missing.
///
/// * [`side_by_side`](Totals::side_by_side): a column for each value of a column, named by it, with the figure's name before
///   it where there are several; `(missing)` for rows without a value.
/// * [`margins`](Totals::margins): a column `total` of what stands side by side, and at the end a row over all rows, which has `(total)`
///   in its first column of text and blanks in the other key columns.
/// * [`dense`](Totals::dense): every period of the range (or of the data), every part, and every combination of keys there is.
/// * [`beside`](Totals::beside): next to each figure the same over its whole year (`sum_COL_of_year`, and of sums and counts
///   `share_of_year_COL`), or over all periods; [`beside_every`](Totals::beside_every): over all values of a key
///   (`sum_COL_every_vessel`).
///
/// Sums of whole numbers and decimals are exact, those of floats to the 93rd binary place below the column's greatest; means and
/// shares are floats. Set aside: rows without any of the dates. Dropped: rows outside the range. The ledger compares each sum over
/// the rows with that over the answer.
///
/// Errors: a column is missing, holds no dates or no numbers; periods finer than a column's own; settings that contradict each
/// other; more rows or columns than allowed; a sum that does not fit, or of an infinite value. Costs a numbering of the keys and a
/// pass over the rows for each figure; least, greatest and distinct of texts a sort of them.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Totals {
    /// The columns of dates or moments; several have one axis.
    #[serde(default)]
    pub date: Vec<String>,
    /// The size of the periods; a day if not said, none if there is `each`.
    #[serde(default)]
    pub grain: Option<Grain>,
    /// The columns by which rows are grouped.
    #[serde(default)]
    pub per: Vec<String>,
    /// By parts of a longer time that come again and again.
    #[serde(default)]
    pub each: Option<Each>,
    /// The sums of these.
    #[serde(default)]
    pub sum: Vec<String>,
    /// The means of these.
    #[serde(default)]
    pub mean: Vec<String>,
    /// The least of these.
    #[serde(default)]
    pub min: Vec<String>,
    /// The greatest of these.
    #[serde(default)]
    pub max: Vec<String>,
    /// How many records.
    #[serde(default)]
    pub count: bool,
    /// How many different values of these.
    #[serde(default)]
    pub distinct: Vec<String>,
    /// A column for each value of this one.
    #[serde(default)]
    pub side_by_side: Option<String>,
    /// A column and a row of totals.
    #[serde(default)]
    pub margins: bool,
    /// A row for every period and every combination of keys, also where there is no record.
    #[serde(default)]
    pub dense: bool,
    /// Only these days or whole periods.
    #[serde(default)]
    pub range: Option<Range>,
    /// Entities that are to have rows even where there is no record of them.
    #[serde(default)]
    pub entities: Option<EntityList>,
    /// Over which longer periods the same is told beside each figure: grains, and `all`.
    #[serde(default)]
    pub beside: Vec<String>,
    /// Over all values of which keys the same is told beside each figure.
    #[serde(default)]
    pub beside_every: Vec<String>,
    /// The name of the period's column.
    #[serde(default)]
    pub name: Option<String>,
    /// The day on which weeks begin; Monday if not said.
    #[serde(default)]
    pub week_start: Option<Weekday>,
    /// The month in which years begin; January if not said.
    #[serde(default)]
    pub year_start: Option<String>,
    /// How many rows the answer may have.
    #[serde(default)]
    pub most_rows: Option<u64>,
    /// How many columns may stand side by side.
    #[serde(default)]
    pub most_side_by_side: Option<u64>,
}

called_alone!(Totals);
told_in_lists!(Totals {
    date: "Per period of this column of dates, or of several on one axis.",
    per: "The columns by which rows are grouped.",
    sum: "The sums of these.",
    mean: "The means of these.",
    min: "The least of these.",
    max: "The greatest of these.",
    distinct: "How many different values of these.",
    beside: "The same over these longer periods, or `all` of them, beside each figure.",
    beside_every: "The same over all values of these keys beside each figure.",
});
told_of_periods!(Totals);

impl Totals {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "totals";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str =
        "How much, how many and what on average, per month, per weekday, per class, side by side?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new("date", Takes::Columns, "The column of dates or moments; several stand on one axis"),
        Setting::new(
            "grain",
            Takes::Text("GRAIN"),
            "The size of the periods: hour (of moments), day, week, month, quarter or year [default: day; with --each none]",
        ),
        Setting::new("per", Takes::Columns, "The columns by which rows are grouped"),
        Setting::new(
            "each",
            Takes::OneOf(&["weekday", "month-of-year", "day-of-month", "hour-of-day"]),
            "By what comes again and again, from all weeks, years, months or days",
        ),
        Setting::new("sum", Takes::Columns, "The sums of these"),
        Setting::new("mean", Takes::Columns, "The means of these"),
        Setting::new("min", Takes::Columns, "The least of these"),
        Setting::new("max", Takes::Columns, "The greatest of these"),
        Setting::new("count", Takes::Yes, "How many records [default where nothing is asked]"),
        Setting::new("distinct", Takes::Columns, "How many different values of these"),
        Setting::new("side-by-side", Takes::Column, "A column for each value of this one"),
        Setting::new(
            "margins",
            Takes::Yes,
            "A column of totals over what is side by side, and a row of totals",
        ),
        Setting::new(
            "dense",
            Takes::Yes,
            "Every period and every combination of keys, also without a record",
        ),
        Setting::new(
            "range",
            Takes::Text("A..B"),
            "Only these days or whole periods: 2025-01-01..2025-03-31, 2025-01..2025-06",
        ),
        Setting::new(
            "entities",
            Takes::Entities,
            "With --dense, the keys in these columns of a file too, in the order of --per: vessels.csv:vessel",
        ),
        Setting::new(
            "beside",
            Takes::Texts("GRAIN|all,…"),
            "Beside each figure the same over its whole month, quarter or year, or over all periods, and the share of it",
        ),
        Setting::new(
            "beside-every",
            Takes::Columns,
            "Beside each figure the same over all values of these keys",
        ),
        Setting::new("name", Takes::Name, "The name of the period's column [default: month, by the grain]"),
        Setting::new("week-start", Takes::Text("WEEKDAY"), "The day on which weeks begin [default: Monday]"),
        Setting::new("year-start", Takes::Text("MONTH"), "The month in which years begin [default: January]"),
        Setting::new("most-rows", Takes::Number, "How many rows the answer may have [default: 200000000]"),
        Setting::new(
            "most-side-by-side",
            Takes::Number,
            "How many columns may stand side by side [default: 1000]",
        ),
    ];

    /// Of the whole table; what it is grouped by and what is asked follow.
    pub fn new() -> Totals {
        Totals::default()
    }

    /// The size of the periods.
    pub fn grain(mut self, grain: Grain) -> Totals {
        self.grain = Some(grain);
        self
    }

    /// By what comes again and again.
    pub fn each(mut self, each: Each) -> Totals {
        self.each = Some(each);
        self
    }

    /// How many records.
    pub fn count(mut self) -> Totals {
        self.count = true;
        self
    }

    /// A column for each value of this one.
    pub fn side_by_side(mut self, column: impl Into<String>) -> Totals {
        self.side_by_side = Some(column.into());
        self
    }

    /// A column and a row of totals.
    pub fn margins(mut self) -> Totals {
        self.margins = true;
        self
    }

    /// A row for every period and every combination of keys.
    pub fn dense(mut self) -> Totals {
        self.dense = true;
        self
    }

    /// Only these days.
    pub fn range(mut self, range: Range) -> Totals {
        self.range = Some(range);
        self
    }

    /// Entities that are to have rows even where there is no record of them.
    pub fn entities(mut self, entities: EntityList) -> Totals {
        self.entities = Some(entities);
        self
    }

    /// The name of the period's column.
    pub fn name(mut self, name: impl Into<String>) -> Totals {
        self.name = Some(name.into());
        self
    }

    /// How many rows the answer may have.
    pub fn most_rows(mut self, rows: u64) -> Totals {
        self.most_rows = Some(rows);
        self
    }

    /// How many columns may stand side by side.
    pub fn most_side_by_side(mut self, columns: u64) -> Totals {
        self.most_side_by_side = Some(columns);
        self
    }

    /// How days are cut into the periods of rows; none where rows are not by period.
    fn periods(&self) -> Result<Option<Periods>> {
        let day = (!self.date.is_empty() && self.each.is_none()).then_some(Grain::Day);
        self.grain.or(day).map(|grain| self.cut(grain)).transpose()
    }

    fn cut(&self, grain: Grain) -> Result<Periods> {
        Periods::cut(grain, self.week_start, self.year_start.as_deref())
    }

    fn asked(&self, shape: &Shape) -> Result<Vec<Asked>> {
        let lists = [
            (What::Sum, "sum", &self.sum),
            (What::Mean, "mean", &self.mean),
            (What::Min, "min", &self.min),
            (What::Max, "max", &self.max),
            (What::Distinct, "distinct", &self.distinct),
        ];
        let mut asked = Vec::new();
        for (what, word, list) in lists {
            for Named { column, shown_as } in shape.named(list)? {
                let name = if shown_as == column { format!("{word}_{column}") } else { shown_as.clone() };
                let share = (what == What::Sum).then_some(shown_as);
                asked.push(Asked { what, column, name, share });
            }
        }
        if self.count || asked.is_empty() {
            let (what, name) = (What::Count, "count".to_owned());
            asked.push(Asked { what, column: String::new(), share: Some(name.clone()), name });
        }
        Ok(asked)
    }

    /// Over what the same is told beside each figure.
    fn scopes(&self, shape: &Shape) -> Result<Vec<Scope>> {
        let mut scopes = Vec::new();
        for word in &self.beside {
            scopes.push(match word.trim() {
                "all" => Scope::All,
                grain => Scope::Periods(self.cut(grain.parse()?)?),
            });
        }
        let per = shape.named(&self.per)?;
        for name in &self.beside_every {
            let of_key = per.iter().find(|named| named.column == *name || named.shown_as == *name);
            let Named { column, shown_as } = of_key.cloned().ok_or_else(|| Error::Setting {
                setting: "beside-every",
                value: format!("`{name}`"),
                expected: "one of the columns of `per`",
            })?;
            scopes.push(Scope::Every { column, shown_as });
        }
        Ok(scopes)
    }

    fn check_settings(&self, shape: &Shape) -> Result<()> {
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        let periods = self.periods()?;
        if self.date.is_empty() {
            let needing = [
                ("grain", self.grain.is_some()),
                ("each", self.each.is_some()),
                ("range", self.range.is_some()),
                ("beside", !self.beside.is_empty()),
            ];
            if let Some((setting, _)) = needing.into_iter().find(|(_, given)| *given) {
                return refused(setting, "given", "`date` beside it");
            }
        }
        let is_grouped = !self.date.is_empty() || !self.per.is_empty();
        let has_more_beside = !self.beside.is_empty() || !self.beside_every.is_empty();
        match self {
            Totals { dense: false, entities: Some(_), .. } => {
                refused("entities", "given", "`dense` beside it")?
            }
            Totals { per, entities: Some(_), .. } if per.is_empty() => {
                refused("entities", "given", "`per` beside it")?
            }
            Totals { dense: true, date, entities: None, .. } if date.is_empty() => {
                refused("dense", "given", "`date` or `entities` beside it")?;
            }
            Totals { margins: true, side_by_side: None, .. } if !is_grouped => {
                refused("margins", "given", "`date`, `per` or `side-by-side` beside it")?;
            }
            Totals { side_by_side: Some(_), .. } if has_more_beside => {
                refused("side-by-side", "given", "either it or `beside` and `beside-every`")?;
            }
            Totals { year_start, week_start, .. }
                if periods.is_none()
                    && self.each.is_none()
                    && (year_start.is_some() || week_start.is_some()) =>
            {
                refused("date", "not given", "it beside `week-start` and `year-start`")?;
            }
            _ => {}
        }
        for scope in self.scopes(shape)? {
            let Scope::Periods(longer) = scope else { continue };
            let fits = periods.is_some_and(|periods| {
                longer.grain().holds(periods.grain()) && (longer != periods || self.each.is_some())
            });
            if !fits {
                return refused(
                    "beside",
                    longer.grain().word(),
                    "longer periods that are made of those of the rows, or `all`",
                );
            }
        }
        Ok(())
    }

    /// The names of the figures' columns, those of each date and those beside them, where nothing stands side by side.
    fn figure_names(&self, shape: &Shape) -> Result<Vec<(String, What, String)>> {
        let dates = shape.named(&self.date)?;
        let scopes = self.scopes(shape)?;
        let mut names = Vec::new();
        for asked in self.asked(shape)? {
            for suffix in suffixes(&dates) {
                names.push((format!("{}{suffix}", asked.name), asked.what, asked.column.clone()));
            }
        }
        for scope in &scopes {
            for asked in self.asked(shape)? {
                for suffix in suffixes(&dates) {
                    let share = asked.share.as_ref().map(|share| format!("{share}{suffix}"));
                    let (name, share) = scope.names(&format!("{}{suffix}", asked.name), share.as_deref());
                    names.push((name, asked.what, asked.column.clone()));
                    names.extend(share.map(|share| (share, What::Mean, String::new())));
                }
            }
        }
        Ok(names)
    }

    fn step(&self) -> String {
        let mut asked: Vec<String> = Vec::new();
        let lists = [
            ("sum", &self.sum),
            ("mean", &self.mean),
            ("min", &self.min),
            ("max", &self.max),
            ("distinct", &self.distinct),
        ];
        for (word, list) in lists.into_iter().filter(|(_, list)| !list.is_empty()) {
            asked.push(format!("{word} of {}", list.join(", ")));
        }
        if self.count || asked.is_empty() {
            asked.push("count".to_owned());
        }
        let mut by = Vec::new();
        if let Ok(Some(periods)) = self.periods() {
            by.push(format!("{} of {}", periods.grain(), self.date.join(", ")));
        }
        if let Some(each) = self.each {
            by.push(each.column().replace('_', " "));
        }
        by.extend(self.per.iter().cloned());
        let by = if by.is_empty() { String::new() } else { format!(" by {}", by.join(", ")) };
        let beside =
            self.side_by_side.as_ref().map(|column| format!(", {column} side by side")).unwrap_or_default();
        format!("totals: {}{by}{beside}", asked.join(", "))
    }
}

impl Operation for Totals {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings(shape)?;
        check_reconciled(shape, context)?;
        for named in shape.named(&self.date)? {
            shape.expect_dates(&named.column)?;
        }
        for asked in self.asked(shape)? {
            if matches!(asked.what, What::Sum | What::Mean) {
                shape.expect_numbers(&asked.column)?;
            }
        }
        let mut answer = Shape::of_names(Vec::<String>::new());
        if let Some(periods) = self.periods()? {
            let instant = |named: &Named| {
                shape
                    .find(&named.column)
                    .is_ok_and(|column| column.kind == Some(Type::Moment { instant: true }))
            };
            let kind = match periods.grain() {
                Grain::Hour => {
                    Type::Moment { instant: shape.named(&self.date)?.first().is_some_and(instant) }
                }
                _ => Type::Date(periods),
            };
            answer = answer.with(self.name.as_deref().unwrap_or(periods.grain().word()), kind)?;
        }
        if let Some(each) = self.each {
            let text = matches!(each, Each::Weekday | Each::MonthOfYear);
            answer = answer.with(each.column(), if text { Type::Text } else { Type::Integer })?;
        }
        for column in shape.select(&shape.named(&self.per)?)?.columns {
            answer = answer.with_shape(column)?;
        }
        if let Some(column) = &self.side_by_side {
            // What stands side by side only the data knows.
            shape.find(column)?;
            return Ok(answer);
        }
        for (name, what, column) in self.figure_names(shape)? {
            let kind = match what {
                What::Count | What::Distinct => Some(Type::Integer),
                What::Mean => Some(Type::Float),
                _ => shape.find(&column)?.kind,
            };
            answer = answer.with_shape(ColumnShape { name, kind })?;
        }
        Ok(answer)
    }

    fn answers_with_columns_of_the_data(&self) -> bool {
        self.side_by_side.is_some()
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        sheet::of(self, table, context)
    }
}

#[cfg(test)]
mod tests;
