//! [`Stretches`]: the keys of rows that are sorted by them, or almost.

use super::{Entities, Missing, ROWS_FOR_THREADS};
use crate::{error::Result, parallel};
use arrow_array::{ArrayRef, UInt32Array};
use arrow_ord::partition::partition;
use arrow_select::take::take;
use std::ops::Range;

/// Stretches of rows with the same key, as in a table that is sorted by its keys.
pub(super) struct Stretches {
    /// The first row of each, and the number of all rows.
    pub(super) starts: Vec<u32>,
}

impl Stretches {
    /// The stretches of rows with the same key; none if they are short.
    pub(super) fn find(columns: &[ArrayRef], rows: usize) -> Result<Option<Stretches>> {
        /// A few places are looked at first, because most tables have no long stretches.
        const LOOKED_AT: usize = 16;
        const ROWS_THERE: usize = 64;
        const LONG: usize = 8;
        if columns.is_empty() || rows < ROWS_FOR_THREADS || rows >= u32::MAX as usize {
            return Ok(None);
        }
        let stretches = |from: usize, rows: usize| -> Result<Vec<Range<usize>>> {
            let own: Vec<ArrayRef> =
                columns.iter().map(|column| column.slice(from, rows)).collect();
            Ok(partition(&own)?.ranges())
        };
        let mut seen = 0;
        for n in 0..LOOKED_AT {
            seen += stretches((rows - ROWS_THERE) / LOOKED_AT * n, ROWS_THERE)?.len();
        }
        if seen * LONG > LOOKED_AT * (ROWS_THERE + LONG) {
            return Ok(None);
        }
        let pieces = parallel::of_stretches(rows, ROWS_FOR_THREADS, |rows| {
            let own = stretches(rows.start, rows.len())?.into_iter();
            Ok(own.map(|range| (rows.start + range.start) as u32).collect::<Vec<u32>>())
        });
        let mut starts = pieces.into_iter().collect::<Result<Vec<Vec<u32>>>>()?.concat();
        starts.push(rows as u32);
        Ok(Some(Stretches { starts }))
    }

    /// Numbers the key of each stretch, and gives the number to all of its rows.
    pub(super) fn numbered(&self, columns: &[ArrayRef], missing: Missing) -> Result<Entities> {
        let firsts = UInt32Array::from(self.starts[..self.starts.len() - 1].to_vec());
        let keys = columns.iter().map(|column| take(column, &firsts, None));
        let keys = keys.collect::<std::result::Result<Vec<_>, _>>()?;
        let Entities { ids, count, without } = Entities::of_any_rows(&keys, firsts.len(), missing)?;
        let all = self.given_to_rows(&ids);
        let of_none = |n: usize| self.starts[n + 1] - self.starts[n];
        let without = match without {
            0 => 0,
            _ => (0..ids.len()).filter(|&n| ids[n] == Entities::NONE).map(of_none).sum(),
        };
        Ok(Entities { ids: all, count, without })
    }

    /// Gives the number of each stretch to all of its rows.
    fn given_to_rows(&self, numbers: &[u32]) -> Vec<u32> {
        let rows = self.starts.last().map_or(0, |&rows| rows as usize);
        let mut all = vec![0; rows];
        parallel::fill(&mut all, ROWS_FOR_THREADS, |start, own| {
            let (mut row, end) = (start, start + own.len());
            let first = self.starts.partition_point(|&start| start as usize <= row) - 1;
            for (number, &next) in numbers[first..].iter().zip(&self.starts[first + 1..]) {
                let to = end.min(next as usize);
                own[row - start..to - start].fill(*number);
                row = to;
                if row == end {
                    break;
                }
            }
        });
        all
    }
}
