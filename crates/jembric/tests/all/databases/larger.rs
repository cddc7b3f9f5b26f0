//! Tables of databases that are larger than memory.

use crate::server::Fresh;
use jembric::{
    Type,
    io::{self, Data, Memory, Reading},
    routine::Routine,
    run::RunSettings,
    steps::Disk,
};
use rstest::rstest;
use std::process::Command;

/// Stays, of which the last ones have more decimal places. The berth is sometimes missing.
fn stays(day: &str) -> String {
    format!(
        "select n as stay, 'vessel ' || (n % 7) as vessel, case when n % 3 > 0 then 'berth ' || (n \
            % 5) end as berth, {day} as arrived, case when n > 80000 then n * 0.25 else n * 0.5 \
            end as tons from numbers"
    )
}

/// Where a database is, and what it keeps.
type Place = (tempfile::TempDir, Option<Fresh>, String);

/// SQLite's own program is not part of the tests, so Python writes the file.
fn sqlite() -> Option<Place> {
    let directory = tempfile::tempdir().unwrap();
    let path = directory.path().join("harbour.sqlite").display().to_string();
    let sql = format!(
        "create table stays (stay integer primary key, vessel text, berth text, arrived \
            date, tons real); insert \
            into stays with recursive numbers(n) as (select 1 union all select n + 1 from numbers \
            where n < 120000) {};",
        stays("date('2025-01-01', (n % 300) || ' days')")
    );
    let script = "import sqlite3, sys; sqlite3.connect(sys.argv[1]).executescript(sys.argv[2])";
    let run = Command::new("python3").args(["-c", script, &path, &sql]).output();
    let run = match run {
        Err(_) if std::env::var_os("CI").is_none() => return None,
        run => run.unwrap(),
    };
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    let table = format!("{path}:stays");
    Some((directory, None, table))
}

fn postgresql() -> Option<Place> {
    let fresh = Fresh::new()?;
    fresh.run(&format!(
        "create table stays (stay bigint primary key, vessel text, berth text, arrived \
            date, tons numeric); \
            insert into stays with numbers as (select n from generate_series(1, 120000) n) {}",
        stays("date '2025-01-01' + (n % 300)::int")
    ));
    let table = fresh.table("stays");
    Some((tempfile::tempdir().unwrap(), Some(fresh), table))
}

fn as_csv(batches: &Data) -> String {
    let mut text = Vec::new();
    let mut target = io::Writing::new().batches(&mut text);
    match batches {
        Data::Table(table) => target.write(table).unwrap(),
        Data::Larger(scan) => scan
            .each(&mut |batch| {
                target.write(&batch).unwrap();
                Ok(())
            })
            .unwrap(),
        _ => unreachable!(),
    }
    target.finish().unwrap();
    String::from_utf8(text).unwrap()
}

#[rstest]
#[case::sqlite(sqlite)]
#[case::postgresql(postgresql)]
fn a_long_table_is_read_in_batches(#[case] place: fn() -> Option<Place>) {
    let Some((directory, _server, table)) = place() else { return };
    let reading = Reading::new();
    let whole = Data::Table(reading.file(&table).unwrap());
    let memory = Memory::limited(2 << 20, directory.path());
    let data = reading.data(&table, &memory).unwrap();
    let Data::Larger(scan) = &data else { panic!("it is read as a whole: {data:?}") };
    assert_eq!(scan.rows(), 120_000);
    let mut batches = 0;
    scan.each(&mut |batch| {
        batches += 1;
        assert_eq!(batch.shape().columns()[4].kind, Some(Type::Decimal { places: 2 }));
        Ok(())
    })
    .unwrap();
    assert!(batches > 2, "{batches} batches");
    assert!(memory.spilled() > 0);
    assert_eq!(as_csv(&data), as_csv(&whole));

    let ran = |steps: &str, memory| {
        let routine = format!("[[step]]\nread = '{table}'\n{steps}\n");
        let routine = Routine::parse("r.toml", &routine).unwrap();
        let files = Disk::in_directory(directory.path());
        let mut run = RunSettings::on(&files, "2025-06-30".parse().unwrap());
        run.memory = memory;
        run.scratch = Some(directory.path().to_owned());
        let (mut text, mut accounts) = (Vec::new(), Vec::new());
        let mut target = io::Writing::new().batches(&mut text);
        let checked = routine.check(&run).unwrap();
        let ran = checked.run(
            &mut |batch| {
                target.write(batch).unwrap();
                Ok(())
            },
            &mut |step| {
                accounts.push(step.outcome.ledger.to_string());
                Ok(())
            },
        );
        ran.unwrap();
        target.finish().unwrap();
        (String::from_utf8(text).unwrap(), accounts)
    };
    for steps in [
        "latest = { per = ['berth', 'vessel'], date = 'arrived', ties = 'first' }",
        "running = { per = ['berth'], date = 'arrived', count = true }\n[[step]]\ntotals = { per = \
         ['vessel'], sum = ['tons'] }",
    ] {
        let whole = ran(steps, None);
        assert!(whole.1[0].contains("(rows 3, 6, 9, …: stay 3; stay 6; stay 9, …)"), "{whole:?}");
        assert_eq!(ran(steps, Some(16 << 20)), whole);
    }
}
