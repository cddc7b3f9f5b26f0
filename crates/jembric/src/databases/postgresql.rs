//! PostgreSQL, by the client of the crate `postgres`.
//!
//! `connect` opens connections as the URI and the environment say, with `passwords` and `tls`;
//! `server_errors` puts errors in plain words; `wire` has the types of columns, and `decode` and
//! `encode` convert between their binary forms and columns; `write` writes tables. `cancel` cancels
//! queries when the process is told to end.

mod cancel;
mod connect;
mod decode;
mod encode;
mod passwords;
mod server_errors;
mod tls;
mod wire;
mod write;

pub use cancel::cancel_queries;
pub(crate) use write::PostgreSqlWriter;

use super::{
    Answer, DatabaseTable, HowMany, Ranges, Rows, Snapshot, Wanted, no_such_table,
    query::without_end,
};
use crate::{
    ColumnShape, Error, Result, Shape, Table,
    data::{Data, collect::Unifying, memory::Memory},
    formats::{Choose, Source, csv_rows::refuse_twice},
    read::{
        reading::{Progress, Reading},
        table::whole,
    },
};
use connect::Connection;
use decode::Decoder;
use std::{io::BufRead, panic::resume_unwind, sync::mpsc, thread};
use wire::{Wire, WireColumn};

/// A connection with a read-only transaction, in which every query sees the same state.
#[derive(Debug)]
pub(crate) struct PostgreSql {
    connection: Connection,
}

/// An identifier in quotes.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// A table of the catalogue.
struct Listed {
    number: u32,
    schema: String,
    name: String,
    is_view: bool,
    /// Whether its name suffices to find it.
    is_visible: bool,
    /// The number of rows that the server estimates; negative if it has not.
    estimate: f32,
}

impl Listed {
    /// The name for people.
    fn shown(&self) -> String {
        if self.is_visible { self.name.clone() } else { format!("{}.{}", self.schema, self.name) }
    }

    /// The name in statements.
    fn quoted(&self) -> String {
        format!("{}.{}", quoted(&self.schema), quoted(&self.name))
    }
}

/// The tables and views of the database, without those of the system.
fn listed(connection: &mut Connection) -> Result<Vec<Listed>> {
    let rows = connection.query(
        "select c.oid, n.nspname, c.relname, c.relkind in ('v', 'm'), pg_table_is_visible(c.oid), \
            c.reltuples from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = \
            c.relnamespace where c.relkind in ('r', 'v', 'm', 'f', 'p') and n.nspname not in \
            ('pg_catalog', 'information_schema') and n.nspname !~ '^pg_toast' order by \
            n.nspname, c.relname",
        &[],
    )?;
    Ok(rows
        .into_iter()
        .map(|row| Listed {
            number: row.get(0),
            schema: row.get(1),
            name: row.get(2),
            is_view: row.get(3),
            is_visible: row.get(4),
            estimate: row.get(5),
        })
        .collect())
}

/// The table with this name: a plain name along the search path, or a schema and a name.
fn find(
    connection: &mut Connection,
    wanted: &str,
) -> Result<std::result::Result<Listed, Vec<String>>> {
    let mut known = listed(connection)?;
    let is_qualified = |table: &Listed| format!("{}.{}", table.schema, table.name) == wanted;
    let found = known.iter().position(|table| table.is_visible && table.name == wanted);
    match found.or_else(|| known.iter().position(is_qualified)) {
        Some(place) => Ok(Ok(known.swap_remove(place))),
        None => Ok(Err(known.iter().map(Listed::shown).collect())),
    }
}

/// What a query reads from.
struct Relation {
    /// The text behind `from`.
    sql: String,
    key: Vec<String>,
    estimate: Option<u64>,
    columns: Vec<WireColumn>,
}

/// Begins a transaction in which every query sees the same state.
const BEGIN: &str = "begin isolation level repeatable read, read only";

impl Relation {
    /// Errors: there is no such column.
    fn expect(&self, database: &str, column: &str) -> Result<()> {
        let names = || self.columns.iter().map(|column| column.name.as_str());
        if names().any(|name| name == column) {
            return Ok(());
        }
        let advice = match crate::nearest_name(column, names()) {
            Some(meant) => format!("Did you mean `{meant}`?"),
            None => format!("Its columns are {}", names().collect::<Vec<_>>().join(", ")),
        };
        let problem = format!("by-ranges-of names `{column}`, and there is no such column");
        Err(super::failed(database, problem, advice))
    }

