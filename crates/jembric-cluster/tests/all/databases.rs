//! Tables of databases that several processes share out have the rows of one process.
//!
//! The server is that of the variable `JEMBRIC_POSTGRESQL`; without it, tests are skipped.

use crate::server::Fresh;
use crate::together::together;
use jembric::{
    Result, Table,
    io::{CellText, Databases, Memory, Reading, Sharing},
};
use rstest::rstest;

/// A table with keys in no order, and decimals whose places differ.
fn fees(key: &str, of_row: &str) -> Option<Fresh> {
    let fresh = Fresh::new()?;
    fresh.run(&format!(
        "create table fees (fee_id int primary key, k {key}, fee numeric);
        insert into fees select n, {of_row}, n::numeric / (array[1, 8, 20, 1000])[n / 60 + 1] from
            generate_series(1, 200) as n order by md5(n::text)"
    ));
    Some(fresh)
}

/// The rows with their numbers and keys, and the types of the columns.
fn shown(tables: &[Table]) -> Vec<String> {
    let kinds = |table: &Table| -> Vec<String> {
        table.shape().columns().iter().map(|column| format!("{:?}", column.kind)).collect()
    };
    let mut rows: Vec<String> = Vec::new();
    for table in tables {
        let cells: Vec<CellText<'_>> = table.columns().iter().map(CellText::new).collect();
        let line = |row| table.origin().unwrap().line(row);
        rows.extend((0..table.rows()).map(|row| {
            let texts: Vec<String> = cells.iter().map(|cells| cells.text(row)).collect();
            format!("{} {} {:?}", line(row), texts.join("|"), kinds(table))
        }));
    }
    rows
}

#[rstest]
#[case::numbers("bigint", "n * 7")]
#[case::texts("text", "'it''s \\' || n")]
#[case::dates("date", "date '0001-01-01' + n * 18000")]
#[case::moments("timestamptz", "timestamptz '2025-03-30 00:00Z' + n * interval '1 minute'")]
#[case::floats("float8", "case n when 7 then 'NaN' when 8 then '-Infinity' else n / 3.0 end")]
#[case::repeated("int", "n % 3")]
#[case::one("int", "1")]
#[case::missing("int", "case when n % 5 > 0 then n / 2 end")]
#[case::none("int", "null")]
fn ranges_of_a_column_have_the_rows_of_the_table(
    #[case] key: &str,
    #[case] of_row: &str,
    #[values(None, Some(1))] budget: Option<u64>,
) {
    let Some(fresh) = fees(key, of_row) else { return };
    let scratch = tempfile::tempdir().unwrap();
    let reading = || Reading::new().by_ranges_of("k").through(&Databases::default());
    let whole = reading().file(fresh.table("fees")).unwrap();
    let expected = shown(std::slice::from_ref(&whole));
    assert_eq!(expected.len(), 200);
    for processes in [1, 2, 3, 7] {
        let shares = together(processes, 1_000, |flow| {
            let memory = budget
                .map_or(Memory::unlimited(), |budget| Memory::limited(budget, scratch.path()));
            reading().share(fresh.table("fees"), None, &memory, flow)?.head(usize::MAX)
        });
        let shares: Vec<Table> = shares.into_iter().map(Result::unwrap).collect();
        assert_eq!(shown(&shares), expected, "{processes}");
        let largest = shares.iter().map(Table::rows).max().unwrap();
        if key == "bigint" {
            assert!(largest <= 200_usize.div_ceil(processes), "{largest} rows at a process");
        }
    }
}

/// Without a key, equal values of the column are in one order as well, whatever way the server
/// takes to its rows.
#[test]
fn ranges_of_equal_values_have_one_order() {
    let Some(fresh) = Fresh::new() else { return };
    fresh.run(
        "create table fees (k int, fee numeric, note text);
        insert into fees select n % 4, n, case when n % 5 > 0 then 'n' || n end from
            generate_series(1, 300) as n order by md5(n::text);
        create index on fees (k); delete from fees where fee > 280;
        insert into fees select n % 4, -n, 'late' from generate_series(1, 20) as n",
    );
    let reading = || Reading::new().by_ranges_of("k").through(&Databases::default());
    let expected = shown(&[reading().file(fresh.table("fees")).unwrap()]);
    for processes in [2, 3, 5] {
        let shares = together(processes, 1_000, |flow| {
            reading().share(fresh.table("fees"), None, &Memory::unlimited(), flow)?.head(usize::MAX)
        });
        let shares: Vec<Table> = shares.into_iter().map(Result::unwrap).collect();
        assert_eq!(shown(&shares), expected, "{processes}");
    }
}

/// All processes read what the table was when process 0 opened the database.
#[rstest]
#[case::table("fees", None)]
#[case::query("", Some("select k, fee from fees where fee > 0 -- all of them"))]
fn all_processes_see_one_moment(#[case] table: &str, #[case] query: Option<&str>) {
    let Some(fresh) = fees("int", "n") else { return };
    let name = if table.is_empty() { fresh.uri.clone() } else { fresh.table(table) };
    let rows = together(3, 1_000, |flow| {
        let mut reading = Reading::new().by_ranges_of("k");
        if let Some(query) = query {
            reading = reading.query(query);
        }
        let reading = reading.through(&Databases::default());
        if jembric::io::Exchange::process(flow) == 0 {
            reading.shape(&name)?;
            fresh.run("insert into fees select n, n, n from generate_series(201, 300) as n");
        }
        assert_eq!(reading.sharing(&name)?, Sharing::Ranges);
        Ok(reading.share(&name, None, &Memory::unlimited(), flow)?.rows())
    });
    let rows: Vec<u64> = rows.into_iter().map(Result::unwrap).collect();
    assert_eq!((rows.iter().sum::<u64>(), rows.iter().all(|rows| *rows > 60)), (200, true));
}

#[test]
fn a_column_that_does_not_exist_is_an_error_with_the_nearest_name() {
    let Some(fresh) = fees("int", "n") else { return };
    let reading = Reading::new().by_ranges_of("fee_di");
    let told = reading.file(fresh.table("fees")).unwrap_err().to_string();
    assert!(told.ends_with("there is no such column. Did you mean `fee_id`?"), "{told}");
    let shares = together(2, 1_000, |flow| {
        reading.through(&Databases::default()).share(
            fresh.table("fees"),
            None,
            &Memory::unlimited(),
            flow,
        )
    });
    assert!(shares.iter().all(|share| share.as_ref().unwrap_err().to_string().contains("fee_id")));
}

/// Other databases and files have no ranges.
#[rstest]
#[case::file("fees.csv", "fees.csv is not a database")]
#[case::sqlite("fees.sqlite:fees", "fees.sqlite is not a PostgreSQL database")]
fn ranges_elsewhere_are_an_error(#[case] name: &str, #[case] expected: &str) {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join(name);
    let column: jembric::arrow::ArrayRef =
        std::sync::Arc::new(jembric::arrow::Int64Array::from(vec![1, 2]));
    let fees = Table::from_columns([("k", column)]).unwrap();
    jembric::io::write(&fees, &path).unwrap();
    let told = Reading::new().by_ranges_of("k").file(&path).unwrap_err().to_string();
    assert!(told.contains("by-ranges-of") && told.contains(expected), "{told}");
}
