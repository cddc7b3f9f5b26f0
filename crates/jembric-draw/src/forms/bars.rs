//! Bars of figures per period or class, side by side or stacked. They begin at zero.

use crate::{
    canvas::Canvas,
    content::{Bar, Content},
    plot::Plot,
};

pub(crate) fn draw(
    body: &mut Canvas,
    bars: &[Bar],
    is_stacked: bool,
    content: &Content,
    plot: &Plot,
) {
    let series = content.series.len().max(1);
    for group in bars.chunk_by(|one, next| one.from == next.from) {
        // Positive values stack upwards from zero, negative ones downwards.
        let (mut up, mut down) = (0.0, 0.0);
        for bar in group {
            let (base, top) = if !is_stacked {
                (0.0, bar.value)
            } else if bar.value < 0.0 {
                down += bar.value;
                (down - bar.value, down)
            } else {
                up += bar.value;
                (up - bar.value, up)
            };
            let (from, to) =
                band(bar, if is_stacked { (0, 1) } else { (bar.series, series) }, plot);
            let (one, other) = if plot.is_sideways {
                ((plot.x.at(base), from), (plot.x.at(top), to))
            } else {
                ((from, plot.y.at(base)), (to, plot.y.at(top)))
            };
            let class = if bar.is_marked {
                format!("hollow f{0} l{0}", bar.series)
            } else {
                format!("f{}", bar.series)
            };
            body.rectangle(&class, one, other, "", &bar.title);
        }
    }
}

/// The pixels of a bar across its axis: its share of the period or class, without the room between
/// groups.
fn band(bar: &Bar, (place, of): (usize, usize), plot: &Plot) -> (f64, f64) {
    let axis = if plot.is_sideways { plot.y } else { plot.x };
    let (from, to) = (axis.at(bar.from), axis.at(bar.to));
    // Bars of neighbouring periods touch if they are only a few pixels wide.
    let width = to - from;
    let room = match width {
        width if width < 3.0 => 0.0,
        width if plot.is_sideways => (width * 0.1).min(3.0),
        width => (width * 0.1).clamp(0.5, 24.0),
    };
    let (from, to) = (from + room, to - room);
    let share = (to - from) / of as f64;
    let apart = if of > 1 && share > 6.0 { 0.5 } else { 0.0 };
    let left = from + share * place as f64;
    (left + apart, left + share - apart)
}
