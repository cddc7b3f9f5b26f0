//! That a workbook opens well, as its XML tells: number formats, alignment, widths, frozen names.

use crate::harness::{harbour, run};
use rstest::rstest;
use std::{fs, io::Read, path::Path};
use tempfile::TempDir;

/// A part of a workbook as text.
fn part(book: &Path, name: &str) -> String {
    let mut archive = zip::ZipArchive::new(fs::File::open(book).unwrap()).unwrap();
    let mut text = String::new();
    archive.by_name(name).unwrap().read_to_string(&mut text).unwrap();
    text
}

/// What stands between two texts.
fn between<'a>(text: &'a str, from: &str, to: &str) -> &'a str {
    let start = text.find(from).unwrap_or_else(|| panic!("{from} in {text}")) + from.len();
    &text[start..start + text[start..].find(to).unwrap()]
}

struct Book {
    sheet: String,
    styles: String,
}

impl Book {
    /// The element of a cell.
    fn cell(&self, name: &str) -> &str {
        between(&self.sheet, &format!("<c r=\"{name}\""), "</c>")
    }

    /// The style of a cell, with its alignment.
    fn style(&self, cell: &str) -> &str {
        let number: usize = between(self.cell(cell), " s=\"", "\"").parse().unwrap();
        let styles = between(&self.styles, "<cellXfs", "</cellXfs>");
        styles.split("<xf ").nth(number + 1).unwrap()
    }

    /// The number format of a cell.
    fn format(&self, cell: &str) -> &str {
        let id = between(self.style(cell), "numFmtId=\"", "\"");
        between(&self.styles, &format!("numFmtId=\"{id}\" formatCode=\""), "\"")
    }

    /// The width of a column, from 1.
    fn width(&self, column: usize) -> f64 {
        let columns = between(&self.sheet, "<cols>", "</cols>").split("<col ").skip(1);
        let bound =
            |text: &str, name: &str| -> usize { between(text, name, "\"").parse().unwrap() };
        let of = columns
            .into_iter()
            .find(|text| (bound(text, "min=\"")..=bound(text, "max=\"")).contains(&column));
        between(of.unwrap(), "width=\"", "\"").parse().unwrap()
    }
}

fn book(directory: &Path, command: &[&str]) -> Book {
    let ran = run(directory, &[command, &["--out", "book.xlsx", "-q"]].concat());
    assert_eq!(ran.code, 0, "{}", ran.err);
    let path = directory.join("book.xlsx");
    let [sheet, styles] =
        ["xl/worksheets/sheet1.xml", "xl/styles.xml"].map(|name| part(&path, name));
    Book { sheet, styles }
}

#[rstest]
fn dates_and_amounts_are_numbers_with_their_formats(harbour: TempDir) {
    // invoice, vessel, class, issued, due, paid, amount
    let book = book(harbour.path(), &["sort", "dues.csv", "invoice"]);
    assert_eq!(book.format("D2"), "yyyy-mm-dd");
    assert_eq!(between(book.cell("D2"), "<v>", "</v>"), "45297", "2024-01-06");
    assert_eq!(book.format("G2"), "0.00");
    assert_eq!(between(book.cell("G2"), "<v>", "</v>"), "176.46");
    // A name of digits stays a text, so that its zeros are kept.
    assert!(book.cell("A2").contains("<t>00417</t>"), "{}", book.cell("A2"));
    // A missing value is no cell at all.
    assert!(!book.sheet.contains("<c r=\"F2\""));
}

#[rstest]
fn names_are_bold_and_stand_over_their_values(harbour: TempDir) {
    let book = book(harbour.path(), &["sort", "dues.csv", "invoice"]);
    for (names, alignment) in [(["A1", "B1", "C1"], "left"), (["D1", "E1", "G1"], "right")] {
        for name in names {
            let style = book.style(name);
            assert!(style.contains(&format!("horizontal=\"{alignment}\"")), "{name}: {style}");
            assert!(style.contains("fontId=\"1\""), "{name}: {style}");
        }
    }
    let bold = between(&book.styles, "<fonts", "</fonts>").split("<font>").nth(2).unwrap();
    assert!(bold.starts_with("<b/>"), "{bold}");
}

#[rstest]
fn columns_are_as_wide_as_their_values_and_the_names_stay_in_view(harbour: TempDir) {
    let book = book(harbour.path(), &["sort", "dues.csv", "invoice"]);
    assert!(book.width(2) > "Ebb and Flow".len() as f64, "{}", book.width(2));
    assert!(book.width(4) > "2024-01-06".len() as f64, "{}", book.width(4));
    assert!(book.width(1) < book.width(2));
    let view = between(&book.sheet, "<sheetViews>", "</sheetViews>");
    assert!(view.contains("ySplit=\"1\"") && view.contains("state=\"frozen\""), "{view}");
    assert!(book.sheet.contains("fitToPage=\"1\""));
}

#[rstest]
fn a_text_that_begins_like_a_formula_stays_a_text(harbour: TempDir) {
    fs::write(harbour.path().join("x.csv"), "note,n\n=1+1,2\n").unwrap();
    let book = book(harbour.path(), &["sort", "x.csv", "n"]);
    assert!(book.cell("A2").contains("t=\"inlineStr\""), "{}", book.cell("A2"));
    assert!(!book.sheet.contains("<f>"));
}
