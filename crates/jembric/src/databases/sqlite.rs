//! SQLite files, by the SQLite that is built into the library.
//!
//! The cells of a column may have any type, so the types of columns are decided from all of their
//! cells by the reader of CSV. `write` writes tables.

mod write;

pub(crate) use write::SqliteWriter;

use super::{
    Answer, DatabaseTable, HowMany, Ranges, Rows, Snapshot, Wanted, failed, no_ranges,
    no_such_table, query::without_end,
};
use crate::{
    Error, Result, Shape,
    data::memory::Memory,
    formats::csv_rows::{CsvRows, refuse_twice},
    read::{
        pieces::Pieces,
        reading::{Progress, Reading},
    },
    text::spool::LongText,
};
use rusqlite::{Connection, ErrorCode, OpenFlags, Statement, ffi, types::ValueRef};
use std::{io::Write as _, panic::resume_unwind, path::Path, sync::mpsc, thread, time::Duration};

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
fn sqlite_error(name: &str, error: &rusqlite::Error) -> Error {
    let code = error.sqlite_error_code();
    let reason = match error {
        rusqlite::Error::SqliteFailure(_, Some(message)) => message.clone(),
        // The text of the statement would follow.
        rusqlite::Error::SqlInputError { msg, .. } => msg.clone(),
        other => other.to_string(),
    };
    let extended = error.sqlite_error().map(|error| error.extended_code);
    if matches!(extended, Some(ffi::SQLITE_READONLY_ROLLBACK | ffi::SQLITE_READONLY_RECOVERY)) {
        return failed(
            name,
            "a program ended while it wrote to the database, and its changes are not undone yet",
            "Open the database once with write access, for example with that program",
        );
    }
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
            "Check the permissions of the file and of its directory",
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
        let connection = open().map_err(|error| sqlite_error(&name, &error))?;
        Ok(Sqlite { name, connection })
    }

    fn sqlite_error(&self, error: &rusqlite::Error) -> Error {
        sqlite_error(&self.name, error)
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
        let known = self.listed().map_err(|error| self.sqlite_error(&error))?;
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
                let query = without_end(query);
                // In a query inside another one, SQLite renames columns of equal names.
                let alone =
                    self.connection.prepare(query).map_err(|error| self.sqlite_error(&error))?;
                let names: Vec<String> = alone.column_names().map(str::to_owned).collect();
                refuse_twice(&self.name, &names)?;
                // A comment at the end of the query ends with its line.
                Ok(Source { sql: format!("({query}\n)"), ..Source::default() })
            }
            Wanted::Table(table) => {
                let table = self.table(table)?;
                let (key, has_numbers) =
                    self.key(&table).map_err(|error| self.sqlite_error(&error))?;
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

    /// The bytes of the file, if they are known.
    fn bytes(&self) -> Option<u64> {
        let sql = "select page_count * page_size from pragma_page_count, pragma_page_size";
        let bytes: Option<i64> = self.connection.query_row(sql, [], |row| row.get(0)).ok();
        bytes.and_then(|bytes| u64::try_from(bytes).ok())
    }

    /// A statement that reads these columns, or all.
    fn statement(&self, source: &Source, columns: Option<&[String]>) -> Result<Statement<'_>> {
        let list = match columns {
            None => "*".to_owned(),
            Some(names) => names.iter().map(|name| quoted(name)).collect::<Vec<_>>().join(", "),
        };
        let sql = format!("select {list} from {}{}", source.sql, source.order);
        self.connection.prepare(&sql).map_err(|error| self.sqlite_error(&error))
    }
}

