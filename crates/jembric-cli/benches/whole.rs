//! `jembric latest` as a whole process on a large file, beside a process that only reads that file into a table.

#[path = "../../../benches/lifts.rs"]
mod lifts;
#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group};
use std::{
    path::Path,
    process::{Command, Stdio},
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;

fn whole(criterion: &mut Criterion) {
    let path = lifts::file(ROWS);
    let this = std::env::current_exe().expect("this bench");
    ratio::compare(
        criterion,
        "`jembric latest` as a whole process",
        ("read alone", || run(Command::new(&this).env("READ", &path))),
        ("latest", || run(&mut latest(&path))),
        Some(1.4),
    );
    let (peak, size) =
        (lifts::peak_of_a_run(&mut latest(&path)), std::fs::metadata(&path).expect("the file").len());
    println!(
        "RATIO peak memory of `jembric latest` to the size of the file: {} MB / {} MB = {:.2}",
        peak / 1_000_000,
        size / 1_000_000,
        peak as f64 / size as f64
    );
}

fn latest(path: &Path) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_jembric"));
    command.arg("latest").arg(path).args([
        "--per",
        "vessel",
        "--date",
        "lifted_on",
        "--quiet",
        "--format",
        "csv",
    ]);
    command
}

fn run(command: &mut Command) {
    let ended = command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("a process");
    assert!(ended.success(), "{command:?}");
}

criterion_group!(benches, whole);
fn main() {
    if let Some(path) = std::env::var_os("READ") {
        println!("{}", jembric::io::read(path).expect("a table").rows());
        return;
    }
    benches();
    Criterion::default().configure_from_args().final_summary();
}
