//! Typed columns of a known length, filled by many threads: each region of the file has its own stretch of every column.

use super::{
    reading::value,
    survey::{Conventions, Formatted, Kind, boolean, decimal, float, integer},
};
use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, Decimal64Array, Float64Array, Int64Array, NullArray,
    StringViewArray, TimestampMicrosecondArray, builder::make_view,
};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder, Buffer, NullBuffer, ScalarBuffer};
use jembric_core::calendar::{
    Day, MICROS_PER_DAY,
    notation::{self, Form},
};
use std::sync::Arc;

/// A column's cells at their full length, blank (and so not yet in memory) until they are filled.
pub(super) enum Column {
    Nothing,
    Booleans(Vec<bool>),
    Numbers(Vec<i64>),
    Floats(Vec<f64>),
    Days(Vec<i32>),
    Texts(Vec<u128>),
}

/// A region's stretch of a column.
pub(super) enum Stretch<'a> {
    Nothing,
    Booleans(&'a mut [bool]),
    Numbers(&'a mut [i64]),
    Floats(&'a mut [f64]),
    Days(&'a mut [i32]),
    Texts(&'a mut [u128]),
}

impl Column {
    pub(super) fn blank(kind: &Kind, rows: usize) -> Column {
        match kind {
            Kind::Nothing => Column::Nothing,
            Kind::Boolean => Column::Booleans(vec![false; rows]),
            Kind::Integer | Kind::Decimal { .. } | Kind::Moment { .. } => Column::Numbers(vec![0; rows]),
            Kind::Formatted(Formatted { moment: true, .. }) => Column::Numbers(vec![0; rows]),
            Kind::Float => Column::Floats(vec![0.0; rows]),
            Kind::Date(_) | Kind::Formatted(_) => Column::Days(vec![0; rows]),
            Kind::Text => Column::Texts(vec![0; rows]),
        }
    }

    /// Stretches of these lengths, one after the other.
    pub(super) fn stretches(&mut self, lengths: &[usize]) -> Vec<Stretch<'_>> {
        fn cut<'a, T>(
            mut rest: &'a mut [T],
            lengths: &[usize],
            stretch: fn(&'a mut [T]) -> Stretch<'a>,
        ) -> Vec<Stretch<'a>> {
            let mut stretches = Vec::with_capacity(lengths.len());
            for &length in lengths {
                let (first, others) = rest.split_at_mut(length);
                rest = others;
                stretches.push(stretch(first));
            }
            stretches
        }
        match self {
            Column::Nothing => lengths.iter().map(|_| Stretch::Nothing).collect(),
            Column::Booleans(cells) => cut(cells, lengths, Stretch::Booleans),
            Column::Numbers(cells) => cut(cells, lengths, Stretch::Numbers),
            Column::Floats(cells) => cut(cells, lengths, Stretch::Floats),
            Column::Days(cells) => cut(cells, lengths, Stretch::Days),
            Column::Texts(cells) => cut(cells, lengths, Stretch::Texts),
        }
    }

    /// The column as an Arrow array, of whose stretches only the first rows were filled.
    pub(super) fn finish(self, kind: &Kind, lengths: &[usize], filled: Vec<Filled>) -> ArrayRef {
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
            Column::Nothing => Arc::new(NullArray::new(all)),
            Column::Booleans(cells) => {
                Arc::new(BooleanArray::new(BooleanBuffer::from(closed(cells, all, close)), nulls))
            }
            Column::Floats(cells) => Arc::new(Float64Array::new(closed(cells, all, close).into(), nulls)),
            Column::Days(cells) => Arc::new(Date32Array::new(closed(cells, all, close).into(), nulls)),
            Column::Numbers(cells) => {
                let cells: ScalarBuffer<i64> = closed(cells, all, close).into();
                match kind {
                    Kind::Decimal { places } => Arc::new(
                        Decimal64Array::new(cells, nulls)
                            .with_precision_and_scale(18, *places as i8)
                            .expect("eighteen digits and at most six places are a decimal"),
                    ),
                    Kind::Integer => Arc::new(Int64Array::new(cells, nulls)),
                    Kind::Moment { instant: true, .. } | Kind::Formatted(Formatted { instant: true, .. }) => {
                        Arc::new(TimestampMicrosecondArray::new(cells, nulls).with_timezone("UTC"))
                    }
                    _ => Arc::new(TimestampMicrosecondArray::new(cells, nulls)),
                }
            }
            Column::Texts(views) => {
                let views = closed(views, all, close).into();
                let buffers: Vec<Buffer> =
                    filled.into_iter().map(|filled| Buffer::from_vec(filled.long_texts)).collect();
                Arc::new(StringViewArray::new(views, buffers, nulls))
            }
        }
    }
}

/// Which rows have values; nothing where all do.
fn nulls(filled: &[Filled], all: usize) -> Option<NullBuffer> {
    let mut valid = BooleanBufferBuilder::new(all);
    filled.iter().for_each(|filled| valid.append_buffer(&filled.valid));
    Some(NullBuffer::new(valid.finish())).filter(|nulls| nulls.null_count() > 0)
}

/// What filling a stretch leaves behind.
pub(super) struct Filled {
    valid: BooleanBuffer,
    long_texts: Vec<u8>,
    /// The notations of dates that were met.
    pub(super) forms: u16,
    /// Cells that were not of the column's kind; the first three, each with its row in the region.
    pub(super) misfits: u64,
    pub(super) first_misfits: Vec<(usize, String)>,
}

/// Fills a stretch with cells, row after row.
pub(super) struct Filling<'a> {
    kind: &'a Kind,
    conventions: &'a Conventions,
    stretch: Stretch<'a>,
    /// Which of the array's buffers holds the region's long texts.
    buffer: u32,
    rows: usize,
    valid: BooleanBufferBuilder,
    long_texts: Vec<u8>,
    forms: u16,
    misfits: u64,
    first_misfits: Vec<(usize, String)>,
}

