//! Runs commands as whole processes, from a file to a file:
//!
//! - `cargo bench -p jembric-cli --features full --bench commands`: each beside a process that only
//!   reads the file, and with one thread; also the peak of its memory.
//! - `GROWTH=yes`: each on twice as many rows, with few and with many rows for each entity, and
//!   with all rows on one date; also a table with twice as many columns, and a routine with twice
//!   as many steps.
//! - `MEMORY=512MiB`: each with a limit on memory, beside the same without one, unless
//!   `COMPARE=no`. `ONLY=keys` has a key of more than twelve bytes for each row.
//!
//! `ROWS=100000000` sets the number of rows, `FORMAT=parquet` the format, and `ONLY=latest,sort`
//! runs some of the commands. Each runs three times for a median, or `ROUNDS` times. What only
//! reads is this bench itself, with `KERNEL` in its environment. The files are made in the
//! directory for temporary files, once for each size.

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

/// More memory than any machine has.
const NO_LIMIT: &str = "1TiB";
/// How often a command runs for a median.
fn rounds() -> usize {
    setting("ROUNDS", "3").parse().expect("a number of rounds")
}

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
    bench("latest", &["latest", "--per", "vessel", "--date", "arrived", "--ties", "first"], ""),
    bench(
        "totals",
        &["totals", "--per", "vessel", "--date", "arrived", "--grain", "month", "--sum", "tons"],
        "vessel,arrived,tons",
    ),
    bench("active", &["active", "--start", "arrived", "--end", "left", "--count"], "arrived,left"),
    bench("running", &["running", "--per", "vessel", "--date", "arrived", "--sum", "tons"], ""),
    bench(
        "filled",
        &[
            "filled",
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
        &["spells", "--per", "vessel", "--start", "arrived", "--end", "left"],
        "vessel,arrived,left",
    ),
    Bench {
        name: "within",
        words: &["within", "--match", "vessel", "--date", "arrived", "--window", "arrived..left"],
        columns: "",
        has_second: true,
    },
    bench("sort", &["sort", "tons:down,arrived"], ""),
    bench("sort by a number", &["sort", "tons"], ""),
    bench("sort by text and date", &["sort", "vessel,arrived"], ""),
];

/// A kind of stays, of which the commands read some and then twice as many.
struct Shape {
    name: &'static str,
    /// The numbers of vessels and days, from the number of rows.
    sizes: fn(u64) -> (u64, u64),
    /// The commands that have a result for them.
    commands: &'static [&'static str],
}

const SHAPES: &[Shape] = &[
    Shape {
        name: "a hundred rows for each entity",
        sizes: |rows| (rows / 100, 2_000),
        commands: &["latest", "totals", "active", "running", "filled", "spells", "within", "sort"],
    },
    Shape {
        name: "one row for each entity",
        sizes: |rows| (rows, 2_000),
        commands: &["latest", "totals", "running", "spells", "within", "sort by text and date"],
    },
    Shape {
        name: "one entity with all rows",
        sizes: |rows| (1, rows / 10),
        commands: &["latest", "totals", "running", "spells", "overlapping", "sort"],
    },
    Shape {
        name: "all rows on one date",
        sizes: |rows| (rows / 100, 1),
        commands: &["latest", "totals", "active", "running", "spells", "overlapping", "sort"],
    },
];

/// Many windows contain the same event, so each event is joined with one of them only.
const OVERLAPPING: Bench = Bench {
    name: "overlapping",
    words: &["within", "--date", "arrived", "--window", "arrived..left", "--pick", "first"],
    columns: "",
    has_second: true,
};

fn setting(name: &str, default: &str) -> String {
    env::var(name).unwrap_or_else(|_| default.to_owned())
}

fn main() {
    if let Ok(files) = env::var("KERNEL") {
        let memory = setting("MEMORY", NO_LIMIT).parse::<Size>().expect("a size");
        return read_alone(files.split(':'), &setting("COLUMNS", ""), memory);
    }
    let rows: u64 = setting("ROWS", "10000000").parse().expect("a number of rows");
    let format = setting("FORMAT", "csv");
    match (env::var("MEMORY"), setting("GROWTH", "no") == "yes") {
        (Ok(memory), _) => limited(rows, &format, &memory),
        (Err(_), true) => growing(rows, &format),
        (Err(_), false) => whole(rows, &format),
    }
}

/// Whether a bench was asked for.
fn is_asked(name: &str) -> bool {
    let only = setting("ONLY", "");
    only.is_empty() || only.split(',').any(|one| one == name)
}

