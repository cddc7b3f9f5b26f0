//! The error type of the library: the errors of the core, and those of reading and writing.

use jembric_core::{Advised, ExpressionError, Words, calendar::ValueError};
use std::{fmt, io};

mod mistaken;

pub use mistaken::Mistaken;

/// A result whose error is [`enum@Error`].
pub type Result<T, E = Error> = std::result::Result<T, E>;

/// What can be wrong with a file, a table, or the settings of an operation.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The table or the settings do not allow a result.
    #[error(transparent)]
    Core(#[from] jembric_core::Error),
    /// A file cannot be opened or read.
    #[error("{file}: {}{}", reason(.source), .nearest.as_ref().map(|name| format!(". Did you mean \
        `{name}`?")).unwrap_or_default())]
    Read {
        /// The file.
        file: String,
        /// The error of the system.
        source: io::Error,
        /// A file with a similar name in the same directory.
        nearest: Option<String>,
    },
    /// Temporary files cannot be written or read.
    #[error("{}", scratch(.directory, .source, &in_rust))]
    Scratch {
        /// The directory of temporary files.
        directory: String,
        /// The error of the system.
        source: io::Error,
    },
    /// A step needs more rows at once than the memory allows.
    #[error("{}", needs_memory(*.rows, *.needed, *.budget, &in_rust))]
    NeedsMemory {
        /// The number of rows.
        rows: u64,
        /// The least bytes that are enough.
        needed: u64,
        /// The limit in bytes.
        budget: u64,
    },
    /// Another process of the run failed, or cannot be reached.
    #[error("{process}: {problem}")]
    Process {
        /// The process.
        process: String,
        /// What happened to it.
        problem: String,
    },
    /// A directory was given where a file is needed.
    #[error("{file}: this is a directory, but a file is required")]
    Directory {
        /// The directory.
        file: String,
    },
    /// The file is empty.
    #[error("{file}: the file is empty. Expected a first line with the names of the columns")]
    Empty {
        /// The file.
        file: String,
    },
    /// Bytes that are not text in the encoding.
    #[error("{}", not_text(.file, (*.line, *.byte, *.value), .encoding, &in_rust))]
    NotText {
        /// The file.
        file: String,
        /// The line.
        line: u64,
        /// The place of the first such byte in the file, from 1.
        byte: u64,
        /// Its value.
        value: u8,
        /// The encoding used to read it.
        encoding: &'static str,
    },
    /// A row has more or fewer cells than there are columns.
    #[error(
        "{file}: line {line}: expected {expected} cells, one for each column, and found {found}: \
            {text}"
    )]
    Ragged {
        /// The file.
        file: String,
        /// The line on which the row begins.
        line: u64,
        /// The number of columns.
        expected: usize,
        /// The number of cells.
        found: usize,
        /// The row's first cells.
        text: String,
    },
    /// A line, or a row of a sheet, that is not valid in its format.
    #[error("{file}: line {line}: {problem}")]
    Line {
        /// The file.
        file: String,
        /// The line.
        line: u64,
        /// What is wrong, and what was expected.
        problem: String,
    },
    /// A quote is never closed.
    #[error("{}", open_quote(.file, *.line, .text, &in_rust))]
    OpenQuote {
        /// The file.
        file: String,
        /// The line of the quote.
        line: u64,
        /// The text after it.
        text: String,
    },
    /// A quote in a place where RFC 4180 allows none.
    #[error("{}", stray_quote(.file, *.line, .text, *.opened, &in_rust))]
    StrayQuote {
        /// The file.
        file: String,
        /// The line.
        line: u64,
        /// The text around it.
        text: String,
        /// The line on which the quoted cell began that this quote would close.
        opened: Option<u64>,
    },
    /// Cells do not match the format that was given for their column.
    #[error("{file}: column `{column}`: {bad} of its {values} values {} `{format}`: {}{}",
        if *.bad == 1 { "does not match the format" } else { "do not match the format" },
            .first.join(", "), if *.bad > .first.len() as u64 { ", …" } else { "" })]
    Format {
        /// The file.
        file: String,
        /// The column.
        column: String,
        /// The format.
        format: String,
        /// The number of cells with a value.
        values: u64,
        /// The number of cells that do not match.
        bad: u64,
        /// The first three of them, each with its line.
        first: Vec<String>,
    },
    /// A setting has an invalid value.
    #[error("`{setting}`: {value}: expected {expected}")]
    Setting {
        /// The setting.
        setting: &'static str,
        /// The value.
        value: String,
        /// The valid values.
        expected: String,
    },
    /// A compressed file unpacks to more than the limit.
    #[error("{}", unpacks(.file, *.packed, *.most, &in_rust))]
    Unpacks {
        /// The file.
        file: String,
        /// Its size in bytes.
        packed: u64,
        /// The limit.
        most: u64,
    },
    /// A file has more columns than the limit.
    #[error("{}", many_columns(.file, *.columns, *.most, &in_rust))]
    ManyColumns {
        /// The file.
        file: String,
        /// The number of columns.
        columns: u64,
        /// The limit.
        most: u64,
    },
    /// The file makes a false statement about its columns.
    #[error("{file}: {source}")]
    InFile {
        /// The file.
        file: String,
        /// The error.
        source: Box<jembric_core::Error>,
    },
    /// An error in a setting.
    #[error("{source}")]
    OfSetting {
        /// The setting.
        setting: &'static str,
        /// The error.
        source: Box<Error>,
    },
    /// An error in a step of a chain.
    #[error("{step}: {source}")]
    OfStep {
        /// The name of the step, or its number and operation.
        step: String,
        /// The error.
        source: Box<Error>,
    },
    /// A setting is missing or has an invalid value.
    #[error("{0}")]
    Value(Box<jembric_core::Error>),
    /// Settings that are invalid together, or incomplete.
    #[error("{0}")]
    Settings(String),
    /// A routine is invalid.
    #[error("{0}")]
    Routine(Box<Mistaken>),
    /// An output would overwrite an input file.
    #[error("{file}: this output would overwrite an input file. Choose another file")]
    OntoInput {
        /// The file.
        file: String,
    },
    /// Two outputs have the same file.
    #[error(
        "{file}: {one} and {other} would be written to the same file. Choose another file for one \
            of them"
    )]
    OutputTwice {
        /// The file.
        file: String,
        /// What is written to it.
        one: String,
        /// What else is written to it.
        other: String,
    },
    /// A file changed between the first look at it and the end of the run.
    #[error(
        "{file}: the file changed while it was in use, so rows of different moments could be \
            mixed. Run the command again when nobody writes to it"
    )]
    Changed {
        /// The file.
        file: String,
    },
    /// A database, or one of its tables, cannot be read or written.
    #[error("{database}: {problem}{}", advised(.advice))]
    Database {
        /// The database, perhaps with a table, without a password.
        database: String,
        /// What is wrong.
        problem: String,
        /// What to do, as a sentence without its period; empty if there is nothing to say.
        advice: String,
    },
    /// A table to write exists already.
    #[error("{}", table_exists(.table, &in_rust))]
    TableExists {
        /// The table, with its database.
        table: String,
    },
    /// An output cannot be written.
    #[error("{file}: could not be written: {}. No incomplete file was left", reason(.source))]
    Write {
        /// The file, or `standard output`.
        file: String,
        /// The error of the system.
        source: io::Error,
    },
}

