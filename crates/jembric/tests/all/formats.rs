//! Tables through files with typed columns, and through compressed files.

use jembric::{
    Almanac, Context, Sort, Table,
    arrow::{
        ArrayRef, BooleanArray, Date32Array, Decimal64Array, Decimal128Array, DictionaryArray,
        Float64Array, Int32Array, Int64Array, ListArray, NullArray, RecordBatch, StringArray,
        StringViewArray, Time64MicrosecondArray, TimestampMicrosecondArray, types::Int32Type,
    },
    calendar::Grain,
    io::{self, Format, Reading, Writing},
};
use proptest::prelude::*;
use rstest::rstest;
use std::{fs, io::Write, sync::Arc};

/// A column of every type, each with a missing value.
fn every_type() -> Table {
    let texts = StringViewArray::from(vec![
        Some("Petrel"),
        None,
        Some("a name of more than twelve letters"),
    ]);
    let moments = TimestampMicrosecondArray::from(vec![Some(0), None, Some(1_751_292_300_123_456)]);
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("truth", Arc::new(BooleanArray::from(vec![Some(true), None, Some(false)]))),
        ("whole", Arc::new(Int64Array::from(vec![Some(i64::MIN), None, Some(i64::MAX)]))),
        ("float", Arc::new(Float64Array::from(vec![Some(0.1), None, Some(f64::MAX)]))),
        (
            "money",
            Arc::new(
                Decimal64Array::from(vec![Some(-5), None, Some(999)])
                    .with_precision_and_scale(18, 2)
                    .unwrap(),
            ),
        ),
        (
            "wide",
            Arc::new(
                Decimal128Array::from(vec![Some(-5), None, Some(i128::from(i64::MAX) * 9)])
                    .with_precision_and_scale(38, 4)
                    .unwrap(),
            ),
        ),
        ("text", Arc::new(texts)),
        ("day", Arc::new(Date32Array::from(vec![Some(-719_162), None, Some(2_932_896)]))),
        ("time", Arc::new(Time64MicrosecondArray::from(vec![Some(0), None, Some(86_399_999_999)]))),
        ("moment", Arc::new(moments.clone())),
        ("instant", Arc::new(moments.with_timezone("UTC"))),
        ("month", Arc::new(Date32Array::from(vec![Some(0), None, Some(31)]))),
        ("nothing", Arc::new(NullArray::new(3))),
    ];
    Table::from_columns(columns).unwrap().with_periods("month", Grain::Month).unwrap()
}

fn through(table: &Table, format: Format) -> Table {
    let mut bytes = Vec::new();
    Writing::new().format(format).write(table, &mut bytes).unwrap();
    Reading::new().stream("piped", &bytes[..]).unwrap()
}

#[rstest]
#[case::parquet(Format::Parquet)]
#[case::arrow(Format::Arrow)]
#[case::stream(Format::ArrowStream)]
fn values_types_and_grains_come_back_as_they_were(#[case] format: Format) {
    let table = every_type();
    for rows in [3, 1, 0] {
        let table = table.head(rows);
        let back = through(&table, format);
        assert_eq!(back.shape().columns(), table.shape().columns());
        assert_eq!(back.columns(), table.columns());
    }
    // Weekdays are not in alphabetical order, and keep their own.
    let days =
        Almanac::new().range("2025-06-01..2025-06-14".parse().unwrap()).make().unwrap().table;
    let sorted = |table: &Table| {
        Sort::new(["weekday", "date"]).apply(table).unwrap().table.column("date").unwrap().clone()
    };
    assert_eq!(&sorted(&through(&days, format)), &sorted(&days));
    // Batches give the same as the whole.
    let (mut bytes, mut batches_made) = (Vec::new(), 0);
    let mut batches = Writing::new().format(format).batches(&mut bytes);
    let sink = &mut |batch: &Table| {
        batches_made += 1;
        Ok(batches.write(batch)?)
    };
    Sort::new(["day"]).apply_into(&table, &Context::new(), sink).unwrap();
    batches.finish().unwrap();
    assert_eq!((Reading::new().stream("piped", &bytes[..]).unwrap().rows(), batches_made), (3, 1));
}

