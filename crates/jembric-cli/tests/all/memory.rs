//! `--memory`: tables that are larger than memory give the same files, wherever they come from, and
//! temporary files never remain.

use crate::harness::{jembric, run};
use rstest::{fixture, rstest};
use std::{
    fmt::Write as _,
    fs,
    path::Path,
    process::{Command, Stdio},
    sync::OnceLock,
    time::Duration,
};
use tempfile::TempDir;

/// The least memory that the command accepts, of which this table needs far more than its share.
const LITTLE: &str = "16MiB";
const ROWS: u64 = 100_000;

/// Stays of vessels. Their numbers are mixed, so that they are in no order.
fn stays() -> &'static str {
    static TEXT: OnceLock<String> = OnceLock::new();
    TEXT.get_or_init(|| {
        let mut text = "vessel,arrived,left,tons\n".to_owned();
        for row in 0..ROWS {
            let mixed = row.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 40;
            let (month, day) = (mixed / 28 % 12 + 1, mixed % 28 + 1);
            let left = if mixed % 50 == 0 { String::new() } else { format!("2025-{month:02}-28") };
            let vessel =
                if mixed % 97 == 0 { String::new() } else { format!("vessel {}", row % 9_001) };
            // The last rows show that the column holds decimals.
            let tons = if row + 3 > ROWS { "0.5".to_owned() } else { (mixed % 1_000).to_string() };
            writeln!(text, "{vessel},2025-{month:02}-{day:02},{left},{tons}").unwrap();
        }
        text
    })
}

#[fixture]
fn harbour() -> TempDir {
    let directory = tempfile::tempdir().unwrap();
    fs::write(directory.path().join("stays.csv"), stays()).unwrap();
    let windows: Vec<&str> = stays().lines().step_by(7).collect();
    fs::write(directory.path().join("calls.csv"), windows.join("\n") + "\n").unwrap();
    directory
}

/// The names of the files in a directory.
fn files(directory: &Path) -> Vec<String> {
    let entries = fs::read_dir(directory).unwrap().flatten();
    let mut names: Vec<String> =
        entries.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// Runs a command with all memory and with little, and requires the same result, ledger and rows
/// set aside.
fn assert_same(directory: &Path, arguments: &str) {
    let words = crate::harness::words(arguments);
    let outputs = |memory: &[&str]| {
        let mut all: Vec<&str> = words.iter().map(String::as_str).collect();
        all.extend(["--out", "out.csv", "--aside", "aside.csv", "--reconcile", "tons"]);
        all.extend(memory);
        let ran = run(directory, &all);
        assert_eq!(ran.code, 0, "{arguments}: {}", ran.err);
        let file = |name: &str| fs::read(directory.join(name)).unwrap();
        (ran.err, file("out.csv"), file("aside.csv"))
    };
    let before = files(directory);
    let (ledger, out, aside) = outputs(&["--memory", LITTLE]);
    let whole = outputs(&[]);
    assert_eq!(ledger, whole.0, "{arguments}");
    assert!(out == whole.1, "{arguments}: the results differ");
    assert!(aside == whole.2, "{arguments}: the rows set aside differ");
    let more: Vec<String> =
        files(directory).into_iter().filter(|name| !before.contains(name)).collect();
    assert!(more.iter().all(|name| name.ends_with(".csv")), "{more:?}");
}

#[rstest]
#[case::by_row("filter stays.csv 'tons > 500' + add 'more = tons * 2'")]
#[case::one_pass("latest stays.csv --per vessel --date arrived --ties first")]
#[case::counts("active stays.csv --start arrived --end left --count --grain week")]
#[case::by_entity("running stays.csv --per vessel --date arrived --sum tons --max tons")]
#[case::series("spells stays.csv --per vessel --start arrived --end left")]
#[case::sorted("sort stays.csv tons:down,vessel")]
#[case::join(
    "within stays.csv calls.csv --match vessel --date arrived --window arrived..left \
              --pick first --bring tons as lifted"
)]
#[case::by_date("running stays.csv --date arrived --sum tons --mean tons --count")]
#[case::a_span("running stays.csv --date arrived --max tons --trailing '3 days' --row-by-row")]
#[case::spells_of_all("spells stays.csv --start arrived --end left")]
#[case::join_without_keys(
    "within stays.csv calls.csv --date arrived --window arrived..arrived --pick first \
     --bring vessel"
)]
#[case::chain(
    "sort stays.csv arrived + running --per vessel --date arrived --count + filter \
               'count_so_far > 20'"
)]
fn little_memory_gives_the_same_files(harbour: TempDir, #[case] arguments: &str) {
    let arguments = arguments.replace("--bring tons as lifted", "--bring 'tons as lifted'");
    assert_same(harbour.path(), &arguments);
}

