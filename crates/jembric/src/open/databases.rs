//! Reads tables of databases, as a whole or the share of one of several processes.

use super::ConnectedReading;
use crate::{
    Result,
    data::{
        Data,
        collect::{unified, unified_data},
        exchange::Exchange,
        memory::Memory,
    },
    databases::{HowMany, name::Name, rows::NumberedRows},
    read::reading::Reading,
};
use jembric_core::Origin;

impl ConnectedReading {
    /// The rows of a table, or of the query of the reading.
    pub(super) fn rows_of_database(&self, name: &Name, memory: &Memory) -> Result<Data> {
        let query = self.reading.query_text()?;
        let how_many = HowMany::All(memory);
        let (shown, answer) =
            self.databases.answer(name, query.as_deref(), &self.reading, how_many)?;
        self.reading.of_database(&shown, answer, memory)
    }

    /// Reads the rows of a range of a column, one of as many as there are processes.
    pub(super) fn range_of_database(
        &self,
        name: &Name,
        column: &str,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let (query, process) = (self.reading.query_text()?, exchange.process());
        let all = || self.databases.ranges(name, query.as_deref(), column, exchange.processes());
        let own = exchange.is_first().then(all).transpose()?;
        let ranges = exchange.broadcast_from_first(own.as_ref())?;
        if !exchange.is_first() {
            self.databases.show(&name.place, &ranges.state)?;
        }
        let reading =
            Reading { condition: ranges.conditions.get(process).cloned(), ..self.reading.clone() };
        let how_many = HowMany::All(memory);
        let (shown, answer) = self.databases.answer(name, query.as_deref(), &reading, how_many)?;
        let origin = Origin::of_rows(&shown);
        let data = self.reading.unnumbered(&shown, answer.rows, &origin, memory)?;
        // The types of decimals are those that all ranges have together.
        let known = exchange.all_gather(&(data.rows(), data.sample().emptied()))?;
        let before: u64 = known[..process].iter().map(|(rows, _)| rows).sum();
        let mut columns = known[0].1.clone();
        for (_, others) in &known[1..] {
            columns = unified(&columns, others)?;
        }
        let rows = NumberedRows { origin: origin.after(before as usize), key: answer.key };
        rows.number(unified_data(data, &columns)?)
    }
}
