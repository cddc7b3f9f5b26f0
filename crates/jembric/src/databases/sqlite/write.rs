//! Writes tables of a SQLite file, all in one transaction.

use super::{PATIENCE, quoted, sqlite_error};
use crate::{
    Result, Table, Type,
    arrow::{
        Array, ArrayRef,
        cast::AsArray,
        schema::DataType,
        types::{Decimal64Type, Decimal128Type, Float64Type, Int64Type},
    },
    databases::{TablesWriter, existing::Existing, failed, target},
    formats::text::CellText,
};
use rusqlite::{Connection, OpenFlags, Statement};
use std::path::Path;

/// The decimals with fewer units than this are exact as floating-point numbers: they have at most
/// 15 digits.
const EXACT_UNITS: i128 = 1_000_000_000_000_000;

/// A SQLite file, with a write transaction.
pub(crate) struct SqliteWriter {
    name: String,
    connection: Connection,
    tables: Vec<Written>,
}

impl std::fmt::Debug for SqliteWriter {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("SqliteWriter").field(&self.name).finish()
    }
}

/// A table that is being written.
struct Written {
    table: String,
    /// The name under which it is filled.
    filled_as: String,
    existing: Existing,
    /// The names of the columns, and their declared types.
    columns: Vec<(String, String)>,
}

impl SqliteWriter {
    /// Opens a database to write, under its path or under a temporary one; `is_new` tells that the
    /// file is empty and is removed if the work fails.
    pub(crate) fn open(name: &Path, path: &Path, is_new: bool) -> Result<SqliteWriter> {
        let name = name.display().to_string();
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let open = || {
            let connection = Connection::open_with_flags(path, flags)?;
            connection.busy_timeout(PATIENCE)?;
            // Pages stay in memory until the end, so that readers are not shut out before it.
            connection.execute_batch("pragma cache_spill = off")?;
            // A view of a table that is replaced names it while it is absent, which is allowed.
            connection.execute_batch("pragma legacy_alter_table = on")?;
            if is_new {
                // A new file needs no journal, because it is discarded as a whole.
                connection.execute_batch("pragma journal_mode = off; pragma synchronous = off")?;
            }
            connection.execute_batch("begin immediate")?;
            Ok(connection)
        };
        let connection = open().map_err(|error| sqlite_error(&name, &error))?;
        Ok(SqliteWriter { name, connection, tables: Vec::new() })
    }

    fn shown(&self, table: &str) -> String {
        format!("{}:{table}", self.name)
    }

    fn run(&self, sql: &str) -> Result<()> {
        self.connection.execute_batch(sql).map_err(|error| sqlite_error(&self.name, &error))
    }

    /// The names of the columns of a table or view, as the database writes them, and its kind; none
    /// if it does not exist.
    fn found(&self, table: &str) -> Result<Option<(String, Vec<String>)>> {
        let found = || {
            let mut kind = self.connection.prepare(
                "select type from pragma_table_list where schema = 'main' and name = ? collate \
                    nocase",
            )?;
            let kind: Option<String> =
                kind.query_map([table], |row| row.get(0))?.next().transpose()?;
            let mut names = self.connection.prepare("select name from pragma_table_info(?)")?;
            let names = names.query_map([table], |row| row.get(0))?;
            let names = names.collect::<rusqlite::Result<_>>()?;
            Ok(kind.map(|kind| (kind, names)))
        };
        found().map_err(|error| sqlite_error(&self.name, &error))
    }

    /// A name for a table that is filled before it replaces another one.
    fn free_name(&self, table: &str) -> Result<String> {
        let mut name = format!("{table} (new)");
        while self.found(&name)?.is_some() {
            name.push('+');
        }
        Ok(name)
    }

    fn create(&self, table: &str, columns: &[(String, String)]) -> Result<()> {
        let columns: Vec<String> =
            columns.iter().map(|(name, kind)| format!("{} {kind}", quoted(name))).collect();
        self.run(&format!("create table main.{} ({})", quoted(table), columns.join(", ")))
    }

