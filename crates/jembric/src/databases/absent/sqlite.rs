//! Replaces SQLite in a build without the feature `sqlite`.

use super::{Answer, DatabaseTable, Snapshot, TablesWriter, Wanted, failed};
use crate::{Error, Result, Shape, Table, io::Reading, write::existing::Existing};
use std::path::Path;

/// A database that cannot be opened.
#[derive(Debug)]
pub(crate) enum Sqlite {}

fn left_out(path: &Path) -> Error {
    failed(
        path.display().to_string(),
        "this build does not include SQLite",
        "It needs the feature `sqlite`",
    )
}

impl Sqlite {
    pub(crate) fn open(path: &Path) -> Result<Sqlite> {
        Err(left_out(path))
    }
}

impl Snapshot for Sqlite {
    fn names(&mut self) -> Result<Vec<DatabaseTable>> {
        match *self {}
    }

    fn tables(&mut self) -> Result<Vec<DatabaseTable>> {
        match *self {}
    }

    fn shape(&mut self, _: Wanted<'_>) -> Result<Shape> {
        match *self {}
    }

    fn answer(&mut self, _: Wanted<'_>, _: &Reading, _: Option<usize>) -> Result<Answer> {
        match *self {}
    }
}

/// A database that cannot be written.
#[derive(Debug)]
pub(crate) enum SqliteWriter {}

impl SqliteWriter {
    pub(crate) fn open(path: &Path, _: &Path, _: bool) -> Result<SqliteWriter> {
        Err(left_out(path))
    }
}

impl TablesWriter for SqliteWriter {
    fn begin(&mut self, _: &str, _: &Table, _: Existing) -> Result<usize> {
        match *self {}
    }

    fn write(&mut self, _: usize, _: &Table) -> Result<()> {
        match *self {}
    }

    fn commit(self: Box<Self>) -> Result<()> {
        match *self {}
    }
}
