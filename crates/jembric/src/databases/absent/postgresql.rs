//! Replaces PostgreSQL in a build without the feature `postgresql`.

use super::{Answer, DatabaseTable, Snapshot, TablesWriter, Wanted, failed};
use crate::{Error, Result, Shape, Table, io::Reading, write::existing::Existing};

/// A database that cannot be opened.
#[derive(Debug)]
pub(crate) enum PostgreSql {}

fn left_out(uri: &str) -> Error {
    failed(uri, "this build does not include PostgreSQL", "It needs the feature `postgresql`")
}

impl PostgreSql {
    pub(crate) fn open(uri: &str) -> Result<PostgreSql> {
        Err(left_out(uri))
    }
}

impl Snapshot for PostgreSql {
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
pub(crate) enum PostgreSqlWriter {}

impl PostgreSqlWriter {
    pub(crate) fn open(uri: &str) -> Result<PostgreSqlWriter> {
        Err(left_out(uri))
    }
}

impl TablesWriter for PostgreSqlWriter {
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

/// Cancels the queries that are running, of which there are none.
pub fn cancel_queries() {}
