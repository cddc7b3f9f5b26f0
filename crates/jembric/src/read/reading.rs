//! [`Reading`]: how a file is read, and what is found from the file itself.

use crate::error::Result;
use crate::formats::transcript::RowRules;
use jembric_core::calendar::notation::Order;
use std::{collections::BTreeSet, fmt, sync::Arc};

/// Told how many bytes of how many have been read, from any thread.
#[derive(Clone)]
pub(crate) struct Progress(pub(crate) Arc<dyn Fn(u64, u64) + Send + Sync>);

impl fmt::Debug for Progress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Progress")
    }
}

/// How to read CSV text: what is not said is found from the file itself.
///
/// Text is UTF-8 unless a byte-order mark or [`encoding`](Reading::encoding) says otherwise; quotes
/// are those of RFC 4180; lines end in LF or CRLF; an empty or blank cell has no value; an empty
/// line is passed over. A column's type is decided from all of its cells:
///
/// * whole numbers without a leading zero that fit 64 bits; decimals with at most 18 digits and 6
///   places, exactly; other numbers in floating point; `true` and `false`
/// * weeks, months and quarters by their labels: `2025-W27`, `2025-06`, `2025-Q2`
/// * dates in the [known notations](jembric_core::calendar::notation::Form), where the order of day
///   and month is clear from the column or was given; with a time of day behind them, moments
/// * text, where no other type fits every cell
///
/// Errors name file, line and what was expected. Costs one pass over the text on all threads, and
/// memory for the columns.
#[derive(Clone, Debug, Default)]
pub struct Reading {
    pub(crate) separator: Option<u8>,
    pub(super) encoding: Option<String>,
    pub(super) decimal_comma: bool,
    pub(crate) no_header: bool,
    pub(crate) no_quotes: bool,
    pub(crate) missing: Vec<String>,
    pub(super) order: Option<Order>,
    pub(super) year_first_only: bool,
    pub(super) formats: Vec<(String, String)>,
    pub(super) one_of_several: bool,
    pub(super) only: Option<BTreeSet<String>>,
    pub(super) century: Option<i16>,
    pub(super) most_unpacked: Option<u64>,
    pub(super) most_columns: Option<u64>,
    pub(crate) progress: Option<Progress>,
    /// Bytes read at a time, where tests have it otherwise.
    pub(super) block: Option<u64>,
}

impl Reading {
    /// All settings found from the file.
    pub fn new() -> Reading {
        Reading::default()
    }

    /// The character between cells, instead of what the first lines suggest.
    #[must_use]
    pub fn separator(mut self, separator: u8) -> Reading {
        self.separator = Some(separator);
        self
    }

    /// The encoding by its name: `windows-1252`, `utf-16le` and the others of the WHATWG encoding
    /// standard.
    #[must_use]
    pub fn encoding(mut self, name: impl Into<String>) -> Reading {
        self.encoding = Some(name.into());
        self
    }

    /// Numbers are written `3,5`.
    #[must_use]
    pub fn decimal_comma(mut self, comma: bool) -> Reading {
        self.decimal_comma = comma;
        self
    }

    /// The first line is a row; columns are called `c1`, `c2` ….
    #[must_use]
    pub fn no_header(mut self, without: bool) -> Reading {
        self.no_header = without;
        self
    }

    /// Quotes are ordinary characters.
    #[must_use]
    pub fn no_quotes(mut self, without: bool) -> Reading {
        self.no_quotes = without;
        self
    }

    /// Texts that mean "no value", beside the blank.
    #[must_use]
    pub fn missing<N: Into<String>>(mut self, marks: impl IntoIterator<Item = N>) -> Reading {
        self.missing = marks.into_iter().map(Into::into).collect();
        self
    }

    /// Which of day and month comes first between slashes.
    #[must_use]
    pub fn date_order(mut self, order: Order) -> Reading {
        self.order = Some(order);
        self
    }

    /// Only dates that begin with the year are dates.
    #[must_use]
    pub fn year_first_only(mut self, only: bool) -> Reading {
        self.year_first_only = only;
        self
    }

    /// Reads a column in a format of strptime directives (`%d.%m.%y %H:%M`), or as one of these
    /// words: `text`; `number`; `month`, `quarter`, `week` or `year`, whether they stand there by
    /// their labels, as `202506` or `Jun 2025`, or as first days; `serial`, days since 1899-12-30
    /// with a fraction; `rfc2822`, as e-mail has it. Moments that are all midnights are dates.
    #[must_use]
    pub fn read(mut self, column: impl Into<String>, format: impl Into<String>) -> Reading {
        self.formats.push((column.into(), format.into()));
        self
    }

    /// The file is one of several that are read alike: formats of columns that it does not have are
    /// for the others.
    #[must_use]
    pub fn one_of_several(mut self) -> Reading {
        self.one_of_several = true;
        self
    }

    /// Reads only these columns, those of them that there are. Of the others CSV cells are not
    /// looked at, and bytes of Parquet not fetched. Where a file has none of them its first column
    /// is read, so that its rows are there.
    #[must_use]
    pub fn only<N: Into<String>>(mut self, columns: impl IntoIterator<Item = N>) -> Reading {
        self.only = Some(columns.into_iter().map(Into::into).collect());
        self
    }

    /// The places of the columns that are read.
    pub(super) fn read_of<'a>(&self, names: impl Iterator<Item = &'a str>) -> Vec<usize> {
        let Some(only) = &self.only else { return (0..names.count()).collect() };
        let places: Vec<usize> =
            names.enumerate().filter(|(_, name)| only.contains(*name)).map(|(n, _)| n).collect();
        if places.is_empty() { vec![0] } else { places }
    }

    /// The columns for which formats were given.
    pub fn columns_with_formats(&self) -> impl Iterator<Item = &str> {
        self.formats.iter().map(|(column, _)| column.as_str())
    }

    /// The first of the hundred years that two-digit years (`%y`) stand for.
    #[must_use]
    pub fn century(mut self, first_year: i16) -> Reading {
        self.century = Some(first_year);
        self
    }

    /// Is told, from any thread, how many bytes of how many have been read.
    #[must_use]
    pub fn progress(mut self, told: impl Fn(u64, u64) + Send + Sync + 'static) -> Reading {
        self.progress = Some(Progress(Arc::new(told)));
        self
    }

    /// How many columns a file may have. The default is 20,000.
    #[must_use]
    pub fn most_columns(mut self, columns: u64) -> Reading {
        self.most_columns = Some(columns);
        self
    }

    /// An error where a file has more columns than it may.
    pub(crate) fn refuse_columns(&self, file: &str, columns: usize) -> Result<()> {
        self.row_rules().refuse_columns(file, columns)
    }

    /// What is said of rows that are written down.
    pub(super) fn row_rules(&self) -> RowRules<'_> {
        RowRules {
            missing: &self.missing,
            no_header: self.no_header,
            most_columns: self.most_columns,
        }
    }

    /// What a file may unpack to or stand for, in bytes, where each cell counts for at least 8. The
    /// default is 200 times its size, or 512 MiB where that is more.
    #[must_use]
    pub fn most_unpacked(mut self, bytes: u64) -> Reading {
        self.most_unpacked = Some(bytes);
        self
    }
}
