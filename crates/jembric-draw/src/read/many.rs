//! Reads many points in one pass: the extremes of each part of the axis, or the cells of a grid
//! that have a point.
//!
//! The axis is divided into about as many parts as the picture has pixels. A pass over the rows
//! keeps the least and the greatest value of each series in each part. All threads work on
//! stretches of rows with arrays of their own, which are merged. The order of the rows does not
//! matter, because only extremes are kept.

use super::{Places, Reading, along::along_of};
use crate::{
    content::{Along, CalendarCells, Content, Extremes, Marks, Panel, Up},
    kinds::Form,
    numbers::Numbers,
};
use arrow_array::{Array, PrimitiveArray, types::Date32Type};
use arrow_buffer::NullBuffer;
use jembric_core::Result;
use rayon::prelude::*;

/// The rows that a thread takes at a time.
const STRETCH: usize = 1 << 16;
/// The most parts of an axis: they are pixels of a screen, and keep the file small.
const MOST_PARTS: usize = 2_000;
/// The most cells of all grids together.
const MOST_CELLS: usize = 120_000;

/// The width of the axis in parts: about the pixels between the labels and the right margin.
fn parts(reading: &Reading<'_>) -> usize {
    (reading.draw.size.width.saturating_sub(80) as usize).clamp(80, MOST_PARTS)
}

/// The slots of the series of all panels. Those of filled rows stand behind those of the others.
struct Slots {
    panels: usize,
    series: usize,
    has_marks: bool,
}

impl Slots {
    fn new(reading: &Reading<'_>) -> Slots {
        Slots {
            panels: reading.panels.count(),
            series: reading.series_names().len(),
            has_marks: reading.chosen.mark.is_some(),
        }
    }

    fn count(&self) -> usize {
        self.panels * self.series * if self.has_marks { 2 } else { 1 }
    }

    #[inline]
    fn slot(&self, reading: &Reading<'_>, row: usize, figure: usize) -> usize {
        let of_panel = reading.panels.group(row) * self.series + reading.series_of(row, figure);
        if self.has_marks && reading.is_marked(row) {
            of_panel + self.panels * self.series
        } else {
            of_panel
        }
    }
}

/// The columns of the figures.
fn columns<'a>(reading: &Reading<'a>) -> Vec<Numbers<'a>> {
    let table = reading.table;
    let of = reading.chosen.of.iter();
    of.map(|of| Numbers::from_array(&table.columns()[of.place])).collect()
}

/// The dots of each panel, as cells of a grid that are filled or not.
fn dots(
    reading: &Reading<'_>,
    places: &Places<'_>,
    along: &Along,
    slots: &Slots,
    (low, high): (f64, f64),
) -> Vec<Marks> {
    // A second pass fills the grid, whose height is that of the values.
    let (panels, series) = (slots.panels, slots.series);
    let (columns_of, rows_of) = grid(reading, slots.count());
    let share = share_of(places, along);
    let mut filled = vec![false; slots.count() * columns_of * rows_of];
    for (figure, numbers) in columns(reading).iter().enumerate() {
        for row in (0..reading.table.rows()).filter(|&row| reading.is_drawn(row)) {
            let (value, share) = (numbers.value(row), share(row));
            if value.is_finite() && share.is_finite() {
                let column = cell(share, columns_of);
                let up = if high > low { (value - low) / (high - low) } else { 0.5 };
                let place = (slots.slot(reading, row, figure) * columns_of + column) * rows_of;
                filled[place + cell(up, rows_of)] = true;
            }
        }
    }
    let grids = filled.chunks(columns_of * rows_of).enumerate();
    let grids = grids.map(|(slot, filled)| CalendarCells {
        series: slot % series,
        columns: columns_of,
        rows: rows_of,
        filled: filled.to_vec(),
    });
    let grids: Vec<CalendarCells> = grids.collect();
    let of_panel = |panel: usize| {
        let of_panel =
            grids.iter().enumerate().filter(|(slot, _)| (slot / series) % panels == panel);
        Marks::Cells(of_panel.map(|(_, cells)| cells.clone()).collect())
    };
    (0..panels).map(of_panel).collect()
}

