//! Replaces SQLite in a build without the feature `sqlite`.

use super::{disabled::Disabled, failed};
use crate::Result;
use std::path::Path;

/// A database that cannot be opened.
pub(crate) struct Sqlite;

/// A database that cannot be written.
pub(crate) struct SqliteWriter;

fn left_out<T>(database: &Path) -> Result<T> {
    Err(failed(
        database.display().to_string(),
        "this build does not include SQLite",
        "Build the library with the feature `sqlite`, or the command with `--features full`",
    ))
}

impl Sqlite {
    pub(crate) fn open(path: &Path) -> Result<Disabled> {
        left_out(path)
    }
}

impl SqliteWriter {
    pub(crate) fn open(path: &Path, _: &Path, _: bool) -> Result<Disabled> {
        left_out(path)
    }
}
