//! Pictures in text, for a terminal. Widgets of `ratatui` draw into a buffer of cells, and nothing
//! here knows the terminal.
//!
//! A terminal has about a hundred columns, so a text picture shows the shape of the data and the
//! ends of its axes. The values are in the table, the SVG or the PNG.

mod bars;
mod calendar;
mod rows;

use crate::{
    content::{Along, Bar, Content, Extremes, Marks, Panel, Point, Up},
    frame::Frame,
    kinds::Form,
    numbers::shown,
    scale::NumberAxis,
};
use ratatui_core::{
    buffer::Buffer,
    layout::Rect,
    style::{Color, Style},
    symbols::Marker,
    text::Line,
    widgets::Widget,
};
use ratatui_widgets::chart::{Axis, Chart, Dataset, GraphType};
use std::fmt;

/// How a piece of a text picture is coloured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Ink {
    /// The colour of text.
    Plain,
    /// Less prominent: axes, labels, the foot line.
    Muted,
    /// The colour of a series, by its number.
    Series(usize),
}

/// A picture in text. [`Display`](fmt::Display) writes it without colours.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TextPicture {
    lines: Vec<Vec<(String, Ink)>>,
}

impl TextPicture {
    /// The lines, each in pieces of one colour.
    pub fn lines(&self) -> impl ExactSizeIterator<Item = &[(String, Ink)]> {
        self.lines.iter().map(Vec::as_slice)
    }

    fn line(&mut self, text: impl Into<String>, ink: Ink) {
        self.lines.push(vec![(visible(&text.into()), ink)]);
    }

    /// Adds what was drawn into a buffer.
    fn buffer(&mut self, buffer: &Buffer) {
        for y in buffer.area.top()..buffer.area.bottom() {
            let mut pieces: Vec<(String, Ink)> = Vec::new();
            for x in buffer.area.left()..buffer.area.right() {
                let Some(cell) = buffer.cell((x, y)) else { continue };
                let ink = match cell.fg {
                    Color::Indexed(series) => Ink::Series(usize::from(series)),
                    Color::Gray => Ink::Muted,
                    _ => Ink::Plain,
                };
                match pieces.last_mut() {
                    Some((text, last)) if *last == ink => text.push_str(cell.symbol()),
                    _ => pieces.push((cell.symbol().to_owned(), ink)),
                }
            }
            // Blanks at the end of a line are nothing.
            while let Some((text, _)) = pieces.last_mut() {
                text.truncate(text.trim_end().len());
                if !text.is_empty() {
                    break;
                }
                pieces.pop();
            }
            self.lines.push(pieces);
        }
    }
}

impl fmt::Display for TextPicture {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for line in &self.lines {
            line.iter().try_for_each(|(text, _)| f.write_str(text))?;
            f.write_str("\n")?;
        }
        Ok(())
    }
}

/// Control characters of data would change the terminal.
fn visible(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { '\u{fffd}' } else { c }).collect()
}

/// The style of a series. The number stands for its colour.
fn of_series(series: usize) -> Style {
    Style::new().fg(Color::Indexed((series % crate::palette::SERIES) as u8))
}

fn muted() -> Style {
    Style::new().fg(Color::Gray)
}

/// Text of at most this many characters.
fn shortened(text: &str, most: usize) -> String {
    let text = visible(text);
    if text.chars().count() > most {
        text.chars().take(most.saturating_sub(1)).chain(['…']).collect()
    } else {
        text
    }
}

/// The least height and width of a chart.
const LEAST: (u16, u16) = (8, 24);

pub(crate) fn render(picture: &Frame<'_>, width: u16, height: u16) -> TextPicture {
    let content = picture.content;
    let width = width.clamp(LEAST.1, 400);
    let mut text = TextPicture::default();
    text.line(shortened(&picture.title, width.into()), Ink::Plain);
    legend(&mut text, picture, width);
    let foot = wrapped(&picture.account, width.into());
    let used = text.lines.len() + foot.len();
    let panels = content.panels.len().max(1) as u16;
    let room = height.saturating_sub(used as u16 + 1).max(LEAST.0) / panels;
    let room = room.max(LEAST.0);
    if content.is_empty() {
        text.line("No rows to draw", Ink::Muted);
    }
    for panel in content.panels.iter().filter(|_| !content.is_empty()) {
        if content.panels.len() > 1 {
            text.line(shortened(&panel.name, width.into()), Ink::Plain);
        }
        self::panel(&mut text, picture, panel, (width, room));
    }
    foot.into_iter().for_each(|line| text.line(line, Ink::Muted));
    text
}

