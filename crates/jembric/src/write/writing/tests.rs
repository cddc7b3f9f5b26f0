//! What is written, and that nothing is left incomplete.

use super::*;
use arrow_array::{ArrayRef, Decimal64Array, StringViewArray};
use rstest::rstest;
use std::sync::Arc;

fn table() -> Table {
    let notes: ArrayRef = Arc::new(StringViewArray::from(vec![Some("a \"b\", c|d"), None]));
    let fees: ArrayRef =
        Arc::new(Decimal64Array::from(vec![350, -5]).with_precision_and_scale(18, 2).unwrap());
    Table::from_columns([("note", notes), ("fee", fees)]).unwrap()
}

#[rstest]
#[case(Format::Csv, "note,fee\n\"a \"\"b\"\", c|d\",3.50\n,-0.05\n")]
#[case(
    Format::JsonLines,
    "{\"note\":\"a \\\"b\\\", c|d\",\"fee\":3.50}\n{\"note\":null,\"fee\":-0.05}\n"
)]
#[case(
    Format::Markdown,
    "| note | fee |\n| --- | ---: |\n| a \"b\", c\\|d | 3.50 |\n|  | -0.05 |\n"
)]
fn each_format_is_written_by_its_rules(#[case] format: Format, #[case] expected: &str) {
    let mut text = Vec::new();
    Writing::new().format(format).write(&table(), &mut text).unwrap();
    assert_eq!(String::from_utf8(text).unwrap(), expected);
}

#[test]
fn a_missing_value_alone_in_its_row_is_still_a_row() {
    let table = Table::from_columns([(
        "note",
        Arc::new(StringViewArray::from(vec![Some("x"), None])) as ArrayRef,
    )])
    .unwrap();
    let mut text = Vec::new();
    Writing::new().write(&table, &mut text).unwrap();
    assert_eq!(crate::read::reading::Reading::new().stream("t", &text[..]).unwrap().rows(), 2);
}

#[rstest]
#[case("a.CSV", Some(Format::Csv))]
#[case("a.jsonl", Some(Format::JsonLines))]
#[case("a.md", Some(Format::Markdown))]
#[case("a.docx", None)]
#[case("a", None)]
fn the_extension_decides_the_format(#[case] name: &str, #[case] format: Option<Format>) {
    assert_eq!(Format::from_path(Path::new(name)).ok(), format);
}
