//! Intervals: a bar for each, in a row for each entity.

use crate::{
    canvas::{Canvas, n},
    content::Interval,
    plot::Plot,
};
use std::collections::BTreeMap;

pub(crate) fn draw(body: &mut Canvas, intervals: &[Interval], plot: &Plot) {
    let half = (plot.row_height * 0.32).min(13.0);
    // Joined intervals have no titles, and one path for each series keeps the file small.
    let mut paths: BTreeMap<String, String> = BTreeMap::new();
    for interval in intervals {
        let (from, to) = (plot.x.at(interval.from), plot.x.at(interval.to));
        let y = plot.y.at(interval.row as f64 + 0.5);
        // A short interval is still seen.
        let to = to.max(from + 1.0);
        let series = interval.series;
        let (class, more) = match (interval.is_open, interval.is_marked) {
            (true, _) => (format!("open o{series}"), body.fade(series)),
            (_, true) => (format!("hollow f{series} l{series}"), String::new()),
            _ => (format!("edge f{series}"), String::new()),
        };
        if interval.title.is_empty() && !interval.is_open {
            let (width, height) = (n(to - from), n(2.0 * half));
            let d = format!("M{} {}h{width}v{height}h-{width}z", n(from), n(y - half));
            paths.entry(class).or_default().push_str(&d);
            continue;
        }
        body.rectangle(&class, (from, y - half), (to, y + half), &more, &interval.title);
    }
    paths.iter().for_each(|(class, d)| body.path(class, d, ""));
}
