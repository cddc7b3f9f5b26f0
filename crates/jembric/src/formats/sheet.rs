//! Names such as `book.xlsx:Sheet`, and requests to a workbook.

use super::csv_rows::RowRules;
use crate::error::Error;
use std::{
    fmt::Display,
    io,
    path::{Path, PathBuf},
};

/// Whether a file that begins like this is an archive, as workbooks are.
pub(crate) fn is_likely(first: &[u8]) -> bool {
    first.starts_with(b"PK\x03\x04")
}

/// Splits `book.xlsx:Sheet` into the file and the sheet. A name without a sheet, or one that an
/// existing file has, is a file.
pub(crate) fn file_and_sheet(path: &Path) -> (PathBuf, Option<String>) {
    let parts = path.to_str().filter(|_| !path.exists()).and_then(|text| text.rsplit_once(':'));
    let is_workbook = |file: &str| {
        let ending =
            Path::new(file).extension().map(|ending| ending.to_string_lossy().to_lowercase());
        matches!(ending.as_deref(), Some("xlsx" | "ods")) || Path::new(file).is_file()
    };
    match parts.filter(|(file, sheet)| !sheet.is_empty() && is_workbook(file)) {
        Some((file, sheet)) => (file.into(), Some(sheet.to_owned())),
        None => (path.to_owned(), None),
    }
}

/// The file of an input's name, without the sheet.
pub fn file_of(path: impl AsRef<Path>) -> PathBuf {
    file_and_sheet(path.as_ref()).0
}

/// A workbook to read.
pub(crate) struct Book<'a> {
    pub(crate) file: &'a str,
    pub(crate) bytes: &'a [u8],
    /// The requested sheet.
    pub(crate) sheet: Option<&'a str>,
    pub(crate) rules: RowRules<'a>,
    /// The limit on the unpacked size of the archive, in bytes.
    pub(crate) most_unpacked: u64,
}

impl Book<'_> {
    /// The error for a workbook that cannot be read.
    pub(crate) fn unreadable(&self, problem: impl Display) -> Error {
        let source = io::Error::new(
            io::ErrorKind::InvalidData,
            format!("this is not a complete workbook: {problem}"),
        );
        Error::Read { file: self.file.to_owned(), source, nearest: None }
    }
}
