//! Lays out a picture: title, legend, small pictures with their axes, and the foot line.
//!
//! Everything has its own strip, from top to bottom, so nothing covers anything else. A picture
//! whose rows need more room than its size grows in height, and the text keeps its size.

mod legend;
mod panel;

use crate::{
    canvas::{Anchor, Canvas, escaped, n},
    content::{Along, Panel, Up},
    font,
    forms::calendar,
    frame::Frame,
    kinds::{Form, Paper},
    plot::Room,
    scale::NumberAxis,
    style,
};
use panel::Axes;

/// The font sizes of the title, and of the foot line.
const TITLE: f64 = 15.0;
const FOOT: f64 = 10.5;
/// The height of a row of intervals or of classes: enough for its label.
pub(crate) const ROW: f64 = 18.0;
/// The least height of a small picture with an axis of numbers.
const LEAST: f64 = 70.0;

/// Where a picture stands.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Place<'a> {
    /// In a file of its own, with its style.
    Alone(Paper),
    /// On a page that has the style, with ids that begin with a text.
    OnPage(&'a str),
}

/// The picture as SVG.
pub(crate) fn svg(picture: &Frame<'_>, place: Place<'_>) -> String {
    let Frame { draw, content, .. } = picture;
    let width = f64::from(draw.size.width);
    let margin = if width < 320.0 { 8.0 } else { 16.0 };
    let inside = width - 2.0 * margin;
    let (ids, style) = match place {
        Place::Alone(paper) => ("", format!("<style>{}</style>\n", style::css(paper))),
        Place::OnPage(ids) => (ids, String::new()),
    };
    let mut body = Canvas { ids: ids.to_owned(), ..Canvas::default() };
    let mut y = margin;

    let title = picture.title.as_str();
    let shown = font::bold_shortened(title, TITLE, inside);
    body.text("ink title", (margin, y + TITLE - 2.0), Anchor::Start, &shown, title);
    y += TITLE + 8.0;
    y = legend::draw(&mut body, content, draw.stacked, (margin, y), inside);

    let foot = font::lines(&picture.account, FOOT, inside);
    let foot_height = foot.len() as f64 * (FOOT + 4.0);
    let least_bottom = f64::from(draw.size.height) - margin - foot_height;
    y = if content.is_empty() {
        let middle = (y + least_bottom).max(y + 40.0) / 2.0;
        body.text("muted", (width / 2.0, middle), Anchor::Middle, "No rows to draw", "");
        least_bottom.max(middle + 20.0)
    } else {
        panels(
            &mut body,
            picture,
            Room { left: margin, top: y, right: margin + inside, bottom: least_bottom },
        )
    };
    body.open("foot");
    for line in &foot {
        y += FOOT + 4.0;
        body.text("muted", (margin, y - 2.0), Anchor::Start, line, "");
    }
    body.close();
    let height = (y + margin).max(f64::from(draw.size.height)).ceil();

    let description = description(picture);
    let (w, h) = (n(width), n(height));
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" class=\"picture\" width=\"{w}\" height=\"{h}\" \
         viewBox=\"0 0 {w} {h}\" role=\"img\">\n<title>{}</title>\n<desc>{}</desc>\n\
         {style}{}<rect class=\"paper\" width=\"{w}\" height=\"{h}\"/>\n{}</svg>\n",
        escaped(title),
        escaped(&description),
        style::fades(content, ids),
        body.svg
    )
}

/// What a screen reader says about the picture.
fn description(picture: &Frame<'_>) -> String {
    let content = picture.content;
    let mut text = format!("A picture of {}", content.form);
    match &content.along {
        Along::Time(span) if !content.is_empty() => {
            let until = span.text_at(span.length() - 1.0);
            text.push_str(&format!(" from {} to {until}", span.text_at(0.0)));
        }
        Along::Classes(names) if !names.is_empty() => {
            text.push_str(&format!(" for {} classes of {}", names.len(), content.along_name));
        }
        _ => {}
    }
    if let Up::Numbers { low, high } | Up::Shades { low, high } = content.up
        && low <= high
    {
        let (low, high) = (crate::numbers::shown(low), crate::numbers::shown(high));
        text.push_str(&format!(", with values from {low} to {high}"));
    }
    let series: Vec<&str> =
        content.series.iter().map(String::as_str).filter(|name| !name.is_empty()).collect();
    if series.len() > 1 {
        text.push_str(&format!(". Series: {}", series.join(", ")));
    }
    format!("{text}. {}.", picture.account)
}

/// Draws the small pictures, and returns where they end.
fn panels(body: &mut Canvas, picture: &Frame<'_>, room: Room) -> f64 {
    let content = picture.content;
    if content.form == Form::Calendar {
        return calendar::draw(body, content, room);
    }
    let axes = Axes::new(picture, &room);
    let is_tall = axes.row_height(content).is_some();
    let count = content.panels.len();
    let columns = if is_tall {
        1
    } else {
        ((room.width() + 20.0) / 300.0).floor().clamp(1.0, count as f64) as usize
    };
    let lines = count.div_ceil(columns);
    let apart = 20.0;
    let width = (room.width() - apart * (columns as f64 - 1.0)) / columns as f64;
    let heading = if count > 1 { 18.0 } else { 0.0 };
    let name = if axes.shows_name(picture) { 16.0 } else { 0.0 };
    let share = (room.bottom - room.top - name) / lines as f64 - heading;
    let mut top = room.top;
    if name > 0.0 {
        let shown = font::shortened(&content.up_name, 11.0, room.width());
        body.text("muted", (room.left, top + 10.0), Anchor::Start, &shown, &content.up_name);
        top += name;
    }
    for panels in content.panels.chunks(columns) {
        let mut bottom = top;
        for (column, panel) in panels.iter().enumerate() {
            let left = room.left + column as f64 * (width + apart);
            body.open("panel");
            if heading > 0.0 {
                let shown = font::bold_shortened(&panel.name, 12.0, width);
                body.text("ink name", (left, top + 12.0), Anchor::Start, &shown, &panel.name);
            }
            let height =
                axes.height(content, panel).unwrap_or_else(|| share.max(LEAST + axes.below()));
            let room = Room {
                left,
                top: top + heading,
                right: left + width,
                bottom: top + heading + height,
            };
            axes.draw(body, picture, panel, &room);
            bottom = bottom.max(room.bottom);
            body.close();
        }
        top = bottom + if lines > 1 { 8.0 } else { 0.0 };
    }
    top
}

/// The axis of numbers, with room for its reference lines.
fn numbers_of(picture: &Frame<'_>, most: usize) -> NumberAxis {
    let content = picture.content;
    let Up::Numbers { low, high } = content.up else {
        return NumberAxis { low: 0.0, high: 1.0, ticks: Vec::new() };
    };
    let levels = picture.draw.level.iter().map(|level| level.value);
    let (low, high) =
        levels.fold((low, high), |(low, high), level| (low.min(level), high.max(level)));
    // Bars begin at zero. Other values do if zero is near.
    let is_near = low >= 0.0 && low <= high * 0.4;
    let from_zero = content.form == Form::Bars || is_near;
    NumberAxis::containing((low, high), from_zero, content.is_whole, most)
}

impl Panel {
    /// The number of its rows, at least one.
    fn row_count(&self) -> usize {
        self.rows.len().max(1)
    }
}

#[cfg(test)]
mod tests;