#[rstest]
#[case("stays.csv")]
#[case("stays.csv.gz")]
#[case("stays.csv.zst")]
#[case("stays.parquet")]
#[case("stays.arrow")]
#[case("stays.arrows")]
#[case("stays.jsonl")]
#[case("stays.jsonl.gz")]
#[case("stays.xlsx")]
fn the_extension_decides_how_a_file_is_written_and_its_bytes_how_it_is_read(#[case] name: &str) {
    let stays = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv")).unwrap();
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join(name);
    io::write(&stays, &path).unwrap();
    assert_eq!(io::read(&path).unwrap().columns(), stays.columns());
    // The name of the file does not matter, and the columns are known without the rest.
    let renamed = directory.path().join("renamed.dat");
    fs::rename(&path, &renamed).unwrap();
    assert_eq!(io::read(&renamed).unwrap().rows(), 205);
    let shape = Reading::new().shape(&renamed).unwrap();
    assert!(shape.columns().iter().map(|column| column.name.as_str()).eq(stays.names()));
    assert_eq!(
        Reading::new().stream("piped", fs::File::open(&renamed).unwrap()).unwrap().columns(),
        stays.columns()
    );
}

#[rstest]
#[case(Format::Csv)]
#[case(Format::Parquet)]
#[case(Format::Arrow)]
#[case(Format::ArrowStream)]
fn unused_columns_are_not_read(#[case] format: Format) {
    let mut bytes = Vec::new();
    Writing::new().format(format).write(&every_type(), &mut bytes).unwrap();
    let whole = Reading::new().stream("piped", &bytes[..]).unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    fs::write(file.path(), &bytes).unwrap();
    for (only, read) in [(["month", "text"], &["text", "month"][..]), (["nowhere", ""], &["truth"])]
    {
        let reading = Reading::new().only(only);
        for table in
            [reading.file(file.path()).unwrap(), reading.stream("piped", &bytes[..]).unwrap()]
        {
            assert!(table.names().eq(read.iter().copied()));
            assert_eq!(table.rows(), 3);
            for name in read {
                assert_eq!(table.column(name).unwrap(), whole.column(name).unwrap());
                assert_eq!(table.shape().find(name).unwrap(), whole.shape().find(name).unwrap());
            }
        }
    }
}

#[rstest]
#[case(Format::Arrow)]
#[case(Format::ArrowStream)]
#[case(Format::Parquet)]
fn selected_rows_are_written_with_their_own_texts_only(#[case] format: Format) {
    let text = |n: u32| Some(format!("a text that is longer than twelve bytes, number {n}"));
    let texts: StringViewArray = (0..20_000).map(text).collect();
    let table = Table::from_columns([("text", Arc::new(texts) as ArrayRef)]).unwrap();
    let size = |tables: &[Table]| {
        let mut bytes = Vec::new();
        let mut batches = Writing::new().format(format).batches(&mut bytes);
        tables.iter().for_each(|table| batches.write(table).unwrap());
        batches.finish().unwrap();
        assert_eq!(
            Reading::new().stream("piped", &bytes[..]).unwrap().rows(),
            tables.iter().map(Table::rows).sum::<usize>()
        );
        bytes.len()
    };
    let whole = size(std::slice::from_ref(&table));
    assert!(size(&[table.slice(500, 10)]) < whole / 50);
    let cut: Vec<Table> = (0..10).map(|part| table.slice(part * 2000, 2000)).collect();
    assert!(size(&cut) < whole * 5 / 4);
}

fn batch(columns: Vec<(&str, ArrayRef)>) -> RecordBatch {
    RecordBatch::try_from_iter(columns).unwrap()
}

