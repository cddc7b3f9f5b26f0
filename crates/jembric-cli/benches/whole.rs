//! Runs commands as whole processes on a large file. Beside each runs a process that does only the
//! least work: this bench itself, with `KERNEL` in its environment.

#[path = "../../../benches/lifts.rs"]
mod lifts;
#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group};
use jembric::{Add, Filter, Latest, Totals};
use std::{
    path::Path,
    process::{Command, Stdio},
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;

fn whole(criterion: &mut Criterion) {
    let path = lifts::file(ROWS);
    ratio::compare(
        criterion,
        "`jembric latest` as a whole process",
        ("read alone", || run(&mut kernel("read", &path))),
        ("latest", || run(&mut latest(&path))),
        Some(1.4),
    );
    let (peak, size) = (
        lifts::peak_of_a_run(&mut latest(&path)),
        std::fs::metadata(&path).expect("the file").len(),
    );
    println!(
        "RATIO peak memory of `jembric latest` to the size of the file: {} MB / {} MB = {:.2}",
        peak / 1_000_000,
        size / 1_000_000,
        peak as f64 / size as f64
    );

    ratio::compare(
        criterion,
        "a chain of four steps",
        ("reading, the four steps one by one, writing", || run(&mut kernel("steps", &path))),
        ("chain", || run(&mut chain(&path))),
        Some(1.1),
    );

    let parquet = path.with_extension("parquet");
    if !parquet.exists() {
        jembric::io::write(&jembric::io::read(&path).expect("a table"), &parquet)
            .expect("room on the disk");
    }
    let two = || {
        let mut command = jembric(&parquet, &["latest"]);
        command.args([
            "--per",
            "vessel",
            "--date",
            "lifted_on",
            "--quiet",
            "+",
            "columns",
            "vessel,lifted_on",
        ]);
        command
    };
    ratio::compare(
        criterion,
        "`jembric latest` from Parquet, the two columns",
        ("reading the two columns", || run(&mut kernel("two columns", &parquet))),
        ("latest + columns", || run(&mut two())),
        Some(1.5),
    );
    ratio::compare(
        criterion,
        "`jembric latest` from Parquet, whole records",
        ("reading the two columns", || run(&mut kernel("two columns", &parquet))),
        ("latest", || run(&mut latest(&parquet))),
        None,
    );
}

/// Runs this bench as a process that does the least work.
fn kernel(name: &str, path: &Path) -> Command {
    let mut command = Command::new(std::env::current_exe().expect("this bench"));
    command.env("KERNEL", name).env("ON", path);
    command
}

const CHAIN: [&str; 4] = ["tons > 250", "month = period(lifted_on, month)", "vessel", "month"];

/// What a kernel's process does.
fn least_work(name: &str, path: &Path) {
    let table = match name {
        "two columns" => jembric::io::Reading::new().only(["vessel", "lifted_on"]).file(path),
        "steps" => jembric::io::Reading::new().only(["vessel", "lifted_on", "tons"]).file(path),
        _ => jembric::io::read(path),
    };
    let mut table = table.expect("a table");
    if name == "steps" {
        let [condition, addition, vessel, month] = CHAIN;
        table = Filter::new(condition).apply(&table).expect("a filter").table;
        table = Add::new([addition]).apply(&table).expect("a column").table;
        let totals = Totals::new().per([vessel, month]).sum(["tons"]);
        table = totals.apply(&table).expect("totals").table;
        table = Latest::new(month).per([vessel]).apply(&table).expect("the latest").table;
        jembric::io::Writing::new()
            .write(&table, &mut std::io::stdout())
            .expect("somewhere to write");
    }
    println!("{}", table.rows());
}

fn chain(path: &Path) -> Command {
    let [condition, addition, vessel, month] = CHAIN;
    let mut command = jembric(path, &["filter"]);
    command.args([condition, "--quiet", "--format", "csv", "+", "add", addition]);
    command.args(["+", "totals", "--per", &format!("{vessel},{month}"), "--sum", "tons"]);
    command.args(["+", "latest", "--per", vessel, "--date", month]);
    command
}

/// The command on a file.
fn jembric(path: &Path, words: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_jembric"));
    command.args(words).arg(path);
    command
}

fn latest(path: &Path) -> Command {
    let mut command = jembric(path, &["latest"]);
    command.args(["--per", "vessel", "--date", "lifted_on", "--quiet", "--format", "csv"]);
    command
}

fn run(command: &mut Command) {
    let ended = command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("a process");
    assert!(ended.success(), "{command:?}");
}

criterion_group!(benches, whole);
fn main() {
    if let (Ok(kernel), Some(path)) = (std::env::var("KERNEL"), std::env::var_os("ON")) {
        return least_work(&kernel, Path::new(&path));
    }
    benches();
    Criterion::default().configure_from_args().final_summary();
}
