//! [`Reading`]: how a file is read, and what is detected from the file itself.

use crate::{
    error::{Error, Result},
    formats::csv_rows::RowRules,
};
use jembric_core::calendar::notation::Order;
use std::{collections::BTreeSet, fmt, path::PathBuf, sync::Arc};

/// Receives the bytes read so far and the bytes in all, from any thread.
#[derive(Clone)]
pub(crate) struct Progress(pub(crate) Arc<dyn Fn(u64, u64) + Send + Sync>);

impl fmt::Debug for Progress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Progress")
    }
}

/// How to read CSV text. What is not set is detected from the file.
///
/// Text is UTF-8 unless a byte-order mark or [`encoding`](Reading::encoding) says otherwise. Quotes
/// are those of RFC 4180. Lines end in LF or CRLF. An empty or blank cell is a missing value, and
/// an empty line is skipped. The type of a column is decided from all of its cells:
///
/// * whole numbers without a leading zero that fit 64 bits; exact decimals with at most 18 digits
///   and 6 places; other numbers as floats; `true` and `false`
/// * weeks, months and quarters by their labels: `2025-W27`, `2025-06`, `2025-Q2`
/// * dates in the [known notations](jembric_core::calendar::notation::Form), if the column shows
///   the order of day and month or it is given; moments, if a time of day follows the dates
/// * text, if no other type fits every cell
///
/// Errors name the file, the line and what was expected. Cost: one pass over the text on all
/// threads, and memory for the columns.
#[derive(Clone, Debug, Default)]
pub struct Reading {
    pub(crate) separator: Option<u8>,
    pub(crate) encoding: Option<String>,
    pub(crate) decimal_comma: bool,
    pub(crate) no_header: bool,
    pub(crate) no_quotes: bool,
    pub(crate) missing: Vec<String>,
    pub(crate) order: Option<Order>,
    pub(crate) year_first_only: bool,
    pub(crate) formats: Vec<(String, String)>,
    pub(crate) one_of_several: bool,
    /// Whether formats are only for columns without types.
    pub(crate) for_untyped: bool,
    pub(crate) only: Option<BTreeSet<String>>,
    pub(crate) century: Option<i16>,
    pub(crate) most_unpacked: Option<u64>,
    pub(crate) most_columns: Option<u64>,
    pub(crate) progress: Option<Progress>,
    pub(crate) query: Option<String>,
    pub(crate) by_ranges_of: Option<String>,
    /// The rows to read of a database, as a condition; all if there is none.
    pub(crate) condition: Option<String>,
    pub(crate) directory: PathBuf,
    /// The bytes that are read at a time, which tests change.
    pub(crate) block: Option<u64>,
}

impl Reading {
    /// Detects all settings from the file.
    pub fn new() -> Reading {
        Reading::default()
    }

    /// Sets the separator, which is otherwise detected from the first lines.
    #[must_use]
    pub fn separator(mut self, separator: u8) -> Reading {
        self.separator = Some(separator);
        self
    }

    /// Sets the encoding by its name: `windows-1252`, `utf-16le` or any other name of the WHATWG
    /// encoding standard.
    #[must_use]
    pub fn encoding(mut self, name: impl Into<String>) -> Reading {
        self.encoding = Some(name.into());
        self
    }

    /// Reads numbers with a decimal comma, such as `3,5`.
    #[must_use]
    pub fn decimal_comma(mut self, comma: bool) -> Reading {
        self.decimal_comma = comma;
        self
    }

    /// Treats the first line as data. The columns are named `c1`, `c2` and so on.
    #[must_use]
    pub fn no_header(mut self, without: bool) -> Reading {
        self.no_header = without;
        self
    }

    /// Treats quotes as ordinary characters.
    #[must_use]
    pub fn no_quotes(mut self, without: bool) -> Reading {
        self.no_quotes = without;
        self
    }

    /// Treats these texts as missing values, besides blank cells.
    #[must_use]
    pub fn missing<N: Into<String>>(mut self, marks: impl IntoIterator<Item = N>) -> Reading {
        self.missing = marks.into_iter().map(Into::into).collect();
        self
    }

    /// Sets the order of day and month in dates with slashes.
    #[must_use]
    pub fn date_order(mut self, order: Order) -> Reading {
        self.order = Some(order);
        self
    }

    /// Accepts only dates that begin with the year.
    #[must_use]
    pub fn year_first_only(mut self, only: bool) -> Reading {
        self.year_first_only = only;
        self
    }

    /// Reads a column in a format of strptime directives (`%d.%m.%y %H:%M`), or as one of these
    /// words: `text`; `number`; `month`, `quarter`, `week` or `year`, written as labels, as
    /// `202506` or `Jun 2025`, or as first days; `serial`, days since 1899-12-30 with a fraction;
    /// `julian-day`, Julian days; `unix-time`, seconds since 1970-01-01 in UTC;
    /// `rfc2822`, the format of e-mail. If all moments are midnights, they become dates.
    #[must_use]
    pub fn read(mut self, column: impl Into<String>, format: impl Into<String>) -> Reading {
        self.formats.push((column.into(), format.into()));
        self
    }

