//! Every example runs and prints what it promises.

use rstest::rstest;
use std::{env, path::PathBuf, process::Command};

/// What an example prints. Cargo builds the examples beside the tests.
fn printed(example: &str, arguments: &[&str]) -> String {
    let mut path: PathBuf = env::current_exe().unwrap();
    path.pop();
    path.pop();
    let output =
        Command::new(path.join("examples").join(example)).args(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[rstest]
#[case("latest", &["balance      61 = 16 kept + 42 dropped + 3 set aside",
    "1  tied with the record kept", "as of 2024-12-31",
    "| 2024-01-29 | Half Crown | Ivo | failed | 6.11 | out of service, \"until further notice\" | \
        true |"])]
#[case("look", &["stays.csv: 205 rows",
    "looks wrong: `left` is before `arrived` in 1 row: line 62"])]
#[case("reading", &["line 2 `03/04/2025` is 2025-04-03 or 2025-03-04", "newest: 2025-06-05",
    "c3: decimals, 1 place", "ragged.csv: line 3: expected 2 cells, one for each column, and \
        found 1: `3`"])]
#[case("set_aside", &["superseded by a later record: 42 rows", "238.63 = ",
    ",date not legible,date missing\n"])]
#[case("elapsed", &["| 2025-02-10 | Ebb and Flow | Tamsin | passed | 2.97 |  | 140 | 90-179 |",
    "elapsed workdays from issued to paid", "kept         61  rows without a previous date: 17"])]
#[case("active", &["rows in the result: 262 · without an end: 3", "| 2025-01 |",
    "200  not active on that date", "1830 days"])]
#[case("spells", &["gaps up to 1 days joined", "gaps: 143",
    "| Bolt Head | failed | 2024-05-19 | 2024-07-30 | 73 | 1 |"])]
#[case("within",
    &["sum of tons: 9106.2 in = 8949.5 kept + 156.7 dropped; 10233.1 in the result",
        "| 2024-01-07 | Gannet Rock | C1 | 24.4 | outside every window with this key |",
            "stays without a lift: 46", "| 2024-01-02 | Gannet Rock | C2 | 36.7 | 2024-01-01 | \
                4.50 |", "pairs: 13"])]
#[case("running", &["missing values skipped: 6 · new highs: 14",
    "| 2025-01-02 | Outer Mole | 3.07 | 3.09 |", "| -258.37 | 10741.19 | 2024-02-29 |",
        "14  tied with the record kept"])]
#[case("filled", &["level_m carried into added rows: 9", "| 2025-01-05 | Outer Mole | 2.77 |",
    "rows in the result: 252"])]
#[case("totals", &["| 2024-Q1 | 34 | 30 |", "| (total) | 15529.07 | 79303.38 |",
    "199197.63 in the result", "| 2024-01 | Bolt Head |"])]
#[case("recent", &["as of 2025-06-30, range 2024-10-01..2025-06-30",
    "range 2024-07-01..2024-12-31", "range 2025-03-01..2025-03-31"])]
#[cfg_attr(feature = "draw", case("routine", &["13 steps are valid", "| (total) | 15529.07 |",
    "vessel = 'Wend': 1 kept · ", "did you mean `latest`?", "as-of = \"2025-06-30\""]))]
#[case("changes", &["| Sallow | changed | inspected_on | 2025-02-08 | 2025-06-27 | 139.00 |",
    "balance      61 = 4 kept + 54 dropped + 3 set aside", "kept          ",
    "keys occur more than once", "appeared"])]
#[case("chain", &["Wend 2025-02-18", "3 steps, ", "read = \"inspections.csv\"",
    "no column `vesel`, but [\"vessel\"]"])]
#[case("larger", &["149700 of 300000 calls are heavy", "84 rows of months", "112275000 tons"])]
#[case("cancel", &["the run was cancelled: true", "0 temporary files"])]
#[cfg_attr(feature = "arrow-files", case("server", &["hull_mm > 4: an Arrow stream, true",
    "there is no column `hull`", "1 columns", "3 rows"]))]
#[cfg_attr(feature = "sqlite", case("database", &[" months\n",
    "harbour.sqlite:open_dues: the table exists already", "`Existing::Replace`", "true\n"]))]
#[cfg_attr(feature = "draw", case("page", &["Dues of 199,197.63 were issued.", " days at most.",
    "there is no column `amounts`", "4 tables, 4 pictures"]))]
#[case("formats", &["months.parquet: months, decimals, 2 places",
    "months.xlsx: dates, decimals, 2 places", "Did you mean `Sheet1`?",
        "fee: text\nfee: decimals, 2 places"])]
#[case("almanac", &["| 2024-01-02 | Tuesday | 2024-Q1 | 2024 | true | 1 | -8 |", "balance     "])]
#[case("filter", &["341  condition false", "2  condition unknown (missing value)",
    "^^^^^^^ did you mean `level_m`?", "| 511 | 2.21 |", "from in: 64 · from out: 718"])]
fn examples_say_what_they_promise(#[case] example: &str, #[case] says: &[&str]) {
    let printed = printed(example, &[]);
    for part in says {
        assert!(printed.contains(part), "{part} in:\n{printed}");
    }
}

#[test]
fn the_harbour_is_made_again_byte_for_byte() {
    let directory = tempfile::tempdir().unwrap();
    printed("make_harbour", &[directory.path().to_str().unwrap()]);
    for entry in directory.path().read_dir().unwrap() {
        let made = entry.unwrap().path();
        let kept = PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"))
            .join(made.file_name().unwrap());
        assert!(
            std::fs::read(&made).unwrap() == std::fs::read(kept).unwrap(),
            "{}",
            made.display()
        );
    }
}