    /// Declares a column of decimals without a type, so that SQLite keeps the text of those that a
    /// number cannot hold exactly.
    fn without_type(&mut self, number: usize, column: usize) -> Result<()> {
        let written = &self.tables[number];
        if written.existing == Existing::Append {
            return Err(failed(
                self.shown(&written.table),
                format!(
                    "column `{}`: a number has more than 15 digits, which this column would not \
                        hold exactly",
                    written.columns[column].0
                ),
                "Write a new table, or declare the column without a type",
            ));
        }
        let mut columns = written.columns.clone();
        columns[column].1 = String::new();
        let (old, new) = (written.filled_as.clone(), self.free_name(&written.filled_as)?);
        self.create(&new, &columns)?;
        let (from, to) = (quoted(&old), quoted(&new));
        self.run(&format!(
            "insert into main.{to} select * from main.{from}; drop table main.{from}; alter table \
                main.{to} rename to {from}"
        ))?;
        self.tables[number].columns = columns;
        Ok(())
    }
}

/// The declared type for a column.
fn declared(kind: Type, stored: &DataType) -> String {
    match kind {
        Type::Boolean => "BOOLEAN".to_owned(),
        Type::Integer => "INTEGER".to_owned(),
        Type::Decimal { places } => format!("DECIMAL({},{places})", target::digits(stored)),
        Type::Float => "REAL".to_owned(),
        Type::Date(_) if kind == Type::DAYS => "DATE".to_owned(),
        Type::Text | Type::Date(_) => "TEXT".to_owned(),
        Type::Time => "TIME".to_owned(),
        Type::Moment { .. } => "TIMESTAMP".to_owned(),
        _ => String::new(),
    }
}

