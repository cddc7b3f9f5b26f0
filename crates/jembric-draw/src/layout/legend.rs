//! The legend: a strip above the picture, which covers nothing.

use crate::{
    canvas::{Anchor, Canvas},
    content::{Content, Marks, Up},
    font,
    forms::marker,
    kinds::Form,
    numbers::shown,
    palette::SHADES,
    style,
};

const SIZE: f64 = 11.0;
const LINE: f64 = 18.0;
/// The width of the sample beside a name.
const SAMPLE: f64 = 24.0;
/// The longest name in pixels; the full one is shown on hover.
const LONGEST: f64 = 200.0;

/// What a sample shows.
enum Sample {
    Series(usize),
    /// Rows that were filled.
    Filled,
    /// An interval without an end.
    Open,
    /// The shades of a calendar.
    Shades,
}

/// Draws the legend, and returns where it ends.
pub(crate) fn draw(
    body: &mut Canvas,
    content: &Content,
    is_stacked: bool,
    (left, top): (f64, f64),
    width: f64,
) -> f64 {
    let mut items: Vec<(Sample, String)> = Vec::new();
    if content.series.len() > 1 {
        let names = content.series.iter().enumerate();
        let mut names: Vec<_> = names.map(|(n, name)| (Sample::Series(n), name.clone())).collect();
        // A stack is read from the top, and so is its legend.
        if is_stacked {
            names.reverse();
        }
        items.extend(names);
    }
    if let Some(marked) = &content.marked {
        items.push((Sample::Filled, format!("filled, not measured ({marked})")));
    }
    if content.has_open {
        items.push((Sample::Open, "open, has not ended".to_owned()));
    }
    if let Up::Shades { low, high } = content.up
        && low <= high
    {
        items.push((Sample::Shades, format!("{} to {}", shown(low), shown(high))));
    }
    if items.is_empty() {
        return top;
    }
    body.open("legend");
    let (mut x, mut y) = (left, top);
    let heading = font::shortened(&content.series_of, SIZE, LONGEST.min(width));
    if content.series.len() > 1 && !heading.is_empty() {
        body.text("muted", (x, y + 12.0), Anchor::Start, &heading, &content.series_of);
        x += font::width(&heading, SIZE) + 12.0;
    }
    for (sample, name) in items {
        let sample_width =
            if matches!(sample, Sample::Shades) { 14.0 * SHADES as f64 } else { SAMPLE };
        let text = font::shortened(&name, SIZE, LONGEST.min(width - sample_width - 6.0));
        let needed = sample_width + 6.0 + font::width(&text, SIZE);
        if x > left && x + needed > left + width {
            (x, y) = (left, y + LINE);
        }
        sample_of(body, content, &sample, (x, y + 8.0));
        body.text("ink", (x + sample_width + 6.0, y + 12.0), Anchor::Start, &text, &name);
        x += needed + 16.0;
    }
    body.close();
    y + LINE + 4.0
}

fn sample_of(body: &mut Canvas, content: &Content, sample: &Sample, (x, y): (f64, f64)) {
    let end = x + SAMPLE;
    let is_line = matches!(content.form, Form::Lines | Form::Steps);
    match sample {
        Sample::Series(n) if is_line => {
            body.line(&format!("line {}", style::line(*n)), (x, y), (end, y), "");
        }
        Sample::Series(n) if content.form == Form::Dots => {
            marker::draw(body, *n, ((x + end) / 2.0, y), 4.0, &format!("f{n}"), "");
        }
        Sample::Series(n) => {
            body.rectangle(&format!("f{n}"), (x + 4.0, y - 5.0), (end, y + 5.0), "", "");
        }
        Sample::Filled if is_line => {
            body.line("line filled l0", (x, y), (end, y), "");
            if content.panels.iter().any(|panel| matches!(panel.marks, Marks::Points(_))) {
                body.element("circle", "ring l0", &circle((x + end) / 2.0, y, 3.0), "");
            }
        }
        Sample::Filled if content.form == Form::Dots => {
            body.element("circle", "ring l0", &circle((x + end) / 2.0, y, 3.5), "");
        }
        Sample::Filled if content.form == Form::Calendar => {
            let corners = ((x + 8.0, y - 6.0), (x + 20.0, y + 6.0));
            body.rectangle("hollow s4 r4", corners.0, corners.1, "", "");
        }
        Sample::Filled => {
            body.rectangle("hollow f0 l0", (x + 4.0, y - 5.0), (end, y + 5.0), "", "");
        }
        Sample::Open => {
            let fade = body.fade(0);
            body.rectangle("open", (x, y - 5.0), (end, y + 5.0), &fade, "");
        }
        Sample::Shades => {
            for n in 0..SHADES {
                let left = x + 14.0 * n as f64;
                body.rectangle(&format!("s{n}"), (left, y - 6.0), (left + 12.0, y + 6.0), "", "");
            }
        }
    }
}

fn circle(x: f64, y: f64, radius: f64) -> String {
    use crate::canvas::n;
    format!("cx=\"{}\" cy=\"{}\" r=\"{}\"", n(x), n(y), n(radius))
}
