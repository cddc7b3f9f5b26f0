//! Runs commands on tables that are larger than the memory they may use, at any size:
//! `ROWS=100000000 MEMORY=512MiB cargo bench -p jembric-cli --bench larger`.
//!
//! Beside each command runs a process that only reads the files in batches (this bench itself, with
//! `KERNEL` in its environment), and the same command without a limit, unless `COMPARE=no`.
//! `FORMAT=parquet` reads Parquet, and `ONLY=latest,sort` runs some of the commands. The files are
//! made in the directory for temporary files, once for each size.

#[path = "../../../benches/lifts.rs"]
#[allow(dead_code)]
mod lifts;
#[path = "../../jembric/examples/make_stays.rs"]
#[allow(dead_code)]
mod make_stays;

use jembric::io::{Data, Memory, Reading, Size};
use make_stays::Sizes;
use std::{
    env,
    path::{Path, PathBuf},
    process::Command,
    sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed},
    thread,
    time::{Duration, Instant},
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// A command, and what it reads.
struct Bench {
    name: &'static str,
    words: &'static [&'static str],
    /// The columns that it needs, if not all.
    columns: &'static str,
    /// Whether it has a second file.
    has_second: bool,
}

const fn bench(name: &'static str, words: &'static [&'static str], columns: &'static str) -> Bench {
    Bench { name, words, columns, has_second: false }
}

const COMMANDS: &[Bench] = &[
    bench("latest", &["--per", "vessel", "--date", "arrived", "--ties", "first"], ""),
    bench(
        "totals",
        &["--per", "vessel", "--date", "arrived", "--grain", "month", "--sum", "tons"],
        "vessel,arrived,tons",
    ),
    bench("active", &["--start", "arrived", "--end", "left", "--count"], "arrived,left"),
    bench("running", &["--per", "vessel", "--date", "arrived", "--sum", "tons"], ""),
    bench(
        "filled",
        &[
            "--per",
            "vessel",
            "--date",
            "arrived",
            "--range",
            "2020-01-01..2020-04-09",
            "--carry",
            "tons",
        ],
        "",
    ),
    bench(
        "spells",
        &["--per", "vessel", "--start", "arrived", "--end", "left"],
        "vessel,arrived,left",
    ),
    Bench {
        name: "within",
        words: &["--match", "vessel", "--date", "arrived", "--window", "arrived..left"],
        columns: "",
        has_second: true,
    },
    bench("sort", &["tons:down,arrived"], ""),
];

fn setting(name: &str, default: &str) -> String {
    env::var(name).unwrap_or_else(|_| default.to_owned())
}

fn main() {
    if let (Ok(files), Ok(memory)) = (env::var("KERNEL"), env::var("MEMORY")) {
        let memory = memory.parse::<Size>().expect("a size");
        return read_alone(files.split(':'), &setting("COLUMNS", ""), memory);
    }
    let rows: u64 = setting("ROWS", "10000000").parse().expect("a number of rows");
    let (memory, format) = (setting("MEMORY", "256MiB"), setting("FORMAT", "csv"));
    let (compares, only) = (setting("COMPARE", "yes") == "yes", setting("ONLY", ""));
    let stays = made(rows, &format);
    let calls = || made(rows / 2, &format);
    println!("{rows} rows of {}, {memory} of memory", stays.display());
    for Bench { name, words, columns, has_second } in COMMANDS {
        if !only.is_empty() && !only.split(',').any(|one| one == *name) {
            continue;
        }
        let mut files = vec![stays.clone()];
        files.extend(has_second.then(calls));
        let reading = Ran::of(kernel(&files, &memory).env("COLUMNS", columns));
        let limited = Ran::of(&mut jembric(name, &files, words, Some(&memory)));
        let in_memory = compares.then(|| Ran::of(&mut jembric(name, &files, words, None)));
        println!(
            "RATIO {name}: {:.1} s, {:.2} times reading alone{}; peak {} MiB; {} MiB in temporary \
                files",
            limited.seconds,
            limited.seconds / reading.seconds,
            in_memory.map_or(String::new(), |whole| format!(
                ", {:.2} times without a limit (peak {} MiB)",
                limited.seconds / whole.seconds,
                whole.peak >> 20
            )),
            limited.peak >> 20,
            limited.spilled >> 20,
        );
    }
}

/// The file with so many stays, each vessel with a hundred of them.
fn made(rows: u64, format: &str) -> PathBuf {
    let path = env::temp_dir().join(format!("jembric-stays-{rows}.{format}"));
    if !path.exists() {
        let sizes = Sizes { rows, vessels: (rows / 100).clamp(1, 1_000_000), days: 2_000 };
        make_stays::write(sizes, &path.display().to_string()).expect("room on the disk");
    }
    path
}

/// Reads files in batches, and does nothing else.
fn read_alone<'a>(files: impl Iterator<Item = &'a str>, columns: &str, memory: Size) {
    let memory = Memory::of(memory.0, env::temp_dir());
    let reading = match columns {
        "" => Reading::new(),
        columns => Reading::new().only(columns.split(',')),
    };
    for file in files {
        let mut rows = 0;
        match reading.data(file, &memory).expect("a table") {
            Data::Table(table) => rows = table.rows(),
            Data::Larger(scan) => scan
                .each(&mut |batch| {
                    rows += batch.rows();
                    Ok(())
                })
                .expect("all rows"),
            _ => {}
        }
        println!("{rows}");
    }
}

