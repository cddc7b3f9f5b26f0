//! Checks the XML of an ODS workbook before it is read: the XML must be complete, and must not
//! stand for many more cells than it has.

use quick_xml::{
    Reader,
    events::{BytesStart, Event},
};
use std::io::{BufReader, Read, Seek};

/// The memory of a cell while a sheet is read.
const CELL: u64 = 32;

/// Errors: a part is not complete XML, and why; or, without a text, the sheets need more memory
/// than the limit.
pub(super) fn check(book: impl Read + Seek, most: u64) -> Result<(), Option<String>> {
    let problem = |error: &dyn std::fmt::Display| Some(error.to_string());
    let mut archive = zip::ZipArchive::new(book).map_err(|error| problem(&error))?;
    for part in ["content.xml", "styles.xml", "settings.xml"] {
        // If a part is missing, the reader reports it.
        let Ok(part) = archive.by_name(part) else { continue };
        let mut reader = Reader::from_reader(BufReader::new(part));
        let (mut depth, mut buffer, mut sheet) = (0_u64, Vec::new(), SheetExtent::default());
        loop {
            buffer.clear();
            match reader.read_event_into(&mut buffer).map_err(|error| problem(&error))? {
                Event::Start(element) => {
                    depth += 1;
                    sheet.begin(&element);
                }
                Event::Empty(element) => {
                    sheet.begin(&element);
                    sheet.end(element.name().as_ref());
                }
                Event::End(element) => {
                    depth = depth.saturating_sub(1);
                    sheet.end(element.name().as_ref());
                }
                Event::Text(text) => sheet.text += text.len() as u64,
                Event::Eof if depth > 0 => {
                    return Err(Some("its XML is incomplete".to_owned()));
                }
                Event::Eof => break,
                _ => {}
            }
            if sheet.bytes() > most {
                return Err(None);
            }
        }
    }
    Ok(())
}

/// The number of cells and bytes of text that a sheet stands for.
#[derive(Default)]
struct SheetExtent {
    /// The rows up to the last one with a value, and those after it.
    rows: u64,
    empty_rows: u64,
    /// The widest row, up to its last value.
    width: u64,
    texts: u64,
    row: Row,
    /// The text of the current cell, and how often it is repeated.
    text: u64,
    cell: Option<u64>,
}

#[derive(Default)]
struct Row {
    repeated: u64,
    /// The cells up to the last value, and all cells.
    used: u64,
    cells: u64,
    texts: u64,
}

/// How often an element is repeated.
fn repeated(element: &BytesStart<'_>, attribute: &str) -> u64 {
    let value = element.try_get_attribute(attribute).ok().flatten();
    let value = value.and_then(|value| value.value.trim().parse().ok());
    value.unwrap_or(1)
}

impl SheetExtent {
    fn begin(&mut self, element: &BytesStart<'_>) {
        match element.name().as_ref() {
            "table:table" => *self = SheetExtent::default(),
            "table:table-row" => {
                self.row = Row {
                    repeated: repeated(element, "table:number-rows-repeated"),
                    ..Row::default()
                };
            }
            "table:table-cell" | "table:covered-table-cell" => {
                self.text = 0;
                self.cell = Some(repeated(element, "table:number-columns-repeated"));
                if element.try_get_attribute("office:value-type").ok().flatten().is_some() {
                    self.row.used = self.row.cells.saturating_add(self.cell.unwrap_or(0));
                }
            }
            _ => {}
        }
    }

    fn end(&mut self, name: &str) {
        match name {
            "table:table-row" => {
                self.empty_rows = self.empty_rows.saturating_add(self.row.repeated);
                if self.row.used > 0 {
                    self.rows = self.rows.saturating_add(std::mem::take(&mut self.empty_rows));
                    self.width = self.width.max(self.row.used);
                    let texts = self.row.texts.saturating_mul(self.row.repeated);
                    self.texts = self.texts.saturating_add(texts);
                }
            }
            "table:table-cell" | "table:covered-table-cell" => {
                let times = self.cell.take().unwrap_or(0);
                self.row.cells = self.row.cells.saturating_add(times);
                self.row.texts = self.row.texts.saturating_add(self.text.saturating_mul(times));
            }
            _ => {}
        }
    }

    fn bytes(&self) -> u64 {
        self.rows.saturating_mul(self.width).saturating_mul(CELL).saturating_add(self.texts)
    }
}
