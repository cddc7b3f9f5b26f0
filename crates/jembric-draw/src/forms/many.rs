//! Many points: the extremes of each part of the axis, and grids of dots.

use crate::{
    canvas::{Canvas, n},
    content::{Along, CalendarCells, Content, Extremes},
    kinds::Form,
    numbers::shown,
    plot::Plot,
    style,
};

/// The most stretches of an axis that show their values on hover.
const HOVERS: usize = 240;

/// Lines through the least and greatest values of each part, or bars up to them.
pub(crate) fn extremes(body: &mut Canvas, content: &Content, series: &[Extremes], plot: &Plot) {
    let zero = plot.y.at(0.0_f64.clamp(plot.y.low, plot.y.high));
    for one in series {
        let parts = one.parts.len() as f64;
        let x = |part: f64| plot.x.start + part / parts * (plot.x.end - plot.x.start);
        let d = match content.form {
            Form::Bars => bars(&one.parts, &x, zero, plot),
            _ => line(&one.parts, &x, plot),
        };
        let class = match (content.form, one.is_marked) {
            (Form::Bars, _) => format!("f{}", one.series),
            (_, true) => format!("fine filled l{}", one.series),
            (_, false) => format!("fine {}", style::line(one.series)),
        };
        if !d.is_empty() {
            body.path(&class, &d, "");
        }
    }
    hovers(body, content, series, plot);
}

/// A path that reaches both extremes of each part, and breaks where values are missing.
fn line(parts: &[(f64, f64)], x: &dyn Fn(f64) -> f64, plot: &Plot) -> String {
    let is_filled = |part: &&(usize, &(f64, f64))| part.1.0 <= part.1.1;
    let filled: Vec<(usize, &(f64, f64))> =
        parts.iter().enumerate().filter(|part| is_filled(&part)).collect();
    // Where dates are farther apart than pixels, empty parts between them are no gaps: the most
    // frequent distance is. Rounding to parts makes it one longer now and then.
    let mut distances: Vec<usize> = filled.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    distances.sort_unstable();
    let usual = distances.chunk_by(|one, next| one == next).max_by_key(|run| run.len());
    let most = usual.map_or(1, |run| run[0]) + usize::from(usual.is_some_and(|run| run[0] > 1));
    let mut d = String::new();
    let mut last: Option<(usize, f64)> = None;
    for (part, (low, high)) in filled {
        let at = x(part as f64 + 0.5);
        let (bottom, top) = (plot.y.at(*low), plot.y.at(*high));
        // Begin with the extreme that is nearer to the part before.
        let (first, second) = match last {
            Some((_, y)) if (y - top).abs() < (y - bottom).abs() => (top, bottom),
            _ => (bottom, top),
        };
        let joins = last.is_some_and(|(before, _)| part - before <= most);
        d.push_str(&format!("{}{} {}", if joins { "L" } else { "M" }, n(at), n(first)));
        // A part with one value needs a short line to be seen.
        match (first == second, joins) {
            (false, _) => d.push_str(&format!("V{}", n(second))),
            (true, false) => d.push_str("h0.8"),
            (true, true) => {}
        }
        last = Some((part, second));
    }
    d
}

/// A bar from zero to both extremes of each part.
fn bars(parts: &[(f64, f64)], x: &dyn Fn(f64) -> f64, zero: f64, plot: &Plot) -> String {
    let mut d = String::new();
    for (part, (low, high)) in parts.iter().enumerate().filter(|(_, (low, high))| low <= high) {
        let top = plot.y.at(high.max(0.0)).min(zero);
        let bottom = plot.y.at(low.min(0.0)).max(zero);
        let (left, right) = (x(part as f64), x(part as f64 + 1.0));
        d.push_str(&format!("M{} {}H{}V{}H{}Z", n(left), n(top), n(right), n(bottom), n(left)));
    }
    d
}

/// Shows the range of values in stretches of the axis.
fn hovers(body: &mut Canvas, content: &Content, series: &[Extremes], plot: &Plot) {
    let parts = series.first().map_or(0, |one| one.parts.len());
    let panels = content.panels.len().max(1);
    let stretch = parts.div_ceil((HOVERS / panels.min(8)).max(1)).max(1);
    let (low, high) = content.along.range();
    let place = |part: usize| low + part as f64 / parts as f64 * (high - low);
    for from in (0..parts).step_by(stretch) {
        let to = (from + stretch).min(parts);
        let mut lines = Vec::new();
        for one in series {
            let both =
                |(low, high): (f64, f64), part: &(f64, f64)| (low.min(part.0), high.max(part.1));
            let (least, greatest) =
                one.parts[from..to].iter().fold((f64::INFINITY, f64::NEG_INFINITY), both);
            if least > greatest {
                continue;
            }
            let name = content.series.get(one.series).filter(|name| !name.is_empty());
            let name = name.unwrap_or(&content.up_name);
            let filled = if one.is_marked { " (filled)" } else { "" };
            lines.push(if least == greatest {
                format!("{name}: {}{filled}", shown(least))
            } else {
                format!("{name}: {} to {}{filled}", shown(least), shown(greatest))
            });
        }
        if lines.is_empty() {
            continue;
        }
        let when = match &content.along {
            Along::Time(span) => {
                let (from, to) = (span.text_at(place(from)), span.text_at(place(to) - 1.0));
                if from == to { from } else { format!("{from} to {to}") }
            }
            _ => format!("{} to {}", shown(place(from)), shown(place(to))),
        };
        let x =
            |part: usize| plot.x.start + part as f64 / parts as f64 * (plot.x.end - plot.x.start);
        let title = format!("{when}\n{}", lines.join("\n"));
        body.rectangle("hover", (x(from), plot.y.start), (x(to), plot.y.end), "", &title);
    }
}

/// The cells of grids that have a dot. Neighbours in a row are one rectangle.
pub(crate) fn cells(body: &mut Canvas, series: &[CalendarCells], plot: &Plot) {
    for grid in series {
        let width = (plot.x.end - plot.x.start) / grid.columns as f64;
        let (bottom, top) = (plot.y.start.max(plot.y.end), plot.y.start.min(plot.y.end));
        let height = (bottom - top) / grid.rows as f64;
        // Dots in rows stay small.
        let tall = height.min(6.0);
        let mut d = String::new();
        for row in 0..grid.rows {
            let y = bottom - (row as f64 + 0.5) * height - tall / 2.0;
            let mut column = 0;
            while column < grid.columns {
                let is_filled =
                    |column: usize| column < grid.columns && grid.filled[column * grid.rows + row];
                if !is_filled(column) {
                    column += 1;
                    continue;
                }
                let start = column;
                while is_filled(column) {
                    column += 1;
                }
                let x = plot.x.start + start as f64 * width;
                let run = (column - start) as f64 * width;
                d.push_str(&format!("M{} {}h{}v{}h-{}z", n(x), n(y), n(run), n(tall), n(run)));
            }
        }
        if !d.is_empty() {
            body.path(&format!("f{}", grid.series), &d, "");
        }
    }
}
