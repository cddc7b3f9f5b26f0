//! Intervals on the command line: active periods, counts, spells, and long results.

use crate::harness::{harbour, run};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

const STAYS: [&str; 6] = ["active", "stays.csv", "--start", "arrived", "--end", "left"];

#[rstest]
fn the_days_of_the_counts_are_those_of_the_rows(harbour: TempDir) {
    let asked = |more: &[&str]| run(harbour.path(), &[&STAYS[..], more].concat());
    let sum = |text: &str, column: usize| -> i64 {
        text.lines()
            .skip(1)
            .map(|line| line.split(',').nth(column).unwrap().parse::<i64>().unwrap())
            .sum()
    };
    let rows = asked(&["--grain", "month"]);
    let counts = asked(&["--grain", "month", "--count", "--per", "berth"]);
    assert_eq!(sum(&rows.out, 7), sum(&counts.out, 7));
    assert_eq!(sum(&counts.out, 3), 204, "every usable stay starts once: {}", counts.err);
    assert_eq!(asked(&[]).out.lines().count() as i64 - 1, sum(&rows.out, 7));
    insta::assert_snapshot!(asked(&["--on", "2025-06-26", "--quiet"]).out, @"
    stay,vessel,berth,arrived,left,tons
    S0202,Long Myre,North 1,2025-06-14,2025-06-26,12781
    S0203,Gannet Rock,Basin,2025-06-24,,5730
    S0204,Half Crown,Quay 3,2025-06-25,,1765
    S0205,Half Crown,North 2,2025-06-26,,2568
    ");
}

#[rstest]
#[case::grain(&["--grain", "hour"], 1,
    "error: column `arrived` holds days, so it has no hours. Ask for days")]
#[case::no_grain(&["--grain", "fortnight"], 2,
    "error: `grain`: `fortnight` is not a grain. Expected one of: hour, day, week, month, quarter \
        and year")]
#[case::open(&["--open-ends", "refuse"], 1,
    "error: 3 rows have no `left`, and missing ends are refused (line 204, line 205, line 206). \
        Let these intervals last until the as-of date (`--open-ends as-of`), or leave them out \
        (`--open-ends drop`)")]
#[case::share(&["--share", "berth"], 1,
    "error: stays.csv: column `berth` holds text, but numbers are required")]
#[case::flood(&["--most-rows", "100"], 1,
    "error: the result would have 1,818 rows, more than the limit of 100: line 9 alone makes 16, \
        from 2024-01-20 to 2024-02-04. Choose a longer grain or a shorter range, or raise the \
        limit: `--most-rows 1818`")]
#[case::name(&["--name", "tons"], 1,
    "error: the table already has a column `tons`: choose another name")]
fn errors_in_intervals_are_explained(
    harbour: TempDir,
    #[case] more: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = run(harbour.path(), &[&STAYS[..], more].concat());
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
}

#[rstest]
fn a_long_result_is_delivered_in_batches_and_is_the_same_in_every_format(harbour: TempDir) {
    // One stay of four thousand years.
    let long = "id,a,z\n1,0001-01-01,4000-12-31\n2,2025-01-01,2025-01-02\n";
    fs::write(harbour.path().join("long.csv"), long).unwrap();
    let asked = |more: &[&str]| {
        run(harbour.path(), &[&["active", "long.csv", "--start", "a", "--end", "z"], more].concat())
    };
    let csv = asked(&[]);
    assert!(csv.err.contains("rows in the result: 1460972"), "{}", csv.err);
    assert_eq!(csv.out.lines().count(), 1_460_973);
    assert!(csv.out.ends_with(
        "1,0001-01-01,4000-12-31,4000-12-31\n2,2025-01-01,2025-01-02,2025-01-01\n\
        2,2025-01-01,2025-01-02,2025-01-02\n"
    ));
    assert_eq!(csv.out.matches("id,a,z,day").count(), 1, "one header");
    let table = asked(&["--format", "table", "--rows", "3"]);
    assert!(table.out.ends_with("3 of 1,460,972 rows shown (--rows all)\n"), "{}", table.out);
    let lines = asked(&["--out", "long.jsonl", "-q"]);
    assert_eq!(lines.code, 0);
    assert_eq!(
        fs::read_to_string(harbour.path().join("long.jsonl")).unwrap().lines().count(),
        1_460_972
    );
}

#[rstest]
fn spells_are_sorted_by_entity_and_start(harbour: TempDir) {
    let ran = run(
        harbour.path(),
        &["spells", "stays.csv", "--per", "vessel as ship", "--start", "arrived", "--end", "left"],
    );
    let keys: Vec<Vec<&str>> =
        ran.out.lines().skip(1).map(|line| line.split(',').take(2).collect()).collect();
    assert!(
        ran.out.starts_with("ship,start,end,days,records\n") && keys.is_sorted(),
        "{}",
        ran.out
    );
    let records: usize = ran
        .out
        .lines()
        .skip(1)
        .map(|line| line.rsplit(',').next().unwrap().parse::<usize>().unwrap())
        .sum();
    assert_eq!(records, 204);
}