#[rstest]
#[case::parquet("stays.parquet")]
#[case::arrow("stays.arrow")]
#[case::gzip("stays.csv.gz")]
#[case::zstd("stays.csv.zst")]
fn any_format_may_be_larger_than_memory(harbour: TempDir, #[case] file: &str) {
    jembric(harbour.path(), &["columns", "stays.csv", "vessel,arrived,left,tons", "--out", file])
        .assert()
        .success();
    assert_same(harbour.path(), &format!("running {file} --per vessel --date arrived --sum tons"));
}

#[rstest]
fn a_pipe_and_another_encoding_may_be_larger_than_memory(harbour: TempDir) {
    let text: Vec<u8> = stays().encode_utf16().flat_map(u16::to_le_bytes).collect();
    fs::write(harbour.path().join("utf16.csv"), [&[0xFF, 0xFE][..], &text].concat()).unwrap();
    let returns = stays().replace('\n', "\r");
    fs::write(harbour.path().join("returns.csv"), returns).unwrap();
    let arguments = ["latest", "-", "--per", "vessel", "--date", "arrived", "--ties", "first"];
    let read = |file: &str, memory: &[&str]| {
        let text = fs::read(harbour.path().join(file)).unwrap();
        let all = [&arguments[..], memory].concat();
        let output = jembric(harbour.path(), &all).write_stdin(text).output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        output.stdout
    };
    let expected = read("stays.csv", &[]);
    for file in ["stays.csv", "utf16.csv", "returns.csv"] {
        let little = read(file, &["--memory", LITTLE, "--scratch", "."]);
        assert!(little == expected, "{file}");
    }
    assert!(files(harbour.path()).iter().all(|name| name.ends_with(".csv")));
}

#[rstest]
fn a_routine_has_its_memory(harbour: TempDir) {
    let routine = "memory = \"16MiB\"\n[[step]]\nread = \"stays.csv\"\nrunning = { per = \
        [\"vessel\"], date = \"arrived\", sum = [\"tons\"] }\nwrite = \"sums.csv\"\n[[step]]\ntotals \
        = { per = [\"vessel\"], max = [\"sum_so_far_tons\"] }\n";
    fs::write(harbour.path().join("little.toml"), routine).unwrap();
    let whole = routine.replace("memory = \"16MiB\"\n", "");
    fs::write(harbour.path().join("whole.toml"), whole).unwrap();
    let little = run(harbour.path(), &["run", "little.toml"]);
    let sums = fs::read(harbour.path().join("sums.csv")).unwrap();
    let whole = run(harbour.path(), &["run", "whole.toml"]);
    assert_eq!((little.code, &little.out, &little.err), (0, &whole.out, &whole.err));
    assert!(sums == fs::read(harbour.path().join("sums.csv")).unwrap());
    let wrong = routine.replace("16MiB", "1MiB");
    fs::write(harbour.path().join("wrong.toml"), wrong).unwrap();
    let wrong = run(harbour.path(), &["run", "wrong.toml"]);
    assert!(
        wrong.err.contains("at least 16MiB") && wrong.err.contains("wrong.toml:1:10"),
        "{}",
        wrong.err
    );
}

