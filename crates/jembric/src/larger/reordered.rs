//! Puts a result that processes share in the order of one process: the rows of each process come
//! before those of the next one, and all of them together are in the order of the whole table.
//!
//! Later steps can see the order of rows: ties, running figures row by row, stacks, files. So each
//! step leaves its result in this order, and no step needs to know that there are several
//! processes. Rows by entity were computed by the owner of their entity. If the result has the
//! order of the rows of a table, each row returns to the process that sent it. If it is sorted by
//! columns, the processes take consecutive ranges of these columns, with about as many rows each;
//! the bounds are chosen from a sample. The cost is one more exchange of the rows of the result,
//! except for those that are in their place already, and a sort of rows that are mostly sorted.

use super::{gathered::in_order, shared::Shared};
use crate::{
    CoreError, Table,
    arrow::{Array, UInt32Array},
    data::{Data, collect::Collector, merge::MergeOrder, spill::widened},
    error::Result,
};
use jembric_core::ResultOrder;

/// How many rows of each process the bounds of ranges are chosen from.
const SAMPLE: u64 = 1 << 10;

/// Where the rows of a result belong.
pub(super) enum Home {
    /// Each row belongs to the last process that begins at or before the row's number of the table
    /// at a place.
    Numbers { place: usize, starts: Vec<Option<i64>> },
    /// Each row belongs to the range of these columns that has it.
    Columns(Vec<usize>),
}

impl Home {
    fn order(&self) -> MergeOrder {
        match self {
            Home::Numbers { place, .. } => MergeOrder::Numbers(*place),
            Home::Columns(columns) => {
                MergeOrder::Columns(columns.iter().map(|&column| (column, false)).collect())
            }
        }
    }
}

