//! The order of values, of whole rows and of entities, which decides the order of a result.

mod packed;

use crate::{
    entities::{Entities, Missing},
    error::Result,
    row_numbers::has_row_numbers,
    shape::Named,
    table::Table,
};
use arrow_array::{Array, ArrayRef, UInt32Array, cast::AsArray};
use arrow_ord::{
    ord::{DynComparator, make_comparator},
    sort::SortColumn,
};
use arrow_schema::{DataType, SortOptions};
use arrow_select::take::take;
use std::{cmp::Ordering, collections::HashMap, sync::Arc};

/// The column at a place, or the ranks of its values if its texts have an order of their own.
pub(crate) fn sortable(table: &Table, place: usize) -> ArrayRef {
    let column = table.at(place);
    let (Some(order), Some(texts)) = (table.order_at(place), column.as_string_view_opt()) else {
        return column.clone();
    };
    let ranks: HashMap<&str, u32> = order.into_iter().zip(0..).collect();
    let none = ranks.len() as u32;
    let ranked: UInt32Array = texts
        .iter()
        .map(|text| text.map(|text| ranks.get(text).copied().unwrap_or(none)))
        .collect();
    Arc::new(ranked)
}

/// Compares whole rows, column after column; missing values come first.
pub(crate) struct WholeRows(Vec<DynComparator>);

impl WholeRows {
    pub(crate) fn new(table: &Table) -> Result<WholeRows> {
        // The numbers of rows that are divided into parts are not part of the data.
        let columns = table.into_iter().filter(|(name, _)| !has_row_numbers(name));
        let columns = columns
            .map(|(_, column)| column)
            .filter(|column| *column.data_type() != DataType::Null);
        let options = SortOptions { descending: false, nulls_first: true };
        let compare = columns.map(|column| make_comparator(column, column, options));
        Ok(WholeRows(compare.collect::<std::result::Result<_, _>>()?))
    }

    pub(crate) fn compare(&self, one: u32, other: u32) -> Ordering {
        let orders = self.0.iter().map(|compare| compare(one as usize, other as usize));
        orders.into_iter().find(|order| *order != Ordering::Equal).unwrap_or(Ordering::Equal)
    }
}

/// Sorts the numbers of entities by their keys; a missing key comes last.
pub(crate) fn entities_in_order(
    table: &Table,
    keys: &[Named],
    entities: &Entities,
) -> Result<Vec<usize>> {
    let rows = UInt32Array::from(entities.first_rows());
    let mut columns = Vec::new();
    for key in keys {
        let values = take(&sortable(table, key.place), &rows, None)?;
        if *values.data_type() != DataType::Null {
            columns.push((values, false));
        }
    }
    let order = packed::order_of_rows(&columns, entities.count())?;
    Ok(order.into_iter().map(|entity| entity as usize).collect())
}

/// The distinct rows in order. A missing value is a value like others, and comes last.
pub(crate) fn distinct(values: &Table) -> Result<Table> {
    let entities = Entities::of_columns(values.columns(), values.rows(), Missing::IsAKey)?;
    let order = entities_in_order(values, &values.all_named(), &entities)?;
    let firsts = entities.first_rows();
    values.take(&UInt32Array::from_iter_values(order.into_iter().map(|entity| firsts[entity])))
}

impl Table {
    /// The numbers of the rows in the order of these columns, each with whether it is descending.
    /// Missing values come last; equal rows keep their order.
    ///
    /// Cost: a few passes over the columns, and one sort of a number for each row on all threads.
    pub fn sorted_rows(&self, columns: &[(usize, bool)]) -> Result<UInt32Array> {
        let columns =
            columns.iter().map(|&(place, descending)| (sortable(self, place), descending));
        let columns: Vec<_> =
            columns.filter(|(column, _)| *column.data_type() != DataType::Null).collect();
        Ok(packed::order_of_rows(&columns, self.rows())?.into())
    }

    /// The columns to sort by, each with whether it is descending. Missing values come last.
    pub fn sort_columns(&self, columns: &[(usize, bool)]) -> Vec<SortColumn> {
        let columns = columns.iter().map(|&(place, descending)| SortColumn {
            values: sortable(self, place),
            options: Some(SortOptions { descending, nulls_first: false }),
        });
        columns.filter(|column| *column.values.data_type() != DataType::Null).collect()
    }
}