    /// The rows in the order of a column. The key decides between rows with the same value, or
    /// without one the texts of all columns, so that each process has the order of one process.
    fn in_order_of(&self, column: &str) -> String {
        let mut order = vec![quoted(column)];
        order.extend(self.key.iter().map(|name| quoted(name)));
        if self.key.is_empty() {
            let text =
                |column: &WireColumn| format!("{}::text collate \"C\"", quoted(&column.name));
            order.extend(self.columns.iter().map(text));
        }
        format!(" order by {}", order.join(", "))
    }
}

impl PostgreSql {
    /// Connects, and begins a transaction.
    pub(crate) fn open(uri: &str) -> Result<PostgreSql> {
        let mut connection = Connection::open(uri)?;
        // The snapshot is taken by the first query of the transaction.
        connection.execute(BEGIN)?;
        connection.execute("select 1")?;
        Ok(PostgreSql { connection })
    }

    /// Does some work such that its failure does not end the transaction.
    fn apart<T>(&mut self, work: impl FnOnce(&mut PostgreSql) -> Result<T>) -> Result<T> {
        self.connection.execute("savepoint apart")?;
        let done = work(self);
        // If the connection has ended, the error of the work says so.
        let _ = self.connection.execute(match done {
            Ok(_) => "release savepoint apart",
            Err(_) => "rollback to savepoint apart",
        });
        done
    }

    fn relation(&mut self, wanted: Wanted<'_>) -> Result<Relation> {
        let (sql, key, estimate) = match wanted {
            Wanted::Query(query) => {
                let query = without_end(query);
                // The server checks that this is one statement, which a parenthesis alone would
                // not.
                self.connection.prepare(query)?;
                // A comment at the end of the query ends with its line.
                (format!("({query}\n) as query"), Vec::new(), None)
            }
            Wanted::Table(table) => {
                let found = find(&mut self.connection, table)?
                    .map_err(|known| no_such_table(self.connection.name(), table, &known))?;
                let key = self.connection.query(
                    "select a.attname from pg_catalog.pg_index i join pg_catalog.pg_attribute a \
                        on a.attrelid = i.indrelid and a.attnum = any(i.indkey) where i.indrelid = \
                        $1 and i.indisprimary order by array_position(i.indkey::int2[], a.attnum)",
                    &[&found.number],
                )?;
                let key = key.into_iter().map(|row| row.get(0)).collect();
                let estimate = (found.estimate > 0.0).then_some(found.estimate as u64);
                (found.quoted(), key, estimate)
            }
        };
        let columns = wire::columns(&mut self.connection, &format!("select * from {sql}"));
        let columns = columns.map_err(|error| match (wanted, error) {
            // The server has accepted the query itself.
            (Wanted::Query(_), Error::Database { problem, .. }) => super::failed(
                self.connection.name(),
                problem,
                "A query must be one that can stand behind `from` in parentheses",
            ),
            (_, error) => error,
        })?;
        if columns.is_empty() {
            let (problem, advice) = match wanted {
                Wanted::Table(table) => {
                    (format!("table `{table}` has no columns"), "Choose a table that has some")
                }
                Wanted::Query(_) => {
                    ("the query has no columns".to_owned(), "Name some columns behind `select`")
                }
            };
            return Err(super::failed(self.connection.name(), problem, advice));
        }
        let names: Vec<String> = columns.iter().map(|column| column.name.clone()).collect();
        refuse_twice(self.connection.name(), &names)?;
        Ok(Relation { sql, key, estimate, columns })
    }
}

impl Snapshot for PostgreSql {
    fn names(&mut self) -> Result<Vec<DatabaseTable>> {
        let table = |table: Listed| DatabaseTable {
            name: table.shown(),
            is_view: table.is_view,
            rows: None,
        };
        Ok(listed(&mut self.connection)?.into_iter().map(table).collect())
    }

    fn tables(&mut self) -> Result<Vec<DatabaseTable>> {
        let mut tables = Vec::new();
        for table in listed(&mut self.connection)? {
            let count = format!("select count(*) from {}", table.quoted());
            let counted = self.apart(|database| database.connection.query(&count, &[]));
            let rows = counted.ok().and_then(|rows| Some(rows.first()?.get::<_, i64>(0) as u64));
            let (name, is_view) = (table.shown(), table.is_view);
            tables.push(DatabaseTable { name, is_view, rows });
        }
        Ok(tables)
    }

    fn shape(&mut self, wanted: Wanted<'_>) -> Result<Shape> {
        let relation = self.apart(|database| database.relation(wanted))?;
        let shapes = relation.columns.iter().flat_map(WireColumn::shapes);
        Ok(Shape::of_columns(shapes.map(|(name, kind)| ColumnShape::new(name, kind))))
    }