#[rstest]
#[case::too_little("--memory 15MiB", "at least 16MiB")]
#[case::no_size("--memory much", "a number and its unit, such as 512MiB or 2GiB")]
#[case::no_directory("--memory 16MiB --scratch none", "none: no such file or directory. Set")]
#[case::all_at_once("--memory 16MiB", "needs 100000 rows at once")]
fn a_budget_that_is_not_enough_says_what_to_do(
    harbour: TempDir,
    #[case] options: &str,
    #[case] expected: &str,
) {
    let running = if expected.contains("at once") {
        "latest stays.csv --date arrived --mark is_latest"
    } else {
        "running stays.csv --per vessel --date arrived --sum tons"
    };
    let line = format!("{running} --out out.csv {options}");
    let words = crate::harness::words(&line);
    let ran = run(harbour.path(), &words.iter().map(String::as_str).collect::<Vec<_>>());
    assert!(ran.err.contains(expected), "{}", ran.err);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert_eq!(files(harbour.path()), ["calls.csv", "stays.csv"]);
    // The suggested budget works.
    if let Some((_, needed)) = ran.err.split_once("Set more: `--memory ") {
        let needed = needed.split('`').next().unwrap();
        let line = format!("{running} --out out.csv --memory {needed}");
        let words = crate::harness::words(&line);
        let ran = run(harbour.path(), &words.iter().map(String::as_str).collect::<Vec<_>>());
        assert_eq!(ran.code, 0, "{}", ran.err);
    }
}

#[rstest]
#[case::interrupt("-INT")]
#[case::terminate("-TERM")]
fn a_signal_leaves_no_temporary_files(harbour: TempDir, #[case] signal: &str) {
    for wait in [100, 400, 1_500] {
        let mut running = Command::new(env!("CARGO_BIN_EXE_jembric"))
            .args(["running", "stays.csv", "--per", "vessel", "--date", "arrived", "--sum", "tons"])
            .args(["--memory", LITTLE, "--out", "out.csv"])
            .current_dir(harbour.path())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        std::thread::sleep(Duration::from_millis(wait));
        let _ = Command::new("kill").args([signal, &running.id().to_string()]).status();
        running.wait().unwrap();
        let _ = fs::remove_file(harbour.path().join("out.csv"));
        assert_eq!(files(harbour.path()), ["calls.csv", "stays.csv"], "after {wait} ms");
    }
}

/// What a killed run left behind is removed by the next one.
#[rstest]
fn a_killed_run_is_cleaned_up_by_the_next(harbour: TempDir) {
    let arguments = ["sort", "stays.csv", "tons", "--memory", LITTLE, "--out", "out.csv"];
    let has_scratch = || files(harbour.path()).iter().any(|name| name.ends_with(".scratch"));
    let mut running = Command::new(env!("CARGO_BIN_EXE_jembric"))
        .args(arguments)
        .current_dir(harbour.path())
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    while !has_scratch() && running.try_wait().unwrap().is_none() {
        std::thread::sleep(Duration::from_millis(1));
    }
    running.kill().unwrap();
    running.wait().unwrap();
    assert!(has_scratch(), "the run ended before it was killed");
    jembric(harbour.path(), &arguments).assert().success();
    assert_eq!(files(harbour.path()), ["calls.csv", "out.csv", "stays.csv"]);
}

/// Starts the command in a shell that first takes away the space for its files.
fn without_space(directory: &Path, first: &str, scratch: &str) -> std::process::Output {
    let line = format!("{first} && exec \"$@\"");
    let sort = ["sort", "stays.csv", "tons", "--memory", LITTLE, "--out", "out.csv"];
    Command::new("unshare")
        .args(["--map-root-user", "--mount", "sh", "-c", &line, "sh"])
        .arg(env!("CARGO_BIN_EXE_jembric"))
        .args(sort)
        .args(["--scratch", scratch])
        .current_dir(directory)
        .output()
        .unwrap()
}

#[rstest]
#[case::full_disk("mount -t tmpfs -o size=1m tmpfs space", "space: the disk is full")]
#[case::limited_files("trap '' XFSZ && ulimit -f 400", "File too large")]
fn a_full_disk_is_an_error_that_leaves_nothing(
    harbour: TempDir,
    #[case] first: &str,
    #[case] expected: &str,
) {
    fs::create_dir(harbour.path().join("space")).unwrap();
    if !without_space(harbour.path(), "true", "space").status.success() {
        eprintln!("not tested, because this user cannot have mounts of its own");
        return;
    }
    fs::remove_file(harbour.path().join("out.csv")).unwrap();
    let ended = without_space(harbour.path(), first, "space");
    let said = String::from_utf8_lossy(&ended.stderr);
    assert_eq!(ended.status.code(), Some(1), "{said}");
    assert!(said.contains(expected) && said.contains("--scratch DIR"), "{said}");
    assert_eq!(files(harbour.path()), ["calls.csv", "space", "stays.csv"]);
    assert!(files(&harbour.path().join("space")).is_empty());
}
