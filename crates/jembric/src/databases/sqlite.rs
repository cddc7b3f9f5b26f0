//! SQLite files, by the SQLite that is built into the library.
//!
//! The cells of a column may have any type, so the types of columns are decided from all of their
//! cells by the reader of CSV. `write` writes tables.

mod write;

pub(crate) use write::SqliteWriter;

use super::{
    Answer, DatabaseTable, Rows, Snapshot, Wanted, failed, no_such_table,
};
use crate::{
    Error, Result, Shape,
    formats::transcript::{Transcript, refuse_twice},
    io::Reading,
    read::reading::Progress,
};
use memchr::memchr3;
use rusqlite::{Connection, ErrorCode, OpenFlags, Statement, types::ValueRef};
use std::{io::Write as _, path::Path, time::Duration};

/// How long to wait for a database that another process has locked.
const PATIENCE: Duration = Duration::from_secs(5);

/// A SQLite file, with a read transaction.
pub(crate) struct Sqlite {
    name: String,
    connection: Connection,
}

impl std::fmt::Debug for Sqlite {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Sqlite").field(&self.name).finish()
    }
}

/// The error of SQLite, in plain words.
fn told(name: &str, error: &rusqlite::Error) -> Error {
    let code = error.sqlite_error_code();
    let reason = match error {
        rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
        // The text of the statement would follow.
        rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
        other => other.to_string(),
    };
    let (problem, advice) = match code {
        Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => (
            format!(
                "another process has locked the database, and still had after {} seconds",
                PATIENCE.as_secs()
            ),
            "Run the command again when that process is done",
        ),
        Some(ErrorCode::NotADatabase | ErrorCode::DatabaseCorrupt) => (
            format!("the file is damaged, or not a SQLite database: {reason}"),
            "Restore it from a copy",
        ),
        Some(ErrorCode::CannotOpen) => (
            format!("the database cannot be opened: {reason}"),
            "Check the permissions of the file and of its directory",
        ),
        Some(ErrorCode::ReadOnly) => (
            format!("the database cannot be changed: {reason}"),
            "Check the permissions of the file and of its directory. If a program ended while it \
                wrote to the database, open it once with write access",
        ),
        Some(ErrorCode::DiskFull) => ("the disk is full".to_owned(), "Make room on it"),
        _ => (format!("SQLite reports: {reason}"), ""),
    };
    failed(name, problem, advice)
}

/// An identifier in quotes.
pub(super) fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

impl Sqlite {
    /// Opens a file for reading only, and begins a read transaction.
    pub(crate) fn open(path: &Path) -> Result<Sqlite> {
        let name = path.display().to_string();
        let flags = OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let open = || {
            let connection = Connection::open_with_flags(path, flags)?;
            connection.busy_timeout(PATIENCE)?;
            // The snapshot begins with the first read.
            connection.execute_batch("begin")?;
            connection.query_row("select count(*) from sqlite_schema", [], |_| Ok(()))?;
            Ok(connection)
        };
        let connection = open().map_err(|error| told(&name, &error))?;
        Ok(Sqlite { name, connection })
    }

    fn told(&self, error: &rusqlite::Error) -> Error {
        told(&self.name, error)
    }

    /// The names of tables and views, each with its kind.
    fn listed(&self) -> rusqlite::Result<Vec<(String, String)>> {
        let mut names = self.connection.prepare(
            "select name, type from pragma_table_list where schema = 'main' and type in ('table', \
                'view', 'virtual') and name not like 'sqlite\\_%' escape '\\' order by name",
        )?;
        let names = names.query_map([], |row| Ok((row.get(0)?, row.get(1)?)))?;
        names.collect()
    }

    /// The name of a table as the database writes it. Case does not matter to SQLite.
    fn table(&self, wanted: &str) -> Result<String> {
        let known = self.listed().map_err(|error| self.told(&error))?;
        let known: Vec<String> = known.into_iter().map(|(name, _)| name).collect();
        let found = known.iter().find(|name| name.eq_ignore_ascii_case(wanted));
        found.cloned().ok_or_else(|| no_such_table(&self.name, wanted, &known))
    }

    /// The primary key of a table, and whether its rows have numbers.
    fn key(&self, table: &str) -> rusqlite::Result<(Vec<String>, bool)> {
        let mut key = self
            .connection
            .prepare("select name from pragma_table_info(?) where pk > 0 order by pk")?;
        let key = key.query_map([table], |row| row.get(0))?.collect::<rusqlite::Result<_>>()?;
        let has_numbers = self.connection.query_row(
            "select type = 'table' and not wr from pragma_table_list where schema = 'main' and \
                name = ?",
            [table],
            |row| row.get(0),
        )?;
        Ok((key, has_numbers))
    }

