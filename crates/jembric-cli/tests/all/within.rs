//! Events in windows on the command line: both ledgers, mistakes on either side, long results.

use crate::harness::{harbour, run};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

const LIFTS: [&str; 9] = [
    "within",
    "lifts.csv",
    "stays.csv",
    "--match",
    "vessel",
    "--date",
    "lifted_on",
    "--window",
    "arrived..left",
];

#[rstest]
fn every_event_is_matched_or_stray_and_every_window_used_or_empty(harbour: TempDir) {
    let lines = |more: &[&str]| {
        run(harbour.path(), &[&LIFTS[..], more].concat()).out.lines().count() as u64 - 1
    };
    let ran =
        run(harbour.path(), &[&LIFTS[..], &["--ledger", "json", "--reconcile", "tons"]].concat());
    let ledger: serde_json::Value = serde_json::from_str(&ran.err).unwrap();
    let number = |of: &serde_json::Value| of.as_u64().unwrap();
    let (events, windows) = (&ledger, &ledger["other-side"]);
    assert_eq!(
        lines(&["--keep", "stray-events"]),
        number(&events["rows-in"]) - number(&events["kept"])
    );
    assert_eq!(lines(&["--keep", "empty-windows"]), number(&windows["dropped"][0]["rows"]));
    assert_eq!(lines(&[]), number(&events["counts"]["pairs"]));
    assert_eq!(lines(&["--pick", "last"]), number(&events["kept"]));
    assert_eq!(lines(&["--keep", "every-event", "--pick", "first"]), number(&events["rows-in"]));
    assert_eq!(windows["reconciled"][0]["in-answer"], "1083544");
}

#[rstest]
#[case::event_column(&["lifts.csv", "stays.csv", "--match", "vessel", "--date", "lifted",
    "--window", "arrived..left"], 1, "error: lifts.csv: there is no column `lifted`. Did you mean \
        `lifted_on`?\n")]
#[case::window_column(&["lifts.csv", "stays.csv", "--match", "vessel", "--date", "lifted_on",
    "--window", "arived..left"], 1, "error: stays.csv: there is no column `arived`. Did you mean \
        `arrived`?\n")]
#[case::key(&["lifts.csv", "stays.csv", "--match", "crane=berht", "--date", "lifted_on",
    "--window", "arrived..left"], 1, "error: stays.csv: there is no column `berht`. Did you mean \
        `berth`?\n")]
#[case::types(&["lifts.csv", "stays.csv", "--match", "crane=tons", "--date", "lifted_on",
    "--window", "arrived..left"], 1, "error: `crane` holds text (`C2`), but `tons` of the windows \
        holds whole numbers (`5926`), so they never match. Read both as the same type, for \
        example as text: `--read 'crane=text'`")]
#[case::no_window(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived"], 2,
    "error: `window`: `arrived` is not a window: expected two columns with `..` between them, \
        each with a span added or taken or left out on an open side: `arrived..left`, `due - 7 \
        days..due + 3 days`, `valid_from..`")]
#[case::one_stream(&["-", "-", "--date", "at", "--window", "a.."], 1,
    "error: `-`: given more than once: expected standard input for only one file")]
#[case::no_span(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window",
    "arrived - 3 moons..left"], 1, "error: `window`: `3 moons` is not a span: expected whole \
        days, weeks, months or years, such as `9 months`, `7 days` or `P9M`")]
#[case::no_dates(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived..berth"],
    1, "error: stays.csv: column `berth` cannot be used as dates: 205 of its 205 values are not")]
#[case::refused(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived..left",
    "--open-ends", "refuse"], 1, "error: 3 rows have no `arrived` or `left`, and missing ends are \
        refused (line 204, line 205, line 206). Let these intervals last until the as-of date \
        (`--open-ends as-of`), or leave them out (`--open-ends drop`)")]
#[case::flood(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived..left",
    "--most-rows", "500"], 1, "error: the result would have 1,324 rows, more than the limit of \
        500: line 270 of the events alone falls in 6 windows. Match on more columns, give the \
        windows both bounds, or keep one window for each event (`--pick first`), or raise the \
        limit: `--most-rows 1324`")]
#[case::reconciled(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived..left",
    "--reconcile", "berth"], 1, "error: stays.csv: column `berth` holds text, but numbers are \
        required")]
#[case::format(&["lifts.csv", "stays.csv", "--date", "lifted_on", "--window", "arrived..left",
    "--read", "arived=%d"], 1, "error: lifts.csv: there is no column `arived`")]
fn mistakes_name_their_side(
    harbour: TempDir,
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = run(harbour.path(), &[&["within"], arguments].concat());
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
}

#[rstest]
fn formats_are_for_the_file_with_the_column_and_rows_set_aside_name_their_side(harbour: TempDir) {
    fs::write(harbour.path().join("calls.csv"), "ship,at\nPetrel,5/1/24\nPetrel,9/1/24\n,1/1/24\n")
        .unwrap();
    let ran = run(
        harbour.path(),
        &[
            "within",
            "calls.csv",
            "stays.csv",
            "--match",
            "ship=vessel",
            "--date",
            "at",
            "--window",
            "arrived..left",
            "--bring",
            "stay",
            "--read",
            "at=%d/%m/%y",
            "--century",
            "2000",
            "--aside",
            "aside.csv",
        ],
    );
    assert_eq!(ran.out, "ship,at,stay\nPetrel,2024-01-09,S0005\n", "{}", ran.err);
    let aside = fs::read_to_string(harbour.path().join("aside.csv")).unwrap();
    insta::assert_snapshot!(aside, @"
    ship,at,stay,vessel,berth,arrived,left,tons,set_aside_because
    ,2024-01-01,,,,,,,key missing
    ,,S0061,Tidewrack,North 2,2024-06-11,2024-05-30,571,end before start
    ");
}

#[rstest]
fn many_pairs_are_delivered_in_batches(harbour: TempDir) {
    let events: String = (0..400).map(|n| format!("{n},2025-01-01\n")).collect();
    let windows: String = (0..500).map(|n| format!("{n},2024-01-01\n")).collect();
    fs::write(harbour.path().join("events.csv"), format!("e,at\n{events}")).unwrap();
    fs::write(harbour.path().join("windows.csv"), format!("w,from\n{windows}")).unwrap();
    let asked = |more: &[&str]| {
        let arguments =
            ["within", "events.csv", "windows.csv", "--date", "at", "--window", "from.."];
        run(harbour.path(), &[&arguments[..], more].concat())
    };
    let ran = asked(&[]);
    let pairs: Vec<&str> = ran.out.lines().skip(1).collect();
    assert_eq!(
        (pairs.len(), pairs[0], pairs[199_999]),
        (200_000, "0,2025-01-01,0,2024-01-01", "399,2025-01-01,499,2024-01-01")
    );
    assert_eq!(asked(&["--most-rows", "199999"]).code, 1);
}
