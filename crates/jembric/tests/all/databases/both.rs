//! What holds for every kind of database.

use crate::server::Fresh;
use jembric::{
    Error, Table,
    arrow::{ArrayRef, StringViewArray},
    io::{self, Existing, Outputs, Writing},
};
use rstest::rstest;
use std::sync::Arc;

/// A place for tables, which is removed with this.
struct Place {
    prefix: String,
    _kept: Kept,
}

#[allow(dead_code)]
enum Kept {
    Directory(tempfile::TempDir),
    Server(Fresh),
}

impl Place {
    fn table(&self, table: &str) -> String {
        format!("{}:{table}", self.prefix)
    }

    /// The names of the tables, in order.
    fn tables(&self) -> Vec<String> {
        let tables = io::database(&self.prefix).unwrap().tables().unwrap();
        tables.into_iter().map(|table| table.name).collect()
    }
}

fn sqlite() -> Option<Place> {
    let directory = tempfile::tempdir().unwrap();
    let prefix = directory.path().join("harbour.sqlite").display().to_string();
    Some(Place { prefix, _kept: Kept::Directory(directory) })
}

fn postgresql() -> Option<Place> {
    let fresh = Fresh::new()?;
    Some(Place { prefix: fresh.uri.clone(), _kept: Kept::Server(fresh) })
}

/// A way to get a place; none if it needs a server that is not there.
type Places = fn() -> Option<Place>;

fn csv(text: &str) -> Table {
    io::Reading::new().stream("t.csv", text.as_bytes()).unwrap()
}

fn write(table: &Table, to: &str, existing: Existing) -> jembric::Result<()> {
    Writing::new().existing(existing).file(table, to)
}

fn as_csv(table: &Table) -> String {
    let mut bytes = Vec::new();
    Writing::new().write(table, &mut bytes).unwrap();
    String::from_utf8(bytes).unwrap()
}

#[rstest]
fn a_table_of_every_type_is_read_as_it_was_written(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    let table = csv(
        "truth,count,amount,wide,level,name,day,month,quarter,week,reading,instant,none\n\
        true,9223372036854775807,12.50,12345678901234567890.123456,1.5e300,Marram,0001-01-01,\
            2025-06,2025-Q2,2025-W27,2025-06-30T14:05:09.123456,2025-06-30T14:05:09Z,\n\
        false,-9223372036854775808,-0.01,-0.000001,-2.5,\"a,\"\"b\"\"\nü; drop table x\",9999-12-31,\
            0001-01,9999-Q4,2020-W53,0001-01-01T00:00,9999-12-31T23:59:59.999999Z,\n\
        ,,,,,,,,,,,,\n",
    );
    io::write(&table, place.table("kinds")).unwrap();
    let again = io::read(place.table("kinds")).unwrap();
    assert_eq!(as_csv(&again), as_csv(&table));
    let kinds = |table: &Table| {
        let shape = table.shape();
        shape.columns().iter().map(|column| column.kind).collect::<Vec<_>>()
    };
    let (mut known, mut found) = (kinds(&table), kinds(&again));
    // A column without any value has no type of its own.
    assert!(known.pop().is_some() && found.pop().is_some());
    assert_eq!(found, known);
}

#[rstest]
fn an_empty_table_keeps_its_columns(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    let table = csv("stay,arrived\n1,2025-01-01\n").head(0);
    io::write(&table, place.table("stays")).unwrap();
    let again = io::read(place.table("stays")).unwrap();
    assert_eq!(again.names().collect::<Vec<_>>(), ["stay", "arrived"]);
    assert_eq!(again.rows(), 0);
}

#[rstest]
fn a_table_that_exists_is_kept_replaced_or_extended(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    let name = place.table("stays");
    let (one, other) = (csv("stay,tons\n1,5\n"), csv("stay,note\n2,late\n"));
    write(&one, &name, Existing::Refuse).unwrap();
    let refused = write(&other, &name, Existing::Refuse).unwrap_err();
    assert!(matches!(refused, Error::TableExists { .. }), "{refused}");
    let refused = write(&other, &name, Existing::Append).unwrap_err().to_string();
    assert!(refused.contains("the result lacks `tons`; the table lacks `note`"), "{refused}");
    assert_eq!(as_csv(&io::read(&name).unwrap()), "stay,tons\n1,5\n");
    // Columns are matched by name.
    write(&csv("tons,stay\n6,2\n"), &name, Existing::Append).unwrap();
    assert_eq!(as_csv(&io::read(&name).unwrap()), "stay,tons\n1,5\n2,6\n");
    write(&other, &name, Existing::Replace).unwrap();
    assert_eq!(as_csv(&io::read(&name).unwrap()), "stay,note\n2,late\n");
    assert_eq!(place.tables(), ["stays"], "nothing else is left");
    // What does not exist can be replaced and extended, too.
    write(&one, &place.table("new"), Existing::Replace).unwrap();
    write(&one, &place.table("newer"), Existing::Append).unwrap();
    assert_eq!(place.tables(), ["new", "newer", "stays"]);
}

