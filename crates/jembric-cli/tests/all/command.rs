//! The command as a user runs it: what it prints, its exit status, and the files it leaves.

use crate::harness::{harbour, jembric, run, words};
use rstest::rstest;
use std::{fs, path::Path};
use tempfile::TempDir;

#[rstest]
fn the_result_goes_to_one_stream_and_the_ledger_to_the_other(harbour: TempDir) {
    let ran = run(harbour.path(), &["latest", "stays.csv", "--per", "berth", "--date", "arrived"]);
    insta::assert_snapshot!(ran.out, @"
    stay,vessel,berth,arrived,left,tons
    S0200,Long Myre,Quay 4,2025-06-11,2025-06-24,11426
    S0202,Long Myre,North 1,2025-06-14,2025-06-26,12781
    S0203,Gannet Rock,Basin,2025-06-24,,5730
    S0204,Half Crown,Quay 3,2025-06-25,,1765
    S0205,Half Crown,North 2,2025-06-26,,2568
    ");
    insta::assert_snapshot!(ran.err, @"
    latest per berth by arrived, from stays.csv
      rows in     205
      kept          5  entities: 5
      dropped     200  superseded by a later record
      balance     205 = 5 kept + 200 dropped
    ");
    assert_eq!(ran.code, 0);
}

#[rstest]
fn the_result_and_the_rows_set_aside_go_to_files(harbour: TempDir) {
    let arguments = [
        "latest",
        "inspections.csv",
        "--per",
        "vessel",
        "--date",
        "inspected_on",
        "--out",
        "now.jsonl",
        "--aside",
        "aside.csv",
        "--quiet",
    ];
    let ran = run(harbour.path(), &arguments);
    assert_eq!((ran.code, ran.out.as_str(), ran.err.as_str()), (0, "", ""));
    let now = fs::read_to_string(harbour.path().join("now.jsonl")).unwrap();
    assert_eq!(now.lines().count(), 16);
    assert!(
        now.starts_with("{\"inspected_on\":\"2025-02-10\",\"vessel\":\"Ebb and Flow\""),
        "{now}"
    );
    let aside = fs::read_to_string(harbour.path().join("aside.csv")).unwrap();
    let reasons: Vec<&str> = aside.lines().map(|line| line.rsplit(',').next().unwrap()).collect();
    assert_eq!(reasons, ["set_aside_because", "date missing", "key missing", "date missing"]);
}

#[rstest]
#[case::table(&["--format", "table", "--rows", "1"], " stay   vessel")]
#[case::markdown(&["--format", "markdown"],
    "| stay | vessel | berth | arrived | left | tons |\n| --- | --- | --- | --- | --- | ---: |\n")]
#[case::jsonl(&["--format", "jsonl"], "{\"stay\":\"S0200\"")]
fn the_format_can_be_chosen(harbour: TempDir, #[case] format: &[&str], #[case] begins: &str) {
    let ran = run(
        harbour.path(),
        &[&["latest", "stays.csv", "--per", "berth", "--date", "arrived", "-q"], format].concat(),
    );
    assert!(ran.out.starts_with(begins), "{}", ran.out);
    assert!(!ran.out.contains('\u{1b}'), "no colour in a pipe");
}

#[rstest]
fn a_ledger_for_programs_reconciles_sums(harbour: TempDir) {
    let ran = run(
        harbour.path(),
        &[
            "latest",
            "dues.csv",
            "--per",
            "vessel",
            "--date",
            "paid",
            "--reconcile",
            "amount",
            "--ledger",
            "json",
        ],
    );
    let ledger: serde_json::Value = serde_json::from_str(&ran.err).unwrap();
    let cents = |fate: &str| {
        ledger["reconciled"][0][fate].as_str().unwrap().replace('.', "").parse::<i64>().unwrap()
    };
    assert_eq!(cents("in"), cents("kept") + cents("dropped") + cents("set-aside"));
    assert_eq!(ledger["rows-in"], 133);
}

#[rstest]
#[case::newest("newest:inspected_on - 6 months", "2024-12-30")]
#[case::date("2024-12-31", "2024-12-31")]
fn the_result_is_as_of_a_date(harbour: TempDir, #[case] as_of: &str, #[case] day: &str) {
    let ran = run(
        harbour.path(),
        &[
            "latest",
            "inspections.csv",
            "--per",
            "vessel",
            "--date",
            "inspected_on",
            "--as-of",
            as_of,
        ],
    );
    assert!(ran.err.contains(&format!(", as of {day}\n")), "{}", ran.err);
    assert!(ran.out.lines().skip(1).all(|line| &line[..10] <= day), "{}", ran.out);
}

