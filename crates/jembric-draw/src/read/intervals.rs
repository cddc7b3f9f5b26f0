//! Reads intervals from a start and an end column.

use super::{MOST_MARKS, MOST_ROWS, Places, Reading, short};
use crate::{
    chosen::{Column, MOST_SERIES},
    content::{Along, Content, Interval, Marks, Up},
    kinds::Form,
    time::Span,
};
use arrow_buffer::BooleanBuffer;
use jembric_core::{Reason, Result, calendar::MICROS_PER_DAY};

/// The most bars of all small pictures, if intervals are joined.
const MOST_MERGED: usize = 30_000;

pub(super) fn content(reading: &mut Reading<'_>) -> Result<Content> {
    let (table, context) = (reading.table, reading.context);
    let place = |column: &Option<Column>| column.as_ref().map(|column| column.place);
    let starts = super::places_of(table, place(&reading.chosen.from), context);
    let ends = super::places_of(table, place(&reading.chosen.to), context);
    let instants = |places: &Places<'_>| matches!(places, Places::Moments(_, Some(_)));
    let is_instant = instants(&starts) || instants(&ends);
    if is_instant {
        reading.judged.zone = Some(context.zone.to_string());
    }
    // A day is the time between two midnights, also beside a point in time.
    let in_zone = |places: &Places<'_>, (from, to): (i64, i64)| match places {
        Places::Days(..) if is_instant => (context.zone.instant(from), context.zone.instant(to)),
        _ => (from, to),
    };
    let is_exclusive = reading.chosen.is_exclusive;
    let start = |row: usize| in_zone(&starts, starts.extent(row)).0;
    let end = |row: usize| {
        let (from, to) = in_zone(&ends, ends.extent(row));
        if is_exclusive { from } else { to }
    };
    let rows = table.rows();
    let open = ends.missing(rows);
    reading.set_aside(Reason::NoStart, starts.missing(rows));
    let no_start = starts.missing(rows);
    let reversed = BooleanBuffer::collect_bool(rows, |row| {
        if open.value(row) || no_start.value(row) {
            return false;
        }
        // A day that ends before the start begins has no part of it.
        match in_zone(&ends, ends.extent(row)) {
            (from, to) if is_exclusive || from == to => from < start(row),
            (_, to) => to <= start(row),
        }
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
    let drawn: Vec<usize> = (0..rows).filter(|&row| reading.is_drawn(row)).collect();
    let opened = drawn.iter().filter(|&&row| open.value(row)).count();
    reading.note("open intervals, which fade out", opened);

    // The last of several columns gives the colour, if it has few values.
    let per = reading.chosen.per.clone();
    let (row_columns, colours) = match per.split_last() {
        Some((last, before)) if !before.is_empty() => {
            let colours = reading.groups(std::slice::from_ref(last))?;
            match colours.count() {
                0..=MOST_SERIES => (before.to_vec(), std::slice::from_ref(last).to_vec()),
                _ => (per.clone(), Vec::new()),
            }
        }
        _ => (per.clone(), Vec::new()),
    };
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
    let texts = |column: &Option<Column>| column.as_ref().map(|column| reading.cells(column));
    let (from_text, to_text) = (texts(&reading.chosen.from), texts(&reading.chosen.to));
    let names = &reading.series.names;
    let many = drawn.len() > MOST_MARKS;
    let mut intervals: Vec<Vec<Interval>> = vec![Vec::new(); panels.len()];
    for &row in &drawn {
        let (panel, key) = (reading.panels.group(row), keys.group(row));
        let series = reading.series.group(row);
        let title = if many {
            String::new()
        } else {
            let text = |cells: &Option<jembric_core::CellText<'_>>| {
                cells.as_ref().map(|cells| cells.text(row)).unwrap_or_default()
            };
            let name = [keys.names[key].as_str(), &names[series]];
            let name: Vec<&str> = name.into_iter().filter(|name| !name.is_empty()).collect();
            let when = if open.value(row) {
                format!("from {}, open", text(&from_text))
            } else {
                format!("{} to {}", text(&from_text), text(&to_text))
            };
            let colon = if name.is_empty() { "" } else { ": " };
            format!("{}{colon}{when}", short(&name.join(" · ")))
        };
        intervals[panel].push(Interval {
            row: rows_of[panel][key].unwrap_or_default(),
            series,
            from: span.place(start(row)),
            to: span.place(until(row)),
            is_open: open.value(row),
            is_marked: reading.is_marked(row),
            title,
        });
    }
    let count = panels.len();
    for (panel, mut intervals) in panels.iter_mut().zip(intervals) {
        intervals.sort_by(|one, other| {
            let by_row = one.row.cmp(&other.row).then(one.from.total_cmp(&other.from));
            by_row.then(one.to.total_cmp(&other.to)).then_with(|| one.title.cmp(&other.title))
        });
        if many {
            panel.row_titles = row_titles(&intervals, &panel.rows, &span);
            // Neighbours that no pixel separates are one bar, and more if there are still too many.
            let mut apart = span.length() / f64::from(reading.draw.size.width) / 2.0;
            intervals = merged(intervals, apart);
            while intervals.len() > MOST_MERGED / count {
                apart *= 2.0;
                intervals = merged(intervals, apart);
            }
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
