//! The library as users have it: files in, results and files out, and Arrow.

use jembric::{
    Context, Earliest, Error, Expression, Fold, Latest, Look, LookFold, Table, Ties, Type,
    arrow::{
        Array, ArrayRef, Date32Array, RecordBatch, StringArray, cast::AsArray, schema::DataType,
    },
    io::{self, DateOrder, Destination, Format, Reading, Writing},
};
use proptest::prelude::*;
use rstest::rstest;
use std::{collections::BTreeMap, fs, sync::Arc};

/// A record as it was exported.
#[derive(Clone, Debug)]
struct Exported {
    vessel: String,
    /// Year, month and day of the month.
    day: Option<(i32, u32, u32)>,
    tons: u32,
}

fn exported() -> impl Strategy<Value = Vec<Exported>> {
    let vessel = prop::sample::select(vec![
        "Petrel",
        "Bolt Head",
        "Ebb, and Flow",
        "Gannet \"Rock\" of the outer mole",
    ]);
    let day = prop::option::weighted(0.9, (1999_i32..2002, 1_u32..13, 1_u32..29));
    let one = (vessel, day, 0_u32..100_000).prop_map(|(vessel, day, tons)| Exported {
        vessel: vessel.to_owned(),
        day,
        tons,
    });
    prop::collection::vec(one, 0..40)
}

/// The text of the records, with dates in one of several notations.
fn text(records: &[Exported], notation: usize, separator: char) -> String {
    let mut text = format!("vessel{separator}day{separator}tons\r\n");
    for Exported { vessel, day, tons } in records {
        let day = day.map_or(String::new(), |(year, month, day)| match notation {
            0 => format!("{year:04}-{month:02}-{day:02}"),
            1 => format!("{day:02}.{month:02}.{year:04}"),
            2 => format!("{month}/{day}/{year:04}"),
            _ => format!(
                "{day} {} {year:04}",
                [
                    "Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov",
                    "Dec"
                ][month as usize - 1]
            ),
        });
        let vessel = format!("\"{}\"", vessel.replace('"', "\"\""));
        text += &format!("{vessel}{separator}{day}{separator}{}.{:02}\r\n", tons / 100, tons % 100);
    }
    text
}

proptest! {
    /// From text to text: the result is that of loops over the records, in any notation and with
    /// any separator.
    #[test]
    fn the_latest_of_an_exported_file_is_that_of_its_records(
        records in exported(), notation in 0_usize..4, separator in prop::sample::select(vec![',',
            ';', '\t', '|']),
    ) {
        let text = text(&records, notation, separator);
        let reading = Reading::new().date_order(DateOrder::Mdy).separator(separator as u8);
        let table = reading.stream("t", text.as_bytes()).unwrap();
        let outcome = Latest::new("day").per(["vessel"]).ties(Ties::First).apply(&table).unwrap();

        let mut latest: BTreeMap<&str, (i32, u32, u32)> = BTreeMap::new();
        for record in &records {
            if let Some(day) = record.day {
                let best = latest.entry(&record.vessel).or_insert(day);
                *best = day.max(*best);
            }
        }
        let mut expected = Vec::new();
        for record in &records {
            if record.day.is_some() && record.day == latest.get(record.vessel.as_str()).copied() {
                latest.remove(record.vessel.as_str());
                let (year, month, day) = record.day.unwrap();
                expected.push((record.vessel.clone(), format!("{year:04}-{month:02}-{day:02}"),
                    record.tons));
            }
        }
        let mut written = Vec::new();
        Writing::new().write(&outcome.table, &mut written).unwrap();
        let mut reader = csv::Reader::from_reader(&written[..]);
        let rows: Vec<_> = reader.records().map(|row| {
            let row = row.unwrap();
            // If every cell is a whole number, the decimal places are lost, but not the value.
            let tons = (row[2].parse::<f64>().unwrap() * 100.0).round() as u32;
            (row[0].to_owned(), row[1].to_owned(), tons)
        }).collect();
        prop_assert_eq!(rows, expected);
        prop_assert!(outcome.ledger.balances());
    }

    /// A result that is written in either format and read again gives the same result.
    #[test]
    fn a_written_result_survives_reading(records in exported()) {
        let table = Reading::new().stream("t", text(&records, 0, ',').as_bytes()).unwrap();
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("again.csv");
        io::write(&table, &path).unwrap();
        let again = io::read(&path).unwrap();
        prop_assert_eq!(again.batch(), table.batch());
    }
}

#[test]
fn arrow_tables_can_be_read_and_written() {
    let vessels: ArrayRef = Arc::new(StringArray::from(vec!["Petrel", "Petrel", "Thrift"]));
    let days: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 19_000]));
    let batch = RecordBatch::try_from_iter([("vessel", vessels), ("day", days)]).unwrap();
    let first =
        Earliest::new("day").per(["vessel"]).apply(&Table::from_batch(&batch).unwrap()).unwrap();
    let out = first.table.batch();
    assert_eq!(out.schema().field(0).data_type(), &DataType::Utf8View);
    assert_eq!(
        out.column(0).as_string_view().iter().flatten().collect::<Vec<_>>(),
        ["Petrel", "Thrift"]
    );
    assert_eq!(out.column(1).len(), 2);
}

