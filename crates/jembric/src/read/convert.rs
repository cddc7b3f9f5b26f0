//! Typed columns of a known length, filled by several threads: each region of the file has its own
//! part of every column.

use super::infer::{CellType, Conventions, boolean, decimal, float, integer, wide_decimal};
use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal64Array, Decimal128Array, Float64Array, Int64Array,
    NullArray, StringViewArray, TimestampMicrosecondArray, builder::make_view,
};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder, Buffer, NullBuffer, ScalarBuffer};
use jembric_core::calendar::{
    MICROS_PER_DAY, label,
    notation::{self, Form},
};
use std::sync::Arc;

/// The cells of a column at full length. They are zero, and so not in memory yet, until they are
/// filled.
pub(crate) enum ColumnBuilder {
    Nothing,
    Booleans(Vec<bool>),
    Numbers(Vec<i64>),
    Wide(Vec<i128>),
    Floats(Vec<f64>),
    Days(Vec<i32>),
    Texts(Vec<u128>),
}

/// The part of a column for one region.
pub(crate) enum ColumnPart<'a> {
    Nothing,
    Booleans(&'a mut [bool]),
    Numbers(&'a mut [i64]),
    Wide(&'a mut [i128]),
    Floats(&'a mut [f64]),
    Days(&'a mut [i32]),
    Texts(&'a mut [u128]),
}

impl ColumnBuilder {
    pub(crate) fn blank(kind: &CellType, rows: usize) -> ColumnBuilder {
        match kind {
            CellType::Nothing => ColumnBuilder::Nothing,
            CellType::Boolean => ColumnBuilder::Booleans(vec![false; rows]),
            CellType::Integer | CellType::Decimal { .. } | CellType::Moment { .. } => {
                ColumnBuilder::Numbers(vec![0; rows])
            }
            CellType::Given(given) if given.moments() => ColumnBuilder::Numbers(vec![0; rows]),
            CellType::WideDecimal { .. } => ColumnBuilder::Wide(vec![0; rows]),
            CellType::Float => ColumnBuilder::Floats(vec![0.0; rows]),
            CellType::Date(_) | CellType::Periods(_) | CellType::Given(_) => {
                ColumnBuilder::Days(vec![0; rows])
            }
            CellType::Text => ColumnBuilder::Texts(vec![0; rows]),
        }
    }

    /// Splits a column into parts of these lengths.
    pub(crate) fn stretches(&mut self, lengths: &[usize]) -> Vec<ColumnPart<'_>> {
        fn cut<'a, T>(
            mut rest: &'a mut [T],
            lengths: &[usize],
            stretch: fn(&'a mut [T]) -> ColumnPart<'a>,
        ) -> Vec<ColumnPart<'a>> {
            let mut stretches = Vec::with_capacity(lengths.len());
            for &length in lengths {
                let (first, others) = rest.split_at_mut(length);
                rest = others;
                stretches.push(stretch(first));
            }
            stretches
        }
        match self {
            ColumnBuilder::Nothing => lengths.iter().map(|_| ColumnPart::Nothing).collect(),
            ColumnBuilder::Booleans(cells) => cut(cells, lengths, ColumnPart::Booleans),
            ColumnBuilder::Numbers(cells) => cut(cells, lengths, ColumnPart::Numbers),
            ColumnBuilder::Wide(cells) => cut(cells, lengths, ColumnPart::Wide),
            ColumnBuilder::Floats(cells) => cut(cells, lengths, ColumnPart::Floats),
            ColumnBuilder::Days(cells) => cut(cells, lengths, ColumnPart::Days),
            ColumnBuilder::Texts(cells) => cut(cells, lengths, ColumnPart::Texts),
        }
    }

    /// Makes an Arrow array of a column of whose parts only the first rows were filled.
    pub(crate) fn finish(
        self,
        kind: &CellType,
        lengths: &[usize],
        filled: Vec<FilledColumn>,
    ) -> ArrayRef {
        let rows: Vec<usize> = filled.iter().map(|filled| filled.valid.len()).collect();
        let all: usize = rows.iter().sum();
        let nulls = nulls(&filled, all);
        let close = |places: &mut dyn FnMut(std::ops::Range<usize>, usize)| {
            let (mut from, mut to) = (0, 0);
            for (&length, &rows) in lengths.iter().zip(&rows) {
                if from != to {
                    places(from..from + rows, to);
                }
                (from, to) = (from + length, to + rows);
            }
        };
        fn closed<T: Copy>(
            mut cells: Vec<T>,
            all: usize,
            close: impl Fn(&mut dyn FnMut(std::ops::Range<usize>, usize)),
        ) -> Vec<T> {
            close(&mut |from, to| cells.copy_within(from, to));
            cells.truncate(all);
            cells
        }
        match self {
            ColumnBuilder::Nothing => Arc::new(NullArray::new(all)),
            ColumnBuilder::Booleans(cells) => {
                Arc::new(BooleanArray::new(BooleanBuffer::from(closed(cells, all, close)), nulls))
            }
            ColumnBuilder::Wide(cells) => {
                let places =
                    if let CellType::WideDecimal { places } = kind { *places as i8 } else { 0 };
                Arc::new(
                    Decimal128Array::new(closed(cells, all, close).into(), nulls)
                        .with_precision_and_scale(38, places)
                        .expect("38 digits and at most six places are a decimal"),
                )
            }
            ColumnBuilder::Floats(cells) => {
                Arc::new(Float64Array::new(closed(cells, all, close).into(), nulls))
            }
            ColumnBuilder::Days(cells) => {
                Arc::new(Date32Array::new(closed(cells, all, close).into(), nulls))
            }
            ColumnBuilder::Numbers(cells) => {
                let cells: ScalarBuffer<i64> = closed(cells, all, close).into();
                match kind {
                    CellType::Decimal { places } => Arc::new(
                        Decimal64Array::new(cells, nulls)
                            .with_precision_and_scale(18, *places as i8)
                            .expect("eighteen digits and at most six places are a decimal"),
                    ),
                    CellType::Integer => Arc::new(Int64Array::new(cells, nulls)),
                    CellType::Moment { instant: true, .. } => instants(cells, nulls),
                    CellType::Given(given) if given.instants() => instants(cells, nulls),
                    CellType::Given(_) => midnights(&cells, nulls.as_ref())
                        .unwrap_or_else(|| Arc::new(TimestampMicrosecondArray::new(cells, nulls))),
                    _ => Arc::new(TimestampMicrosecondArray::new(cells, nulls)),
                }
            }
            ColumnBuilder::Texts(views) => {
                let views = closed(views, all, close).into();
                let buffers: Vec<Buffer> =
                    filled.into_iter().map(|filled| Buffer::from_vec(filled.long_texts)).collect();
                Arc::new(StringViewArray::new(views, buffers, nulls))
            }
        }
    }
}

fn instants(micros: ScalarBuffer<i64>, nulls: Option<NullBuffer>) -> ArrayRef {
    Arc::new(TimestampMicrosecondArray::new(micros, nulls).with_timezone("UTC"))
}

/// Days, if every moment is a midnight.
fn midnights(micros: &ScalarBuffer<i64>, nulls: Option<&NullBuffer>) -> Option<ArrayRef> {
    // Missing cells are 0, which is a midnight.
    micros.iter().all(|micros| micros % MICROS_PER_DAY == 0).then(|| {
        let days = micros.iter().map(|micros| (micros / MICROS_PER_DAY) as i32).collect();
        Arc::new(Date32Array::new(days, nulls.cloned())) as ArrayRef
    })
}

/// The rows that have values; empty if all do.
fn nulls(filled: &[FilledColumn], all: usize) -> Option<NullBuffer> {
    let mut valid = BooleanBufferBuilder::new(all);
    filled.iter().for_each(|filled| valid.append_buffer(&filled.valid));
    Some(NullBuffer::new(valid.finish())).filter(|nulls| nulls.null_count() > 0)
}

/// The result of filling a part.
pub(crate) struct FilledColumn {
    valid: BooleanBuffer,
    long_texts: Vec<u8>,
    /// The notations of dates that occur.
    pub(crate) forms: u16,
    /// The number of cells that were not of the column's type, and the first three with their rows
    /// in the region.
    pub(crate) misfits: u64,
    pub(crate) first_misfits: Vec<(usize, String)>,
}

/// Fills a part with cells, a few rows at a time.
pub(crate) struct Filling<'a> {
    kind: &'a CellType,
    conventions: &'a Conventions,
    stretch: ColumnPart<'a>,
    /// The buffer of the array that holds the region's long texts.
    buffer: u32,
    long_texts: Vec<u8>,
    forms: u16,
    facts: RowFacts,
}

/// What is recorded about the rows, whatever their type.
struct RowFacts {
    rows: usize,
    valid: BooleanBufferBuilder,
    misfits: u64,
    first_misfits: Vec<(usize, String)>,
}

/// The cells of one column in some rows.
pub(crate) struct ColumnCells<'a, I> {
    pub(crate) text: &'a [u8],
    /// The beginning and end of each cell in the text.
    pub(crate) bounds: I,
    /// The texts that mean a missing value.
    pub(crate) missing: &'a [String],
}

impl<'a> Filling<'a> {
    pub(crate) fn new(
        kind: &'a CellType,
        conventions: &'a Conventions,
        stretch: ColumnPart<'a>,
        buffer: u32,
        most: usize,
    ) -> Filling<'a> {
        // Most cells have values, so only the others are marked.
        let mut valid = BooleanBufferBuilder::new(most);
        valid.append_n(most, true);
        let facts = RowFacts { rows: 0, valid, misfits: 0, first_misfits: Vec::new() };
        Filling { kind, conventions, stretch, buffer, long_texts: Vec::new(), forms: 0, facts }
    }

    /// Fills in the cells of the next rows.
    pub(crate) fn extend(&mut self, cells: ColumnCells<'_, impl Iterator<Item = (usize, usize)>>) {
        let Filling { kind, conventions, stretch, buffer, long_texts, forms, facts } = self;
        let comma = conventions.decimal_comma;
        match (stretch, *kind) {
            // Only text keeps its outer blanks.
            (ColumnPart::Texts(views), _) => facts.put(views, cells, |text, (start, end), _| {
                let whole = &text[start..end];
                short_view(text, start, whole.len())
                    .or_else(|| long_view(whole, *buffer, long_texts))
            }),
            (ColumnPart::Days(days), CellType::Date(order)) => {
                facts.put(days, cells, |_, _, cell| {
                    if let Some(day) = notation::iso_day(cell) {
                        *forms |= 1 << Form::YearDash as u16;
                        return Some(day.number());
                    }
                    let written = notation::read(cell)
                        .ok()
                        .filter(|written| written.time.unwrap_or(0) == 0)?;
                    *forms |= 1 << written.form as u16;
                    Some(written.day(*order).filter(|_| written.offset.is_none())?.number())
                })
            }
            (ColumnPart::Numbers(micros), CellType::Moment { order, instant }) => {
                facts.put(micros, cells, |_, _, cell| {
                    let written = notation::read(cell)
                        .ok()
                        .filter(|written| written.offset.is_some() == *instant)?;
                    *forms |= 1 << written.form as u16;
                    written.micros(*order).filter(in_years)
                })
            }
            (ColumnPart::Numbers(numbers), CellType::Integer) => {
                facts.put(numbers, cells, |_, _, cell| integer(cell))
            }
            (ColumnPart::Numbers(units), CellType::Decimal { places }) => {
                facts.put(units, cells, |_, _, cell| decimal(cell, *places, comma));
            }
            (ColumnPart::Wide(units), CellType::WideDecimal { places }) => {
                facts.put(units, cells, |_, _, cell| wide_decimal(cell, *places, comma));
            }
            (ColumnPart::Floats(floats), _) => {
                facts.put(floats, cells, |_, _, cell| float(cell, comma))
            }
            (ColumnPart::Booleans(booleans), _) => {
                facts.put(booleans, cells, |_, _, cell| boolean(cell))
            }
            (ColumnPart::Days(days), CellType::Periods(grain)) => {
                facts.put(days, cells, |_, _, cell| {
                    label(cell)
                        .filter(|(labelled, _)| labelled == grain)
                        .map(|(_, day)| day.number())
                })
            }
            (ColumnPart::Days(days), CellType::Given(given)) => {
                facts.put(days, cells, |_, _, cell| Some(given.day(cell)?.number()));
            }
            (ColumnPart::Numbers(micros), CellType::Given(given)) => {
                facts.put(micros, cells, |_, _, cell| given.micros(cell));
            }
            // A value where none was expected. No other type is stored in such a part.
            (
                ColumnPart::Nothing
                | ColumnPart::Days(_)
                | ColumnPart::Numbers(_)
                | ColumnPart::Wide(_),
                _,
            ) => facts.put::<u8>(&mut [], cells, |_, _, _| None),
        }
    }

    pub(crate) fn finish(self) -> FilledColumn {
        let Filling {
            long_texts,
            forms,
            facts: RowFacts { rows, mut valid, misfits, first_misfits },
            ..
        } = self;
        valid.truncate(rows);
        FilledColumn { valid: valid.finish(), long_texts, forms, misfits, first_misfits }
    }
}

