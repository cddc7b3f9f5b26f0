//! Writes rows as text on all threads. The cells are formatted by the core's [`CellText`].

use crate::{Table, Type};
pub use jembric_core::CellText;
use rayon::prelude::*;
use std::{io, ops::Range};

/// The columns of a table that hold numbers, which are aligned to the right.
pub fn numeric(table: &Table) -> Vec<bool> {
    let number = |kind| matches!(kind, Some(Type::Integer | Type::Float | Type::Decimal { .. }));
    table.shape().columns().iter().map(|column| number(column.kind)).collect()
}

/// The rows that a thread writes at a time.
const STRETCH: usize = 1 << 14;

/// Writes rows on all threads. Each thread formats its rows in memory, and these parts are written
/// in order.
pub(crate) fn in_stretches(
    rows: usize,
    to: &mut dyn io::Write,
    write: impl Fn(Range<usize>, &mut Vec<u8>) -> io::Result<()> + Sync,
) -> io::Result<()> {
    let together = 2 * rayon::current_num_threads();
    let starts: Vec<usize> = (0..rows).step_by(STRETCH).collect();
    let mut buffers = vec![Vec::new(); together.min(starts.len())];
    for starts in starts.chunks(together) {
        let one = |(&start, buffer): (&usize, &mut Vec<u8>)| {
            buffer.clear();
            write(start..rows.min(start + STRETCH), buffer)
        };
        starts.par_iter().zip(&mut buffers).try_for_each(one)?;
        buffers[..starts.len()].iter().try_for_each(|buffer| to.write_all(buffer))?;
    }
    Ok(())
}
