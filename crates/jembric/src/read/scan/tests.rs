//! A file that is read in batches has the rows, types, lines and errors of one that is read whole.

use crate::{
    Table,
    data::{Data, collect::joined, memory::Memory},
    io::DateOrder,
    read::reading::Reading,
};
use proptest::prelude::*;
use rstest::rstest;
use std::{fs, path::Path};

/// A reading of short blocks, so that small files have many.
fn in_blocks(reading: Reading) -> Reading {
    Reading { block: Some(64), ..reading }
}

fn scanned(reading: &Reading, path: &Path) -> Result<Vec<Table>, String> {
    let memory = Memory::limited(600, path.parent().unwrap());
    let data = reading.data(path, &memory).map_err(|error| error.to_string())?;
    let Data::Larger(scan) = data else { panic!("the table fits into memory") };
    let mut batches = Vec::new();
    // It can be read as often as it is needed.
    for _ in 0..2 {
        batches.clear();
        scan.each(&mut |batch| {
            assert!(scan.sample().shape() == batch.shape());
            batches.push(batch);
            Ok(())
        })
        .map_err(|error| error.to_string())?;
    }
    let rows: usize = batches.iter().map(Table::rows).sum();
    assert_eq!(rows as u64, scan.rows());
    Ok(batches)
}

fn assert_same(reading: Reading, text: &str) {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("stays.csv");
    fs::write(&path, text).unwrap();
    let reading = in_blocks(reading);
    let whole = reading.file(&path).map_err(|error| error.to_string());
    match (whole, scanned(&reading, &path)) {
        (Ok(whole), Ok(batches)) => {
            assert!(batches.len() > 1, "{} bytes are one batch", text.len());
            let all = joined(&batches).unwrap();
            assert_eq!(whole, all);
            let origins = [whole.origin().unwrap(), all.origin().unwrap()];
            for row in 0..whole.rows() {
                assert_eq!(origins[0].line(row), origins[1].line(row));
            }
            for name in whole.names() {
                assert_eq!(origins[0].notation_of(name), origins[1].notation_of(name));
            }
        }
        (whole, scanned) => assert_eq!(whole.err(), scanned.err(), "{text}"),
    }
}

/// Many rows like the first, and then the last.
fn rows(header: &str, like: &str, last: &str) -> String {
    let mut text = format!("{header}\n");
    (0..60).for_each(|_| text += &format!("{like}\n"));
    text + last + "\n"
}

#[rstest]
#[case::whole_numbers("7,x")]
#[case::decimals("7.25,x")]
#[case::floats("7e300,x")]
#[case::text("seven,x")]
#[case::a_leading_zero("007,x")]
#[case::more_than_64_bits("99999999999999999999,x")]
#[case::missing(",")]
#[case::ragged("7,x,y")]
#[case::quoted("\"7\",\"a\nb\"")]
#[case::an_open_quote("\"7,x")]
fn the_last_row_decides_the_types(#[case] last: &str) {
    assert_same(Reading::new(), &rows("a,b", "12,some text", last));
}

#[rstest]
#[case::day_first("25/06/2025")]
#[case::another_notation("2025-06-25")]
#[case::a_time("03/04/2025 10:30")]
#[case::no_date("soon")]
fn the_last_row_decides_the_notation(#[case] last: &str) {
    let text = rows("a,b", "03/04/2025,text", &format!("{last},text"));
    assert_same(Reading::new(), &text);
    assert_same(Reading::new().date_order(DateOrder::Dmy), &text);
}

#[rstest]
#[case::all_midnights("02.01.25 00:00")]
#[case::one_later("02.01.25 10:30")]
#[case::of_another_format("2025-01-02")]
fn moments_are_dates_only_if_all_are_midnights(#[case] last: &str) {
    let text = rows("a,b", "01.01.25 00:00,text", &format!("{last},text"));
    assert_same(Reading::new().read("a", "%d.%m.%y %H:%M"), &text);
}

#[test]
fn some_columns_are_read_alone() {
    let text = rows("a,b,c", "1,text,2025-06-30", "x,text,");
    assert_same(Reading::new().only(["c", "a"]), &text);
    assert_same(Reading::new().only(["nothing"]), &text);
    assert_same(Reading::new().no_header(), &text);
    assert_same(Reading::new().missing(["x"]), &text);
}

#[test]
fn a_file_that_changes_is_an_error() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("stays.csv");
    let text = rows("a,b", "1,text", "2,text");
    fs::write(&path, &text).unwrap();
    let memory = Memory::limited(600, directory.path());
    let data = in_blocks(Reading::new()).data(&path, &memory).unwrap();
    data.each(&mut |_| Ok(())).unwrap();
    fs::write(&path, text + "3,text\n").unwrap();
    let error = data.each(&mut |_| Ok(())).unwrap_err().to_string();
    assert!(error.contains("stays.csv: the file changed while it was in use"), "{error}");
}

#[test]
fn a_small_file_is_a_table_and_a_missing_one_an_error() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("stays.csv");
    fs::write(&path, "a,b\n1,2\n").unwrap();
    let memory = Memory::limited(1 << 20, directory.path());
    assert!(matches!(Reading::new().data(&path, &memory).unwrap(), Data::Table(_)));
    let error = Reading::new().data(directory.path().join("stay.csv"), &memory).unwrap_err();
    assert!(error.to_string().contains("Did you mean `stays.csv`?"), "{error}");
    assert!(Reading::new().data(directory.path(), &memory).is_err());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(32))]

    #[test]
    fn any_rows_are_the_same_in_batches(
        rows in prop::collection::vec(
            ("[0-9]{0,3}|[0-9]\\.[0-9]", "[a-z ,\n]{0,20}", "2025-0[1-9]-1[0-9]|"), 40..90),
    ) {
        let mut text = "a,b,c\n".to_owned();
        for (a, b, c) in &rows {
            text += &format!("{a},\"{b}\",{c}\n");
        }
        assert_same(Reading::new(), &text);
    }
}