impl Shared<'_> {
    /// Where the rows of a result in this order belong.
    pub(super) fn home(&self, order: &ResultOrder) -> Result<Home> {
        match order {
            ResultOrder::Columns(columns) => Ok(Home::Columns(columns.clone())),
            ResultOrder::Rows(place) => {
                Ok(Home::Numbers { place: *place, starts: self.first_rows[*place].clone() })
            }
            _ => Err(CoreError::Broken { invariant: "the result has no order" }.into()),
        }
    }

    /// Sends the rows of a result to the processes where they belong, and sorts them there. The
    /// rows have no numbers after that.
    pub(super) fn reordered(&self, result: Data, home: &Home) -> Result<Data> {
        let bounds = match home {
            Home::Columns(columns) => Some((self.bounds(&result, columns)?, columns)),
            Home::Numbers { .. } => None,
        };
        let order = home.order();
        let mut owners = |batch: &Table| match (home, &bounds) {
            // A result without rows may lack the columns of row numbers.
            _ if batch.rows() == 0 => Ok(Vec::new()),
            (_, Some((bounds, _))) => order.ranges(batch, bounds),
            (Home::Numbers { place, starts }, _) => {
                let numbers = batch.row_numbers(*place);
                let numbers = numbers.filter(|numbers| numbers.null_count() == 0);
                let numbers = numbers.ok_or_else(|| CoreError::Broken {
                    invariant: "a row of the result has no number",
                })?;
                Ok(numbers.values().iter().map(|&number| owner_of(number, starts)).collect())
            }
            (Home::Columns(_), None) => Ok(vec![0; batch.rows()]),
        };
        let received = self.sent(&result, None, &mut owners)?;
        in_order(received, &order, self.larger.memory)
    }

    /// Rows with the upper bounds of the ranges of columns, one for each process but the last.
    fn bounds(&self, result: &Data, columns: &[usize]) -> Result<Table> {
        let step = (result.rows() / SAMPLE).max(1);
        let (mut sample, mut next, mut row) = (vec![result.sample().emptied()], 0, 0);
        result.each(&mut |batch| {
            let end = row + batch.rows() as u64;
            let rows: Vec<u32> =
                (next..end).step_by(step as usize).map(|chosen| (chosen - row) as u32).collect();
            next += rows.len() as u64 * step;
            row = end;
            if !rows.is_empty() {
                sample.push(batch.take(&UInt32Array::from(rows))?);
            }
            Ok(())
        })?;
        let own = Table::joined(&sample[0], &sample[1..])?;
        let all = self.exchange.all_gather(&(own, step))?;
        let steps: Vec<u64> =
            all.iter().flat_map(|(rows, step)| vec![*step; rows.rows()]).collect();
        let rows: Vec<Table> = all.into_iter().map(|(rows, _)| rows).collect();
        let rows = Table::joined(&rows[0], &rows[1..])?;
        let columns: Vec<(usize, bool)> = columns.iter().map(|&column| (column, false)).collect();
        let sorted = rows.sorted_rows(&columns)?;
        let all: u64 = steps.iter().sum();
        let processes = self.exchange.processes() as u64;
        let (mut before, mut bounds) = (0, Vec::new());
        for &row in sorted.values() {
            before += steps[row as usize];
            while (bounds.len() as u64 + 1) < processes
                && before * processes >= all * (bounds.len() as u64 + 1)
            {
                bounds.push(row);
            }
        }
        Ok(rows.take(&UInt32Array::from(bounds))?)
    }

    /// The rows of a result with the types that those of all processes have together.
    pub(super) fn in_common_types(&self, result: Data) -> Result<Data> {
        // Only rows show how wide decimals are, and carry numbers.
        let of_rows = |data: &Data| (data.rows() > 0).then(|| data.sample().emptied());
        let own = match of_rows(&result) {
            Some(columns) => (true, columns),
            None => (false, result.sample().without_row_numbers()?.emptied()),
        };
        let all = self.exchange.all_gather(&own)?;
        let have_rows = all.iter().any(|(has_rows, _)| *has_rows);
        let mut all = all.into_iter().filter(|(has_rows, _)| *has_rows == have_rows);
        let Some((_, mut columns)) = all.next() else { return Ok(result) };
        for (_, other) in all {
            columns = columns.widest(&other)?;
        }
        if result.rows() == 0 {
            return Ok(Data::Table(columns));
        }
        let mut rows = Collector::new(self.larger.memory);
        result.each(&mut |batch| rows.take(&widened(batch, &columns)?))?;
        Ok(rows.finish()?.unwrap_or(Data::Table(columns)))
    }

    /// Numbers the rows of a result that has those of each table one after the other, with their
    /// numbers among the rows of all processes. Returns where they belong; none if they are in
    /// their places already.
    pub(super) fn numbered_by_table(&self, result: Data) -> Result<(Data, Option<Home>)> {
        let own: Vec<u64> = self.larger.inputs.iter().map(|input| input.rows()).collect();
        let of_all = self.exchange.all_gather(&own)?;
        let (process, processes) = (self.exchange.process(), self.exchange.processes());
        let all: u64 = of_all.iter().flatten().sum();
        // For each table, the number of this process's first row among those of all tables.
        let (mut first_rows, mut before) = (Vec::new(), 0_u64);
        let (mut last, mut is_in_order) = (0, true);
        for table in 0..own.len() {
            for (other, rows) in of_all.iter().enumerate() {
                if other == process {
                    first_rows.push(before);
                }
                before += rows[table];
                if rows[table] > 0 {
                    is_in_order &= other >= last;
                    last = other;
                }
            }
        }
        if is_in_order {
            return Ok((result, None));
        }
        if result.rows() != own.iter().sum::<u64>() {
            return Err(CoreError::Broken {
                invariant: "rows were added or dropped when they were put in order",
            }
            .into());
        }
        let numbers = first_rows.iter().zip(&own).flat_map(|(&first, &rows)| first..first + rows);
        let mut numbers = numbers.map(|number| number as i64);
        let mut rows = Collector::new(self.larger.memory);
        result.each(&mut |batch| {
            let own = numbers.by_ref().take(batch.rows()).collect();
            rows.take(&batch.with_row_numbers(0, own)?)
        })?;
        let share = |process: usize| (all as u128 * process as u128 / processes as u128) as i64;
        let starts = (0..processes).map(|process| Some(share(process))).collect();
        let rows = rows.finish()?.unwrap_or(result);
        Ok((rows, Some(Home::Numbers { place: 0, starts })))
    }
}

/// The last process that begins at or before a number. Processes without rows begin nowhere.
fn owner_of(number: i64, starts: &[Option<i64>]) -> u32 {
    let begins = |start: &Option<i64>| start.is_some_and(|start| start <= number);
    starts.iter().rposition(begins).unwrap_or(0) as u32
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_number_belongs_to_the_last_process_that_begins_before_it() {
        let starts = [None, Some(0), None, Some(5), Some(5), None];
        let owners: Vec<u32> = [0, 4, 5, 9].map(|number| owner_of(number, &starts)).into();
        assert_eq!(owners, [1, 1, 4, 4]);
    }
}
