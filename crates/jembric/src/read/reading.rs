//! [`Reading`]: how a file is read, and what is detected from the file itself.

use crate::{
    CoreError, Setting,
    error::{Error, Result},
    formats::csv_rows::RowRules,
    settings::{self, FromGiven, Given},
};
use serde::{Serialize, Serializer};
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt,
    path::PathBuf,
    sync::Arc,
};

/// Receives the bytes read so far and the bytes in all, from any thread.
#[derive(Clone)]
pub(crate) struct Progress(pub(crate) Arc<dyn Fn(u64, u64) + Send + Sync>);

impl PartialEq for Progress {
    /// Two functions are equal if they are the same one.
    fn eq(&self, other: &Progress) -> bool {
        Arc::ptr_eq(&self.0, &other.0)
    }
}

impl Eq for Progress {}

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
///
/// ```
/// use jembric::{calendar::Day, io::{DateOrder, Reading}};
///
/// let text = "day;level_m\n03/04/2025;2,5\n";
/// let reading = Reading::new().date_order(DateOrder::Dmy).decimal_comma();
/// let table = reading.stream("gauge.csv", text.as_bytes())?;
/// assert_eq!(table.cells::<Day>("day")?.next(), Some(Some("2025-04-03".parse()?)));
/// # Ok::<(), jembric::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(name = "reading")]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Reading {
    /// Read a column as `FORMAT`: strptime directives (`day=%d.%m.%y`), or one of month, quarter,
    /// week, year, serial (days since 1899-12-30), julian-day, unix-time, rfc2822, number, text.
    ///
    /// By the name of the column. `month`, `quarter`, `week` and `year` are written as labels, as
    /// `202506` or `Jun 2025`, or as first days; a `serial` may have a fraction; `unix-time` counts
    /// seconds since 1970-01-01 in UTC; `rfc2822` is the format of e-mail. If all moments are
    /// midnights, they become dates.
    #[setting(formats, plain)]
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub read: BTreeMap<String, String>,
    /// Read two-digit years as the hundred years that begin with this year.
    #[setting(number, from = 1)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub century: Option<i16>,
    /// Choose the order of day and month in dates with slashes; `ymd` accepts only dates that begin
    /// with the year.
    #[setting(one_of)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date_order: Option<DateOrder>,
    /// Read the result of this query from a database, or of the query in a file: @overdue.sql.
    #[setting(text = "SQL")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// Read the rows of a PostgreSQL database in the order of this column. Several processes share
    /// them by its ranges.
    ///
    /// Missing values come last. Each process reads a range with about as many rows. The values
    /// should be unique, and an index on the column makes this fast.
    #[setting(column)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_ranges_of: Option<String>,
    /// Treat these texts as missing values.
    ///
    /// Blank cells are missing values anyway.
    #[setting(texts = "TEXT,…")]
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<String>,
    /// Separate cells at this character (`tab` for a tab). The default is detected.
    #[setting(text = "CHAR")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub separator: Option<Separator>,
    /// Read the file in this encoding, such as windows-1252 or utf-16le. The default is utf-8, or
    /// by its byte order mark.
    ///
    /// The names are those of the WHATWG encoding standard.
    #[setting(text = "NAME")]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// Read numbers with a decimal comma, such as 3,5.
    #[setting(yes)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub decimal_comma: bool,
    /// Treat the first line as data, and name the columns c1, c2 ….
    #[setting(yes)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_header: bool,
    /// Treat quotes as ordinary characters.
    #[setting(yes)]
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_quotes: bool,
    /// Limit the bytes to which a compressed file may unpack, or a file may grow when it is read.
    /// The default is 200 times its size, or 512 MiB.
    ///
    /// Each cell counts as at least 8 bytes.
    #[setting(number)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_unpacked: Option<u64>,
    /// Limit the number of columns of a file. The default is 20000.
    #[setting(number)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_columns: Option<u64>,
    #[serde(skip)]
    pub(crate) one_of_several: bool,
    /// Whether formats are only for columns without types.
    #[serde(skip)]
    pub(crate) for_untyped: bool,
    #[serde(skip)]
    pub(crate) only: Option<BTreeSet<String>>,
    #[serde(skip)]
    pub(crate) progress: Option<Progress>,
    /// The rows to read of a database, as a condition; all if there is none.
    #[serde(skip)]
    pub(crate) condition: Option<String>,
    #[serde(skip)]
    pub(crate) directory: PathBuf,
    /// The bytes that are read at a time, which tests change.
    #[serde(skip)]
    pub(crate) block: Option<u64>,
}

/// The order of day and month in dates with slashes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, jembric_derive::Words)]
pub enum DateOrder {
    /// The day first.
    Dmy,
    /// The month first.
    Mdy,
    /// Only dates that begin with the year are dates.
    Ymd,
}

/// The character that separates the cells of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Separator(pub(crate) u8);

impl From<u8> for Separator {
    fn from(byte: u8) -> Separator {
        Separator(byte)
    }
}

impl fmt::Display for Separator {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0 {
            b'\t' => f.write_str("tab"),
            byte => char::from(byte).fmt(f),
        }
    }
}

impl Serialize for Separator {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl FromGiven for Separator {
    fn from_given(given: &Given, setting: &Setting) -> settings::Result<Separator> {
        let text = String::from_given(given, setting)?;
        match text.as_bytes() {
            b"tab" | b"\\t" | b"\t" => Ok(Separator(b'\t')),
            [byte] if byte.is_ascii() && !matches!(byte, b'"' | b'\n' | b'\r') => {
                Ok(Separator(*byte))
            }
            _ => Err(CoreError::Setting {
                setting: setting.name,
                value: format!("`{text}`"),
                expected: "one character such as ; or |, or the word tab".into(),
            }),
        }
    }
}

impl Reading {
    /// Detects all settings from the file.
    pub fn new() -> Reading {
        Reading::default()
    }

    /// Reads a column in a format; see the field [`read`](Reading#structfield.read).
    #[must_use]
    pub fn read(mut self, column: impl Into<String>, format: impl Into<String>) -> Reading {
        self.read.insert(column.into(), format.into());
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
        self.read.keys().map(String::as_str)
    }

    /// Reports progress: the bytes read so far and the bytes in all, from any thread.
    #[must_use]
    pub fn progress(mut self, report: impl Fn(u64, u64) + Send + Sync + 'static) -> Reading {
        self.progress = Some(Progress(Arc::new(report)));
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
}
