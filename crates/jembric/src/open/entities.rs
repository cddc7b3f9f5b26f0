//! Reads lists of entities from files.

use crate::{EntityList, Table, error::Result, read::reading::Reading};
use std::path::Path;

/// Reads the entities in these columns of a file, in order.
///
/// Their keys are read as texts, and an operation converts them to values of its own key columns.
/// Errors: the file cannot be read; a column is missing.
pub fn entities<N: Into<String> + Clone>(
    path: impl AsRef<Path>,
    columns: &[N],
) -> Result<EntityList> {
    let columns: Vec<String> = columns.iter().cloned().map(Into::into).collect();
    entities_of(&entities_reading(&columns).file(path)?, &columns)
}

/// How a file of entities is read: with the key columns as text.
pub fn entities_reading(columns: &[String]) -> Reading {
    let reading = Reading::new().for_untyped().only(columns);
    columns.iter().fold(reading, |reading, column| reading.read(column, "text"))
}

/// The entities in a table that was read in this way; see [`entities`].
pub fn entities_of(table: &Table, columns: &[String]) -> Result<EntityList> {
    Ok(EntityList::from_table(table, columns)?)
}
