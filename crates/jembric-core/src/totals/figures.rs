//! [`Figures`]: the requested figures of each cell, computed over rows and merged with cells.

use super::{RequestedFigure, What};
use crate::{
    entities::{Entities, Missing},
    error::Result,
    exact::Limbs,
    gather::NONE,
    measure::{Measure, Sums, of_cell},
    ordering::sortable,
    parallel,
    sort_keys::SortKeys,
    table::{Table, without_others_texts},
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Float64Array, Int64Array, NullArray, UInt32Array,
};
use arrow_buffer::NullBuffer;
use arrow_schema::Field;
use arrow_select::{concat::concat, nullif::nullif, take::take};
use borsh::{BorshDeserialize, BorshSerialize};
use rayon::prelude::*;
use std::{ops::AddAssign, sync::Arc};

/// Up to this many cells, each thread has its own.
const CELLS_FOR_THREADS: usize = 1 << 20;
const ROWS_A_THREAD: usize = 1 << 16;

/// The input of a figure, which does not depend on the cells.
pub(super) enum FigureSource {
    Records,
    Measure {
        measure: Measure,
        mean: bool,
    },
    Extreme {
        field: Field,
        array: ArrayRef,
        order: SortKeys,
        valid: Option<NullBuffer>,
        greatest: bool,
    },
    /// The value of each row, and its number; [`NONE`] if it is missing.
    Values {
        array: ArrayRef,
        numbers: Vec<u32>,
    },
}

/// A figure of each cell.
#[derive(Clone, BorshSerialize, BorshDeserialize)]
pub(super) enum Figures {
    Records(Vec<u64>),
    /// Sums, and the number of values in each.
    Sums(Sums, Vec<u64>),
    /// Sums of floats of several batches, each as one long integer, and the number of values in
    /// each.
    LongSums(Vec<Limbs>, Vec<u64>),
    /// The row with the least or greatest value.
    Rows(Vec<u32>),
    /// The distinct pairs of cell and value, in order.
    Pairs(Vec<(u32, u32)>),
}

/// What a place of the result contains.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    Cell(usize),
    /// There is no record, so nothing was computed.
    NoRecord,
    /// It is left empty.
    Blank,
}

/// The places of the rows of a result.
pub(super) enum Places {
    /// Each of so many cells, in order.
    EachCell(usize),
    Listed(Vec<Place>),
}

impl Places {
    fn iter(&self) -> impl Iterator<Item = Place> + '_ {
        let (cells, listed) = match self {
            Places::EachCell(cells) => (*cells, &[][..]),
            Places::Listed(listed) => (0, &listed[..]),
        };
        (0..cells).map(Place::Cell).chain(listed.iter().copied())
    }

    /// Adds a row that is left empty.
    pub(super) fn push_blank(&mut self) {
        if let Places::EachCell(cells) = *self {
            *self = Places::Listed((0..cells).map(Place::Cell).collect());
        }
        if let Places::Listed(listed) = self {
            listed.push(Place::Blank);
        }
    }
}

impl FigureSource {
    pub(super) fn new(requested: &RequestedFigure, table: &Table) -> Result<FigureSource> {
        let Some(place) = requested.place else { return Ok(FigureSource::Records) };
        Ok(match requested.what {
            What::Count => FigureSource::Records,
            What::Sum | What::Mean => FigureSource::Measure {
                measure: Measure::from_column(table, place)?,
                mean: requested.what == What::Mean,
            },
            What::Min | What::Max => {
                let values =
                    Table::of_known([(table.field_at(place).clone(), table.at(place).clone())])?;
                FigureSource::extreme(&values, requested.what == What::Max)?
            }
            What::Distinct => FigureSource::values(table.at(place).clone())?,
        })
    }

    /// The place in a table whose only column has the values.
    fn extreme(values: &Table, greatest: bool) -> Result<FigureSource> {
        let array = values.at(0).clone();
        let order = SortKeys::from_column(&sortable(values, 0))?;
        let valid = array.logical_nulls();
        Ok(FigureSource::Extreme {
            field: values.field_at(0).clone(),
            array,
            order,
            valid,
            greatest,
        })
    }

    fn values(array: ArrayRef) -> Result<FigureSource> {
        let numbers =
            Entities::of_columns(std::slice::from_ref(&array), array.len(), Missing::NoEntity)?;
        Ok(FigureSource::Values { array, numbers: numbers.into_ids() })
    }

