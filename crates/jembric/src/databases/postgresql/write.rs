//! Writes tables of a database, all in one transaction.

use super::{connect::Connection, encode, quoted, server_errors, wire::GRAIN_COMMENT};
use crate::{
    Error, Result, Table, Type,
    arrow::{Array, schema::DataType},
    databases::{TablesWriter, existing::Existing, failed, target},
};
use rayon::prelude::*;
use std::io::{self, Write as _};

/// How long to wait for a table that another connection uses.
const PATIENCE: &str = "10s";

/// The rows that a thread encodes at a time.
const STRETCH: usize = 1 << 14;

/// A database, with a write transaction.
#[derive(Debug)]
pub(crate) struct PostgreSqlWriter {
    connection: Connection,
    tables: Vec<Written>,
}

/// A table that is being written.
#[derive(Debug)]
struct Written {
    /// Its name in statements.
    table: String,
    /// The name for messages.
    shown: String,
    names: Vec<String>,
    replaces: Option<Replacing>,
}

/// How a table that exists is replaced. It is filled under a name of its own, and takes the place
/// of the old one just before the commit.
#[derive(Debug)]
struct Replacing {
    /// The name under which it is filled.
    new: String,
    instead_of: InsteadOf,
}

#[derive(Debug)]
enum InsteadOf {
    /// Of the whole table, whose plain name it gets.
    Table { name: String },
    /// Of the rows only, because the columns are the same. Permissions, indexes and views of the
    /// table stay. The statement empties it.
    Rows { emptied: String },
}

impl Written {
    fn filled_as(&self) -> &str {
        self.replaces.as_ref().map_or(&self.table, |replacing| &replacing.new)
    }
}

/// The declared type for a column, in SQL.
fn declared(kind: Type, stored: &DataType) -> String {
    match kind {
        Type::Boolean => "boolean",
        Type::Integer => "bigint",
        Type::Decimal { places } => {
            return format!("numeric({},{places})", target::digits(stored));
        }
        Type::Float => "double precision",
        Type::Date(_) => "date",
        Type::Time => "time without time zone",
        Type::Moment { instant: false } => "timestamp without time zone",
        Type::Moment { instant: true } => "timestamp with time zone",
        _ => "text",
    }
    .to_owned()
}

/// Whether a value of the one type is one of the other, and has the same binary form.
fn fits(ours: &str, there: &str) -> bool {
    let is_text = |kind: &str| {
        kind == "text" || kind.starts_with("character varying") || kind.starts_with("character(")
    };
    let places = |kind: &str| {
        let numbers = kind.strip_prefix("numeric(")?.strip_suffix(')')?;
        let (digits, places) = numbers.split_once(',')?;
        Some((digits.parse::<i32>().ok()?, places.parse::<i32>().ok()?))
    };
    match (places(ours), places(there)) {
        // The server refuses a number with too many digits, and would round one with too many
        // places.
        (Some((_, ours)), Some((_, there))) => ours <= there,
        (Some(_), None) => there == "numeric",
        _ => ours == there || is_text(ours) && is_text(there),
    }
}

impl PostgreSqlWriter {
    pub(crate) fn open(uri: &str) -> Result<PostgreSqlWriter> {
        let mut connection = Connection::open(uri)?;
        connection.execute("begin")?;
        connection.execute(&format!("set local lock_timeout = '{PATIENCE}'"))?;
        Ok(PostgreSqlWriter { connection, tables: Vec::new() })
    }

    /// The schema and plain name of a table to write, in statements. A name with a point is that of
    /// a table in a schema, if there is such a schema.
    fn named(&mut self, table: &str) -> Result<(Option<String>, String)> {
        if let Some((schema, name)) = table.split_once('.') {
            let found = self
                .connection
                .query("select 1 from pg_catalog.pg_namespace where nspname = $1", &[&schema])?;
            if !found.is_empty() {
                return Ok((Some(schema.to_owned()), name.to_owned()));
            }
        }
        Ok((None, table.to_owned()))
    }

