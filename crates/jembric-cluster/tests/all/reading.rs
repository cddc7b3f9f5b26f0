//! Files that several processes share out have the rows, lines and types of one process.

use crate::together::together;
use jembric::{
    Result, Table, Type,
    io::{Data, Memory, Reading},
};
use proptest::prelude::*;
use rstest::rstest;
use std::{fs, path::Path};

/// A budget that is less than any table.
const SCARCE: u64 = 1;

/// The shares of a file, in the order of processes.
fn shares(
    path: &Path,
    reading: &Reading,
    processes: usize,
    memory: Option<u64>,
) -> Vec<Result<Table>> {
    together(processes, 1_000, |flow| {
        let memory = match memory {
            Some(budget) => Memory::limited(budget, path.parent().unwrap()),
            None => Memory::unlimited(),
        };
        reading.share(path, None, &memory, flow)?.head(usize::MAX)
    })
}

/// The rows of tables with their lines, and their types.
fn shown(tables: &[Table]) -> (Vec<String>, Vec<Option<Type>>) {
    let mut rows = Vec::new();
    for table in tables {
        let cells = table.columns().iter().map(jembric::io::CellText::new).collect::<Vec<_>>();
        for row in 0..table.rows() {
            let texts: Vec<_> = cells.iter().map(|cells| cells.text(row).to_string()).collect();
            rows.push(format!("{} {}", table.origin().unwrap().line(row), texts.join("|")));
        }
    }
    (rows, tables[0].shape().columns().iter().map(|column| column.kind).collect())
}

fn written(name: &str, text: &str) -> (tempfile::TempDir, std::path::PathBuf) {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join(name);
    fs::write(&path, text).unwrap();
    (directory, path)
}

/// Only one share has the cell that decides the type of its column.
#[rstest]
#[case::text("n\n1\n2\n3\n4\n5\nx\n")]
#[case::float("n\n1\n2\n3\n4\n5\n1e3\n")]
#[case::places("n\n1.5\n2.5\n3.5\n4.5\n1.25\n9\n")]
#[case::in_the_first("n\n1.25\n2\n3\n4\n5\n6\n")]
#[case::missing("n\n\"\"\n\"\"\n\"\"\n\"\"\n\"\"\n7\n")]
#[case::days("n\n2025-06-30 00:00\n2025-06-29 00:00\n2025-06-28 00:00\n")]
#[case::moments("n\n2025-06-30 00:00\n2025-06-29 00:00\n2025-06-28 09:30\n")]
#[case::an_order("n\n01/02/2025\n03/04/2025\n05/06/2025\n07/08/2025\n31/12/2025\n")]
fn all_processes_decide_types_together(#[case] text: &str) {
    let (_directory, path) = written("n.csv", text);
    let whole = Reading::new().file(&path).unwrap();
    let kinds = shown(std::slice::from_ref(&whole)).1;
    for processes in [1, 2, 3, 7] {
        for memory in [None, Some(SCARCE)] {
            let shares = shares(&path, &Reading::new(), processes, memory);
            let shares: Vec<Table> = shares.into_iter().map(Result::unwrap).collect();
            assert_eq!(shown(&shares).0, shown(std::slice::from_ref(&whole)).0, "{processes}");
            let all = shares.iter().map(|share| shown(std::slice::from_ref(share)).1);
            all.for_each(|of_share| assert_eq!(of_share, kinds, "{processes}"));
        }
    }
}

/// Compressed files, other formats and other encodings are read by process 0.
#[rstest]
#[case::json_lines("a.jsonl", false)]
#[case::packed("a.csv.gz", false)]
#[case::arrow("a.arrow", false)]
#[case::text("a.csv", true)]
fn what_is_not_shared_out_is_at_process_0(#[case] name: &str, #[case] is_shared: bool) {
    let (directory, path) = written("days.csv", "vessel,day\na,2025-06-30\nb,2025-06-29\nc,\n");
    let whole = Reading::new().file(&path).unwrap();
    let path = directory.path().join(name);
    jembric::io::write(&whole, &path).unwrap();
    let shares = shares(&path, &Reading::new(), 3, Some(1 << 24));
    let shares: Vec<Table> = shares.into_iter().map(Result::unwrap).collect();
    let rows: Vec<usize> = shares.iter().map(Table::rows).collect();
    assert_eq!(rows == [3, 0, 0], !is_shared, "{rows:?}");
    assert_eq!(rows.iter().sum::<usize>(), 3);
    assert!(shares.iter().all(|share| share.shape().columns() == whole.shape().columns()));
}

