//! One small picture: its axes, its grid, and its marks.

use super::{LEAST, ROW, numbers_of};
use crate::{
    canvas::{Anchor, Canvas, n},
    content::{Along, Content, Marks, Panel, Up},
    font, forms,
    frame::Frame,
    kinds::Form,
    plot::{Plot, Room},
    scale::{NumberAxis, Scale},
    time::{LABEL, Ticks},
};

/// The room below the marks: ticks, labels and longer periods.
const BELOW: f64 = 38.0;

/// What the axes of all small pictures have in common.
pub(crate) struct Axes {
    /// The room for labels on the left.
    gutter: f64,
    numbers: NumberAxis,
    /// Whether the classes of bars are rows.
    is_sideways: bool,
    /// The height of a row of intervals or dots.
    row: f64,
}

impl Axes {
    pub(crate) fn new(picture: &Frame<'_>, room: &Room) -> Axes {
        let content = picture.content;
        let height = (room.bottom - room.top).max(LEAST);
        let lines =
            content.panels.len().div_ceil(((room.width() + 20.0) / 300.0).max(1.0) as usize);
        let most = (height / lines as f64 / 42.0).clamp(2.0, 12.0) as usize;
        let is_sideways = is_sideways(content, room);
        let most =
            if is_sideways { (room.width() / 110.0).clamp(2.0, 10.0) as usize } else { most };
        let numbers = numbers_of(picture, most);
        let longest = |texts: &mut dyn Iterator<Item = &String>| {
            texts.map(|text| font::width(text, LABEL)).fold(0.0, f64::max)
        };
        let rows = match &content.along {
            Along::Classes(names) if is_sideways => longest(&mut names.iter()),
            _ if content.up == Up::Rows => {
                longest(&mut content.panels.iter().flat_map(|panel| &panel.rows))
            }
            _ => longest(&mut numbers.ticks.iter().map(|(_, text)| text)),
        };
        let gutter = rows.min(room.width() * 0.3) + 10.0;
        // Few rows share the height of the picture; many rows make it higher.
        let count: usize = match &content.along {
            Along::Classes(names) => names.len().max(1) * content.panels.len(),
            _ => content.panels.iter().map(Panel::row_count).sum(),
        };
        let other = (BELOW + 30.0) * content.panels.len() as f64;
        let row = ((room.bottom - room.top - other) / count as f64).max(ROW);
        Axes { gutter, numbers, is_sideways, row }
    }

    /// Whether the name of the vertical axis stands above the picture.
    pub(crate) fn shows_name(&self, picture: &Frame<'_>) -> bool {
        let content = picture.content;
        // A title that was not set names it.
        picture.draw.title.is_some() && !content.up_name.is_empty() && content.up != Up::Rows
    }

    /// The height of a row, if the picture has rows.
    pub(crate) fn row_height(&self, content: &Content) -> Option<f64> {
        let series = content.series.len().max(1) as f64;
        match (content.up, self.is_sideways) {
            (Up::Rows, _) => Some(self.row),
            // Bars side by side need a line each.
            (_, true) => Some(self.row.min(44.0).max(series * 8.0 + 6.0)),
            _ => None,
        }
    }

    /// The height that a panel needs, if it has rows.
    pub(crate) fn height(&self, content: &Content, panel: &Panel) -> Option<f64> {
        let row_height = self.row_height(content)?;
        let rows = match &content.along {
            Along::Classes(names) if self.is_sideways => names.len().max(1),
            _ => panel.row_count(),
        };
        Some(rows as f64 * row_height + 6.0 + self.below())
    }

    /// The room below the marks: ticks, labels and longer periods.
    pub(crate) fn below(&self) -> f64 {
        BELOW
    }