pub(super) fn content(reading: &mut Reading<'_>, places: &Places<'_>) -> Result<Content> {
    let table = reading.table;
    let all_drawn = reading.left_out.count_set_bits() == 0;
    let along = match (places, all_drawn) {
        // The extremes of the dates alone give the span, without a look at each period.
        (Places::Days(days, _), true) => extremes_of(days).and_then(|(low, high)| {
            let rows = [low, high].into_iter();
            places.span(rows).map(Along::Time)
        }),
        (Places::Numbers(numbers), _) => {
            let values = (0..table.rows()).map(|row| numbers.value(row));
            let (low, high) = range(values.filter(|value| value.is_finite()));
            Some(Along::Numbers { low, high })
        }
        _ => along_of(places, (0..table.rows()).filter(|&row| reading.is_drawn(row))),
    };
    let Some(along) = along else {
        let up = Up::Numbers { low: 0.0, high: 1.0 };
        return Ok(reading.nothing(reading.chosen.form, places.empty(), up));
    };
    let columns = columns(reading);
    let missing: usize =
        reading.chosen.of.iter().map(|of| table.columns()[of.place].logical_null_count()).sum();
    reading.note("missing values, drawn as gaps", missing);
    let slots = Slots::new(reading);
    let is_dots = reading.chosen.form == Form::Dots;
    let parts = if slots.panels > 1 { parts(reading) / 2 } else { parts(reading) };
    let is_simple = slots.count() == 1 && all_drawn;
    let mut folded = Folded::new(slots.count(), parts);
    for (figure, numbers) in columns.iter().enumerate() {
        let one = match (places, numbers, &along) {
            // The usual case: one series of days. Nothing is looked up for each row.
            (Places::Days(days, periods), Numbers::Floats(values), Along::Time(span))
                if is_simple && *periods == jembric_core::calendar::Periods::DAYS =>
            {
                let first = span.low().div_euclid(jembric_core::calendar::MICROS_PER_DAY) as i32;
                let count = span.length() / jembric_core::calendar::MICROS_PER_DAY as f64;
                folded_simply(days, values, first, parts as f64 / count, parts)
            }
            _ => {
                let share = share_of(places, &along);
                folded_by_row(table.rows(), slots.count(), parts, |row| {
                    if !reading.is_drawn(row) {
                        return None;
                    }
                    Some((slots.slot(reading, row, figure), share(row), numbers.value(row)))
                })
            }
        };
        folded.merge(&one);
    }
    let (low, high) = range(folded.extremes.iter().flat_map(|(low, high)| [*low, *high]));
    let up = Up::Numbers { low, high };
    let marks = if !is_dots {
        folded.extremes(slots.panels, slots.series, parts)
    } else {
        dots(reading, places, &along, &slots, (low, high))
    };
    reading.note("infinite values, drawn as gaps", folded.infinite);
    let panels = marks.into_iter().map(|marks| Panel { marks, ..Panel::default() }).collect();
    Ok(Content { panels, ..reading.nothing(reading.chosen.form, along, up) })
}

/// The part of an axis for a share of it.
fn cell(share: f64, parts: usize) -> usize {
    ((share * parts as f64) as usize).min(parts - 1)
}

/// The columns and rows of the grids: cells of three pixels or more, so that all grids together
/// stay small.
fn grid(reading: &Reading<'_>, slots: usize) -> (usize, usize) {
    let size = reading.draw.size;
    let (width, height) = (f64::from(size.width) - 80.0, f64::from(size.height) - 120.0);
    let (width, height) = (width.max(80.0), height.max(40.0));
    let side = (width * height * slots as f64 / MOST_CELLS as f64).sqrt().max(3.0);
    (((width / side) as usize).max(1), ((height / side) as usize).max(1))
}

/// Where a row stands on the axis, as a share of it.
fn share_of<'a>(places: &'a Places<'_>, along: &'a Along) -> impl Fn(usize) -> f64 + Sync + 'a {
    move |row| match (places, along) {
        (Places::Numbers(numbers), Along::Numbers { low, high }) => {
            (numbers.value(row) - low) / (high - low).max(f64::MIN_POSITIVE)
        }
        (_, Along::Time(span)) => {
            let (from, to) = places.extent(row);
            span.place(from + (to - from) / 2) / span.length()
        }
        _ => f64::NAN,
    }
}

fn range(values: impl Iterator<Item = f64>) -> (f64, f64) {
    let both = |(low, high): (f64, f64), value: f64| (low.min(value), high.max(value));
    values.filter(|value| value.is_finite()).fold((f64::INFINITY, f64::NEG_INFINITY), both)
}

/// The rows of the earliest and the latest day; none if there is no day.
fn extremes_of(days: &PrimitiveArray<Date32Type>) -> Option<(usize, usize)> {
    let values = days.values();
    let is_valid = |row: usize| days.is_valid(row);
    match days.null_count() {
        0 if !values.is_empty() => {
            // Two plain passes find the values, and two short searches their rows.
            let (low, high) = values
                .par_chunks(STRETCH)
                .map(|days| {
                    days.iter().fold((i32::MAX, i32::MIN), |(low, high), day| {
                        (low.min(*day), high.max(*day))
                    })
                })
                .reduce(
                    || (i32::MAX, i32::MIN),
                    |one, other| (one.0.min(other.0), one.1.max(other.1)),
                );
            let row = |wanted: i32| values.iter().position(|day| *day == wanted);
            row(low).zip(row(high))
        }
        _ => {
            let rows = || (0..values.len()).filter(|&row| is_valid(row));
            rows().min_by_key(|&row| values[row]).zip(rows().max_by_key(|&row| values[row]))
        }
    }
}