/// Measures the commands without a limit, with two threads and with one, and reading alone.
fn whole(rows: u64, format: &str) {
    let stays = made(rows, format);
    let calls = || made(rows / 2, format);
    let size = |file: &Path| std::fs::metadata(file).map_or(0, |about| about.len());
    println!("{rows} rows of {}", stays.display());
    for Bench { name, words, columns, has_second } in COMMANDS {
        if !is_asked(name) {
            continue;
        }
        let mut files = vec![stays.clone()];
        files.extend(has_second.then(calls));
        let ran = Ran::median(&mut [
            kernel(&files, NO_LIMIT, columns),
            jembric(&files, words, NO_LIMIT),
            with_one_thread(jembric(&files, words, NO_LIMIT)),
        ]);
        let [reading, two, one] = &ran[..] else { continue };
        println!(
            "RATIO {name}: {:.2} s, {:.2} times reading alone; one thread takes {:.2} times as \
                long; peak {} MB, {:.2} times the size of the files",
            two.seconds,
            two.seconds / reading.seconds,
            one.seconds / two.seconds,
            two.peak / 1_000_000,
            two.peak as f64 / files.iter().map(|file| size(file)).sum::<u64>() as f64,
        );
    }
}

/// Measures the commands on some rows and on twice as many.
fn growing(rows: u64, format: &str) {
    for Shape { name: shape, sizes, commands } in SHAPES {
        let made = |rows: u64| {
            let (vessels, days) = sizes(rows);
            made_of(Sizes { rows, vessels: vessels.max(1), days }, format)
        };
        let windows = |rows: u64| made(rows / 2);
        let (some, twice) = (made(rows), made(2 * rows));
        for Bench { name, words, has_second, .. } in COMMANDS.iter().chain([&OVERLAPPING]) {
            if !is_asked(name) || !commands.contains(name) {
                continue;
            }
            let with_second = |file: &PathBuf, rows: u64| {
                let mut files = vec![file.clone()];
                files.extend(has_second.then(|| windows(rows)));
                files
            };
            let ran = Ran::median(&mut [
                jembric(&with_second(&some, rows), words, NO_LIMIT),
                jembric(&with_second(&twice, 2 * rows), words, NO_LIMIT),
            ]);
            print_growth(&format!("{shape}, {name}"), &ran);
        }
    }
    if is_asked("wide") {
        wide(100_000);
    }
    if is_asked("steps") {
        steps(10_000);
    }
}

fn print_growth(name: &str, ran: &[Ran]) {
    let [some, twice] = ran else { return };
    println!(
        "RATIO {name}: {:.2} s to {:.2} s, {:.2} times",
        some.seconds,
        twice.seconds,
        twice.seconds / some.seconds
    );
}

/// Measures commands on a table with many columns, and on one with twice as many.
fn wide(columns: usize) {
    const ROWS: usize = 20;
    let made = |columns: usize| {
        let path = env::temp_dir().join(format!("jembric-wide-{columns}.csv"));
        let gauges: Vec<String> = (0..columns).map(|gauge| format!("gauge_{gauge}")).collect();
        let mut lines = format!("day,{}\n", gauges.join(","));
        for row in 1..=ROWS {
            let levels: Vec<String> = (0..columns).map(|gauge| (row * gauge).to_string()).collect();
            lines += &format!("2025-01-{row:02},{}\n", levels.join(","));
        }
        std::fs::write(&path, lines).expect("room on the disk");
        path
    };
    let files = [columns, 2 * columns].map(made);
    let of_all = ["latest", "--date", "day"];
    let of_some = ["columns", "day,gauge_7,gauge_77"];
    let sorted = ["sort", "gauge_9:down"];
    for words in [&of_all[..], &of_some, &sorted] {
        let of_file = |file| jembric(std::slice::from_ref(file), words, NO_LIMIT);
        let mut commands = files.each_ref().map(of_file);
        for command in &mut commands {
            command.args(["--most-columns", "1000000"]);
        }
        let ran = Ran::median(&mut commands);
        print_growth(&format!("{columns} columns, {}", words[0]), &ran);
    }
}

/// Measures a routine with many steps, and one with twice as many.
fn steps(count: usize) {
    let table = env::temp_dir().join("jembric-levels.csv");
    std::fs::write(&table, "day,level\n2025-01-01,3\n2025-01-02,5\n").expect("room on the disk");
    let made = |count: usize| {
        let mut routine = format!("[[step]]\nread = {:?}\nfilter = \"level > 0\"\n", table);
        routine += &"[[step]]\nfilter = \"level > 0\"\n".repeat(count - 1);
        let path = env::temp_dir().join(format!("jembric-steps-{count}.toml"));
        std::fs::write(&path, routine).expect("room on the disk");
        let mut command = Command::new(env!("CARGO_BIN_EXE_jembric"));
        command.arg("run").arg(path).arg("--quiet");
        command
    };
    let ran = Ran::median(&mut [count, 2 * count].map(made));
    print_growth(&format!("a routine of {count} steps"), &ran);
}