    /// The text between `from` and the end of a statement for the wanted rows.
    fn source(&self, wanted: Wanted<'_>) -> Result<Source> {
        match wanted {
            Wanted::Query(query) => {
                let query = query.trim_end().trim_end_matches(';');
                // A comment at the end of the query ends with its line.
                Ok(Source { sql: format!("({query}\n)"), ..Source::default() })
            }
            Wanted::Table(table) => {
                let table = self.table(table)?;
                let (key, has_numbers) = self.key(&table).map_err(|error| self.told(&error))?;
                let sql = format!("main.{}", quoted(&table));
                // Another order could follow from an index, and row numbers with it.
                let order = if has_numbers && !shadows_rowid(&self.connection, &sql) {
                    " order by rowid"
                } else {
                    ""
                };
                let most = (!order.is_empty()).then(|| format!("select max(rowid) from {sql}"));
                Ok(Source { sql, order, key, most })
            }
        }
    }

    /// A statement that reads these columns, or all.
    fn statement(&self, source: &Source, columns: Option<&[String]>) -> Result<Statement<'_>> {
        let list = match columns {
            None => "*".to_owned(),
            Some(names) => names.iter().map(|name| quoted(name)).collect::<Vec<_>>().join(", "),
        };
        let sql = format!("select {list} from {}{}", source.sql, source.order);
        self.connection.prepare(&sql).map_err(|error| self.told(&error))
    }
}

/// Whether a column of the table is named `rowid`, so that it hides the number.
fn shadows_rowid(connection: &Connection, table: &str) -> bool {
    let statement = connection.prepare(&format!("select * from {table}"));
    statement.is_ok_and(|statement| {
        statement.column_names().into_iter().any(|name| name.eq_ignore_ascii_case("rowid"))
    })
}

/// What a statement reads from.
#[derive(Default)]
struct Source {
    sql: String,
    order: &'static str,
    key: Vec<String>,
    /// A query for the greatest row number.
    most: Option<String>,
}

impl Snapshot for Sqlite {
    fn names(&mut self) -> Result<Vec<DatabaseTable>> {
        let names = self.listed().map_err(|error| self.told(&error))?;
        let table =
            |(name, kind)| DatabaseTable { name, is_view: kind == "view", rows: None };
        Ok(names.into_iter().map(table).collect())
    }

    fn tables(&mut self) -> Result<Vec<DatabaseTable>> {
        let counted = self.names()?.into_iter().map(|table| {
            let count = format!("select count(*) from main.{}", quoted(&table.name));
            // A view may refer to a table that is gone.
            let rows = self.connection.query_row(&count, [], |row| row.get::<_, i64>(0));
            let rows = rows.ok().and_then(|rows| u64::try_from(rows).ok());
            DatabaseTable { rows, ..table }
        });
        Ok(counted.collect())
    }

    fn shape(&mut self, wanted: Wanted<'_>) -> Result<Shape> {
        let source = self.source(wanted)?;
        let statement = self.statement(&source, None)?;
        let names: Vec<String> = statement.column_names().into_iter().map(str::to_owned).collect();
        refuse_twice(&self.name, &names)?;
        Ok(Shape::of_names(names))
    }

    fn answer(
        &mut self,
        wanted: Wanted<'_>,
        reading: &Reading,
        first: Option<usize>,
    ) -> Result<Answer> {
        let source = self.source(wanted)?;
        let names: Vec<String> = {
            let all = self.statement(&source, None)?;
            all.column_names().into_iter().map(str::to_owned).collect()
        };
        refuse_twice(&self.name, &names)?;
        reading.refuse_columns(&self.name, names.len())?;
        let places = reading.read_of(names.iter().map(String::as_str));
        let names: Vec<String> = places.iter().map(|&place| names[place].clone()).collect();
        let mut statement = self.statement(&source, Some(&names))?;
        let kinds: Vec<Declared> =
            statement.columns().map(|column| Declared::of(column.decl_type())).collect();
        let most = || -> Option<u64> {
            let most = self.connection.query_row(source.most.as_ref()?, [], |row| row.get(0));
            u64::try_from(most.ok().unwrap_or(0_i64)).ok().filter(|most| *most > 0)
        };
        let progress = reading.progress.as_ref().and_then(|progress| Some((progress, most()?)));
        let csv = transcribed(&mut statement, &names, &kinds, first, progress);
        let csv = csv.map_err(|error| match error {
            Unread::Sqlite(error) => self.told(&error),
            Unread::Cell { row, column, problem, advice } => failed(
                &self.name,
                format!("row {row}: column `{}`: {problem}", names[column]),
                advice,
            ),
        })?;
        let texts = vec![false; names.len()];
        let transcript = Transcript { names, texts, csv, jumps: Vec::new() };
        Ok(Answer { rows: Rows::Written(transcript), key: source.key })
    }
}

