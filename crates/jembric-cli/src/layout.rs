//! Lays out a table for a terminal: chooses the columns that fit, their widths, and the text of
//! each cell.
//!
//! A date, a number or a short text is never broken. On a narrow terminal long texts are shortened
//! first, down to [`NARROWEST_TEXT`]. Columns that still do not fit are left out from the right, or
//! follow in further blocks if all columns were asked for.

use comfy_table::{Cell, CellAlignment, ContentLineStyle, LineStyle, Table as Grid, TableStyle};
use jembric::{
    Table, Type,
    arrow::{Float64Array, cast::AsArray, types::Float64Type},
    io::CellText,
    rounded, visible,
};
use std::fmt::Write as _;
use textwrap::core::display_width;

/// A text column is never narrower than this, so that names keep their characters.
const NARROWEST_TEXT: usize = 12;
/// Only longer column names are shortened.
const WIDEST_NAME: usize = 20;
/// The blanks around each cell.
const PADDING: usize = 2;

/// A column with the text of its cells.
#[derive(Clone)]
pub(crate) struct ShownColumn {
    name: String,
    cells: Vec<String>,
    to_the_right: bool,
    /// Whether its cells may be shortened.
    is_text: bool,
}

impl ShownColumn {
    /// A column of texts, which may be shortened.
    pub(crate) fn of_texts(name: &str, cells: impl IntoIterator<Item = String>) -> ShownColumn {
        let cells = cells.into_iter().map(|cell| printable(&cell)).collect();
        ShownColumn { name: printable(name), cells, to_the_right: false, is_text: true }
    }

    /// A column of words that are never shortened.
    pub(crate) fn of_words(name: &str, cells: impl IntoIterator<Item = String>) -> ShownColumn {
        ShownColumn { is_text: false, ..ShownColumn::of_texts(name, cells) }
    }

    /// A column of numbers, which are aligned to the right.
    pub(crate) fn of_numbers(name: &str, cells: impl IntoIterator<Item = String>) -> ShownColumn {
        ShownColumn { to_the_right: true, ..ShownColumn::of_words(name, cells) }
    }

    /// The columns of a table.
    pub(crate) fn all_of(table: &Table) -> Vec<ShownColumn> {
        let shape = table.shape();
        let columns = shape.columns().iter().zip(table.columns()).zip(CellText::for_columns(table));
        let shown = columns.map(|((about, array), text)| {
            let cells = (0..table.rows()).map(|row| text.text(row));
            match about.kind {
                Some(Type::Float) => {
                    let floats: &Float64Array = array.as_primitive::<Float64Type>();
                    ShownColumn::of_numbers(&about.name, on_the_point(floats))
                }
                Some(Type::Integer | Type::Decimal { .. }) => {
                    ShownColumn::of_numbers(&about.name, cells)
                }
                Some(Type::Text) => ShownColumn::of_texts(&about.name, cells),
                _ => ShownColumn::of_words(&about.name, cells),
            }
        });
        shown.collect()
    }

    /// The width at which no cell is shortened.
    fn full_width(&self) -> usize {
        let cells = self.cells.iter().map(|cell| display_width(cell));
        cells.chain([display_width(&self.name)]).max().unwrap_or(0)
    }

    /// The least width at which no date, number or short text is broken.
    fn least_width(&self) -> usize {
        let name = display_width(&self.name).min(WIDEST_NAME);
        let cells = self.cells.iter().map(|cell| display_width(cell)).max().unwrap_or(0);
        name.max(if self.is_text { cells.min(NARROWEST_TEXT) } else { cells })
    }
}

/// Formats the columns that fit into the width, and returns the names of the others.
pub(crate) fn fitting(columns: &[ShownColumn], width: Option<u16>) -> (String, Vec<&str>) {
    let all: Vec<&ShownColumn> = columns.iter().collect();
    let fit = how_many_fit(&all, width);
    let left_out = columns[fit..].iter().map(|column| &*column.name).collect();
    (drawn(&all[..fit], width), left_out)
}

