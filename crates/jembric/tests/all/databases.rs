//! Tables of real databases: a PostgreSQL server on loopback, and SQLite files. Without the
//! variable JEMBRIC_POSTGRESQL, those that need a server are skipped; see `.ci/postgresql`.

mod both;
mod larger;
mod postgresql;
mod sqlite;