/// A column to write.
enum ColumnValues<'a> {
    Integers(&'a ArrayRef),
    Floats(&'a ArrayRef),
    Booleans(&'a ArrayRef),
    Decimals(&'a ArrayRef),
    Texts(&'a ArrayRef),
    /// Of any other type, by their text.
    ByText(CellText<'a>),
    Nothing,
}

impl<'a> ColumnValues<'a> {
    fn new(array: &'a ArrayRef, text: CellText<'a>) -> ColumnValues<'a> {
        match array.data_type() {
            DataType::Null => ColumnValues::Nothing,
            DataType::Int64 => ColumnValues::Integers(array),
            DataType::Float64 => ColumnValues::Floats(array),
            DataType::Boolean => ColumnValues::Booleans(array),
            DataType::Utf8View => ColumnValues::Texts(array),
            DataType::Decimal64(..) | DataType::Decimal128(..) => ColumnValues::Decimals(array),
            _ => ColumnValues::ByText(text),
        }
    }

    /// The units of a decimal.
    fn units(array: &ArrayRef, row: usize) -> i128 {
        match array.data_type() {
            DataType::Decimal64(..) => array.as_primitive::<Decimal64Type>().value(row).into(),
            _ => array.as_primitive::<Decimal128Type>().value(row),
        }
    }

    /// Whether it has decimals that a number cannot hold exactly.
    fn exceeds_numbers(&self) -> bool {
        let ColumnValues::Decimals(array) = self else { return false };
        (0..array.len()).any(|row| {
            !array.is_null(row)
                && ColumnValues::units(array, row).unsigned_abs() >= EXACT_UNITS as u128
        })
    }

    fn bind(
        &self,
        row: usize,
        to: &mut Statement<'_>,
        place: usize,
        text: &mut String,
    ) -> rusqlite::Result<()> {
        let array = match self {
            ColumnValues::Nothing => return to.raw_bind_parameter(place, rusqlite::types::Null),
            ColumnValues::ByText(cells) => {
                text.clear();
                cells.append(row, text);
                return if cells.is_missing(row) {
                    to.raw_bind_parameter(place, rusqlite::types::Null)
                } else {
                    to.raw_bind_parameter(place, &**text)
                };
            }
            ColumnValues::Integers(array)
            | ColumnValues::Floats(array)
            | ColumnValues::Booleans(array)
            | ColumnValues::Decimals(array)
            | ColumnValues::Texts(array) => *array,
        };
        if array.is_null(row) {
            return to.raw_bind_parameter(place, rusqlite::types::Null);
        }
        match self {
            ColumnValues::Integers(array) => {
                to.raw_bind_parameter(place, array.as_primitive::<Int64Type>().value(row))
            }
            ColumnValues::Floats(array) => {
                to.raw_bind_parameter(place, array.as_primitive::<Float64Type>().value(row))
            }
            ColumnValues::Booleans(array) => {
                to.raw_bind_parameter(place, array.as_boolean().value(row))
            }
            ColumnValues::Texts(array) => {
                to.raw_bind_parameter(place, array.as_string_view().value(row))
            }
            _ => {
                text.clear();
                CellText::new(array).append(row, text);
                let is_exact =
                    ColumnValues::units(array, row).unsigned_abs() < EXACT_UNITS.unsigned_abs();
                match text.parse::<f64>() {
                    Ok(value) if is_exact => to.raw_bind_parameter(place, value),
                    _ => to.raw_bind_parameter(place, &**text),
                }
            }
        }
    }
}

impl TablesWriter for SqliteWriter {
    fn begin(&mut self, table: &str, first: &Table, existing: Existing) -> Result<usize> {
        let found = self.found(table)?;
        let names: Vec<String> = first.names().map(str::to_owned).collect();
        let shown = self.shown(table);
        let kind = found.as_ref().map(|(kind, _)| kind.as_str());
        target::expect_allowed(&shown, kind.map(|kind| kind == "view"), existing)?;
        if let (Some((_, known)), Existing::Append) = (&found, existing) {
            target::expect_same_names(&shown, known, &names)?;
        }
        let shape = first.shape();
        let kinds = shape.columns().iter().zip(first.columns()).map(|(column, array)| {
            declared(column.kind.unwrap_or(Type::Nothing), array.data_type())
        });
        let columns: Vec<(String, String)> = names.into_iter().zip(kinds).collect();
        let filled_as = match (&found, existing) {
            (Some(_), Existing::Replace) => self.free_name(table)?,
            _ => table.to_owned(),
        };
        if found.is_none() || existing == Existing::Replace {
            self.create(&filled_as, &columns)?;
        }
        // A table that does not exist yet is not appended to.
        let existing = if found.is_none() { Existing::Refuse } else { existing };
        self.tables.push(Written { table: table.to_owned(), filled_as, existing, columns });
        Ok(self.tables.len() - 1)
    }

    fn write(&mut self, number: usize, rows: &Table) -> Result<()> {
        let texts = CellText::for_columns(rows);
        let cells: Vec<ColumnValues<'_>> = rows
            .columns()
            .iter()
            .zip(texts)
            .map(|(array, text)| ColumnValues::new(array, text))
            .collect();
        for (column, cells) in cells.iter().enumerate() {
            let has_type = !self.tables[number].columns[column].1.is_empty();
            if has_type && cells.exceeds_numbers() {
                self.without_type(number, column)?;
            }
        }
        let written = &self.tables[number];
        let names: Vec<String> = written.columns.iter().map(|(name, _)| quoted(name)).collect();
        let marks = vec!["?"; names.len()].join(", ");
        let sql = format!(
            "insert into main.{} ({}) values ({marks})",
            quoted(&written.filled_as),
            names.join(", ")
        );
        let insert = || {
            let mut insert = self.connection.prepare(&sql)?;
            let mut text = String::new();
            for row in 0..rows.rows() {
                for (place, cells) in cells.iter().enumerate() {
                    cells.bind(row, &mut insert, place + 1, &mut text)?;
                }
                insert.raw_execute()?;
            }
            Ok(())
        };
        insert().map_err(|error| sqlite_error(&self.shown(&written.table), &error))
    }

    fn commit(self: Box<Self>) -> Result<()> {
        for Written { table, filled_as, existing, .. } in &self.tables {
            if *existing == Existing::Replace {
                let (old, new) = (quoted(table), quoted(filled_as));
                self.run(&format!(
                    "drop table main.{old}; alter table main.{new} rename to {old}"
                ))?;
            }
        }
        self.run("commit")?;
        let SqliteWriter { name, connection, .. } = *self;
        connection.close().map_err(|(_, error)| sqlite_error(&name, &error))
    }
}
