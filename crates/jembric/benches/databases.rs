//! Reading and writing tables of databases, beside the least that their clients must do: draining
//! COPY, sending ready-made bytes to it, and stepping through a statement.
//!
//! The server is that of the variable `JEMBRIC_POSTGRESQL`, as for the tests. Without it, only
//! SQLite is measured.

#[path = "../../../benches/lifts.rs"]
#[allow(dead_code)]
mod lifts;
#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group};
use jembric::{
    Table,
    io::{self, Existing, Writing},
};
use postgres::{Client, NoTls};
use rusqlite::{Connection, OpenFlags, types::ValueRef};
use std::{
    io::{BufRead, Write},
    path::Path,
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;

fn write(table: &Table, name: &str, existing: Existing) {
    Writing::new().existing(existing).file(table, name).expect("a database to write to");
}

fn postgresql(criterion: &mut Criterion) {
    let Ok(uri) = std::env::var("JEMBRIC_POSTGRESQL") else {
        println!("JEMBRIC_POSTGRESQL is not set, so PostgreSQL is not measured");
        return;
    };
    let lifts = io::read(lifts::file(ROWS)).expect("a table");
    write(&lifts, &format!("{uri}:jembric_lifts"), Existing::Replace);
    // Both sides run over the same kind of connection.
    let plain = format!("{uri}?sslmode=disable");
    let mut client = Client::connect(&plain, NoTls).expect("a connection");
    client.batch_execute("vacuum analyze jembric_lifts").expect("a table");
    ratio::compare(
        criterion,
        "four columns from PostgreSQL",
        ("COPY TO STDOUT (FORMAT binary), drained", || drained(&mut client, None)),
        ("table", || {
            let mut database = io::database(&plain).expect("a database");
            database.table("jembric_lifts").expect("a table").rows()
        }),
        Some(1.3),
    );
    let mut bytes = Vec::new();
    drained(&mut client, Some(&mut bytes));
    client
        .batch_execute("create table jembric_copied (like jembric_lifts)")
        .expect("a table can be created");
    ratio::compare(
        criterion,
        "four columns to PostgreSQL",
        ("COPY FROM STDIN (FORMAT binary) of ready-made bytes", || {
            client.batch_execute("begin; truncate jembric_copied").expect("the table");
            let copy = "copy jembric_copied from stdin (format binary)";
            let mut to = client.copy_in(copy).expect("the table");
            to.write_all(&bytes).expect("room");
            to.finish().expect("room");
            client.batch_execute("commit").expect("room");
        }),
        ("write", || write(&lifts, &format!("{plain}:jembric_written"), Existing::Replace)),
        Some(1.4),
    );
    let drop = "drop table if exists jembric_lifts, jembric_copied, jembric_written";
    client.batch_execute(drop).expect("the tables");
}

/// Reads the bytes of the table, and keeps them if there is a place for them.
fn drained(client: &mut Client, mut keep: Option<&mut Vec<u8>>) -> usize {
    let copy = "copy jembric_lifts to stdout (format binary)";
    let mut from = client.copy_out(copy).expect("the table");
    let mut all = 0;
    loop {
        let bytes = from.fill_buf().expect("rows");
        let length = bytes.len();
        if length == 0 {
            return all;
        }
        if let Some(keep) = &mut keep {
            keep.extend_from_slice(bytes);
        }
        all += std::hint::black_box(bytes).len();
        from.consume(length);
    }
}

fn sqlite(criterion: &mut Criterion) {
    let path = std::env::temp_dir().join("jembric-lifts.sqlite");
    if !path.exists() {
        let lifts = io::read(lifts::file(ROWS)).expect("a table");
        write(&lifts, &format!("{}:lifts", path.display()), Existing::Refuse);
    }
    ratio::compare(
        criterion,
        "four columns from SQLite",
        ("stepping through the statement and reading the cells", || stepped(&path)),
        ("table", || {
            let mut database = io::database(path.display().to_string()).expect("a database");
            database.table("lifts").expect("a table").rows()
        }),
        Some(1.5),
    );
}

fn stepped(path: &Path) -> usize {
    let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
    let connection = Connection::open_with_flags(path, flags).expect("a database");
    let mut statement = connection.prepare("select * from lifts").expect("the table");
    let mut rows = statement.query([]).expect("rows");
    let mut all = 0;
    while let Some(row) = rows.next().expect("rows") {
        for column in 0..4 {
            all += match std::hint::black_box(row.get_ref(column).expect("a cell")) {
                ValueRef::Null => 0,
                ValueRef::Integer(_) | ValueRef::Real(_) => 8,
                ValueRef::Text(text) | ValueRef::Blob(text) => text.len(),
            };
        }
    }
    all
}

criterion_group!(benches, postgresql, sqlite);
fn main() {
    benches();
    Criterion::default().configure_from_args().final_summary();
}
