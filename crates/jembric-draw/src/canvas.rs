//! [`Canvas`]: SVG elements as text. Every text is escaped, and characters that XML does not allow
//! are replaced.

use quick_xml::escape::escape;
use std::{borrow::Cow, fmt::Write as _};

/// SVG elements.
#[derive(Clone, Debug, Default)]
pub(crate) struct Canvas {
    pub(crate) svg: String,
    /// The start of every id, so that several pictures can stand on one page.
    pub(crate) ids: String,
}

/// Where a text stands relative to its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Anchor {
    Start,
    Middle,
    End,
}

/// A number of pixels with at most two decimals.
pub(crate) fn n(pixels: f64) -> String {
    let text = format!("{pixels:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

/// A text for XML.
pub(crate) fn escaped(text: &str) -> Cow<'_, str> {
    let is_allowed = |c: char| matches!(c, '\t' | '\n' | '\r' | ' '..='\u{fffd}' | '\u{10000}'..);
    if text.chars().all(is_allowed) {
        return escape(text);
    }
    let replaced: String =
        text.chars().map(|c| if is_allowed(c) { c } else { '\u{fffd}' }).collect();
    Cow::Owned(escape(replaced.as_str()).into_owned())
}

impl Canvas {
    pub(crate) fn open(&mut self, class: &str) {
        // Writing to a string cannot fail.
        let _ = write!(self.svg, "<g class=\"{class}\">");
    }

    /// The attribute of a shape that fades out in the colour of a series.
    pub(crate) fn fade(&self, series: usize) -> String {
        format!(" fill=\"url(#{}fade{series})\"", self.ids)
    }

    pub(crate) fn close(&mut self) {
        self.svg.push_str("</g>\n");
    }

    /// An element with attributes, and a title that is shown on hover, if there is one.
    pub(crate) fn element(&mut self, name: &str, class: &str, attributes: &str, title: &str) {
        let _ = write!(self.svg, "<{name} class=\"{class}\" {attributes}");
        match title {
            "" => self.svg.push_str("/>"),
            title => {
                let _ = write!(self.svg, "><title>{}</title></{name}>", escaped(title));
            }
        }
    }

    pub(crate) fn path(&mut self, class: &str, d: &str, title: &str) {
        self.element("path", class, &format!("d=\"{d}\""), title);
    }

    pub(crate) fn line(&mut self, class: &str, from: (f64, f64), to: (f64, f64), title: &str) {
        let d = format!("M{} {}L{} {}", n(from.0), n(from.1), n(to.0), n(to.1));
        self.path(class, &d, title);
    }

    /// A rectangle between two corners, in any order.
    pub(crate) fn rectangle(
        &mut self,
        class: &str,
        one: (f64, f64),
        other: (f64, f64),
        more: &str,
        title: &str,
    ) {
        let (x, y) = (one.0.min(other.0), one.1.min(other.1));
        let (width, height) = ((one.0 - other.0).abs(), (one.1 - other.1).abs());
        let place = format!(
            "x=\"{}\" y=\"{}\" width=\"{}\" height=\"{}\"{more}",
            n(x),
            n(y),
            n(width),
            n(height)
        );
        self.element("rect", class, &place, title);
    }

    /// A text; the title is the full text, if it was shortened.
    pub(crate) fn text(
        &mut self,
        class: &str,
        at: (f64, f64),
        anchor: Anchor,
        text: &str,
        title: &str,
    ) {
        let anchor = match anchor {
            Anchor::Start => "",
            Anchor::Middle => " text-anchor=\"middle\"",
            Anchor::End => " text-anchor=\"end\"",
        };
        let title = if title == text || title.is_empty() {
            String::new()
        } else {
            format!("<title>{}</title>", escaped(title))
        };
        let (x, y, text) = (n(at.0), n(at.1), escaped(text));
        let _ = write!(
            self.svg,
            "<text class=\"{class}\" x=\"{x}\" y=\"{y}\"{anchor}>{text}{title}</text>"
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn texts_are_escaped_and_pixels_are_short() {
        assert_eq!(escaped("</text><script>"), "&lt;/text&gt;&lt;script&gt;");
        assert_eq!(escaped("bell\u{7}"), "bell\u{fffd}");
        assert_eq!([1.0, 2.5, -0.001, 3.1355].map(n), ["1", "2.5", "0", "3.14"]);
    }
}
