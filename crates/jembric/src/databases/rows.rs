//! Rows of databases, with the numbers and keys by which ledgers name them.

use crate::{
    Table,
    data::{Data, Receiver, Scan, memory::Memory},
    databases::{Answer, Rows},
    error::Result,
    read::{reading::Reading, scan::TextScan},
};
use jembric_core::Origin;
use std::{ops::ControlFlow, sync::Arc};

impl Reading {
    /// The rows of an answer.
    pub(crate) fn of_database(&self, name: &str, answer: Answer, memory: &Memory) -> Result<Data> {
        let rows = NumberedRows { origin: Origin::of_rows(name), key: answer.key };
        let data = self.unnumbered(name, answer.rows, &rows.origin, memory)?;
        rows.number(data)
    }

    /// The rows of an answer, whose numbers are still to be given to them if their types are those
    /// of the database.
    pub(crate) fn unnumbered(
        &self,
        name: &str,
        rows: Rows,
        origin: &Origin,
        memory: &Memory,
    ) -> Result<Data> {
        match rows {
            Rows::Typed(data) => Ok(data),
            Rows::Pieces(pieces) => Ok(Data::Table(pieces.table(name, origin.clone())?)),
            Rows::Written(rows) => {
                let (reading, source, header, texts, origin) =
                    self.for_written(rows, origin.clone());
                TextScan::data(&reading, (source, header), &texts, Some(origin), memory, None)
            }
        }
    }
}

/// How rows are named.
#[derive(Debug)]
pub(crate) struct NumberedRows {
    pub(crate) origin: Origin,
    /// The columns of the primary key.
    pub(crate) key: Vec<String>,
}

impl NumberedRows {
    /// The rows with their numbers.
    pub(crate) fn number(self, data: Data) -> Result<Data> {
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

    fn each_until(&self, take: &mut Receiver<'_>) -> Result<ControlFlow<()>> {
        let mut before = 0;
        self.scan.each_until(&mut |batch| {
            let rows = batch.rows();
            let taken = take(self.rows.named(batch, before))?;
            before += rows;
            Ok(taken)
        })
    }
}
