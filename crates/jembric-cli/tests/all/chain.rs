//! Chains of steps and routines, as a user runs them on the command line.

use crate::harness::{harbour, run, words};
use rstest::rstest;
use std::fs;
use tempfile::TempDir;

const OVERDUE: &str = "latest inspections.csv --per vessel --date inspected_on --then hull_mm + \
    elapsed --from inspected_on --to as-of \
    + filter 'elapsed_days > 120' + columns 'vessel, elapsed_days' --as-of 2025-06-30";

fn typed(directory: &TempDir, line: &str) -> crate::harness::Ran {
    let words = words(line);
    run(directory.path(), &words.iter().map(String::as_str).collect::<Vec<_>>())
}

#[rstest]
fn a_chain_and_its_saved_routine_give_the_result_of_the_single_steps(harbour: TempDir) {
    let chain = typed(&harbour, OVERDUE);
    insta::assert_snapshot!(chain.out, @"
    vessel,elapsed_days
    Ebb and Flow,140
    Wend,132
    ");
    assert_eq!(chain.err.matches("balance").count(), 4, "{}", chain.err);
    // The result of a step is passed on unchanged, although a pipe would write it and read it
    // again.
    let by_hand = [
        "latest inspections.csv --per vessel --date inspected_on --then hull_mm --out one.csv",
        "elapsed one.csv --from inspected_on --to as-of --as-of 2025-06-30 --out two.csv",
        "filter two.csv 'elapsed_days > 120' --out three.csv",
        "columns three.csv 'vessel, elapsed_days'",
    ];
    let answers = by_hand.map(|line| typed(&harbour, line).out);
    assert_eq!(answers[3], chain.out);
    fs::create_dir(harbour.path().join("reports")).unwrap();
    let saved = typed(
        &harbour,
        &format!("{OVERDUE} --missing none --save-routine reports/overdue.toml -q"),
    );
    assert_eq!((saved.out.as_str(), saved.err.as_str()), (chain.out.as_str(), ""));
    insta::assert_snapshot!(fs::read_to_string(harbour.path().join("reports/overdue.toml"))
        .unwrap(), @r#"
    as-of = "2025-06-30"

    [[step]]
    read = { file = "../inspections.csv", missing = ["none"] }
    latest = { date = "inspected_on", per = ["vessel"], then = ["hull_mm"] }

    [[step]]
    elapsed = { from = "inspected_on", to = "as-of" }

    [[step]]
    filter = "elapsed_days > 120"

    [[step]]
    columns = ["vessel", "elapsed_days"]
    "#);
    assert_eq!(typed(&harbour, "run reports/overdue.toml").out, chain.out);
    // Another date gives another result.
    assert!(
        typed(&harbour, "run reports/overdue.toml --as-of 2026-06-30").out.lines().count() > 10
    );
}

#[rstest]
fn rows_set_aside_by_several_steps_are_in_one_file(harbour: TempDir) {
    let ran = typed(
        &harbour,
        "latest inspections.csv --per vessel --date inspected_on --aside aside.csv + spells --per \
            vessel --date inspected_on --value note",
    );
    assert_eq!(ran.code, 0, "{}", ran.err);
    let aside = fs::read_to_string(harbour.path().join("aside.csv")).unwrap();
    assert!(aside.lines().next().unwrap().contains("set_aside_because"), "{aside}");
    let two_sides = typed(
        &harbour,
        "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left + \
            totals --per berth --sum tons + sort sum_tons:down",
    );
    assert!(
        two_sides.out.starts_with("berth,sum_tons\n")
            && two_sides.err.contains("sort by sum_tons:down"),
        "{}",
        two_sides.err
    );
    // A chain of events can take its windows from a file.
    let later = typed(
        &harbour,
        "filter lifts.csv 'tons > 30' + within stays.csv --match vessel --date lifted_on --window \
            arrived..left --keep stray-events + columns 'vessel, stray_because'",
    );
    assert!(later.out.contains("LONG MYRE,no window with this key"), "{} {}", later.out, later.err);
}

#[rstest]
#[case::no_step(
    "latest stays.csv --date left + lates",
    2,
    "error: there is no step `lates`. Did you mean `latest`?\n"
)]
#[case::empty(
    "latest stays.csv --date left +",
    2,
    "error: there is no step ``: a lone + must be followed by an operation"
)]
#[case::column(
    "latest stays.csv --date left --per berth + sort bert",
    1,
    "error: there is no column `bert`. Did you mean `berth` or `left`?\n"
)]
#[case::span(
    "filter stays.csv 'tons > 3' + recent --date left --last '3 moons'",
    2,
    "error: `last`: `3 moons` is not a span: expected whole days, weeks, months or years, such as \
        `9 months`, `7 days` or `P9M`"
)]
#[case::almanac(
    "filter stays.csv 'tons > 3' + almanac",
    2,
    "error: almanac cannot follow another step: begin with it"
)]
#[case::look(
    "look stays.csv + sort berth",
    2,
    "error: a lone + must follow an operation, and look is not an operation"
)]
#[case::twice(
    "sort stays.csv berth --out a.csv + filter true --out b.csv",
    2,
    "error: the argument '--out <FILE>' cannot be used multiple times"
)]
#[case::piped(
    "filter - true --save-routine r.toml",
    1,
    "error: `save-routine`: standard input, which will not be there again: expected a file to \
        read\n"
)]
#[case::upto(
    "run harbour.toml --upto tanks",
    1,
    "error: `upto`: `tanks` is not a step: expected one of current, overdue, lifts at \
        berth, lifted, levels, gauges, tank, dues by period, dues, or a number from 1 to 13"
)]
#[case::follow("run harbour.toml --follow 'vessel ='", 1, "error: ")]
#[case::no_file(
    "run harbor.toml",
    1,
    "error: harbor.toml: no such file or directory. Did you mean `harbour.toml`?\n"
)]
fn errors_in_chains_are_explained(
    harbour: TempDir,
    #[case] line: &str,
    #[case] code: i32,
    #[case] message: &str,
) {
    let ran = typed(&harbour, line);
    assert!(ran.err.starts_with(message), "{}", ran.err);
    assert_eq!((ran.out.as_str(), ran.code), ("", code));
    assert!(!harbour.path().join("r.toml").exists() && !harbour.path().join("a.csv").exists());
}

