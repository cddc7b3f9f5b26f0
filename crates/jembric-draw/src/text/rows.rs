//! Rows of marks along an axis of time.

use super::{Ink, TextPicture, muted, of_series, shortened};
use crate::content::{Along, Content, Panel};
use ratatui_core::{buffer::Buffer, layout::Rect, style::Style};

/// A mark from one place to another in a row.
pub(super) struct Mark {
    pub(super) row: usize,
    pub(super) from: f64,
    pub(super) to: f64,
    pub(super) series: usize,
    pub(super) symbol: &'static str,
}

/// The most rows that are shown; more are counted.
const MOST: usize = 60;

pub(super) fn draw(
    text: &mut TextPicture,
    content: &Content,
    panel: &Panel,
    marks: Vec<Mark>,
    width: u16,
) {
    let names = panel.rows.iter().map(|name| name.chars().count());
    let label = names.max().unwrap_or(0).min(usize::from(width) / 3);
    let left = if label > 0 { label as u16 + 1 } else { 0 };
    let track = f64::from(width - left);
    let rows = panel.rows.len().clamp(1, MOST);
    let mut buffer = Buffer::empty(Rect::new(0, 0, width, rows as u16));
    for (row, name) in panel.rows.iter().take(rows).enumerate() {
        buffer.set_string(0, row as u16, shortened(name, label), Style::new());
        buffer.set_string(left, row as u16, "·".repeat(track as usize), muted());
    }
    let (low, high) = content.along.range();
    let column = |place: f64| {
        let share = (place - low) / (high - low);
        ((share * track) as u16).min(width - left - 1)
    };
    for mark in marks.iter().filter(|mark| mark.row < rows) {
        // The end of a mark is the start of what follows it.
        let (from, to) = (column(mark.from), column(mark.to - (mark.to - mark.from) * 1e-9));
        for x in from..=to.max(from) {
            buffer.set_string(left + x, mark.row as u16, mark.symbol, of_series(mark.series));
        }
    }
    text.buffer(&buffer);
    if panel.rows.len() > rows {
        text.line(format!("… {} more rows", panel.rows.len() - rows), Ink::Muted);
    }
    if let Along::Time(span) = &content.along {
        let (from, to) = (span.text_at(low), span.text_at(high - 1.0));
        let room = usize::from(width - left).saturating_sub(from.chars().count());
        text.line(format!("{}{from}{to:>room$}", " ".repeat(left.into())), Ink::Muted);
    }
}