/// The extremes of every slot and part.
#[derive(Clone)]
struct Folded {
    extremes: Vec<(f64, f64)>,
    infinite: usize,
}

const NONE: (f64, f64) = (f64::INFINITY, f64::NEG_INFINITY);

impl Folded {
    fn new(slots: usize, parts: usize) -> Folded {
        Folded { extremes: vec![NONE; slots * parts], infinite: 0 }
    }

    fn merge(&mut self, other: &Folded) {
        self.infinite += other.infinite;
        for (one, other) in self.extremes.iter_mut().zip(&other.extremes) {
            *one = (one.0.min(other.0), one.1.max(other.1));
        }
    }

    /// The marks of each panel.
    fn extremes(&self, panels: usize, series: usize, parts: usize) -> Vec<Marks> {
        let of_panel = |panel: usize| {
            let slots = self.extremes.chunks(parts).enumerate();
            let slots = slots.filter(|(slot, _)| (slot / series) % panels == panel);
            let extremes = slots.map(|(slot, parts)| Extremes {
                series: slot % series,
                is_marked: slot / series >= panels,
                parts: parts.to_vec(),
            });
            Marks::Extremes(extremes.collect())
        };
        (0..panels).map(of_panel).collect()
    }
}

/// Folds one series of days.
fn folded_simply(
    days: &PrimitiveArray<Date32Type>,
    values: &PrimitiveArray<arrow_array::types::Float64Type>,
    first: i32,
    parts_per_day: f64,
    parts: usize,
) -> Folded {
    let nulls = NullBuffer::union(days.nulls(), values.nulls());
    let stretches = days.values().par_chunks(STRETCH).zip(values.values().par_chunks(STRETCH));
    let fold = |mut folded: Folded, (stretch, (days, values)): (usize, (&[i32], &[f64]))| {
        let mut take = |day: i32, value: f64| {
            let part = ((day - first) as f64 * parts_per_day) as usize;
            let (low, high) = &mut folded.extremes[part.min(parts - 1)];
            // An infinite value is counted, and does not become an extreme.
            if value.is_finite() {
                *low = if value < *low { value } else { *low };
                *high = if value > *high { value } else { *high };
            } else {
                folded.infinite += 1;
            }
        };
        match &nulls {
            None => days.iter().zip(values).for_each(|(day, value)| take(*day, *value)),
            Some(nulls) => {
                let from = stretch * STRETCH;
                for (row, (day, value)) in days.iter().zip(values).enumerate() {
                    if nulls.is_valid(from + row) {
                        take(*day, *value);
                    }
                }
            }
        }
        folded
    };
    merged(stretches.enumerate().fold(|| Folded::new(1, parts), fold), 1, parts)
}

/// Folds rows whose slot, share of the axis and value are looked up.
fn folded_by_row(
    rows: usize,
    slots: usize,
    parts: usize,
    of_row: impl Fn(usize) -> Option<(usize, f64, f64)> + Sync,
) -> Folded {
    let starts = (0..rows.div_ceil(STRETCH)).into_par_iter();
    let fold = |mut folded: Folded, stretch: usize| {
        for row in stretch * STRETCH..rows.min((stretch + 1) * STRETCH) {
            let Some((slot, share, value)) = of_row(row) else { continue };
            if value.is_infinite() {
                folded.infinite += 1;
            } else if !value.is_nan() && share.is_finite() {
                let one = &mut folded.extremes[slot * parts + cell(share, parts)];
                *one = (one.0.min(value), one.1.max(value));
            }
        }
        folded
    };
    merged(starts.fold(|| Folded::new(slots, parts), fold), slots, parts)
}

fn merged(folded: impl ParallelIterator<Item = Folded>, slots: usize, parts: usize) -> Folded {
    folded.reduce(
        || Folded::new(slots, parts),
        |mut one, other| {
            one.merge(&other);
            one
        },
    )
}

/// The cells of each panel that have a dot, for dots in rows.
pub(super) fn cells_of_rows(
    reading: &Reading<'_>,
    panels: &[Panel],
    drawn: &[usize],
    row_of: impl Fn(usize) -> f64,
    share: impl Fn(usize) -> f64,
) -> Vec<CalendarCells> {
    let columns = parts(reading) / 3;
    let grid = |panel: &Panel| CalendarCells {
        series: 0,
        columns,
        rows: panel.rows.len().max(1),
        filled: vec![false; columns * panel.rows.len().max(1)],
    };
    let mut grids: Vec<CalendarCells> = panels.iter().map(grid).collect();
    for &row in drawn {
        let grid = &mut grids[reading.panels.group(row)];
        // Rows are counted from the top, the cells of a grid from the bottom.
        let up = grid.rows - 1 - row_of(row) as usize;
        grid.filled[cell(share(row), columns) * grid.rows + up] = true;
    }
    grids
}
