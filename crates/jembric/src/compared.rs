//! What changed in the result of a step since an earlier date, for the run that finds it and for
//! the page that shows it.

use crate::{Outcome, Result, Table, formats::text::CellText};
use std::collections::BTreeSet;

/// What changed in the result of a step.
pub(crate) struct StepChanges {
    pub(crate) place: usize,
    /// The columns that identify a row.
    pub(crate) key: Vec<String>,
    /// The changes, and their ledger.
    pub(crate) outcome: Outcome,
    /// The result of the earlier date.
    pub(crate) before: Table,
}

/// The key of each row of a table, as text; for finding the rows of changes.
pub(crate) fn key_texts(table: &Table, key: &[String]) -> Vec<Vec<String>> {
    let texts = CellText::for_columns(table);
    let shape = table.shape();
    let places: Vec<usize> = key.iter().filter_map(|name| shape.place(name).ok()).collect();
    let row = |row| places.iter().map(|place| texts[*place].text(row)).collect();
    (0..table.rows()).map(row).collect()
}

/// The rows of a table whose keys are among some.
pub(crate) fn rows_with_keys(
    table: &Table,
    key: &[String],
    wanted: &BTreeSet<Vec<String>>,
) -> Result<Table> {
    let rows = key_texts(table, key).into_iter().enumerate();
    let rows = rows.filter(|(_, key)| wanted.contains(key)).map(|(row, _)| row as u32);
    Ok(table.take(&rows.collect::<Vec<u32>>().into())?)
}
