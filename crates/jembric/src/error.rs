//! What can go wrong between files and answers: the core's errors, and those of reading and
//! writing.

use jembric_core::{Advised, ExpressionError, Words};
use std::{fmt, io};

mod mistaken;

pub use mistaken::Mistaken;

/// A result whose error is [`enum@Error`].
pub type Result<T> = std::result::Result<T, Error>;

/// What can be wrong with a file, a table, or what was asked of it.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum Error {
    /// The table or the settings cannot give the answer.
    #[error(transparent)]
    Core(#[from] jembric_core::Error),
    /// A file cannot be opened or read.
    #[error("{file}: {}{}", reason(.source), .nearest.as_ref().map(|name| format!(". Did you mean \
        `{name}`?")).unwrap_or_default())]
    Read {
        /// The file.
        file: String,
        /// What the system said.
        source: io::Error,
        /// A file of a similar name in the same directory.
        nearest: Option<String>,
    },
    /// A directory was given where a file is needed.
    #[error("{file}: is a directory, where a file is needed")]
    Directory {
        /// The directory.
        file: String,
    },
    /// There is nothing in the file.
    #[error("{file}: the file is empty. Expected a line with the names of the columns")]
    Empty {
        /// The file.
        file: String,
    },
    /// Bytes that are no text in the encoding.
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
        /// The encoding as which it was read.
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
        /// How many columns there are.
        expected: usize,
        /// How many cells there are.
        found: usize,
        /// The row's first cells.
        text: String,
    },
    /// A line, or a row of a sheet, that is not as its format has it.
    #[error("{file}: line {line}: {problem}")]
    Line {
        /// The file.
        file: String,
        /// The line.
        line: u64,
        /// What is wrong there, and what was expected.
        problem: String,
    },
    /// A quote is never closed.
    #[error("{}", open_quote(.file, *.line, .text, &in_rust))]
    OpenQuote {
        /// The file.
        file: String,
        /// The line on which it begins.
        line: u64,
        /// What follows it.
        text: String,
    },
    /// A quote stands where RFC 4180 has none.
    #[error("{}", stray_quote(.file, *.line, .text, *.opened, &in_rust))]
    StrayQuote {
        /// The file.
        file: String,
        /// The line.
        line: u64,
        /// What stands around it.
        text: String,
        /// The line on which the quoted cell began that this quote would close.
        opened: Option<u64>,
    },
    /// Cells that are not in the format that was given for their column.
    #[error("{file}: column `{column}`: {bad} of its {values} values {} `{format}`: {}{}",
        if *.bad == 1 { "is not in the format" } else { "are not in the format" },
            .first.join(", "), if *.bad > .first.len() as u64 { ", …" } else { "" })]
    Format {
        /// The file.
        file: String,
        /// The column.
        column: String,
        /// The format.
        format: String,
        /// How many cells have a value.
        values: u64,
        /// How many of them are not in the format.
        bad: u64,
        /// The first three of them, each with its line.
        first: Vec<String>,
    },
    /// A setting has a value with which nothing can be done.
    #[error("`{setting}`: {value}: expected {expected}")]
    Setting {
        /// The setting.
        setting: &'static str,
        /// The value given.
        value: String,
        /// What it may be.
        expected: String,
    },
    /// A packed file unpacks to far more than its size.
    #[error("{}", unpacks(.file, *.packed, *.most, &in_rust))]
    Unpacks {
        /// The file.
        file: String,
        /// Its size in bytes.
        packed: u64,
        /// How many it may unpack to.
        most: u64,
    },
    /// A file has more columns than are read.
    #[error("{}", many_columns(.file, *.columns, *.most, &in_rust))]
    ManyColumns {
        /// The file.
        file: String,
        /// How many it has.
        columns: u64,
        /// How many it may have.
        most: u64,
    },
    /// What a file says of its columns is not so.
    #[error("{file}: {source}")]
    InFile {
        /// The file.
        file: String,
        /// What is wrong.
        source: Box<jembric_core::Error>,
    },
    /// What went wrong with a setting.
    #[error("{source}")]
    OfSetting {
        /// The setting.
        setting: &'static str,
        /// What went wrong.
        source: Box<Error>,
    },
    /// A setting cannot have the value that it was given, or is missing.
    #[error("{0}")]
    Value(Box<jembric_core::Error>),
    /// Settings of which one is not what it should be, or which lack one.
    #[error("{0}")]
    Settings(String),
    /// A routine is not what it should be.
    #[error("{0}")]
    Routine(Box<Mistaken>),
    /// An output would replace a file that is read.
    #[error(
        "{file}: is one of the files that are read, and would be overwritten. Name another file"
    )]
    OntoInput {
        /// The file.
        file: String,
    },
    /// Two outputs would be one file.
    #[error(
        "{file}: {one} and {other} would be written to the same file. Name another file for one \
            of them"
    )]
    OutputTwice {
        /// The file.
        file: String,
        /// What is written there, in words.
        one: String,
        /// And what else.
        other: String,
    },
    /// Something cannot be written.
    #[error("{file}: could not be written: {}. Nothing was left half-written", reason(.source))]
    Write {
        /// The file, or `standard output`.
        file: String,
        /// What the system said.
        source: io::Error,
    },
}