    fn answer(
        &mut self,
        wanted: Wanted<'_>,
        reading: &Reading,
        how_many: HowMany<'_>,
    ) -> Result<Answer> {
        self.apart(|database| database.copied(wanted, reading, how_many))
    }

    fn ranges(&mut self, wanted: Wanted<'_>, column: &str, ranges: usize) -> Result<Ranges> {
        let relation = self.apart(|database| database.relation(wanted))?;
        relation.expect(self.connection.name(), column)?;
        let state = self.connection.query("select pg_export_snapshot()", &[])?;
        let state = state.first().map(|row| row.get(0)).unwrap_or_default();
        let column = quoted(column);
        let parts = (1..ranges).map(|part| part as f64 / ranges as f64).collect::<Vec<f64>>();
        let bounds = format!(
            "select quote_literal(bound) from unnest((select percentile_disc($1::float8[]) within \
                group (order by {column})::text[] from {})) with ordinality as bounds (bound, \
                place) order by place",
            relation.sql
        );
        let bounds = self.apart(|database| database.connection.query(&bounds, &[&parts]))?;
        let bounds: Vec<String> = bounds.iter().map(|row| row.get(0)).collect();
        Ok(Ranges { state, conditions: conditions(&column, &bounds, ranges) })
    }

    fn show(&mut self, state: &str) -> Result<()> {
        self.connection.execute("rollback")?;
        self.connection.execute(BEGIN)?;
        let state = state.replace('\'', "''");
        self.connection.execute(&format!("set transaction snapshot '{state}'"))
    }
}

/// The conditions for ranges of a column between bounds, each with its upper bound. Rows without a
/// value are in the last range. Without bounds there are no values, and the first range has all
/// rows.
fn conditions(column: &str, bounds: &[String], ranges: usize) -> Vec<String> {
    let is_last = |range| range + 1 == ranges;
    let condition = |range: usize| match (range.checked_sub(1), bounds.get(range)) {
        _ if bounds.len() + 1 < ranges => (if range == 0 { "true" } else { "false" }).to_owned(),
        (None, None) => "true".to_owned(),
        (None, Some(upper)) => format!("{column} <= {upper}"),
        (Some(before), _) if is_last(range) => {
            format!("({column} > {} or {column} is null)", bounds[before])
        }
        (Some(before), upper) => {
            let upper = upper.map(|upper| format!(" and {column} <= {upper}")).unwrap_or_default();
            format!("{column} > {}{upper}", bounds[before])
        }
    };
    (0..ranges).map(condition).collect()
}

impl PostgreSql {
    fn copied(
        &mut self,
        wanted: Wanted<'_>,
        reading: &Reading,
        how_many: HowMany<'_>,
    ) -> Result<Answer> {
        let relation = self.relation(wanted)?;
        let names: Vec<String> =
            relation.columns.iter().flat_map(WireColumn::shapes).map(|(name, _)| name).collect();
        let name = self.connection.name().to_owned();
        refuse_twice(&name, &names)?;
        reading.refuse_columns(&name, names.len())?;
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        reading.refuse_formats(&name, &names)?;
        let key = relation.key.clone();
        let progress = reading.progress.clone();
        let (first, memory) = match how_many {
            HowMany::First(first) => (Some(first), None),
            HowMany::All(memory) => (None, Some(memory).filter(|memory| memory.is_limited())),
        };
        let most_bytes = memory.map_or(u64::MAX, Memory::batch);
        let mut which = reading.condition.as_ref().map(|rows| format!(" where {rows}"));
        if let Some(column) = &reading.by_ranges_of {
            relation.expect(&name, column)?;
            which = Some(which.unwrap_or_default() + &relation.in_order_of(column));
        }
        let which = which.unwrap_or_default();
        let connection = self.connection.shared();
        let rows = Copied { connection, relation, which, first, progress, most_bytes };
        let choose = |names: &mut dyn Iterator<Item = &str>| {
            let names: Vec<&str> = names.collect();
            reading.read_of(names.into_iter())
        };
        let data = match memory {
            None => Data::Table(whole(&rows, &choose, u64::MAX)?),
            Some(memory) => {
                let mut unifying = Unifying::new(memory);
                rows.batches(&choose, u64::MAX, &mut |batch| unifying.take(&batch))?;
                unifying.finish()?
            }
        };
        Ok(Answer { rows: Rows::Typed(data), key })
    }
}

/// The rows of a relation, as a source.
struct Copied<'a> {
    connection: connect::Shared<'a>,
    relation: Relation,
    /// The condition for the rows to read, and their order.
    which: String,
    /// The number of rows to read, if not all are read.
    first: Option<usize>,
    progress: Option<Progress>,
    /// The bytes of a batch, as they come from the server.
    most_bytes: u64,
}

