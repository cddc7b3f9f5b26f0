//! [`Results`]: the results of parts or pieces of the rows, which are merged in the order of the
//! whole.

use super::step::{Account, Accounted, Larger, Take, write_all};
use crate::{
    CoreError, Outcome, Table,
    data::{
        Data, bytes_of,
        collect::{Collector, joined},
        memory::Memory,
        merge::{MergeOrder, merge},
        progress::Phase,
        spill::{SpillFile, SpillWriter},
    },
    error::{Error, Result},
};
use jembric_core::{Places, ResultOrder};

/// The results of the parts.
pub(super) struct Results<'a> {
    pub(super) larger: &'a Larger<'a>,
    pub(super) order: ResultOrder,
    runs: Vec<SpillFile>,
    aside: Aside,
    account: Account,
    rows: u64,
    /// The rows of the parts to which the plan was applied.
    done: u64,
    /// The wrong places of the parts that were applied so far.
    wrong: Option<Places>,
}

impl<'a> Results<'a> {
    pub(super) fn new(larger: &'a Larger<'a>, order: ResultOrder) -> Results<'a> {
        Results {
            larger,
            order,
            runs: Vec::new(),
            aside: Aside::default(),
            account: Account::new(larger.memory),
            rows: 0,
            done: 0,
            wrong: None,
        }
    }

    /// Adds the result of a part with this number of rows. The table of its outcome has no rows.
    pub(super) fn add(
        &mut self,
        rows: u64,
        apply: &mut dyn FnMut(&mut Take<'_>) -> Result<Outcome>,
    ) -> Result<()> {
        let memory = self.larger.memory;
        let all_rows = self.larger.inputs.iter().map(|input| input.rows()).sum();
        memory.tell(Phase::Computing, None, self.done, all_rows);
        self.done += rows;
        let (mut writer, mut rows) = (SpillWriter::after(&self.runs, memory), self.rows);
        let mut pending: (Vec<Table>, u64) = (Vec::new(), 0);
        let outcome = apply(&mut |batch| {
            rows += batch.rows() as u64;
            self.larger.plan.expect_rows(rows)?;
            pending.1 += bytes_of(batch);
            pending.0.push(batch.clone());
            if pending.1 < memory.batch() {
                return Ok(());
            }
            pending.1 = 0;
            write_all(&mut writer, joined(&std::mem::take(&mut pending.0))?, memory.frame())
        });
        let mut outcome = match outcome {
            Ok(outcome) => outcome,
            // Other parts may have more of the same mistake, which one error tells.
            Err(Error::Core(CoreError::Places(places))) => {
                self.wrong = Some(match self.wrong.take() {
                    None => places,
                    Some(wrong) => self.larger.both_places(wrong, places),
                });
                return Ok(());
            }
            Err(error) => return Err(error),
        };
        if self.wrong.is_some() {
            return Ok(());
        }
        if !pending.0.is_empty() {
            write_all(&mut writer, joined(&pending.0)?, memory.frame())?;
        }
        self.rows = rows;
        self.runs.push(writer.finish());
        let columns = outcome.set_aside.emptied();
        let set_aside = std::mem::replace(&mut outcome.set_aside, columns);
        if self.larger.keeps_aside {
            self.aside.add(set_aside, memory)?;
        }
        self.account.add(outcome)?;
        Ok(())
    }

    pub(super) fn finish(self, take: &mut Take<'_>) -> Result<Accounted> {
        let Results { larger, order, runs, aside, account, wrong, .. } = self;
        if let Some(wrong) = wrong {
            return Err(CoreError::from(wrong).into());
        }
        let Accounted { mut outcome, .. } = account.finish()?;
        outcome.table = larger.without_own_numbers(&outcome.table)?;
        let order = match order {
            ResultOrder::Rows(place) => MergeOrder::Numbers(place),
            ResultOrder::Columns(columns) => {
                MergeOrder::Columns(columns.into_iter().map(|column| (column, false)).collect())
            }
            _ => return larger.as_a_whole(take),
        };
        if runs.iter().all(|run| run.rows() == 0) {
            take(&outcome.table)?;
        }
        merge(runs, &order, larger.memory, &mut |batch| {
            take(&larger.without_own_numbers(&batch)?)
        })?;
        aside.finish(outcome, larger)
    }
}

/// Rows set aside with their numbers, in runs of which each is in order.
#[derive(Default)]
pub(super) struct Aside(Vec<SpillFile>);

impl Aside {
    pub(super) fn add(&mut self, rows: Table, memory: &Memory) -> Result<()> {
        if rows.rows() > 0 {
            let mut writer = SpillWriter::after(&self.0, memory);
            write_all(&mut writer, rows, memory.frame())?;
            self.0.push(writer.finish());
        }
        Ok(())
    }

    /// Puts all rows in order, without the numbers that the step has given to them.
    pub(super) fn finish(self, mut outcome: Outcome, larger: &Larger<'_>) -> Result<Accounted> {
        outcome.set_aside = larger.without_own_numbers(&outcome.set_aside)?;
        let mut rows = Collector::new(larger.memory);
        rows.take(&outcome.set_aside)?;
        if !self.0.is_empty() {
            merge(self.0, &MergeOrder::BothNumbers, larger.memory, &mut |batch| {
                rows.take(&larger.without_own_numbers(&batch)?)
            })?;
        }
        let none = || Data::Table(outcome.set_aside.clone());
        let set_aside = rows.finish()?.unwrap_or_else(none);
        Ok(Accounted { outcome, set_aside })
    }
}

/// The rows of a batch of the table at a place with their numbers: the lines, or those that begin
/// with this one.
pub(super) fn numbered(batch: &Table, place: usize, first_row: i64) -> Result<Table> {
    // Rows that processes share have their numbers already.
    if batch.row_numbers(place).is_some() {
        return Ok(batch.clone());
    }
    let numbers = match batch.origin() {
        Some(origin) => origin.lines(batch.rows()).map(|line| line as i64).collect(),
        None => (first_row..first_row + batch.rows() as i64).collect(),
    };
    Ok(batch.with_row_numbers(place, numbers)?)
}

/// The rows of a part with the lines of the table at a place, of which a sample is given.
pub(super) fn with_lines(rows: Table, place: usize, sample: &Table) -> Table {
    let numbers = rows.row_numbers(place).map(|numbers| numbers.values().to_vec());
    let (Some(origin), Some(numbers)) = (sample.origin(), numbers) else { return rows };
    let lines: Vec<u64> = numbers.into_iter().map(|number| number as u64).collect();
    let origin = origin.of_lines(lines.iter().copied()).with_key_in(&rows, lines);
    rows.with_origin(origin)
}
