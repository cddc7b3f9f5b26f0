//! [`Running`]: what has been so far, or in a trailing stretch of time: the highest, the lowest, the sum, the mean, the count.
//!
//! Each entity's rows are put in order of date, unless they stand so already. At each date the rows that count form a run that ends there; where the run begins
//! only moves forward, so sums gain and lose each value once, and the greatest of a run is at the head of a queue in which
//! every value was greater than those before it (the "ascending minima" of Douglas, 1996). One pass over each entity.

mod track;

use crate::{
    calendar::{Grain, Periods, Span, Weekday},
    entities::{Entities, Missing},
    error::{Error, Result},
    ledger::{Fates, Outcome, Reason},
    operation::{Context, Operation, Setting, Takes, called_alone, told_in_lists, told_of_periods},
    rows::check_reconciled,
    shape::{Named, Shape, Type},
    table::Table,
};
use arrow_array::{Array, ArrayRef};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, sync::Arc};
use track::Track;

/// The highest, lowest, sum, mean and count so far, beside each record, per entity and by date.
///
/// Columns `max_so_far_COL`, `min_so_far_COL`, `sum_so_far_COL`, `mean_so_far_COL` and `count_so_far` (of records), or with
/// [`trailing`](Running::trailing) `max_trailing_COL` … over the days of that span up to and including the date. Rows stay in
/// their order. Records of one date share the value of the whole date (of moments: of one moment), unless
/// [`row_by_row`](Running::row_by_row) takes them in the order of the rows. Missing values are passed over: the running value goes
/// on; before any value a maximum, minimum or mean is missing and a sum is 0, or what it is opened with.
///
/// Sums of whole numbers and decimals are exact, in the column's own type. Sums of floats are exact before their one rounding, so
/// they do not depend on the order of the rows either. Means are floats. Set aside: rows
/// without a date, rows that miss a key. Points in time are cut into days of [`Context::zone`].
///
/// Errors: a column is missing, or holds no dates or numbers; nothing is asked; periods or a span finer than the column's own; a
/// sum that does not fit, or of an infinite value. Costs a timeline, one pass over each entity, and a random access a row and column.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Running {
    /// The columns that identify the entity; none: the whole table is one entity.
    #[serde(default)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    pub date: String,
    /// The greatest of these.
    #[serde(default)]
    pub max: Vec<String>,
    /// The least of these.
    #[serde(default)]
    pub min: Vec<String>,
    /// The sums of these.
    #[serde(default)]
    pub sum: Vec<String>,
    /// The means of these.
    #[serde(default)]
    pub mean: Vec<String>,
    /// How many records.
    #[serde(default)]
    pub count: bool,
    /// Over the days of this span up to the date, instead of all so far.
    #[serde(default)]
    pub trailing: Option<Span>,
    /// Begin anew with every period.
    #[serde(default)]
    pub anew_each: Option<Grain>,
    /// The day on which weeks begin; Monday if not said.
    #[serde(default)]
    pub week_start: Option<Weekday>,
    /// The month in which years begin; January if not said.
    #[serde(default)]
    pub year_start: Option<String>,
    /// The sums begin with this number.
    #[serde(default)]
    pub opening: Option<String>,
    /// Tell in a column of this name where the first `max` column is above every earlier date, as the first value is.
    #[serde(default)]
    pub mark_highs: Option<String>,
    /// Take records of one date one by one, in the order of the rows.
    #[serde(default)]
    pub row_by_row: bool,
}

called_alone!(Running);
told_in_lists!(Running {
    per: "The columns that identify the entity.",
    max: "The greatest of these.",
    min: "The least of these.",
    sum: "The sums of these.",
    mean: "The means of these.",
});
told_of_periods!(Running);

/// One column that is asked for.
struct Asked<'a> {
    what: &'static str,
    named: &'a Named,
}