/// Whether a column of the table is named `rowid`, so that it hides the number.
fn shadows_rowid(connection: &Connection, table: &str) -> bool {
    let statement = connection.prepare(&format!("select * from {table}"));
    statement.is_ok_and(|statement| {
        statement.column_names().any(|name| name.eq_ignore_ascii_case("rowid"))
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
        let names = self.listed().map_err(|error| self.sqlite_error(&error))?;
        let table = |(name, kind)| DatabaseTable { name, is_view: kind == "view", rows: None };
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
        let names: Vec<String> = statement.column_names().map(str::to_owned).collect();
        refuse_twice(&self.name, &names)?;
        Ok(Shape::of_names(names))
    }

    fn ranges(&mut self, _: Wanted<'_>, _: &str, _: usize) -> Result<Ranges> {
        Err(no_ranges(&self.name))
    }

    fn show(&mut self, _: &str) -> Result<()> {
        Err(no_ranges(&self.name))
    }

    fn answer(
        &mut self,
        wanted: Wanted<'_>,
        reading: &Reading,
        how_many: HowMany<'_>,
    ) -> Result<Answer> {
        if reading.by_ranges_of.is_some() {
            return Err(no_ranges(&self.name));
        }
        let source = self.source(wanted)?;
        let names: Vec<String> = {
            let all = self.statement(&source, None)?;
            all.column_names().map(str::to_owned).collect()
        };
        refuse_twice(&self.name, &names)?;
        reading.refuse_columns(&self.name, names.len())?;
        let places = reading.read_of(names.iter().map(String::as_str));
        let names: Vec<String> = places.iter().map(|&place| names[place].clone()).collect();
        let mut statement = self.statement(&source, Some(&names))?;
        let kinds: Vec<Declared> =
            statement.columns().map(|column| Declared::parse(column.decl_type())).collect();
        let most = || -> Option<u64> {
            let most = self.connection.query_row(source.most.as_ref()?, [], |row| row.get(0));
            u64::try_from(most.ok().unwrap_or(0_i64)).ok().filter(|most| *most > 0)
        };
        let progress = reading.progress.as_ref().and_then(|progress| Some((progress, most()?)));
        let mut all = Transcriber {
            names: &names,
            kinds: &kinds,
            first: match how_many {
                HowMany::First(first) => Some(first),
                HowMany::All(_) => None,
            },
            progress,
            checks_text: false,
            piece: PIECE,
        };
        let unread = |error| match error {
            Unread::Sqlite(error) => self.sqlite_error(&error),
            Unread::Cell { row, column, problem, advice } => failed(
                &self.name,
                format!("row {row}: column `{}`: {problem}", names[column]),
                advice,
            ),
        };
        let key = source.key;
        let fits = match how_many {
            HowMany::All(memory) if source.most.is_some() => {
                // Small numbers take a byte or two in a file.
                self.bytes().is_some_and(|bytes| bytes.saturating_mul(16) <= memory.whole())
            }
            HowMany::All(memory) => !memory.is_limited(),
            HowMany::First(_) => false,
        };
        if fits {
            let read = in_pieces(&mut all, &mut statement, reading).map_err(unread)?;
            if read.fits() {
                return Ok(Answer { rows: Rows::Pieces(Box::new(read)), key });
            }
        }
        let unlimited = Memory::unlimited();
        let memory = if let HowMany::All(memory) = how_many { memory } else { &unlimited };
        let mut csv = LongText::new(memory);
        let mut written = Ok(());
        all.write(&mut statement, &mut |mut piece| {
            if written.is_ok() {
                written = csv.write(&piece);
            }
            piece.clear();
            Some(piece)
        })
        .map_err(unread)?;
        written?;
        let texts = vec![false; names.len()];
        let rows = CsvRows { names, texts, csv: csv.finish(&self.name)?, jumps: Vec::new() };
        Ok(Answer { rows: Rows::Written(rows), key })
    }
}

/// Reads the rows of a statement. Another thread reads a piece of CSV while this one steps through
/// the rows of the next.
fn in_pieces(
    all: &mut Transcriber<'_>,
    statement: &mut Statement<'_>,
    reading: &Reading,
) -> std::result::Result<Pieces, Unread> {
    thread::scope(|scope| {
        let (to_reader, pieces) = mpsc::channel::<Vec<u8>>();
        let (to_writer, free) = mpsc::channel::<Vec<u8>>();
        let mut read = Pieces::new(reading, all.names.to_vec());
        let reader = scope.spawn(move || {
            for piece in pieces {
                // The writer may have ended.
                read.add(piece).into_iter().for_each(|piece| drop(to_writer.send(piece)));
            }
            read
        });
        let written = all.write(statement, &mut |piece| {
            // A reader that has ended has panicked, which is seen below.
            let _ = to_reader.send(piece);
            free.try_recv().ok()
        });
        drop(to_reader);
        let read = reader.join().unwrap_or_else(|panic| resume_unwind(panic));
        written.map(|()| read)
    })
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

/// The length of a piece of CSV, beyond which it ends with the next row.
const PIECE: usize = 8 << 20;

/// Writes the rows of a statement as CSV.
struct Transcriber<'a> {
    names: &'a [String],
    kinds: &'a [Declared],
    /// The number of rows to write, if not all are written.
    first: Option<usize>,
    progress: Option<(&'a Progress, u64)>,
    /// Whether each text is checked to be UTF-8.
    checks_text: bool,
    /// The length of a piece.
    piece: usize,
}

impl Transcriber<'_> {
    /// Writes the rows in pieces. The receiver may return memory for the next one.
    fn write(
        &mut self,
        statement: &mut Statement<'_>,
        take: &mut dyn FnMut(Vec<u8>) -> Option<Vec<u8>>,
    ) -> std::result::Result<(), Unread> {
        // It is faster to check the text of a whole piece. If that fails, a second time through the
        // rows finds the cell.
        if !self.write_unless_bad(statement, take)? {
            self.checks_text = true;
            self.write_unless_bad(statement, &mut |_| None)?;
        }
        Ok(())
    }

    /// Writes the rows until a piece is not UTF-8, and returns whether all were written.
    fn write_unless_bad(
        &mut self,
        statement: &mut Statement<'_>,
        take: &mut dyn FnMut(Vec<u8>) -> Option<Vec<u8>>,
    ) -> std::result::Result<bool, Unread> {
        let mut csv = Vec::new();
        let mut rows = statement.query([])?;
        let mut number = 0;
        while self.first.is_none_or(|first| number < first as u64)
            && let Some(row) = rows.next()?
        {
            number += 1;
            let begin = csv.len();
            for (column, kind) in self.kinds.iter().enumerate() {
                if column > 0 {
                    csv.push(b',');
                }
                let value = row.get_ref(column)?;
                kind.append(value, self.checks_text, &mut csv).map_err(|(problem, advice)| {
                    let advice = advice.replace("COL", &quoted(&self.names[column]));
                    Unread::Cell { row: number, column, problem, advice }
                })?;
            }
            // An empty line would be no record.
            if csv.len() == begin {
                csv.extend_from_slice(b"\"\"");
            }
            csv.push(b'\n');
            if csv.len() >= self.piece && self.first.is_none() {
                if simdutf8::basic::from_utf8(&csv).is_err() {
                    return Ok(false);
                }
                let free = take(std::mem::take(&mut csv));
                csv = free.unwrap_or_else(|| Vec::with_capacity(self.piece + self.piece / 8));
                csv.clear();
            }
            if let Some((Progress(progress), most)) = self.progress
                && number.is_multiple_of(ROWS_PER_REPORT)
            {
                progress(number.min(most), most);
            }
        }
        let is_text = self.checks_text || simdutf8::basic::from_utf8(&csv).is_ok();
        if is_text && !csv.is_empty() {
            take(csv);
        }
        Ok(is_text)
    }
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
    fn parse(declared: Option<&str>) -> Declared {
        let Some(declared) = declared.map(str::to_ascii_uppercase) else {
            return Declared::Nothing;
        };
        if declared.starts_with("BOOL") {
            return Declared::Boolean;
        }
        let places = |declared: &str| {
            let numbers = declared.split_once('(')?.1.strip_suffix(')')?;
            numbers
                .split_once(',')?
                .1
                .trim()
                .parse::<usize>()
                .ok()
                .filter(|places| *places <= MOST_PLACES)
        };
        if declared.starts_with("DEC") || declared.starts_with("NUM") {
            places(&declared).map_or(Declared::Nothing, Declared::Decimal)
        } else {
            Declared::Nothing
        }
    }

    /// Appends a cell. Errors: the problem, and what to do.
    fn append(
        self,
        value: ValueRef<'_>,
        checks_text: bool,
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
            ValueRef::Real(value) => append_real(value, self, to),
            ValueRef::Text(text) => {
                if checks_text && std::str::from_utf8(text).is_err() {
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

/// The most places of a decimal that is found in a floating-point number.
const MOST_PLACES: usize = 6;

/// Appends a floating-point number with the declared places, or with the fewest that give the same
/// number again. It always has a point or an exponent, so that its column is not one of whole
/// numbers.
fn append_real(value: f64, declared: Declared, to: &mut Vec<u8>) {
    const TENS: [f64; MOST_PLACES + 1] = [1.0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6];
    let least = if let Declared::Decimal(places) = declared { places } else { 1 };
    for (places, ten) in TENS.into_iter().enumerate().skip(least) {
        let units = value * ten;
        let whole = (units + 0.5_f64.copysign(units)) as i64;
        // Up to 15 digits are exact, and no other decimal with so few is nearer to the number.
        if units.abs() < 1e15 && whole as f64 / ten == value {
            return append_decimal(whole, places, to);
        }
    }
    // Writing to memory cannot fail.
    let _ = write!(to, "{value:?}");
}

/// Appends a decimal in units of its last place.
fn append_decimal(units: i64, places: usize, to: &mut Vec<u8>) {
    if units < 0 {
        to.push(b'-');
    }
    let mut buffer = itoa::Buffer::new();
    let digits = buffer.format(units.unsigned_abs()).as_bytes();
    let whole = digits.len().saturating_sub(places);
    to.extend_from_slice(if whole == 0 { b"0" } else { &digits[..whole] });
    if places > 0 {
        to.push(b'.');
        to.extend(std::iter::repeat_n(b'0', places.saturating_sub(digits.len())));
        to.extend_from_slice(&digits[whole..]);
    }
}

/// The bytes with which a text needs quotes, by RFC 4180.
const NEEDS_QUOTES: [bool; 256] = {
    let mut needs = [false; 256];
    needs[b',' as usize] = true;
    needs[b'"' as usize] = true;
    needs[b'\n' as usize] = true;
    needs[b'\r' as usize] = true;
    needs
};

/// Appends a text, in quotes if it needs them.
fn append_text(text: &[u8], to: &mut Vec<u8>) {
    if !text.iter().any(|byte| NEEDS_QUOTES[usize::from(*byte)]) {
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