/// The bytes of an Arrow stream of columns of any type.
fn stream(columns: Vec<(&str, ArrayRef)>) -> Vec<u8> {
    let batch = batch(columns);
    let mut writer = arrow_ipc::writer::StreamWriter::try_new(Vec::new(), &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.into_inner().unwrap()
}

#[test]
fn other_types_are_widened_and_nested_ones_refused() {
    let names = DictionaryArray::<Int32Type>::from_iter([Some("Petrel"), None, Some("Petrel")]);
    let bytes = stream(vec![
        ("name", Arc::new(names)),
        ("n", Arc::new(Int32Array::from(vec![1, 2, 3]))),
        ("note", Arc::new(StringArray::from(vec!["a", "b", "c"]))),
    ]);
    let table = Reading::new().stream("piped", &bytes[..]).unwrap();
    let kinds: Vec<String> =
        table.shape().columns().iter().map(|column| column.kind.unwrap().to_string()).collect();
    assert_eq!(kinds, ["text", "whole numbers", "text"]);
    let lists = ListArray::from_iter_primitive::<Int32Type, _, _>([Some([Some(1)]), None]);
    let error =
        Reading::new().stream("piped", &stream(vec![("list", Arc::new(lists))])[..]).unwrap_err();
    assert!(error.to_string().contains("column `list` has the Arrow type"), "{error}");
}

/// The CSV text of every cell.
fn cells(table: &Table) -> Vec<String> {
    let texts = io::CellText::for_columns(table);
    (0..table.rows()).flat_map(|row| texts.iter().map(move |column| column.text(row))).collect()
}

#[test]
fn values_that_a_sheet_cannot_hold_are_written_as_csv_text() {
    let names =
        ["truth", "whole", "float", "money", "wide", "text", "day", "time", "moment", "nothing"];
    let columns = jembric::Columns::new(names);
    let table = columns.apply(&every_type()).unwrap().table;
    // A row without any value is a blank row, which does not count.
    let table = jembric::Filter::new("whole is not missing").apply(&table).unwrap().table;
    let back = through(&table, Format::Xlsx);
    assert_eq!(cells(&back), cells(&table));
    let kinds = back
        .shape()
        .columns()
        .iter()
        .map(|column| column.kind.unwrap().to_string())
        .collect::<Vec<_>>();
    let expected = "true or false, text, numbers, decimals, 2 places, text, text, dates, text, \
        moments, no values";
    assert_eq!(kinds.join(", "), expected);
    // Months come back as days, and quarters as labels.
    let months = jembric::Active::new("arrived", "left").grain(Grain::Month).count();
    let stays = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv")).unwrap();
    let counted =
        |active: jembric::Active| through(&active.apply(&stays).unwrap().table, Format::Xlsx);
    assert_eq!(cells(&counted(months.clone()))[0], "2024-01-01");
    assert_eq!(cells(&counted(months.grain(Grain::Quarter)))[0], "2024-Q1");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn values_of_a_sheet_come_back_to_the_last_digit(
        rows in proptest::collection::vec((any::<i64>(), -719_162..2_932_897_i32,
            0..86_400_000_i64, any::<f64>()), 1..20),
        places in 0..7_i8,
    ) {
        let units = rows.iter().map(|row| row.0 % 1_000_000_000_000_000_000);
        let moments = rows.iter().map(|row| i64::from(row.1) * 86_400_000_000 + row.2 * 1000);
        let table = Table::from_columns(vec![
            ("n", Arc::new(Int64Array::from_iter_values(rows.iter()
                .map(|row| row.0 >> (row.2 % 60)))) as ArrayRef),
            ("d", Arc::new(Decimal64Array::from_iter_values(units).with_precision_and_scale(18,
                places).unwrap())),
            ("day", Arc::new(Date32Array::from_iter_values(rows.iter().map(|row| row.1)))),
            ("at", Arc::new(TimestampMicrosecondArray::from_iter_values(moments))),
            ("x", Arc::new(Float64Array::from_iter_values(rows.iter().map(|row| row.3)))),
        ]).unwrap();
        // As in CSV, the whole column decides the number of decimal places.
        let back = through(&table, Format::Xlsx);
        let plain = |text: &String| {
            let is_plain = |byte: u8| byte == b'.' || byte.is_ascii_digit();
            if !text.trim_start_matches('-').bytes().all(is_plain) {
                text.parse::<f64>().map_or(text.clone(), |number| number.to_string())
            } else if text.contains('.') {
                text.trim_end_matches('0').trim_end_matches('.').to_owned()
            } else {
                text.clone()
            }
        };
        let midnight = |text: String| text.strip_suffix("T00:00").map_or(text.clone(),
            str::to_owned);
        let told = |table: &Table| cells(table).iter().map(plain).map(midnight).collect::<Vec<_>>();
        prop_assert_eq!(told(&back), told(&table));
    }
}

/// A workbook with these sheets, each of rows of texts: `name,n / Petrel,5`.
fn book(sheets: &[(&str, &str)]) -> tempfile::NamedTempFile {
    let mut book = rust_xlsxwriter::Workbook::new();
    for (name, rows) in sheets {
        let sheet = book.add_worksheet().set_name(*name).unwrap();
        for (cells, row) in rows.split('/').zip(0..) {
            for (cell, column) in
                cells.trim().split(',').zip(0..).filter(|(cell, _)| !cell.is_empty())
            {
                sheet.write_string(row, column, cell).unwrap();
            }
        }
    }
    let file = tempfile::Builder::new().suffix(".xlsx").tempfile().unwrap();
    book.save(file.path()).unwrap();
    file
}

#[rstest]
#[case::the_only_one(&[("Stays", " / ,vessel,,n / / ,Petrel,x,5")], None,
    Ok("vessel c2 n: Petrel x 5"))]