impl RowFacts {
    /// Converts each cell, stores it in its row, and records missing values and cells that cannot
    /// be converted.
    #[inline]
    fn put<T>(
        &mut self,
        rows: &mut [T],
        cells: ColumnCells<'_, impl Iterator<Item = (usize, usize)>>,
        mut read: impl FnMut(&[u8], (usize, usize), &[u8]) -> Option<T>,
    ) {
        for (start, end) in cells.bounds {
            let whole = &cells.text[start..end];
            match value(whole, cells.missing) {
                None => self.valid.set_bit(self.rows, false),
                Some(cell) => match read(cells.text, (start, end), cell) {
                    Some(read) => rows[self.rows] = read,
                    None => self.misfit(whole),
                },
            }
            self.rows += 1;
        }
    }

    #[cold]
    fn misfit(&mut self, cell: &[u8]) {
        self.valid.set_bit(self.rows, false);
        self.misfits += 1;
        if self.first_misfits.len() < 3 {
            self.first_misfits.push((self.rows, String::from_utf8_lossy(cell).into_owned()));
        }
    }
}

/// The view of a text of at most twelve bytes, made from the sixteen bytes that begin with it, if
/// there are that many.
#[inline]
fn short_view(text: &[u8], start: usize, len: usize) -> Option<u128> {
    let sixteen = text.get(start..)?.first_chunk::<16>().filter(|_| len <= 12)?;
    Some((u128::from_le_bytes(*sixteen) & ((1 << (8 * len)) - 1)) << 32 | len as u128)
}

/// The view of any other text. A longer one is stored in the buffer.
fn long_view(text: &[u8], buffer: u32, kept: &mut Vec<u8>) -> Option<u128> {
    if text.len() <= 12 {
        return Some(make_view(text, 0, 0));
    }
    let offset = u32::try_from(kept.len()).ok().filter(|_| u32::try_from(text.len()).is_ok())?;
    kept.extend_from_slice(text);
    Some(make_view(text, buffer, offset))
}

/// A cell without outer blanks, if it has a value.
#[inline]
pub(crate) fn value<'a>(cell: &'a [u8], missing: &[String]) -> Option<&'a [u8]> {
    let (Some(first), Some(last)) = (cell.first(), cell.last()) else { return None };
    let cell = if *first > b' ' && *last > b' ' { cell } else { cell.trim_ascii() };
    let none = cell.is_empty()
        || (!missing.is_empty() && missing.iter().any(|mark| mark.as_bytes() == cell));
    (!none).then_some(cell)
}

fn in_years(micros: &i64) -> bool {
    jembric_core::calendar::Moment::from_micros(*micros).is_some()
}
