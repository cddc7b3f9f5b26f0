//! What can go wrong between files and answers: the core's errors, and those of reading and writing.

use std::{fmt, io};

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
    #[error("{file}: {}{}", reason(.source), .nearest.as_ref().map(|name| format!(". Did you mean `{name}`?")).unwrap_or_default())]
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
    #[error(
        "{file}: line {line}: byte {byte} of the file ({value:#04x}) is not {encoding}. Say how the file is written: `--encoding windows-1252`, `utf-16le` or another"
    )]
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
    #[error("{file}: line {line}: expected {expected} cells, one for each column, and found {found}: {text}")]
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
    #[error(
        "{file}: line {line}: the quote that begins here is never closed: {text}. Close it, write a quote inside a quoted cell twice, or read quotes as ordinary characters (`--no-quotes`)"
    )]
    OpenQuote {
        /// The file.
        file: String,
        /// The line on which it begins.
        line: u64,
        /// What follows it.
        text: String,
    },
    /// A quote stands where RFC 4180 has none.
    #[error("{file}: line {line}: a quote in the middle of a cell: {text}{}. Write such a cell in quotes with its own quotes doubled, or read quotes as ordinary characters (`--no-quotes`)", opened_on(.opened))]
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
    #[error("{file}: column `{column}`: {bad} of its {values} values {} `{format}`: {}{}", if *.bad == 1 { "is not in the format" } else { "are not in the format" }, .first.join(", "), if *.bad > .first.len() as u64 { ", …" } else { "" })]
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
    #[error(
        "{file}: its {packed} bytes unpack to more than {most}, and so they are not read. If that is right, allow more: \
         `--most-unpacked {}`",
        .most.saturating_mul(8)
    )]
    Unpacks {
        /// The file.
        file: String,
        /// Its size in bytes.
        packed: u64,
        /// How many it may unpack to.
        most: u64,
    },
    /// A file has more columns than are read.
    #[error(
        "{file}: it has {columns} columns, more than the {most} that are read. If that is right, allow more: \
         `--most-columns {columns}`"
    )]
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
    /// Settings of which one is not what it should be, or which lack one.
    #[error("{0}")]
    Settings(String),
    /// A routine is not what it should be.
    #[error("{0}")]
    Routine(Box<crate::routine::Mistaken>),
    /// An output would replace a file that is read.
    #[error("{file}: is one of the files that are read, and would be overwritten. Name another file")]
    OntoInput {
        /// The file.
        file: String,
    },
    /// Two outputs would be one file.
    #[error("{file}: {one} and {other} would be written to the same file. Name another file for one of them")]
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