impl Running {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "running";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str =
        "What is the highest so far, the balance so far, the mean of the last 28 days?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "per",
            Takes::Columns,
            "The columns that identify the entity. Without them the whole table is one entity",
        ),
        Setting::new("date", Takes::Column, "The column of dates or moments").required(),
        Setting::new("max", Takes::Columns, "The greatest so far of these"),
        Setting::new("min", Takes::Columns, "The least so far of these"),
        Setting::new("sum", Takes::Columns, "The sums so far of these"),
        Setting::new("mean", Takes::Columns, "The means so far of these"),
        Setting::new("count", Takes::Yes, "How many records so far"),
        Setting::new(
            "trailing",
            Takes::Text("SPAN"),
            "Over the days of this span up to and including the date, instead: '28 days', '3 months'",
        ),
        Setting::new("anew-each", Takes::Text("GRAIN"), "Begin anew with every week, month, quarter or year"),
        Setting::new(
            "week-start",
            Takes::Text("WEEKDAY"),
            "The day on which weeks begin, for --anew-each [default: Monday]",
        ),
        Setting::new(
            "year-start",
            Takes::Text("MONTH"),
            "The month in which years begin, for --anew-each [default: January]",
        ),
        Setting::new("opening", Takes::Text("NUMBER"), "The sums begin with this balance, brought forward"),
        Setting::new(
            "mark-highs",
            Takes::Name,
            "Tell in a column of this name where the first --max column is above that of every earlier date",
        ),
        Setting::new(
            "row-by-row",
            Takes::Yes,
            "Take records of one date one by one, in the order of the rows, instead of together",
        ),
    ];

    /// By the dates of this column, with the whole table as one entity; what is asked of it follows.
    pub fn new(date: impl Into<String>) -> Running {
        Running { date: date.into(), ..Running::default() }
    }

    /// How many records.
    pub fn count(mut self) -> Running {
        self.count = true;
        self
    }

    /// Over the days of this span up to the date, instead of all so far.
    pub fn trailing(mut self, span: Span) -> Running {
        self.trailing = Some(span);
        self
    }

    /// Begin anew with every period.
    pub fn anew_each(mut self, grain: Grain) -> Running {
        self.anew_each = Some(grain);
        self
    }

    /// The sums begin with this number.
    pub fn opening(mut self, balance: impl Into<String>) -> Running {
        self.opening = Some(balance.into());
        self
    }

    /// Tell in a column of this name where the first `max` column is above every earlier date.
    pub fn mark_highs(mut self, name: impl Into<String>) -> Running {
        self.mark_highs = Some(name.into());
        self
    }

    /// Take records of one date one by one, in the order of the rows.
    pub fn row_by_row(mut self) -> Running {
        self.row_by_row = true;
        self
    }

    fn periods(&self) -> Result<Option<Periods>> {
        let cut = |grain| Periods::cut(grain, self.week_start, self.year_start.as_deref());
        self.anew_each.map(cut).transpose()
    }

    /// The lists of columns, each with what is asked of them.
    fn lists(&self) -> [(&'static str, &[String]); 4] {
        [("max", &self.max), ("min", &self.min), ("sum", &self.sum), ("mean", &self.mean)]
    }

    fn name(&self, what: &str, named: &Named) -> String {
        match named.shown_as == named.column {
            true => format!("{what}_{}_{}", self.reach(), named.column),
            false => named.shown_as.clone(),
        }
    }

    fn reach(&self) -> &'static str {
        if self.trailing.is_some() { "trailing" } else { "so_far" }
    }

    fn check_settings(&self) -> Result<()> {
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        self.periods()?;
        let nothing = self.lists().iter().all(|(_, list)| list.is_empty()) && !self.count;
        let not_forward =
            |span: Span| span.month_count() < 0 || span.day_count() < 0 || span == Span::default();
        match (&self.opening, self.anew_each) {
            _ if nothing => refused("max", "not given", "one of `max`, `min`, `sum`, `mean` and `count`"),
            _ if self.mark_highs.is_some() && self.max.is_empty() => {
                refused("mark-highs", "given", "`max` beside it")
            }
            _ if self.trailing.is_some_and(not_forward) => {
                refused("trailing", "no length of time", "a span such as `28 days`")
            }
            (_, Some(Grain::Hour)) => refused("anew-each", "hour", "a day or longer"),
            (Some(_), _) if self.sum.is_empty() => refused("opening", "given", "`sum` beside it"),
            (Some(_), Some(_)) => refused("opening", "given", "either it or `anew-each`"),
            (Some(_), _) if self.trailing.is_some() => refused("opening", "given", "either it or `trailing`"),
            _ if self.anew_each.is_none() && (self.week_start.is_some() || self.year_start.is_some()) => {
                refused("anew-each", "not given", "it beside `week-start` and `year-start`")
            }
            _ => Ok(()),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() { String::new() } else { format!(" per {}", self.per.join(", ")) };
        let asked = self.lists().into_iter().filter(|(_, list)| !list.is_empty());
        let mut asked: Vec<String> =
            asked.map(|(what, list)| format!("{what} of {}", list.join(", "))).collect();
        if self.count {
            asked.push("count".to_owned());
        }
        let over = self.trailing.map(|span| format!(", trailing {span}")).unwrap_or_default();
        let anew = self.anew_each.map(|grain| format!(", anew each {grain}")).unwrap_or_default();
        format!("running {}{per} by {}{over}{anew}", asked.join(", "), self.date)
    }
}

