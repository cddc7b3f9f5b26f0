//! Entities that are named in a file of their own.

use super::reading::Reading;
use crate::{EntityList, Table, error::Result};
use std::path::Path;

/// Reads the entities in these columns of a file, in their order.
///
/// Their keys are read as texts; an operation takes them for values of its own key columns. Errors:
/// the file cannot be read, a column is missing.
pub fn entities<N: Into<String> + Clone>(
    path: impl AsRef<Path>,
    columns: &[N],
) -> Result<EntityList> {
    let columns: Vec<String> = columns.iter().cloned().map(Into::into).collect();
    entities_of(&entities_reading(&columns).file(path)?, &columns)
}

/// How a file of entities is read: the columns of their keys as text.
pub fn entities_reading(columns: &[String]) -> Reading {
    columns.iter().fold(Reading::new(), |reading, column| reading.read(column, "text"))
}

/// The entities of a table that was read so; see [`entities`].
pub fn entities_of(table: &Table, columns: &[String]) -> Result<EntityList> {
    Ok(EntityList::of(table, columns)?)
}