#[case::named(&[("A", "a"), ("B b", "b / 1")], Some("B b"), Ok("b: 1"))]
#[case::not_named(&[("A", "a"), ("B b", "b")], None,
    Err("has the sheets A, B b: expected one of them behind the file"))]
#[case::misspelt(&[("Stays", "a")], Some("Stay"),
    Err("has no sheet `Stay`. Did you mean `Stays`?"))]
#[case::without_a_name(&[("A", "a / 1 / 2,3")], None,
    Err("line 3: a value in column B, which has no name in row 1"))]
#[case::twice(&[("A", "a,a")], None,
    Err(".xlsx: two columns are named `a`. The names of columns must differ: rename one"))]
#[case::nothing(&[("A", "")], None, Err("the file is empty"))]
fn a_sheet_is_read_from_its_first_row_with_values(
    #[case] sheets: &[(&str, &str)],
    #[case] sheet: Option<&str>,
    #[case] expected: Result<&str, &str>,
) {
    let file = book(sheets);
    let path = file.path().display().to_string();
    let name = sheet.map_or(path.clone(), |sheet| format!("{path}:{sheet}"));
    let shape = Reading::new().shape(&name);
    match (io::read(&name), expected) {
        (Ok(table), Ok(expected)) => {
            let names: Vec<&str> = table.names().collect();
            assert_eq!(format!("{}: {}", names.join(" "), cells(&table).join(" ")), expected);
            assert!(shape.unwrap().columns().iter().map(|column| column.name.as_str()).eq(names));
        }
        (Err(told), Err(expected)) => {
            assert!(told.to_string().contains(expected), "{told}");
            assert!(shape.is_ok() || shape.unwrap_err().to_string() == told.to_string());
        }
        (told, _) => panic!("{told:?}"),
    }
    assert_eq!(io::file_of(&name), file.path());
}

#[test]
fn texts_of_a_sheet_are_not_numbers_unless_declared_and_rows_are_lines() {
    let file = book(&[("A", "day,fee / 2025-06-30,1.50 / / 2025-07-01,2")]);
    let table = io::read(file.path()).unwrap();
    let kinds = |table: &Table| {
        table
            .shape()
            .columns()
            .iter()
            .map(|column| column.kind.unwrap().to_string())
            .collect::<Vec<_>>()
    };
    assert_eq!(
        (kinds(&table), table.origin().map(|origin| origin.line(1))),
        (vec!["dates".to_owned(), "text".to_owned()], Some(4))
    );
    let told = jembric::Totals::new().sum(["fee"]).apply(&table).unwrap_err().to_string();
    assert!(told.contains("Read them as numbers: `Reading::read(\"fee\", \"number\")`"), "{told}");
    let read = Reading::new().read("fee", "number").file(file.path()).unwrap();
    assert_eq!(kinds(&read)[1], "decimals, 2 places");
    let whole = Reading::new().no_header().file(file.path()).unwrap();
    assert_eq!((whole.names().collect::<Vec<_>>(), whole.rows()), (vec!["c1", "c2"], 3));
    let told =
        Reading::new().read("c2", "number").no_header().file(file.path()).unwrap_err().to_string();
    assert!(
        told.contains(
            "column `c2`: 1 of its 3 values does not match the format `number`: line 1 `fee`"
        ),
        "{told}"
    );
    let told = Reading::new().most_unpacked(1000).file(file.path()).unwrap_err().to_string();
    assert!(told.contains("unpack to more than the limit of 1000"), "{told}");
}