impl From<ValueError> for Error {
    fn from(error: ValueError) -> Error {
        Error::Core(error.into())
    }
}

impl Error {
    /// The error of reading a file.
    pub(crate) fn read(file: &str) -> impl Fn(io::Error) -> Error + use<> {
        let file = file.to_owned();
        move |source| Error::Read { file: file.clone(), source, nearest: None }
    }

    /// The error of writing to a file, or that of the database behind it.
    pub(crate) fn write(file: impl fmt::Display) -> impl FnOnce(io::Error) -> Error {
        move |source| match source.downcast::<Error>() {
            Ok(error) => error,
            Err(source) => Error::Write { file: file.to_string(), source },
        }
    }

    /// Whether the reader of the output has closed the pipe, which is not a failure.
    pub fn is_closed_pipe(&self) -> bool {
        matches!(self, Error::Write { source, .. } if source.kind() == io::ErrorKind::BrokenPipe)
    }

    /// The text of the error, in the words of an interface.
    pub fn rendered(&self, words: Words<'_>) -> String {
        match self {
            Error::Core(error) => error.rendered(words),
            Error::Value(error) => error.rendered(words),
            Error::InFile { file, source } => format!("{file}: {}", source.rendered(words)),
            Error::OfSetting { source, .. } => source.rendered(words),
            Error::OfStep { step, source } => format!("{step}: {}", source.rendered(words)),
            Error::NotText { file, line, byte, value, encoding } => {
                not_text(file, (*line, *byte, *value), encoding, words)
            }
            Error::OpenQuote { file, line, text } => open_quote(file, *line, text, words),
            Error::StrayQuote { file, line, text, opened } => {
                stray_quote(file, *line, text, *opened, words)
            }
            Error::Unpacks { file, packed, most } => unpacks(file, *packed, *most, words),
            Error::ManyColumns { file, columns, most } => {
                many_columns(file, *columns, *most, words)
            }
            Error::TableExists { table } => table_exists(table, words),
            Error::Scratch { directory, source } => scratch(directory, source, words),
            Error::NeedsMemory { rows, needed, budget } => {
                needs_memory(*rows, *needed, *budget, words)
            }
            error => error.to_string(),
        }
    }

