//! Reads the bars of figures per period or class.

use super::{Groups, MOST_MARKS, Places, Reading, short};
use crate::{
    content::{Along, Bar, Content, Extremes, Marks, Up},
    kinds::Form,
    numbers::{Numbers, shown},
    time::Span,
};
use jembric_core::{Entities, Error, Missing, Reason, Result};

/// The most classes along an axis.
const MOST_CLASSES: usize = 500;

/// The rows of one bar.
#[derive(Clone, Copy, Default)]
struct Cell {
    sum: f64,
    values: u32,
    rows: u32,
    is_marked: bool,
}

/// Adds up the rows of each bar, and counts the values that have none. Without a figure, the rows
/// are counted.
fn added_up(reading: &mut Reading<'_>, ids: &Entities) -> Vec<Cell> {
    let table = reading.table;
    let of = reading.chosen.of.iter();
    let columns: Vec<Numbers<'_>> =
        of.map(|of| Numbers::from_array(&table.columns()[of.place])).collect();
    let figures = columns.len().max(1);
    let mut cells = vec![Cell::default(); ids.count() * figures];
    let (mut missing, mut infinite) = (0, 0);
    for row in (0..table.rows()).filter(|&row| reading.is_drawn(row)) {
        for figure in 0..figures {
            let value = columns.get(figure).map_or(1.0, |numbers| numbers.value(row));
            let cell = &mut cells[ids.ids()[row] as usize * figures + figure];
            cell.rows += 1;
            cell.is_marked |= reading.is_marked(row);
            missing += usize::from(value.is_nan());
            infinite += usize::from(value.is_infinite());
            if value.is_finite() {
                cell.sum += value;
                cell.values += 1;
            }
        }
    }
    if !columns.is_empty() {
        let several = cells.iter().filter(|cell| cell.rows > 1).map(|cell| cell.rows as usize);
        reading.note("rows added up with others in one bar", several.sum());
    }
    reading.note("missing values, without a bar", missing);
    reading.note("infinite values, without a bar", infinite);
    cells
}

/// The span of an axis of time from the rows that stand for the bars, and the width of a bar of
/// moments: a moment stands for the time until the next one can follow, the least distance.
fn time_axis(places: &Places<'_>, rows: &[usize]) -> (Option<Span>, i64) {
    let span = match places {
        Places::Days(..) | Places::Moments(..) => places.span(rows.iter().copied()),
        _ => None,
    };
    let step = match places {
        Places::Moments(moments, _) => {
            let mut all: Vec<i64> = rows.iter().map(|&row| moments.value(row)).collect();
            all.sort_unstable();
            all.dedup();
            all.windows(2).map(|pair| pair[1] - pair[0]).min().unwrap_or(3_600_000_000)
        }
        _ => 0,
    };
    let span = span.map(|span| match step {
        0 => span,
        step => places.span_of(span.low(), span.low() + span.length() as i64 + step),
    });
    (span, step)
}

/// What the bars are made of.
struct BarSource<'a> {
    places: &'a Places<'a>,
    classes: &'a Groups,
    along: &'a Along,
    /// A row of each bar.
    first_rows: &'a [u32],
    /// The cells of the figures of each bar.
    cells: &'a [Cell],
    /// The width of a bar of moments.
    step: i64,
}

impl BarSource<'_> {
    /// The bars of each panel, in order.
    fn bars(&self, reading: &Reading<'_>) -> Vec<Vec<Bar>> {
        let names = reading.series_names();
        let when = reading.chosen.along.as_ref().map(|along| reading.cells(along));
        let figures: Vec<&str> = reading.chosen.of.iter().map(|of| of.name.as_str()).collect();
        let mut bars: Vec<Vec<Bar>> = vec![Vec::new(); reading.panels.count()];
        for (&row, cells) in self.first_rows.iter().zip(self.cells.chunks(figures.len().max(1))) {
            let row = row as usize;
            for (figure, cell) in cells.iter().enumerate().filter(|(_, cell)| cell.values > 0) {
                let Some((from, to)) = self.extent(row) else { continue };
                let series = reading.series_of(row, figure);
                let name = match names[series].as_str() {
                    "" => figures.get(figure).copied().unwrap_or("rows"),
                    name => name,
                };
                let at = match self.along {
                    Along::Classes(names) => names[self.classes.group(row)].clone(),
                    _ => when.as_ref().map(|when| when.text(row)).unwrap_or_default(),
                };
                let filled = if cell.is_marked { " (filled)" } else { "" };
                bars[reading.panels.group(row)].push(Bar {
                    series,
                    from,
                    to,
                    value: cell.sum,
                    is_marked: cell.is_marked,
                    title: format!("{}, {}: {}{filled}", short(name), short(&at), shown(cell.sum)),
                });
            }
        }
        for bars in &mut bars {
            bars.sort_by(|one, other| {
                one.from.total_cmp(&other.from).then(one.series.cmp(&other.series))
            });
        }
        bars
    }

    /// Where a bar begins and ends along the axis.
    fn extent(&self, row: usize) -> Option<(f64, f64)> {
        match self.along {
            Along::Classes(_) => {
                let class = self.classes.group(row) as f64;
                Some((class, class + 1.0))
            }
            Along::Time(span) => {
                let (from, to) = self.places.extent(row);
                Some((span.place(from), span.place(to + self.step)))
            }
            Along::Numbers { .. } => None,
        }
    }
}