    /// The number of rows without a value.
    pub(super) fn missing(&self, is_used: impl Fn(usize) -> bool, rows: usize) -> u64 {
        let misses = |row: usize| match self {
            FigureSource::Records => false,
            FigureSource::Measure { measure, .. } => !measure.is_valid(row),
            FigureSource::Extreme { valid, .. } => {
                valid.as_ref().is_some_and(|valid| valid.is_null(row))
            }
            FigureSource::Values { numbers, .. } => numbers[row] == NONE,
        };
        let none = match self {
            FigureSource::Records => true,
            FigureSource::Measure { measure, .. } => measure.missing() == 0,
            FigureSource::Extreme { valid, .. } => valid.is_none(),
            FigureSource::Values { .. } => false,
        };
        (0..if none { 0 } else { rows }).filter(|&row| is_used(row) && misses(row)).count() as u64
    }

    /// The figure of each cell, from the number of each row's cell and the number of records of
    /// each cell. If some cells are chosen, only theirs are returned.
    pub(super) fn added_up(
        &self,
        cell_of: &[u32],
        records: &[u64],
        chosen: Option<&[u32]>,
    ) -> Figures {
        let cells = records.len();
        let rows = || cell_of.iter().copied().enumerate().filter(|&(_, cell)| cell != NONE);
        match self {
            FigureSource::Records => Figures::Records(of_chosen(records, chosen, |count| count)),
            FigureSource::Measure { measure, .. } => {
                let sums = match measure.narrow() {
                    // The bounds of all values are known, so no sum needs to be checked for an
                    // overflow.
                    // Sums that cannot exceed 64 bits take half the memory.
                    Some(units) => {
                        let sums = summed(cell_of, cells, |sum: &mut i64, row| *sum += units[row]);
                        vec![of_chosen(&sums, chosen, i128::from)]
                    }
                    None => (0..measure.layers())
                        .map(|layer| {
                            let sums = summed(cell_of, cells, |sum: &mut i128, row| {
                                *sum += measure.unit(row, layer)
                            });
                            of_chosen(&sums, chosen, |sum| sum)
                        })
                        .collect(),
                };
                // Without missing values, each record has one.
                let counts = match measure.missing() {
                    0 => of_chosen(records, chosen, |count| count),
                    _ => {
                        let counts = summed(cell_of, cells, |count, row| {
                            *count += u64::from(measure.is_valid(row))
                        });
                        of_chosen(&counts, chosen, |count| count)
                    }
                };
                Figures::Sums(sums, counts)
            }
            FigureSource::Extreme { valid, .. } => {
                // Rows come in their order, and a row replaces another only if it is better. So the
                // first of equal values is kept, and the result does not depend on threads.
                let mut best = vec![NONE; cells];
                for (row, cell) in rows() {
                    if valid.as_ref().is_none_or(|valid| valid.is_valid(row)) {
                        self.better(&mut best[cell as usize], row as u32);
                    }
                }
                Figures::Rows(of_chosen(&best, chosen, |row| row))
            }
            FigureSource::Values { numbers, .. } => {
                // Chosen cells are numbered anew, in their order.
                let mut place_of = Vec::new();
                if let Some(chosen) = chosen {
                    place_of = vec![0; cells];
                    chosen.iter().zip(0..).for_each(|(&cell, n)| place_of[cell as usize] = n);
                }
                let place = |cell: u32| place_of.get(cell as usize).copied().unwrap_or(cell);
                let pairs = rows().map(|(row, cell)| (place(cell), numbers[row]));
                Figures::Pairs(different(pairs.filter(|pair| pair.1 != NONE).collect()))
            }
        }
    }

    /// Replaces the best row so far if this row is better.
    fn better(&self, best: &mut u32, row: u32) {
        let FigureSource::Extreme { order, greatest, .. } = self else { return };
        // The order of values is the order of these numbers, for texts as well.
        let number = |row: u32| order.of_row(row as usize);
        let is_better = *best == NONE
            || row != NONE
                && if *greatest {
                    number(row) > number(*best)
                } else {
                    number(row) < number(*best)
                };
        if is_better {
            *best = row;
        }
    }