    /// Adds the setting that caused the error.
    pub(crate) fn of_setting(self, setting: &'static str) -> Error {
        match self {
            Error::Core(error) => Error::Core(error.of_setting(setting)),
            error => Error::OfSetting { setting, source: Box::new(error) },
        }
    }

    /// What is wrong with the table or the settings, without the setting that caused it; none for
    /// errors of files, databases and the like.
    ///
    /// ```
    /// use jembric::{Chain, CoreError, Latest};
    /// # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv");
    ///
    /// let error = Chain::read(file).then(Latest::new("arived")).run().unwrap_err();
    /// match error.core() {
    ///     Some(CoreError::NoSuchColumn { column, nearest, .. }) => {
    ///         println!("no column {column}: try {nearest:?}");
    ///     }
    ///     Some(CoreError::Cancelled) => println!("cancelled"),
    ///     _ => panic!("{error}"),
    /// }
    /// ```
    pub fn core(&self) -> Option<&jembric_core::Error> {
        match self {
            Error::Core(error) => Some(error.in_setting()),
            Error::Value(error) => Some(error.in_setting()),
            Error::OfSetting { source, .. } | Error::OfStep { source, .. } => source.core(),
            _ => None,
        }
    }

    /// The setting that caused the error, if one did.
    pub fn setting(&self) -> Option<&str> {
        match self {
            Error::Core(error) => error.setting(),
            Error::Value(error) => error.setting(),
            Error::Setting { setting, .. } | Error::OfSetting { setting, .. } => Some(setting),
            Error::OfStep { source, .. } => source.setting(),
            _ => None,
        }
    }

    /// The file that the error is about, if any.
    pub fn file(&self) -> Option<&str> {
        match self {
            Error::Core(error) => error.file(),
            Error::Value(error) => error.file(),
            Error::OfSetting { source, .. } | Error::OfStep { source, .. } => source.file(),
            Error::Read { file, .. }
            | Error::Directory { file }
            | Error::Empty { file }
            | Error::NotText { file, .. }
            | Error::Ragged { file, .. }
            | Error::Line { file, .. }
            | Error::OpenQuote { file, .. }
            | Error::StrayQuote { file, .. }
            | Error::Format { file, .. }
            | Error::Unpacks { file, .. }
            | Error::ManyColumns { file, .. }
            | Error::InFile { file, .. }
            | Error::OntoInput { file }
            | Error::OutputTwice { file, .. }
            | Error::Changed { file }
            | Error::Database { database: file, .. }
            | Error::TableExists { table: file }
            | Error::Write { file, .. } => Some(file),
            Error::Setting { .. }
            | Error::Settings(_)
            | Error::Routine(_)
            | Error::Scratch { .. }
            | Error::Process { .. }
            | Error::NeedsMemory { .. } => None,
        }
    }

    /// The error in an expression, if it is one.
    pub(crate) fn expression(&self) -> Option<&ExpressionError> {
        match self {
            Error::Core(error) => match error.fact() {
                jembric_core::Error::Expression(wrong) => Some(wrong),
                _ => None,
            },
            _ => None,
        }
    }
}

fn in_rust(advised: &Advised<'_>) -> String {
    advised.in_rust()
}

fn not_text(
    file: &str,
    (line, byte, value): (u64, u64, u8),
    encoding: &str,
    words: Words<'_>,
) -> String {
    let other = words(&Advised::Reading("encoding", Some("windows-1252")));
    format!(
        "{file}: line {line}: byte {byte} of the file ({value:#04x}) is not {encoding}. Set the \
            encoding of the file: {other}, `utf-16le` or another"
    )
}