pub(super) fn content(reading: &mut Reading<'_>) -> Result<Content> {
    let table = reading.table;
    let along_place = reading.chosen.along.as_ref().map(|column| column.place);
    let mut places = super::places_of(table, along_place, reading.context);
    // Whole numbers along an axis of bars are classes: hours of the day, days of the month.
    if matches!(places, Places::Numbers(_)) {
        places = Places::Classes;
    }
    reading.set_aside(Reason::NoDate, places.missing(table.rows()));
    let per = reading.chosen.per.clone();
    reading.number_series(&per)?;
    let classes = match (&places, &reading.chosen.along) {
        (Places::Classes, Some(along)) => reading.groups(std::slice::from_ref(along))?,
        _ => Groups::default(),
    };
    if classes.count() > MOST_CLASSES {
        return Err(Error::TooMuchToDraw {
            found: format!("{} classes of {}", classes.count(), named(reading)),
            most: MOST_CLASSES as u64,
            apart: None,
        });
    }
    // Rows with the same panel, series and period or class are added up in one bar. They are
    // numbered together, so that a bar is a slot in an array.
    let keys = [&reading.chosen.apart, &reading.chosen.along].into_iter().flatten().chain(&per);
    let keys: Vec<&str> = keys.map(|column| column.name.as_str()).collect();
    let ids = Entities::number(table, &keys, Missing::IsAKey)?;
    let first_rows = ids.first_rows();
    let figures = reading.chosen.of.len();
    let cells = added_up(reading, &ids);
    let drawn = first_rows.iter().map(|&row| row as usize).filter(|&row| reading.is_drawn(row));
    let (span, step) = time_axis(&places, &drawn.collect::<Vec<usize>>());
    let along = match (&places, span) {
        (Places::Classes, _) => Along::Classes(classes.names.clone()),
        (_, Some(span)) => Along::Time(span),
        _ => {
            return Ok(reading.nothing(
                Form::Bars,
                places.empty(),
                Up::Numbers { low: 0.0, high: 1.0 },
            ));
        }
    };
    let mut content = reading.nothing(Form::Bars, along, Up::Numbers { low: 0.0, high: 1.0 });
    let source = BarSource {
        places: &places,
        classes: &classes,
        along: &content.along,
        first_rows: &first_rows,
        cells: &cells,
        step,
    };
    let bars = source.bars(reading);
    let names = reading.series_names();
    let (low, high) = range(&bars, reading.draw.stacked);
    content.up = Up::Numbers { low, high };
    if figures == 0 {
        content.up_name = "rows".to_owned();
    }
    let many = bars.iter().map(Vec::len).sum::<usize>() > MOST_MARKS;
    for (panel, bars) in content.panels.iter_mut().zip(bars) {
        panel.marks = if !many {
            Marks::Bars(bars)
        } else {
            Marks::Extremes(extremes(&bars, names.len(), &content.along, reading))
        };
    }
    Ok(content)
}

fn named(reading: &Reading<'_>) -> String {
    reading.chosen.along.as_ref().map(|along| along.name.clone()).unwrap_or_default()
}

/// The range of the values, or of their stacks. It contains zero.
fn range(panels: &[Vec<Bar>], is_stacked: bool) -> (f64, f64) {
    let (mut low, mut high) = (0.0_f64, 0.0_f64);
    for bars in panels {
        for stack in bars.chunk_by(|one, next| one.from == next.from && is_stacked) {
            let sum = |fits: &dyn Fn(f64) -> bool| -> f64 {
                stack.iter().map(|bar| bar.value).filter(|value| fits(*value)).sum()
            };
            low = low.min(sum(&|value| value < 0.0));
            high = high.max(sum(&|value| value > 0.0));
        }
    }
    (low, high)
}

/// The least and greatest bars of each part of the axis. Stacks are stacked before.
fn extremes(bars: &[Bar], series: usize, along: &Along, reading: &Reading<'_>) -> Vec<Extremes> {
    let parts = (reading.draw.size.width.saturating_sub(80) as usize).clamp(80, 2_000);
    let (low, high) = along.range();
    let none = Extremes {
        series: 0,
        is_marked: false,
        parts: vec![(f64::INFINITY, f64::NEG_INFINITY); parts],
    };
    let mut extremes: Vec<Extremes> =
        (0..series).map(|series| Extremes { series, ..none.clone() }).collect();
    for stack in bars.chunk_by(|one, next| one.from == next.from) {
        let mut base = 0.0;
        for bar in stack {
            let top = if reading.draw.stacked { base + bar.value } else { bar.value };
            base = top;
            let part = |place: f64| ((place - low) / (high - low) * parts as f64) as usize;
            let (from, to) = (part(bar.from), part(bar.to).max(part(bar.from) + 1));
            for part in extremes[bar.series].parts.iter_mut().take(to.min(parts)).skip(from) {
                *part = (part.0.min(top), part.1.max(top));
            }
        }
    }
    // The series behind are drawn first, so the top of a stack does not cover its base.
    if reading.draw.stacked {
        extremes.reverse();
    }
    extremes
}