#[rstest]
fn today_is_the_machines_day(harbour: TempDir) {
    let today = || jiff::ZonedDateTime::now().date().to_string();
    let before = today();
    let ran =
        run(harbour.path(), &["latest", "stays.csv", "--date", "arrived", "--as-of", "today"]);
    assert!(ran.err.contains(&before) || ran.err.contains(&today()), "{}", ran.err);
}

#[rstest]
fn standard_input_is_a_file_too(harbour: TempDir) {
    let stays = fs::read(harbour.path().join("stays.csv")).unwrap();
    let mut command =
        jembric(harbour.path(), &["earliest", "-", "--date", "arrived", "--ties", "first"]);
    let output = command.write_stdin(stays).output().unwrap();
    assert!(
        String::from_utf8_lossy(&output.stdout)
            .ends_with("\nS0001,Gannet Rock,North 2,2024-01-02,2024-01-05,5926\n")
    );
    assert!(String::from_utf8_lossy(&output.stderr).contains("from standard input"));
}

#[rstest]
#[case::column(&["latest", "stays.csv", "--date", "arived"], 1,
    "error: stays.csv: there is no column `arived`. Did you mean `arrived`?\n")]
#[case::file(&["latest", "stay.csv", "--date", "arrived"], 1,
    "error: stay.csv: no such file or directory. Did you mean `stays.csv`?\n")]
#[case::directory(&["look", "."], 1, "error: .: this is a directory, but a file is required\n")]
#[case::onto_input(&["latest", "stays.csv", "--date", "arrived", "--out", "./stays.csv"], 1,
    "error: ./stays.csv: this output would overwrite an input file. Choose another file\n")]
#[case::onto_aside(&["latest", "stays.csv", "--date", "arrived", "--out", "a.csv", "--aside",
    "./a.csv"], 1, "error: ./a.csv: the result (--out) and the rows set aside (--aside) would be \
        written to the same file. Choose another file for one of them\n")]
#[case::ending(&["latest", "stays.csv", "--date", "arrived", "--out", "a.docx"], 1,
    "error: `out`: `a.docx` has no known file extension: expected a name that ends in .csv, \
        .jsonl, .md, .parquet, .arrow or .xlsx, the first three also with .gz or .zst, or a \
        format said outright\n")]
#[case::no_directory(&["latest", "stays.csv", "--date", "arrived", "--out", "none/a.csv"], 1,
    "error: none/a.csv: could not be written: no such file or directory. No incomplete file was \
        left\n")]
#[case::as_of(&["latest", "stays.csv", "--date", "arrived", "--as-of", "2025-02-30"], 1,
    "error: `2025-02-30` is not an as-of date: February 2025 has 28 days\n")]
#[case::refused_ties(&["latest", "inspections.csv", "--per", "vessel", "--date", "inspected_on",
    "--ties", "refuse"], 1, "error: 4 records of 2 entities tie on `inspected_on`, and ties are \
        refused: `Petrel` on 2025-04-13, `Thrift` on 2025-05-01. Allow them (`--ties first`), \
        or break them with `--then`\n")]
#[case::written_there(&["demo", "--into", "."], 1,
    "error: `into`: `./vessels.csv` is there already: expected a directory without the demo's \
        tables\n")]
#[case::number(&["latest", "stays.csv", "--date", "arrived", "--newest", "0"], 2,
    "error: `newest` is 0: expected a whole number from 1\n")]
fn errors_are_explained_and_leave_nothing_behind(
    harbour: TempDir,
    #[case] arguments: &[&str],
    #[case] code: i32,
    #[case] message: &str,
) {
    let before = fs::read_dir(harbour.path()).unwrap().count();
    let ran = run(harbour.path(), arguments);
    assert_eq!((ran.out.as_str(), ran.err.as_str(), ran.code), ("", message, code));
    assert_eq!(fs::read_dir(harbour.path()).unwrap().count(), before);
}

#[rstest]
fn a_misspelt_option_gets_the_nearest_name(harbour: TempDir) {
    let ran = run(harbour.path(), &["latest", "stays.csv", "--dat", "arrived"]);
    assert!(ran.code == 2 && ran.err.contains("'--date'"), "{}", ran.err);
    let ran = run(harbour.path(), &["lates"]);
    assert!(ran.code == 2 && ran.err.contains("'latest'"), "{}", ran.err);
}