#[rstest]
fn several_tables_appear_together_or_not_at_all(
    #[values(sqlite, postgresql)] places: Places,
    #[values(false, true)] commits: bool,
) {
    let Some(place) = places() else { return };
    let directory = tempfile::tempdir().unwrap();
    let mut outputs = Outputs::new();
    for name in
        [place.table("a"), directory.path().join("b.csv").display().to_string(), place.table("c")]
    {
        let mut output = outputs.file(&name, &name).unwrap();
        let rows = csv("stay\n1\n");
        output
            .write_tables(Writing::for_path(name.as_ref()).unwrap(), |batches| {
                batches.write(&rows)?;
                batches.write(&rows)
            })
            .unwrap();
        outputs.add(output);
    }
    if commits {
        outputs.commit().unwrap();
        assert_eq!(place.tables(), ["a", "c"]);
        assert_eq!(as_csv(&io::read(place.table("c")).unwrap()), "stay\n1\n1\n");
    } else {
        drop(outputs);
        // A database that did not exist does not exist then.
        if io::database(&place.prefix).is_ok() {
            assert_eq!(place.tables(), [""; 0]);
        }
    }
    assert_eq!(directory.path().join("b.csv").exists(), commits);
    if let Kept::Directory(directory) = &place._kept {
        let files = std::fs::read_dir(directory.path()).unwrap().count();
        assert_eq!(files, usize::from(commits), "nothing else is left");
    }
}

#[rstest]
#[case::quotes("a \"b\" 'c'; drop table x --")]
#[case::unicode("Möwe 🕊")]
#[case::colon("a:b")]
#[case::keyword("select")]
#[case::point("a.b")]
fn any_name_is_a_name(#[case] name: &str, #[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    let texts: ArrayRef = Arc::new(StringViewArray::from(vec!["x"]));
    let table = Table::from_columns([(name, texts)]).unwrap();
    io::write(&table, place.table(name)).unwrap();
    write(&table, &place.table(name), Existing::Append).unwrap();
    write(&table, &place.table(name), Existing::Replace).unwrap();
    assert_eq!(place.tables(), [name]);
    let again = io::read(place.table(name)).unwrap();
    assert_eq!(again, table);
    let found = io::database(&place.prefix).unwrap().table(name).unwrap();
    assert_eq!(found, table);
}

#[rstest]
fn a_missing_table_is_an_error_with_the_nearest_name(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    io::write(&csv("stay\n1\n"), place.table("stays")).unwrap();
    let error = io::read(place.table("stay")).unwrap_err().to_string();
    assert!(error.ends_with("there is no table `stay`. Did you mean `stays`?"), "{error}");
    let error = io::read(&place.prefix).unwrap_err().to_string();
    assert!(error.contains("this is a database, and not a table. Name one"), "{error}");
    let error = io::write(&csv("stay\n1\n"), &place.prefix).unwrap_err().to_string();
    assert!(error.contains("Name the table to write after a colon"), "{error}");
}

#[rstest]
fn a_query_is_read_and_may_not_write(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    io::write(&csv("stay,tons\n1,5\n2,7\n"), place.table("stays")).unwrap();
    let mut database = io::database(&place.prefix).unwrap();
    let sums = database.query("select sum(tons) as tons from stays; -- all of them").unwrap();
    assert_eq!(as_csv(&sums), "tons\n12\n");
    let shown = sums.origin().unwrap().file().to_owned();
    assert!(shown.ends_with(" (query)"), "{shown}");
    for sql in [
        "delete from stays returning stay",
        "drop table stays",
        "select 1 as a; drop table stays",
        "select nothing from stays",
        "select 1 as a, 2 as a",
        "",
    ] {
        let error = database.query(sql).unwrap_err();
        assert!(matches!(error, Error::Database { .. } | Error::Core(_)), "{sql}: {error}");
    }
    // A failure does not end the snapshot.
    assert_eq!(database.table("stays").unwrap().rows(), 2);
    let directory = tempfile::tempdir().unwrap();
    std::fs::write(directory.path().join("late.sql"), "select stay from stays where tons > 6")
        .unwrap();
    let reading = io::Reading::new().query("@late.sql").query_beside(directory.path());
    assert_eq!(as_csv(&reading.file(&place.prefix).unwrap()), "stay\n2\n");
    let error = io::Reading::new().query("@lat.sql").query_beside(directory.path());
    let error = error.file(&place.prefix).unwrap_err().to_string();
    assert!(error.contains("late.sql"), "{error}");
    let both = io::Reading::new().query("select 1").file(place.table("stays"));
    assert!(both.unwrap_err().to_string().contains("there is a query, and a table as well"));
}

#[rstest]
fn ledgers_name_rows_and_their_primary_keys(#[values(sqlite, postgresql)] places: Places) {
    let Some(place) = places() else { return };
    let create = "create table stays (stay integer primary key, berth text, arrived date);
        insert into stays values (11, 'Quay 1', '2025-01-01'), (12, null, '2025-01-02'),
        (13, 'Quay 1', null)";
    match &place._kept {
        Kept::Server(fresh) => fresh.run(create),
        Kept::Directory(_) => {
            rusqlite::Connection::open(&place.prefix).unwrap().execute_batch(create).unwrap();
        }
    }
    let stays = io::read(place.table("stays")).unwrap();
    let latest = jembric::Latest::new("arrived").per(["berth"]).apply(&stays).unwrap();
    let ledger = latest.ledger.to_string();
    assert!(ledger.contains("date missing (row 3: stay 13)"), "{ledger}");
    assert!(ledger.contains("key missing (row 2: stay 12)"), "{ledger}");
    assert!(latest.ledger.balances());
    // Without the key, only the numbers are known.
    let reading = io::Reading::new().only(["berth", "arrived"]);
    let stays = reading.file(place.table("stays")).unwrap();
    assert_eq!(stays.names().collect::<Vec<_>>(), ["berth", "arrived"]);
    let latest = jembric::Latest::new("arrived").per(["berth"]).apply(&stays).unwrap();
    assert!(latest.ledger.to_string().contains("date missing (row 3)"));
}