#[rstest]
#[case::keys_come_later(
    "{\"b\":1}\n\n{\"a\":\"x\\ny\",\"b\":null}\n",
    Ok("b a|1|x\ny|whole numbers, text")
)]
#[case::texts("{\"n\":\"417\",\"d\":\"2025-06-30\"}", Ok("n d|417|2025-06-30|text, dates"))]
#[case::exact("{\"n\":1.10}\n{\"n\":2}", Ok("n|1.10|2.00|decimals, 2 places"))]
#[case::mixed("{\"n\":1}\n{\"n\":\"-\"}", Ok("n|1||whole numbers"))]
#[case::escaped("{\"\\u006eame\":\"\\u00fc, \\\"q\\\"\"}", Ok("name|\u{fc}, \"q\"|text"))]
#[case::only_nulls("{\"a\":null}\r\n", Ok("a||no values"))]
#[case::nested(
    "{\"a\":1}\n{\"a\":{\"b\":1}}",
    Err("line 2: `a` holds `{\"b\":1}`, where one value is needed")
)]
#[case::cut(
    "{\"a\":1}\n{\"a\":",
    Err("line 2: expected one JSON object: EOF while parsing a value, at column 5")
)]
#[case::two(
    "{\"a\":1}{\"a\":2}",
    Err("line 1: expected one JSON object: trailing characters, at column 8")
)]
#[case::twice("{\"a\":1,\"a\":2}", Err("x.jsonl: line 1: the key `a` is repeated"))]
#[case::no_object("{\"a\":1}\n[1]", Err("line 2: expected one JSON object"))]
#[case::nothing("{}\n{}", Err("the file is empty"))]
fn objects_of_json_lines_are_rows(#[case] text: &str, #[case] expected: Result<&str, &str>) {
    let read = Reading::new().missing(["-"]).stream("x.jsonl", text.as_bytes());
    match (read, expected) {
        (Ok(table), Ok(expected)) => {
            let kinds: Vec<String> = table
                .shape()
                .columns()
                .iter()
                .map(|column| column.kind.unwrap().to_string())
                .collect();
            let names: Vec<&str> = table.names().collect();
            let cells: Vec<String> = cells(&table)
                .into_iter()
                .filter(|cell| names.len() == 1 || !cell.is_empty())
                .collect();
            assert_eq!(
                format!("{}|{}|{}", names.join(" "), cells.join("|"), kinds.join(", ")),
                expected
            );
        }
        (Err(told), Err(expected)) => assert!(
            told.to_string().starts_with("x.jsonl: ") && told.to_string().contains(expected),
            "{told}"
        ),
        (told, _) => panic!("{told:?}"),
    }
}

#[test]
fn many_lines_of_json_are_read_like_few() {
    let (mut json, mut csv) = (String::new(), "n,day,s\n".to_owned());
    for n in 0..60_000 {
        json.push_str(&format!(
            "{{\"n\":{n},\"day\":\"2025-06-{:02}\",\"s\":\"text, number {n}\"}}\n",
            n % 30 + 1
        ));
        csv.push_str(&format!("{n},2025-06-{:02},\"text, number {n}\"\n", n % 30 + 1));
    }
    let (one, other) = (
        Reading::new().stream("x", json.as_bytes()).unwrap(),
        Reading::new().stream("x", csv.as_bytes()).unwrap(),
    );
    assert_eq!(one.columns(), other.columns());
    assert_eq!([&one, &other].map(|table| table.origin().unwrap().line(59_999)), [60_000, 60_001]);
    // The last line has an error, which names its number.
    json.push_str("{\"n\":}\n");
    let told = Reading::new().stream("x", json.as_bytes()).unwrap_err().to_string();
    assert!(told.starts_with("x: line 60001: "), "{told}");
}

#[test]
fn damaged_and_oversized_files_are_explained() {
    let mut bytes = Vec::new();
    Writing::new().format(Format::Parquet).write(&every_type(), &mut bytes).unwrap();
    let cut =
        Reading::new().stream("cut.parquet", &bytes[..bytes.len() / 2]).unwrap_err().to_string();
    assert!(cut.starts_with("cut.parquet: this is not a complete Parquet file: "), "{cut}");
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer.write_all(&vec![b'a'; 1 << 20]).unwrap();
    let packed = packer.finish().unwrap();
    let refused = Reading::new()
        .most_unpacked(1 << 16)
        .stream("x.csv.gz", &packed[..])
        .unwrap_err()
        .to_string();
    assert!(
        refused.contains("unpack to more than the limit of 65536")
            && refused.contains("`Reading::most_unpacked(524288)`"),
        "{refused}"
    );
    assert_eq!(
        Reading::new()
            .most_unpacked(1 << 20)
            .no_header()
            .stream("x.csv.gz", &packed[..])
            .unwrap()
            .rows(),
        1
    );
    let cut =
        Reading::new().stream("x.csv.gz", &packed[..packed.len() / 2]).unwrap_err().to_string();
    assert!(cut.starts_with("x.csv.gz: "), "{cut}");
    let format = Reading::new()
        .read("day", "%d.%m.%Y")
        .stream("x.parquet", &bytes[..])
        .unwrap_err()
        .to_string();
    assert!(format.contains("the columns of x.parquet already have types"), "{format}");
}