#[cfg(target_os = "linux")]
#[rstest]
#[case::to_a_file(&["--out", "/dev/full", "--format", "csv"], "/dev/full")]
#[case::aside(&["--aside", "full.csv"], "full.csv")]
fn a_full_disk_is_an_error(harbour: TempDir, #[case] to: &[&str], #[case] named: &str) {
    std::os::unix::fs::symlink("/dev/full", harbour.path().join("full.csv")).unwrap();
    let ran = run(harbour.path(), &[&["latest", "stays.csv", "--date", "arrived"], to].concat());
    assert_eq!(
        (ran.code, ran.err),
        (
            1,
            format!(
                "error: {named}: could not be written: the disk is full. No incomplete file was \
                    left\n"
            )
        )
    );
}

#[cfg(target_os = "linux")]
#[rstest]
fn a_full_disk_behind_standard_output_is_an_error(harbour: TempDir) {
    let full = fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
    let output = std::process::Command::new(env!("CARGO_BIN_EXE_jembric"))
        .args(["latest", "stays.csv", "--date", "arrived"])
        .current_dir(harbour.path())
        .stdout(full)
        .output()
        .unwrap();
    let message = "error: standard output: could not be written: the disk is full. No incomplete \
        file was left\n";
    assert_eq!(
        (output.status.code(), String::from_utf8_lossy(&output.stderr).as_ref()),
        (Some(1), message)
    );
}

#[rstest]
fn a_closed_pipe_is_quiet(harbour: TempDir) {
    for arguments in [
        &["latest", "stays.csv", "--date", "arrived", "-q"][..],
        &["demo"],
        &["completions", "bash"],
    ] {
        let (reader, writer) = std::io::pipe().unwrap();
        drop(reader);
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_jembric"));
        let output =
            command.args(arguments).current_dir(harbour.path()).stdout(writer).output().unwrap();
        assert_eq!(
            (output.status.code(), output.stderr.as_slice()),
            (Some(0), &b""[..]),
            "{arguments:?}"
        );
    }
}

#[cfg(unix)]
#[rstest]
fn a_file_without_permission_is_named(harbour: TempDir) {
    use std::os::unix::fs::PermissionsExt;
    let path = harbour.path().join("stays.csv");
    fs::set_permissions(&path, fs::Permissions::from_mode(0o000)).unwrap();
    let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_jembric"));
    if fs::read(&path).is_ok() {
        // Root may read everything, so run a copy of the command as another user.
        use std::os::unix::process::CommandExt;
        let anybody =
            |path: &Path| fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
        let copy = harbour.path().join("jembric");
        fs::copy(env!("CARGO_BIN_EXE_jembric"), &copy).unwrap();
        anybody(harbour.path());
        anybody(&copy);
        command = std::process::Command::new(copy);
        command.uid(65_534);
    }
    let output = command.args(["look", "stays.csv"]).current_dir(harbour.path()).output().unwrap();
    let message = "error: stays.csv: no permission\n";
    assert_eq!(
        (output.status.code(), String::from_utf8_lossy(&output.stderr).as_ref()),
        (Some(1), message)
    );
}