/// The most rows of a batch.
const BATCH: usize = 1 << 18;

/// The bytes that are passed to the decoder at a time, with room for a last row, and the number of
/// such pieces that may wait for it.
const PIECE: usize = 1 << 18;
const PIECES: usize = 8;

impl Copied<'_> {
    /// The statement that delivers these columns.
    ///
    /// Errors: a column has a type that is refused.
    fn copy_statement(&self, fetched: &[&WireColumn]) -> Result<String> {
        for column in fetched {
            if let Wire::Refused { problem, advice } = &column.wire {
                return Err(super::failed(self.connection.name(), problem, advice));
            }
        }
        let list: Vec<String> = fetched.iter().map(|column| quoted(&column.name)).collect();
        let limit = self.first.map(|first| format!(" limit {first}")).unwrap_or_default();
        let (list, sql, which) = (list.join(", "), &self.relation.sql, &self.which);
        Ok(format!("copy (select {list} from {sql}{which}{limit}) to stdout (format binary)"))
    }
}

impl Source for Copied<'_> {
    fn shape(&self) -> Result<Shape> {
        let shapes = self.relation.columns.iter().flat_map(WireColumn::shapes);
        Ok(Shape::of_columns(shapes.map(|(name, kind)| ColumnShape::new(name, kind))))
    }

    fn batches(
        &self,
        choose: &Choose<'_>,
        _: u64,
        take: &mut dyn FnMut(Table) -> Result<()>,
    ) -> Result<()> {
        let Relation { columns, estimate, .. } = &self.relation;
        // A range has two columns here, and one in the database.
        let shapes: Vec<(usize, String)> = columns
            .iter()
            .enumerate()
            .flat_map(|(n, column)| column.shapes().into_iter().map(move |(name, _)| (n, name)))
            .collect();
        let chosen = choose(&mut shapes.iter().map(|(_, name)| name.as_str()));
        let mut fetched: Vec<usize> = chosen.iter().map(|&place| shapes[place].0).collect();
        fetched.dedup();
        let wanted: Vec<&str> = chosen.iter().map(|&place| shapes[place].1.as_str()).collect();
        let fetched: Vec<&WireColumn> = fetched.iter().map(|&place| &columns[place]).collect();
        let copy = self.copy_statement(&fetched)?;
        let most_bytes = self.most_bytes;
        let mut connection = self.connection.borrow();
        let mut decoder = Decoder::new(&fetched, &wanted);
        let name = connection.name().to_owned();
        let user = connection.user().to_owned();
        let failed = |error: std::io::Error| server_errors::of_stream(&name, &user, error);
        let mut rows = connection.copy_out(&copy)?;
        let mut done = 0_u64;
        let mut delivered = |batch: Table| {
            done += batch.rows() as u64;
            if let (Some(Progress(progress)), Some(all)) = (&self.progress, estimate) {
                progress(done.min(*all), *all);
            }
            take(batch)
        };
        // The connection delivers a row at a time and keeps this thread busy, so another one
        // decodes.
        thread::scope(|scope| {
            let (to_decoder, pieces) = mpsc::sync_channel::<Vec<u8>>(PIECES);
            let (to_caller, batches) = mpsc::channel::<Table>();
            let name = &name;
            let decoding = scope.spawn(move || {
                let (mut is_first, mut bytes) = (true, 0);
                for piece in pieces {
                    decoder.add(&piece).map_err(|bad| bad.into_error(name))?;
                    bytes += piece.len() as u64;
                    if decoder.rows() >= BATCH || bytes >= most_bytes {
                        (is_first, bytes) = (false, 0);
                        let _ = to_caller.send(decoder.batch(name)?);
                    }
                }
                decoder.expect_end().map_err(|bad| bad.into_error(name))?;
                if is_first || decoder.rows() > 0 {
                    let _ = to_caller.send(decoder.batch(name)?);
                }
                Ok(())
            });
            let mut piece = Vec::with_capacity(PIECE);
            loop {
                let bytes = rows.fill_buf().map_err(failed)?;
                let length = bytes.len();
                piece.extend_from_slice(bytes);
                rows.consume(length);
                if length == 0 || piece.len() >= PIECE {
                    let full = std::mem::replace(&mut piece, Vec::with_capacity(PIECE));
                    // A decoder that has ended returns its error below.
                    if to_decoder.send(full).is_err() || length == 0 {
                        break;
                    }
                    batches.try_iter().try_for_each(&mut delivered)?;
                }
            }
            drop(to_decoder);
            let decoded = decoding.join().unwrap_or_else(|panic| resume_unwind(panic));
            batches.try_iter().try_for_each(&mut delivered)?;
            decoded
        })
    }
}
