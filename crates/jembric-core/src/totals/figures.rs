//! [`Figures`]: what is asked of each cell, added up over the rows, and put together where cells are.

use super::{Asked, What};
use crate::{
    entities::{Entities, Missing},
    error::Result,
    gather::NONE,
    measure::{Measure, Sums, of_cell},
    order::Order,
    rows::sortable,
    table::Table,
};
use arrow_array::{Array, ArrayRef, BooleanArray, Float64Array, Int64Array, NullArray, UInt32Array};
use arrow_buffer::NullBuffer;
use arrow_select::{nullif::nullif, take::take};
use rayon::prelude::*;
use std::{ops::AddAssign, sync::Arc};

/// Cells that are few enough for each thread to have its own.
const CELLS_FOR_THREADS: usize = 1 << 20;
const ROWS_A_THREAD: usize = 1 << 16;

/// What a figure is made from, which does not depend on the cells.
pub(super) enum Source {
    Records,
    Measure {
        measure: Measure,
        mean: bool,
    },
    Extreme {
        array: ArrayRef,
        order: Order,
        valid: Option<NullBuffer>,
        greatest: bool,
    },
    /// The value of each row, as a number; [`NONE`] where it is missing.
    Values(Vec<u32>),
}

/// A figure of each cell.
#[derive(Clone)]
pub(super) enum Figures {
    Records(Vec<u64>),
    /// Sums, and how many values went into each.
    Sums(Sums, Vec<u64>),
    /// The row with the least or greatest value.
    Rows(Vec<u32>),
    /// The different pairs of cell and value, in order.
    Pairs(Vec<(u32, u32)>),
}

/// What stands in a place of the answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    Cell(usize),
    /// There is no record: nothing was added up.
    NoRecord,
    /// Nothing is told.
    Blank,
}

impl Source {
    pub(super) fn of(asked: &Asked, table: &Table) -> Result<Source> {
        Ok(match asked.what {
            What::Count => Source::Records,
            What::Sum | What::Mean => Source::Measure {
                measure: Measure::of(table, &asked.column)?,
                mean: asked.what == What::Mean,
            },
            What::Min | What::Max => {
                let array = table.column(&asked.column)?.clone();
                let order = Order::of(&sortable(table, &asked.column)?)?;
                let valid = array.logical_nulls();
                Source::Extreme { array, order, valid, greatest: asked.what == What::Max }
            }
            What::Distinct => {
                let values = Entities::number(table, &[&asked.column], Missing::NoEntity)?;
                Source::Values(values.into_ids())
            }
        })
    }

    /// How many rows have no value.
    pub(super) fn missing(&self, is_used: impl Fn(usize) -> bool, rows: usize) -> u64 {
        let misses = |row: usize| match self {
            Source::Records => false,
            Source::Measure { measure, .. } => !measure.is_valid(row),
            Source::Extreme { valid, .. } => valid.as_ref().is_some_and(|valid| valid.is_null(row)),
            Source::Values(values) => values[row] == NONE,
        };
        let none = match self {
            Source::Records => true,
            Source::Measure { measure, .. } => measure.missing() == 0,
            Source::Extreme { valid, .. } => valid.is_none(),
            Source::Values(_) => false,
        };
        (0..if none { 0 } else { rows }).filter(|&row| is_used(row) && misses(row)).count() as u64
    }

    /// The figure of each cell, where each row has the number of its cell and each cell so many records.
    pub(super) fn added_up(&self, cell_of: &[u32], records: &[u64]) -> Figures {
        let cells = records.len();
        let rows = || cell_of.iter().copied().enumerate().filter(|&(_, cell)| cell != NONE);
        match self {
            Source::Records => Figures::Records(records.to_vec()),
            Source::Measure { measure, .. } => {
                let sums = match measure.narrow() {
                    // Sums that cannot leave 64 bits take half the room.
                    Some(units) => {
                        let sums = summed(cell_of, cells, |sum: &mut i64, row| *sum += units[row]);
                        vec![sums.into_iter().map(i128::from).collect()]
                    }
                    None => (0..measure.layers())
                        .map(|layer| {
                            summed(cell_of, cells, |sum: &mut i128, row| *sum += measure.unit(row, layer))
                        })
                        .collect(),
                };
                let counts = match measure.missing() {
                    0 => records.to_vec(),
                    _ => summed(cell_of, cells, |count, row| *count += u64::from(measure.is_valid(row))),
                };
                Figures::Sums(sums, counts)
            }
            Source::Extreme { valid, .. } => {
                let mut best = vec![NONE; cells];
                for (row, cell) in rows() {
                    if valid.as_ref().is_none_or(|valid| valid.is_valid(row)) {
                        self.better(&mut best[cell as usize], row as u32);
                    }
                }
                Figures::Rows(best)
            }
            Source::Values(values) => {
                let pairs = rows().map(|(row, cell)| (cell, values[row])).filter(|pair| pair.1 != NONE);
                Figures::Pairs(different(pairs.collect()))
            }
        }
    }

    /// Takes a row in place of the best so far if it is better.
    fn better(&self, best: &mut u32, row: u32) {
        let Source::Extreme { order, greatest, .. } = self else { return };
        let number = |row: u32| order.of_row(row as usize);
        let is_better = *best == NONE
            || row != NONE
                && if *greatest { number(row) > number(*best) } else { number(row) < number(*best) };
        if is_better {
            *best = row;
        }
    }

