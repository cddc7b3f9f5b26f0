//! Databases: tables, views and queries as sources, and tables as targets.
//!
//! `name` parses names such as `harbour.sqlite:stays`. `sqlite` and `postgresql` have a module for
//! each kind of database. `rows` names the rows that are read. A [`Database`] is open for reading
//! at one moment: all its tables are as they were when it was opened. [`Databases`] keeps those
//! that a run has opened.

#[cfg(not(all(feature = "postgresql", feature = "sqlite")))]
mod disabled;
pub(crate) mod existing;
pub(crate) mod name;
#[cfg_attr(not(feature = "postgresql"), path = "databases/disabled/postgresql.rs")]
pub(crate) mod postgresql;
#[cfg(any(feature = "sqlite", feature = "postgresql"))]
mod query;
pub(crate) mod rows;
#[cfg_attr(not(feature = "sqlite"), path = "databases/disabled/sqlite.rs")]
pub(crate) mod sqlite;
pub(crate) mod target;

use self::existing::Existing;
use crate::{
    Error, Result, Shape, Table,
    data::{Data, memory::Memory},
    formats::csv_rows::CsvRows,
    read::{pieces::Pieces, reading::Reading},
};
use borsh::{BorshDeserialize, BorshSerialize};
use name::{Name, Place};
use std::{
    collections::HashMap,
    fmt,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
};

/// A table or view of a database.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct DatabaseTable {
    /// Its name, with the schema if it is needed to find the table.
    pub name: String,
    /// Whether it is a view.
    pub is_view: bool,
    /// The number of its rows; none if they cannot be counted, for example without permission.
    pub rows: Option<u64>,
}

