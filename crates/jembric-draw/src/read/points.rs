//! Reads the points of lines, steps and dots.

use super::{MOST_MARKS, MOST_ROWS, Places, Reading, along::along_of, many, short};
use crate::{
    content::{Along, Content, Marks, Panel, Point, Up},
    kinds::Form,
    numbers::Numbers,
};
use jembric_core::{Error, Reason, Result};

/// How often the distance between dates must occur so that a longer one is a gap.
const REGULAR: f64 = 0.5;

pub(super) fn content(reading: &mut Reading<'_>) -> Result<Content> {
    let table = reading.table;
    // Borrowed from the table and the context, and not from the reading, which changes.
    let along = reading.chosen.along.as_ref().map(|column| column.place);
    let places = super::places_of(table, along, reading.context);
    if matches!(places, Places::Classes) {
        return Err(Error::NothingToDraw {
            setting: "along",
            needs: "a column of dates or numbers (classes are drawn as bars)",
        });
    }
    reading.set_aside(Reason::NoDate, places.missing(table.rows()));
    if let (Places::Moments(_, Some(zone)), true) = (&places, places.is_time()) {
        reading.rows_left_out.zone = Some(zone.to_string());
    }
    if reading.chosen.of.is_empty() {
        return rows(reading, &places);
    }
    let per = reading.chosen.per.clone();
    reading.number_series(&per)?;
    if table.rows() * reading.chosen.of.len() > MOST_MARKS {
        return many::content(reading, &places);
    }
    points(reading, &places)
}

/// The points of each panel and series, each with its place in their order.
struct Unordered {
    panels: Vec<Vec<Vec<(i64, Point)>>>,
    missing: usize,
    infinite: usize,
}

fn unordered(reading: &Reading<'_>, places: &Places<'_>, along: &Along) -> Unordered {
    let table = reading.table;
    let of: Vec<Numbers<'_>> = reading
        .chosen
        .of
        .iter()
        .map(|of| Numbers::from_array(&table.columns()[of.place]))
        .collect();
    let place = |row: usize| match (places, along) {
        (Places::Numbers(numbers), _) => {
            let value = numbers.value(row);
            (value, value)
        }
        (_, Along::Time(span)) => {
            let (from, to) = places.extent(row);
            (span.place(from), span.place(to))
        }
        _ => (0.0, 0.0),
    };
    let series = reading.series_names();
    let when = reading.chosen.along.as_ref().map(|along| reading.cells(along));
    let texts: Vec<_> = reading.chosen.of.iter().map(|of| reading.cells(of)).collect();
    let names: Vec<&str> = reading.chosen.of.iter().map(|of| of.name.as_str()).collect();
    let mut panels: Vec<Vec<Vec<(i64, Point)>>> =
        vec![vec![Vec::new(); series.len()]; reading.panels.count()];
    let (mut missing, mut infinite) = (0, 0);
    for row in (0..table.rows()).filter(|&row| reading.is_drawn(row)) {
        for (figure, numbers) in of.iter().enumerate() {
            let value = numbers.value(row);
            missing += usize::from(value.is_nan());
            infinite += usize::from(value.is_infinite());
            let series_of = reading.series_of(row, figure);
            let (from, to) = place(row);
            let is_marked = reading.is_marked(row);
            let name = match series[series_of].as_str() {
                "" => names[figure],
                name => name,
            };
            let when = when.as_ref().map(|when| when.text(row)).unwrap_or_default();
            let filled = if is_marked { " (filled)" } else { "" };
            let text = jembric_core::grouped(texts[figure].text(row));
            let point = Point {
                from,
                to,
                value: if value.is_finite() && from.is_finite() { value } else { f64::NAN },
                until: to,
                after_gap: false,
                is_marked,
                title: format!("{}, {when}: {text}{filled}", short(name)),
            };
            panels[reading.panels.group(row)][series_of].push((places.number(row), point));
        }
    }
    Unordered { panels, missing, infinite }
}

/// The points of every series, one by one.
fn points(reading: &mut Reading<'_>, places: &Places<'_>) -> Result<Content> {
    let table = reading.table;
    let rows = || (0..table.rows()).filter(|&row| reading.is_drawn(row));
    let Some(along) = along_of(places, rows()) else {
        let up = Up::Numbers { low: 0.0, high: 1.0 };
        return Ok(reading.nothing(reading.chosen.form, places.empty(), up));
    };
    let Unordered { panels, missing, infinite } = unordered(reading, places, &along);
    let (mut low, mut high) = (f64::INFINITY, f64::NEG_INFINITY);
    let mut gaps = 0;
    let mut has_ties = false;
    let panels: Vec<Panel> = panels
        .into_iter()
        .map(|series| {
            let points = series.into_iter().map(|points| {
                let (points, found, ties) = in_order(points, places.is_time());
                gaps += found;
                has_ties |= ties;
                points.iter().for_each(|point| {
                    (low, high) = (low.min(point.value), high.max(point.value));
                });
                points
            });
            Panel { marks: Marks::Points(points.collect()), ..Panel::default() }
        })
        .collect();
    // Several readings at one date are single measurements, and not a line.
    let is_line = reading.chosen.form == Form::Lines;
    if is_line && has_ties && !reading.chosen.form_is_set {
        reading.chosen.form = Form::Dots;
    }
    reading.note("missing values, drawn as gaps", missing);
    reading.note("infinite values, drawn as gaps", infinite);
    if reading.chosen.form == Form::Lines {
        reading.note("gaps in the lines", gaps);
    }
    let up = Up::Numbers { low, high };
    let along = match (places, along) {
        (Places::Numbers(_), _) => {
            let points = panels.iter().flat_map(|panel| match &panel.marks {
                Marks::Points(series) => series.iter().flatten().collect(),
                _ => Vec::new(),
            });
            let both = |(low, high): (f64, f64), point: &Point| {
                (low.min(point.from), high.max(point.from))
            };
            let (low, high) = points.fold((f64::INFINITY, f64::NEG_INFINITY), both);
            Along::Numbers { low, high }
        }
        (_, along) => along,
    };
    Ok(Content { panels, ..reading.nothing(reading.chosen.form, along, up) })
}

