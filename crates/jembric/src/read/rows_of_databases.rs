//! Rows of databases, with the numbers and keys by which ledgers name them.

use super::{reading::Reading, scan::TextScan};
use crate::{
    Table,
    databases::{Answer, HowMany, Rows, name::Name},
    error::Result,
    larger::{Data, Memory, Scan},
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
        let data = match answer.rows {
            Rows::Typed(data) => data,
            Rows::Pieces(pieces) => Data::Table(pieces.table(name, rows.origin.clone())?),
            Rows::Written(transcript) => {
                let (reading, source, header, texts, origin) =
                    self.for_written(transcript, rows.origin.clone());
                TextScan::data(&reading, (source, header), &texts, Some(origin), memory, None)?
            }
        };
        Ok(match data {
            Data::Table(table) => Data::Table(rows.named(table, 0)),
            Data::Larger(scan) => {
                let sample = rows.named(scan.sample().clone(), 0);
                Data::Larger(Arc::new(NumberedScan { scan, sample, rows }))
            }
        })
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
