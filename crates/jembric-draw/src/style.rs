//! The style of an SVG: colours for both papers, and fades of open intervals.

use crate::{
    content::Content,
    font::FAMILY,
    kinds::Paper,
    palette::{Colours, DARK, LIGHT, SERIES, SHADES},
};
use std::fmt::Write as _;

/// Dashes of lines: a second cue besides colour.
const DASHES: [&str; 6] = ["", "8 3", "4 2", "11 3 2 3", "6 2 2 2 2 2", "16 4"];

/// The rules of an SVG. A viewer that prefers dark paper gets it, unless a paper is set.
pub(crate) fn css(paper: Paper) -> String {
    let colours = if paper == Paper::Dark { &*DARK } else { &*LIGHT };
    let mut css = String::from("\n");
    let _ = writeln!(css, "text{{font-family:{FAMILY};font-size:11px}}");
    css.push_str(".title{font-size:15px;font-weight:bold}\n");
    css.push_str(".name{font-size:12px;font-weight:bold}\n");
    css.push_str(".foot text{font-size:10.5px}\n");
    css.push_str(".line{fill:none;stroke-width:1.75;stroke-linejoin:round}\n");
    css.push_str(".fine{fill:none;stroke-width:1.1;stroke-linejoin:round}\n");
    css.push_str(".filled{stroke-dasharray:1 3;stroke-linecap:round}\n");
    css.push_str(".hollow{fill-opacity:0.12;stroke-width:1.25;stroke-dasharray:3 2}\n");
    css.push_str(".ring{stroke-width:1.25}\n");
    css.push_str(".halo{paint-order:stroke;stroke-width:3;stroke-linejoin:round}\n");
    // Intervals that overlap show through, and neighbours have an edge.
    css.push_str(".edge{fill-opacity:0.85;stroke-width:0.6}\n");
    css.push_str(".grid,.axis,.level{fill:none;stroke-width:1}\n");
    css.push_str(".level{stroke-dasharray:6 3}\n");
    css.push_str(".hover{fill:none;stroke:none;pointer-events:all}\n");
    for (n, dash) in DASHES.iter().enumerate().skip(1) {
        let _ = writeln!(css, ".dash{n}{{stroke-dasharray:{dash}}}");
    }
    css.push_str(&rules(colours));
    if paper == Paper::Viewer {
        let dark = rules(&DARK);
        let _ = write!(css, "@media screen and (prefers-color-scheme:dark){{\n{dark}}}\n");
    }
    css
}

/// The classes of the line of a series.
pub(crate) fn line(series: usize) -> String {
    match series % DASHES.len() {
        0 => format!("l{series}"),
        dash => format!("l{series} dash{dash}"),
    }
}

/// The rules that differ between papers.
fn rules(colours: &Colours) -> String {
    let Colours { paper, ink, muted, grid, axis, series, shades } = colours;
    let mut css = format!(
        ".paper{{fill:{paper}}}\n.ink{{fill:{ink}}}\n.muted{{fill:{muted}}}\n\
         .grid{{stroke:{grid}}}\n.blank{{fill:{grid}}}\n.axis,.level{{stroke:{axis}}}\n\
         .ring{{fill:{paper}}}.edge,.halo{{stroke:{paper}}}\n"
    );
    for (n, color) in series.iter().enumerate().take(SERIES) {
        let _ = writeln!(
            css,
            ".l{n}{{stroke:{color}}}.f{n}{{fill:{color}}}.c{n}{{stop-color:{color}}}"
        );
    }
    for (n, color) in shades.iter().enumerate().take(SHADES) {
        let _ = writeln!(css, ".s{n}{{fill:{color}}}.r{n}{{stroke:{color}}}");
    }
    css
}

/// A gradient for each series, in which an open interval fades out.
pub(crate) fn fades(content: &Content, ids: &str) -> String {
    if !content.has_open {
        return String::new();
    }
    let mut defs = String::from("<defs>");
    for n in 0..content.series.len().max(1) {
        let _ = write!(
            defs,
            "<linearGradient id=\"{ids}fade{n}\"><stop class=\"c{n}\" offset=\"0\"/>\
             <stop class=\"c{n}\" offset=\"0.75\"/>\
             <stop class=\"c{n}\" offset=\"1\" stop-opacity=\"0.08\"/></linearGradient>"
        );
    }
    defs.push_str("</defs>\n");
    defs
}