    /// The figures of longer periods: `to` has the new cell of each cell.
    pub(super) fn put_together(&self, figures: &Figures, to: &[u32], cells: usize) -> Figures {
        match figures {
            Figures::Records(counts) => Figures::Records(together(counts, to, cells)),
            Figures::Sums(sums, counts) => {
                let sums = sums.iter().map(|layer| together(layer, to, cells)).collect();
                Figures::Sums(sums, together(counts, to, cells))
            }
            // These are exact integers, so their order does not matter.
            Figures::LongSums(sums, counts) => {
                let mut long = vec![Limbs::default(); cells];
                sums.iter().zip(to).for_each(|(sum, &to)| long[to as usize].add_all(sum));
                Figures::LongSums(long, together(counts, to, cells))
            }
            Figures::Rows(rows) => {
                let mut best = vec![NONE; cells];
                rows.iter()
                    .zip(to)
                    .for_each(|(&row, &to)| self.better(&mut best[to as usize], row));
                Figures::Rows(best)
            }
            // A value that two of the cells have is counted once in the new cell.
            Figures::Pairs(pairs) => Figures::Pairs(different(
                pairs.iter().map(|&(cell, value)| (to[cell as usize], value)).collect(),
            )),
        }
    }

    /// The column of the figures in these places.
    pub(super) fn column(&self, figures: &Figures, places: &Places) -> Result<ArrayRef> {
        let whole = |of_cell: &dyn Fn(usize) -> u64| -> ArrayRef {
            let number = |place: Place| match place {
                Place::Cell(cell) => Some(of_cell(cell) as i64),
                Place::NoRecord => Some(0),
                Place::Blank => None,
            };
            Arc::new(places.iter().map(number).collect::<Int64Array>())
        };
        Ok(match (self, figures) {
            (_, Figures::Records(counts)) => match places {
                Places::EachCell(_) => {
                    Arc::new(Int64Array::from(parallel::map(counts, |count| count as i64)))
                }
                Places::Listed(_) => whole(&|cell| counts[cell]),
            },
            // The pairs are distinct, so the number of those of a cell is the number of its values.
            (_, Figures::Pairs(pairs)) => {
                let mut counts = Vec::new();
                for &(cell, _) in pairs {
                    counts.resize(counts.len().max(cell as usize + 1), 0_u64);
                    counts[cell as usize] += 1;
                }
                whole(&|cell| counts.get(cell).copied().unwrap_or(0))
            }
            (FigureSource::Measure { measure, mean: true }, Figures::Sums(sums, counts)) => {
                let mean = |place: Place| match place {
                    Place::Cell(cell) => measure.mean(&of_cell(sums, cell), counts[cell]),
                    _ => None,
                };
                Arc::new(places.iter().map(mean).collect::<Float64Array>())
            }
            (FigureSource::Measure { mean: true, .. }, Figures::LongSums(sums, counts)) => {
                let mean = |place: Place| match place {
                    Place::Cell(cell) if counts[cell] > 0 => Some(sums[cell].divided(counts[cell])),
                    _ => None,
                };
                Arc::new(places.iter().map(mean).collect::<Float64Array>())
            }
            (FigureSource::Measure { measure, .. }, Figures::LongSums(sums, _)) => {
                let sum = |place: Place| match place {
                    Place::Cell(cell) => Some(measure.long_sum(&sums[cell])).transpose(),
                    Place::NoRecord => Ok(Some(0.0)),
                    Place::Blank => Ok(None),
                };
                Arc::new(places.iter().map(sum).collect::<Result<Float64Array>>()?)
            }
            (FigureSource::Measure { measure, .. }, Figures::Sums(sums, _)) => {
                // Usually every cell is a row, and the sums become the column as they are.
                if let Places::EachCell(_) = places {
                    return measure.sums(sums);
                }
                let of_layer = |layer: &Vec<i128>| {
                    let sum =
                        |place: Place| if let Place::Cell(cell) = place { layer[cell] } else { 0 };
                    places.iter().map(sum).collect()
                };
                let array = measure.sums(&sums.iter().map(of_layer).collect())?;
                if places.iter().any(|place| place == Place::Blank) {
                    let blank = places.iter().map(|place| Some(place == Place::Blank));
                    nullif(&array, &blank.collect::<BooleanArray>())?
                } else {
                    array
                }
            }
            (FigureSource::Extreme { array, .. }, Figures::Rows(rows)) => {
                let row = |place: Place| match place {
                    Place::Cell(cell) => Some(rows[cell]).filter(|&row| row != NONE),
                    _ => None,
                };
                take(array, &places.iter().map(row).collect::<UInt32Array>(), None)?
            }
            // There is no other combination, because a source makes its own kind of figures.
            _ => Arc::new(NullArray::new(places.iter().count())),
        })
    }