fn kernel(files: &[PathBuf], memory: &str) -> Command {
    let files: Vec<String> = files.iter().map(|file| file.display().to_string()).collect();
    let mut command = Command::new(env::current_exe().expect("this bench"));
    command.env("KERNEL", files.join(":")).env("MEMORY", memory);
    command
}

/// The command, with the result in a file.
fn jembric(name: &str, files: &[PathBuf], words: &[&str], memory: Option<&str>) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_jembric"));
    command.arg(name).args(files).args(words).arg("--quiet");
    command.arg("--out").arg(out());
    command.args(["--memory", memory.unwrap_or("1TiB")]).arg("--scratch").arg(scratch());
    command
}

fn out() -> PathBuf {
    env::temp_dir().join(format!("jembric-larger-{}.arrow", std::process::id()))
}

fn scratch() -> PathBuf {
    let directory = env::temp_dir().join(format!("jembric-scratch-{}", std::process::id()));
    std::fs::create_dir_all(&directory).expect("a directory");
    directory
}

/// What a process took.
struct Ran {
    seconds: f64,
    peak: u64,
    /// The most bytes in temporary files at one time.
    spilled: u64,
}

impl Ran {
    fn of(command: &mut Command) -> Ran {
        let (spilled, ended) = (AtomicU64::new(0), AtomicBool::new(false));
        let scratch = scratch();
        thread::scope(|scope| {
            scope.spawn(|| {
                while !ended.load(Relaxed) {
                    spilled.fetch_max(size(&scratch), Relaxed);
                    thread::sleep(Duration::from_millis(50));
                }
            });
            let began = Instant::now();
            let peak = lifts::peak_of_a_run(command);
            let seconds = began.elapsed().as_secs_f64();
            ended.store(true, Relaxed);
            let _ = std::fs::remove_file(out());
            Ran { seconds, peak, spilled: spilled.load(Relaxed) }
        })
    }
}

/// The bytes of the files in a directory and those in it.
fn size(directory: &Path) -> u64 {
    let entries = std::fs::read_dir(directory).into_iter().flatten().flatten();
    let sizes = entries.map(|entry| match entry.metadata() {
        Ok(about) if about.is_dir() => size(&entry.path()),
        Ok(about) => about.len(),
        Err(_) => 0,
    });
    sizes.sum()
}