/// Words in lines of at most this many characters.
fn wrapped(text: &str, most: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= most => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

fn legend(text: &mut TextPicture, picture: &Frame<'_>, width: u16) {
    let content = picture.content;
    let mut pieces: Vec<(String, Ink)> = Vec::new();
    if content.series.len() > 1 {
        for (series, name) in content.series.iter().enumerate() {
            let sample = symbol(series);
            pieces.push((format!("{sample} {}", shortened(name, 24)), Ink::Series(series)));
        }
    }
    for level in &picture.draw.level {
        pieces.push((format!("• {}", shortened(&level.to_string(), 24)), Ink::Muted));
    }
    if let Some(marked) = &content.marked {
        pieces.push((format!("· filled, not measured ({})", shortened(marked, 24)), Ink::Muted));
    }
    if content.has_open {
        pieces.push(("▒ open, has not ended".to_owned(), Ink::Muted));
    }
    if let Up::Shades { low, high } = content.up
        && low <= high
    {
        pieces.push((format!("░▒▓█ {} to {}", shown(low), shown(high)), Ink::Muted));
    }
    let mut line: Vec<(String, Ink)> = Vec::new();
    let mut used = 0;
    for (piece, ink) in pieces {
        let length = piece.chars().count() + 3;
        if used + length > usize::from(width) + 3 && !line.is_empty() {
            text.lines.push(std::mem::take(&mut line));
            used = 0;
        }
        used += length;
        if !line.is_empty() {
            line.push(("   ".to_owned(), Ink::Plain));
        }
        line.push((piece, ink));
    }
    if !line.is_empty() {
        text.lines.push(line);
    }
}

/// The markers of series, which differ without colours as well.
const MARKERS: [(Marker, &str); crate::palette::SERIES] = [
    (Marker::Braille, "⣿"),
    (Marker::Dot, "•"),
    (Marker::HalfBlock, "▀"),
    (Marker::Block, "█"),
    (Marker::Custom('+'), "+"),
    (Marker::Custom('x'), "x"),
    (Marker::Custom('o'), "o"),
    (Marker::Custom('*'), "*"),
    (Marker::Custom('#'), "#"),
    (Marker::Custom('%'), "%"),
    (Marker::Custom('='), "="),
    (Marker::Custom('@'), "@"),
];

fn symbol(series: usize) -> &'static str {
    MARKERS[series % MARKERS.len()].1
}

fn panel(text: &mut TextPicture, picture: &Frame<'_>, panel: &Panel, (width, height): (u16, u16)) {
    let content = picture.content;
    match &panel.marks {
        Marks::Days(days) => calendar::draw(text, content, days, width),
        Marks::Intervals(intervals) => {
            let marks = intervals.iter().map(|interval| rows::Mark {
                row: interval.row,
                from: interval.from,
                to: interval.to,
                series: interval.series,
                symbol: if interval.is_open { "▒" } else { "█" },
            });
            rows::draw(text, content, panel, marks.collect(), width);
        }
        Marks::Points(series) if content.up == Up::Rows => {
            let marks = series.iter().flatten().map(|point| rows::Mark {
                row: point.value as usize,
                from: point.middle(),
                to: point.middle(),
                series: 0,
                symbol: if point.is_marked { "○" } else { "●" },
            });
            rows::draw(text, content, panel, marks.collect(), width);
        }
        Marks::Cells(grids) if content.up == Up::Rows => {
            let (low, high) = content.along.range();
            let marks = grids.iter().flat_map(|grid| {
                let filled = grid.filled.iter().enumerate().filter(|(_, is_filled)| **is_filled);
                filled.map(|(place, _)| {
                    let share = (place / grid.rows) as f64 / grid.columns as f64;
                    let at = low + share * (high - low);
                    let row = grid.rows - 1 - place % grid.rows;
                    rows::Mark { row, from: at, to: at, series: 0, symbol: "●" }
                })
            });
            rows::draw(text, content, panel, marks.collect(), width);
        }
        Marks::Bars(bars) if picture.draw.level.is_empty() => {
            match bars::lines(bars, content, picture.draw.stacked) {
                lines if lines.len() <= usize::from(height.max(16)) => {
                    bars::draw(text, content, &lines, width);
                }
                _ => chart(text, picture, &panel.marks, (width, height)),
            }
        }
        marks => chart(text, picture, marks, (width, height)),
    }
}