impl<'a> Filling<'a> {
    pub(super) fn new(
        kind: &'a Kind,
        conventions: &'a Conventions,
        stretch: Stretch<'a>,
        buffer: u32,
        most: usize,
    ) -> Filling<'a> {
        let (rows, long_texts, forms, misfits) = (0, Vec::new(), 0, 0);
        let (valid, first_misfits) = (BooleanBufferBuilder::new(most), Vec::new());
        Filling { kind, conventions, stretch, buffer, rows, valid, long_texts, forms, misfits, first_misfits }
    }

    /// The next row's cell; one without a value stays blank.
    #[inline]
    pub(super) fn push(&mut self, whole: &[u8], missing: &[String]) {
        let row = self.rows;
        self.rows += 1;
        let Some(trimmed) = value(whole, missing) else {
            self.valid.append(false);
            return;
        };
        // Only text keeps its outer blanks.
        let cell = if matches!(self.stretch, Stretch::Texts(_)) { whole } else { trimmed };
        let fits = self.fill(row, cell).is_some();
        self.valid.append(fits);
        if !fits {
            self.misfits += 1;
            if self.first_misfits.len() < 3 {
                self.first_misfits.push((row, String::from_utf8_lossy(cell).into_owned()));
            }
        }
    }

    #[inline]
    fn fill(&mut self, row: usize, cell: &[u8]) -> Option<()> {
        let comma = self.conventions.decimal_comma;
        match (&mut self.stretch, self.kind) {
            (Stretch::Texts(views), _) => {
                views[row] = if cell.len() <= 12 {
                    make_view(cell, 0, 0)
                } else {
                    let offset = u32::try_from(self.long_texts.len()).ok()?;
                    self.long_texts.extend_from_slice(cell);
                    make_view(cell, self.buffer, offset)
                };
            }
            (Stretch::Days(days), Kind::Date(order)) => {
                let day = match notation::iso_day(cell) {
                    Some(day) => {
                        self.forms |= 1 << Form::YearDash as u16;
                        day
                    }
                    None => {
                        let written =
                            notation::read(cell).ok().filter(|written| written.time.unwrap_or(0) == 0)?;
                        self.forms |= 1 << written.form as u16;
                        written.day(*order).filter(|_| written.offset.is_none())?
                    }
                };
                days[row] = day.number();
            }
            (Stretch::Numbers(cells), Kind::Moment { order, instant }) => {
                let written =
                    notation::read(cell).ok().filter(|written| written.offset.is_some() == *instant)?;
                self.forms |= 1 << written.form as u16;
                cells[row] = written.micros(*order).filter(in_years)?;
            }
            (Stretch::Numbers(cells), Kind::Integer) => cells[row] = integer(cell)?,
            (Stretch::Numbers(cells), Kind::Decimal { places }) => {
                cells[row] = decimal(cell, *places, comma)?
            }
            (Stretch::Floats(cells), _) => cells[row] = float(cell, comma)?,
            (Stretch::Booleans(cells), _) => cells[row] = boolean(cell)?,
            (Stretch::Days(days), Kind::Formatted(format)) => days[row] = format.day(cell)?.number(),
            (Stretch::Numbers(cells), Kind::Formatted(format)) => {
                cells[row] = format.micros(cell).filter(in_years)?
            }
            // A value where none was expected, or a kind that is not kept so.
            _ => return None,
        }
        Some(())
    }

    pub(super) fn finish(mut self) -> Filled {
        let Filling { long_texts, forms, misfits, first_misfits, .. } = self;
        Filled { valid: self.valid.finish(), long_texts, forms, misfits, first_misfits }
    }
}

fn in_years(micros: &i64) -> bool {
    jembric_core::calendar::Moment::from_micros(*micros).is_some()
}

impl Formatted {
    fn parsed(&self, cell: &[u8]) -> Option<jiff::fmt::strtime::BrokenDownTime> {
        let mut parsed = jiff::fmt::strtime::parse(&self.format, cell).ok()?;
        if let Some(century) = self.century {
            let year = parsed.year()?;
            parsed.set_year(Some(century + (year - century).rem_euclid(100))).ok()?;
        }
        Some(parsed)
    }

    fn day(&self, cell: &[u8]) -> Option<Day> {
        let date = self.parsed(cell)?.to_date().ok()?;
        Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32)
    }

    fn micros(&self, cell: &[u8]) -> Option<i64> {
        let parsed = self.parsed(cell)?;
        if self.instant {
            return Some(parsed.to_timestamp().ok()?.as_microsecond());
        }
        let (date, time) = (parsed.to_date().ok()?, parsed.to_time().ok()?);
        let day = Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32)?;
        let since_midnight = time.duration_since(jiff::civil::Time::midnight()).as_micros() as i64;
        Some(i64::from(day.number()) * MICROS_PER_DAY + since_midnight)
    }
}
