//! [`Origin`]: where the rows of a table come from, so that messages name their lines.

use crate::cell_text::CellText;
use arrow_array::ArrayRef;
use std::{collections::BTreeMap, sync::Arc};

/// What the numbers of rows count.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub enum Numbering {
    /// The lines of a file.
    #[default]
    Lines,
    /// The rows of a table or query of a database.
    Rows,
}

impl Numbering {
    /// Its word for one.
    pub(crate) fn word(self) -> &'static str {
        match self {
            Numbering::Lines => "line",
            Numbering::Rows => "row",
        }
    }
}

/// The columns of a primary key, with their values.
#[derive(Clone, Debug)]
struct PrimaryKey {
    names: Vec<String>,
    /// The number of rows of the file before the first one of the columns.
    before: usize,
    columns: Vec<ArrayRef>,
}

/// The origin of a table: its file, and the line of each row.
#[derive(Clone, Debug, Default)]
pub struct Origin {
    file: String,
    numbering: Numbering,
    key: Option<Arc<PrimaryKey>>,
    first_line: u64,
    /// The rows that are not on the line after the row before them, each with its line, in order.
    jumps: Arc<Vec<(u32, u64)>>,
    /// The number of rows of the file before the first one of this table.
    before: usize,
    notations: BTreeMap<String, String>,
}

impl Origin {
    /// A file whose first row is on this line, and each further row on the next line.
    pub fn new(file: impl Into<String>, first_line: u64) -> Origin {
        Origin { file: file.into(), first_line, ..Origin::default() }
    }

    /// A table or query of a database, whose rows are numbered from 1.
    pub fn of_rows(name: impl Into<String>) -> Origin {
        Origin { numbering: Numbering::Rows, ..Origin::new(name, 1) }
    }

    /// Adds the columns of the primary key, each with its name and the values of the rows, so that
    /// ledgers name the keys of rows. Call it for a whole table, or for a batch of its rows.
    #[must_use]
    pub fn with_key<N: Into<String>>(
        mut self,
        columns: impl IntoIterator<Item = (N, ArrayRef)>,
    ) -> Origin {
        let (names, columns): (Vec<N>, Vec<ArrayRef>) = columns.into_iter().unzip();
        let names: Vec<String> = names.into_iter().map(Into::into).collect();
        let before = self.before;
        self.key = (!names.is_empty()).then(|| Arc::new(PrimaryKey { names, before, columns }));
        self
    }

    /// What the numbers of rows count.
    pub fn numbering(&self) -> Numbering {
        self.numbering
    }

    /// The primary key of the row with this number, such as `stay 17`, if it is known.
    pub(crate) fn key(&self, number: u64) -> Option<String> {
        let key = self.key.as_ref()?;
        let row = usize::try_from(number).ok()?.checked_sub(1)?.checked_sub(key.before)?;
        let part = |(name, column): (&String, &ArrayRef)| {
            (row < column.len()).then(|| format!("{name} {}", CellText::new(column).text(row)))
        };
        let parts = key.names.iter().zip(&key.columns).map(part);
        Some(parts.collect::<Option<Vec<_>>>()?.join(", "))
    }

    /// The place of a row, for messages, such as `line 5` or `row 5`.
    pub(crate) fn place(&self, row: usize) -> String {
        let number = self.line(row);
        let key = self.key(number).map(|key| format!(" ({key})")).unwrap_or_default();
        format!("{} {number}{key}", self.numbering.word())
    }

    /// Sets the line of this row, and so of those that follow. Call it in the order of rows.
    pub fn jump(&mut self, row: u32, line: u64) {
        Arc::make_mut(&mut self.jumps).push((row, line));
    }

    /// Sets the notation in which a column's dates were written.
    pub fn notation(&mut self, column: &str, notation: String) {
        self.notations.insert(column.to_owned(), notation);
    }

    /// The origin of the rows from this one on.
    #[must_use]
    pub fn after(&self, rows: usize) -> Origin {
        Origin { before: self.before + rows, ..self.clone() }
    }

    /// The file's name.
    pub fn file(&self) -> &str {
        &self.file
    }

    /// The line on which a row begins, from 1.
    pub fn line(&self, row: usize) -> u64 {
        let row = row + self.before;
        let before = self.jumps.partition_point(|&(jump, _)| jump as usize <= row);
        let (from, line) = if before == 0 { (0, self.first_line) } else { self.jumps[before - 1] };
        line + (row as u64 - u64::from(from))
    }

    /// The least lines of some rows, in order.
    pub(crate) fn least_lines(&self, rows: impl Iterator<Item = usize>, most: usize) -> Vec<u64> {
        let lines = rows.map(|row| self.line(row));
        // Sorted tables, and batches behind rows kept from before, are not in the order of lines.
        let offset = |&(row, line): &(u32, u64)| line as i64 - i64::from(row);
        let jumps = self.jumps.iter().map(offset);
        if std::iter::once(self.first_line as i64).chain(jumps).is_sorted() {
            return lines.take(most).collect();
        }
        let mut lines: Vec<u64> = lines.collect();
        lines.sort_unstable();
        lines.truncate(most);
        lines
    }

    /// The same file, for rows on these lines.
    #[must_use]
    pub fn of_lines(&self, lines: impl IntoIterator<Item = u64>) -> Origin {
        let mut origin = Origin { jumps: Arc::default(), before: 0, ..self.clone() };
        let mut expected = None;
        for (row, line) in (0..).zip(lines) {
            match expected {
                None => origin.first_line = line,
                Some(expected) if expected == line => {}
                Some(_) => origin.jump(row, line),
            }
            expected = Some(line + 1);
        }
        origin
    }

    /// The notation in which a column's dates were written.
    pub fn notation_of(&self, column: &str) -> Option<&str> {
        self.notations.get(column).map(String::as_str)
    }
}
