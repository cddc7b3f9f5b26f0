//! Dates, periods, time zones and expressions on the command line.

use crate::harness::{harbour, run};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

#[rstest]
#[case::expression(&["filter", "gauge.csv", "levl_m > 3"], 1,
    "error: gauge.csv: there is no column `levl_m`\n  |\n1 | levl_m > 3\n  | ^^^^^^ did you mean \
        `level_m`?\n")]
#[case::no_as_of(&["elapsed", "dues.csv", "--from", "due", "--to", "as-of"], 1,
    "error: `elapsed` to or from `as-of` needs the as-of date. Set it, for example to 2025-06-30: \
        `--as-of 2025-06-30`")]
#[case::zone(&["recent", "lifts.csv", "--date", "lifted_on", "--last", "7 days", "--zone",
    "Europe/Lisbonne"], 1, "error: `Europe/Lisbonne` is not a time zone. Did you mean \
        `Europe/Lisbon`?\n")]
#[case::span(&["recent", "lifts.csv", "--date", "lifted_on", "--last", "7 moons"], 2,
    "error: `last`: `7 moons` is not a span: expected whole days, weeks, months or years, such as \
        `9 months`, `7 days` or `P9M`")]
#[case::grain(&["recent", "lifts.csv", "--date", "lifted_on", "--this", "quater"], 2,
    "error: `this`: `quater` is not a grain. Did you mean `quarter`?\n")]
#[case::holidays(&["elapsed", "dues.csv", "--from", "due", "--to", "paid", "--unit", "workdays",
    "--holidays", "vessels.csv"], 1, "error: `holidays`: vessels.csv: line 2 has `Petrel`: \
        expected a date such as 2025-12-25\n")]
#[case::covering(&["almanac", "--covering", "stays.csv"], 1,
    "error: `covering`: `stays.csv`: expected a file and its columns, such as \
        `stays.csv:arrived,left`\n")]
#[case::covered(&["almanac", "--covering", "stays.csv:arrivd"], 1,
    "error: stays.csv: there is no column `arrivd`. Did you mean `arrived`?\n")]
#[case::newest_of_nothing(&["almanac", "--range", "2025", "--as-of", "newest:day"], 1,
    "error: `as-of`: `newest:day`, but no file is read: expected a date or `today`")]
#[case::clash(&["stack", "dues.csv", "fuel_in.csv", "vessels.csv", "stays.csv", "--quiet",
    "--read", "tonage=text"], 1, "error: dues.csv: there is no column `tonage`")]
fn errors_in_dates_and_expressions_are_explained(
    harbour: TempDir,
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = run(harbour.path(), arguments);
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
}

#[rstest]
fn columns_of_different_types_are_not_stacked(harbour: TempDir) {
    fs::write(harbour.path().join("other.csv"), "day,litres\n2025-01-01,a lot\n").unwrap();
    let ran = run(harbour.path(), &["stack", "fuel_in.csv", "other.csv"]);
    insta::assert_snapshot!(ran.err, @"error: column `litres` holds decimals, 1 place in fuel_in \
        and text in other. One column cannot hold both: read both as text (`--read \
        'litres=text'`), or rename one");
    let read = run(
        harbour.path(),
        &["stack", "fuel_in.csv", "other.csv", "--read", "litres=text", "--source", "book"],
    );
    assert!(read.code == 0 && read.out.ends_with("2025-01-01,a lot,,other\n"), "{}", read.err);
}

#[rstest]
fn a_column_keeps_its_grain_through_csv(harbour: TempDir) {
    let months = "month,quarter,week,year,tons\n2025-05,2025-Q2,2025-W18,2025,3\n\
        2025-06,2025-Q2,2025-W26,2025,4\n";
    fs::write(harbour.path().join("months.csv"), months).unwrap();
    let look = run(harbour.path(), &["look", "months.csv", "--read", "year=year"]).out;
    for kind in [
        "month    months",
        "quarter  quarters",
        "week     weeks",
        "year     years",
        "2025-W18..2025-W26, 9 weeks, 7 without a record",
    ] {
        assert!(look.contains(kind), "{kind} in {look}");
    }
    let same = run(
        harbour.path(),
        &["filter", "months.csv", "month = 2025-05-17 or month = 2025-06-30 - 0 days"],
    );
    assert_eq!((same.out.as_str(), same.code), (months, 0));
    let next = run(
        harbour.path(),
        &["add", "months.csv", "next = month + 1 month", "q = period(month, quarter)", "-q"],
    )
    .out;
    assert!(next.ends_with("2025-06,2025-Q2,2025-W26,2025,4,2025-07,2025-Q2\n"), "{next}");
    let recent =
        run(harbour.path(), &["recent", "months.csv", "--date", "month", "--last", "1 month"]);
    assert!(recent.out.ends_with("tons\n2025-06,2025-Q2,2025-W26,2025,4\n"), "{}", recent.out);
    assert!(
        recent.err.contains("as of 2025-06-30, range 2025-06-01..2025-06-30"),
        "{}",
        recent.err
    );
}

