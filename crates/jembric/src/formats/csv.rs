//! Writes CSV: comma-separated values by RFC 4180, with a header.

use super::{
    Target,
    text::{CellText, in_stretches},
};
use crate::{Table, Type};
use std::io::{self, Write};

/// Writes CSV.
#[derive(Default)]
pub(crate) struct CsvWriter {
    /// Whether the header has been written.
    begun: bool,
}

impl Target for CsvWriter {
    fn write(&mut self, rows: &Table, to: &mut dyn Write) -> io::Result<()> {
        let header = !std::mem::replace(&mut self.begun, true);
        csv(rows, header, to)
    }
}

fn csv(table: &Table, header: bool, to: &mut dyn Write) -> io::Result<()> {
    if header {
        let mut line = String::new();
        for (n, name) in table.names().enumerate() {
            line.push_str(if n > 0 { "," } else { "" });
            let from = line.len();
            line.push_str(name);
            quote(&mut line, from);
        }
        to.write_all(line.as_bytes())?;
        to.write_all(b"\n")?;
    }
    let shape = table.shape();
    let is_text: Vec<bool> =
        shape.columns().iter().map(|column| column.kind == Some(Type::Text)).collect();
    let columns = CellText::for_columns(table);
    in_stretches(table.rows(), to, |rows, to| {
        // The buffer is empty, but keeps its memory.
        let mut text = String::from_utf8(std::mem::take(to)).unwrap_or_default();
        for row in rows {
            let begin = text.len();
            for (n, (column, &is_text)) in columns.iter().zip(&is_text).enumerate() {
                text.push_str(if n > 0 { "," } else { "" });
                let from = text.len();
                column.append(row, &mut text);
                // Only texts can contain characters that need quotes.
                if is_text {
                    quote(&mut text, from);
                }
            }
            // An empty line would be read as no record, so write a quoted empty cell.
            if columns.len() == 1 && text.len() == begin {
                text.push_str("\"\"");
            }
            text.push('\n');
        }
        *to = text.into_bytes();
        Ok(())
    })
}

/// Quotes the cell that begins here, if RFC 4180 requires it.
fn quote(text: &mut String, from: usize) {
    if text.as_bytes()[from..].iter().any(|byte| matches!(byte, b',' | b'"' | b'\n' | b'\r')) {
        let cell = text.split_off(from).replace('"', "\"\"");
        text.extend(["\"", cell.as_str(), "\""]);
    }
}