#[test]
fn an_encoding_that_is_converted_is_read_by_process_0() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("a.csv");
    let text: Vec<u8> =
        "vessel\nMöwe\nKestrel\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    fs::write(&path, text).unwrap();
    let shares = shares(&path, &Reading::new(), 2, None);
    let rows: Vec<usize> = shares.into_iter().map(|share| share.unwrap().rows()).collect();
    assert_eq!(rows, [2, 0]);
}

/// A format that cells do not match is an error with the first cells of all shares.
#[test]
fn cells_of_all_shares_are_told() {
    let (_directory, path) = written("a.csv", "day\n30.06.25\nx\n29.06.25\ny\n28.06.25\nz\n");
    let reading = Reading::new().read("day", "%d.%m.%y").century(2000);
    let whole = reading.file(&path).unwrap_err().to_string();
    assert!(whole.contains("line 3 `x`, line 5 `y`, line 7 `z`"), "{whole}");
    // Each process finds the mistake, or learns it from another one.
    for share in shares(&path, &reading, 3, None) {
        let told = share.unwrap_err().to_string();
        assert!(told.ends_with(&whole), "{told}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Quotes and line breaks are anywhere, and a Parquet file has groups of any length.
    #[test]
    fn shares_are_the_rows_of_the_file(
        cells in prop::collection::vec("[a\"\n]{0,6}", 0..40),
        processes in 1_usize..6,
        scarce: bool,
        group in 1_usize..9,
    ) {
        let quoted = |cell: &String| format!("\"{}\",1\n", cell.replace('"', "\"\""));
        let text: String = cells.iter().map(quoted).collect();
        let (directory, path) = written("cells.csv", &format!("cell,n\n{text}"));
        let whole = Reading::new().file(&path).unwrap();
        let memory = scarce.then_some(SCARCE);
        let own = shares(&path, &Reading::new(), processes, memory);
        let own: Vec<Table> = own.into_iter().map(Result::unwrap).collect();
        prop_assert_eq!(shown(&own), shown(std::slice::from_ref(&whole)));

        let path = directory.path().join("cells.parquet");
        let properties = parquet::file::properties::WriterProperties::builder()
            .set_max_row_group_row_count(Some(group))
            .build();
        let file = fs::File::create(&path).unwrap();
        let batch = whole.batch();
        let writer = parquet::arrow::ArrowWriter::try_new(file, batch.schema(), Some(properties));
        let mut writer = writer.unwrap();
        writer.write(batch).unwrap();
        writer.close().unwrap();
        let whole = Reading::new().file(&path).unwrap();
        let own = together(processes, 1_000, |flow| {
            let memory = Memory::limited(1 << 24, directory.path());
            let data: Data = Reading::new().share(&path, None, &memory, flow)?;
            data.head(usize::MAX)
        });
        let own: Vec<Table> = own.into_iter().map(Result::unwrap).collect();
        let cells = |tables: &[Table]| {
            let rows = shown(tables).0.into_iter();
            rows.map(|row| row.split_once(' ').unwrap().1.to_owned()).collect::<Vec<_>>()
        };
        prop_assert_eq!(cells(&own), cells(std::slice::from_ref(&whole)));
        let rows = own.iter().flat_map(|share| {
            (0..share.rows()).map(|row| share.origin().unwrap().line(row)).collect::<Vec<_>>()
        });
        prop_assert_eq!(rows.collect::<Vec<_>>(), (1..=whole.rows() as u64).collect::<Vec<_>>());
    }
}