/// Why rows cannot be read.
enum Unread {
    Sqlite(rusqlite::Error),
    Cell { row: u64, column: usize, problem: String, advice: String },
}

impl From<rusqlite::Error> for Unread {
    fn from(error: rusqlite::Error) -> Unread {
        Unread::Sqlite(error)
    }
}

/// The rows between two reports of progress.
const ROWS_PER_REPORT: u64 = 1 << 16;

/// Writes the rows of a statement as CSV.
fn transcribed(
    statement: &mut Statement<'_>,
    names: &[String],
    kinds: &[Declared],
    first: Option<usize>,
    progress: Option<(&Progress, u64)>,
) -> std::result::Result<Vec<u8>, Unread> {
    let mut csv = Vec::new();
    let mut rows = statement.query([])?;
    let mut number = 0;
    while first.is_none_or(|first| number < first as u64)
        && let Some(row) = rows.next()?
    {
        number += 1;
        let begin = csv.len();
        for (column, kind) in kinds.iter().enumerate() {
            if column > 0 {
                csv.push(b',');
            }
            kind.append(row.get_ref(column)?, &mut csv).map_err(|(problem, advice)| {
                let advice = advice.replace("COL", &quoted(&names[column]));
                Unread::Cell { row: number, column, problem, advice }
            })?;
        }
        // An empty line would be no record.
        if csv.len() == begin {
            csv.extend_from_slice(b"\"\"");
        }
        csv.push(b'\n');
        if let Some((Progress(progress), most)) = progress
            && number % ROWS_PER_REPORT == 0
        {
            progress(number.min(most), most);
        }
    }
    Ok(csv)
}

/// What the declared type of a column adds to its values.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Declared {
    Nothing,
    /// 0 and 1 are false and true.
    Boolean,
    /// Decimals with this number of places.
    Decimal(usize),
}

impl Declared {
    fn of(declared: Option<&str>) -> Declared {
        let Some(declared) = declared.map(str::to_ascii_uppercase) else {
            return Declared::Nothing;
        };
        if declared.starts_with("BOOL") {
            return Declared::Boolean;
        }
        let places = |declared: &str| {
            let numbers = declared.split_once('(')?.1.strip_suffix(')')?;
            numbers.split_once(',')?.1.trim().parse::<usize>().ok().filter(|places| *places <= 6)
        };
        match declared.starts_with("DEC") || declared.starts_with("NUM") {
            true => places(&declared).map_or(Declared::Nothing, Declared::Decimal),
            false => Declared::Nothing,
        }
    }

    /// Appends a cell. Errors: the problem, and what to do.
    fn append(
        self,
        value: ValueRef<'_>,
        to: &mut Vec<u8>,
    ) -> std::result::Result<(), (String, String)> {
        match value {
            ValueRef::Null => {}
            ValueRef::Integer(value @ (0 | 1)) if self == Declared::Boolean => {
                to.extend_from_slice(if value == 1 { b"true" } else { b"false" });
            }
            ValueRef::Integer(value) => {
                to.extend_from_slice(itoa::Buffer::new().format(value).as_bytes());
            }
            ValueRef::Real(value) => {
                let begin = to.len();
                if let Declared::Decimal(places) = self {
                    let _ = write!(to, "{value:.places$}");
                    let text = std::str::from_utf8(&to[begin..]).unwrap_or_default();
                    if text.parse() == Ok(value) {
                        return Ok(());
                    }
                    to.truncate(begin);
                }
                // The point shows that it is not a whole number by its storage class.
                let _ = write!(to, "{value:?}");
            }
            ValueRef::Text(text) => {
                if std::str::from_utf8(text).is_err() {
                    let advice = "Correct it in the database, or read it by a query: \
                        `cast(COL as blob)` shows its bytes";
                    return Err(("the text is not UTF-8".to_owned(), advice.to_owned()));
                }
                append_text(text, to);
            }
            ValueRef::Blob(_) => {
                let advice = "Leave the column out, or convert it in a query: `hex(COL)`, or \
                    `cast(COL as text)`";
                return Err((
                    "the value is a BLOB, which is not a type of tables".to_owned(),
                    advice.to_owned(),
                ));
            }
        }
        Ok(())
    }
}

/// Appends a text, in quotes if it needs them.
fn append_text(text: &[u8], to: &mut Vec<u8>) {
    if memchr3(b',', b'"', b'\n', text).is_none() && !text.contains(&b'\r') {
        to.extend_from_slice(text);
        return;
    }
    to.push(b'"');
    for &byte in text {
        if byte == b'"' {
            to.push(b'"');
        }
        to.push(byte);
    }
    to.push(b'"');
}
