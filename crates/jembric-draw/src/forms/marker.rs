//! Markers of single points. Each series has its own shape, as a second cue besides colour.

use crate::canvas::{Canvas, n};

/// The number of shapes.
const SHAPES: usize = 6;

/// Draws the marker of a series around a place.
pub(crate) fn draw(
    body: &mut Canvas,
    series: usize,
    (x, y): (f64, f64),
    radius: f64,
    class: &str,
    title: &str,
) {
    let r = radius;
    let corners: &[(f64, f64)] = match series % SHAPES {
        0 => {
            let place = format!("cx=\"{}\" cy=\"{}\" r=\"{}\"", n(x), n(y), n(r));
            return body.element("circle", class, &place, title);
        }
        1 => &[(-0.9, -0.9), (0.9, -0.9), (0.9, 0.9), (-0.9, 0.9)],
        2 => &[(0.0, -1.2), (1.1, 0.8), (-1.1, 0.8)],
        3 => &[(0.0, -1.25), (1.25, 0.0), (0.0, 1.25), (-1.25, 0.0)],
        4 => &[(0.0, 1.2), (1.1, -0.8), (-1.1, -0.8)],
        // A cross.
        _ => &[
            (-0.4, -1.1),
            (0.4, -1.1),
            (0.4, -0.4),
            (1.1, -0.4),
            (1.1, 0.4),
            (0.4, 0.4),
            (0.4, 1.1),
            (-0.4, 1.1),
            (-0.4, 0.4),
            (-1.1, 0.4),
            (-1.1, -0.4),
            (-0.4, -0.4),
        ],
    };
    let mut d = String::new();
    for (place, (dx, dy)) in corners.iter().enumerate() {
        let letter = if place == 0 { "M" } else { "L" };
        d.push_str(&format!("{letter}{} {}", n(x + dx * r), n(y + dy * r)));
    }
    d.push('Z');
    body.path(class, &d, title);
}
