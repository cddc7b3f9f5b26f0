//! [`Marks`]: the rows and cells of a table that changed since an earlier date.

use crate::{
    Result, Table,
    compared::{StepChanges, key_texts, rows_with_keys},
    formats::text::CellText,
};
use std::collections::{BTreeSet, HashMap};

/// The rows and cells of a table that changed, and the rows that are gone.
pub(super) struct Marks {
    rows: HashMap<usize, Mark>,
    /// The rows that are gone, as they were.
    pub(super) gone: Table,
    /// The numbers of records that appeared and that changed.
    pub(super) appeared: u64,
    pub(super) changed: u64,
}

enum Mark {
    Appeared,
    /// The earlier values, by the name of the column.
    Changed(HashMap<String, String>),
}

impl Marks {
    /// The marks of the first rows of a result.
    ///
    /// Errors: those of Arrow.
    pub(super) fn new(table: &Table, changes: &StepChanges) -> Result<Marks> {
        let StepChanges { key, outcome, before, .. } = changes;
        let found = &outcome.table;
        let keys = key_texts(found, key);
        let texts = CellText::for_columns(found);
        // The columns of the changes follow those of the key.
        let cell = |row: usize, column: usize| texts[key.len() + column].text(row);
        let mut marks: HashMap<&[String], Mark> = HashMap::new();
        let mut gone = BTreeSet::new();
        for (row, key) in keys.iter().enumerate() {
            match cell(row, 0).as_str() {
                "appeared" => drop(marks.insert(key, Mark::Appeared)),
                "gone" => drop(gone.insert(key.clone())),
                _ => {
                    let mark = marks.entry(key).or_insert_with(|| Mark::Changed(HashMap::new()));
                    if let Mark::Changed(columns) = mark {
                        columns.insert(cell(row, 1), cell(row, 2));
                    }
                }
            }
        }
        let rows = key_texts(table, key).into_iter().enumerate();
        let rows = rows.filter_map(|(row, key)| Some((row, marks.remove(key.as_slice())?)));
        Ok(Marks {
            rows: rows.collect(),
            gone: rows_with_keys(before, key, &gone)?,
            appeared: outcome.ledger.count("appeared"),
            changed: outcome.ledger.count("changed"),
        })
    }

    /// Whether a row appeared.
    pub(super) fn appeared(&self, row: usize) -> bool {
        matches!(self.rows.get(&row), Some(Mark::Appeared))
    }

    /// The earlier value of a cell that changed.
    pub(super) fn before(&self, row: usize, column: &str) -> Option<&str> {
        match self.rows.get(&row)? {
            Mark::Appeared => None,
            Mark::Changed(columns) => columns.get(column).map(String::as_str),
        }
    }
}