#[rstest]
fn the_harbours_report_writes_its_files(harbour: TempDir) {
    let checked = typed(&harbour, "run harbour.toml --check");
    assert!(checked.err.contains("13 steps are valid"), "{}", checked.err);
    assert!(!harbour.path().join("tank.csv").exists(), "a check writes nothing");
    let ran = typed(&harbour, "run harbour.toml --as-of 2025-06-30 --follow \"vessel = 'Petrel'\"");
    assert!(
        ran.err.starts_with("Ostrey harbour on 2025-06-30\n")
            && ran.err.contains(
                "followed      5  vessel = 'Petrel': 1 kept · 4 superseded by a \
                later record"
            ),
        "{}",
        ran.err
    );
    for file in ["overdue.csv", "lifted-2025-06-30.csv", "levels.csv", "tank.csv"] {
        assert!(
            fs::read_to_string(harbour.path().join(file)).unwrap().lines().count() > 1,
            "{file}"
        );
    }
    assert!(ran.out.starts_with("weekday,barge,"), "{}", ran.out);
    assert_eq!(typed(&harbour, "run harbour.toml --upto tank -q").out.lines().count(), 783);
    // A mistake is shown with its place in the routine.
    let text = fs::read_to_string(harbour.path().join("harbour.toml")).unwrap();
    fs::write(
        harbour.path().join("wrong.toml"),
        text.replace("per = [\"gauge\"]", "per = [\"guage\"]"),
    )
    .unwrap();
    let wrong = typed(&harbour, "run wrong.toml --check");
    insta::assert_snapshot!(wrong.err, @r#"
    error: wrong.toml: gauge.csv: there is no column `guage`. Did you mean `gauge`?
      --> wrong.toml:42:18
       |
    42 | filled = { per = ["guage"], date = "day", carry = ["level_m"], limit = 3, mark = "was_added" }
       |                  ^^^^^^^^^
    "#);
    // A step may be valid by the names of its columns and not by their types.
    fs::write(
        harbour.path().join("wrong.toml"),
        text.replace("sum = [\"tons\"]", "sum = [\"crane as sum_tons\"]"),
    )
    .unwrap();
    let wrong = typed(&harbour, "run wrong.toml --check");
    assert!(
        wrong.err.contains("column `crane` holds text, but numbers are required"),
        "{}",
        wrong.err
    );
    assert!(wrong.err.contains("The types are those of the first rows."), "{}", wrong.err);
}

/// Every question of the demo with a single command has the same result as a routine.
#[rstest]
fn every_question_of_the_demo_can_be_saved_and_run_again(harbour: TempDir) {
    let demo = run(harbour.path(), &["demo"]).out;
    let lines = demo.lines().filter_map(|line| line.strip_prefix("$ jembric "));
    let alone = lines.filter(|line| {
        !line.contains(" | ") && !line.starts_with("look") && !line.starts_with("run")
    });
    let mut asked = 0;
    for line in alone {
        let first = typed(&harbour, &format!("{line} --save-routine again.toml"));
        let again = typed(&harbour, "run again.toml");
        assert_eq!((&again.out, again.code), (&first.out, 0), "{line}: {}", again.err);
        fs::remove_file(harbour.path().join("again.toml")).unwrap();
        asked += 1;
    }
    assert!(asked > 20);
}

#[rstest]
fn a_table_keeps_its_types_through_files_and_pipes(harbour: TempDir) {
    let direct = typed(
        &harbour,
        "active stays.csv --start arrived --end left --grain month --count + totals --date month \
            --grain year --max most_at_once -q",
    );
    for file in
        ["months.parquet", "months.arrow", "months.arrows", "months.csv.gz", "months.csv.zst"]
    {
        let made = typed(
            &harbour,
            &format!(
                "active stays.csv --start arrived --end left --grain month --count --out {file} -q"
            ),
        );
        assert_eq!((made.code, made.err.as_str()), (0, ""));
        let again = typed(
            &harbour,
            &format!("totals {file} --date month --grain year --max most_at_once -q"),
        );
        assert_eq!(again.out, direct.out, "{file}: {}", again.err);
    }
    let piped = crate::harness::jembric(
        harbour.path(),
        &["sort", "dues.csv", "amount", "--format", "arrow"],
    )
    .output()
    .unwrap();
    let read = crate::harness::jembric(harbour.path(), &["columns", "-", "invoice, amount", "-q"])
        .write_stdin(piped.stdout)
        .output()
        .unwrap();
    assert!(String::from_utf8(read.stdout).unwrap().starts_with("invoice,amount\n00503,64.02\n"));
    let checked = typed(&harbour, "sort months.parquet amont");
    assert_eq!(
        checked.err,
        "error: months.parquet: there is no column `amont`. Did you mean `month`?\n"
    );
    let text = typed(&harbour, "totals months.parquet --date active");
    assert!(
        text.err.contains("column `active` holds whole numbers, but dates are required"),
        "{}",
        text.err
    );
    let packed = typed(&harbour, "sort stays.csv berth --out stays.parquet.gz");
    assert_eq!(
        packed.err,
        "error: `out`: `stays.parquet.gz`: expected a name without .gz or .zst\n"
    );
}

const TWO_FILES: &str = "[[step]]\nread = \"stays.csv\"\nfilter = \"tons > 0\"\nwrite \
    = \"kept.csv\"\n\n[[step]]\nsort = [\"tons\"]\n";

/// If the reader stops after the first line, the printing ends, but other outputs are still
/// written.
#[cfg(unix)]
#[rstest]
#[case("run two.toml --aside aside.csv", &["kept.csv", "aside.csv"])]
#[case("sort stays.csv tons --save-routine saved.toml --aside aside.csv", &["saved.toml",
    "aside.csv"])]
