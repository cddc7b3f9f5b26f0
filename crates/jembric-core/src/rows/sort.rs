//! [`Sort`]: the rows in order of some columns.

use super::{all_kept, check_reconciled};
use crate::{
    entities::Entities,
    error::Result,
    ledger::Outcome,
    operation::{Context, Operation, Setting, Takes, called_alone},
    shape::Shape,
    table::Table,
};
use arrow_array::{Array, ArrayRef, UInt32Array, cast::AsArray};
use arrow_ord::{
    ord::{DynComparator, make_comparator},
    sort::{SortColumn, lexsort_to_indices},
};
use arrow_schema::{DataType, SortOptions};
use arrow_select::take::take;
use serde::{Deserialize, Serialize};
use std::{cmp::Ordering, collections::HashMap, sync::Arc};

/// The rows in order of some columns, the first named first.
///
/// Missing values come last, both ways. Texts are in the order of their characters' numbers, but weekdays and bands in their
/// own. Rows that are equal in all of the columns stay in the order they came in.
///
/// Errors: a column is missing. Costs n log n comparisons and one read and write of all columns.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Sort {
    /// The columns; `COLUMN:down` for one whose greatest comes first.
    pub by: Vec<String>,
}

called_alone!(Sort);

impl Sort {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "sort";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "What comes first?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[Setting::new(
        "by",
        Takes::List("COL[:down],…"),
        "The columns to sort by, the first named first; `COL:down` for one whose greatest comes first",
    )
    .required()];

    /// In order of these columns; `COLUMN:down` for one whose greatest comes first.
    pub fn new<N: Into<String>>(by: impl IntoIterator<Item = N>) -> Sort {
        Sort { by: by.into_iter().map(Into::into).collect() }
    }

    /// Each column and whether its greatest comes first.
    fn keys<'a>(&'a self, shape: &Shape) -> Result<Vec<(&'a str, bool)>> {
        let one = |text: &'a String| {
            let (name, down) = match text.rsplit_once(':') {
                Some((name, way @ ("down" | "up"))) if shape.find(text).is_err() => {
                    (name.trim(), way == "down")
                }
                _ => (text.as_str(), false),
            };
            shape.find(name).map(|_| (name, down))
        };
        self.by.iter().map(one).collect()
    }
}

impl Operation for Sort {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        check_reconciled(shape, context)?;
        self.keys(shape).map(|_| shape.clone())
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context)?;
        let mut columns = Vec::new();
        for (name, descending) in self.keys(&table.shape())? {
            let values = sortable(table, name)?;
            if *values.data_type() != DataType::Null {
                columns.push(SortColumn {
                    values,
                    options: Some(SortOptions { descending, nulls_first: false }),
                });
            }
        }
        // The row's number comes last, so that equal rows stay in their order.
        let rows: ArrayRef = Arc::new(UInt32Array::from_iter_values(0..table.rows() as u32));
        columns.push(SortColumn { values: rows, options: None });
        let order = lexsort_to_indices(&columns, None)?;
        let step = format!("sort by {}", self.by.join(", "));
        all_kept(table.take(&order)?, step, table, context, |_| {})
    }
}

/// The column, or what its values are ranked where its texts have an order of their own.
pub(crate) fn sortable(table: &Table, name: &str) -> Result<ArrayRef> {
    let column = table.column(name)?;
    let (Some(order), Some(texts)) = (table.order_of(name), column.as_string_view_opt()) else {
        return Ok(column.clone());
    };
    let ranks: HashMap<&str, u32> = order.into_iter().zip(0..).collect();
    let none = ranks.len() as u32;
    let ranked: UInt32Array =
        texts.iter().map(|text| text.map(|text| ranks.get(text).copied().unwrap_or(none))).collect();
    Ok(Arc::new(ranked))
}

/// Whole rows compared, column after column; missing values come first.
pub(crate) struct WholeRows(Vec<DynComparator>);

impl WholeRows {
    pub(crate) fn of(table: &Table) -> Result<WholeRows> {
        let columns = table.columns().iter().filter(|column| *column.data_type() != DataType::Null);
        let options = SortOptions { descending: false, nulls_first: true };
        let compare = columns.map(|column| make_comparator(column, column, options));
        Ok(WholeRows(compare.collect::<std::result::Result<_, _>>()?))
    }

    pub(crate) fn compare(&self, one: u32, other: u32) -> Ordering {
        let orders = self.0.iter().map(|compare| compare(one as usize, other as usize));
        orders.into_iter().find(|order| *order != Ordering::Equal).unwrap_or(Ordering::Equal)
    }
}

/// The numbers of entities in order of their keys; a missing key comes last.
pub(crate) fn entities_in_order(table: &Table, keys: &[&str], entities: &Entities) -> Result<Vec<usize>> {
    let rows = UInt32Array::from(entities.first_rows());
    let mut columns = Vec::new();
    for key in keys {
        let values = take(&sortable(table, key)?, &rows, None)?;
        if *values.data_type() != DataType::Null {
            let options = Some(SortOptions { descending: false, nulls_first: false });
            columns.push(SortColumn { values, options });
        }
    }
    if columns.is_empty() {
        return Ok((0..entities.count()).collect());
    }
    Ok(lexsort_to_indices(&columns, None)?.values().iter().map(|&entity| entity as usize).collect())
}