    /// Declares that the file is one of several with the same settings, so that formats may name
    /// columns that it does not have.
    #[must_use]
    pub fn one_of_several(mut self) -> Reading {
        self.one_of_several = true;
        self
    }

    /// Declares that formats are only for columns whose types follow from their cells.
    #[must_use]
    pub(crate) fn for_untyped(mut self) -> Reading {
        self.for_untyped = true;
        self
    }

    /// Reads only those of these columns that exist. The cells of other columns are not parsed in
    /// CSV, and not fetched from Parquet. If none exists, the first column is read, so that the
    /// number of rows is known.
    #[must_use]
    pub fn only<N: Into<String>>(mut self, columns: impl IntoIterator<Item = N>) -> Reading {
        self.only = Some(columns.into_iter().map(Into::into).collect());
        self
    }

    /// The places of the columns to read.
    pub(crate) fn read_of<'a>(&self, names: impl Iterator<Item = &'a str>) -> Vec<usize> {
        let Some(only) = &self.only else { return (0..names.count()).collect() };
        let places: Vec<usize> =
            names.enumerate().filter(|(_, name)| only.contains(*name)).map(|(n, _)| n).collect();
        if places.is_empty() { vec![0] } else { places }
    }

    /// Reads the result of a query from a database. `@overdue.sql` reads the query from a file.
    #[must_use]
    pub fn query(mut self, query: impl Into<String>) -> Reading {
        self.query = Some(query.into());
        self
    }

    /// Reads the rows of a PostgreSQL database in the order of this column, with missing values
    /// last. If several processes run a routine together, each reads a range of the column with
    /// about as many rows. Its values should be unique, and an index on it makes this fast.
    #[must_use]
    pub fn by_ranges_of(mut self, column: impl Into<String>) -> Reading {
        self.by_ranges_of = Some(column.into());
        self
    }

    /// Sets the directory that the file of a query is relative to. The default is the working
    /// directory.
    #[must_use]
    pub fn query_beside(mut self, directory: impl Into<PathBuf>) -> Reading {
        self.directory = directory.into();
        self
    }

    /// The text of the query.
    ///
    /// Errors: its file cannot be read.
    pub(crate) fn query_text(&self) -> Result<Option<String>> {
        let Some(query) = &self.query else { return Ok(None) };
        let Some(file) = query.strip_prefix('@') else { return Ok(Some(query.clone())) };
        let path = self.directory.join(file);
        std::fs::read_to_string(&path).map(Some).map_err(|source| Error::Read {
            file: path.display().to_string(),
            source,
            nearest: crate::text::file_bytes::nearest_file(&path),
        })
    }

    /// Errors: there is a setting for databases, and the input is not one.
    pub(crate) fn refuse_for_databases(&self, name: &str) -> Result<()> {
        let (setting, expected) = match (&self.query, &self.by_ranges_of) {
            (Some(_), _) => {
                ("query", "a SQLite file or a URI such as postgresql://localhost/harbour")
            }
            (None, Some(_)) => {
                ("by-ranges-of", "a table such as postgresql://localhost/harbour:stays")
            }
            (None, None) => return Ok(()),
        };
        let value = format!("given, but {name} is not a database");
        Err(Error::Setting { setting, value, expected: expected.to_owned() })
    }

    /// The columns with a given format.
    pub fn columns_with_formats(&self) -> impl Iterator<Item = &str> {
        self.formats.iter().map(|(column, _)| column.as_str())
    }

    /// Sets the first of the hundred years for two-digit years (`%y`).
    #[must_use]
    pub fn century(mut self, first_year: i16) -> Reading {
        self.century = Some(first_year);
        self
    }

    /// Reports progress: the bytes read so far and the bytes in all, from any thread.
    #[must_use]
    pub fn progress(mut self, told: impl Fn(u64, u64) + Send + Sync + 'static) -> Reading {
        self.progress = Some(Progress(Arc::new(told)));
        self
    }

    /// Limits the number of columns of a file. The default is 20,000.
    #[must_use]
    pub fn most_columns(mut self, columns: u64) -> Reading {
        self.most_columns = Some(columns);
        self
    }

    /// Errors: the file has more columns than the limit.
    pub(crate) fn refuse_columns(&self, file: &str, columns: usize) -> Result<()> {
        self.row_rules().refuse_columns(file, columns)
    }

    /// The settings for rows that are converted to CSV.
    pub(crate) fn row_rules(&self) -> RowRules<'_> {
        RowRules {
            missing: &self.missing,
            no_header: self.no_header,
            most_columns: self.most_columns,
        }
    }

    /// Limits what a file may unpack to or need in memory, in bytes, with at least 8 for each cell.
    /// The default is 200 times its size, or 512 MiB if that is more.
    #[must_use]
    pub fn most_unpacked(mut self, bytes: u64) -> Reading {
        self.most_unpacked = Some(bytes);
        self
    }
}