fn a_closed_pipe_ends_the_printing_and_not_the_work(
    harbour: TempDir,
    #[case] line: &str,
    #[case] written: &[&str],
) {
    fs::write(harbour.path().join("two.toml"), TWO_FILES).unwrap();
    // Many rows, so that the pipe is full long before the last is printed.
    let stays = fs::read_to_string(harbour.path().join("stays.csv")).unwrap();
    let (header, rows) = stays.split_once('\n').unwrap();
    fs::write(harbour.path().join("stays.csv"), format!("{header}\n{}", rows.repeat(200))).unwrap();
    let mut running = std::process::Command::new(env!("CARGO_BIN_EXE_jembric"))
        .args(words(line))
        .current_dir(harbour.path())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    drop(running.stdout.take());
    assert!(running.wait().unwrap().success());
    for name in written {
        assert!(fs::metadata(harbour.path().join(name)).unwrap().len() > 0, "{name}");
    }
}

/// No output replaces an input or another output, however both are given.
#[rstest]
#[case::routine_onto_input(
    "sort stays.csv tons --save-routine ./stays.csv",
    "error: ./stays.csv: this output would overwrite an input file. Choose another file"
)]
#[case::routine_onto_result(
    "sort stays.csv tons --save-routine o.csv --out ./o.csv",
    "the result (--out) and the routine (--save-routine)"
)]
#[case::routine_onto_aside(
    "sort stays.csv tons --save-routine o.csv --aside ./o.csv",
    "the rows set aside (--aside) and the routine (--save-routine)"
)]
#[case::onto_holidays(
    "elapsed dues.csv --from due --to paid --unit workdays --holidays holidays.csv --out \
        holidays.csv",
    "error: holidays.csv: this output would overwrite an input file. Choose another file"
)]
#[case::onto_entities(
    "filled gauge.csv --per gauge --date day --entities vessels.csv:vessel --out ./vessels.csv",
    "error: ./vessels.csv: this output would overwrite an input file. Choose another file"
)]
#[case::onto_windows(
    "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left --aside \
        stays.csv",
    "error: stays.csv: this output would overwrite an input file. Choose another file"
)]
#[case::onto_the_routine(
    "run two.toml --out two.toml --format csv",
    "error: two.toml: this output would overwrite an input file. Choose another file"
)]
#[case::onto_a_step(
    "run two.toml --aside ./kept.csv",
    "the result of step 1 and the rows set aside (--aside)"
)]
#[case::result_onto_a_step(
    "run two.toml --out kept.csv",
    "the result of step 1 and the result (--out)"
)]
fn overwriting_is_refused_before_anything_is_read(
    harbour: TempDir,
    #[case] line: &str,
    #[case] said: &str,
) {
    fs::write(harbour.path().join("two.toml"), TWO_FILES).unwrap();
    let before = contents(&harbour);
    let ran = typed(&harbour, line);
    assert_eq!((ran.code, ran.out.as_str()), (1, ""), "{}", ran.err);
    assert!(ran.err.contains(said), "{}", ran.err);
    assert!(contents(&harbour) == before, "nothing is written");
}