    pub(crate) fn draw(&self, body: &mut Canvas, picture: &Frame<'_>, panel: &Panel, room: &Room) {
        let content = picture.content;
        let (left, right) = (room.left + self.gutter, room.right - 6.0);
        let (top, bottom) = (room.top + 4.0, room.bottom - self.below());
        let plot = self.plot(content, panel, (left, right), (top, bottom));
        if self.is_sideways {
            self.classes_as_rows(body, content, &plot, room);
            self.numbers_below(body, &plot, (top, bottom));
        } else {
            match content.up {
                Up::Rows => rows(body, panel, &plot, room, (left, right)),
                _ => self.numbers_at_left(body, &plot, (left, right)),
            }
            match &content.along {
                Along::Time(span) => {
                    let ticks = span.ticks(left, right);
                    time_below(body, &ticks, &plot, (top, bottom), content.up == Up::Rows);
                }
                Along::Numbers { low, high } => {
                    let axis = along_axis((*low, *high), right - left);
                    numbers_along(body, &axis, &plot, bottom);
                }
                Along::Classes(names) => classes_below(body, names, &plot, bottom),
            }
        }
        body.open("marks");
        match &panel.marks {
            Marks::Points(series) => forms::points::draw(body, content, series, &plot),
            Marks::Extremes(series) => forms::many::extremes(body, content, series, &plot),
            Marks::Cells(series) => forms::many::cells(body, series, &plot),
            Marks::Bars(bars) => {
                forms::bars::draw(body, bars, picture.draw.stacked, content, &plot)
            }
            Marks::Intervals(intervals) => forms::intervals::draw(body, intervals, &plot),
            Marks::Days(_) => {}
        }
        body.close();
        self.axis_and_levels(body, picture, &plot, (left, right), (top, bottom));
    }

    fn plot(
        &self,
        content: &Content,
        panel: &Panel,
        (left, right): (f64, f64),
        (top, bottom): (f64, f64),
    ) -> Plot {
        let (low, high) = match &content.along {
            Along::Numbers { low, high } => {
                let axis = along_axis((*low, *high), right - left);
                (axis.low, axis.high)
            }
            along => along.range(),
        };
        let row_height = self.row_height(content).unwrap_or(0.0);
        let (numbers_low, numbers_high) = (self.numbers.low, self.numbers.high);
        if self.is_sideways {
            let x = Scale { low: numbers_low, high: numbers_high, start: left, end: right };
            let y = Scale { low, high, start: top, end: top + (high - low) * row_height };
            return Plot { x, y, row_height, is_sideways: true };
        }
        let x = Scale { low, high, start: left, end: right };
        let y = match content.up {
            Up::Rows => {
                let rows = panel.row_count() as f64;
                Scale { low: 0.0, high: rows, start: top, end: top + rows * row_height }
            }
            _ => Scale { low: numbers_low, high: numbers_high, start: bottom, end: top },
        };
        Plot { x, y, row_height, is_sideways: false }
    }

    fn numbers_at_left(&self, body: &mut Canvas, plot: &Plot, (left, right): (f64, f64)) {
        body.open("up");
        for (value, text) in &self.numbers.ticks {
            let y = plot.y.at(*value);
            body.line("grid", (left, y), (right, y), "");
            body.text("muted tick", (left - 6.0, y + 4.0), Anchor::End, text, "");
        }
        body.close();
    }

    fn numbers_below(&self, body: &mut Canvas, plot: &Plot, (top, bottom): (f64, f64)) {
        body.open("along");
        for (value, _) in &self.numbers.ticks {
            let x = plot.x.at(*value);
            body.line("grid", (x, top), (x, bottom), "");
        }
        labels_below(body, &self.numbers, plot, bottom, "muted tick");
        body.close();
    }

    fn classes_as_rows(&self, body: &mut Canvas, content: &Content, plot: &Plot, room: &Room) {
        let Along::Classes(names) = &content.along else { return };
        body.open("up");
        for (row, name) in names.iter().enumerate() {
            let y = plot.y.at(row as f64 + 0.5);
            let shown = font::shortened(name, LABEL, self.gutter - 10.0);
            body.text("ink", (room.left + self.gutter - 6.0, y + 4.0), Anchor::End, &shown, name);
        }
        body.close();
    }

    /// The line at zero or at the bottom, and the reference lines with their names.
    fn axis_and_levels(
        &self,
        body: &mut Canvas,
        picture: &Frame<'_>,
        plot: &Plot,
        (left, right): (f64, f64),
        (top, bottom): (f64, f64),
    ) {
        let zero = 0.0_f64.clamp(self.numbers.low, self.numbers.high);
        match (plot.is_sideways, picture.content.up) {
            (true, _) => {
                let x = plot.x.at(zero);
                body.line("axis", (x, top), (x, bottom), "");
            }
            (_, Up::Numbers { .. }) if picture.content.form == Form::Bars => {
                let y = plot.y.at(zero);
                body.line("axis", (left, y), (right, y), "");
            }
            _ => body.line("axis", (left, bottom), (right, bottom), ""),
        }
        for level in &picture.draw.level {
            let text = if level.label.is_empty() {
                crate::numbers::shown(level.value)
            } else {
                level.label.clone()
            };
            let shown = font::shortened(&text, LABEL, (right - left) * 0.6);
            if plot.is_sideways {
                let x = plot.x.at(level.value);
                body.line("level", (x, top), (x, bottom), &level.to_string());
                body.text("ink halo", (x - 4.0, top + 10.0), Anchor::End, &shown, &text);
            } else {
                let y = plot.y.at(level.value);
                body.line("level", (left, y), (right, y), &level.to_string());
                let above = if y - 14.0 < top { y + 12.0 } else { y - 4.0 };
                body.text("ink halo", (right, above), Anchor::End, &shown, &text);
            }
        }
    }
}

