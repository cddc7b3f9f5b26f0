//! The font of pictures, DejaVu Sans: the width of texts.

use std::{borrow::Cow, sync::LazyLock};
use ttf_parser::Face;

/// The name of the font in an SVG. Other fonts are rarely wider, so texts still do not overlap.
pub(crate) const FAMILY: &str = "\"DejaVu Sans\", \"Bitstream Vera Sans\", Verdana, sans-serif";

struct Widths {
    font: Option<Face<'static>>,
    /// The widths of ASCII characters, for a font size of 1.
    ascii: [f64; 128],
}

impl Widths {
    fn new(file: &'static [u8]) -> Widths {
        let mut widths = Widths { font: Face::parse(file, 0).ok(), ascii: [0.0; 128] };
        widths.ascii = std::array::from_fn(|code| widths.measured(code as u8 as char));
        widths
    }

    /// A character that the font does not have is as wide as it is high.
    fn measured(&self, character: char) -> f64 {
        let width = self.font.as_ref().and_then(|font| {
            let width = font.glyph_hor_advance(font.glyph_index(character)?)?;
            Some(f64::from(width) / f64::from(font.units_per_em()))
        });
        width.unwrap_or(1.0)
    }

    fn of_text(&self, text: &str) -> f64 {
        let width = |character: char| match self.ascii.get(character as usize) {
            Some(width) => *width,
            None => self.measured(character),
        };
        text.chars().map(width).sum()
    }
}

static REGULAR: LazyLock<Widths> = LazyLock::new(|| Widths::new(dejavu::sans::regular()));
static BOLD: LazyLock<Widths> = LazyLock::new(|| Widths::new(dejavu::sans::bold()));

/// The width of a text in pixels.
pub(crate) fn width(text: &str, size: f64) -> f64 {
    REGULAR.of_text(text) * size
}

/// The width of a bold text in pixels.
pub(crate) fn bold_width(text: &str, size: f64) -> f64 {
    BOLD.of_text(text) * size
}

/// The text, shortened with `…` if it is wider than this.
pub(crate) fn shortened(text: &str, size: f64, most: f64) -> Cow<'_, str> {
    shortened_by(text, most, &|text| width(text, size))
}

/// The same for a bold text.
pub(crate) fn bold_shortened(text: &str, size: f64, most: f64) -> Cow<'_, str> {
    shortened_by(text, most, &|text| bold_width(text, size))
}

fn shortened_by<'a>(text: &'a str, most: f64, width: &dyn Fn(&str) -> f64) -> Cow<'a, str> {
    if width(text) <= most {
        return Cow::Borrowed(text);
    }
    let room = most - width("…");
    let mut used = 0.0;
    let mut kept = String::new();
    for character in text.chars() {
        used += width(character.encode_utf8(&mut [0; 4]));
        if used > room {
            break;
        }
        kept.push(character);
    }
    Cow::Owned(kept.trim_end().to_owned() + "…")
}

/// Words in lines that are not wider than this. A single word may be.
pub(crate) fn lines(text: &str, size: f64, most: f64) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if width(&format!("{line} {word}"), size) <= most => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_shortened_to_its_room() {
        let text = "Harbour master's launch";
        assert_eq!(shortened(text, 12.0, 1000.0), text);
        let short = shortened(text, 12.0, 60.0);
        assert!(short.ends_with('…') && width(&short, 12.0) <= 60.0, "{short}");
        assert!(width(text, 12.0) < bold_width(text, 12.0));
    }

    #[test]
    fn lines_keep_all_words() {
        let text = "1,096 rows drawn · 12 of them added · 3 set aside";
        let lines = lines(text, 11.0, 120.0);
        assert!(lines.len() > 1);
        assert_eq!(lines.join(" "), text);
    }
}
