//! [`Picture`]: what was read, ready to be drawn in any output.

use crate::{
    account::foot,
    content::{Content, Up},
    draw::Draw,
    frame::Frame,
    kinds::{Form, Paper, Size},
    layout::{self, Place},
    png, style,
    text::{self, TextPicture},
};
use jembric_core::{Ledger, Result};

/// The rules of a style sheet for the pictures of an HTML page
/// ([`svg_on_page`](Picture::svg_on_page)), light or dark as the viewer prefers.
pub fn page_style() -> String {
    format!("svg.picture{{{}}}\n", style::css(Paper::Viewer))
}

/// A picture of a table: SVG, PNG, or text for a terminal.
#[derive(Clone, Debug)]
#[must_use]
pub struct Picture {
    pub(crate) draw: Draw,
    pub(crate) content: Content,
    ledger: Ledger,
    /// The ledgers of the steps before.
    before: Vec<Ledger>,
}

impl Picture {
    pub(crate) fn new(draw: Draw, content: Content, ledger: Ledger) -> Picture {
        Picture { draw, content, ledger, before: Vec::new() }
    }

    /// Adds the ledgers of the steps before, so that the foot line accounts for their rows as well.
    pub fn after<'a>(mut self, ledgers: impl IntoIterator<Item = &'a Ledger>) -> Picture {
        self.before.extend(ledgers.into_iter().cloned());
        self
    }

    fn frame(&self) -> Frame<'_> {
        let Picture { draw, content, .. } = self;
        Frame { content, draw, title: self.title(), account: self.account() }
    }

    /// The form that is drawn.
    pub fn form(&self) -> Form {
        self.content.form
    }

    /// What happened to every row of the table.
    pub fn ledger(&self) -> &Ledger {
        &self.ledger
    }

    /// The title: the one that was set, or the names of the columns.
    pub fn title(&self) -> String {
        if let Some(title) = &self.draw.title {
            return title.clone();
        }
        let Content { form, up_name, along_name, series_of, series, .. } = &self.content;
        if *form == Form::Intervals {
            let per = [up_name.as_str(), series_of].into_iter().filter(|name| !name.is_empty());
            let per: Vec<&str> = per.collect();
            let by =
                if per.is_empty() { String::new() } else { format!(" by {}", per.join(" and ")) };
            return format!("{along_name}{by}");
        }
        let figures = match up_name.as_str() {
            "" => series.join(", "),
            name => name.to_owned(),
        };
        if self.content.up == Up::Rows {
            let by = if series_of.is_empty() { String::new() } else { format!(" by {series_of}") };
            return format!("{along_name}{by}");
        }
        let by = [along_name.as_str(), series_of.as_str()];
        let by: Vec<&str> = by.into_iter().filter(|name| !name.is_empty()).collect();
        let figures = if figures.is_empty() { form.to_string() } else { figures };
        if by.is_empty() { figures } else { format!("{figures} by {}", by.join(" and ")) }
    }

    /// The foot line: the rows that are drawn, that were added, and that were set aside.
    pub fn account(&self) -> String {
        foot(self.content.drawn, &self.ledger, &self.before)
    }

    /// The picture as SVG: text that can be selected and read aloud, the value of each mark on
    /// hover, no script, and nothing from elsewhere.
    pub fn svg(&self) -> String {
        layout::svg(&self.frame(), Place::Alone(self.draw.paper))
    }

    /// The picture as an SVG element of an HTML page, which has the style of all its pictures
    /// ([`page_style`]) once. The ids of the element begin with a text. On a page, the paper is
    /// always that of the viewer.
    pub fn svg_on_page(&self, ids: &str) -> String {
        layout::svg(&self.frame(), Place::OnPage(ids))
    }

    /// The same picture in another size.
    pub fn resized(&self, size: Size) -> Picture {
        let mut picture = self.clone();
        picture.draw.size = size;
        picture
    }

    /// The picture as PNG, in a font that is part of the program. The same picture gives the same
    /// bytes on every machine.
    ///
    /// Errors: the picture is too large for memory.
    pub fn png(&self) -> Result<Vec<u8>> {
        // A PNG cannot follow the viewer.
        let paper = if self.draw.paper == Paper::Dark { Paper::Dark } else { Paper::Light };
        png::rasterize(&layout::svg(&self.frame(), Place::Alone(paper)))
    }

    /// The picture as text of this many columns and at most this many lines.
    pub fn text(&self, width: u16, height: u16) -> TextPicture {
        text::render(&self.frame(), width, height)
    }
}
