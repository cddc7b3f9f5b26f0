//! SQLite files, also those of other programs.

use jembric::{
    Error, Table, Type,
    calendar::{Grain, Periods},
    io::{self, Existing, Reading, Writing},
};
use rstest::rstest;
use rusqlite::Connection;
use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};

/// A new file with these tables.
fn file(sql: &str) -> (tempfile::TempDir, PathBuf) {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("harbour.sqlite");
    Connection::open(&path).unwrap().execute_batch(sql).unwrap();
    (directory, path)
}

fn read(path: &Path, table: &str) -> jembric::Result<Table> {
    io::read(format!("{}:{table}", path.display()))
}

fn as_csv(table: &Table) -> String {
    let mut bytes = Vec::new();
    Writing::new().write(table, &mut bytes).unwrap();
    String::from_utf8(bytes).unwrap()
}

/// The types of the only column of a table that has these cells.
#[rstest]
#[case::integers("integer", "1, -9223372036854775808, null", Type::Integer)]
#[case::integers_and_reals("", "1, 2.5", Type::Decimal { places: 1 })]
#[case::reals("real", "1, 0.1234567", Type::Float)]
#[case::texts_of_numbers("text", "'12', '13'", Type::Integer)]
#[case::numbers_and_text("", "1, 2.5, 'three'", Type::Text)]
#[case::a_late_text("", "1, 2, 3, 'x'", Type::Text)]
#[case::leading_zeros("text", "'007', '12'", Type::Text)]
#[case::dates("date", "'2025-06-30', null", Type::DAYS)]
#[case::moments("timestamp", "'2025-06-30 14:05', '2025-06-30'", Type::Moment { instant: false })]
#[case::instants("", "'2025-06-30T14:05+02:00'", Type::Moment { instant: true })]
#[case::months("text", "'2025-06'", Type::Date(Periods::from(Grain::Month)))]
#[case::declared_booleans("boolean", "0, 1, null", Type::Boolean)]
#[case::declared_booleans_and_others("boolean", "0, 1, 2", Type::Text)]
#[case::zeros_and_ones("integer", "0, 1", Type::Integer)]
#[case::declared_decimals("decimal(10, 2)", "1, 2.5", Type::Decimal { places: 2 })]
#[case::declared_decimals_with_more("decimal(10, 2)", "1, 2.125", Type::Decimal { places: 3 })]
#[case::blanks("", "'', ' ', null", Type::Nothing)]
fn all_cells_decide_the_type(#[case] declared: &str, #[case] cells: &str, #[case] kind: Type) {
    let rows: Vec<String> = cells.split(", ").map(|cell| format!("({cell})")).collect();
    let rows = rows.join(", ");
    let (_kept, path) =
        file(&format!("create table t (x {declared}); insert into t values {rows}"));
    let table = read(&path, "t").unwrap();
    assert_eq!(table.shape().columns()[0].kind, Some(kind));
    assert_eq!(table.rows(), cells.split(", ").count(), "no row is lost");
}

#[rstest]
#[case("julian-day", "2460856.5, 2460857.5", "x\n2025-06-30\n2025-07-01\n")]
#[case("unix-time", "1751292309, null", "x,y\n2025-06-30T14:05:09Z,1\n,1\n")]
#[case("text", "12, 13", "x\n12\n13\n")]
fn dates_as_numbers_are_read_by_a_format(
    #[case] format: &str,
    #[case] cells: &str,
    #[case] csv: &str,
) {
    let cells: Vec<&str> = cells.split(", ").collect();
    let (column, rows) = if csv.starts_with("x,y") {
        ("x, y", format!("({}, 1)", cells.join(", 1), (")))
    } else {
        ("x", format!("({})", cells.join("), (")))
    };
    let (_kept, path) = file(&format!("create table t ({column}); insert into t values {rows}"));
    let table = Reading::new().read("x", format).file(format!("{}:t", path.display())).unwrap();
    assert_eq!(as_csv(&table), csv);
}

#[test]
fn strict_tables_views_and_tables_without_rowid_are_read() {
    let (_kept, path) = file(
        "create table s (a integer, b text, c any, d real) strict;
        insert into s values (1, 'x', '2025-01-01', 0.5), (2, 'y', '2025-01-02', 1.5);
        create table w (k text primary key, n int) without rowid;
        insert into w values ('b', 2), ('a', 1);
        create view v as select b, d from s;
        create table r (rowid text, a int);
        insert into r values ('z', 1), ('y', 2);
        create index descending on s (a desc)",
    );
    assert_eq!(
        as_csv(&read(&path, "s").unwrap()),
        "a,b,c,d\n1,x,2025-01-01,0.5\n2,y,2025-01-02,1.5\n"
    );
    assert_eq!(as_csv(&read(&path, "w").unwrap()), "k,n\na,1\nb,2\n");
    assert_eq!(as_csv(&read(&path, "V").unwrap()), "b,d\nx,0.5\ny,1.5\n");
    assert_eq!(as_csv(&read(&path, "r").unwrap()), "rowid,a\nz,1\ny,2\n");
    // Only the index is read for one column, and rows keep their numbers.
    let only = Reading::new().only(["a"]).file(format!("{}:s", path.display())).unwrap();
    assert_eq!(as_csv(&only), "a\n1\n2\n");
    let tables = io::database(path.display().to_string()).unwrap().tables().unwrap();
    let listed: Vec<_> = tables.iter().map(|t| (t.name.as_str(), t.is_view, t.rows)).collect();
    let expected =
        [("r", false, Some(2)), ("s", false, Some(2)), ("v", true, Some(2)), ("w", false, Some(2))];
    assert_eq!(listed, expected);
}