#[rstest]
fn look_reports_the_columns_and_what_looks_wrong(harbour: TempDir) {
    let ran = run(harbour.path(), &["look", "stays.csv", "gauge.csv"]);
    insta::assert_snapshot!(ran.out, @"
    stays.csv: 205 rows, 6 columns

     column   type           missing  distinct  least       greatest
    ───────────────────────────────────────────────────────────────────
     stay     text                 0       205  S0001       S0205
     vessel   text                 0        14  Bolt Head   Wend
     berth    text                 0         5  Basin       Quay 4
     arrived  dates                0       176  2024-01-02  2025-06-26
     left     dates                3       178  2024-01-05  2025-06-26
     tons     whole numbers        0       196  39          12781

    Dates
      arrived: 2024-01-02..2025-06-26, 542 days, 366 without a record; written like 2025-06-30
      left: 2024-01-05..2025-06-26, 539 days, 361 without a record; written like 2025-06-30

    What looks wrong
      - `left` is before `arrived` in 1 row: line 62

    Next
      jembric active stays.csv --start arrived --end left --grain month --count
      jembric latest stays.csv --per vessel --date arrived

    gauge.csv: 353 rows, 3 columns

     column   type   missing  distinct  least       greatest
    ───────────────────────────────────────────────────────────
     day      dates        0       181  2025-01-01  2025-06-30
     gauge    text         0         2  Outer Mole  River Gate
     level_m  text         0       203  -           3.98

    Dates
      day: 2025-01-01..2025-06-30, 181 days, each with a record; written like 2025-06-30

    What looks wrong
      - `level_m` is read as text, because 6 of its 353 values are not numbers (line 79 `-`, line 107 `-`, line 112 `-`, …). If `-` means that there is no value, use `--missing -`

    Next
      jembric look gauge.csv --missing -
    ");
}

#[rstest]
fn look_suggests_an_option_for_an_ambiguous_order_of_day_and_month(harbour: TempDir) {
    fs::write(harbour.path().join("open.csv"), "day\n03/04/2025\n05/06/2025\n").unwrap();
    let ran = run(harbour.path(), &["look", "open.csv"]);
    assert!(ran.out.contains("line 2 `03/04/2025` is 2025-04-03 or 2025-03-04"), "{}", ran.out);
    assert!(ran.out.ends_with("Next\n  jembric look open.csv --date-order dmy\n"), "{}", ran.out);
    assert!(
        run(harbour.path(), &["look", "open.csv", "--date-order", "dmy"])
            .out
            .contains("2025-04-03..2025-06-05")
    );
}

/// Each kind of bad file gives one message on standard error, nothing on standard output, and
/// status 1.
#[rstest]
#[case::empty("", "x.csv: the file is empty. Expected a first line with the names of the columns")]
#[case::ragged(
    "day,n\n2025-06-30,1\n2025-07-01\n",
    "x.csv: line 3: expected 2 cells, one for each column, and found 1: `2025-07-01`"
)]
#[case::open_quote(
    "day,n\n2025-06-30,\"1\n",
    "x.csv: line 2: the quote that begins here is never closed: `\"1`. Close it, double quotes \
        inside a quoted cell, or read quotes as ordinary characters (`--no-quotes`)"
)]
#[case::twice(
    "day,day\n",
    "x.csv: two columns are named `day`. The names of columns must differ: rename one"
)]
#[case::bad_day(
    "day\n2025-02-28\n2025-02-30\n",
    "x.csv: column `day` cannot be used as dates: 1 of its 2 values is not a date (line 3 \
        `2025-02-30` (February 2025 has 28 days)). Correct these cells, mark them as missing \
        (`--missing`), or give the format of the dates (`--read`)"
)]
#[case::years(
    "day\n0000-12-31\n10000-01-01\n",
    "x.csv: column `day` cannot be used as dates: 2 of its 2 values are not dates (line 2 \
        `0000-12-31` (outside the years 0001 to 9999), line 3 `10000-01-01` (outside the years \
        0001 to 9999)). Choose a column of dates, or give their format (`--read`)"
)]
#[case::two_digits(
    "day\n30.06.25\n",
    "x.csv: column `day` cannot be used as dates: 1 of its 1 values is not a date (line 2 \
        `30.06.25` (a year of two digits)). Read them as dates with `--read 'day=%d.%m.%y'` and \
        `--century 2000`"
)]
#[case::order(
    "day\n03/04/2025\n",
    "x.csv: column `day` does not show whether the day or the month comes first: line 2 \
        `03/04/2025` is 2025-04-03 or 2025-03-04. Choose `--date-order dmy` or `--date-order mdy`"
)]
#[case::compact(
    "day\n20250630\n",
    "x.csv: column `day` holds whole numbers. Read them as dates with `--read 'day=%Y%m%d'`"
)]
fn a_bad_file_is_an_error_with_its_place_and_what_to_do(#[case] text: &str, #[case] message: &str) {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("x.csv"), text).unwrap();
    let ran = run(directory.path(), &["latest", "x.csv", "--date", "day", "--out", "now.csv"]);
    assert_eq!((ran.out.as_str(), ran.err, ran.code), ("", format!("error: {message}\n"), 1));
    assert!(!directory.path().join("now.csv").exists());
    assert_eq!(fs::read_dir(&directory).unwrap().count(), 1, "nothing is left behind");
}

