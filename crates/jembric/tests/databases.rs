//! Tables of real databases: a PostgreSQL server on loopback, and SQLite files.
#![allow(clippy::unwrap_used)]

#[path = "databases/both.rs"]
mod both;
#[path = "databases/larger.rs"]
mod larger;
#[path = "databases/postgresql.rs"]
mod postgresql;
mod server;
#[path = "databases/sqlite.rs"]
mod sqlite;
