//! What changed between two files, two dates, and two runs of a routine.

use crate::harness::{harbour, run, words};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

const NOW: &str = "stay,vessel,tons,left\nS1,Petrel,12.5,2025-06-30\nS2,Wend,7,\nS4,Marram,3,\n";
const BEFORE: &str = "stay,vessel,tons,left\nS1,Petrel,12.0,2025-06-28\nS2,Wend,7,\nS3,Sallow,1,\n";

fn stays() -> TempDir {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("now.csv"), NOW).unwrap();
    fs::write(directory.path().join("before.csv"), BEFORE).unwrap();
    directory
}

#[test]
fn two_files_are_compared_cell_by_cell() {
    let directory = stays();
    let line = "changes now.csv before.csv --per stay --reconcile tons";
    let ran = run(directory.path(), &words(line).iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(
        ran.out,
        "stay,change,column,before,now,difference\nS1,changed,tons,12.0,12.5,0.5\n\
         S1,changed,left,2025-06-28,2025-06-30,2.0\nS3,gone,,,,\nS4,appeared,,,,\n"
    );
    insta::assert_snapshot!(ran.err, @r"
    changes per stay, from now.csv
      rows in       3
      kept          2  changed: 1 · appeared: 1 · changed cells: 2 · columns of different types, shown as text: 3
      dropped       1  unchanged
      sum of tons: 22.5 in = 15.5 kept + 7.0 dropped
      balance       3 = 2 kept + 1 dropped
    before, from before.csv
      rows in       3
      kept          2  changed: 1 · gone: 1
      dropped       1  unchanged
      sum of tons: 20.0 in = 13.0 kept + 7.0 dropped
      balance       3 = 2 kept + 1 dropped
    ");
    // In a chain, the result before is the newer side; a saved routine gives the same.
    let chain = "filter now.csv 'tons > 0' + changes before.csv --per stay -q";
    let line = format!("{chain} --save-routine r.toml");
    let chained =
        run(directory.path(), &words(&line).iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(chained.out, ran.out, "{}", chained.err);
    let text = fs::read_to_string(directory.path().join("r.toml")).unwrap();
    assert!(text.contains("changes = { before = \"before.csv\", per = [\"stay\"] }"), "{text}");
    assert_eq!(run(directory.path(), &["run", "r.toml", "-q"]).out, ran.out);
}

#[rstest]
#[case::no_second("changes now.csv --per stay", "`per` needs a second table, or `date` and")]
#[case::no_key("changes now.csv before.csv", "--per")]
#[case::missing_key("changes now.csv before.csv --per ship", "there is no column `ship`")]
#[case::one_date(
    "changes now.csv --per stay --date left --between 2025-06-30",
    "expected two dates with `..` between them"
)]
#[case::reversed(
    "changes now.csv --per stay --date left --between 2025-06-30..2025-05-31",
    "expected the earlier date first"
)]
#[case::no_dates("changes now.csv --per stay --date left", "`date` needs `between`")]
#[case::twice(
    "changes twice.csv before.csv --per stay",
    "twice.csv: 1 key occurs more than once: `S1` (line 2, line 3). Choose one (`--ties first`), \
        or identify each record by more columns with `--per`"
)]
fn mistakes_are_explained(#[case] line: &str, #[case] message: &str) {
    let directory = stays();
    let twice = "stay,vessel,tons,left\nS1,a,1,\nS1,b,2,\n";
    fs::write(directory.path().join("twice.csv"), twice).unwrap();
    let ran = run(directory.path(), &words(line).iter().map(String::as_str).collect::<Vec<_>>());
    let told = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(ran.code != 0 && told.contains(message), "{told}");
    assert_eq!(ran.out, "");
}

