//! The numbers of rows that are divided into parts, in one more column that operations pass on.

use crate::{error::Result, kind::Type, shape::Shape, table::Table};
use arrow_array::{Int64Array, cast::AsArray, types::Int64Type};
use std::sync::Arc;

/// The beginning of the names of columns with row numbers. No column of a file begins with this
/// control character and these words by chance.
const ROW_NUMBERS: &str = "\u{1f}rows of table ";

/// The name of the column with the row numbers of the table at this place.
fn row_numbers_of(place: usize) -> String {
    format!("{ROW_NUMBERS}{place}")
}

/// Whether a column has row numbers, which are no part of the data.
pub(crate) fn has_row_numbers(name: &str) -> bool {
    name.starts_with(ROW_NUMBERS)
}

impl Shape {
    /// The shape with one more column for the row numbers of the table at this place.
    pub fn with_row_numbers(&self, place: usize) -> Result<Shape> {
        self.with(&row_numbers_of(place), Type::Integer)
    }
}

impl Table {
    /// The table with one more column, which has the numbers of its rows. `place` is its place
    /// among the tables of an operation.
    pub fn with_row_numbers(&self, place: usize, numbers: Vec<i64>) -> Result<Table> {
        self.with_column(&row_numbers_of(place), Arc::new(Int64Array::from(numbers)))
    }

    /// The row numbers that this result has from the table at a place. A row that is not from that
    /// table has none.
    pub fn row_numbers(&self, place: usize) -> Option<&Int64Array> {
        let column = self.batch().column_by_name(&row_numbers_of(place))?;
        column.as_primitive_opt::<Int64Type>()
    }

    /// The table without any column of row numbers.
    pub fn without_row_numbers(&self) -> Result<Table> {
        if !self.names().any(has_row_numbers) {
            Ok(self.clone())
        } else {
            let table =
                Table::of_known(self.fields().filter(|(field, _)| !has_row_numbers(field.name())))?;
            Ok(table.with_facts(self.not_numbers(), self.origin().cloned()))
        }
    }
}
