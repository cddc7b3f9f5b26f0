//! Tables of databases as targets. All tables that a run writes to one database are written in one
//! transaction.

use super::{
    Database, TablesWriter,
    existing::Existing,
    failed, locked,
    name::{Name, Place},
    postgresql::PostgreSqlWriter,
    sqlite::SqliteWriter,
};
#[cfg(any(feature = "sqlite", feature = "postgresql"))]
use crate::arrow::schema::DataType;
use crate::{Error, Result, Table};
use std::{
    fmt, io,
    path::Path,
    sync::{Arc, Mutex},
};

/// A database that is open for writing, which several outputs may share. It is taken when it is
/// committed.
#[derive(Clone)]
pub(crate) struct SharedWriter {
    pub(crate) place: Place,
    writer: Arc<Mutex<Option<Box<dyn TablesWriter>>>>,
}

impl fmt::Debug for SharedWriter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("SharedWriter").field(&self.place.shown()).finish()
    }
}

impl SharedWriter {
    /// Opens a database. For a SQLite file that does not exist, `new` is the path of an empty
    /// temporary file.
    pub(crate) fn open(place: &Place, new: Option<&Path>) -> Result<SharedWriter> {
        let writer: Box<dyn TablesWriter> = match place {
            Place::File(path) => {
                Box::new(SqliteWriter::open(path, new.unwrap_or(path), new.is_some())?)
            }
            Place::Uri(uri) => Box::new(PostgreSqlWriter::open(uri)?),
        };
        let writer = Arc::new(Mutex::new(Some(writer)));
        Ok(SharedWriter { place: place.clone(), writer })
    }

    /// Commits the transaction, unless another output has done so.
    pub(crate) fn commit(&self) -> Result<()> {
        let writer = locked(&self.writer).take();
        writer.map_or(Ok(()), TablesWriter::commit)
    }

    fn with<T>(&self, use_it: impl FnOnce(&mut dyn TablesWriter) -> Result<T>) -> io::Result<T> {
        let mut writer = locked(&self.writer);
        match &mut *writer {
            Some(writer) => use_it(&mut **writer).map_err(io::Error::other),
            None => Err(io::Error::other("the transaction has ended")),
        }
    }
}

/// A table to write.
#[derive(Debug)]
pub(crate) struct TableOutput {
    pub(crate) writer: SharedWriter,
    pub(crate) table: String,
    /// Its number, once there is a first batch.
    number: Option<usize>,
}

impl TableOutput {
    pub(crate) fn new(writer: SharedWriter, table: String) -> TableOutput {
        TableOutput { writer, table, number: None }
    }

    /// Writes the next rows.
    pub(crate) fn write(&mut self, rows: &Table, existing: Existing) -> io::Result<()> {
        let TableOutput { writer, table, number } = self;
        writer.with(|writer| {
            let number = match number {
                Some(number) => *number,
                none => *none.insert(writer.begin(table, rows, existing)?),
            };
            writer.write(number, rows)
        })
    }
}

/// The table of an output in a database.
///
/// Errors: the name has no table.
pub(crate) fn table_named(name: &Name) -> Result<String> {
    name.table.clone().ok_or_else(|| {
        let example = format!("{}:results", name.place.shown());
        failed(
            name.shown(),
            "this is a database, and not a table",
            format!("Name the table to write after a colon, such as `{example}`"),
        )
    })
}

/// Errors: a table cannot be written because it exists, or does not fit. This is known before any
/// data is read.
pub(crate) fn expect_writable(name: &Name, existing: Existing) -> Result<()> {
    let table = table_named(name)?;
    if let Place::File(path) = &name.place
        && !path.exists()
    {
        return Ok(());
    }
    let tables = Database::open(name.place.clone())?.snapshot.names()?;
    // Case does not matter to SQLite.
    let is_file = matches!(name.place, Place::File(_));
    let is_meant =
        |other: &str| if is_file { other.eq_ignore_ascii_case(&table) } else { other == table };
    let found = tables.iter().find(|other| is_meant(&other.name)).map(|other| other.is_view);
    expect_allowed(&name.shown(), found, existing)
}

/// Errors: the table exists and must not; it is a view, as `found` tells.
pub(crate) fn expect_allowed(shown: &str, found: Option<bool>, existing: Existing) -> Result<()> {
    match (found, existing) {
        (Some(true), _) => Err(failed(
            shown,
            "this is a view, which cannot be written",
            "Choose another name for the table",
        )),
        (Some(false), Existing::Refuse) => Err(Error::TableExists { table: shown.to_owned() }),
        _ => Ok(()),
    }
}

/// The digits of the decimals of a column.
#[cfg(any(feature = "sqlite", feature = "postgresql"))]
pub(super) fn digits(stored: &DataType) -> u8 {
    if matches!(stored, DataType::Decimal64(..)) { 18 } else { 38 }
}

/// Errors: a table to append to has other columns.
#[cfg(any(feature = "sqlite", feature = "postgresql"))]
pub(crate) fn expect_same_names(shown: &str, known: &[String], names: &[String]) -> Result<()> {
    let without = |all: &[String], others: &[String]| -> Vec<String> {
        all.iter().filter(|name| !others.contains(name)).map(|name| format!("`{name}`")).collect()
    };
    let (missing, more) = (without(known, names), without(names, known));
    let listed = |names: &[String], before: &str| match names {
        [] => None,
        names => Some(format!("{before} {}", names.join(", "))),
    };
    let parts = [listed(&missing, "the result lacks"), listed(&more, "the table lacks")];
    let parts: Vec<String> = parts.into_iter().flatten().collect();
    if parts.is_empty() {
        Ok(())
    } else {
        Err(failed(
            shown,
            format!("its columns are not those of the result: {}", parts.join("; ")),
            "Choose the same columns with `columns`, or write another table",
        ))
    }
}