fn open_quote(file: &str, line: u64, text: &str, words: Words<'_>) -> String {
    let plain = words(&Advised::Reading("no-quotes", None));
    format!(
        "{file}: line {line}: the quote that begins here is never closed: {text}. Close it, \
            double quotes inside a quoted cell, or read quotes as ordinary characters ({plain})"
    )
}

fn stray_quote(file: &str, line: u64, text: &str, opened: Option<u64>, words: Words<'_>) -> String {
    let plain = words(&Advised::Reading("no-quotes", None));
    let opened = opened_on(&opened);
    format!(
        "{file}: line {line}: there is a quote in the middle of a cell: {text}{opened}. Quote the \
            whole cell and double the quotes inside it, or read quotes as ordinary characters \
            ({plain})"
    )
}

fn unpacks(file: &str, packed: u64, most: u64, words: Words<'_>) -> String {
    let more = most.saturating_mul(8).to_string();
    let more = words(&Advised::Reading("most-unpacked", Some(&more)));
    format!(
        "{file}: its {packed} bytes unpack to more than the limit of {most} bytes. If the file is \
            right, raise the limit: {more}"
    )
}

fn many_columns(file: &str, columns: u64, most: u64, words: Words<'_>) -> String {
    let more = columns.to_string();
    let more = words(&Advised::Reading("most-columns", Some(&more)));
    format!(
        "{file}: it has {columns} columns, more than the limit of {most}. If the file is right, \
            raise the limit: {more}"
    )
}

fn scratch(directory: &str, source: &io::Error, words: Words<'_>) -> String {
    let another = words(&Advised::Running("scratch", "DIR"));
    let advice = match source.kind() {
        io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded => {
            format!(
                "Free space on this disk, or set another directory for temporary files: {another}"
            )
        }
        io::ErrorKind::InvalidData => "Run it again".to_owned(),
        _ => format!("Set a directory for temporary files that can be written to: {another}"),
    };
    format!("{directory}: {}. {advice}", reason(source))
}

fn needs_memory(rows: u64, needed: u64, budget: u64, words: Words<'_>) -> String {
    let enough = words(&Advised::Running("memory", &sized(needed)));
    format!(
        "this step needs {rows} rows at once, and the memory is limited to {}. Set more: {enough}",
        sized(budget)
    )
}

fn table_exists(table: &str, words: Words<'_>) -> String {
    let (replace, append) = (Advised::Writing("replace"), Advised::Writing("append"));
    format!(
        "{table}: the table exists already. Replace it ({}), add the rows to it ({}), or choose \
            another name",
        words(&replace),
        words(&append)
    )
}

/// Advice behind a problem, as a sentence.
fn advised(advice: &str) -> String {
    if advice.is_empty() { String::new() } else { format!(". {advice}") }
}

/// The binary units of IEC 80000-13, each with its bytes.
pub(crate) const BINARY_UNITS: [(&str, u64); 4] =
    [("TiB", 1 << 40), ("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10)];

/// A number of bytes in the largest binary unit in which it is a whole number.
pub(crate) fn in_binary_units(bytes: u64) -> String {
    let whole = BINARY_UNITS.iter().find(|(_, of)| bytes >= *of && bytes.is_multiple_of(*of));
    let (unit, of) = whole.copied().unwrap_or(("B", 1));
    format!("{}{unit}", bytes / of)
}

/// A number of bytes as a setting takes it, rounded up to mebibytes.
fn sized(bytes: u64) -> String {
    let mebibyte = 1 << 20;
    in_binary_units(if bytes < mebibyte { bytes } else { bytes.next_multiple_of(mebibyte) })
}

/// The system's reason in plain words.
fn reason(error: &io::Error) -> String {
    match error.kind() {
        io::ErrorKind::NotFound => "no such file or directory".to_owned(),
        io::ErrorKind::PermissionDenied => "no permission".to_owned(),
        io::ErrorKind::StorageFull => "the disk is full".to_owned(),
        _ => error.to_string(),
    }
}

fn opened_on(line: &Option<u64>) -> String {
    line.map(|line| format!(" (the quoted cell began on line {line})")).unwrap_or_default()
}