    /// The share of each place in another, as a fraction; missing if the other is 0 or either is
    /// missing.
    pub(super) fn share(&self, [part, whole]: [&Figures; 2], places: [&Places; 2]) -> ArrayRef {
        let number = |figures: &Figures, place: Place| match (self, figures, place) {
            (FigureSource::Records, Figures::Records(counts), Place::Cell(cell)) => {
                Some(counts[cell] as f64)
            }
            (FigureSource::Measure { measure, .. }, Figures::Sums(sums, _), Place::Cell(cell)) => {
                measure.mean(&of_cell(sums, cell), 1)
            }
            (FigureSource::Measure { .. }, Figures::LongSums(sums, _), Place::Cell(cell)) => {
                Some(sums[cell].divided(1))
            }
            (_, _, Place::NoRecord) => Some(0.0),
            _ => None,
        };
        let share = |(one, other): (Place, Place)| {
            let (part, whole) = (number(part, one)?, number(whole, other)?);
            // Tables have no −0, which 0 of a negative number would be.
            (whole != 0.0).then_some(part / whole + 0.0)
        };
        let both = places[0].iter().zip(places[1].iter());
        Arc::new(both.map(share).collect::<Float64Array>())
    }
}

impl FigureSource {
    /// Keeps the values that the figures refer to, and forgets the rows.
    pub(super) fn compact(self, figures: Vec<&mut Figures>) -> Result<FigureSource> {
        Ok(match self {
            FigureSource::Records => FigureSource::Records,
            FigureSource::Measure { measure, mean } => {
                // Floats of different batches may have different scales. As long integers all have
                // the same, so they can be added.
                for figures in figures {
                    if let Figures::Sums(sums, counts) = figures
                        && let Some(long) = measure.long_sums(sums)
                    {
                        *figures = Figures::LongSums(long, std::mem::take(counts));
                    }
                }
                FigureSource::Measure { measure: measure.without_rows(), mean }
            }
            FigureSource::Extreme { field, array, greatest, .. } => {
                // Each cell refers to one row. Those rows are kept, and the cells refer to their
                // new places.
                let mut used = Vec::new();
                for figures in figures {
                    let Figures::Rows(rows) = figures else { continue };
                    for row in rows.iter_mut().filter(|row| **row != NONE) {
                        used.push(*row);
                        *row = used.len() as u32 - 1;
                    }
                }
                let values = take(&array, &UInt32Array::from(used), None)?;
                let values = without_others_texts(&values);
                FigureSource::extreme(&Table::of_known([(field, values)])?, greatest)?
            }
            FigureSource::Values { array, numbers } => {
                let mut used = Vec::new();
                // A value gets a new number when a cell is the first to refer to it. Its first row
                // has the value itself.
                let mut new = vec![NONE; numbers.len()];
                let mut first_rows = vec![NONE; numbers.len()];
                for (row, &number) in
                    numbers.iter().enumerate().filter(|(_, number)| **number != NONE)
                {
                    let first = &mut first_rows[number as usize];
                    *first = (*first).min(row as u32);
                }
                for figures in figures {
                    let Figures::Pairs(pairs) = figures else { continue };
                    for (_, value) in pairs {
                        let place = &mut new[*value as usize];
                        if *place == NONE {
                            *place = used.len() as u32;
                            used.push(first_rows[*value as usize]);
                        }
                        *value = *place;
                    }
                }
                let array = take(&array, &UInt32Array::from(used), None)?;
                let array = without_others_texts(&array);
                let numbers = (0..array.len() as u32).collect();
                FigureSource::Values { array, numbers }
            }
        })
    }