/// Measures the commands with a limit on memory.
fn limited(rows: u64, format: &str, memory: &str) {
    if setting("ONLY", "") == "keys" {
        return keys(rows, memory);
    }
    let compares = setting("COMPARE", "yes") == "yes";
    let stays = made(rows, format);
    let calls = || made(rows / 2, format);
    println!("{rows} rows of {}, {memory} of memory", stays.display());
    for Bench { name, words, columns, has_second } in COMMANDS {
        if !is_asked(name) {
            continue;
        }
        let mut files = vec![stays.clone()];
        files.extend(has_second.then(calls));
        let reading = Ran::of(&mut kernel(&files, memory, columns));
        let limited = Ran::of(&mut jembric(&files, words, memory));
        let in_memory = compares.then(|| Ran::of(&mut jembric(&files, words, NO_LIMIT)));
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

/// Measures commands that need the rows of an entity together, on rows of which each has a long key
/// of its own: with a limit on memory beside the same without one, and on twice as many.
fn keys(rows: u64, memory: &str) {
    let made = |rows: u64| {
        let path = env::temp_dir().join(format!("jembric-keys-{rows}.csv"));
        let lines = (0..rows).map(|n| format!("key number {n},2025-01-{:02}\n", n % 28 + 1));
        let text: String = std::iter::once("k,d\n".to_owned()).chain(lines).collect();
        std::fs::write(&path, text).expect("room on the disk");
        path
    };
    let files = [rows, 2 * rows].map(made);
    for words in [
        &["totals", "--per", "k", "--date", "d", "--count"][..],
        &["latest", "--per", "k", "--date", "d"],
    ] {
        let of = |file, memory| jembric(std::slice::from_ref(file), words, memory);
        let ran = Ran::median(&mut [
            of(&files[0], NO_LIMIT),
            of(&files[0], memory),
            of(&files[1], memory),
        ]);
        let [whole, limited, twice] = &ran[..] else { continue };
        println!(
            "RATIO {}, {rows} long keys: {:.1} s with {memory}, {:.2} times without a limit; twice \
                as many take {:.2} times as long",
            words[0],
            limited.seconds,
            limited.seconds / whole.seconds,
            twice.seconds / limited.seconds,
        );
    }
}

/// The file with so many stays, each vessel with a hundred of them.
fn made(rows: u64, format: &str) -> PathBuf {
    made_of(Sizes { rows, vessels: (rows / 100).clamp(1, 1_000_000), days: 2_000 }, format)
}

fn made_of(sizes: Sizes, format: &str) -> PathBuf {
    let Sizes { rows, vessels, days } = sizes;
    let name = format!("jembric-stays-{rows}-{vessels}-{days}.{format}");
    let path = env::temp_dir().join(name);
    if !path.exists() {
        make_stays::write(sizes, &path.display().to_string()).expect("room on the disk");
    }
    path
}

/// Reads files in batches, and does nothing else.
fn read_alone<'a>(files: impl Iterator<Item = &'a str>, columns: &str, memory: Size) {
    let memory = Memory::limited(memory.0, env::temp_dir());
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

fn kernel(files: &[PathBuf], memory: &str, columns: &str) -> Command {
    let files: Vec<String> = files.iter().map(|file| file.display().to_string()).collect();
    let mut command = Command::new(env::current_exe().expect("this bench"));
    command.env("KERNEL", files.join(":")).env("MEMORY", memory).env("COLUMNS", columns);
    command
}

/// The command, with the result in a file.
fn jembric(files: &[PathBuf], words: &[&str], memory: &str) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_jembric"));
    command.arg(words[0]).args(files).args(&words[1..]).arg("--quiet").arg("--out").arg(out());
    command.args(["--memory", memory]).arg("--scratch").arg(scratch());
    command
}

fn with_one_thread(mut command: Command) -> Command {
    command.env("RAYON_NUM_THREADS", "1");
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

/// Ends the thread that measures the temporary files, even if the command fails.
struct Ends<'a>(&'a AtomicBool);

impl Drop for Ends<'_> {
    fn drop(&mut self) {
        self.0.store(true, Relaxed);
    }
}

impl Ran {
    /// Runs all commands in turn, several times. Returns the median of the times of each.
    fn median(commands: &mut [Command]) -> Vec<Ran> {
        let rounds: Vec<Vec<Ran>> =
            (0..rounds()).map(|_| commands.iter_mut().map(Ran::of).collect()).collect();
        let of_command = |place: usize| {
            let mut seconds: Vec<f64> = rounds.iter().map(|round| round[place].seconds).collect();
            seconds.sort_by(f64::total_cmp);
            let (peak, spilled) = (rounds[0][place].peak, rounds[0][place].spilled);
            Ran { seconds: seconds[seconds.len() / 2], peak, spilled }
        };
        (0..commands.len()).map(of_command).collect()
    }

    fn of(command: &mut Command) -> Ran {
        let (spilled, ended) = (AtomicU64::new(0), AtomicBool::new(false));
        let scratch = scratch();
        thread::scope(|scope| {
            let _ends = Ends(&ended);
            scope.spawn(|| {
                while !ended.load(Relaxed) {
                    spilled.fetch_max(size(&scratch), Relaxed);
                    thread::sleep(Duration::from_millis(50));
                }
            });
            let began = Instant::now();
            let peak = lifts::peak_of_a_run(command);
            let seconds = began.elapsed().as_secs_f64();
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
