//! [`Latest`] and [`Earliest`]: what each entity's record says now, or said first.
//!
//! Both prepare a [`RecordPlan`](plan::RecordPlan): the usual question, one record per entity, is
//! one pass (`best`); the records of the N newest dates and the states at the end of each period
//! (`states`) need the timeline; `ties` decides between records of one date. `Earliest` is the same
//! with every date turned round: the complement of a number sorts the other way.

mod best;
mod plan;
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

/// What happens to records that tie on the date and on everything that was named to break the tie.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Ties {
    /// Every tied record is kept, and the ledger warns how many they are.
    #[default]
    All,
    /// The one that comes first among the rows is kept.
    First,
    /// The one that comes last among the rows is kept.
    Last,
    /// They are an error, which names the entities.
    Refuse,
}

/// The latest record of each entity: what its record says *now*.
///
/// Rows come out in the order they came in. Set aside: rows without a date, rows that miss a key.
/// Dropped: records that are superseded, and those dated after [`Context::as_of`] where that is
/// given. Dates compare as dates and moments as moments; the as-of day ends in [`Context::zone`]
/// for moments that had an offset. The answer does not depend on the order of the rows, unless
/// `ties` is `first` or `last`.
///
/// Errors: a column is missing or holds no dates; ties are refused and there are some; the name to
/// mark with is taken. Costs one numbering of the entities, one pass over the dates, and one read
/// and write of what is kept.
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
#[settings(name = "latest", answers = "What does each entity's record say now?")]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Latest {
    /// The columns that identify the entity. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Break ties on the date by these columns: the greatest wins, a missing value loses.
    #[setting(columns)]
    pub then: Vec<String>,
    /// What happens to records that still tie: keep all and warn, keep the first or last by the
    /// order of rows, or refuse with an error. The default is `all`.
    #[setting(one_of)]
    pub ties: Ties,
    /// The records of so many newest dates of each entity. The default is 1.
    #[setting(number, from = 1, default = 1)]
    pub newest: u32,
    /// Keep all rows, and tell in a column of this name which they are.
    ///
    /// It is missing where date or key are.
    #[setting(name)]
    pub mark: Option<String>,
    /// The state at the end of every day, week, month, quarter or year: each entity's latest
    /// record then.
    ///
    /// A column `state_on` has the date that each row speaks of.
    #[setting(text = "GRAIN")]
    pub at_each: Option<Grain>,
    /// How many rows the answer may have. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

/// The earliest record of each entity: what its record said *first*.
///
/// The mirror of [`Latest`]; in `then` the least wins.
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
#[settings(name = "earliest", answers = "What did each entity's record say first?")]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Earliest {
    /// The columns that identify the entity. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of dates or moments.
    #[setting(column, required)]
    pub date: String,
    /// Break ties on the date by these columns: the least wins, a missing value loses.
    #[setting(columns)]
    pub then: Vec<String>,
    /// What happens to records that still tie: keep all and warn, keep the first or last by the
    /// order of rows, or refuse with an error. The default is `all`.
    #[setting(one_of)]
    pub ties: Ties,
    /// The records of so many oldest dates of each entity. The default is 1.
    #[setting(number, from = 1, default = 1)]
    pub oldest: u32,
    /// Keep all rows, and tell in a column of this name which they are.
    ///
    /// It is missing where date or key are.
    #[setting(name)]
    pub mark: Option<String>,
}

callable!(Latest);
callable!(Earliest);

impl Latest {
    /// The operation by a date column, with the whole table as one entity and all ties kept.
    pub fn new(date: impl Into<String>) -> Latest {
        Latest { date: date.into(), ..Latest::default() }
    }
}

impl Earliest {
    /// The operation by a date column, with the whole table as one entity and all ties kept.
    pub fn new(date: impl Into<String>) -> Earliest {
        Earliest { date: date.into(), ..Earliest::default() }
    }
}

impl Operation for Latest {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        crate::settings::Settings::check_ranges(self)?;
        let asked = RecordSettings {
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
        asked.prepare(shape, context)
    }
}

impl Operation for Earliest {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        crate::settings::Settings::check_ranges(self)?;
        let asked = RecordSettings {
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
        asked.prepare(shape, context)
    }
}

/// Which rows have the newest date of their entity, ties included: the heart of [`Latest`], for
/// entities that are numbered already.
///
/// Rows without a date or an entity are none of them. Errors: the column is missing or holds no
/// dates; there is not one number a row. Costs one pass over ids and dates, and a slot an entity.
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
