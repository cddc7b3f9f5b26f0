//! What each fuzz target does with its bytes. The test `corpus` does the same with the files of the
//! corpus, so that every toolchain checks what was found once.

use jembric::{
    Context, Expression, Filter, Shape, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray},
    calendar::notation::{self, Order},
    io::{DateOrder, Reading, Writing},
    routine::Routine,
};
use std::sync::Arc;

/// What a target does with its bytes.
pub(crate) type Target = fn(&[u8]);

/// All targets, by the names of their corpora.
pub(crate) const TARGETS: [(&str, Target); 8] = [
    ("csv", csv),
    ("notation", notation),
    ("expression", expression),
    ("routine", routine),
    ("json_lines", json_lines),
    ("parquet", parquet),
    ("arrow", arrow),
    ("workbook", workbook),
];

/// Less memory than the fuzzer's own limit.
fn reading() -> Reading {
    Reading::new().most_unpacked(1 << 24).most_columns(1_000)
}

/// A table that was read can be written as CSV and read again, with the same number of rows and the
/// same names.
fn written_and_read_again(table: &Table) {
    let mut text = Vec::new();
    Writing::new().write(table, &mut text).expect("a table can be written to memory");
    // The name of the first column can be the beginning of another format: `{`, `PAR1`.
    if !text.first().is_some_and(u8::is_ascii_lowercase) {
        return;
    }
    let again = Reading::new().encoding("utf-8").separator(b',').stream("again", &text[..]);
    let again = again.unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&text)));
    assert_eq!(again.rows(), table.rows());
}

/// CSV, with settings chosen by the first byte.
pub(crate) fn csv(data: &[u8]) {
    let Some((&settings, text)) = data.split_first() else { return };
    let is_set = |bit: u8| settings & 1 << bit != 0;
    let mut reading = reading();
    reading.decimal_comma = is_set(0);
    reading.no_header = is_set(1);
    reading.no_quotes = is_set(2);
    if is_set(3) {
        reading = reading.date_order(if is_set(4) { DateOrder::Dmy } else { DateOrder::Mdy });
    }
    if is_set(5) {
        reading = reading.missing(["-", "NA"]).century(1900);
    }
    if let Ok(table) = reading.stream("fuzz.csv", text) {
        written_and_read_again(&table);
    }
}

/// A date in a text: both the day and the moment exist, or neither does.
pub(crate) fn notation(data: &[u8]) {
    let Ok(written) = notation::read(data) else { return };
    for order in [Order::DayFirst, Order::MonthFirst] {
        let (day, micros) = (written.day(order), written.micros(order));
        assert!(day.is_some() || micros.is_none(), "{written:?}");
    }
}

/// An expression: it is parsed, checked against columns of several types, and evaluated.
pub(crate) fn expression(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(parsed) = text.parse::<Expression>() else { return };
    let columns: [(&str, ArrayRef); 3] = [
        ("n", Arc::new(Int64Array::from(vec![Some(1), None, Some(i64::MAX)]))),
        ("d", Arc::new(Date32Array::from(vec![Some(0), Some(19_000), None]))),
        ("t", Arc::new(StringViewArray::from(vec![Some("a"), None, Some("")]))),
    ];
    let table = Table::from_columns(columns).expect("three columns of three rows are a table");
    let context = Context::new();
    let _ = Filter::new(parsed.to_string()).apply_with(&table, &context);
}

/// A routine: if it can be parsed, it can be saved and parsed again, with the same number of steps.
pub(crate) fn routine(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    let Ok(routine) = Routine::parse("fuzz.toml", text) else { return };
    let Ok(written) = routine.to_text(str::to_owned) else { return };
    // Names that are not bare keys of TOML, and steps that only a text can have, need not come
    // back.
    if let Ok(again) = Routine::parse("again.toml", &written) {
        assert_eq!(again.steps.len(), routine.steps.len());
    }
}

/// JSON Lines.
pub(crate) fn json_lines(data: &[u8]) {
    if let Ok(table) = reading().stream("fuzz.jsonl", data) {
        written_and_read_again(&table);
    }
}

/// A format of bytes: any bytes give a table or an error.
fn bytes(data: &[u8]) {
    if let Ok(table) = reading().stream("fuzz", data) {
        let _: Shape = table.shape();
        written_and_read_again(&table);
    }
}

/// A Parquet file.
pub(crate) fn parquet(data: &[u8]) {
    bytes(data);
}

/// An Arrow file or stream.
pub(crate) fn arrow(data: &[u8]) {
    bytes(data);
}

/// A workbook.
pub(crate) fn workbook(data: &[u8]) {
    bytes(data);
}
