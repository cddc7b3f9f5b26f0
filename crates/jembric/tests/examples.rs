//! Every example runs and says what it promises.

#![allow(clippy::unwrap_used)]

use rstest::rstest;
use std::{env, path::PathBuf, process::Command};

/// What an example prints. Cargo builds the examples beside the tests.
fn printed(example: &str, arguments: &[&str]) -> String {
    let mut path: PathBuf = env::current_exe().unwrap();
    path.pop();
    path.pop();
    let output = Command::new(path.join("examples").join(example)).args(arguments).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

#[rstest]
#[case("latest", &["balance    61 = 16 + 42 + 3", "tied with the one kept 1", "as of 2024-12-31", "| 2024-01-29 | Half Crown | Ivo | failed | 6.11 | out of service, \"until further notice\" | true |"])]
#[case("look", &["stays.csv: 205 rows", "looks wrong: `left` is before `arrived` in 1 row: line 62"])]
#[case("reading", &["line 2 `03/04/2025` is 2025-04-03 or 2025-03-04", "newest: 2025-06-05", "c3: decimals, 1 place", "ragged.csv: line 3: expected 2 cells, one for each column, and found 1: `3`"])]
#[case("set_aside", &["superseded: 42 rows", "238.63 = ", ",date not legible,no date\n"])]
fn examples_say_what_they_promise(#[case] example: &str, #[case] says: &[&str]) {
    let printed = printed(example, &[]);
    for part in says {
        assert!(printed.contains(part), "{part} in:\n{printed}");
    }
}

#[test]
fn the_harbour_is_made_anew_to_the_letter() {
    let directory = tempfile::tempdir().unwrap();
    printed("make_harbour", &[directory.path().to_str().unwrap()]);
    for entry in directory.path().read_dir().unwrap() {
        let made = entry.unwrap().path();
        let kept =
            PathBuf::from(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo")).join(made.file_name().unwrap());
        assert!(std::fs::read(&made).unwrap() == std::fs::read(kept).unwrap(), "{}", made.display());
    }
}