/// Lines, steps, dots and many bars, in a chart with two axes.
fn chart(text: &mut TextPicture, picture: &Frame<'_>, marks: &Marks, (width, height): (u16, u16)) {
    let content = picture.content;
    let (x_low, x_high) = match content.along.range() {
        (low, high) if low < high => (low, high),
        (low, _) if low.is_finite() => (low - 1.0, low + 1.0),
        _ => (0.0, 1.0),
    };
    let (y_low, y_high) = match content.up {
        Up::Numbers { low, high } => {
            let levels = picture.draw.level.iter().map(|level| level.value);
            let (low, high) =
                levels.fold((low, high), |(low, high), level| (low.min(level), high.max(level)));
            let from_zero = content.form == Form::Bars || low >= 0.0 && low <= high * 0.4;
            let axis = NumberAxis::containing((low, high), from_zero, content.is_whole, 4);
            (axis.low, axis.high)
        }
        _ => (0.0, 1.0),
    };
    let mut pieces = pieces(content, marks, (x_low, x_high), picture.draw.stacked);
    // The widget multiplies distances by the number of dots, which may be beyond all floats. It
    // would not end.
    let unit = if y_high.abs().max(y_low.abs()) > 1e290 { 1e-20 } else { 1.0 };
    for (_, value) in pieces.iter_mut().flat_map(|piece| &mut piece.points) {
        *value *= unit;
    }
    let levels: Vec<[(f64, f64); 2]> = picture
        .draw
        .level
        .iter()
        .map(|level| [(x_low, level.value * unit), (x_high, level.value * unit)])
        .collect();
    let mut datasets: Vec<Dataset<'_>> = levels
        .iter()
        .map(|line| {
            let dataset = Dataset::default().graph_type(GraphType::Line).marker(Marker::Dot);
            dataset.style(muted()).data(line)
        })
        .collect();
    datasets.extend(pieces.iter().map(|piece| {
        let marker =
            if piece.is_marked { Marker::Dot } else { MARKERS[piece.series % MARKERS.len()].0 };
        Dataset::default()
            .graph_type(piece.graph)
            .marker(marker)
            .style(of_series(piece.series))
            .data(&piece.points)
    }));
    let along = |at: f64| match &content.along {
        Along::Time(span) => span.text_at(at.min(span.length() - 1.0)),
        Along::Numbers { .. } => shown(at),
        Along::Classes(names) => {
            names.get((at as usize).min(names.len().saturating_sub(1))).cloned().unwrap_or_default()
        }
    };
    let middle = x_low + (x_high - x_low) / 2.0;
    let x_labels = match width {
        ..60 => vec![along(x_low), along(x_high)],
        _ => vec![along(x_low), along(middle), along(x_high)],
    };
    let most = usize::from(width) / x_labels.len() - 2;
    let x_labels = x_labels.into_iter().map(|label| Line::styled(shortened(&label, most), muted()));
    let y_labels = [y_low, y_low / 2.0 + y_high / 2.0, y_high];
    let y_labels = y_labels.map(|value| Line::styled(shown(value), muted()));
    let chart = Chart::new(datasets)
        .x_axis(Axis::default().bounds([x_low, x_high]).labels(x_labels).style(muted()))
        .y_axis(
            Axis::default().bounds([y_low * unit, y_high * unit]).labels(y_labels).style(muted()),
        )
        .legend_position(None);
    let mut buffer = Buffer::empty(Rect::new(0, 0, width, height));
    chart.render(buffer.area, &mut buffer);
    text.buffer(&buffer);
}

