//! The errors of connections and statements, in plain words.

use crate::{Error, databases::failed};
use postgres::{Config, error::SqlState};
use std::{error::Error as _, io};

/// The innermost reason of an error: what the server says, or the system.
pub(super) fn reason(error: &postgres::Error) -> String {
    if let Some(server) = error.as_db_error() {
        return server.message().to_owned();
    }
    let mut inner: &dyn std::error::Error = error;
    while let Some(source) = inner.source() {
        inner = source;
    }
    inner.to_string()
}

/// The system's error behind an error.
fn system(error: &postgres::Error) -> Option<&io::Error> {
    let mut source = error.source();
    while let Some(error) = source {
        if let Some(error) = error.downcast_ref::<io::Error>() {
            return Some(error);
        }
        source = error.source();
    }
    None
}

/// The error of a connection that cannot be opened.
pub(super) fn of_connection(
    name: &str,
    hosts: &str,
    user: &str,
    config: &Config,
    error: &postgres::Error,
) -> Error {
    let database = config.get_dbname().unwrap_or(user);
    let (problem, advice) = match error.code() {
        Some(code) if *code == SqlState::INVALID_PASSWORD => (
            format!("the server refuses the password of the user `{user}`"),
            "Set the variable PGPASSWORD, or correct the password in the URI or in the password \
                file"
                .to_owned(),
        ),
        Some(code) if *code == SqlState::INVALID_AUTHORIZATION_SPECIFICATION => (
            format!("the server refuses the user `{user}`: {}", reason(error)),
            "Name another user before an @ in the URI, or set the variable PGUSER".to_owned(),
        ),
        Some(code) if *code == SqlState::INVALID_CATALOG_NAME => (
            format!("there is no database `{database}` on the server"),
            "Correct the name after the host".to_owned(),
        ),
        Some(_) => (format!("the server reports: {}", reason(error)), String::new()),
        None => without_answer(hosts, user, config, error),
    };
    failed(name, problem, advice)
}

fn without_answer(
    hosts: &str,
    user: &str,
    config: &Config,
    error: &postgres::Error,
) -> (String, String) {
    use io::ErrorKind::{ConnectionRefused, NotFound, TimedOut};
    let reason = reason(error);
    let running = "Is it running, and does it listen there?".to_owned();
    match system(error).map(io::Error::kind) {
        Some(ConnectionRefused) => {
            (format!("no server answers at {hosts}: the connection was refused"), running)
        }
        Some(NotFound) => (format!("no server has a socket in {hosts}"), running),
        Some(TimedOut) => {
            let seconds = config.get_connect_timeout().map_or(0, |time| time.as_secs());
            (
                format!("no server answers at {hosts} within {seconds} seconds"),
                "Check the host, or wait longer: connect_timeout=60 in the URI".to_owned(),
            )
        }
        _ if reason.contains("lookup address") || reason.contains("resolve") => {
            (format!("the host is unknown: {hosts}"), "Correct its name in the URI".to_owned())
        }
        _ if reason.contains("password missing") => (
            format!("the server asks for the password of the user `{user}`"),
            "Set the variable PGPASSWORD, or add a line to the password file (~/.pgpass)"
                .to_owned(),
        ),
        _ if reason.contains("does not support TLS") => (
            "the server does not support encryption".to_owned(),
            "Add sslmode=disable to the URI if the network can be trusted".to_owned(),
        ),
        _ if reason.contains("certificate") || error.to_string().contains("TLS") => (
            format!("the server's certificate is not accepted: {reason}"),
            "Name the certificate of its authority (sslrootcert=FILE in the URI), or use \
                sslmode=require, which encrypts without verifying"
                .to_owned(),
        ),
        _ => (format!("there is no connection to {hosts}: {reason}"), running),
    }
}

/// The error of a statement.
pub(super) fn of_statement(name: &str, user: &str, error: &postgres::Error) -> Error {
    let Some(server) = error.as_db_error() else {
        let problem = format!("the connection to the server has ended: {}", reason(error));
        return failed(name, problem, "Run the command again when the server is available");
    };
    let advice = match server.code() {
        code if *code == SqlState::INSUFFICIENT_PRIVILEGE => {
            format!("The user `{user}` needs a permission that the owner can grant")
        }
        code if *code == SqlState::QUERY_CANCELED => {
            "Somebody or a time limit has cancelled the query on the server".to_owned()
        }
        code if *code == SqlState::LOCK_NOT_AVAILABLE => {
            "Another connection uses the table. Run the command again when it is done".to_owned()
        }
        code if *code == SqlState::READ_ONLY_SQL_TRANSACTION => "A query may only read".to_owned(),
        _ => server.hint().unwrap_or_default().to_owned(),
    };
    let detail = server.detail().map(|detail| format!(" ({detail})")).unwrap_or_default();
    let at_end = matches!(
        *server.code(),
        SqlState::ADMIN_SHUTDOWN | SqlState::CRASH_SHUTDOWN | SqlState::CANNOT_CONNECT_NOW
    );
    if at_end {
        failed(
            name,
            format!("the server has ended the connection: {}", server.message()),
            "Run the command again when the server is available",
        )
    } else {
        failed(name, format!("the server reports: {}{detail}", server.message()), advice)
    }
}

/// The error of a stream of rows.
pub(super) fn of_stream(name: &str, user: &str, error: io::Error) -> Error {
    let problem = error.to_string();
    match error.into_inner().and_then(|inner| inner.downcast::<postgres::Error>().ok()) {
        Some(error) => of_statement(name, user, &error),
        None => failed(
            name,
            format!("the connection to the server has ended: {problem}"),
            "Run the command again when the server is available",
        ),
    }
}