/// Totals have a group for missing keys, and a result may have no column besides its key.
#[test]
fn groups_without_a_key_and_results_of_one_column_are_compared() {
    let directory = tempfile::tempdir().unwrap();
    let calls = "k,day\na,2025-05-01\n,2025-05-02\n,2025-06-02\nb,2025-06-03\n";
    fs::write(directory.path().join("calls.csv"), calls).unwrap();
    let routine = "as-of = '2025-06-30'\n[[step]]\nread = 'calls.csv'\nfilter = 'day <= as_of'\n\
                   [[step]]\nname = 'counts'\ntotals = { per = ['k'], count = true }\n[[step]]\n\
                   name = 'names'\nkey = ['k']\ncolumns = ['k']\n";
    fs::write(directory.path().join("r.toml"), routine).unwrap();
    let ran = run(directory.path(), &["run", "r.toml", "--since", "2025-05-31", "-q"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let rows: Vec<&str> = ran.out.lines().skip(1).collect();
    assert_eq!(
        rows,
        ["counts,b,appeared,,,,", "counts,,changed,count,1,2,1", "names,b,appeared,,,,"]
    );
}

#[test]
fn the_suggested_choice_works() {
    let directory = stays();
    fs::write(directory.path().join("twice.csv"), "stay,tons\nS1,1\nS1,2\nS2,7\nS3,1\n").unwrap();
    let line = "changes twice.csv before.csv --per stay --ties first -q";
    let ran = run(directory.path(), &words(line).iter().map(String::as_str).collect::<Vec<_>>());
    assert_eq!(ran.out, "stay,change,column,before,now,difference\nS1,changed,tons,12.0,1,-11.0\n");
}

#[rstest]
fn a_routine_is_compared_with_an_earlier_date(harbour: TempDir) {
    let directory = harbour.path();
    let ran = run(directory, &["run", "harbour.toml", "--since", "2025-05-31"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let rows: Vec<&str> = ran.out.lines().collect();
    assert_eq!(rows[0], "step,key,change,column,before,now,difference");
    // The same as of one operation for both dates.
    let line = "changes inspections.csv --per vessel --date inspected_on --then hull_mm \
        --between 2025-05-31..2025-06-30 --ties first -q";
    let alone = run(directory, &words(line).iter().map(String::as_str).collect::<Vec<_>>());
    let of_current: Vec<&str> =
        rows.iter().filter_map(|row| row.strip_prefix("current,")).collect();
    assert_eq!(of_current, alone.out.lines().skip(1).collect::<Vec<_>>());
    assert_eq!(of_current.len(), 17);
    assert!(ran.err.contains("since 2025-05-31 per vessel"), "{}", ran.err);
    let unchanged = "nothing changed since 2025-05-31 in: levels, dues by period, dues\n";
    assert!(ran.err.contains(unchanged), "{}", ran.err);
    assert!(!ran.err.contains("changes of levels"), "{}", ran.err);
    // The files of the steps are those of the as-of date.
    assert!(directory.join("overdue.csv").exists());

    for (since, message) in [
        ("2025-06-30", "`since`: 2025-06-30 is not before the as-of date 2025-06-30: expected"),
        ("2025-02-30", "February 2025 has 28 days"),
    ] {
        let ran = run(directory, &["run", "harbour.toml", "--since", since]);
        assert!(ran.code != 0 && ran.err.contains(message), "{}", ran.err);
    }
}

const GRADES: &str = "as-of = \"2025-06-30\"\n[[step]]\nname = \"grades\"\nread = \"g.csv\"\n\
    latest = { per = [\"vessel\"], date = \"day\" }\nheading = \"Grades\"\n[[step]]\n\
    name = \"good\"\nfilter = \"grade > 1\"\nkey = [\"vessel\"]\n";

#[test]
fn each_named_result_with_a_key_is_compared() {
    let directory = tempfile::tempdir().unwrap();
    let csv = "vessel,day,grade\nx,2025-05-01,1\nx,2025-06-10,2\ny,2025-06-20,1\nz,2025-04-01,3\n\
        z,2025-06-01,1\n";
    fs::write(directory.path().join("g.csv"), csv).unwrap();
    fs::write(directory.path().join("r.toml"), GRADES).unwrap();
    let ran = run(directory.path(), &["run", "r.toml", "--since", "2025-05-31", "-q"]);
    assert_eq!(
        ran.out,
        "step,key,change,column,before,now,difference\n\
         grades,x,changed,day,2025-05-01,2025-06-10,40\ngrades,x,changed,grade,1,2,1\n\
         grades,y,appeared,,,,\n\
         grades,z,changed,day,2025-04-01,2025-06-01,61\ngrades,z,changed,grade,3,1,-2\n\
         good,x,appeared,,,,\ngood,z,gone,,,,\n",
        "{}",
        ran.err
    );
    // A key that does not identify a row is an error at its place.
    let wrong = GRADES.replace("key = [\"vessel\"]", "key = [\"vesel\"]");
    fs::write(directory.path().join("r.toml"), wrong).unwrap();
    let ran = run(directory.path(), &["run", "r.toml", "--since", "2025-05-31", "-q"]);
    assert!(ran.err.contains("there is no column `vesel`. Did you mean `vessel`?"), "{}", ran.err);
    assert!(ran.err.contains("key = [\"vesel\"]"), "{}", ran.err);
}