/// Whether the classes of bars are rows: their names do not fit below the bars.
fn is_sideways(content: &Content, room: &Room) -> bool {
    let (Along::Classes(names), Form::Bars) = (&content.along, content.form) else { return false };
    let columns = ((room.width() + 20.0) / 300.0).floor().clamp(1.0, content.panels.len() as f64);
    let band = (room.width() / columns - 50.0) / names.len().max(1) as f64;
    let longest = names.iter().map(|name| font::width(name, LABEL)).fold(0.0, f64::max);
    longest + 8.0 > band || content.series.len() as f64 * 3.0 > band
}

fn rows(body: &mut Canvas, panel: &Panel, plot: &Plot, room: &Room, (left, right): (f64, f64)) {
    body.open("up");
    // One path for all rows keeps the file small.
    let middle = |row: usize| plot.y.at(row as f64 + 0.5);
    let lines =
        (0..panel.rows.len()).map(|row| format!("M{} {}H{}", n(left), n(middle(row)), n(right)));
    body.path("grid", &lines.collect::<String>(), "");
    for (row, name) in panel.rows.iter().enumerate() {
        let y = middle(row);
        let shown = font::shortened(name, LABEL, left - room.left - 10.0);
        body.text("ink", (left - 6.0, y + 4.0), Anchor::End, &shown, name);
    }
    for (row, title) in panel.row_titles.iter().enumerate().filter(|(_, title)| !title.is_empty()) {
        let (top, bottom) = (plot.y.at(row as f64), plot.y.at(row as f64 + 1.0));
        body.rectangle("hover", (left, top), (right, bottom), "", title);
    }
    body.close();
}

fn time_below(
    body: &mut Canvas,
    ticks: &Ticks,
    plot: &Plot,
    (top, bottom): (f64, f64),
    has_grid: bool,
) {
    body.open("along");
    for (place, title) in &ticks.places {
        let x = plot.x.at(*place);
        if has_grid {
            body.line("grid", (x, top), (x, bottom), "");
        }
        body.line("axis tick", (x, bottom), (x, bottom + 4.0), title);
    }
    for label in &ticks.labels {
        body.text("muted", (label.left, bottom + 16.0), Anchor::Start, &label.text, &label.title);
    }
    for group in &ticks.groups {
        body.text("muted group", (group.left, bottom + 31.0), Anchor::Start, &group.text, "");
    }
    body.close();
}

/// The axis of numbers below the marks.
fn along_axis(range: (f64, f64), width: f64) -> NumberAxis {
    NumberAxis::containing(range, false, false, (width / 100.0).clamp(2.0, 12.0) as usize)
}

fn numbers_along(body: &mut Canvas, axis: &NumberAxis, plot: &Plot, bottom: f64) {
    body.open("along");
    for (value, text) in &axis.ticks {
        let x = plot.x.at(*value);
        body.line("axis tick", (x, bottom), (x, bottom + 4.0), text);
    }
    labels_below(body, axis, plot, bottom, "muted");
    body.close();
}

/// The labels of an axis of numbers below the marks, without those that would overlap.
fn labels_below(body: &mut Canvas, axis: &NumberAxis, plot: &Plot, bottom: f64, class: &str) {
    let mut until = f64::NEG_INFINITY;
    for (value, text) in &axis.ticks {
        let width = font::width(text, LABEL);
        let left = (plot.x.at(*value) - width / 2.0).min(plot.x.end + 6.0 - width);
        if left > until {
            body.text(class, (left, bottom + 16.0), Anchor::Start, text, "");
            until = left + width + 8.0;
        }
    }
}

fn classes_below(body: &mut Canvas, names: &[String], plot: &Plot, bottom: f64) {
    body.open("along");
    for (class, name) in names.iter().enumerate() {
        let x = plot.x.at(class as f64 + 0.5);
        body.text("ink", (x, bottom + 16.0), Anchor::Middle, name, "");
    }
    body.close();
}