/// A column whose texts exceed 2 GiB together, from a file of a megabyte: all rows have the same
/// text.
#[cfg(feature = "parquet")]
#[test]
fn a_column_with_more_than_two_gibibytes_of_text_is_read() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("long.parquet");
    let text = StringArray::from(vec!["x".repeat(1 << 20)]);
    let keys = Int32Array::from(vec![0; 2_100]);
    let texts: ArrayRef = Arc::new(DictionaryArray::<Int32Type>::new(keys, Arc::new(text)));
    let batch = RecordBatch::try_from_iter([("text", texts)]).unwrap();
    // The file declares plain texts, as most files do.
    let properties =
        parquet::arrow::arrow_writer::ArrowWriterOptions::new().with_skip_arrow_metadata(true);
    let file = fs::File::create(&path).unwrap();
    let mut writer =
        parquet::arrow::ArrowWriter::try_new_with_options(file, batch.schema(), properties)
            .unwrap();
    writer.write(&batch).unwrap();
    writer.close().unwrap();
    let table = Reading::new().most_unpacked(1 << 32).file(&path).unwrap();
    assert_eq!((table.rows(), table.shape().columns()[0].kind), (2_100, Some(jembric::Type::Text)));
}

/// The file tells how its parts are compressed.
#[rstest]
#[case(Some(arrow_ipc::CompressionType::LZ4_FRAME))]
#[case(Some(arrow_ipc::CompressionType::ZSTD))]
#[case(None)]
fn compressed_arrow_and_brotli_are_read(#[case] compression: Option<arrow_ipc::CompressionType>) {
    let table = every_type();
    let mut bytes = Vec::new();
    match compression {
        Some(_) => {
            let options = arrow_ipc::writer::IpcWriteOptions::default()
                .try_with_compression(compression)
                .unwrap();
            let batch = table.batch();
            let mut writer = arrow_ipc::writer::FileWriter::try_new_with_options(
                &mut bytes,
                &batch.schema(),
                options,
            )
            .unwrap();
            writer.write(batch).unwrap();
            writer.finish().unwrap();
        }
        None => {
            let brotli = parquet::basic::Compression::BROTLI(Default::default());
            let properties = parquet::file::properties::WriterProperties::builder()
                .set_compression(brotli)
                .build();
            let schema = table.batch().schema();
            let mut writer =
                parquet::arrow::ArrowWriter::try_new(&mut bytes, schema, Some(properties)).unwrap();
            writer.write(table.batch()).unwrap();
            writer.close().unwrap();
        }
    }
    let read = Reading::new().stream("packed", &bytes[..]).unwrap();
    assert_eq!(read.columns(), table.columns());
}

/// Metadata with an unknown grain.
#[test]
fn an_unknown_grain_is_an_error_with_file_and_column() {
    use jembric::arrow::schema::{DataType, Field, Schema};
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("odd.arrow");
    let metadata =
        std::collections::HashMap::from([("jembric.grain".to_owned(), "fortnight".to_owned())]);
    let field = Field::new("day", DataType::Date32, true).with_metadata(metadata);
    let schema = Arc::new(Schema::new(vec![field]));
    let batch =
        RecordBatch::try_new(schema.clone(), vec![Arc::new(Date32Array::from(vec![0]))]).unwrap();
    let mut writer =
        arrow_ipc::writer::FileWriter::try_new(fs::File::create(&path).unwrap(), &schema).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    for error in [Reading::new().file(&path).unwrap_err(), Reading::new().shape(&path).unwrap_err()]
    {
        let error = error.to_string();
        assert!(error.contains("odd.arrow: column `day`: its metadata field"), "{error}");
        assert!(error.contains("`fortnight`"), "{error}");
    }
}

