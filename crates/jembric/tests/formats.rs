//! Tables through files whose columns have types, and through packed ones.

#![allow(clippy::unwrap_used)]

use jembric::{
    Almanac, Context, Operation, Sort, Table,
    arrow::{
        ArrayRef, BooleanArray, Date32Array, Decimal64Array, Decimal128Array, DictionaryArray, Float64Array,
        Int32Array, Int64Array, ListArray, NullArray, RecordBatch, StringArray, StringViewArray,
        Time64MicrosecondArray, TimestampMicrosecondArray, types::Int32Type,
    },
    calendar::Grain,
    io::{self, Format, Reading, Writing},
};
use rstest::rstest;
use std::{fs, io::Write, sync::Arc};

/// A column of every type, each with a missing value.
fn every_type() -> Table {
    let texts = StringViewArray::from(vec![Some("Petrel"), None, Some("a name of more than twelve letters")]);
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
    // The order of weekdays is no alphabetical one, and stays theirs.
    let days = Almanac::new().range("2025-06-01..2025-06-14".parse().unwrap()).make().unwrap().table;
    let sorted = |table: &Table| {
        Sort::new(["weekday", "date"]).apply(table).unwrap().table.column("date").unwrap().clone()
    };
    assert_eq!(&sorted(&through(&days, format)), &sorted(&days));
    // Batch by batch is the same as whole.
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
fn a_files_ending_says_how_it_is_written_and_its_bytes_how_it_is_read(#[case] name: &str) {
    let stays = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv")).unwrap();
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join(name);
    io::write(&stays, &path).unwrap();
    assert_eq!(io::read(&path).unwrap().columns(), stays.columns());
    // What it is called does not matter, and the names are known without the rest.
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
fn columns_that_are_not_asked_for_are_not_read(#[case] format: Format) {
    let mut bytes = Vec::new();
    Writing::new().format(format).write(&every_type(), &mut bytes).unwrap();
    let whole = Reading::new().stream("piped", &bytes[..]).unwrap();
    let file = tempfile::NamedTempFile::new().unwrap();
    fs::write(file.path(), &bytes).unwrap();
    for (only, read) in [(["month", "text"], &["text", "month"][..]), (["nowhere", ""], &["truth"])] {
        let reading = Reading::new().only(only);
        for table in [reading.file(file.path()).unwrap(), reading.stream("piped", &bytes[..]).unwrap()] {
            assert!(table.names().eq(read.iter().copied()));
            assert_eq!(table.rows(), 3);
            for name in read {
                assert_eq!(table.column(name).unwrap(), whole.column(name).unwrap());
                assert_eq!(table.shape().find(name).unwrap(), whole.shape().find(name).unwrap());
            }
        }
    }
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
    let error = Reading::new().stream("piped", &stream(vec![("list", Arc::new(lists))])[..]).unwrap_err();
    assert!(error.to_string().contains("column `list` has the Arrow type"), "{error}");
}

#[test]
fn what_is_broken_or_far_too_large_is_told() {
    let mut bytes = Vec::new();
    Writing::new().format(Format::Parquet).write(&every_type(), &mut bytes).unwrap();
    let cut = Reading::new().stream("cut.parquet", &bytes[..bytes.len() / 2]).unwrap_err().to_string();
    assert!(cut.starts_with("cut.parquet: this is no whole Parquet file: "), "{cut}");
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packer.write_all(&vec![b'a'; 1 << 20]).unwrap();
    let packed = packer.finish().unwrap();
    let refused =
        Reading::new().most_unpacked(1 << 16).stream("x.csv.gz", &packed[..]).unwrap_err().to_string();
    assert!(
        refused.contains("unpack to more than 65536") && refused.contains("--most-unpacked 524288"),
        "{refused}"
    );
    assert_eq!(
        Reading::new().most_unpacked(1 << 20).no_header(true).stream("x.csv.gz", &packed[..]).unwrap().rows(),
        1
    );
    let cut = Reading::new().stream("x.csv.gz", &packed[..packed.len() / 2]).unwrap_err().to_string();
    assert!(cut.starts_with("x.csv.gz: "), "{cut}");
    let format =
        Reading::new().read("day", "%d.%m.%Y").stream("x.parquet", &bytes[..]).unwrap_err().to_string();
    assert!(format.contains("the columns of x.parquet have types already"), "{format}");
}