/// The points of a series in order, without those that have no value, the number of gaps, and
/// whether several points have the same date.
///
/// A missing value is a gap. If most dates of the series have the same distance from the one
/// before, a longer distance is a gap as well.
fn in_order(mut points: Vec<(i64, Point)>, is_time: bool) -> (Vec<Point>, usize, bool) {
    points.sort_by(|(_, one), (_, other)| {
        let by_value = || one.value.total_cmp(&other.value);
        one.from
            .total_cmp(&other.from)
            .then_with(by_value)
            .then_with(|| one.title.cmp(&other.title))
    });
    let mut distances: Vec<i64> = points
        .windows(2)
        .map(|pair| pair[1].0.saturating_sub(pair[0].0))
        .filter(|distance| *distance > 0)
        .collect();
    distances.sort_unstable();
    let runs = distances.chunk_by(|one, next| one == next);
    let most_frequent = runs
        .max_by_key(|run| run.len())
        .filter(|run| is_time && run.len() as f64 >= distances.len() as f64 * REGULAR);
    let step = most_frequent.map_or(i64::MAX, |run| run[0]);
    let mut ordered: Vec<Point> = Vec::new();
    let (mut gaps, mut has_ties, mut after_missing) = (0, false, false);
    let mut last: Option<(i64, f64)> = None;
    for (number, mut point) in points {
        if let Some((before, from)) = last {
            has_ties |= from == point.from;
            let is_far = number.saturating_sub(before) > step;
            point.after_gap = after_missing || is_far;
        }
        // A state ends where the next one begins, even if that one is not known.
        if let Some(last) = ordered.last_mut()
            && !after_missing
        {
            last.until = point.from;
        }
        last = Some((number, point.from));
        after_missing = point.value.is_nan();
        if after_missing {
            continue;
        }
        gaps += usize::from(point.after_gap && !ordered.is_empty());
        ordered.push(point);
    }
    (ordered, gaps, has_ties)
}

/// A dot for each row, in a row for its key.
fn rows(reading: &mut Reading<'_>, places: &Places<'_>) -> Result<Content> {
    let table = reading.table;
    let keys = reading.groups(&reading.chosen.per)?;
    reading.expect_few("per", keys.count(), MOST_ROWS, "rows")?;
    let drawn: Vec<usize> = (0..table.rows()).filter(|&row| reading.is_drawn(row)).collect();
    let Some(Along::Time(span)) = places.span(drawn.iter().copied()).map(Along::Time) else {
        return Ok(reading.nothing(Form::Dots, places.empty(), Up::Rows));
    };
    let when = reading.chosen.along.as_ref().map(|along| reading.cells(along));
    let (mut panels, rows_of) = reading.rows_of_panels(&drawn, &keys);
    if drawn.len() > MOST_MARKS {
        let row_of = |row: usize| {
            rows_of[reading.panels.group(row)][keys.group(row)].unwrap_or_default() as f64
        };
        let cells = many::cells_of_rows(reading, &panels, &drawn, row_of, |row| {
            let (from, to) = places.extent(row);
            span.place(from + (to - from) / 2) / span.length()
        });
        panels
            .iter_mut()
            .zip(cells)
            .for_each(|(panel, cells)| panel.marks = Marks::Cells(vec![cells]));
        let content = reading.nothing(Form::Dots, Along::Time(span), Up::Rows);
        return Ok(Content { panels, series: vec![String::new()], ..content });
    }
    let mut points: Vec<Vec<Point>> = vec![Vec::new(); panels.len()];
    for &row in &drawn {
        let (from, to) = places.extent(row);
        let (panel, key) = (reading.panels.group(row), keys.group(row));
        let when = when.as_ref().map(|when| when.text(row)).unwrap_or_default();
        let name = &keys.names[key];
        let colon = if name.is_empty() { "" } else { ": " };
        points[panel].push(Point {
            from: span.place(from),
            to: span.place(to),
            value: rows_of[panel][key].unwrap_or_default() as f64,
            until: span.place(to),
            after_gap: false,
            is_marked: reading.is_marked(row),
            title: format!("{}{colon}{when}", short(name)),
        });
    }
    for (panel, mut points) in panels.iter_mut().zip(points) {
        points.sort_by(|one, other| {
            let place = one.from.total_cmp(&other.from);
            one.value.total_cmp(&other.value).then(place).then_with(|| one.title.cmp(&other.title))
        });
        panel.marks = Marks::Points(vec![points]);
    }
    let content = reading.nothing(Form::Dots, Along::Time(span), Up::Rows);
    Ok(Content { panels, series: vec![String::new()], ..content })
}
