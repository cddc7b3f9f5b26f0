//! What is written, and that nothing is half-written.

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
#[case(Format::JsonLines, "{\"note\":\"a \\\"b\\\", c|d\",\"fee\":3.50}\n{\"note\":null,\"fee\":-0.05}\n")]
#[case(Format::Markdown, "| note | fee |\n| --- | ---: |\n| a \"b\", c\\|d | 3.50 |\n|  | -0.05 |\n")]
fn each_format_is_written_by_its_rules(#[case] format: Format, #[case] expected: &str) {
    let mut text = Vec::new();
    Writing::new().format(format).write(&table(), &mut text).unwrap();
    assert_eq!(String::from_utf8(text).unwrap(), expected);
}

#[test]
fn a_missing_value_alone_in_its_row_is_still_a_row() {
    let table =
        Table::from_columns([("note", Arc::new(StringViewArray::from(vec![Some("x"), None])) as ArrayRef)])
            .unwrap();
    let mut text = Vec::new();
    Writing::new().write(&table, &mut text).unwrap();
    assert_eq!(crate::io::Reading::new().stream("t", &text[..]).unwrap().rows(), 2);
}

#[test]
fn a_file_is_whole_or_not_there() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("out.csv");
    let mut interrupted = Destination::file(&path).unwrap();
    interrupted.write(|to| to.write_all(b"half")).unwrap();
    drop(interrupted);
    let failed =
        Destination::file(&path).unwrap().write(|_| Err(io::ErrorKind::StorageFull.into())).unwrap_err();
    assert!(
        failed
            .to_string()
            .ends_with("out.csv: could not be written: the disk is full. Nothing was left half-written")
    );
    assert_eq!(fs::read_dir(&directory).unwrap().count(), 0, "nothing is left behind");

    Writing::new().file(&table(), &path).unwrap();
    assert!(fs::read_to_string(&path).unwrap().ends_with("-0.05\n"));
    assert_eq!(fs::read_dir(&directory).unwrap().count(), 1);
}

#[cfg(unix)]
#[test]
fn links_and_permissions_stay_as_they_were() {
    use std::os::unix::fs::PermissionsExt;
    let directory = tempfile::tempdir().unwrap();
    let (target, link) = (directory.path().join("target.csv"), directory.path().join("link.csv"));
    fs::write(&target, "old").unwrap();
    fs::set_permissions(&target, fs::Permissions::from_mode(0o640)).unwrap();
    std::os::unix::fs::symlink(&target, &link).unwrap();
    Writing::new().file(&table(), &link).unwrap();
    assert!(fs::symlink_metadata(&link).unwrap().is_symlink());
    assert!(fs::read_to_string(&target).unwrap().starts_with("note"));
    assert_eq!(fs::metadata(&target).unwrap().permissions().mode() & 0o777, 0o640);
}

#[test]
fn the_input_is_not_overwritten_under_any_name() {
    let directory = tempfile::tempdir().unwrap();
    let (input, other) = (directory.path().join("in.csv"), directory.path().join("out.csv"));
    fs::write(&input, "a\n").unwrap();
    fs::hard_link(&input, directory.path().join("same.csv")).unwrap();
    assert!(Destination::refuse_onto(&other, &input).is_ok());
    assert!(Destination::refuse_onto(directory.path().join("same.csv"), &input).is_err());
}

#[rstest]
#[case("a.CSV", Some(Format::Csv))]
#[case("a.jsonl", Some(Format::JsonLines))]
#[case("a.md", Some(Format::Markdown))]
#[case("a.docx", None)]
#[case("a", None)]
fn the_ending_tells_the_format(#[case] name: &str, #[case] format: Option<Format>) {
    assert_eq!(Format::of(Path::new(name)).ok(), format);
}