    fn create(&mut self, kind: &str, table: &str, first: &Table) -> Result<()> {
        let shape = first.shape();
        let columns = shape.columns().iter().zip(first.columns()).map(|(column, array)| {
            let kind = declared(column.kind.unwrap_or(Type::Nothing), array.data_type());
            format!("{} {kind}", quoted(&column.name))
        });
        let columns: Vec<String> = columns.collect();
        self.connection.execute(&format!("create {kind} {table} ({})", columns.join(", ")))?;
        for column in shape.columns() {
            let periods = column.kind.and_then(Type::periods);
            if let Some(periods) = periods
                && column.kind != Some(Type::DAYS)
            {
                let name = quoted(&column.name);
                self.connection.execute(&format!(
                    "comment on column {table}.{name} is '{GRAIN_COMMENT}{periods}'"
                ))?;
            }
        }
        Ok(())
    }

    /// How a table of this number is replaced.
    fn replacing(
        &mut self,
        number: u32,
        (table, name): (&str, &str),
        new: String,
        first: &Table,
    ) -> Result<Replacing> {
        if !self.has_same_columns(number, first)? {
            self.create("table", &new, first)?;
            return Ok(Replacing { new, instead_of: InsteadOf::Table { name: quoted(name) } });
        }
        let new = format!("pg_temp.{}", quoted(&format!("jembric new {number}")));
        self.create("temporary table", &new, first)?;
        // A table that others refer to cannot be truncated.
        let found = self.connection.query(
            "select has_table_privilege($1::oid, 'truncate') and not exists (select 1 from \
                pg_catalog.pg_constraint where confrelid = $1)",
            &[&number],
        )?;
        let is_truncated = found.first().is_some_and(|row| row.get(0));
        let statement = if is_truncated { "truncate table" } else { "delete from" };
        let emptied = format!("{statement} {table}");
        Ok(Replacing { new, instead_of: InsteadOf::Rows { emptied } })
    }

    /// Whether a table has the columns of the result, with the same grains.
    fn has_same_columns(&mut self, number: u32, first: &Table) -> Result<bool> {
        if expect_same_columns(&self.columns(number)?, "", first).is_err() {
            return Ok(false);
        }
        let comments = self.connection.query(
            "select attname, col_description(attrelid, attnum) from pg_catalog.pg_attribute where \
                attrelid = $1 and attnum > 0 and not attisdropped",
            &[&number],
        )?;
        let shape = first.shape();
        Ok(comments.iter().all(|row| {
            let (name, comment): (&str, Option<&str>) = (row.get(0), row.get(1));
            let there = comment.and_then(|comment| comment.strip_prefix(GRAIN_COMMENT));
            let kind = shape.find(name).ok().and_then(|column| column.kind);
            let longer = kind.filter(|kind| *kind != Type::DAYS).and_then(Type::periods);
            there == longer.map(|periods| periods.to_string()).as_deref()
        }))
    }

    /// The names and types of a table's columns.
    fn columns(&mut self, number: u32) -> Result<Vec<(String, String)>> {
        let columns = self.connection.query(
            "select attname, format_type(atttypid, atttypmod) from pg_catalog.pg_attribute where \
                attrelid = $1 and attnum > 0 and not attisdropped order by attnum",
            &[&number],
        )?;
        Ok(columns.into_iter().map(|row| (row.get(0), row.get(1))).collect())
    }
}

/// Errors: a table has other columns than the result, or other types.
fn expect_same_columns(there: &[(String, String)], shown: &str, first: &Table) -> Result<()> {
    let known: Vec<String> = there.iter().map(|(name, _)| name.clone()).collect();
    let names: Vec<String> = first.names().map(str::to_owned).collect();
    target::expect_same_names(shown, &known, &names)?;
    for (column, array) in first.shape().columns().iter().zip(first.columns()) {
        let Some(kind) = column.kind.filter(|kind| *kind != Type::Nothing) else { continue };
        let ours = declared(kind, array.data_type());
        let Some((_, there)) = there.iter().find(|(name, _)| *name == column.name) else {
            continue;
        };
        if !fits(&ours, there) {
            return Err(failed(
                shown,
                format!(
                    "column `{}` has the type {there} there, and {ours} in the result",
                    column.name
                ),
                "Write another table, or change the type there",
            ));
        }
    }
    Ok(())
}