fn contents(directory: &TempDir) -> Vec<(String, String)> {
    let files = fs::read_dir(directory.path()).unwrap().map(|entry| entry.unwrap().path());
    let mut files: Vec<(String, String)> =
        files.map(|path| (path.display().to_string(), fs::read_to_string(path).unwrap())).collect();
    files.sort();
    files
}

/// The temporary file of a workbook is beside its target. If that directory is not writable, an
/// error says so.
#[cfg(unix)]
#[rstest]
#[case(&["--out", "o.xlsx"], 0, "")]
#[case(&["--format", "xlsx"], 1, "error: standard output: could not be written: ")]
fn a_workbook_needs_no_space_in_the_temporary_directory_of_the_system(
    harbour: TempDir,
    #[case] to: &[&str],
    #[case] code: i32,
    #[case] said: &str,
) {
    let ran = crate::harness::jembric(
        harbour.path(),
        &[&["sort", "stays.csv", "tons", "-q"], to].concat(),
    )
    .env("TMPDIR", harbour.path().join("nowhere"))
    .output()
    .unwrap();
    let err = String::from_utf8_lossy(&ran.stderr).into_owned();
    assert_eq!(ran.status.code(), Some(code), "{err}");
    assert!(err.starts_with(said) && !err.contains("panicked"), "{err}");
}