#[rstest]
#[case("month", "202506\nJun 2025\n2025-06-01", "2025-06\n2025-06\n2025-06")]
#[case("quarter", "Q2 2025\n2025-04-01", "2025-Q2\n2025-Q2")]
#[case("year", "2025\n01/01/2025", "2025\n2025")]
#[case("serial", "45838\n45839", "2025-06-30\n2025-07-01")]
#[case("serial", "45838\n45838.5", "2025-06-30T00:00\n2025-06-30T12:00")]
#[case("rfc2822", "\"Mon, 30 Jun 2025 14:05:09 +0200\"", "2025-06-30T12:05:09Z")]
#[case("%d.%m.%Y %H:%M", "30.06.2025 00:00", "2025-06-30")]
fn given_formats_are_used(#[case] format: &str, #[case] cells: &str, #[case] expected: &str) {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("a.csv"), format!("d\n{cells}\n")).unwrap();
    let ran = run(directory.path(), &["columns", "a.csv", "d", "--read", &format!("d={format}")]);
    assert_eq!(ran.out, format!("d\n{expected}\n"), "{}", ran.err);
}

#[rstest]
fn today_depends_on_the_time_zone(harbour: TempDir) {
    let today = |zone: &str| jiff::ZonedDateTime::now().in_tz(zone).unwrap().date().to_string();
    for zone in ["Pacific/Kiritimati", "Pacific/Midway"] {
        let before = today(zone);
        let ran = run(
            harbour.path(),
            &["almanac", "--range", "2025-01-01..2025-01-01", "--as-of", "today", "--zone", zone],
        );
        assert!(ran.err.contains(&before) || ran.err.contains(&today(zone)), "{}", ran.err);
    }
}

#[rstest]
fn bad_dates_are_explained_by_every_operation_that_needs_them(harbour: TempDir) {
    fs::write(harbour.path().join("odd.csv"), "d\n2025-01-01\nsoon\n").unwrap();
    for arguments in [
        &["recent", "odd.csv", "--date", "d", "--last", "1 day"][..],
        &["elapsed", "odd.csv", "--from", "d", "--to", "2025-01-01"],
        &["almanac", "--covering", "odd.csv:d"],
    ] {
        let ran = run(harbour.path(), arguments);
        assert!(
            ran.err.contains(
                "cannot be used as dates: 1 of its 2 values is not a date (line 3 \
                    `soon`)"
            ),
            "{}",
            ran.err
        );
    }
}

#[rstest]
fn running_figures_and_states_at_the_end_of_months(harbour: TempDir) {
    let gauge = [
        "running",
        "gauge.csv",
        "--per",
        "gauge",
        "--date",
        "day",
        "--max",
        "level_m",
        "--missing",
        "-",
        "--quiet",
    ];
    let ran = run(harbour.path(), &[&gauge[..], &["--mark-highs", "high"]].concat());
    let highs = ran.out.lines().filter(|line| line.ends_with(",true")).count();
    assert_eq!((ran.out.lines().count(), highs), (354, 14), "{}", ran.err);
    assert!(ran.out.contains("2025-01-02,Outer Mole,3.07,3.11,false\n"));

    let states = run(
        harbour.path(),
        &[
            "latest",
            "stays.csv",
            "--per",
            "berth",
            "--date",
            "arrived",
            "--at-each",
            "quarter",
            "--as-of",
            "2024-05-15",
            "--quiet",
        ],
    );
    let last: Vec<&str> = states.out.lines().rev().take(5).collect();
    assert!(last.iter().all(|line| line.ends_with(",2024-05-15")), "{}{}", states.out, states.err);
    assert_eq!(states.out.lines().count(), 11, "five berths at the end of two periods");

    let unmarked =
        run(harbour.path(), &["running", "gauge.csv", "--date", "day", "--max", "level_m"]);
    let expected = "error: gauge.csv: column `level_m` cannot be used as numbers: 6 of its 353 \
        values are not numbers (line ";
    assert!(
        unmarked.err.starts_with(expected) && unmarked.err.ends_with("use `--missing -`\n"),
        "{}",
        unmarked.err
    );
    let mistake =
        run(harbour.path(), &["running", "gauge.csv", "--date", "day", "--max", "levle_m"]);
    assert_eq!(
        (mistake.err.as_str(), mistake.code),
        ("error: gauge.csv: there is no column `levle_m`. Did you mean `level_m`?\n", 1)
    );
}