impl TablesWriter for PostgreSqlWriter {
    fn begin(&mut self, table: &str, first: &Table, existing: Existing) -> Result<usize> {
        let shown = format!("{}:{table}", self.connection.name());
        let (schema, name) = self.named(table)?;
        let found = self.connection.query(
            "select c.oid, c.relkind in ('v', 'm'), n.nspname from pg_catalog.pg_class c join \
                pg_catalog.pg_namespace n on n.oid = c.relnamespace where c.relname = $1 and \
                case when $2::text is null then pg_table_is_visible(c.oid) else n.nspname = $2 end",
            &[&name, &schema],
        )?;
        let found: Option<(u32, bool, String)> =
            found.first().map(|row| (row.get(0), row.get(1), row.get(2)));
        target::expect_allowed(&shown, found.as_ref().map(|(_, is_view, _)| *is_view), existing)?;
        // An existing table is replaced in its schema.
        let schema = schema.or_else(|| found.as_ref().map(|(_, _, schema)| schema.clone()));
        let qualified = |name: &str| match &schema {
            Some(schema) => format!("{}.{}", quoted(schema), quoted(name)),
            None => quoted(name),
        };
        let quoted_table = qualified(&name);
        let mut written = Written {
            table: quoted_table.clone(),
            shown: shown.clone(),
            names: first.names().map(quoted).collect(),
            replaces: None,
        };
        match (found, existing) {
            (Some((number, ..)), Existing::Append) => {
                expect_same_columns(&self.columns(number)?, &shown, first)?;
            }
            (Some((number, ..)), _) => {
                // Names longer than 63 bytes are cut by the server, so this one is short.
                let new = qualified(&format!("jembric new {number}"));
                let table = (quoted_table.as_str(), name.as_str());
                written.replaces = Some(self.replacing(number, table, new, first)?);
            }
            (None, _) => self.create("table", &quoted_table, first)?,
        }
        self.tables.push(written);
        Ok(self.tables.len() - 1)
    }

    fn write(&mut self, number: usize, rows: &Table) -> Result<()> {
        if rows.rows() == 0 {
            return Ok(());
        }
        let Written { shown, names, .. } = &self.tables[number];
        let copy = format!(
            "copy {} ({}) from stdin (format binary)",
            self.tables[number].filled_as(),
            names.join(", ")
        );
        let user = self.connection.user().to_owned();
        let told = |error: io::Error| server_errors::of_stream(shown, &user, error);
        let mut to = self.connection.copy_in(&copy)?;
        to.write_all(&encode::header()).map_err(told)?;
        // Threads encode some stretches, which are then sent in order.
        let together = 2 * rayon::current_num_threads();
        let starts: Vec<usize> = (0..rows.rows()).step_by(STRETCH).collect();
        let mut buffers = vec![Vec::new(); together.min(starts.len())];
        for starts in starts.chunks(together) {
            let encoded = starts.par_iter().zip(&mut buffers).try_for_each(|(&start, buffer)| {
                buffer.clear();
                encode::rows(rows, start..rows.rows().min(start + STRETCH), buffer)
            });
            encoded.map_err(|nul| {
                let column = rows.names().nth(nul.column).unwrap_or_default().to_owned();
                failed(
                    shown,
                    format!(
                        "row {}: column `{column}`: the text has a NUL character, which \
                            PostgreSQL does not store",
                        nul.row + 1
                    ),
                    "Remove it from the text",
                )
            })?;
            for buffer in &buffers[..starts.len()] {
                to.write_all(buffer).map_err(told)?;
            }
        }
        to.write_all(&encode::TRAILER).map_err(told)?;
        to.finish().map_err(|error| server_errors::of_statement(shown, &user, &error))?;
        Ok(())
    }

    fn commit(mut self: Box<Self>) -> Result<()> {
        for Written { table, shown, names, replaces } in &self.tables {
            let Some(Replacing { new, instead_of }) = replaces else { continue };
            let swap = match instead_of {
                InsteadOf::Table { name } => {
                    format!("drop table {table}; alter table {new} rename to {name}")
                }
                InsteadOf::Rows { emptied } => {
                    let names = names.join(", ");
                    format!(
                        "{emptied}; insert into {table} ({names}) select {names} from {new}; drop \
                            table {new}"
                    )
                }
            };
            self.connection.execute(&swap).map_err(|error| match error {
                Error::Database { problem, advice, .. } => failed(shown, problem, advice),
                error => error,
            })?;
        }
        self.connection.execute("commit")
    }
}