    /// Merges both sources, which are compact, and redirects the figures of the other.
    pub(super) fn merged(
        one: FigureSource,
        other: FigureSource,
        figures: [Vec<&mut Figures>; 2],
    ) -> Result<FigureSource> {
        Ok(match (one, other) {
            (
                FigureSource::Extreme { field, array, greatest, .. },
                FigureSource::Extreme { array: more, .. },
            ) => {
                // The values of the other follow those of this one, so its references move by as
                // many places.
                let before = array.len() as u32;
                let [_, of_other] = figures;
                for figures in of_other {
                    let Figures::Rows(rows) = figures else { continue };
                    rows.iter_mut().filter(|row| **row != NONE).for_each(|row| *row += before);
                }
                let values = concat(&[array.as_ref(), more.as_ref()])?;
                FigureSource::extreme(&Table::of_known([(field, values)])?, greatest)?
            }
            (FigureSource::Values { array, .. }, FigureSource::Values { array: more, .. }) => {
                let both = concat(&[array.as_ref(), more.as_ref()])?;
                let distinct = Entities::of_columns(
                    std::slice::from_ref(&both),
                    both.len(),
                    Missing::NoEntity,
                )?;
                // A value of both parts gets one number, so that it is counted once.
                let (numbers, bases) = (distinct.ids(), [0, array.len()]);
                for (figures, base) in figures.into_iter().zip(bases) {
                    for figures in figures {
                        let Figures::Pairs(pairs) = figures else { continue };
                        pairs
                            .iter_mut()
                            .for_each(|(_, value)| *value = numbers[base + *value as usize]);
                    }
                }
                // Each value is in the row with its number.
                let array = take(&both, &UInt32Array::from(distinct.first_rows()), None)?;
                let array = without_others_texts(&array);
                let numbers = (0..array.len() as u32).collect();
                FigureSource::Values { array, numbers }
            }
            (one, _) => one,
        })
    }

    /// The values that compact figures refer to, as a column; none for figures of other kinds.
    pub(super) fn compact_values(&self) -> Result<Option<Table>> {
        let array = match self {
            FigureSource::Extreme { array, .. } | FigureSource::Values { array, .. } => array,
            FigureSource::Records | FigureSource::Measure { .. } => return Ok(None),
        };
        Table::from_columns([("value", array.clone())]).map(Some)
    }

    /// Makes these the values that compact figures refer to.
    pub(super) fn refer_to(&mut self, values: Option<Table>) -> Result<()> {
        let Some(values) = values.map(|values| values.at(0).clone()) else { return Ok(()) };
        match self {
            FigureSource::Extreme { field, greatest, .. } => {
                let field = field.clone().with_data_type(values.data_type().clone());
                *self = FigureSource::extreme(&Table::of_known([(field, values)])?, *greatest)?;
            }
            FigureSource::Values { array, numbers } => {
                *numbers = (0..values.len() as u32).collect();
                *array = values;
            }
            FigureSource::Records | FigureSource::Measure { .. } => {}
        }
        Ok(())
    }

    /// The number of values that extremes are chosen from.
    pub(super) fn extremes(&self) -> usize {
        match self {
            FigureSource::Extreme { array, .. } => array.len(),
            _ => 0,
        }
    }

    /// The bytes that it takes in memory, with an order and numbers.
    pub(super) fn bytes(&self) -> u64 {
        let array = match self {
            FigureSource::Extreme { array, .. } | FigureSource::Values { array, .. } => array,
            FigureSource::Records | FigureSource::Measure { .. } => return 0,
        };
        (array.get_array_memory_size() + 16 * array.len()) as u64
    }

    /// The field of the column that extreme values come from.
    pub(super) fn field(&self) -> Option<&Field> {
        match self {
            FigureSource::Extreme { field, .. } => Some(field),
            _ => None,
        }
    }
}

impl Figures {
    /// The bytes that they take in memory.
    pub(super) fn bytes(&self) -> u64 {
        let bytes = match self {
            Figures::Records(counts) => size_of_val(&counts[..]),
            Figures::Sums(layers, counts) => {
                let layers: usize = layers.iter().map(|layer| size_of_val(&layer[..])).sum();
                layers + size_of_val(&counts[..])
            }
            Figures::LongSums(sums, counts) => size_of_val(&sums[..]) + size_of_val(&counts[..]),
            Figures::Rows(rows) => size_of_val(&rows[..]),
            Figures::Pairs(pairs) => size_of_val(&pairs[..]),
        };
        bytes as u64
    }