/// There is one limit on bytes, for everything that needs more memory than its size.
#[rstest]
#[case::parquet(Format::Parquet)]
#[case::arrow(Format::Arrow)]
#[case::stream(Format::ArrowStream)]
fn rows_that_need_more_than_the_limit_are_refused_before_they_are_read(#[case] format: Format) {
    let ones: ArrayRef = Arc::new(Int64Array::from(vec![1; 10_000]));
    let table = Table::from_columns([("one", ones)]).unwrap();
    let mut bytes = Vec::new();
    Writing::new().format(format).write(&table, &mut bytes).unwrap();
    let read = |most: u64| Reading::new().most_unpacked(most).stream("ones", &bytes[..]);
    let error = read(50_000).unwrap_err().to_string();
    assert!(error.contains("bytes unpack to more than the limit of 50000 bytes"), "{error}");
    assert_eq!(read(1_000_000).unwrap().rows(), 10_000);
    let error = Reading::new().most_columns(0).stream("ones", &bytes[..]).unwrap_err().to_string();
    assert!(error.contains("it has 1 columns, more than the limit of 0"), "{error}");
}

/// Replaces each occurrence of some bytes.
fn patched(bytes: &[u8], from: i64, to: i64) -> Vec<u8> {
    let mut patched = bytes.to_vec();
    let places = bytes.windows(8).enumerate().filter(|(_, window)| *window == from.to_le_bytes());
    let places: Vec<usize> = places.map(|(place, _)| place).collect();
    assert!(!places.is_empty(), "{from} is not in the file");
    for place in places {
        patched[place..place + 8].copy_from_slice(&to.to_le_bytes());
    }
    patched
}

/// A compressed column that claims a terabyte is refused before memory is allocated for it.
#[rstest]
#[case::file(true)]
#[case::stream(false)]
fn the_claimed_length_of_a_compressed_column_is_checked(#[case] is_file: bool) {
    let ones: ArrayRef = Arc::new(Int64Array::from(vec![1; 100_000]));
    let batch = RecordBatch::try_from_iter([("one", ones)]).unwrap();
    let options = arrow_ipc::writer::IpcWriteOptions::default();
    let options = options.try_with_compression(Some(arrow_ipc::CompressionType::ZSTD)).unwrap();
    let mut bytes = Vec::new();
    if is_file {
        let mut writer = arrow_ipc::writer::FileWriter::try_new_with_options(
            &mut bytes,
            &batch.schema(),
            options,
        )
        .unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
    } else {
        let mut writer = arrow_ipc::writer::StreamWriter::try_new_with_options(
            &mut bytes,
            &batch.schema(),
            options,
        )
        .unwrap();
        writer.write(&batch).unwrap();
        writer.finish().unwrap();
    }
    assert_eq!(Reading::new().stream("ones", &bytes[..]).unwrap().rows(), 100_000);
    let claims = patched(&bytes, 800_000, 1 << 40);
    let error = Reading::new().stream("ones", &claims[..]).unwrap_err().to_string();
    assert!(error.contains("bytes unpack to more than the limit of 536870912"), "{error}");
}

/// A file with a block after its own end is reported as damaged.
#[rstest]
#[case::far(1 << 40)]
#[case::out_of_range(i64::MAX)]
#[case::negative(-8)]
fn a_block_that_ends_behind_its_file_is_damage(#[case] stated: i64) {
    let numbers: ArrayRef = Arc::new(Int64Array::from_iter_values(0..10_007));
    let batch = RecordBatch::try_from_iter([("n", numbers)]).unwrap();
    let mut bytes = Vec::new();
    let mut writer = arrow_ipc::writer::FileWriter::try_new(&mut bytes, &batch.schema()).unwrap();
    writer.write(&batch).unwrap();
    writer.finish().unwrap();
    let end = bytes.len() - 10;
    let footer_len =
        arrow_ipc::reader::read_footer_length(bytes[end..].try_into().unwrap()).unwrap();
    let body = {
        let footer = arrow_ipc::root_as_footer(&bytes[end - footer_len..end]).unwrap();
        footer.recordBatches().unwrap().get(0).bodyLength()
    };
    let damaged = patched(&bytes, body, stated);
    let error = Reading::new().stream("n.arrow", &damaged[..]).unwrap_err().to_string();
    let whole = format!("a block ends behind the last of the file's {} bytes", bytes.len());
    assert!(error.contains("n.arrow") && error.contains(&whole), "{error}");
}

