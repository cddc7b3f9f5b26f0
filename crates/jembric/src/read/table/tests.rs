//! Text to tables: every case from a file and from a stream, in one region and in many small ones.

use super::*;
use crate::formats::text::CellText;
use crate::io::DateOrder;
use proptest::prelude::*;
use rstest::rstest;
use std::{
    fs,
    sync::atomic::{AtomicU64, Ordering::Relaxed},
};

/// Reads the table in every way; the results must agree.
fn read_with(reading: &Reading, text: &[u8]) -> Result<Table> {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("t.csv");
    fs::write(&path, text).unwrap();
    let mut tables = Vec::new();
    for block in [None, Some(1), Some(7), Some(64)] {
        let reading = Reading { block, ..reading.clone() };
        tables.push(reading.file(&path));
        tables.push(reading.stream("t.csv", text));
    }
    let written = |table: &Result<Table>| match table {
        Ok(table) => format!("{:?} {:?}", table.shape().columns(), rows(table)),
        Err(error) => error.to_string().replace(&path.display().to_string(), "t.csv"),
    };
    for other in &tables {
        assert_eq!(written(other), written(&tables[1]));
    }
    tables.swap_remove(1)
}

fn read(text: &str) -> Result<Table> {
    read_with(&Reading::new(), text.as_bytes())
}

/// Line and cells of every row.
fn rows(table: &Table) -> Vec<String> {
    let cells = |row| {
        table
            .columns()
            .iter()
            .map(|column| CellText::new(column).text(row))
            .collect::<Vec<_>>()
            .join("|")
    };
    (0..table.rows())
        .map(|row| format!("{} {}", table.origin().unwrap().line(row), cells(row)))
        .collect()
}

fn types(table: &Table) -> Vec<String> {
    table.shape().columns().iter().map(|column| column.kind.unwrap().to_string()).collect()
}

#[test]
fn a_file_becomes_typed_columns() {
    let table = read(
        "vessel,day,fee,at,open,n\nPetrel,2025-06-30,3.5,2025-06-30 14:05,true,1\nBolt \
            Head,,12,,false,-2\n",
    )
    .unwrap();
    assert_eq!(
        types(&table),
        ["text", "dates", "decimals, 1 place", "moments", "true or false", "whole numbers"]
    );
    assert_eq!(
        rows(&table),
        ["2 Petrel|2025-06-30|3.5|2025-06-30T14:05|true|1", "3 Bolt Head||12.0||false|-2"]
    );
}

#[rstest]
#[case::crlf("a,b\r\n1,x\r\n2,y\r\n", &["2 1|x", "3 2|y"])]
#[case::no_last_line_end("a,b\n1,x", &["2 1|x"])]
#[case::quotes("a,b\n\"1\",\"x, \"\"y\"\"\"\n", &["2 1|x, \"y\""])]
#[case::line_break_in_quotes("a,b\n1,\"x\ny\"\n2,z\n", &["2 1|x\ny", "4 2|z"])]
#[case::quoted_line_ends("a,b\r\n1,\"x\r\ny\"\r\n2,\"z\"\r\n", &["2 1|x\r\ny", "4 2|z"])]
#[case::empty_lines("\n\na,b\n\n1,x\n\r\n\n2,y\n\n", &["5 1|x", "8 2|y"])]
#[case::semicolons("a;b\n1;x,y\n", &["2 1|x,y"])]
#[case::tabs("a\tb\n1\tx y\n", &["2 1|x y"])]
#[case::bars("a|b\n1|x;y\n", &["2 1|x;y"])]
#[case::one_column("a\nx\n\"\"\ny\n", &["2 x", "3 ", "4 y"])]
#[case::blanks_outside_numbers(" a , b \n 1 , 2025-06-30 \n  ,\n", &["2 1|2025-06-30", "3 |"])]
#[case::text_keeps_its_blanks("a,b\n x ,1\n   ,2\n", &["2  x |1", "3 |2"])]
#[case::byte_order_mark("\u{feff}a,b\n1,x\n", &["2 1|x"])]
#[case::long_text("a,b\n1,a text of more than twelve bytes\n2,ë\n",
    &["2 1|a text of more than twelve bytes", "3 2|ë"])]
