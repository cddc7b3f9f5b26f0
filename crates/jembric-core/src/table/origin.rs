//! [`Origin`]: where the rows of a table come from, so that messages name their lines.

use crate::{cell_text::CellText, table::Table};
use arrow_array::{Array, ArrayRef, UInt32Array};
use arrow_select::{concat::concat, take::take};
use borsh::{BorshDeserialize, BorshSerialize};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

/// What the numbers of rows count.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
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
#[derive(Clone, Debug, BorshSerialize, BorshDeserialize)]
struct PrimaryKey {
    names: Vec<String>,
    numbers: Numbers,
    #[borsh(
        serialize_with = "crate::packed::columns::serialize",
        deserialize_with = "crate::packed::columns::deserialize"
    )]
    columns: Vec<ArrayRef>,
}

/// The numbers of the rows of some columns, from 1.
#[derive(Clone, Debug, BorshSerialize, BorshDeserialize)]
enum Numbers {
    /// The numbers after this one.
    After(u64),
    Listed(Vec<u64>),
}

impl PrimaryKey {
    /// The numbers of its rows.
    fn numbers(&self) -> Vec<u64> {
        match &self.numbers {
            Numbers::After(before) => {
                let rows = self.columns.first().map_or(0, |column| column.len()) as u64;
                (before + 1..=before + rows).collect()
            }
            Numbers::Listed(numbers) => numbers.clone(),
        }
    }

    /// The place of the row with this number.
    fn place(&self, number: u64) -> Option<usize> {
        match &self.numbers {
            Numbers::After(before) => usize::try_from(number.checked_sub(before + 1)?).ok(),
            Numbers::Listed(numbers) => numbers.iter().position(|of| *of == number),
        }
    }

    /// The keys of these rows only.
    fn only(&self, numbers: &[u64]) -> Option<PrimaryKey> {
        let places: HashMap<u64, u32> = self.numbers().into_iter().zip(0..).collect();
        let rows = numbers.iter().map(|number| places.get(number).copied());
        let rows = UInt32Array::from(rows.collect::<Option<Vec<u32>>>()?);
        let columns = self.columns.iter().map(|column| take(column, &rows, None));
        Some(PrimaryKey {
            names: self.names.clone(),
            numbers: Numbers::Listed(numbers.to_vec()),
            columns: columns.collect::<std::result::Result<_, _>>().ok()?,
        })
    }

    /// The keys of several tables.
    fn joined(keys: &[&Arc<PrimaryKey>]) -> Option<PrimaryKey> {
        let first = keys.first()?;
        let of_place = |place: usize| {
            let parts = keys.iter().map(|key| key.columns.get(place).map(AsRef::as_ref));
            concat(&parts.collect::<Option<Vec<&dyn Array>>>()?).ok()
        };
        Some(PrimaryKey {
            names: first.names.clone(),
            numbers: Numbers::Listed(keys.iter().flat_map(|key| key.numbers()).collect()),
            columns: (0..first.names.len()).map(of_place).collect::<Option<_>>()?,
        })
    }
}

