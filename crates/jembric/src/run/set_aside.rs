//! [`SetAside`]: the rows that all steps of a run set aside, as one table.

use crate::{
    Result, Stack, Table,
    data::{Data, collect::Unifying, memory::Memory},
};

/// The column that names the step which set a row aside.
const BY: &str = "set_aside_by";

/// The rows that the steps set aside, with the words for each step.
#[derive(Default)]
pub(super) struct SetAside(Vec<(String, Data)>);

impl SetAside {
    pub(super) fn add(&mut self, step: &str, rows: &Data) {
        self.0.push((step.to_owned(), rows.clone()));
    }

    /// All rows. If several steps set some aside, a column names the step.
    pub(super) fn finish(self, memory: &Memory) -> Result<Data> {
        let some: Vec<&(String, Data)> =
            self.0.iter().filter(|(_, rows)| rows.rows() > 0).collect();
        match (&some[..], self.0.first()) {
            ([], None) => Ok(Data::Table(Table::from_columns(Vec::<(&str, _)>::new())?)),
            ([], Some((_, none))) => Ok(none.clone()),
            ([(_, only)], _) => Ok(only.clone()),
            (several, _) => {
                let mut all = Unifying::new(memory);
                for (step, rows) in several {
                    rows.each(&mut |batch| {
                        all.take(&Stack::new().source(BY).apply(&[(step, &batch)])?.table)
                    })?;
                }
                all.finish()
            }
        }
    }
}