#[case::header_only("a,b\n", &[])]
#[case::header_without_line_end("a,b", &[])]
#[case::unnamed_column("a,\n1,2\n", &["2 1|2"])]
fn records_are_separated(#[case] text: &str, #[case] expected: &[&str]) {
    assert_eq!(rows(&read(text).unwrap()), expected);
}

#[test]
fn a_guess_from_the_first_rows_is_only_a_guess() {
    let mut text = "number,day,none,decimal\n".to_owned();
    for n in 0..200 {
        text += &format!("{n},2025-06-30,,{n}.5\n");
    }
    text += "00417,2025-06-31,late,0.25\n";
    let table = read(&text).unwrap();
    assert_eq!(types(&table), ["text", "text", "text", "decimals, 2 places"]);
    assert_eq!(rows(&table)[0], "2 0|2025-06-30||0.50");
    assert_eq!(rows(&table)[200], "202 00417|2025-06-31|late|0.25");
}

#[test]
fn offsets_that_lead_out_of_the_calendar_leave_text() {
    assert_eq!(types(&read("at\n0001-01-01T00:30+02:00\n").unwrap()), ["text"]);
}

#[rstest]
#[case::missing(Reading::new().missing(["NA", "-"]), "n,t\n1,NA\n-,x\n", &["2 1|", "3 |x"])]
#[case::separator(Reading::new().separator(b'/'), "a/b\n1/2\n", &["2 1|2"])]
#[case::decimal_comma(Reading::new().decimal_comma(), "a;b\n1,5;x\n22;y\n", &["2 1.5|x",
    "3 22.0|y"])]
#[case::no_header(Reading::new().no_header(), "1,x\n2,y\n", &["1 1|x", "2 2|y"])]
#[case::no_quotes(Reading::new().no_quotes(), "a,b\n5\" pipe,\"x\n", &["2 5\" pipe|\"x"])]
#[case::month_first(Reading::new().date_order(DateOrder::Mdy), "d\n03/04/2025\n",
    &["2 2025-03-04"])]
#[case::format(Reading::new().read("d", "%Y%m%d"), "d\n20250630\n\n", &["2 2025-06-30"])]
#[case::two_digits(Reading::new().read("d", "%d.%m.%y").century(1950), "d\n30.06.49\n30.06.50\n",
    &["2 2049-06-30", "3 1950-06-30"])]
#[case::format_with_time(Reading::new().read("d", "%d/%m/%Y %I:%M %p"), "d\n30/06/2025 02:05 PM\n",
    &["2 2025-06-30T14:05"])]
#[case::format_with_offset(Reading::new().read("d", "%Y-%m-%d %H:%M %z"),
    "d\n2025-06-30 01:05 +0200\n", &["2 2025-06-29T23:05Z"])]
#[case::as_text(Reading::new().read("d", "text"), "d\n2025-06-30\n", &["2 2025-06-30"])]
fn what_is_said_is_done(#[case] reading: Reading, #[case] text: &str, #[case] expected: &[&str]) {
    assert_eq!(rows(&read_with(&reading, text.as_bytes()).unwrap()), expected);
}

#[rstest]
#[case::windows(Some("windows-1252"), b"a\nM\xf6we\n", "2 M\u{f6}we")]
#[case::utf_16_by_its_mark(None, b"\xff\xfea\0\n\0\xf6\0\n\0", "2 \u{f6}")]
#[case::utf_16_without_a_mark(None, b"a\0\n\0x\0\n\0", "2 x")]
#[case::nuls_in_an_odd_number_of_bytes(None, b"c1\n\0a\0\n", "2 \0a\0")]
#[case::utf_16_said(Some("utf-16be"), b"\0a\0\n\0\xf6\0\n", "2 \u{f6}")]
fn other_encodings_are_read(
    #[case] encoding: Option<&str>,
    #[case] bytes: &[u8],
    #[case] expected: &str,
) {
    let reading = encoding.map_or(Reading::new(), |encoding| Reading::new().encoding(encoding));
    assert_eq!(rows(&read_with(&reading, bytes).unwrap()), [expected]);
}

