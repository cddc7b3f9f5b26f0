//! Merges sorted runs.
//!
//! In each round, the least of the last rows of all current frames is found. All rows up to it can
//! be delivered, because no later frame has a lesser one. They are joined, sorted by a stable sort,
//! which finds the runs that are sorted already, and delivered. So a round is a few columnar steps
//! for many rows, and not one step of a heap for each row. Equal rows keep the order of the runs.

use super::{
    collect::in_batches,
    memory::Memory,
    progress::Phase,
    spill::{SpillFile, SpillWriter},
};
use crate::{
    CoreError, Table,
    arrow::{Array, ArrayRef, Int64Array, UInt32Array},
    error::Result,
};
use arrow_ord::sort::{SortColumn, SortOptions};
use arrow_row::{RowConverter, Rows, SortField};
use rayon::prelude::*;
use std::{cmp::Ordering, sync::Arc};

/// The most runs that are merged at once, because each has a frame in memory.
pub(crate) const MOST_RUNS: usize = 128;

/// The order of the rows.
#[derive(Clone, Debug)]
pub(crate) enum MergeOrder {
    /// By the row numbers of the table at this place.
    Numbers(usize),
    /// By the row numbers of the first table, and rows without one behind them by those of the
    /// second.
    BothNumbers,
    /// By these columns, each with whether it is descending.
    Columns(Vec<(usize, bool)>),
}

/// What rows are compared by.
enum Keys {
    Numbers(Int64Array),
    Rows(Rows),
}

impl MergeOrder {
    fn keys(&self, table: &Table) -> Result<Keys> {
        let ascending = Some(SortOptions { descending: false, nulls_first: false });
        let columns: Vec<SortColumn> = match self {
            MergeOrder::Numbers(place) => match table.row_numbers(*place) {
                Some(numbers) if numbers.null_count() == 0 => {
                    return Ok(Keys::Numbers(numbers.clone()));
                }
                numbers => {
                    let column = numbers.cloned().map(|numbers| Arc::new(numbers) as ArrayRef);
                    column
                        .into_iter()
                        .map(|values| SortColumn { values, options: ascending })
                        .collect()
                }
            },
            MergeOrder::BothNumbers => (0..2)
                .filter_map(|place| table.row_numbers(place))
                .map(|numbers| SortColumn { values: Arc::new(numbers.clone()), options: ascending })
                .collect(),
            MergeOrder::Columns(columns) => table.sort_columns(columns),
        };
        if columns.is_empty() {
            return Ok(Keys::Numbers(Int64Array::from(vec![0; table.rows()])));
        }
        let fields = columns.iter().map(|column| {
            let options = column.options.unwrap_or_default();
            SortField::new_with_options(column.values.data_type().clone(), options)
        });
        let converter = RowConverter::new(fields.collect()).map_err(CoreError::from)?;
        let columns: Vec<ArrayRef> = columns.into_iter().map(|column| column.values).collect();
        Ok(Keys::Rows(converter.convert_columns(&columns).map_err(CoreError::from)?))
    }

    /// The range of each row, from 0: that of the first bound which is not before the row, or the
    /// last range. The bounds are rows in order.
    pub(crate) fn ranges(&self, table: &Table, bounds: &Table) -> Result<Vec<u32>> {
        let (keys, bounds, count) = (self.keys(table)?, self.keys(bounds)?, bounds.rows());
        let range = |row| {
            let (mut low, mut high) = (0, count);
            while low < high {
                let middle = usize::midpoint(low, high);
                match bounds.compare(middle, &keys, row) {
                    Ordering::Less => low = middle + 1,
                    _ => high = middle,
                }
            }
            low as u32
        };
        Ok((0..table.rows()).map(range).collect())
    }

    /// The numbers of the rows in order. Equal rows keep their order.
    pub(crate) fn sorted(&self, table: &Table) -> Result<UInt32Array> {
        match self {
            MergeOrder::Columns(columns) => Ok(table.sorted_rows(columns)?),
            MergeOrder::Numbers(_) | MergeOrder::BothNumbers => {
                Ok(self.keys(table)?.sorted(table.rows()))
            }
        }
    }
}

impl Keys {
    fn compare(&self, row: usize, other: &Keys, other_row: usize) -> Ordering {
        match (self, other) {
            (Keys::Numbers(one), Keys::Numbers(other)) => {
                one.value(row).cmp(&other.value(other_row))
            }
            (Keys::Rows(one), Keys::Rows(other)) => one.row(row).cmp(&other.row(other_row)),
            // All runs have the same columns.
            _ => Ordering::Equal,
        }
    }