    /// The figures of longer stretches: `to` has for each cell the number of that which it becomes part of.
    pub(super) fn put_together(&self, figures: &Figures, to: &[u32], cells: usize) -> Figures {
        match figures {
            Figures::Records(counts) => Figures::Records(together(counts, to, cells)),
            Figures::Sums(sums, counts) => {
                let sums = sums.iter().map(|layer| together(layer, to, cells)).collect();
                Figures::Sums(sums, together(counts, to, cells))
            }
            Figures::Rows(rows) => {
                let mut best = vec![NONE; cells];
                rows.iter().zip(to).for_each(|(&row, &to)| self.better(&mut best[to as usize], row));
                Figures::Rows(best)
            }
            Figures::Pairs(pairs) => Figures::Pairs(different(
                pairs.iter().map(|&(cell, value)| (to[cell as usize], value)).collect(),
            )),
        }
    }

    /// The figures as a column, in these places.
    pub(super) fn column(&self, figures: &Figures, places: &[Place]) -> Result<ArrayRef> {
        let whole = |of_cell: &dyn Fn(usize) -> u64| -> ArrayRef {
            let number = |place: &Place| match *place {
                Place::Cell(cell) => Some(of_cell(cell) as i64),
                Place::NoRecord => Some(0),
                Place::Blank => None,
            };
            Arc::new(places.iter().map(number).collect::<Int64Array>())
        };
        Ok(match (self, figures) {
            (_, Figures::Records(counts)) => whole(&|cell| counts[cell]),
            (_, Figures::Pairs(pairs)) => {
                let mut counts = Vec::new();
                for &(cell, _) in pairs {
                    counts.resize(counts.len().max(cell as usize + 1), 0_u64);
                    counts[cell as usize] += 1;
                }
                whole(&|cell| counts.get(cell).copied().unwrap_or(0))
            }
            (Source::Measure { measure, mean: true }, Figures::Sums(sums, counts)) => {
                let mean = |place: &Place| match *place {
                    Place::Cell(cell) => measure.mean(&of_cell(sums, cell), counts[cell]),
                    _ => None,
                };
                Arc::new(places.iter().map(mean).collect::<Float64Array>())
            }
            (Source::Measure { measure, .. }, Figures::Sums(sums, _)) => {
                let of_layer = |layer: &Vec<i128>| {
                    let sum = |place: &Place| if let Place::Cell(cell) = *place { layer[cell] } else { 0 };
                    places.iter().map(sum).collect()
                };
                let array = measure.sums(&sums.iter().map(of_layer).collect())?;
                if places.contains(&Place::Blank) {
                    let blank = places.iter().map(|place| Some(*place == Place::Blank));
                    nullif(&array, &blank.collect::<BooleanArray>())?
                } else {
                    array
                }
            }
            (Source::Extreme { array, .. }, Figures::Rows(rows)) => {
                let row = |place: &Place| match *place {
                    Place::Cell(cell) => Some(rows[cell]).filter(|&row| row != NONE),
                    _ => None,
                };
                take(array, &places.iter().map(row).collect::<UInt32Array>(), None)?
            }
            // Nothing else goes together: a source makes its own kind of figures.
            _ => Arc::new(NullArray::new(places.len())),
        })
    }

    /// The part that each place has of another, as fractions; missing where that is 0 or where one is.
    pub(super) fn share(&self, [part, whole]: [&Figures; 2], places: [&[Place]; 2]) -> ArrayRef {
        let number = |figures: &Figures, place: Place| match (self, figures, place) {
            (Source::Records, Figures::Records(counts), Place::Cell(cell)) => Some(counts[cell] as f64),
            (Source::Measure { measure, .. }, Figures::Sums(sums, _), Place::Cell(cell)) => {
                measure.mean(&of_cell(sums, cell), 1)
            }
            (_, _, Place::NoRecord) => Some(0.0),
            _ => None,
        };
        let share = |(&one, &other): (&Place, &Place)| {
            let (part, whole) = (number(part, one)?, number(whole, other)?);
            (whole != 0.0).then_some(part / whole)
        };
        Arc::new(places[0].iter().zip(places[1]).map(share).collect::<Float64Array>())
    }
}

/// How many records each cell has.
pub(super) fn records_of(cell_of: &[u32], cells: usize) -> Vec<u64> {
    summed(cell_of, cells, |count: &mut u32, _| *count += 1).into_iter().map(u64::from).collect()
}

/// Adds up over the rows of each cell, on all threads if there are enough rows for the cells.
fn summed<T: Copy + Default + AddAssign + Send + Sync>(
    cell_of: &[u32],
    cells: usize,
    add: impl Fn(&mut T, usize) + Sync,
) -> Vec<T> {
    let of_rows = |rows: std::ops::Range<usize>| {
        let mut sums = vec![T::default(); cells];
        for row in rows {
            if let Some(sum) = sums.get_mut(cell_of[row] as usize) {
                add(sum, row);
            }
        }
        sums
    };
    let (rows, threads) = (cell_of.len(), rayon::current_num_threads());
    if cells > CELLS_FOR_THREADS || rows < 2 * ROWS_A_THREAD || cells * threads > rows {
        return of_rows(0..rows);
    }
    let part = |n: usize| rows * n / threads..rows * (n + 1) / threads;
    let plus = |mut sums: Vec<T>, more: Vec<T>| {
        sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
        sums
    };
    (0..threads).into_par_iter().map(|n| of_rows(part(n))).reduce_with(plus).unwrap_or_default()
}

/// Sums of sums: `to` has for each the number of that to which it goes.
fn together<T: Copy + Default + AddAssign>(parts: &[T], to: &[u32], cells: usize) -> Vec<T> {
    let mut sums = vec![T::default(); cells];
    parts.iter().zip(to).for_each(|(&part, &to)| sums[to as usize] += part);
    sums
}

fn different(mut pairs: Vec<(u32, u32)>) -> Vec<(u32, u32)> {
    pairs.par_sort_unstable();
    pairs.dedup();
    pairs
}
