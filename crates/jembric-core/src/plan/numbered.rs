//! [`NumberedRows`]: rows with their numbers among all rows, which restore their order.

use crate::{error::Result, table::Table};
use arrow_array::UInt32Array;
use borsh::{BorshDeserialize, BorshSerialize};
use std::ops::Range;

/// The numbers of some rows among all rows.
#[derive(BorshSerialize, BorshDeserialize)]
pub(crate) enum Numbers {
    /// Rows that follow each other, as those of a single batch do. They take no memory.
    Consecutive(Range<u64>),
    Listed(Vec<u64>),
}

impl Default for Numbers {
    fn default() -> Numbers {
        Numbers::Consecutive(0..0)
    }
}

impl Numbers {
    /// Those of a batch, of which the first row has this number.
    pub(crate) fn of_batch(batch: &Table, first_row: u64) -> Numbers {
        Numbers::Consecutive(first_row..first_row + batch.rows() as u64)
    }

    pub(crate) fn at(&self, row: usize) -> u64 {
        match self {
            Numbers::Consecutive(range) => range.start + row as u64,
            Numbers::Listed(numbers) => numbers[row],
        }
    }

    fn into_list(self) -> Vec<u64> {
        match self {
            Numbers::Consecutive(range) => range.collect(),
            Numbers::Listed(numbers) => numbers,
        }
    }

    pub(crate) fn extend(&mut self, more: Numbers) {
        match (&mut *self, more) {
            (_, Numbers::Consecutive(more)) if more.is_empty() => {}
            (Numbers::Consecutive(own), more) if own.is_empty() => *self = more,
            (Numbers::Consecutive(own), Numbers::Consecutive(more)) if own.end == more.start => {
                own.end = more.end;
            }
            (_, more) => {
                let mut list = std::mem::take(self).into_list();
                list.extend(more.into_list());
                *self = Numbers::Listed(list);
            }
        }
    }

    pub(crate) fn bytes(&self) -> u64 {
        match self {
            Numbers::Consecutive(_) => 0,
            Numbers::Listed(numbers) => 8 * numbers.len() as u64,
        }
    }

    fn is_sorted(&self) -> bool {
        match self {
            Numbers::Consecutive(_) => true,
            Numbers::Listed(numbers) => numbers.is_sorted(),
        }
    }

    /// Splits off the numbers of the first rows.
    fn take(&mut self, rows: usize) -> Numbers {
        match self {
            Numbers::Consecutive(range) => {
                let first = range.start..range.end.min(range.start + rows as u64);
                range.start = first.end;
                Numbers::Consecutive(first)
            }
            Numbers::Listed(numbers) => {
                let rest = numbers.split_off(rows.min(numbers.len()));
                Numbers::Listed(std::mem::replace(numbers, rest))
            }
        }
    }
}

/// Rows with their numbers among all rows.
#[derive(Default, BorshSerialize, BorshDeserialize)]
pub(crate) struct NumberedRows {
    /// The tables as they came. A table without rows is kept only if it is the only one.
    tables: Vec<Table>,
    numbers: Numbers,
    /// The bytes of the tables.
    bytes: u64,
}

impl NumberedRows {
    /// The bytes that the rows take in memory.
    pub(crate) fn bytes(&self) -> u64 {
        self.bytes + self.numbers.bytes()
    }

    /// The number of rows.
    pub(crate) fn rows(&self) -> usize {
        self.tables.iter().map(Table::rows).sum()
    }

    /// Only the columns.
    pub(crate) fn without_rows(&self) -> NumberedRows {
        let tables = self.tables.first().map(Table::emptied).into_iter().collect();
        NumberedRows { tables, ..NumberedRows::default() }
    }

    /// Forgets the rows, but not their columns.
    pub(crate) fn clear(&mut self) {
        *self = self.without_rows();
    }

    /// Adds rows with their numbers.
    pub(crate) fn add(&mut self, table: &Table, numbers: impl IntoIterator<Item = u64>) {
        self.add_numbered(table, Numbers::Listed(numbers.into_iter().collect()));
    }

    /// Adds rows that follow each other, of which the first has this number.
    pub(crate) fn add_batch(&mut self, table: &Table, first_row: u64) {
        self.add_numbered(table, Numbers::of_batch(table, first_row));
    }

    pub(crate) fn add_numbered(&mut self, table: &Table, numbers: Numbers) {
        self.bytes += table.bytes();
        if self.tables.first().is_none_or(|first| first.rows() == 0) {
            self.tables = vec![table.clone()];
        } else if table.rows() > 0 {
            self.tables.push(table.clone());
        }
        self.numbers.extend(numbers);
    }

    /// Whether any table was added, even an empty one.
    pub(crate) fn has_table(&self) -> bool {
        !self.tables.is_empty()
    }

    /// Takes the rows out, with their numbers.
    pub(crate) fn take(&mut self) -> Result<Option<(Table, Numbers)>> {
        let NumberedRows { tables, numbers, .. } = std::mem::take(self);
        let Some((first, others)) = tables.split_first() else { return Ok(None) };
        Ok(Some((Table::joined(first, others)?, numbers)))
    }

    /// The rows in the order of their numbers, with these numbers.
    pub(crate) fn take_in_order(mut self) -> Result<Option<(Table, Vec<u64>)>> {
        let Some((table, numbers)) = self.take()? else { return Ok(None) };
        let table = in_order(table, &numbers)?;
        let mut numbers = numbers.into_list();
        numbers.sort_unstable();
        Ok(Some((table, numbers)))
    }

    /// Adds the rows of another.
    pub(crate) fn merge(&mut self, other: NumberedRows) {
        let NumberedRows { tables, mut numbers, .. } = other;
        for table in tables {
            let own = numbers.take(table.rows());
            self.add_numbered(&table, own);
        }
    }

    /// The rows in the order of their numbers; none if no table was added.
    pub(crate) fn in_order(mut self) -> Result<Option<Table>> {
        let Some((table, numbers)) = self.take()? else { return Ok(None) };
        in_order(table, &numbers).map(Some)
    }
}

/// Sorts the rows of a table by their numbers.
fn in_order(table: Table, numbers: &Numbers) -> Result<Table> {
    if numbers.is_sorted() {
        return Ok(table);
    }
    let mut rows: Vec<u32> = (0..table.rows() as u32).collect();
    rows.sort_unstable_by_key(|&row| numbers.at(row as usize));
    table.take_with_origin(&UInt32Array::from(rows))
}