    /// The row numbers in order. Equal rows keep their order.
    fn sorted(&self, rows: usize) -> UInt32Array {
        let mut order: Vec<u32> = (0..rows as u32).collect();
        match self {
            Keys::Numbers(numbers) => {
                let numbers = numbers.values();
                order.par_sort_by_key(|&row| numbers[row as usize]);
            }
            Keys::Rows(keys) => {
                let compared = |&one: &u32, &other: &u32| {
                    keys.row(one as usize).cmp(&keys.row(other as usize))
                };
                order.par_sort_by(compared);
            }
        }
        UInt32Array::from(order)
    }
}

/// The current frame of a run.
struct Cursor<'a> {
    run: &'a SpillFile,
    /// The next frame.
    next: usize,
    table: Table,
    keys: Arc<Keys>,
    /// The rows of the frame that were delivered.
    done: usize,
}

impl<'a> Cursor<'a> {
    fn open(run: &'a SpillFile, next: usize, order: &MergeOrder) -> Result<Option<Cursor<'a>>> {
        for number in next..run.frames() {
            let table = run.frame(number)?;
            if table.rows() > 0 {
                let keys = Arc::new(order.keys(&table)?);
                return Ok(Some(Cursor { run, next: number + 1, table, keys, done: 0 }));
            }
        }
        Ok(None)
    }

    fn last(&self) -> usize {
        self.table.rows() - 1
    }

    /// The rows up to a bound, which are delivered now. Rows that equal the bound are among them
    /// only if no earlier run has more rows like it.
    fn up_to(&mut self, bound: (&Keys, usize), with_equal: bool) -> Table {
        let (keys, row) = bound;
        let is_before = |at: usize| match self.keys.compare(at, keys, row) {
            Ordering::Less => true,
            Ordering::Equal => with_equal,
            Ordering::Greater => false,
        };
        let (mut low, mut high) = (self.done, self.table.rows());
        while low < high {
            let middle = usize::midpoint(low, high);
            if is_before(middle) { low = middle + 1 } else { high = middle }
        }
        let rows = self.table.slice(self.done, low - self.done);
        self.done = low;
        rows
    }
}

/// Merges sorted runs and delivers their rows in order, in batches.
pub(crate) fn merge(
    mut runs: Vec<SpillFile>,
    order: &MergeOrder,
    memory: &Memory,
    take: &mut dyn FnMut(Table) -> Result<()>,
) -> Result<()> {
    runs.retain(|run| run.rows() > 0);
    while runs.len() > MOST_RUNS {
        // Neighbours are merged, so that equal rows keep their order.
        let mut merged = Vec::new();
        for group in runs.chunks(MOST_RUNS) {
            let mut writer = SpillWriter::after(&merged, memory);
            merge_at_once(group, order, memory, &mut |batch| {
                for batch in in_batches(vec![batch], memory.frame())? {
                    writer.write(&batch)?;
                }
                Ok(())
            })?;
            merged.push(writer.finish());
        }
        runs = merged;
    }
    merge_at_once(&runs, order, memory, take)
}

fn merge_at_once(
    runs: &[SpillFile],
    order: &MergeOrder,
    memory: &Memory,
    take: &mut dyn FnMut(Table) -> Result<()>,
) -> Result<()> {
    let (mut done, all_rows) = (0, runs.iter().map(SpillFile::rows).sum());
    let mut cursors = Vec::new();
    for run in runs {
        cursors.extend(Cursor::open(run, 0, order)?);
    }
    while !cursors.is_empty() {
        // The least of the last rows; of equal ones the first, whose run comes first.
        let least = (1..cursors.len()).fold(0, |least, n| {
            let (one, other): (&Cursor<'_>, &Cursor<'_>) = (&cursors[least], &cursors[n]);
            match other.keys.compare(other.last(), &one.keys, one.last()) {
                Ordering::Less => n,
                _ => least,
            }
        });
        let (bound, row) = (cursors[least].keys.clone(), cursors[least].last());
        let mut parts = Vec::new();
        for (n, cursor) in cursors.iter_mut().enumerate() {
            // A later frame of the run of the bound may begin with rows like it. Those of the runs
            // behind it wait for them.
            let part = cursor.up_to((&bound, row), n <= least);
            if part.rows() > 0 {
                parts.push(part);
            }
        }
        let table = super::collect::joined(&parts)?;
        let table = match parts.len() {
            1 => table,
            _ => {
                let sorted = order.sorted(&table)?;
                let not_numbers = table.not_numbers();
                table.take(&sorted)?.with_not_numbers(not_numbers)
            }
        };
        done += table.rows() as u64;
        take(table)?;
        memory.tell(Phase::Merging, None, done, all_rows);
        let mut left = Vec::with_capacity(cursors.len());
        for cursor in cursors {
            if cursor.done < cursor.table.rows() {
                left.push(cursor)
            } else {
                left.extend(Cursor::open(cursor.run, cursor.next, order)?)
            }
        }
        cursors = left;
    }
    Ok(())
}