#[rstest]
#[case::empty("", "t.csv: the file is empty. Expected a first line with the names of the columns")]
#[case::blank(
    "\n \n",
    "t.csv: the file is empty. Expected a first line with the names of the columns"
)]
#[case::short_row(
    "a,b\n1,2\n\"x\n\",2\n1\n",
    "t.csv: line 5: expected 2 cells, one for each column, and found 1: `1`"
)]
#[case::long_row(
    "a,b\n1,2,3\n",
    "t.csv: line 2: expected 2 cells, one for each column, and found 3: `1,2,3`"
)]
#[case::open_quote(
    "a,b\n1,2\n1,\"x\n2,y\n",
    "t.csv: line 3: the quote that begins here is never closed: `\"x`. Close it, double quotes \
        inside a quoted cell, or read quotes as ordinary characters (`Reading::no_quotes`)"
)]
#[case::open_quote_in_header(
    "a,\"b\n1,2\n",
    "t.csv: line 1: the quote that begins here is never closed: `\"b`. Close it, double quotes \
        inside a quoted cell, or read quotes as ordinary characters (`Reading::no_quotes`)"
)]
#[case::stray_quote(
    "a,b\n1,2\n5\" pipe,2\n",
    "t.csv: line 3: there is a quote in the middle of a cell: `5\" pipe,2`. Quote the whole cell \
        and double the quotes inside it, or read quotes as ordinary characters \
        (`Reading::no_quotes`)"
)]
#[case::unclosed_before_another(
    "a,b\n1,\"x\n2,\"y\"\n",
    "t.csv: line 3: there is a quote in the middle of a cell: `2,\"y\"` (the quoted cell began on \
        line 2). Quote the whole cell and double the quotes inside it, or read quotes as ordinary \
        characters (`Reading::no_quotes`)"
)]
#[case::two_of_one_name(
    "a,b,a\n",
    "t.csv: two columns are named `a`. The names of columns must differ: rename one"
)]
fn bad_text_is_refused_at_its_place(#[case] text: &str, #[case] message: &str) {
    assert_eq!(read(text).unwrap_err().to_string(), message);
}

#[rstest]
#[case::bytes(
    Reading::new(),
    b"a,b\n1,x\n2,M\xf6we\n",
    "t.csv: line 3: byte 12 of the file (0xf6) is not UTF-8. Set the encoding of the file: \
        `Reading::encoding(\"windows-1252\")`, `utf-16le` or another"
)]
#[case::half_a_character(Reading::new().encoding("utf-16le"), b"a\0\n\0\x00\xd8x\0",
    "t.csv: line 2: byte 5 of the file (0x00) is not UTF-16LE. Set the encoding of the file: \
        `Reading::encoding(\"windows-1252\")`, `utf-16le` or another")]
#[case::no_encoding(Reading::new().encoding("utf-9"), b"a\n",
    "`encoding`: `utf-9` is not the name of an encoding: expected a name such as utf-8, \
        windows-1252, iso-8859-15 or utf-16le")]
#[case::no_format(Reading::new().read("a", "soon"), b"a\n",
    "`read`: `a=soon`: expected `month`, `quarter`, `week`, `year`, `serial`, `julian-day`, \
        `unix-time`, `rfc2822`, `number`, `text`, or strptime directives such as `%d.%m.%Y` or \
        `%d/%m/%y %H:%M`")]
#[case::no_century(Reading::new().read("a", "%d.%m.%y"), b"a\n",
    "`read`: `a=%d.%m.%y` has years of two digits: expected the first of the hundred years that \
        they stand for as well: `--century 1900`")]
#[case::no_column(Reading::new().read("day", "%Y"), b"days\n",
    "t.csv: there is no column `day`. Did you mean `days`?")]
#[case::out_of_format(Reading::new().read("a", "%d.%m.%Y"),
    b"a\n30.06.2025\n30.02.2025\nsoon\n\nx\ny\n", "t.csv: column `a`: 4 of its 5 values do not \
        match the format `%d.%m.%Y`: line 3 `30.02.2025`, line 4 `soon`, line 6 `x`, …")]
fn cells_that_do_not_match_their_format_are_refused(
    #[case] reading: Reading,
    #[case] text: &[u8],
    #[case] message: &str,
) {
    assert_eq!(read_with(&reading, text).unwrap_err().to_string(), message);
}

#[test]
fn missing_files_and_directories_are_named() {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("stays.csv"), "a\n").unwrap();
    let error = Reading::new().file(directory.path().join("stay.csv")).unwrap_err().to_string();
    assert!(
        error.ends_with("stay.csv: no such file or directory. Did you mean `stays.csv`?"),
        "{error}"
    );
    let error = Reading::new().file(directory.path()).unwrap_err().to_string();
    assert!(error.ends_with(": this is a directory, but a file is required"), "{error}");
}