/// A dictionary that states more entries than its page has bytes is refused before memory is
/// allocated for them.
#[test]
fn the_entries_of_a_dictionary_are_checked() {
    let names: ArrayRef =
        Arc::new(StringViewArray::from_iter_values((0..700).map(|n| format!("n{}", n % 70))));
    let table = Table::from_columns([("name", names)]).unwrap();
    let mut bytes = Vec::new();
    Writing::new().format(Format::Parquet).write(&table, &mut bytes).unwrap();
    // The number 70 as a field of the page header, and 8191 in its place.
    let (stated, more) = ([0x15, 0x8c, 0x01, 0x15], [0x15, 0xfe, 0x7f, 0x15]);
    let at = bytes.windows(4).position(|window| window == stated).expect("a dictionary");
    bytes[at..at + 4].copy_from_slice(&more);
    let error = Reading::new().stream("names", &bytes[..]).unwrap_err().to_string();
    assert!(error.contains("`name` has a dictionary of 8191 entries in"), "{error}");
    let file = tempfile::NamedTempFile::with_suffix(".parquet").unwrap();
    fs::write(file.path(), &bytes).unwrap();
    let error = Reading::new().file(file.path()).unwrap_err().to_string();
    assert!(error.contains("`name` has a dictionary of 8191 entries in"), "{error}");
}

/// Floats near the limits of their digits, and any others.
fn float() -> impl Strategy<Value = f64> {
    let powers = (-40_i32..40, -999_i32..1000);
    prop_oneof![
        any::<f64>().prop_filter("a number", |value| value.is_finite()),
        powers.prop_map(|(power, digits)| f64::from(digits) * 10_f64.powi(power)),
        (-4_i64..5).prop_map(|more| (100_000_000_000_000_000 + more * 16) as f64),
    ]
}

proptest! {
    /// What is written as CSV is read with the same types and values. Floats of at most six decimal
    /// places are exact decimals to a reader, and whole ones whole numbers.
    #[test]
    fn a_written_table_is_read_back(
        rows in proptest::collection::vec((
            proptest::option::of(any::<i64>()), -719_162..2_932_897_i32, float(),
            proptest::option::of(-100_000_000_000_000_000..100_000_000_000_000_000_i128),
            any::<bool>(), 0..86_400_000_000_i64,
        ), 1..12),
        places in 1..7_i8,
    ) {
        let column = |array: ArrayRef| array;
        let micros = rows.iter().map(|row| i64::from(row.1) * 86_400_000_000 + row.5);
        let moments = TimestampMicrosecondArray::from_iter_values(micros);
        let wide = rows.iter().map(|row| row.3.map(|units| units * 1000));
        let narrow = rows.iter().map(|row| row.3.map(|units| units as i64));
        let table = Table::from_columns([
            ("whole", column(Arc::new(rows.iter().map(|row| row.0).collect::<Int64Array>()))),
            ("day", column(Arc::new(Date32Array::from_iter_values(rows.iter().map(|row| row.1))))),
            ("float", column(Arc::new(Float64Array::from_iter_values(
                rows.iter().map(|row| row.2))))),
            ("money", column(Arc::new(narrow.collect::<Decimal64Array>()
                .with_precision_and_scale(18, places).unwrap()))),
            ("wide", column(Arc::new(wide.collect::<Decimal128Array>()
                .with_precision_and_scale(38, places).unwrap()))),
            ("truth", column(Arc::new(BooleanArray::from_iter(
                rows.iter().map(|row| Some(row.4)))))),
            ("instant", column(Arc::new(moments.with_timezone("UTC")))),
            ("text", column(Arc::new(StringViewArray::from_iter_values(
                rows.iter().map(|row| format!("t{}", row.1)))))),
        ]).unwrap();
        let back = through(&table, Format::Csv);
        let has_values = |name: &str| table.column(name).unwrap().null_count() < table.rows();
        for column in table.shape().columns().iter().filter(|column| has_values(&column.name)) {
            let read = back.shape().find(&column.name).unwrap().kind.unwrap();
            match column.name.as_str() {
                "float" => prop_assert!(read.is_number(), "{:?}: {}", read, cells(&table)[0]),
                _ => prop_assert_eq!(Some(read), column.kind, "{}", column.name),
            }
            let texts = |table: &Table| {
                let place = table.shape().place(&column.name).unwrap();
                let cells = &io::CellText::for_columns(table)[place];
                (0..table.rows()).map(|row| cells.text(row)).collect::<Vec<_>>()
            };
            let (ours, theirs) = (texts(&table), texts(&back));
            match column.name.as_str() {
                "float" => {
                    let number = |text: &String| text.parse::<f64>().unwrap();
                    prop_assert_eq!(ours.iter().map(number).collect::<Vec<_>>(),
                        theirs.iter().map(number).collect::<Vec<_>>());
                }
                _ => prop_assert_eq!(ours, theirs),
            }
        }
    }
}
