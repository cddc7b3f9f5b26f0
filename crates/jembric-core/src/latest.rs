//! [`Latest`] and [`Earliest`]: the latest or the earliest record of each entity.
//!
//! Both prepare a [`RecordPlan`](record::RecordPlan). The common case of one record per entity is a
//! single pass (`best`). The records of the N newest dates, and the states at the end of each
//! period (`states`), need the timeline. `best_so_far` keeps the best records of several batches,
//! and `ties` decides between records with the same date. `Earliest` reverses the order of dates by
//! taking the complement of their numbers.

mod best;
mod best_so_far;
mod plan;
mod record;
mod states;
mod ties;

use crate::{
    calendar::Grain,
    context::Context,
    dates::Dates,
    entities::Entities,
    error::{Error, Result},
    limits::MOST_ROWS,
    operation::{Operation, callable},
    plan::Plan,
    shape::Shape,
    table::Table,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use best::one_each;
use plan::RecordSettings;
use serde::Serialize;

/// What to do with records that tie on the date and on all tie-breaking columns.
///
/// The reason "tied with the record kept" is used only if the order of the rows decided. A record
/// that lost by a tie-breaking column is superseded. [`Earliest`] prefers the least value of these
/// columns, as [`Latest`] prefers the greatest.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Ties {
    /// Keep every tied record, and warn of their number.
    #[default]
    All,
    /// Keep the first by the order of the rows.
    First,
    /// Keep the last by the order of the rows.
    Last,
    /// Refuse them with an error that names the entities.
    Refuse,
}

/// Keeps the latest record of each entity.
///
/// Rows keep their order. Set aside: rows without a date, rows without a key. Dropped: superseded
/// records, and records after [`Context::as_of`] if it is set. Days are compared as days and
/// moments as moments; for moments with an offset, the as-of day ends in [`Context::zone`]. The
/// result does not depend on the order of the rows, unless `ties` is `first` or `last`.
///
/// Errors: a column is missing or holds no dates; ties are refused and there are some; the name for
/// `mark` is taken. Cost: one numbering of the entities, one pass over the dates, and one read and
/// write of the rows that are kept.
///
/// ```
/// use jembric_core::{Latest, Table, arrow::{ArrayRef, Date32Array, StringViewArray}};
/// use std::sync::Arc;
///
/// let vessel: ArrayRef = Arc::new(StringViewArray::from(vec!["Petrel", "Petrel", "Wend"]));
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_100, 20_050]));
/// let inspections = Table::from_columns([("vessel", vessel), ("inspected_on", day)])?;
///
/// let outcome = Latest::new("inspected_on").per(["vessel"]).apply(&inspections)?;
/// assert_eq!(outcome.table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "latest",
    does = "Keep the latest record of each entity",
    answers = "What does each vessel's record say now?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Latest {
    /// Identify the entity by these columns. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Break ties on the date by these columns: the greatest value wins, a missing value loses.
    #[setting(columns)]
    pub then: Vec<String>,
    /// Keep all records that still tie and warn, keep the first or last by the order of rows, or
    /// refuse them. The default is `all`.
    #[setting(one_of)]
    pub ties: Ties,
    /// Keep the records of this many newest dates of each entity. The default is 1.
    #[setting(number, from = 1, default = 1)]
    pub newest: u32,
    /// Keep all rows, and add a column with this name that is true for the records found.
    ///
    /// It is missing if the date or the key is.
    #[setting(name)]
    pub mark: Option<String>,
    /// Keep each entity's latest record at the end of every day, week, month, quarter or year.
    ///
    /// A column `state_on` has the date of each state.
    #[setting(text = "GRAIN")]
    pub at_each: Option<Grain>,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

/// Keeps the earliest record of each entity.
///
/// It is the mirror image of [`Latest`]; in `then` the least value wins.
///
/// ```
/// use jembric_core::{Earliest, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_100, 20_000]));
/// let outcome = Earliest::new("day").apply(&Table::from_columns([("day", day)])?)?;
/// assert_eq!(outcome.table.rows(), 1);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "earliest",
    does = "Keep the earliest record of each entity",
    answers = "What did each vessel's record say first?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Earliest {
    /// Identify the entity by these columns. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Break ties on the date by these columns: the least value wins, a missing value loses.
    #[setting(columns)]
    pub then: Vec<String>,
    /// Keep all records that still tie and warn, keep the first or last by the order of rows, or
    /// refuse them. The default is `all`.
    #[setting(one_of)]
    pub ties: Ties,
    /// Keep the records of this many oldest dates of each entity. The default is 1.
    #[setting(number, from = 1, default = 1)]
    pub oldest: u32,
    /// Keep all rows, and add a column with this name that is true for the records found.
    ///
    /// It is missing if the date or the key is.
    #[setting(name)]
    pub mark: Option<String>,
}

callable!(Latest);
callable!(Earliest);

impl Latest {
    /// Uses this date column, with the whole table as one entity and all ties kept.
    pub fn new(date: impl Into<String>) -> Latest {
        Latest { date: date.into(), ..Latest::default() }
    }
}

impl Earliest {
    /// Uses this date column, with the whole table as one entity and all ties kept.
    pub fn new(date: impl Into<String>) -> Earliest {
        Earliest { date: date.into(), ..Earliest::default() }
    }
}

impl Operation for Latest {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        crate::settings::Settings::check_ranges(self)?;
        let settings = RecordSettings {
            word: Latest::NAME,
            per: &self.per,
            date: &self.date,
            then: &self.then,
            ties: self.ties,
            dates: ("newest", self.newest),
            mark: self.mark.as_deref(),
            earliest: false,
            at_each: self.at_each.map(|grain| (grain, self.most_rows)),
        };
        settings.prepare(shape, context)
    }
}

impl Operation for Earliest {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        crate::settings::Settings::check_ranges(self)?;
        let settings = RecordSettings {
            word: Earliest::NAME,
            per: &self.per,
            date: &self.date,
            then: &self.then,
            ties: self.ties,
            dates: ("oldest", self.oldest),
            mark: self.mark.as_deref(),
            earliest: true,
            at_each: None,
        };
        settings.prepare(shape, context)
    }
}

/// The rows with the newest date of their entity, ties included: the kernel of [`Latest`], for
/// entities that are numbered already.
///
/// Rows without a date or an entity are not among them. Errors: the column is missing or holds no
/// dates; there is not one number for each row. Cost: one pass over ids and dates, and one slot for
/// each entity.
pub fn latest_rows(entities: &Entities, table: &Table, date: &str) -> Result<BooleanBuffer> {
    if table.rows() != entities.ids().len() {
        let (name, rows, expected) = (date.to_owned(), table.rows(), entities.ids().len());
        return Err(Error::UnequalLengths { name, rows, expected });
    }
    let dates = table.dates(date)?;
    let dated = dated_rows(&dates, table.rows());
    let considered =
        entities.rows_with_one().map_or_else(|| dated.clone(), |keyed| &dated & &keyed);
    Ok(one_each(false, entities, &dates, &considered).best)
}

/// The rows that have a date.
fn dated_rows(dates: &Dates, rows: usize) -> BooleanBuffer {
    dates.nulls().map_or_else(|| BooleanBuffer::new_set(rows), NullBuffer::into_inner)
}

#[cfg(test)]
mod tests;