#[test]
fn progress_comes_to_the_end() {
    let told = Arc::new(AtomicU64::new(0));
    let telling = told.clone();
    let reading = Reading { block: Some(8), ..Reading::new() }
        .progress(move |done, _| _ = telling.fetch_max(done, Relaxed));
    reading.stream("t.csv", &b"a,b\n1,2\n3,4\n5,6\n"[..]).unwrap();
    assert_eq!(told.load(Relaxed), 16);
}

#[test]
fn a_byte_order_mark_in_the_middle_is_a_character() {
    let table = read("a,b\n\u{feff}x,\"y\"\n").unwrap();
    assert_eq!(rows(&table), ["2 \u{feff}x|y"]);
}

#[test]
fn types_and_results_are_the_same_on_any_number_of_threads() {
    let mut text = "vessel,day,tons\n".to_owned();
    for n in 0..5_000 {
        text += &format!("vessel {},{:02}/{:02}/2025,{}\n", n % 37, n % 12 + 1, n % 12 + 1, n);
    }
    // Only the last row shows that the month comes first, and that tons are decimals.
    text += "\"vessel 5, again\",12/31/2025,7.25\n";
    let one = |threads| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().unwrap();
        pool.install(|| {
            rows(
                &Reading { block: Some(512), ..Reading::new() }
                    .stream("t.csv", text.as_bytes())
                    .unwrap(),
            )
        })
    };
    let expected = one(1);
    assert_eq!(expected[5_000], "5002 vessel 5, again|2025-12-31|7.25");
    assert_eq!(expected[11], "13 vessel 11|2025-12-12|11.00");
    for threads in [2, 5] {
        assert!(one(threads) == expected, "{threads} threads");
    }
}

#[test]
fn a_header_gives_the_names_without_the_rest() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("t.csv");
    fs::write(&path, "vessel;day\n1;2;3\n").unwrap();
    let shape = Reading::new().shape(&path).unwrap();
    assert_eq!(
        shape.columns().iter().map(|column| column.name.as_str()).collect::<Vec<_>>(),
        ["vessel", "day"]
    );
    assert!(shape.columns().iter().all(|column| column.kind.is_none()));
    let missing = crate::Latest::new("days").check(&shape).unwrap_err().to_string();
    assert!(
        missing.ends_with("t.csv: there is no column `days`. Did you mean `day`?"),
        "{missing}"
    );
}

/// A cell of a column, by the plainest reading of the rules for numbers.
fn is_plain_number(cell: &str) -> bool {
    let digits = cell.strip_prefix('-').unwrap_or(cell);
    !digits.is_empty()
        && digits.chars().all(|c| c.is_ascii_digit())
        && (digits == "0" || !digits.starts_with('0'))
}

proptest! {
    #[test]
    fn a_column_is_whole_numbers_only_if_every_cell_is(
        cells in prop::collection::vec("-?[0-9]{0,3}x?", 1..12),
        block in 1_u64..30,
    ) {
        let text = format!("it,n\n{}",
            cells.iter().map(|cell| format!("{cell},1\n")).collect::<String>());
        let table = Reading { block: Some(block), ..Reading::new() }.stream("t.csv",
            text.as_bytes()).unwrap();
        let filled: Vec<&String> = cells.iter().filter(|cell| !cell.is_empty()).collect();
        let expected = match filled.len() {
            0 => "no values",
            _ if filled.iter().all(|cell| is_plain_number(cell)) => "whole numbers",
            _ => "text",
        };
        prop_assert_eq!(&types(&table)[0], expected);
        // Text is kept exactly, and a number keeps its value.
        for (row, cell) in rows(&table).iter().zip(&cells) {
            let read = row.split_once(' ').unwrap().1.split('|').next().unwrap();
            prop_assert!(read == cell || (expected == "whole \
                numbers" && read.parse::<i64>() == cell.parse()), "{} {}", read, cell);
        }
    }

    #[test]
    fn written_files_can_be_read_again(
        cells in prop::collection::vec(("[a-z ,;\"\r\n\u{eb}]{0,20}",
            prop::option::of(any::<i64>()), prop::option::of(-700_000_i32..2_900_000)), 0..40),
        block in 1_u64..200,
    ) {
        let mut text = Vec::new();
        let mut expected = Vec::new();
        {
            let mut writer = csv::Writer::from_writer(&mut text);
            writer.write_record(["text", "number", "day"]).unwrap();
            for (words, number, day) in &cells {
                let day = day.and_then(jembric_core::calendar::Day::from_number).map(|day| day
                    .to_string()).unwrap_or_default();
                let number = number.map(|number| number.to_string()).unwrap_or_default();
                writer.write_record([words.as_str(), &number, &day]).unwrap();
                let words = if words.trim_ascii().is_empty() { "" } else { words };
                expected.push(format!("{words}|{number}|{day}"));
            }
        }
        let table = Reading { block: Some(block),
            ..Reading::new() }.separator(b',').stream("t.csv", &text[..]).unwrap();
        let read: Vec<String> = rows(&table).into_iter().map(|row| row.split_once(' ').unwrap().1
            .to_owned()).collect();
        prop_assert_eq!(read, expected);
    }
}