#[rstest]
#[case::blob("x'01'", "row 2: column `x`: the value is a BLOB")]
#[case::not_utf_8("cast(x'ff' as text)", "row 2: column `x`: the text is not UTF-8")]
fn a_value_that_is_no_cell_is_refused(#[case] value: &str, #[case] part: &str) {
    let (_kept, path) =
        file(&format!("create table t (x, y); insert into t values (1, 1), ({value}, 2)"));
    let error = read(&path, "t").unwrap_err().to_string();
    assert!(error.contains(part), "{error}");
    // The rest of the table can be read.
    let rest = Reading::new().only(["y"]).file(format!("{}:t", path.display())).unwrap();
    assert_eq!(as_csv(&rest), "y\n1\n2\n");
    // So can the value, as the message says.
    let query = Reading::new().query("select hex(x) as x, y from t");
    assert_eq!(query.file(path.display().to_string()).unwrap().rows(), 2);
}

#[test]
fn what_is_in_the_log_counts_and_what_is_not_committed_does_not() {
    let (_kept, path) = file("pragma journal_mode = wal; create table t (x)");
    let writer = Connection::open(&path).unwrap();
    writer.execute_batch("insert into t values (1); begin; insert into t values (2)").unwrap();
    assert_eq!(as_csv(&read(&path, "t").unwrap()), "x\n1\n");
    let mut open = io::database(path.display().to_string()).unwrap();
    writer.execute_batch("commit").unwrap();
    assert_eq!(open.table("t").unwrap().rows(), 1, "the state is that of the opening");
    assert_eq!(read(&path, "t").unwrap().rows(), 2);
}

#[test]
fn a_locked_database_is_waited_for_and_then_an_error() {
    let (_kept, path) = file("create table t (x); insert into t values (1)");
    let other = Connection::open(&path).unwrap();
    other.execute_batch("begin exclusive").unwrap();
    let error = read(&path, "t").unwrap_err().to_string();
    assert!(error.contains("another process has locked the database"), "{error}");
    assert!(error.contains("after 5 seconds"), "{error}");
    other.execute_batch("commit").unwrap();
    assert_eq!(read(&path, "t").unwrap().rows(), 1);
}

#[test]
fn changes_of_a_program_that_ended_are_not_read() {
    let (kept, path) = file("create table t (x); insert into t values (1)");
    let other = Connection::open(&path).unwrap();
    other
        .execute_batch(
            "pragma cache_size = 2; begin immediate; insert into t with recursive c(n) as (select \
                1 union all select n + 1 from c where n < 20000) select hex(n) from c",
        )
        .unwrap();
    // A copy of both files is what remains when the program ends here.
    let copy = kept.path().join("copy.sqlite");
    fs::copy(&path, &copy).unwrap();
    fs::copy(path.with_extension("sqlite-journal"), copy.with_extension("sqlite-journal")).unwrap();
    let error = read(&copy, "t").unwrap_err().to_string();
    assert!(error.contains("its changes are not undone yet. Open the database once"), "{error}");
    // As the message says:
    Connection::open(&copy).unwrap().execute_batch("select * from t; begin immediate").unwrap();
    assert_eq!(as_csv(&read(&copy, "t").unwrap()), "x\n1\n");
}

#[test]
fn files_that_are_no_databases_are_errors() {
    let directory = tempfile::tempdir().unwrap();
    let path = |name: &str| directory.path().join(name).display().to_string();
    fs::write(path("damaged.sqlite"), b"SQLite format 3\0 and then nothing of the kind").unwrap();
    let error = io::read(path("damaged.sqlite:t")).unwrap_err().to_string();
    assert!(error.contains("damaged, or not a SQLite database"), "{error}");
    let error = io::database(path("none.sqlite")).unwrap_err().to_string();
    assert!(error.contains("none.sqlite"), "{error}");
    fs::write(path("a.csv"), "a\n1\n").unwrap();
    let error = io::database(path("a.csv")).unwrap_err().to_string();
    assert!(error.contains("this is not a SQLite database"), "{error}");
    fs::write(path("empty.sqlite"), "").unwrap();
    let error = io::read(path("empty.sqlite")).unwrap_err().to_string();
    assert!(error.ends_with("The database has no tables"), "{error}");
}

