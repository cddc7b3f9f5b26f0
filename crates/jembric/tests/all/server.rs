//! A PostgreSQL server for tests, which `.ci/postgresql` starts, and databases of their own on it.

use postgres::{Client, NoTls};
use std::sync::atomic::{AtomicU32, Ordering};

/// The URI of a database of the server, with a password. Without a server, tests are skipped,
/// except where everything must be tested.
pub(crate) fn server() -> Option<String> {
    let uri = std::env::var("JEMBRIC_POSTGRESQL").ok();
    let must = std::env::var_os("CI").is_some();
    assert!(uri.is_some() || !must, "JEMBRIC_POSTGRESQL is not set; see .ci/postgresql");
    if uri.is_none() {
        eprintln!("skipped: JEMBRIC_POSTGRESQL is not set; see .ci/postgresql");
    }
    uri
}

/// A new database, which is dropped with this.
pub(crate) struct Fresh {
    server: String,
    name: String,
    pub(crate) uri: String,
}

impl Fresh {
    pub(crate) fn new() -> Option<Fresh> {
        static NEXT: AtomicU32 = AtomicU32::new(0);
        let server = server()?;
        let number = NEXT.fetch_add(1, Ordering::Relaxed);
        let name = format!("ostrey_{}_{number}", std::process::id());
        run(&server, &format!("create database {name} template template0"));
        let uri = format!("{}/{name}", server.rsplit_once('/').unwrap().0);
        Some(Fresh { server, name, uri })
    }

    /// A connection of its own.
    pub(crate) fn client(&self) -> Client {
        Client::connect(&self.uri, NoTls).unwrap()
    }

    /// Runs statements.
    #[allow(dead_code)]
    pub(crate) fn run(&self, sql: &str) {
        run(&self.uri, sql);
    }

    /// The rows of a query, each as one text.
    #[allow(dead_code)]
    pub(crate) fn texts(&self, sql: &str) -> Vec<String> {
        let rows = self.client().query(&format!("select t::text from ({sql}) as t"), &[]).unwrap();
        rows.iter().map(|row| row.get(0)).collect()
    }

    /// The name of one of its tables.
    pub(crate) fn table(&self, table: &str) -> String {
        format!("{}:{table}", self.uri)
    }

    /// The URI for another user.
    #[allow(dead_code)]
    pub(crate) fn as_user(&self, user: &str) -> String {
        let (_, host) = self.uri.split_once('@').unwrap();
        format!("postgresql://{user}@{host}")
    }
}

impl Drop for Fresh {
    fn drop(&mut self) {
        run(&self.server, &format!("drop database {} with (force)", self.name));
    }
}

fn run(uri: &str, sql: &str) {
    Client::connect(uri, NoTls).unwrap().batch_execute(sql).unwrap();
}
