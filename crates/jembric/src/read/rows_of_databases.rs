//! Rows of databases, with the numbers and keys by which ledgers name them.

use super::{reading::Reading, scan::TextScan};
use crate::{
    Table,
    databases::{Answer, HowMany, Rows, name::Name},
    error::Result,
    exchange::Exchange,
    larger::{
        Data, Memory, Scan,
        collect::{unified, unified_data},
    },
};
use jembric_core::Origin;
use std::sync::Arc;

impl Reading {
    /// The rows of a table, or of the query of the reading.
    pub(super) fn rows_of_database(&self, name: &Name, memory: &Memory) -> Result<Data> {
        let query = self.query_text()?;
        let how_many = HowMany::All(memory);
        let (shown, answer) = self.databases.answer(name, query.as_deref(), self, how_many)?;
        self.of_database(&shown, answer, memory)
    }

    /// The rows of an answer.
    pub(crate) fn of_database(&self, name: &str, answer: Answer, memory: &Memory) -> Result<Data> {
        let rows = NumberedRows { origin: Origin::of_rows(name), key: answer.key };
        let data = self.unnumbered(name, answer.rows, &rows.origin, memory)?;
        rows.number(data)
    }

    /// Reads the rows of a range of a column, one of as many as there are processes.
    pub(super) fn range_of_database(
        &self,
        name: &Name,
        column: &str,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let (query, process) = (self.query_text()?, exchange.process());
        let all = || self.databases.ranges(name, query.as_deref(), column, exchange.processes());
        let own = exchange.is_first().then(all).transpose()?;
        let ranges = exchange.of_first(own.as_ref())?;
        if !exchange.is_first() {
            self.databases.show(&name.place, &ranges.state)?;
        }
        let reading =
            Reading { condition: ranges.conditions.get(process).cloned(), ..self.clone() };
        let how_many = HowMany::All(memory);
        let (shown, answer) = self.databases.answer(name, query.as_deref(), &reading, how_many)?;
        let origin = Origin::of_rows(&shown);
        let data = self.unnumbered(&shown, answer.rows, &origin, memory)?;
        // The types of decimals are those that all ranges have together.
        let known = exchange.of_all(&(data.rows(), data.sample().emptied()))?;
        let before: u64 = known[..process].iter().map(|(rows, _)| rows).sum();
        let mut columns = known[0].1.clone();
        for (_, others) in &known[1..] {
            columns = unified(&columns, others)?;
        }
        let rows = NumberedRows { origin: origin.after(before as usize), key: answer.key };
        rows.number(unified_data(data, &columns)?)
    }

    /// The rows of an answer, whose numbers are still to be given to them if their types are those
    /// of the database.
    fn unnumbered(&self, name: &str, rows: Rows, origin: &Origin, memory: &Memory) -> Result<Data> {
        match rows {
            Rows::Typed(data) => Ok(data),
            Rows::Pieces(pieces) => Ok(Data::Table(pieces.table(name, origin.clone())?)),
            Rows::Written(transcript) => {
                let (reading, source, header, texts, origin) =
                    self.for_written(transcript, origin.clone());
                TextScan::data(&reading, (source, header), &texts, Some(origin), memory, None)
            }
        }
    }
}

/// How rows are named.
#[derive(Debug)]
struct NumberedRows {
    origin: Origin,
    /// The columns of the primary key.
    key: Vec<String>,
}

impl NumberedRows {
    /// The rows with their numbers.
    fn number(self, data: Data) -> Result<Data> {
        Ok(match data {
            Data::Table(table) => Data::Table(self.named(table, 0)),
            Data::Larger(scan) => {
                let sample = self.named(scan.sample().clone(), 0);
                Data::Larger(Arc::new(NumberedScan { scan, sample, rows: self }))
            }
        })
    }

    /// The rows with their names. There are others before them.
    fn named(&self, table: Table, before: usize) -> Table {
        // Notations of dates are known to the table.
        let origin = match table.origin() {
            Some(origin) => origin.clone(),
            None => self.origin.after(before),
        };
        let columns = self.key.iter().map(|key| Some((key, table.column(key).ok()?.clone())));
        // The key is named where all of it is read.
        let origin = match columns.collect::<Option<Vec<_>>>() {
            Some(columns) => origin.with_key(columns),
            None => origin,
        };
        table.with_origin(origin)
    }
}

/// Rows of a database that do not fit into memory.
#[derive(Debug)]
struct NumberedScan {
    scan: Arc<dyn Scan>,
    sample: Table,
    rows: NumberedRows,
}

impl Scan for NumberedScan {
    fn sample(&self) -> &Table {
        &self.sample
    }

    fn rows(&self) -> u64 {
        self.scan.rows()
    }

    fn each(&self, take: &mut dyn FnMut(Table) -> Result<()>) -> Result<()> {
        let mut before = 0;
        self.scan.each(&mut |batch| {
            let rows = batch.rows();
            take(self.rows.named(batch, before))?;
            before += rows;
            Ok(())
        })
    }
}