    /// Appends the figures of other cells to those of these cells.
    pub(super) fn followed_by(self, other: Figures, cells: u32) -> Figures {
        fn both<T>(mut one: Vec<T>, other: Vec<T>) -> Vec<T> {
            one.extend(other);
            one
        }
        match (self, other) {
            (Figures::Records(one), Figures::Records(other)) => Figures::Records(both(one, other)),
            (Figures::Sums(one, counts), Figures::Sums(other, more)) => {
                let layers = one.into_iter().zip(other).map(|(one, other)| both(one, other));
                Figures::Sums(layers.collect(), both(counts, more))
            }
            (Figures::LongSums(one, counts), Figures::LongSums(other, more)) => {
                Figures::LongSums(both(one, other), both(counts, more))
            }
            (Figures::Rows(one), Figures::Rows(other)) => Figures::Rows(both(one, other)),
            (Figures::Pairs(one), Figures::Pairs(other)) => {
                let moved = other.into_iter().map(|(cell, value)| (cell + cells, value)).collect();
                Figures::Pairs(both(one, moved))
            }
            // The figures of one source are of one kind.
            (one, _) => one,
        }
    }
}

/// The number of records of each cell.
pub(super) fn records_of(cell_of: &[u32], cells: usize) -> Vec<u64> {
    let counts = summed(cell_of, cells, |count: &mut u32, _| *count += 1);
    parallel::map(&counts, u64::from)
}

/// The values of the chosen cells, or of all.
fn of_chosen<A: Copy + Sync, T: Copy + Default + Send>(
    all: &[A],
    chosen: Option<&[u32]>,
    make: impl Fn(A) -> T + Sync,
) -> Vec<T> {
    match chosen {
        None => parallel::map(all, make),
        Some(chosen) => parallel::map(chosen, |cell| make(all[cell as usize])),
    }
}

/// Adds up over the rows of each cell. With few cells each thread has its own rows, with many its
/// own cells.
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
    // To start threads costs more than to add up so few rows.
    if rows < 2 * ROWS_A_THREAD || threads == 1 {
        return of_rows(0..rows);
    }
    // So many cells would not fit into the caches once for each thread, or merging them would take
    // longer than adding up. Each thread reads all rows instead, and adds up those of its own
    // cells.
    if cells > CELLS_FOR_THREADS || cells * threads > rows {
        let mut sums = vec![T::default(); cells];
        parallel::fill(&mut sums, cells.div_ceil(threads), |first, sums| {
            for (row, &cell) in cell_of.iter().enumerate() {
                // The subtraction wraps for the cells before its first one, which are then out of
                // bounds, as NONE is.
                if let Some(sum) = sums.get_mut((cell as usize).wrapping_sub(first)) {
                    add(sum, row);
                }
            }
        });
        return sums;
    }
    // The parts are added in their order, so that the result is the same in every run.
    let part = |n: usize| rows * n / threads..rows * (n + 1) / threads;
    let plus = |mut sums: Vec<T>, more: Vec<T>| {
        sums.iter_mut().zip(more).for_each(|(sum, more)| *sum += more);
        sums
    };
    let parts = parallel::of_numbers(threads, |n| of_rows(part(n)));
    parts.into_iter().reduce(plus).unwrap_or_default()
}

/// Adds up sums: `to` has the new cell of each one.
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

#[cfg(test)]
mod tests {
    use super::*;

    /// Few cells are added up by rows, many by cells.
    #[rstest::rstest]
    #[case::few(100)]
    #[case::many(CELLS_FOR_THREADS + 7)]
    fn cells_have_the_same_sums_whatever_the_threads(#[case] cells: usize) {
        let rows = 4 * ROWS_A_THREAD + 3;
        let cell =
            |row: usize| if row.is_multiple_of(11) { NONE } else { (row * 7_919 % cells) as u32 };
        let cell_of: Vec<u32> = (0..rows).map(cell).collect();
        let mut expected = vec![0_i64; cells];
        for (row, &cell) in cell_of.iter().enumerate().filter(|(_, cell)| **cell != NONE) {
            expected[cell as usize] += row as i64;
        }
        for threads in [1, 2, 7] {
            let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
            let sums = || summed(&cell_of, cells, |sum: &mut i64, row| *sum += row as i64);
            assert!(pool.install(sums) == expected, "{threads} threads");
        }
    }

    #[test]
    fn a_blank_row_follows_all_cells() {
        let mut places = Places::EachCell(2);
        places.push_blank();
        places.push_blank();
        let expected = [Place::Cell(0), Place::Cell(1), Place::Blank, Place::Blank];
        assert_eq!(places.iter().collect::<Vec<_>>(), expected);
    }

    #[test]
    fn chosen_cells_give_their_values_only() {
        assert_eq!(of_chosen(&[5, 6, 7], Some(&[0, 2]), i64::from), [5, 7]);
        assert_eq!(of_chosen(&[5, 6, 7], None, i64::from), [5, 6, 7]);
    }
}