/// The origin of a table: its file, and the line of each row.
#[derive(Clone, Debug, Default, BorshSerialize, BorshDeserialize)]
pub struct Origin {
    file: String,
    numbering: Numbering,
    key: Option<Arc<PrimaryKey>>,
    first_line: u64,
    /// The rows that are not on the line after the row before them, each with its line, in order.
    #[borsh(
        serialize_with = "packed_jumps::serialize",
        deserialize_with = "packed_jumps::deserialize"
    )]
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
        let numbers = Numbers::After(self.before as u64);
        self.key = (!names.is_empty()).then(|| Arc::new(PrimaryKey { names, numbers, columns }));
        self
    }

    /// The same for the rows with these numbers. The key is that of the table's columns with the
    /// names of the key, if all of them are there.
    #[must_use]
    pub fn with_key_in(mut self, table: &Table, numbers: Vec<u64>) -> Origin {
        self.key = self.key.and_then(|key| {
            let columns = key.names.iter().map(|name| table.column(name).ok().cloned());
            Some(Arc::new(PrimaryKey {
                columns: columns.collect::<Option<_>>()?,
                names: key.names.clone(),
                numbers: Numbers::Listed(numbers),
            }))
        });
        self
    }

    /// The origin of rows of several tables of one file, one after the other, on these lines.
    pub(crate) fn joined(origins: &[&Origin], lines: impl IntoIterator<Item = u64>) -> Origin {
        let joined = origins[0].of_lines(lines);
        let keys: Option<Vec<&Arc<PrimaryKey>>> =
            origins.iter().map(|origin| origin.key.as_ref()).collect();
        let Some(keys) = keys.filter(|keys| keys.iter().any(|key| !Arc::ptr_eq(key, keys[0])))
        else {
            return joined;
        };
        Origin { key: PrimaryKey::joined(&keys).map(Arc::new), ..joined }
    }

    /// The same file, for some of the rows, which are on these lines. Keys of other rows are
    /// forgotten.
    pub(crate) fn only(&self, lines: Vec<u64>) -> Origin {
        let key = self.key.as_ref().and_then(|key| key.only(&lines)).map(Arc::new);
        Origin { key, ..self.of_lines(lines) }
    }

    /// What the numbers of rows count.
    pub fn numbering(&self) -> Numbering {
        self.numbering
    }

    /// The primary key of the row with this number, such as `stay 17`, if it is known.
    pub(crate) fn key(&self, number: u64) -> Option<String> {
        let key = self.key.as_ref()?;
        let row = key.place(number)?;
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

    /// The lines of the first rows, in the order of rows. Cost: much less than asking for each.
    pub fn lines(&self, rows: usize) -> impl Iterator<Item = u64> + '_ {
        let first = self.before as u64;
        let mut next = self.jumps.partition_point(|&(jump, _)| u64::from(jump) <= first);
        let (mut from, mut line) = match next {
            0 => (0, self.first_line),
            next => (u64::from(self.jumps[next - 1].0), self.jumps[next - 1].1),
        };
        (first..first + rows as u64).map(move |row| {
            if let Some(&(jump, to)) = self.jumps.get(next)
                && u64::from(jump) == row
            {
                (from, line, next) = (row, to, next + 1);
            }
            line + (row - from)
        })
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
        let lines = lines.into_iter();
        let (mut first_line, mut expected) = (self.first_line, None);
        let mut jumps = Vec::with_capacity(lines.size_hint().0 / 2);
        for (row, line) in (0..).zip(lines) {
            match expected {
                None => first_line = line,
                Some(expected) if expected == line => {}
                Some(_) => jumps.push((row, line)),
            }
            expected = Some(line + 1);
        }
        jumps.shrink_to_fit();
        Origin { first_line, jumps: Arc::new(jumps), before: 0, ..self.clone() }
    }

    /// The notation in which a column's dates were written.
    pub fn notation_of(&self, column: &str) -> Option<&str> {
        self.notations.get(column).map(String::as_str)
    }
}

/// The jumps of an origin as bytes. The rows of a part of a table jump nearly always, and not far.
mod packed_jumps {
    use super::{Arc, BorshDeserialize, BorshSerialize};
    use std::io::{self, Read, Write};

    /// Writes a number with seven bits in each byte, the lowest first, as long as there are more.
    fn push(bytes: &mut Vec<u8>, mut number: u64) {
        while number > 0x7f {
            bytes.push(number as u8 | 0x80);
            number >>= 7;
        }
        bytes.push(number as u8);
    }

    fn next(bytes: &mut impl Iterator<Item = u8>) -> Option<u64> {
        let mut number = 0;
        for shift in (0..64).step_by(7) {
            let byte = bytes.next()?;
            number |= u64::from(byte & 0x7f) << shift;
            if byte < 0x80 {
                return Some(number);
            }
        }
        None
    }

    pub(super) fn serialize<W: Write>(
        jumps: &Arc<Vec<(u32, u64)>>,
        writer: &mut W,
    ) -> io::Result<()> {
        let mut bytes = Vec::with_capacity(3 * jumps.len());
        let mut before = (0, 0);
        for &(row, line) in jumps.iter() {
            push(&mut bytes, u64::from(row - before.0));
            // A line may be before the last one, so a gap has a sign, which is its lowest bit.
            let gap = line.wrapping_sub(before.1) as i64;
            push(&mut bytes, ((gap << 1) ^ (gap >> 63)) as u64);
            before = (row, line);
        }
        (jumps.len() as u64).serialize(writer)?;
        bytes.serialize(writer)
    }

    pub(super) fn deserialize<R: Read>(reader: &mut R) -> io::Result<Arc<Vec<(u32, u64)>>> {
        let count = u64::deserialize_reader(reader)?;
        let bytes = Vec::<u8>::deserialize_reader(reader)?;
        if count > bytes.len() as u64 {
            return Err(io::ErrorKind::InvalidData.into());
        }
        let mut bytes = bytes.into_iter();
        let mut jumps = Vec::with_capacity(count as usize);
        let mut before = (0_u32, 0_u64);
        for _ in 0..count {
            let damaged = || io::Error::from(io::ErrorKind::InvalidData);
            let (row, gap) = (next(&mut bytes), next(&mut bytes));
            let (row, gap) = row.zip(gap).ok_or_else(damaged)?;
            let gap = (gap >> 1) as i64 ^ -((gap & 1) as i64);
            before = (before.0.wrapping_add(row as u32), before.1.wrapping_add(gap as u64));
            jumps.push(before);
        }
        Ok(Arc::new(jumps))
    }
}

#[cfg(test)]
mod tests;
