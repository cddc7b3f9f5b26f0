//! Series without gaps, and totals, on the command line.

use crate::harness::{harbour, run};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

const GAUGE: [&str; 8] =
    ["filled", "gauge.csv", "--per", "gauge", "--date", "day", "--missing", "-"];
const DUES: [&str; 6] = ["totals", "dues.csv", "--date", "issued", "--grain", "quarter"];

#[rstest]
fn every_gauge_has_every_day_and_recorded_values_are_unchanged(harbour: TempDir) {
    let asked = |more: &[&str]| run(harbour.path(), &[&GAUGE[..], more].concat());
    let filled = asked(&["--carry", "level_m", "--mark", "was_added"]);
    let (added, there): (Vec<&str>, Vec<&str>) =
        filled.out.lines().skip(1).partition(|line| line.ends_with("true"));
    assert_eq!((added.len(), there.len()), (9, 353));
    assert!(
        filled.err.contains(
            "rows in the result: 362 · rows recorded: 353 · rows added: 9 · values of level_m \
                carried into added rows: 9"
        ),
        "{}",
        filled.err
    );
    // Batches give the same result as the whole, and a whole table is a series, too.
    let half = |range: &str| asked(&["--range", range, "--quiet"]).out.lines().count() - 1;
    assert_eq!(half("2025-01..2025-03") + half("2025-04..2025-06"), 362);
    fs::write(
        harbour.path().join("gauges.csv"),
        "name,berth\nOuter Mole,1\nNew Sill,2\nNew Sill,3\n,4\n",
    )
    .unwrap();
    let listed = asked(&["--entities", "gauges.csv:name", "--range", "2025-06-30"]);
    insta::assert_snapshot!(listed.out, @"
    day,gauge,level_m
    2025-06-30,New Sill,
    2025-06-30,Outer Mole,3.57
    2025-06-30,River Gate,1.91
    ");
    let told =
        "entities without a record: 1 · entities named twice: 1 · entities named without a key: 1";
    assert!(listed.err.contains(told), "{}", listed.err);
}

#[rstest]
#[case::grain(&["--grain", "hour"], 1,
    "error: column `day` holds days, so it has no hours. Ask for days")]
#[case::range(&["--range", "all"], 2,
    "error: `range`: `all` is not a range: expected two dates or periods, the earlier first, such \
        as 2025-01-01..2025-03-31 or 2025-01..2025-06")]
#[case::taken(&["--grain", "month"], 1,
    "error: 12 cells of one entity and month have several records: Outer Mole, 2025-01 (line 2, \
        line 3, line 4, …), Outer Mole, 2025-02 (line 32, ")]
#[case::list(&["--entities", "gauges"], 1,
    "error: `entities`: `gauges`: expected a file and its columns, such as \
        `stays.csv:arrived,left`\n")]
#[case::no_list(&["--entities", "vessels.csv:vesel"], 1,
    "error: vessels.csv: there is no column `vesel`. Did you mean `vessel`?\n")]
#[case::number(&["--set", "level_m=high"], 1,
    "error: `set`: `high` is not a value of column `level_m`, which holds decimals, 2 places")]
#[case::flood(&["--range", "0001..9999", "--most-rows", "1000000"], 1,
    "error: the result would have 7,304,118 rows, more than the limit of 1,000,000: 0001-01-01 to \
        9999-12-31 are 3652059 days, for each of 2 entities. Choose a longer grain or a shorter \
        range, or raise the limit: `--most-rows 7304118`")]
fn errors_in_series_are_explained(
    harbour: TempDir,
    #[case] more: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = run(harbour.path(), &[&GAUGE[..], more].concat());
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
}

#[rstest]
fn money_by_class_and_quarter_adds_up_both_ways(harbour: TempDir) {
    let asked = |more: &[&str]| run(harbour.path(), &[&DUES[..], more].concat());
    let across = asked(&["--sum", "amount", "--side-by-side", "class", "--margins"]);
    insta::assert_snapshot!(across.out.lines().next().unwrap(),
        @"quarter,barge,bulk,coaster,tanker,tender,total");
    assert!(
        across.err.contains("199197.63 in = 199197.63 kept; 199197.63 in the result"),
        "{}",
        across.err
    );
    let cells = |line: &str| -> Vec<i64> {
        line.split(',')
            .skip(1)
            .map(|cell| (cell.parse::<f64>().unwrap() * 100.0).round() as i64)
            .collect()
    };
    let lines: Vec<Vec<i64>> = across.out.lines().skip(1).map(cells).collect();
    let (total, rows) = lines.split_last().unwrap();
    assert_eq!((total[5], rows.len()), (19_919_763, 6));
    for (column, total) in total.iter().enumerate() {
        assert_eq!(rows.iter().map(|row| row[column]).sum::<i64>(), *total);
    }
    assert!(rows.iter().all(|row| row[..5].iter().sum::<i64>() == row[5]));
    // The same cells in rows below each other, with those that have no record.
    let below = asked(&["--sum", "amount", "--per", "class", "--dense"]);
    assert_eq!(below.out.lines().count() - 1, rows.len() * 5);
    let ledger = asked(&[
        "--count",
        "--range",
        "2024-01..2024-06",
        "--ledger",
        "json",
        "--reconcile",
        "amount",
    ])
    .err;
    assert!(
        ledger.contains("\"rows-in\":133") && ledger.contains("\"reason\":\"outside the range\""),
        "{ledger}"
    );
}

#[rstest]
#[case::nothing(&["--side-by-side", "invoice", "--most-side-by-side", "100"], 1,
    "error: column `invoice` has 133 values, and each would become a column, but the limit is \
        100. Choose a column with fewer values, or raise the limit: `--most-side-by-side 133`")]
#[case::text(&["--sum", "class"], 1,
    "error: dues.csv: column `class` holds text, but numbers are required")]
#[case::beside(&["--beside", "month"], 1,
    "error: `beside` is month: expected `all`, or a longer period that consists of whole periods \
        of `grain`")]
#[case::each(&["--each", "hour-of-day"], 1,
    "error: column `issued` holds days, so it has no the hour of day. Ask for days")]
#[case::part(&["--each", "minute"], 2, "error: invalid value 'minute' for '--each <WORD>'")]
#[case::entities(&["--entities", "vessels.csv:vessel"], 1,
    "error: `entities` needs `dense`")]
#[case::misspelt(&["--per", "clas"], 1,
    "error: dues.csv: there is no column `clas`. Did you mean `class`?\n")]
fn errors_in_totals_are_explained(
    harbour: TempDir,
    #[case] more: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = run(harbour.path(), &[&DUES[..], more].concat());
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
}
