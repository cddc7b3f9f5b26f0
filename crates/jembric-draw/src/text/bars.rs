//! Bars from left to right, each on a line with its name and its value. Negative bars go to the
//! left of a common zero, stacked ones follow each other on one line, and a period without a bar
//! leaves a line empty.

use super::{Ink, TextPicture, shortened, symbol};
use crate::{
    content::{Along, Bar, Content},
    numbers::shown,
};

/// A line of a bar chart.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct BarLine {
    label: String,
    /// The bars that follow each other, each with its series; none on an empty line.
    bars: Vec<(usize, f64)>,
}

impl BarLine {
    fn sum(&self, fits: impl Fn(f64) -> bool) -> f64 {
        self.bars.iter().map(|(_, value)| *value).filter(|value| fits(*value)).sum()
    }
}

/// Where each bar ends, if bars of one period are stacked: above those with the same sign.
pub(super) fn tops(bars: &[Bar], is_stacked: bool) -> Vec<f64> {
    let mut tops = Vec::with_capacity(bars.len());
    for stack in bars.chunk_by(|one, next| one.from == next.from) {
        let (mut below, mut above) = (0.0, 0.0);
        for bar in stack {
            let base = if bar.value < 0.0 { &mut below } else { &mut above };
            *base = if is_stacked { *base + bar.value } else { bar.value };
            tops.push(*base);
        }
    }
    tops
}

/// The lines of a bar chart.
pub(super) fn lines(bars: &[Bar], content: &Content, is_stacked: bool) -> Vec<BarLine> {
    let label = |bar: &Bar| match &content.along {
        Along::Classes(names) => names[bar.from as usize].clone(),
        Along::Time(span) => span.text_at(bar.from),
        Along::Numbers { .. } => String::new(),
    };
    let mut lines: Vec<BarLine> = Vec::new();
    let mut end: Option<f64> = None;
    for group in bars.chunk_by(|one, next| one.from == next.from) {
        let follows =
            end.is_none_or(|end| group[0].from <= end + (group[0].to - group[0].from) / 2.0);
        let is_apart = content.series.len() > 1 && !is_stacked && end.is_some();
        if !follows || is_apart {
            lines.push(BarLine::default());
        }
        end = Some(group[0].to);
        let own = |bar: &Bar| (bar.series, bar.value);
        if is_stacked {
            lines.push(BarLine { label: label(&group[0]), bars: group.iter().map(own).collect() });
            continue;
        }
        for (place, bar) in group.iter().enumerate() {
            let label = if place == 0 { label(bar) } else { String::new() };
            lines.push(BarLine { label, bars: vec![own(bar)] });
        }
    }
    lines
}

/// Draws the lines.
pub(super) fn draw(text: &mut TextPicture, content: &Content, lines: &[BarLine], width: u16) {
    let width = usize::from(width);
    let longest = lines.iter().map(|line| line.label.chars().count()).max().unwrap_or(0);
    let longest = longest.min(width / 3);
    let values: Vec<String> = lines
        .iter()
        .map(|line| if line.bars.is_empty() { String::new() } else { shown(line.sum(|_| true)) })
        .collect();
    let widest = values.iter().map(|value| value.chars().count()).max().unwrap_or(0);
    let room = width.saturating_sub(longest + widest + 2).max(4);
    let low = lines.iter().map(|line| line.sum(|value| value < 0.0)).fold(0.0, f64::min);
    let high = lines.iter().map(|line| line.sum(|value| value > 0.0)).fold(0.0, f64::max);
    // The place of a value, in cells from the left.
    let range = (high / 2.0 - low / 2.0).max(f64::MIN_POSITIVE);
    let at = |value: f64| (value / 2.0 - low / 2.0) / range * room as f64;
    for (line, value) in lines.iter().zip(values) {
        if line.bars.is_empty() {
            text.lines.push(Vec::new());
            continue;
        }
        let mut cells: Vec<Option<(usize, &str)>> = vec![None; room];
        let (mut below, mut above) = (0.0, 0.0);
        for &(series, value) in &line.bars {
            let base = if value < 0.0 { &mut below } else { &mut above };
            let (from, to) = (at(*base).min(at(*base + value)), at(*base).max(at(*base + value)));
            *base += value;
            let symbol = if content.series.len() > 1 { symbol(series) } else { "█" };
            let (first, last) = (from.round() as usize, (to.round() as usize).min(room));
            for cell in cells.iter_mut().take(last).skip(first) {
                *cell = Some((series, symbol));
            }
            // The last part of a cell, of a single bar to the right.
            let rest = ((to - to.floor()) * 8.0) as usize;
            if line.bars.len() == 1 && symbol == "█" && value > 0.0 {
                const PARTS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
                let place = to.floor() as usize;
                if let Some(cell) = cells.get_mut(place) {
                    *cell = (rest > 0).then(|| (series, PARTS[rest]));
                }
            }
        }
        let label = shortened(&line.label, longest);
        let mut pieces = vec![(format!("{label:<longest$} "), Ink::Muted)];
        for cell in cells {
            let (ink, symbol) = match cell {
                Some((series, symbol)) => (Ink::Series(series), symbol),
                None => (Ink::Plain, " "),
            };
            match pieces.last_mut() {
                Some((text, last)) if *last == ink => text.push_str(symbol),
                _ => pieces.push((symbol.to_owned(), ink)),
            }
        }
        pieces.push((format!(" {value:>widest$}"), Ink::Plain));
        text.lines.push(pieces);
    }
}
