//! Replaces PostgreSQL in a build without the feature `postgresql`.

use super::{disabled::Disabled, failed};
use crate::Result;

/// A database that cannot be opened.
pub(crate) struct PostgreSql;

/// A database that cannot be written.
pub(crate) struct PostgreSqlWriter;

fn left_out<T>(database: &str) -> Result<T> {
    Err(failed(
        database,
        "this build does not include PostgreSQL",
        "Build the library with the feature `postgresql`, or the command with `--features \
         full`",
    ))
}

impl PostgreSql {
    pub(crate) fn open(uri: &str) -> Result<Disabled> {
        left_out(uri)
    }
}

impl PostgreSqlWriter {
    pub(crate) fn open(uri: &str) -> Result<Disabled> {
        left_out(uri)
    }
}

/// Cancels the queries that are running, of which there are none.
pub fn cancel_queries() {}
