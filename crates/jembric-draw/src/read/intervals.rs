//! Reads intervals from a start and an end column.

use super::{Groups, MOST_MARKS, MOST_ROWS, Places, Reading, short};
use crate::{
    chosen::{Column, MOST_SERIES},
    content::{Along, Content, Interval, Marks, Up},
    kinds::Form,
    time::Span,
};
use arrow_buffer::BooleanBuffer;
use jembric_core::{CellText, Context, Reason, Result, calendar::MICROS_PER_DAY};
use std::cmp::Ordering;

/// The most bars of all small pictures, if intervals are joined.
const MOST_MERGED: usize = 30_000;

/// The starts and ends of intervals as points on the axis.
struct Extents<'a> {
    starts: &'a Places<'a>,
    ends: &'a Places<'a>,
    context: &'a Context,
    /// Whether one of both has points in time. A day is then the time between two midnights.
    is_instant: bool,
    is_exclusive: bool,
}

impl Extents<'_> {
    fn in_zone(&self, places: &Places<'_>, row: usize) -> (i64, i64) {
        let (from, to) = places.extent(row);
        match places {
            Places::Days(..) if self.is_instant => {
                (self.context.zone.instant(from), self.context.zone.instant(to))
            }
            _ => (from, to),
        }
    }

    fn start(&self, row: usize) -> i64 {
        self.in_zone(self.starts, row).0
    }

    fn end(&self, row: usize) -> i64 {
        let (from, to) = self.in_zone(self.ends, row);
        if self.is_exclusive { from } else { to }
    }

    /// Whether an interval ends before it starts. A day that ends before the start begins has no
    /// part of it.
    fn is_reversed(&self, row: usize) -> bool {
        match self.in_zone(self.ends, row) {
            (from, to) if self.is_exclusive || from == to => from < self.start(row),
            (_, to) => to <= self.start(row),
        }
    }
}

/// The columns that make rows, and those that make colours.
fn columns_of_rows(reading: &Reading<'_>) -> Result<(Vec<Column>, Vec<Column>)> {
    // The last of several columns gives the colour, if it has few values.
    let per = reading.chosen.per.clone();
    Ok(match per.split_last() {
        Some((last, before)) if !before.is_empty() => {
            let colours = reading.groups(std::slice::from_ref(last))?;
            match colours.count() {
                0..=MOST_SERIES => (before.to_vec(), std::slice::from_ref(last).to_vec()),
                _ => (per.clone(), Vec::new()),
            }
        }
        _ => (per.clone(), Vec::new()),
    })
}

/// The texts of intervals.
struct Titles<'a> {
    keys: &'a Groups,
    series: &'a Groups,
    from: Option<CellText<'a>>,
    to: Option<CellText<'a>>,
}

impl<'a> Titles<'a> {
    fn new(reading: &'a Reading<'_>, keys: &'a Groups) -> Titles<'a> {
        let texts = |column: &Option<Column>| column.as_ref().map(|column| reading.cells(column));
        let (from, to) = (texts(&reading.chosen.from), texts(&reading.chosen.to));
        Titles { keys, series: &reading.series, from, to }
    }

    fn title(&self, row: usize, is_open: bool) -> String {
        let text = |cells: &Option<CellText<'_>>| {
            cells.as_ref().map(|cells| cells.text(row)).unwrap_or_default()
        };
        let key = self.keys.names[self.keys.group(row)].as_str();
        let name = [key, &self.series.names[self.series.group(row)]];
        let name: Vec<&str> = name.into_iter().filter(|name| !name.is_empty()).collect();
        let when = if is_open {
            format!("from {}, open", text(&self.from))
        } else {
            format!("{} to {}", text(&self.from), text(&self.to))
        };
        let colon = if name.is_empty() { "" } else { ": " };
        format!("{}{colon}{when}", short(&name.join(" · ")))
    }
}

/// Leaves out the rows without a start, those that end before it, and open ones that start too
/// late. Returns until when open intervals last.
fn leave_out(
    reading: &mut Reading<'_>,
    extents: &Extents<'_>,
    open: &BooleanBuffer,
) -> Option<i64> {
    let Extents { starts, context, is_instant, .. } = *extents;
    let (start, end) = (|row: usize| extents.start(row), |row: usize| extents.end(row));
    let rows = reading.table.rows();
    reading.set_aside(Reason::NoStart, starts.missing(rows));
    let no_start = starts.missing(rows);
    let reversed = BooleanBuffer::collect_bool(rows, |row| {
        if open.value(row) || no_start.value(row) {
            return false;
        }
        extents.is_reversed(row)
    });
    reading.set_aside(Reason::EndBeforeStart, reversed);
    // Open intervals last until the as-of date, or until the newest date.
    let newest = (0..rows)
        .filter(|&row| reading.is_drawn(row))
        .map(|row| if open.value(row) { start(row) } else { end(row).max(start(row)) })
        .max();
    let close = context.as_of.map(|day| super::after(day, context, is_instant)).or(newest);
    if let Some(close) = close {
        let later = BooleanBuffer::collect_bool(rows, |row| {
            open.value(row) && !no_start.value(row) && start(row) > close
        });
        reading.drop(Reason::AfterAsOf, later);
    }
    close
}

/// By row, and within a row by time.
fn in_order(one: &Interval, other: &Interval) -> Ordering {
    let by_row = one.row.cmp(&other.row).then(one.from.total_cmp(&other.from));
    by_row.then(one.to.total_cmp(&other.to)).then_with(|| one.title.cmp(&other.title))
}