#[rstest]
fn the_suggested_options_work(harbour: TempDir) {
    fs::write(harbour.path().join("x.csv"), "day,n\n20250630,1\n20250701,2\n").unwrap();
    let ran =
        run(harbour.path(), &["latest", "x.csv", "--date", "day", "--read", "day=%Y%m%d", "-q"]);
    assert_eq!(ran.out, "day,n\n2025-07-01,2\n");
    fs::write(harbour.path().join("x.csv"), b"day,n\n2025-06-30,M\xf6we\n").unwrap();
    let refused = run(harbour.path(), &["latest", "x.csv", "--date", "day"]);
    assert!(
        refused.err.contains("line 2: byte 19 of the file (0xf6) is not UTF-8"),
        "{}",
        refused.err
    );
    let ran = run(
        harbour.path(),
        &["latest", "x.csv", "--date", "day", "--encoding", "windows-1252", "-q"],
    );
    assert_eq!(ran.out, "day,n\n2025-06-30,M\u{f6}we\n");
}

#[rstest]
fn a_header_alone_is_a_table_without_rows(harbour: TempDir) {
    fs::write(harbour.path().join("x.csv"), "day,n\n").unwrap();
    let ran = run(harbour.path(), &["latest", "x.csv", "--date", "day", "--per", "n"]);
    assert_eq!((ran.out.as_str(), ran.code), ("day,n\n", 0));
    assert!(ran.err.ends_with("  balance       0 = 0 kept\n"), "{}", ran.err);
    assert!(run(harbour.path(), &["look", "x.csv"]).out.contains("0 rows, 2 columns"));
}

#[rstest]
fn rows_set_aside_can_be_read_and_set_aside_again(harbour: TempDir) {
    let aside = |file: &str, to: &str| {
        let ran = run(
            harbour.path(),
            &["latest", file, "--per", "vessel", "--date", "inspected_on", "--aside", to, "-q"],
        );
        assert_eq!((ran.code, ran.err.as_str()), (0, ""));
        fs::read_to_string(harbour.path().join(to)).unwrap()
    };
    let once = aside("inspections.csv", "once.csv");
    assert_eq!(aside("once.csv", "twice.csv"), once);
}

#[rstest]
fn columns_are_renamed_where_they_are_listed(harbour: TempDir) {
    let ran = run(
        harbour.path(),
        &["earliest", "stays.csv", "--per", "vessel as ship", "--date", "arrived", "-q"],
    );
    assert!(ran.out.starts_with("stay,ship,berth,"), "{}", ran.out);
}

#[rstest]
fn reading_options_are_used(harbour: TempDir) {
    fs::write(harbour.path().join("old.txt"), "30.06.49\tM\u{f6}we\t3,5\n01.07.49\t-\t4\n")
        .unwrap();
    let arguments = [
        "latest",
        "old.txt",
        "--date",
        "c1",
        "--no-header",
        "--separator",
        "tab",
        "--decimal-comma",
        "--missing",
        "-,NA",
        "--read",
        "c1=%d.%m.%y",
        "--century",
        "1900",
        "-q",
    ];
    assert_eq!(run(harbour.path(), &arguments).out, "c1,c2,c3\n1949-07-01,,4.0\n");
}

#[rstest]
#[case("bash")]
#[case("zsh")]
#[case("fish")]
fn shells_complete_the_commands(#[case] shell: &str) {
    let ran = run(Path::new("."), &["completions", shell]);
    assert!(ran.code == 0 && ran.out.contains("earliest") && ran.out.contains("date-order"));
}