proptest! {
    /// Any bytes give a table or an error, wherever the text is divided.
    #[test]
    fn no_text_breaks_the_reader(text in "[a0,;\"\n\r .\u{eb}-]{0,60}",
        broken in prop::option::of(0_usize..60), block in 1_u64..20) {
        let mut bytes = text.into_bytes();
        if let Some(at) = broken.filter(|&at| at < bytes.len()) {
            bytes[at] = 0xff;
        }
        let read = |block| match (Reading { block, ..Reading::new() }.stream("t", &bytes[..])) {
            Ok(table) => format!("{:?} {:?}", types(&table), rows(&table)),
            Err(error) => error.to_string(),
        };
        prop_assert_eq!(read(None), read(Some(block)));
    }
}

#[rstest]
#[case::all_of_it("n,s\n1,a\n2,b\n", 100, "n whole numbers, s text")]
#[case::a_later_row_tells_otherwise("n,s\n1,a\nx,b\n", 4, "n whole numbers, s text")]
#[case::no_whole_row("n,s\n1,a\n", 3, "n no values, s no values")]
#[case::cut_in_quotes("n,s\n1,a\n2,\"b\nc\"\n", 10, "n whole numbers, s text")]
#[case::open_order("n,d\n1,03/04/2025\n", 100, "n whole numbers, d ?")]
#[case::half_dates("n,d\n1,2025-06-30\n2,x\n", 100, "n whole numbers, d text")]
fn first_rows_suggest_types(#[case] text: &str, #[case] block: u64, #[case] expected: &str) {
    let file = tempfile::NamedTempFile::new().unwrap();
    fs::write(file.path(), text).unwrap();
    let shape =
        Reading { block: Some(block), ..Reading::new() }.guessed_shape(file.path()).unwrap();
    let column = |column: &crate::ColumnShape| {
        format!("{} {}", column.name, column.kind.map_or("?".to_owned(), |kind| kind.to_string()))
    };
    assert_eq!(shape.columns().iter().map(column).collect::<Vec<_>>().join(", "), expected);
}

#[rstest]
#[case::few_columns(3, None, BLOCK)]
#[case::many_columns(20_000, None, 2_560_000)]
#[case::given(20_000, Some(7), 7)]
fn a_block_of_many_columns_has_several_rows(
    #[case] columns: usize,
    #[case] block: Option<u64>,
    #[case] bytes: u64,
) {
    let names = (1..=columns).map(|n| format!("c{n}")).collect();
    let header = Header { names, separator: b',', end: 0, lines: 1 };
    assert_eq!(Reading { block, ..Reading::new() }.block(&header), bytes);
}

/// The first rows may leave the order of day and month open, and a later row decides it.
#[rstest]
#[case::day_first("31/12/2025", "dates")]
#[case::month_first("12/31/2025", "dates")]
#[case::open("11/12/2025", "text")]
fn the_last_row_decides_the_order_of_day_and_month(#[case] last: &str, #[case] kind: &str) {
    let rows = "01/02/2025\n".repeat(ROWS_TO_GUESS_FROM + 1);
    let text = format!("day\n{rows}{last}\n");
    let reading = Reading { block: Some(1 << 12), ..Reading::new() };
    let table = reading.stream("t.csv", text.as_bytes()).unwrap();
    assert_eq!(types(&table), [kind]);
    assert_eq!(table.rows(), ROWS_TO_GUESS_FROM + 2);
}
