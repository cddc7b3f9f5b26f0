//! Runs steps of a routine in one process and in several, as whole commands on this machine:
//! `cargo bench -p jembric-cluster --features full --bench processes`.
//!
//! For each step it prints the time of two processes with one thread each to that of one process
//! with two threads, the bytes that were sent for each row, the share of the time in exchanges, and
//! the processor time of two and of four processes to that of one, all with one thread.
//!
//! `ROWS=20000000` sets the number of rows, and `ONLY=latest,within` runs some of the steps. Each
//! runs three times for a median, or `ROUNDS` times. The files are made in the directory for
//! temporary files, once for each size.

#[path = "../../jembric/examples/make_stays.rs"]
#[allow(dead_code)]
mod make_stays;

use make_stays::Sizes;
use std::{
    env, fs,
    path::{Path, PathBuf},
    process::Command,
    time::Instant,
};

/// The steps. `CALLS` has half as many rows as `STAYS`.
const STEPS: [(&str, &str); 4] = [
    ("latest", "latest = { per = ['vessel'], date = 'arrived', ties = 'first' }"),
    ("totals", "totals = { per = ['vessel'], date = 'arrived', grain = 'month', sum = ['tons'] }"),
    ("running", "running = { per = ['vessel'], date = 'arrived', sum = ['tons'] }"),
    (
        "within",
        "within = { match = ['vessel'], date = 'arrived', windows = 'CALLS', window = \
         'arrived..left' }",
    ),
];

/// The processes of a run, and the threads of each.
const RUNS: [(u32, u32); 4] = [(1, 2), (2, 1), (1, 1), (4, 1)];

fn setting(name: &str, default: &str) -> String {
    env::var(name).unwrap_or_else(|_| default.to_owned())
}

fn main() {
    let rows: u64 = setting("ROWS", "20000000").parse().expect("a number of rows");
    let rounds: usize = setting("ROUNDS", "3").parse().expect("a number of rounds");
    let only = setting("ONLY", "");
    let (stays, calls) = (made(rows), made(rows / 2));
    let directory = env::temp_dir().join(format!("jembric-processes-{}", std::process::id()));
    fs::create_dir_all(&directory).expect("a directory");
    for (name, step) in STEPS {
        if !only.is_empty() && only.split(',').all(|one| one != name) {
            continue;
        }
        let step = step.replace("CALLS", &calls.display().to_string());
        let routine =
            format!("[[step]]\nread = '{}'\n{step}\nwrite = 'result.parquet'\n", stays.display());
        fs::write(directory.join("stays.toml"), routine).expect("room on the disk");
        let ran: Vec<[Ran; 4]> =
            (0..rounds).map(|_| RUNS.map(|processes| Ran::of(&directory, processes))).collect();
        let median = |of_ran: &dyn Fn(&[Ran; 4]) -> f64| {
            let mut all: Vec<f64> = ran.iter().map(of_ran).collect();
            all.sort_by(f64::total_cmp);
            all[all.len() / 2]
        };
        println!(
            "RATIO {name}: one process with two threads {:.2} s; two processes with one thread \
                {:.2} s, {:.2} times; sent {:.1} bytes for each row; {:.0} % of the time in \
                exchanges, {:.0} % waiting; processor time of two processes {:.2} times that of \
                one, and of four {:.2} times",
            median(&|[one, ..]| one.seconds),
            median(&|[_, two, ..]| two.seconds),
            median(&|[one, two, ..]| two.seconds / one.seconds),
            median(&|[_, two, ..]| two.sent / rows as f64),
            median(&|[_, two, ..]| 100.0 * two.exchanging),
            median(&|[_, two, ..]| 100.0 * two.waiting),
            median(&|[_, two, one, _]| two.processor / one.processor),
            median(&|[_, _, one, four]| four.processor / one.processor),
        );
    }
    fs::remove_dir_all(directory).expect("a directory of this bench");
}

/// The file with so many stays, each vessel with a hundred of them.
fn made(rows: u64) -> PathBuf {
    let sizes = Sizes { rows, vessels: (rows / 100).clamp(1, 1_000_000), days: 2_000 };
    let Sizes { rows, vessels, days } = sizes;
    let path = env::temp_dir().join(format!("jembric-stays-{rows}-{vessels}-{days}.csv"));
    if !path.exists() {
        make_stays::write(sizes, &path.display().to_string()).expect("room on the disk");
    }
    path
}

/// What a run took.
struct Ran {
    seconds: f64,
    /// The processor time of all processes, in ticks.
    processor: f64,
    /// The bytes that all processes have sent.
    sent: f64,
    /// The parts of the time that the processes spent in exchanges, and in waiting there.
    exchanging: f64,
    waiting: f64,
}

impl Ran {
    fn of(directory: &Path, (processes, threads): (u32, u32)) -> Ran {
        let (begun, before) = (Instant::now(), ticks_of_children());
        let output = Command::new(env!("CARGO_BIN_EXE_jembric-cluster"))
            .args(["run", "stays.toml", "--traffic", "--local", &processes.to_string()])
            .args(["--threads", &threads.to_string()])
            .current_dir(directory)
            .output()
            .expect("the command");
        let told = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{told}");
        let (mut sent, mut exchanging, mut waiting, mut all) = (0.0, 0.0, 0.0, 0.0);
        // process 1 sent 5.2 MB to others; 1.20 s in exchanges, of which 0.30 s waiting; 4.00 s …
        for line in told.lines().filter(|line| line.starts_with("process ")) {
            let numbers: Vec<f64> =
                line.split(' ').filter_map(|word| word.parse().ok()).skip(1).collect();
            let [amount, exchanged, waited, of_all] = numbers[..] else { panic!("{line}") };
            sent += amount * if line.contains(" kB ") { 1e3 } else { 1e6 };
            exchanging += exchanged;
            waiting += waited;
            all += of_all;
        }
        Ran {
            seconds: begun.elapsed().as_secs_f64(),
            processor: ticks_of_children() - before,
            sent,
            exchanging: exchanging / all,
            waiting: waiting / all,
        }
    }
}

/// The processor time of all processes that this one has started and that have ended, and of those
/// that they have started.
fn ticks_of_children() -> f64 {
    let status = fs::read_to_string("/proc/self/stat").expect("a system with /proc");
    // The name of the process is in parentheses, and may have spaces.
    let numbers = status.rsplit(')').next().unwrap_or_default();
    let numbers: Vec<f64> = numbers.split(' ').filter_map(|word| word.parse().ok()).collect();
    // The first numbers are those behind the state; the children's times follow twelve of them.
    numbers[12] + numbers[13]
}