#[test]
fn a_failed_write_leaves_the_file_as_it_was() {
    let (_kept, path) = file(
        "create table t (x integer check (x < 5)); insert into t values (1);
        create view v as select * from t; create index i on t (x)",
    );
    let before = fs::read(&path).unwrap();
    let rows = |text: &str| Reading::new().stream("t.csv", text.as_bytes()).unwrap();
    let write = |text: &str, table: &str, existing| {
        let name = format!("{}:{table}", path.display());
        Writing::new().existing(existing).file(&rows(text), name)
    };
    let error = write("x\n2\n9\n", "t", Existing::Append).unwrap_err().to_string();
    assert!(error.contains(":t: ") && error.contains("CHECK constraint failed"), "{error}");
    let error = write("x\n2\n", "V", Existing::Replace).unwrap_err().to_string();
    assert!(error.contains("this is a view, which cannot be written"), "{error}");
    assert!(matches!(write("x\n2\n", "T", Existing::Refuse), Err(Error::TableExists { .. })));
    assert_eq!(fs::read(&path).unwrap(), before);
    // A view of the table outlives its replacement.
    write("x\n9\n", "t", Existing::Replace).unwrap();
    assert_eq!(as_csv(&read(&path, "v").unwrap()), "x\n9\n");
}

#[test]
fn decimals_stay_exact_where_a_number_would_not_hold_them() {
    let (_kept, path) = file("create table kept (x)");
    let name = format!("{}:t", path.display());
    let rows = |text: &str| Reading::new().stream("t.csv", text.as_bytes()).unwrap();
    let mut file = io::Destination::file(&name).unwrap();
    // The first batch gives no reason to store texts.
    let (one, other) =
        (rows("a,b\n1.25,x\n3.00,y\n"), rows("a,b\n12345678901234567.89,z\n0.10,z\n"));
    file.write_tables(Writing::new(), |batches| {
        batches.write(&one)?;
        batches.write(&other)
    })
    .unwrap();
    file.commit().unwrap();
    let all = "a,b\n1.25,x\n3.00,y\n12345678901234567.89,z\n0.10,z\n";
    assert_eq!(as_csv(&read(&path, "t").unwrap()), all);
    let kinds = Connection::open(&path).unwrap();
    let kinds: Vec<String> = kinds
        .prepare("select typeof(a) from t")
        .unwrap()
        .query_map([], |row| row.get(0))
        .unwrap()
        .collect::<Result<_, _>>()
        .unwrap();
    assert_eq!(kinds, ["real", "integer", "text", "real"]);
}

/// The rows are read in pieces of some megabytes, and the last one decides as the first does.
#[rstest]
#[case::all_alike("n", "1", "300000", Type::Integer)]
#[case::a_late_text("case n when 300000 then 'x' else n end", "1", "x", Type::Text)]
#[case::late_places("case n when 300000 then 0.125 else n * 0.5 end", "0.500", "0.125",
    Type::Decimal { places: 3 })]
#[case::a_late_value("case n when 300000 then 7 end", "", "7", Type::Integer)]
#[case::a_late_time("case n when 300000 then '2025-01-01 10:00' else '2025-01-01' end",
    "2025-01-01T00:00", "2025-01-01T10:00", Type::Moment { instant: false })]
fn a_long_table_is_read_as_a_whole(
    #[case] expression: &str,
    #[case] first: &str,
    #[case] last: &str,
    #[case] kind: Type,
) {
    let (_kept, path) = file(&format!(
        "create table t as with recursive c(n) as (select 1 union all select n + 1 from c where n \
            < 300000) select {expression} as x, 'vessel ' || (n % 7) as v, date('2025-01-01', (n % \
            300) || ' days') as d, n from c"
    ));
    let table = read(&path, "t").unwrap();
    assert_eq!(table.rows(), 300_000);
    assert_eq!(table.shape().columns()[0].kind, Some(kind));
    let texts = io::CellText::for_columns(&table);
    assert_eq!([texts[0].text(0), texts[0].text(299_999)], [first, last]);
    assert!((0..300_000).all(|row| texts[3].text(row) == (row + 1).to_string()));
    assert_eq!(texts[2].text(298), "2025-10-27");
}

#[test]
fn a_file_of_python_is_read() {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("harbour.db");
    let script = "
import datetime, sqlite3, sys
db = sqlite3.connect(sys.argv[1])
db.execute('create table stays (stay integer primary key, berth text, arrived date, tons, ok)')
rows = [(1, 'Quay 1', '2025-06-29', 12.5, True), (2, 'Möwe, \"alt\"', '2025-06-30', 7, False),
        (3, None, None, None, None)]
db.executemany('insert into stays values (?, ?, ?, ?, ?)', rows)
db.commit()
";
    let run = Command::new("python3").arg("-c").arg(script).arg(&path).output();
    let run = match run {
        Err(_) if std::env::var_os("CI").is_none() => return,
        run => run.unwrap(),
    };
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let expected = "stay,berth,arrived,tons,ok\n1,Quay 1,2025-06-29,12.5,1\n2,\
        \"Möwe, \"\"alt\"\"\",2025-06-30,7.0,0\n3,,,,\n";
    assert_eq!(as_csv(&read(&path, "stays").unwrap()), expected);
}
