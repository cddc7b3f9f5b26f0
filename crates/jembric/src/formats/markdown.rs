//! Writes Markdown: a table for a page.

use super::{
    Target,
    text::{CellText, in_stretches, numeric},
};
use crate::Table;
use std::io::{self, Write};

/// Writes a table of a Markdown page.
#[derive(Default)]
pub(crate) struct MarkdownWriter {
    /// Whether the header has been written.
    begun: bool,
}

impl Target for MarkdownWriter {
    fn write(&mut self, rows: &Table, to: &mut dyn Write) -> io::Result<()> {
        let header = !std::mem::replace(&mut self.begun, true);
        markdown(rows, header, to)
    }
}

fn markdown(table: &Table, header: bool, to: &mut dyn Write) -> io::Result<()> {
    let escaped =
        |text: &str| text.replace('\\', "\\\\").replace('|', "\\|").replace(['\r', '\n'], " ");
    let line = |to: &mut dyn Write, cells: &mut dyn Iterator<Item = String>| {
        for cell in cells {
            write!(to, "| {cell} ")?;
        }
        writeln!(to, "|")
    };
    if header {
        line(to, &mut table.names().map(escaped))?;
        let rule = |number: bool| if number { "---:" } else { "---" }.to_owned();
        line(to, &mut numeric(table).into_iter().map(rule))?;
    }
    let columns = CellText::for_columns(table);
    in_stretches(table.rows(), to, |mut rows, to| {
        rows.try_for_each(|row| line(to, &mut columns.iter().map(|cell| escaped(&cell.text(row)))))
    })
}