/// Formats all columns, in blocks below each other if they do not fit side by side. Every block
/// begins with the first column, so that a reader can match the rows.
pub(crate) fn in_blocks(columns: &[ShownColumn], width: Option<u16>) -> String {
    let Some((first, mut rest)) = columns.split_first() else { return String::new() };
    let mut text = String::new();
    loop {
        let block: Vec<&ShownColumn> = std::iter::once(first).chain(rest).collect();
        // Every block has at least one column besides the first, even if it is too wide. Otherwise
        // the loop would not end.
        let fit = how_many_fit(&block, width).max(block.len().min(2));
        text += &drawn(&block[..fit], width);
        rest = &rest[fit - 1..];
        if rest.is_empty() {
            return text;
        }
        text.push('\n');
    }
}

/// The number of columns that fit, from the left; at least one.
fn how_many_fit(columns: &[&ShownColumn], width: Option<u16>) -> usize {
    let Some(width) = width else { return columns.len() };
    let mut used = 0;
    let fits = |column: &&&ShownColumn| {
        used += column.least_width() + PADDING;
        used <= usize::from(width)
    };
    columns.iter().take_while(fits).count().max(1).min(columns.len())
}

/// The widths of columns that fit. The space that is left goes to the shortened columns, up to a
/// common width.
fn widths(columns: &[&ShownColumn], width: Option<u16>) -> Vec<usize> {
    let full: Vec<usize> = columns.iter().map(|column| column.full_width()).collect();
    let Some(width) = width.map(usize::from) else { return full };
    let least: Vec<usize> = columns.iter().map(|column| column.least_width()).collect();
    let capped = |cap: usize| -> Vec<usize> {
        full.iter().zip(&least).map(|(&full, &least)| full.min(cap.max(least))).collect()
    };
    let fits = |widths: &[usize]| widths.iter().map(|w| w + PADDING).sum::<usize>() <= width;
    (0..=width).rev().map(capped).find(|widths| fits(widths)).unwrap_or(least)
}

fn drawn(columns: &[&ShownColumn], width: Option<u16>) -> String {
    let mut grid = Grid::new();
    let style = TableStyle::new()
        .header_separator(LineStyle::none().fill('─'))
        .header_lines(ContentLineStyle::none())
        .content_lines(ContentLineStyle::none());
    grid.load_style(style);
    let widths = widths(columns, width);
    let aligned = |text: &dyn Fn(&ShownColumn) -> String| -> Vec<Cell> {
        let cell = |(column, &width): (&&ShownColumn, &usize)| {
            let alignment =
                if column.to_the_right { CellAlignment::Right } else { CellAlignment::Left };
            Cell::new(shortened(&text(column), width)).set_alignment(alignment)
        };
        columns.iter().zip(&widths).map(cell).collect()
    };
    grid.set_header(aligned(&|column| column.name.clone()));
    for row in 0..columns.first().map_or(0, |column| column.cells.len()) {
        grid.add_row(aligned(&|column| column.cells[row].clone()));
    }
    // Remove trailing blanks.
    grid.lines().fold(String::new(), |mut text, line| {
        let _ = writeln!(text, "{}", line.trim_end());
        text
    })
}

/// Cuts a text that is wider than its column, and ends it with `…`.
pub(crate) fn shortened(text: &str, width: usize) -> String {
    if display_width(text) <= width {
        return text.to_owned();
    }
    let mut used = 0;
    let fits = |&(_, c): &(usize, char)| {
        used += display_width(c.encode_utf8(&mut [0; 4]));
        used < width
    };
    let end = text.char_indices().take_while(fits).last().map_or(0, |(at, c)| at + c.len_utf8());
    format!("{}…", &text[..end])
}

/// A cell's text on one line, with control characters escaped.
pub(crate) fn printable(text: &str) -> String {
    visible(&text.replace('\n', "\\n")).into_owned()
}

/// Formats floats with at most six significant digits, padded so that their decimal points align
/// when the column is aligned to the right.
fn on_the_point(floats: &Float64Array) -> Vec<String> {
    let texts: Vec<String> = floats.iter().map(|n| n.map(rounded).unwrap_or_default()).collect();
    let behind = |text: &str| text.find('.').map_or(0, |point| text.len() - point);
    let most = texts.iter().map(|text| behind(text)).max().unwrap_or(0);
    texts.into_iter().map(|text| format!("{text}{}", " ".repeat(most - behind(&text)))).collect()
}

#[cfg(test)]
mod tests;