impl Operation for Running {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings()?;
        check_reconciled(shape, context)?;
        shape.expect_dates(&self.date)?;
        let mut answer = shape.renamed(&shape.named(&self.per)?)?;
        for (what, list) in self.lists() {
            for named in shape.named(list)? {
                shape.expect_numbers(&named.column)?;
                let kind = if what == "mean" { Some(Type::Float) } else { shape.find(&named.column)?.kind };
                answer = answer.with_shape(crate::ColumnShape { name: self.name(what, &named), kind })?;
            }
        }
        if self.count {
            answer = answer.with(&format!("count_{}", self.reach()), Type::Integer)?;
        }
        self.mark_highs.as_ref().map_or(Ok(answer.clone()), |name| answer.with(name, Type::Boolean))
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let shape = table.shape();
        let per = shape.named(&self.per)?;
        let keys: Vec<&str> = per.iter().map(|named| named.column.as_str()).collect();
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = table.dates(&self.date)?.nulls().map_or_else(all, NullBuffer::into_inner);
        let keyed = Entities::number(table, &keys, Missing::NoEntity)?.rows_with_one().unwrap_or_else(all);
        let kept = &dated & &keyed;
        let fates = Fates {
            kept: kept.clone(),
            dropped: Vec::new(),
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) = fates.account(self.step(), table, context)?;

        let used = table.filter(&kept)?;
        let dates = used.dates(&self.date)?;
        let entities = Entities::number(&used, &keys, Missing::NoEntity)?;
        let track = Track::of(self, &entities, &dates, context)?;
        ledger.zone = Some(context.zone.to_string()).filter(|_| track.days.is_some() && dates.are_instants());

        let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
        let mut missing = BTreeMap::new();
        for (what, list) in self.lists() {
            for named in shape.named(list)? {
                let array = track.asked(self, &used, &Asked { what, named: &named })?;
                // A cell that is missing is counted once, however many figures are made of it.
                missing.insert(named.column.clone(), used.column(&named.column)?.logical_null_count() as u64);
                columns.push((Field::new(self.name(what, &named), array.data_type().clone(), true), array));
            }
        }
        if self.count {
            let counts = track.counts();
            columns.push((Field::new(format!("count_{}", self.reach()), DataType::Int64, true), counts));
        }
        ledger.note("missing values passed over", missing.into_values().sum());
        if let (Some(name), Some(first)) = (&self.mark_highs, shape.named(&self.max)?.first()) {
            let highs = track.highs(&used, &first.column)?;
            ledger.counts.push(("new highs".into(), highs.true_count() as u64));
            columns.push((Field::new(name, DataType::Boolean, true), Arc::new(highs)));
        }
        let mut answer = used.renamed(&per)?.anonymous();
        for (field, array) in columns {
            answer = answer.with_field(field, array)?;
        }
        Ok(Outcome { table: answer, ledger, set_aside })
    }
}

#[cfg(test)]
mod tests;