#[test]
fn errors_are_values_that_can_be_matched() {
    let table = Reading::new().stream("t.csv", "vessel,day\nPetrel,soon\n".as_bytes()).unwrap();
    let error = Latest::new("day").apply(&table).unwrap_err();
    assert_eq!((error.setting(), error.file()), (Some("date"), Some("t.csv")));
    match error.fact() {
        jembric::CoreError::NotDates(about) => {
            assert_eq!((about.column.as_str(), about.values, about.bad), ("day", 1, 1));
            assert_eq!((about.first[0].line, about.first[0].text.as_str()), (Some(2), "soon"));
        }
        other => panic!("{other:?}"),
    }
    let missing = io::read("none.csv").unwrap_err();
    assert!(matches!(&missing, Error::Read { file, .. } if file == "none.csv"), "{missing:?}");
    assert!(!missing.is_closed_pipe());
}

#[rstest]
#[case(Format::Csv)]
#[case(Format::JsonLines)]
#[case(Format::Markdown)]
fn a_table_without_rows_is_still_written(#[case] format: Format) {
    let table = Reading::new().stream("t", "vessel,day\n".as_bytes()).unwrap();
    let outcome =
        Latest::new("day").apply_with(&table, &Context::new().reconcile(["vessel"])).unwrap();
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("out");
    let mut file = Destination::file(&path).unwrap();
    file.write(|to| Writing::new().format(format).write(&outcome.table, to)).unwrap();
    assert!(!path.exists(), "not before it is whole");
    file.commit().unwrap();
    let text = fs::read_to_string(&path).unwrap();
    assert_eq!(text.contains("vessel"), format != Format::JsonLines);
}

/// The README lists the functions of the language.
#[test]
fn the_readme_names_every_function_of_expressions() {
    let readme = include_str!("../../../../README.md");
    let from = readme.find("- Functions of dates").expect("the list of functions");
    let list = readme[from..].split("\n\n").next().unwrap();
    for (form, gives) in jembric::Expression::functions() {
        let name = form.split('(').next().unwrap();
        let mut words = list.split(|c: char| !c.is_alphanumeric());
        assert!(words.any(|word| word == name), "{name}: {gives}");
    }
}

/// The harbour's lifts, which are in the repository.
fn lifts() -> Table {
    io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/lifts.csv")).unwrap()
}

/// The rows of a table in this number of batches, each with the number of its first row.
fn batches(table: &Table, count: usize) -> Vec<(Table, u64)> {
    let rows = table.rows().div_ceil(count);
    let firsts = (0..table.rows()).step_by(rows);
    firsts.map(|first| (table.slice(first, rows.min(table.rows() - first)), first as u64)).collect()
}

#[test]
fn threads_fold_their_batches_and_their_states_are_merged() {
    let lifts = lifts();
    let plan =
        Latest::new("lifted_on").per(["crane"]).prepare(&lifts.shape(), &Context::new()).unwrap();
    let whole = plan.apply(&[&lifts]).unwrap();
    for count in [1, 2, 7] {
        let folds: Vec<Fold> = std::thread::scope(|scope| {
            let running: Vec<_> = batches(&lifts, count)
                .into_iter()
                .map(|(batch, first)| {
                    let mut fold = plan.begin().unwrap();
                    scope.spawn(move || fold.take(&batch, first).map(|()| fold))
                })
                .collect();
            running.into_iter().map(|thread| thread.join().unwrap().unwrap()).collect()
        });
        let all = folds.into_iter().reduce(|mut one, other| {
            one.merge(other).unwrap();
            one
        });
        let outcome = all.unwrap().finish().unwrap();
        assert_eq!(outcome.table, whole.table, "{count} batches");
        assert_eq!(outcome.ledger.to_string(), whole.ledger.to_string());
    }
}

#[test]
fn a_look_at_batches_of_a_file_is_the_look_at_the_file() {
    let lifts = lifts();
    let mut fold = LookFold::default();
    batches(&lifts, 5).iter().rev().for_each(|(batch, first)| fold.take(batch, *first).unwrap());
    assert_eq!(format!("{:?}", fold.finish().unwrap()), format!("{:?}", Look::at(&lifts).unwrap()));
}

#[test]
fn an_expression_is_checked_without_the_rows() {
    let (shape, context) = (lifts().shape(), Context::new());
    let kind =
        |text: &str| text.parse::<Expression>().and_then(|text| text.check(&shape, &context));
    assert_eq!(kind("lifted_on + 3 days").unwrap(), Some(Type::DAYS));
    assert_eq!(kind("year(lifted_on) = 2025").unwrap(), Some(Type::Boolean));
    assert!(kind("as_of - lifted_on").unwrap_err().to_string().contains("`as_of`"));
    assert!(kind("lifted_no").unwrap_err().to_string().contains("did you mean `lifted_on`"));
}
