//! [`Fill`]: how a column is filled. All rules except interpolation choose for each cell the row
//! that its value comes from, and the column is gathered from these rows.

use super::{
    FillRule, FilledPlan,
    cells::{Laid, SeriesCells},
};
use crate::{
    entities::Entities,
    error::{Error, Result},
    gather::{NONE, gather, of_stretches, repeated, stretched},
    ledger::Ledger,
    measure::Measure,
    parallel,
    table::Table,
    written::read_as,
};
use arrow_array::{
    Array, ArrayRef, ArrowPrimitiveType, BooleanArray, Float64Array, Int64Array, PrimitiveArray,
    StringViewArray, cast::AsArray, downcast_primitive_array, types::*,
};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder, NullBuffer};
use arrow_cast::cast;
use arrow_schema::{DataType, Field};
use arrow_select::concat::concat;
use std::{
    ops,
    sync::{
        Arc, Mutex, PoisonError,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

enum Rule {
    Blank,
    Carry {
        limit: u32,
    },
    /// Values as whole units, in which interpolation is exact before it is rounded.
    Linear(Measure),
    /// The value that stands after the last row of the column.
    Set,
    /// The row of each entity from which its value comes.
    Keep(Vec<u32>),
}

/// A column, and how it is filled.
pub(super) struct Fill {
    /// Its place among the columns.
    column: usize,
    field: Field,
    array: ArrayRef,
    rule: Rule,
    /// Whether added rows, and whether recorded missing values are filled.
    fills: [bool; 2],
    filled: [AtomicU64; 2],
    left: [AtomicU64; 2],
}

impl SeriesCells {
    /// The result for a group of entities.
    pub(super) fn answer(&self, places: ops::Range<usize>, fills: &mut [Fill]) -> Result<Table> {
        let needs_rows = self.mark.is_some() || fills.iter().any(Fill::needs_rows);
        let laid = self.laid(places.clone(), needs_rows)?;
        let keys = self.keys.slice(places.start, places.len());
        // Keys and columns depend only on the cells, so all are made at once.
        let (keys, filled) = rayon::join(
            || repeated(&keys, &laid.starts),
            || parallel::of_parts(fills, |_, fill| fill.column(self, &laid)),
        );
        let keys = keys?;
        let mut columns: Vec<Option<(Field, ArrayRef)>> = vec![None; self.table.names().len()];
        for (&column, key) in self.key_columns.iter().zip(keys.fields()) {
            columns[column] = Some(key);
        }
        for made in filled {
            let (column, field, array) = made?;
            columns[column] = Some((field, array));
        }
        let date = self.table.fields().nth(self.date_column);
        let typed = |field: Field| field.with_data_type(laid.dates.data_type().clone());
        columns[self.date_column] = date.map(|(field, _)| (typed(field), laid.dates.clone()));
        let mark = self.mark.as_ref().map(|name| {
            let rows = &laid.rows;
            let added = BooleanBuffer::collect_bool(rows.len(), |cell| rows[cell] == NONE);
            let array: ArrayRef = Arc::new(BooleanArray::new(added, None));
            (Field::new(name, array.data_type().clone(), true), array)
        });
        Table::of_known(columns.into_iter().flatten().chain(mark))
    }
}

/// Whether a gap is an added row or a missing value in a recorded row.
#[derive(Clone, Copy)]
enum Hole {
    Added,
    Blank,
}

impl Fill {
    /// The fills of all columns except the date and the keys.
    pub(super) fn choose_all(filled: &FilledPlan, cells: &SeriesCells) -> Result<Vec<Fill>> {
        let (fills_blanks, sets_blanks) = (filled.fills_blanks, filled.sets_blanks);
        let mut fills = Vec::new();
        for (column, (field, array)) in cells.table.fields().enumerate() {
            if cells.is_key_or_date(column) {
                continue;
            }
            let ruled = filled.rules[column].as_ref();
            let new_name = ruled.map_or(field.name(), |(name, _)| name).clone();
            let (array, rule, fills_which) = match ruled.map(|(_, rule)| rule) {
                Some(FillRule::Carry { limit }) => {
                    (array, Rule::Carry { limit: *limit }, [true, fills_blanks])
                }
                Some(FillRule::Linear) => {
                    let measure = Measure::from_column(&cells.table, column)?;
                    (cast(&array, &DataType::Float64)?, Rule::Linear(measure), [true, fills_blanks])
                }
                Some(FillRule::KeepWith) => {
                    let rows = kept_with(cells, field.name(), &array)?;
                    (array, Rule::Keep(rows), [true, false])
                }
                Some(FillRule::Zero) => {
                    (with_value(&array, zero(&field)?)?, Rule::Set, [true, sets_blanks])
                }
                Some(FillRule::Set(text)) => {
                    let value = read_as("set", &field, StringViewArray::from(vec![text.as_str()]))?;
                    (with_value(&array, value)?, Rule::Set, [true, sets_blanks])
                }
                None => (array, Rule::Blank, [false; 2]),
            };
            let field = match rule {
                Rule::Linear(_) => Field::new(new_name, DataType::Float64, true),
                _ => field.with_name(new_name).with_data_type(array.data_type().clone()),
            };
            let none = || [AtomicU64::new(0), AtomicU64::new(0)];
            fills.push(Fill {
                column,
                field,
                array,
                rule,
                fills: fills_which,
                filled: none(),
                left: none(),
            });
        }
        Ok(fills)
    }

    /// Whether the column is made from the record of each cell.
    fn needs_rows(&self) -> bool {
        matches!(self.rule, Rule::Blank | Rule::Linear(_)) || self.array.logical_null_count() > 0
    }

    /// The column for some cells, and its place among the columns.
    pub(super) fn column(
        &mut self,
        cells: &SeriesCells,
        laid: &Laid,
    ) -> Result<(usize, Field, ArrayRef)> {
        let array = match &self.rule {
            Rule::Linear(measure) => self.line(cells, laid, measure),
            _ => self.gathered(cells, laid)?,
        };
        Ok((self.column, self.field.clone(), array))
    }

    /// Counts a gap, and returns whether it is filled.
    fn fills(&self, hole: Hole, can_be: bool, counts: &mut [[u64; 2]; 2]) -> bool {
        let fills = self.fills[hole as usize] && can_be;
        // The ledger counts what is filled and what is left, for added rows and for missing values.
        counts[usize::from(!fills)][hole as usize] += 1;
        fills
    }

    fn count(&self, counts: [[u64; 2]; 2]) {
        for (totals, counts) in [&self.filled, &self.left].into_iter().zip(counts) {
            totals.iter().zip(counts).for_each(|(total, count)| {
                total.fetch_add(count, Relaxed);
            });
        }
    }

    fn gathered(&self, cells: &SeriesCells, laid: &Laid) -> Result<ArrayRef> {
        if let Rule::Blank = self.rule {
            return gather(&self.array, laid.rows.clone());
        }
        // With missing values in between, each cell looks for its value. Without any, whole spans
        // take theirs from one row.
        let Some(valid) = self.array.logical_nulls().filter(|valid| valid.null_count() > 0) else {
            return self.without_blanks(cells, laid);
        };
        let rows = stretched(&laid.starts, |n, own: &mut [u32]| {
            let rows = &laid.rows[laid.starts[n] as usize..];
            self.fill(own, laid.entity + n, cells, &valid, rows);
        });
        gather(&self.array, rows)
    }

    /// The column if no recorded value is missing. Values of one width are written directly.
    fn without_blanks(&self, cells: &SeriesCells, laid: &Laid) -> Result<ArrayRef> {
        let array = &self.array;
        Ok(downcast_primitive_array! {
            array => Arc::new(self.of_one_width(array, cells, laid)),
            _ => {
                let rows = of_stretches(&laid.starts, |n, own| {
                    let (length, place) = (own.len(), laid.entity + n);
                    self.spans(length, place, cells, |span, row| own.repeat(row, span.len()));
                });
                gather(array, rows)?
            }
        })
    }

    fn of_one_width<T: ArrowPrimitiveType>(
        &self,
        array: &PrimitiveArray<T>,
        cells: &SeriesCells,
        laid: &Laid,
    ) -> PrimitiveArray<T> {
        let from = array.values();
        // Few spans are left empty, so the threads collect these in one list.
        let holes: Mutex<Vec<ops::Range<usize>>> = Mutex::default();
        let values = of_stretches(&laid.starts, |n, own| {
            let start = laid.starts[n] as usize;
            let mut left = Vec::new();
            self.spans(own.len(), laid.entity + n, cells, |span, row| match row {
                NONE => {
                    own.repeat(T::Native::default(), span.len());
                    left.push(start + span.start..start + span.end);
                }
                row => own.repeat(from[row as usize], span.len()),
            });
            if !left.is_empty() {
                holes.lock().unwrap_or_else(PoisonError::into_inner).append(&mut left);
            }
        });
        let holes = holes.into_inner().unwrap_or_else(PoisonError::into_inner);
        let nulls = (!holes.is_empty()).then(|| NullBuffer::new(without(values.len(), holes)));
        PrimitiveArray::<T>::new(values.into(), nulls).with_data_type(array.data_type().clone())
    }

    /// The spans of an entity's cells that take their value from one row, or from none, going from
    /// record to record. No recorded value is missing.
    fn spans(
        &self,
        length: usize,
        place: usize,
        cells: &SeriesCells,
        mut write: impl FnMut(ops::Range<usize>, u32),
    ) {
        // A carried value reaches over a number of cells. Other rules fill every cell from one
        // place, which has no reach.
        let (filling, reach) = match &self.rule {
            Rule::Carry { limit } => (NONE, *limit as usize),
            rule => (self.filling(rule, place, cells), 0),
        };
        // The cells before this one are written.
        let mut done = 0;
        let (mut there, mut carried) = (0, 0);
        // A value from before the range is carried into it, as far as the limit reaches from the
        // value's own period.
        if let (Rule::Carry { .. }, Some(row)) = (&self.rule, cells.beside(place).0.next()) {
            let first = cells.of_entity(place).next().map_or(length, |(cell, _)| cell);
            let periods_before = cells.first_period(place).abs_diff(cells.period(row)) as usize;
            done = first.min(reach.saturating_add(1).saturating_sub(periods_before));
            write(0..done, row as u32);
            carried += done;
        }
        let mut records = cells.of_entity(place).peekable();
        while let Some((cell, row)) = records.next() {
            if done < cell {
                write(done..cell, filling);
            }
            let next = records.peek().map_or(length, |&(next, _)| next);
            done = next.min(cell.saturating_add(reach).saturating_add(1));
            write(cell..done, row as u32);
            there += 1;
            carried += done - cell - 1;
        }
        if done < length {
            write(done..length, filling);
        }
        let holes = (length - there) as u64;
        let filled = if filling == NONE { carried as u64 } else { holes };
        self.count([[filled, 0], [holes - filled, 0]]);
    }

    /// The same if values are missing, going from cell to cell.
    fn fill(
        &self,
        own: &mut [u32],
        place: usize,
        cells: &SeriesCells,
        valid: &NullBuffer,
        rows: &[u32],
    ) {
        let filling = self.filling(&self.rule, place, cells);
        let mut counts = [[0; 2]; 2];
        // The last value and its period, counted from the first cell.
        let outside = |row: usize| {
            (row as u32, i64::from(cells.period(row)) - i64::from(cells.first_period(place)))
        };
        let mut last = match self.rule {
            Rule::Carry { .. } => {
                cells.beside(place).0.find(|&row| valid.is_valid(row)).map(outside)
            }
            _ => None,
        };
        for (cell, (from, &row)) in own.iter_mut().zip(rows).enumerate() {
            if row != NONE && valid.is_valid(row as usize) {
                last = Some((row, cell as i64));
                *from = row;
                continue;
            }
            let hole = if row == NONE { Hole::Added } else { Hole::Blank };
            let filling = match &self.rule {
                Rule::Carry { limit } => {
                    let near = last.filter(|&(_, from)| cell as i64 - from <= i64::from(*limit));
                    near.map_or(NONE, |(row, _)| row)
                }
                _ => filling,
            };
            let is_filled = self.fills(hole, filling != NONE, &mut counts);
            *from = if is_filled { filling } else { NONE };
        }
        self.count(counts);
    }

    /// The row that fills all gaps of an entity, if it is one row.
    fn filling(&self, rule: &Rule, place: usize, cells: &SeriesCells) -> u32 {
        match rule {
            Rule::Set => self.array.len() as u32 - 1,
            Rule::Keep(rows) => rows[cells.entity(place)],
            _ => NONE,
        }
    }

    /// Interpolates linearly between the values on both sides of a gap.
    fn line(&self, cells: &SeriesCells, laid: &Laid, measure: &Measure) -> ArrayRef {
        let values = self.array.as_primitive::<Float64Type>();
        let known = |row: u32| row != NONE && values.is_valid(row as usize);
        let date = |cell: usize| match laid.dates.as_primitive_opt::<Date32Type>() {
            Some(days) => i64::from(days.value(cell)),
            None => laid.dates.as_primitive::<TimestampMicrosecondType>().value(cell),
        };
        // The values at both ends are weighted by their distance.
        let between = |rows: [u32; 2], [before, after]: [i64; 2]| {
            let [one, other] = rows.map(|row| values.value(row as usize));
            if one == other {
                return one;
            }
            let rows = rows.map(|row| row as usize);
            let mean = measure.weighted(rows, [one, other], [after, before]);
            mean.clamp(one.min(other), one.max(other))
        };
        let line = stretched(&laid.starts, |n, own: &mut [Option<f64>]| {
            let start = laid.starts[n] as usize;
            let rows = &laid.rows[start..][..own.len()];
            let mut counts = [[0; 2]; 2];
            // The values on both sides of a gap, with their dates. At the ends of the range they
            // may lie outside it.
            let (mut before, mut after) = cells.beside(laid.entity + n);
            let dated = |row: usize| (cells.date(row), row as u32);
            let mut left = before.find(|&row| known(row as u32)).map(dated);
            let mut hole_from = 0;
            for cell in 0..=own.len() {
                let value = rows.get(cell).copied().filter(|&row| known(row));
                if value.is_none() && cell < own.len() {
                    continue;
                }
                let here = match value {
                    Some(row) => Some((date(start + cell), row)),
                    None => after.find(|&row| known(row as u32)).map(dated),
                };
                for hole in hole_from..cell {
                    let kind = if rows[hole] == NONE { Hole::Added } else { Hole::Blank };
                    let ends = left.zip(here);
                    if self.fills(kind, ends.is_some(), &mut counts) {
                        let at = date(start + hole);
                        own[hole] = ends.map(|((from, one), (to, other))| {
                            // A value from the part of a period outside the range may be dated
                            // inside it.
                            let at = at.clamp(from, to);
                            between([one, other], [at - from, to - at])
                        });
                    }
                }
                if let Some(row) = value {
                    own[cell] = Some(values.value(row as usize));
                    left = here;
                }
                hole_from = cell + 1;
            }
            self.count(counts);
        });
        Arc::new(line.into_iter().collect::<Float64Array>())
    }

    /// Counts what was filled by the rule and what was left, separately for both kinds of gap.
    pub(super) fn account(&self, ledger: &mut Ledger) {
        let name = self.field.name();
        let done = match self.rule {
            Rule::Blank => return,
            Rule::Carry { .. } => ["carried into added rows", "carried into blanks"],
            Rule::Linear(_) => ["interpolated in added rows", "interpolated in blanks"],
            Rule::Set => ["set in added rows", "set in blanks"],
            Rule::Keep(_) => ["kept in added rows", "kept in blanks"],
        };
        let left = ["left blank in added rows", "left blank as recorded"];
        for (counts, names) in [(&self.filled, done), (&self.left, left)] {
            for (count, what) in counts.iter().zip(names) {
                ledger.note(format!("values of {name} {what}"), count.load(Relaxed));
            }
        }
    }
}

/// A column with one more value after its last row.
fn with_value(array: &ArrayRef, value: ArrayRef) -> Result<ArrayRef> {
    let alike = if array.data_type() == value.data_type() {
        array.clone()
    } else {
        cast(array, value.data_type())?
    };
    Ok(concat(&[alike.as_ref(), value.as_ref()])?)
}

/// The value 0 for a column.
fn zero(field: &Field) -> Result<ArrayRef> {
    let kind =
        if *field.data_type() == DataType::Null { &DataType::Int64 } else { field.data_type() };
    Ok(cast(&Int64Array::from(vec![0]), kind)?)
}

/// The first row of each entity with a value in a column that is constant for each entity.
fn kept_with(cells: &SeriesCells, name: &str, array: &ArrayRef) -> Result<Vec<u32>> {
    let mut rows = vec![NONE; cells.entities()];
    if *array.data_type() == DataType::Null {
        return Ok(rows);
    }
    let same = arrow_ord::ord::make_comparator(array, array, arrow_schema::SortOptions::default())?;
    let mut varying: Option<(usize, usize, usize)> = None;
    for (row, &entity) in cells.ids.iter().enumerate() {
        if entity == Entities::NONE || array.is_null(row) {
            continue;
        }
        let first = &mut rows[entity as usize];
        if *first == NONE {
            *first = row as u32;
        } else if same(*first as usize, row).is_ne() {
            let place = cells.place(entity as usize);
            if varying.is_none_or(|(other, ..)| place < other) {
                varying = Some((place, *first as usize, row));
            }
        }
    }
    match varying {
        None => Ok(rows),
        Some((place, one, other)) => {
            let entity = cells.entity_text(place)?;
            let entity = entity.strip_suffix(", ").unwrap_or("the table");
            Err(Error::Varies {
                setting: "keep-with",
                column: name.to_owned(),
                entity: entity.to_owned(),
                one: cells.table.cell_text(name, one)?,
                other: cells.table.cell_text(name, other)?,
            })
        }
    }
}

/// All cells but those in holes.
fn without(cells: usize, mut holes: Vec<ops::Range<usize>>) -> BooleanBuffer {
    holes.sort_unstable_by_key(|hole| hole.start);
    let mut valid = BooleanBufferBuilder::new(cells);
    for hole in holes {
        valid.append_n(hole.start - valid.len(), true);
        valid.append_n(hole.len(), false);
    }
    valid.append_n(cells - valid.len(), true);
    valid.finish()
}
