//! Lines, steps and dots of single points.

use super::marker;
use crate::{
    canvas::{Canvas, n},
    content::{Content, Point, Up},
    kinds::Form,
    plot::Plot,
    style,
};

pub(crate) fn draw(body: &mut Canvas, content: &Content, series: &[Vec<Point>], plot: &Plot) {
    for (number, points) in series.iter().enumerate() {
        let at = |point: &Point| {
            // Rows are counted from the top, and a dot stands in the middle of its row.
            let value = if content.up == Up::Rows { point.value + 0.5 } else { point.value };
            (plot.x.at(point.middle()), plot.y.at(value))
        };
        match content.form {
            Form::Lines => lines(body, number, points, &at),
            Form::Steps => steps(body, number, points, plot),
            _ => dots(body, number, points, &at),
        }
    }
}

/// A line through the points, which breaks at gaps. Pieces that touch a filled point are dotted.
fn lines(body: &mut Canvas, series: usize, points: &[Point], at: &dyn Fn(&Point) -> (f64, f64)) {
    let mut pen = Pen::new(series);
    for (place, point) in points.iter().enumerate() {
        let (x, y) = at(point);
        let before = place.checked_sub(1).map(|place| &points[place]);
        match before.filter(|_| !point.after_gap) {
            Some(before) => {
                let is_filled = before.is_marked || point.is_marked;
                pen.draw(body, is_filled, at(before), &[(x, y)]);
            }
            None => pen.lift(body),
        }
        let is_alone = points.get(place + 1).is_none_or(|next| next.after_gap)
            && (place == 0 || point.after_gap);
        // A point between two gaps is no line, so it is a dot. Filled ones are hollow.
        if point.is_marked && is_far(points, place, at) {
            let class = format!("ring l{series}");
            body.element("circle", &class, &circle(x, y, 2.5), "");
        } else if is_alone {
            body.element("circle", &format!("f{series}"), &circle(x, y, 2.5), "");
        }
    }
    pen.lift(body);
    hovers(body, points, at);
}

/// Whether a ring around the point would not touch those of its neighbours.
fn is_far(points: &[Point], place: usize, at: &dyn Fn(&Point) -> (f64, f64)) -> bool {
    let x = at(&points[place]).0;
    let neighbours = [place.checked_sub(1), Some(place + 1)];
    let near = neighbours.into_iter().flatten().filter_map(|place| points.get(place));
    near.into_iter().all(|point| (at(point).0 - x).abs() >= 5.0)
}

/// A level line from each point to the next one, and upright lines between them.
fn steps(body: &mut Canvas, series: usize, points: &[Point], plot: &Plot) {
    let mut pen = Pen::new(series);
    let mut last: Option<(f64, f64)> = None;
    for point in points {
        let (from, until) = (plot.x.at(point.from), plot.x.at(point.until));
        let y = plot.y.at(point.value);
        // The state before ends here, unless it is not known when.
        let start = last.filter(|(x, _)| (x - from).abs() < 1e-6);
        if start.is_none() {
            pen.lift(body);
        }
        let (start, path) = match start {
            Some(start) => (start, vec![(from, y), (until, y)]),
            None => ((from, y), vec![(until, y)]),
        };
        pen.draw(body, point.is_marked, start, &path);
        last = Some((until, y));
        if point.is_marked && until - from >= 4.5 {
            let class = format!("ring l{series}");
            body.element("circle", &class, &circle((from + until) / 2.0, y, 2.2), "");
        }
    }
    pen.lift(body);
    for point in points {
        let (from, until) = (plot.x.at(point.from), plot.x.at(point.until));
        let y = plot.y.at(point.value);
        body.rectangle(
            "hover",
            (from, y - 4.0),
            (until.max(from + 2.0), y + 4.0),
            "",
            &point.title,
        );
    }
}

fn dots(body: &mut Canvas, series: usize, points: &[Point], at: &dyn Fn(&Point) -> (f64, f64)) {
    let radius = if points.len() > 2_000 { 2.0 } else { 3.2 };
    for point in points {
        let class = if point.is_marked { format!("ring l{series}") } else { format!("f{series}") };
        marker::draw(body, series, at(point), radius, &class, &point.title);
    }
}

/// Shows the value of each point on hover.
fn hovers(body: &mut Canvas, points: &[Point], at: &dyn Fn(&Point) -> (f64, f64)) {
    for point in points {
        let (x, y) = at(point);
        body.element("circle", "hover", &circle(x, y, 4.0), &point.title);
    }
}

fn circle(x: f64, y: f64, radius: f64) -> String {
    format!("cx=\"{}\" cy=\"{}\" r=\"{}\"", n(x), n(y), n(radius))
}

/// Draws paths. Filled and measured pieces are paths of their own.
struct Pen {
    series: usize,
    is_filled: bool,
    d: String,
}

impl Pen {
    fn new(series: usize) -> Pen {
        Pen { series, is_filled: false, d: String::new() }
    }

    /// Continues to these places, from a place at which the pen stands or is put.
    fn draw(&mut self, body: &mut Canvas, is_filled: bool, from: (f64, f64), to: &[(f64, f64)]) {
        if self.is_filled != is_filled {
            self.lift(body);
            self.is_filled = is_filled;
        }
        if self.d.is_empty() {
            self.d = format!("M{} {}", n(from.0), n(from.1));
        }
        to.iter().for_each(|(x, y)| self.d.push_str(&format!("L{} {}", n(*x), n(*y))));
    }

    fn lift(&mut self, body: &mut Canvas) {
        let series = self.series;
        let class = if self.is_filled {
            format!("line filled l{series}")
        } else {
            format!("line {}", style::line(series))
        };
        if !self.d.is_empty() {
            body.path(&class, &std::mem::take(&mut self.d), "");
        }
    }
}