/// What is read from a database.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Wanted<'a> {
    /// A table or a view.
    Table(&'a str),
    /// The result of a query.
    Query(&'a str),
}

/// The rows that are read.
#[derive(Clone, Copy, Debug)]
pub(crate) enum HowMany<'a> {
    First(usize),
    /// All, in this memory.
    All(&'a Memory),
}

/// The rows of a table or query.
pub(crate) struct Answer {
    pub(crate) rows: Rows,
    /// The names of the columns of the primary key.
    pub(crate) key: Vec<String>,
}

/// Rows whose types are still to be decided from the cells, or are those of the database.
pub(crate) enum Rows {
    /// Of SQLite, whose columns have no types: the first ones, or all.
    Written(CsvRows),
    Pieces(Box<Pieces>),
    Typed(Data),
}

/// The ranges of a column, each for one of several processes.
#[derive(Clone, Debug, Default, BorshSerialize, BorshDeserialize)]
pub(crate) struct Ranges {
    /// The name of the state of the database in which all processes read their ranges.
    pub(crate) state: String,
    /// The condition for the rows of each range.
    pub(crate) conditions: Vec<String>,
}

/// A database as it was at one moment.
trait Snapshot: Send {
    /// Its tables and views, ordered by name. Their rows are not counted.
    fn names(&mut self) -> Result<Vec<DatabaseTable>>;

    /// The same, with the numbers of their rows.
    fn tables(&mut self) -> Result<Vec<DatabaseTable>>;

    /// The names of the columns, and the types that the database declares.
    fn shape(&mut self, wanted: Wanted<'_>) -> Result<Shape>;

    /// The rows of the columns that the reading wants, or the first ones. Those that do not fit
    /// into memory are in temporary files.
    fn answer(
        &mut self,
        wanted: Wanted<'_>,
        reading: &Reading,
        how_many: HowMany<'_>,
    ) -> Result<Answer>;

    /// Ranges of a column with about as many rows each.
    fn ranges(&mut self, wanted: Wanted<'_>, column: &str, ranges: usize) -> Result<Ranges>;

    /// Shows the state that another process has named.
    fn show(&mut self, state: &str) -> Result<()>;
}

/// A database that is open for writing, in one transaction. If it is dropped before it is
/// committed, nothing in the database changes.
pub(crate) trait TablesWriter: Send {
    /// Creates a table with the columns of the first batch, or prepares an existing one, and
    /// returns its number.
    ///
    /// Errors: the table exists, or is not as it must be.
    fn begin(&mut self, table: &str, first: &Table, existing: Existing) -> Result<usize>;

    /// Adds rows to a table.
    fn write(&mut self, number: usize, rows: &Table) -> Result<()>;

    /// Makes all changes permanent.
    fn commit(self: Box<Self>) -> Result<()>;
}

/// A database that is open for reading, as it was when it was opened.
///
/// In PostgreSQL this is a read-only transaction with a stable snapshot, and in SQLite a read
/// transaction. It ends when the database is dropped.
///
/// ```no_run
/// let mut harbour = jembric::io::database("postgresql://localhost/harbour")?;
/// let stays = harbour.table("stays")?;
/// let late = harbour.query("select * from dues where paid > due")?;
/// # Ok::<(), jembric::Error>(())
/// ```
pub struct Database {
    place: Place,
    snapshot: Box<dyn Snapshot>,
}

impl fmt::Debug for Database {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Database").field(&self.place.shown()).finish()
    }
}

/// Opens a database for reading: a SQLite file, or a PostgreSQL server by a connection URI such as
/// `postgresql://user@host/harbour?sslmode=verify-full`.
///
/// The variables `PGPASSWORD`, `PGPASSFILE` and the other standard ones hold where the URI is
/// silent. Errors: it is no database; it cannot be opened; the build lacks the feature for it.
pub fn database(name: impl AsRef<str>) -> Result<Database> {
    let name = name.as_ref();
    match Name::of_input(name) {
        Some(Name { place, table: None }) => Database::open(place),
        Some(name) => Err(failed(
            name.shown(),
            "this is a table, and not a database",
            format!("Open `{}` and read the table from it", name.place.shown()),
        )),
        None if std::path::Path::new(name).exists() => Err(failed(
            name,
            "this is not a SQLite database",
            "Give a SQLite file, or a URI such as postgresql://localhost/harbour",
        )),
        None => Err(Error::Read {
            file: crate::uri::shown_name(name),
            source: std::io::ErrorKind::NotFound.into(),
            nearest: crate::text::file_bytes::nearest_file(name.as_ref()),
        }),
    }
}

/// The error of a database or one of its tables.
pub(crate) fn failed(
    database: impl Into<String>,
    problem: impl Into<String>,
    advice: impl Into<String>,
) -> Error {
    Error::Database {
        database: crate::uri::without_secrets(&database.into()),
        problem: crate::uri::without_secrets(&problem.into()),
        advice: advice.into(),
    }
}

impl Database {
    pub(crate) fn open(place: Place) -> Result<Database> {
        let snapshot: Box<dyn Snapshot> = match &place {
            Place::File(path) => Box::new(sqlite::Sqlite::open(path)?),
            Place::Uri(uri) => Box::new(postgresql::PostgreSql::open(uri)?),
        };
        Ok(Database { place, snapshot })
    }

    /// Its tables and views, ordered by name. Cost: the rows of each are counted.
    pub fn tables(&mut self) -> Result<Vec<DatabaseTable>> {
        self.snapshot.tables()
    }

    /// Reads a table or view. In PostgreSQL, `schema.name` names one outside the search path.
    ///
    /// Types and missing values are those of the database. In SQLite, whose columns have no types,
    /// they follow from all values of a column, as in CSV; see [`Reading`]. Errors: there is no
    /// such table (with the nearest name); a column has a type that tables do not have.
    pub fn table(&mut self, name: impl AsRef<str>) -> Result<Table> {
        self.table_as(name, &Reading::new())
    }

    /// Reads a table or view with these settings.
    pub fn table_as(&mut self, name: impl AsRef<str>, reading: &Reading) -> Result<Table> {
        let name = name.as_ref();
        let shown = format!("{}:{name}", self.place.shown());
        self.whole(&shown, Wanted::Table(name), reading)
    }

    /// Reads the result of a query. Errors: also those that the database reports for the query.
    pub fn query(&mut self, sql: impl AsRef<str>) -> Result<Table> {
        self.query_as(sql, &Reading::new())
    }

    /// Reads the result of a query with these settings.
    pub fn query_as(&mut self, sql: impl AsRef<str>, reading: &Reading) -> Result<Table> {
        self.whole(&of_query(&self.place), Wanted::Query(sql.as_ref()), reading)
    }

    fn whole(&mut self, shown: &str, wanted: Wanted<'_>, reading: &Reading) -> Result<Table> {
        let memory = Memory::unlimited();
        let answer = self.snapshot.answer(wanted, reading, HowMany::All(&memory))?;
        reading.of_database(shown, answer, &memory)?.whole(&memory)
    }

    /// Answers a request by name: its table, or the query of the reading.
    fn wanted<'a>(&mut self, name: &'a Name, query: Option<&'a str>) -> Result<Wanted<'a>> {
        match (&name.table, query) {
            (Some(table), None) => Ok(Wanted::Table(table)),
            (None, Some(query)) => Ok(Wanted::Query(query)),
            (Some(_), Some(_)) => Err(failed(
                name.shown(),
                "there is a query, and a table as well",
                format!("Write `{}` for the query", name.place.shown()),
            )),
            (None, None) => {
                let tables = self.snapshot.names()?;
                let names: Vec<&str> = tables.iter().map(|table| table.name.as_str()).collect();
                let advice = match names.first() {
                    None => "The database has no tables".to_owned(),
                    Some(first) => format!(
                        "Name one of its tables after a colon, such as `{}:{first}`, or give a \
                            query. Its tables are {}",
                        name.place.shown(),
                        names.join(", ")
                    ),
                };
                Err(failed(name.shown(), "this is a database, and not a table", advice))
            }
        }
    }
}

/// The error of ranges in a database that has none.
#[cfg(feature = "sqlite")]
fn no_ranges(database: &str) -> Error {
    Error::Setting {
        setting: "by-ranges-of",
        value: format!("given, but {database} is not a PostgreSQL database"),
        expected: "a table such as postgresql://localhost/harbour:stays".to_owned(),
    }
}

/// The name of a query's result.
fn of_query(place: &Place) -> String {
    format!("{} (query)", place.shown())
}

/// The error of a table that does not exist, with the nearest name.
#[cfg(any(feature = "sqlite", feature = "postgresql"))]
fn no_such_table(database: &str, table: &str, known: &[String]) -> Error {
    let meant = crate::nearest_name(table, known.iter().map(String::as_str));
    let advice = match meant {
        Some(meant) => format!("Did you mean `{meant}`?"),
        None if known.is_empty() => "The database has no tables".to_owned(),
        None => format!("Its tables are {}", known.join(", ")),
    };
    failed(database, format!("there is no table `{table}`"), advice)
}

/// The databases that a run has opened for reading. Each is opened once, so all that a run reads
/// from it is of the same moment. Clones share them.
#[derive(Clone, Default)]
pub struct Databases(Arc<Mutex<HashMap<Place, Arc<Mutex<Database>>>>>);

impl fmt::Debug for Databases {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Databases")
    }
}

/// A panic while a database was in use does not make its state invalid: the next use reports what
/// is wrong.
fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Databases {
    /// Closes the databases, which ends their read transactions.
    pub fn close(&self) {
        locked(&self.0).clear();
    }

    fn with<T>(&self, place: &Place, use_it: impl FnOnce(&mut Database) -> Result<T>) -> Result<T> {
        let open = locked(&self.0).get(place).cloned();
        let database = match open {
            Some(database) => database,
            None => {
                let database = Arc::new(Mutex::new(Database::open(place.clone())?));
                locked(&self.0).entry(place.clone()).or_insert(database).clone()
            }
        };
        use_it(&mut locked(&database))
    }

    /// The rows of a table, or of the query of the reading, with their name for messages.
    pub(crate) fn answer(
        &self,
        name: &Name,
        query: Option<&str>,
        reading: &Reading,
        how_many: HowMany<'_>,
    ) -> Result<(String, Answer)> {
        self.with(&name.place, |database| {
            let wanted = database.wanted(name, query)?;
            let shown = shown(name, wanted);
            Ok((shown, database.snapshot.answer(wanted, reading, how_many)?))
        })
    }

    /// The ranges of a column of a table, or of the query of a reading.
    pub(crate) fn ranges(
        &self,
        name: &Name,
        query: Option<&str>,
        column: &str,
        ranges: usize,
    ) -> Result<Ranges> {
        self.with(&name.place, |database| {
            let wanted = database.wanted(name, query)?;
            database.snapshot.ranges(wanted, column, ranges)
        })
    }

    /// Shows the state of a database that another process has named.
    pub(crate) fn show(&self, place: &Place, state: &str) -> Result<()> {
        self.with(place, |database| database.snapshot.show(state))
    }

    /// The shape of a table, or of the query of the reading.
    pub(crate) fn shape(&self, name: &Name, query: Option<&str>) -> Result<Shape> {
        self.with(&name.place, |database| {
            let wanted = database.wanted(name, query)?;
            Ok(database.snapshot.shape(wanted)?.from_file(shown(name, wanted)))
        })
    }
}

fn shown(name: &Name, wanted: Wanted<'_>) -> String {
    match wanted {
        Wanted::Table(_) => name.shown(),
        Wanted::Query(_) => of_query(&name.place),
    }
}