/// Joins neighbours that no pixel separates, and more if there are still too many.
fn few(intervals: Vec<Interval>, mut apart: f64, most: usize) -> Vec<Interval> {
    let mut intervals = merged(intervals, apart);
    while intervals.len() > most {
        apart *= 2.0;
        intervals = merged(intervals, apart);
    }
    intervals
}

pub(super) fn content(reading: &mut Reading<'_>) -> Result<Content> {
    let (table, context) = (reading.table, reading.context);
    let place = |column: &Option<Column>| column.as_ref().map(|column| column.place);
    let starts = super::places_of(table, place(&reading.chosen.from), context);
    let ends = super::places_of(table, place(&reading.chosen.to), context);
    let is_instant =
        [&starts, &ends].iter().any(|places| matches!(places, Places::Moments(_, Some(_))));
    if is_instant {
        reading.rows_left_out.zone = Some(context.zone.to_string());
    }
    let is_exclusive = reading.chosen.is_exclusive;
    let extents = Extents { starts: &starts, ends: &ends, context, is_instant, is_exclusive };
    let (start, end) = (|row: usize| extents.start(row), |row: usize| extents.end(row));
    let rows = table.rows();
    let open = ends.missing(rows);
    let close = leave_out(reading, &extents, &open);
    let drawn: Vec<usize> = (0..rows).filter(|&row| reading.is_drawn(row)).collect();
    let opened = drawn.iter().filter(|&&row| open.value(row)).count();
    reading.note("open intervals, which fade out", opened);

    let (row_columns, colours) = columns_of_rows(reading)?;
    let keys = reading.groups(&row_columns)?;
    reading.series = reading.groups(&colours)?;
    let (mut panels, rows_of) = reading.rows_of_panels(&drawn, &keys);
    for panel in &panels {
        reading.expect_few("per", panel.rows.len(), MOST_ROWS, "rows of intervals")?;
    }
    let until = |row: usize| match close {
        Some(close) if open.value(row) => close.max(start(row)),
        _ => end(row),
    };
    let low = drawn.iter().map(|&row| start(row)).min();
    let high = drawn.iter().map(|&row| until(row).max(start(row))).max();
    let as_moments =
        is_instant || [&starts, &ends].iter().any(|places| matches!(places, Places::Moments(..)));
    let Some((low, high)) = low.zip(high) else {
        let along = if as_moments {
            Along::Time(starts.span_of(0, MICROS_PER_DAY))
        } else {
            starts.empty()
        };
        return Ok(reading.nothing(Form::Intervals, along, Up::Rows));
    };
    let span = match (&starts, as_moments) {
        (Places::Days(..), true) => ends.span_of(low, high),
        _ => starts.span_of(low, high),
    };
    let many = drawn.len() > MOST_MARKS;
    let titles = Titles::new(reading, &keys);
    let mut intervals: Vec<Vec<Interval>> = vec![Vec::new(); panels.len()];
    for &row in &drawn {
        let (panel, key) = (reading.panels.group(row), keys.group(row));
        intervals[panel].push(Interval {
            row: rows_of[panel][key].unwrap_or_default(),
            series: reading.series.group(row),
            from: span.place(start(row)),
            to: span.place(until(row)),
            is_open: open.value(row),
            is_marked: reading.is_marked(row),
            title: if many { String::new() } else { titles.title(row, open.value(row)) },
        });
    }
    let pixel = span.length() / f64::from(reading.draw.size.width);
    let count = panels.len();
    for (panel, mut intervals) in panels.iter_mut().zip(intervals) {
        intervals.sort_by(in_order);
        if many {
            panel.row_titles = row_titles(&intervals, &panel.rows, &span);
            intervals = few(intervals, pixel / 2.0, MOST_MERGED / count);
        }
        panel.marks = Marks::Intervals(intervals);
    }
    let mut content = reading.nothing(Form::Intervals, Along::Time(span), Up::Rows);
    content.series_of = super::names(&colours);
    content.up_name = super::names(&row_columns);
    let name = |column: &Option<Column>| {
        column.as_ref().map(|column| column.name.clone()).unwrap_or_default()
    };
    content.along_name = format!("{} to {}", name(&reading.chosen.from), name(&reading.chosen.to));
    Ok(Content { panels, has_open: opened > 0, ..content })
}

/// Joins intervals of a row and series that are no further apart than this.
fn merged(intervals: Vec<Interval>, apart: f64) -> Vec<Interval> {
    let mut merged: Vec<Interval> = Vec::new();
    for interval in intervals {
        let joins = |last: &Interval| {
            let same = (last.row, last.series, last.is_open, last.is_marked);
            same == (interval.row, interval.series, interval.is_open, interval.is_marked)
                && interval.from - last.to <= apart
        };
        match merged.last_mut() {
            Some(last) if joins(last) => last.to = last.to.max(interval.to),
            _ => merged.push(interval),
        }
    }
    merged
}

/// The number of intervals of each row, and the time from the first start to the last end.
fn row_titles(intervals: &[Interval], rows: &[String], span: &Span) -> Vec<String> {
    let mut titles = vec![String::new(); rows.len()];
    for of_row in intervals.chunk_by(|one, next| one.row == next.row) {
        let from = of_row.iter().map(|interval| interval.from).fold(f64::INFINITY, f64::min);
        let to = of_row.iter().map(|interval| interval.to).fold(0.0, f64::max);
        let (from, to) = (span.text_at(from), span.text_at(to - 1.0));
        let row = of_row[0].row;
        titles[row] = format!(
            "{}: {} intervals, {from} to {to}",
            short(&rows[row]),
            jembric_core::grouped(of_row.len())
        );
    }
    titles
}