/// Points that are drawn together: a line between two gaps, or all dots of a series.
struct Piece {
    series: usize,
    is_marked: bool,
    graph: GraphType,
    points: Vec<(f64, f64)>,
}

fn pieces(
    content: &Content,
    marks: &Marks,
    (low, high): (f64, f64),
    is_stacked: bool,
) -> Vec<Piece> {
    match marks {
        Marks::Points(series) => series
            .iter()
            .enumerate()
            .flat_map(|(series, points)| pieces_of(content.form, series, points))
            .collect(),
        Marks::Extremes(series) => series
            .iter()
            .map(|Extremes { series, is_marked, parts }| {
                let width = (high - low) / parts.len() as f64;
                let points = parts.iter().enumerate().filter(|(_, (least, most))| least <= most);
                let points = points.flat_map(|(part, (least, most))| {
                    let at = low + (part as f64 + 0.5) * width;
                    [(at, *least), (at, *most)]
                });
                let graph =
                    if content.form == Form::Bars { GraphType::Bar } else { GraphType::Scatter };
                Piece { series: *series, is_marked: *is_marked, graph, points: points.collect() }
            })
            .collect(),
        Marks::Cells(grids) => grids
            .iter()
            .map(|grid| {
                let Up::Numbers { low: bottom, high: top } = content.up else {
                    return Piece {
                        series: 0,
                        is_marked: false,
                        graph: GraphType::Scatter,
                        points: Vec::new(),
                    };
                };
                let filled = grid.filled.iter().enumerate().filter(|(_, is_filled)| **is_filled);
                let points = filled.map(|(place, _)| {
                    let (column, row) = (place / grid.rows, place % grid.rows);
                    let x = low + (column as f64 + 0.5) / grid.columns as f64 * (high - low);
                    let y = bottom + (row as f64 + 0.5) / grid.rows as f64 * (top - bottom);
                    (x, y)
                });
                let points = points.collect();
                Piece { series: grid.series, is_marked: false, graph: GraphType::Scatter, points }
            })
            .collect(),
        Marks::Bars(bars) => {
            let series = content.series.len().max(1);
            // Bars of a period stand side by side, or on top of each other.
            let share = |series: usize| {
                if is_stacked {
                    0.5
                } else {
                    (series as f64 + 0.5) / content.series.len().max(1) as f64
                }
            };
            let tops = bars::tops(bars, is_stacked);
            let piece = |series: usize| {
                let own = bars.iter().zip(&tops).filter(|(bar, _)| bar.series == series);
                let at = |bar: &Bar| bar.from + share(series) * (bar.to - bar.from);
                let points = own.map(|(bar, top)| (at(bar), *top)).collect();
                Piece { series, is_marked: false, graph: GraphType::Bar, points }
            };
            // The lower part of a stack is drawn over the upper one.
            (0..series).rev().map(piece).collect()
        }
        Marks::Intervals(_) | Marks::Days(_) => Vec::new(),
    }
}

fn pieces_of(form: Form, series: usize, points: &[Point]) -> Vec<Piece> {
    let graph = if form == Form::Dots { GraphType::Scatter } else { GraphType::Line };
    let mut pieces: Vec<Piece> = Vec::new();
    let mut last: Option<&Point> = None;
    for point in points {
        let breaks = match form {
            Form::Dots => false,
            Form::Steps => last.is_none_or(|last| last.until != point.from),
            _ => point.after_gap,
        };
        let of_last = if !breaks { last } else { None };
        let differs = pieces.last().is_none_or(|piece| piece.is_marked != point.is_marked);
        if breaks || differs {
            // A piece begins where the one before ended, unless a gap lies between them.
            let start = of_last.filter(|_| form != Form::Dots).map(|last| match form {
                Form::Steps => (last.until, last.value),
                _ => (last.middle(), last.value),
            });
            let points = start.into_iter().collect();
            pieces.push(Piece { series, is_marked: point.is_marked, graph, points });
        }
        if let Some(piece) = pieces.last_mut() {
            match form {
                Form::Steps => {
                    piece.points.extend([(point.from, point.value), (point.until, point.value)]);
                }
                _ => piece.points.push((point.middle(), point.value)),
            }
        }
        last = Some(point);
    }
    pieces
}

#[cfg(test)]
mod tests;