/// The words of a command line, split as a shell would, without the name of the command.
#[test]
fn the_help_of_each_command_says_what_it_does_and_has_an_example_that_runs() {
    let harbour = harbour();
    let commands = [
        "look", "latest", "earliest", "active", "spells", "within", "elapsed", "running", "filled",
        "totals", "recent", "almanac", "filter", "add", "sort", "columns", "stack", "run",
    ];
    for command in commands {
        let help = run(harbour.path(), &[command, "--help"]).out;
        let mut lines = help.lines();
        let (does, question) = (lines.next().unwrap(), lines.next().unwrap());
        assert!(does.starts_with(char::is_uppercase) && !does.ends_with(['?', '.']), "{help}");
        assert!(question.ends_with('?'), "{help}");
        let example = help.lines().find(|line| line.starts_with("  jembric")).unwrap().trim();
        let arguments = words(example).split_off(1);
        assert_eq!(arguments[0], command);
        let ran = run(harbour.path(), &arguments.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!(ran.code, 0, "{example}: {}", ran.err);
    }
}

#[test]
fn the_demo_shows_each_command_and_its_result() {
    let ran = run(Path::new("."), &["demo"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, ""));
    let lines: Vec<&str> = ran.out.lines().filter_map(|line| line.strip_prefix("$ ")).collect();
    assert_eq!(lines.len(), 45);
    let steps_of =
        |line: &str| line.split(" | ").map(|command| command.split(" + ").count()).sum::<usize>();
    // Ten steps of the routine are needed, one of which has two ledgers.
    let steps: usize = lines
        .iter()
        .map(|line| if line.contains("jembric run ") { 11 } else { steps_of(line) })
        .sum();
    let of_two_sides = ["jembric within", "jembric changes"];
    let has_two_sides = |line: &&&str| of_two_sides.iter().any(|name| line.starts_with(name));
    let of_two_sides = lines.iter().filter(has_two_sides).count();
    assert_eq!(ran.out.matches("balance").count(), steps - 1 + of_two_sides, "all but the look");
    let harbour = harbour();
    for line in lines {
        let mut piped = Vec::new();
        let mut commands = line.split(" | ").peekable();
        while let Some(command) = commands.next() {
            let mut arguments = words(command).split_off(1);
            if commands.peek().is_none() && arguments[0] != "look" {
                let draws = arguments.iter().any(|word| word == "draw");
                let form = if draws { "text" } else { "table" };
                arguments.extend(["--format".to_owned(), form.to_owned()]);
            }
            let mut typed =
                jembric(harbour.path(), &arguments.iter().map(String::as_str).collect::<Vec<_>>());
            let output = typed.write_stdin(piped).output().unwrap();
            let err = String::from_utf8(output.stderr).unwrap();
            assert!(ran.out.contains(err.trim_end()), "{command}: {err}");
            piped = output.stdout;
        }
        assert!(ran.out.contains(&String::from_utf8(piped).unwrap()), "{line}");
    }
}

#[test]
fn the_brief_help_of_each_command_fits_a_screen() {
    let directory = Path::new(".");
    for operation in jembric::steps::OPERATIONS {
        let name = operation.name;
        let (brief, whole) = (run(directory, &[name, "-h"]), run(directory, &[name, "--help"]));
        assert_eq!(brief.code, 0, "{name}: {}", brief.err);
        assert!(brief.out.lines().count() <= 45, "{name}: {}", brief.out.lines().count());
        // An example stands on one line, to be copied.
        let mut lines = brief.out.lines().filter(|line| !line.starts_with("  jembric"));
        assert!(lines.all(|line| line.chars().count() <= 100), "{}", brief.out);
        let words = [operation.answers, "Example", "--out <FILE>"];
        let rest = format!("jembric {name} --help");
        for part in words.into_iter().chain([rest.as_str()]) {
            assert!(brief.out.contains(part), "{name}: {part}: {}", brief.out);
        }
        use jembric::Takes::{Expression, List, Several};
        let options = operation
            .settings
            .iter()
            .filter(|setting| !matches!(setting.takes, Expression | Several(_) | List(_)));
        for setting in options {
            let option = format!("--{}", setting.name);
            assert!(brief.out.contains(&option), "{name}: {option}");
        }
        assert!(whole.out.contains("--most-columns"), "{name}");
    }
    let step = run(directory, &["latest", "-", "--date", "d", "+", "filter", "-h"]);
    assert!(step.out.contains("All of it: … + filter --help"), "{}", step.out);
    assert!(!step.out.contains("Functions"), "{}", step.out);
}

/// Each interface has its own words for the settings that a warning advises.
#[rstest]
fn a_warning_names_settings_as_they_are_typed(harbour: TempDir) {
    let directory = harbour.path();
    let line = ["latest", "inspections.csv", "--per", "vessel", "--date", "inspected_on"];
    let ran = run(directory, &line);
    let advice = "Break ties with `--then`, or choose with `--ties`";
    assert!(ran.err.contains(advice), "{}", ran.err);
    let routine = "[[step]]\nread = \"inspections.csv\"\nlatest = { per = [\"vessel\"], date = \
        \"inspected_on\" }\n";
    fs::write(directory.join("r.toml"), routine).unwrap();
    let ran = run(directory, &["run", "r.toml"]);
    assert!(ran.err.contains("Break ties with `then`, or choose with `ties`"), "{}", ran.err);
}