impl Error {
    pub(crate) fn write(file: impl fmt::Display) -> impl FnOnce(io::Error) -> Error {
        move |source| Error::Write { file: file.to_string(), source }
    }

    /// Whether whoever reads the output has stopped reading, which is no failure.
    pub fn is_closed_pipe(&self) -> bool {
        matches!(self, Error::Write { source, .. } if source.kind() == io::ErrorKind::BrokenPipe)
    }

    /// What it says, in the words of a way in for what it advises to set.
    pub fn told(&self, words: Words<'_>) -> String {
        match self {
            Error::Core(error) => error.told(words),
            Error::Value(error) => error.told(words),
            Error::InFile { file, source } => format!("{file}: {}", source.told(words)),
            Error::OfSetting { source, .. } => source.told(words),
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
            error => error.to_string(),
        }
    }

    /// The same error, which knows the setting that caused it.
    pub(crate) fn of_setting(self, setting: &'static str) -> Error {
        match self {
            Error::Core(error) => Error::Core(error.of_setting(setting)),
            error => Error::OfSetting { setting, source: Box::new(error) },
        }
    }

    /// The setting that caused it, where one did.
    pub fn setting(&self) -> Option<&str> {
        match self {
            Error::Core(error) => error.setting(),
            Error::Value(error) => error.setting(),
            Error::Setting { setting, .. } | Error::OfSetting { setting, .. } => Some(setting),
            _ => None,
        }
    }

    /// The file that it is about, where it is about one.
    pub fn file(&self) -> Option<&str> {
        match self {
            Error::Core(error) => error.file(),
            Error::Value(error) => error.file(),
            Error::OfSetting { source, .. } => source.file(),
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
            | Error::Write { file, .. } => Some(file),
            Error::Setting { .. } | Error::Settings(_) | Error::Routine(_) => None,
        }
    }

    /// What is wrong with an expression, where that is the matter.
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
        "{file}: line {line}: byte {byte} of the file ({value:#04x}) is not {encoding}. Say how \
            the file is written: \
         {other}, `utf-16le` or another"
    )
}

fn open_quote(file: &str, line: u64, text: &str, words: Words<'_>) -> String {
    let plain = words(&Advised::Reading("no-quotes", None));
    format!(
        "{file}: line {line}: the quote that begins here is never closed: {text}. Close it, write \
            a quote inside a \
         quoted cell twice, or read quotes as ordinary characters ({plain})"
    )
}

fn stray_quote(file: &str, line: u64, text: &str, opened: Option<u64>, words: Words<'_>) -> String {
    let plain = words(&Advised::Reading("no-quotes", None));
    let opened = opened_on(&opened);
    format!(
        "{file}: line {line}: a quote in the middle of a cell: {text}{opened}. Write such a cell \
            in quotes with its own \
         quotes doubled, or read quotes as ordinary characters ({plain})"
    )
}

fn unpacks(file: &str, packed: u64, most: u64, words: Words<'_>) -> String {
    let more = most.saturating_mul(8).to_string();
    let more = words(&Advised::Reading("most-unpacked", Some(&more)));
    format!(
        "{file}: its {packed} bytes unpack to more than {most}, and so they are not read. If that \
            is right, allow more: \
         {more}"
    )
}

fn many_columns(file: &str, columns: u64, most: u64, words: Words<'_>) -> String {
    let more = columns.to_string();
    let more = words(&Advised::Reading("most-columns", Some(&more)));
    format!(
        "{file}: it has {columns} columns, more than the {most} that are read. If that is right, \
            allow more: {more}"
    )
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
    line.map(|line| format!(" (the cell's first quote is on line {line})")).unwrap_or_default()
}
