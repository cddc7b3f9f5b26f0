//! A large file of made-up lifts, generated with a fixed seed, and the peak memory of a process.

use std::{
    fs::{self, File},
    io::{BufWriter, Write},
    path::PathBuf,
    process::{Command, Stdio},
};

/// The file with so many rows: vessel, day, tons, and a note that is mostly empty and sometimes
/// quoted.
pub(crate) fn file(rows: usize) -> PathBuf {
    let path = std::env::temp_dir().join(format!("jembric-lifts-{rows}.csv"));
    if path.exists() {
        return path;
    }
    let beside = path.with_extension("part");
    let mut to = BufWriter::new(File::create(&beside).expect("a temporary file"));
    let mut random = fastrand::Rng::with_seed(9);
    writeln!(to, "vessel,lifted_on,tons,note").expect("room on the disk");
    for _ in 0..rows {
        let (year, month, day) = (random.u32(2010..2025), random.u32(1..13), random.u32(1..29));
        let note = match random.u32(0..40) {
            0 => "late",
            1 => "\"crane 2, then 3\"",
            2 => "\"said \"\"no hurry\"\"\"",
            _ => "",
        };
        let (vessel, tons, part) = (random.u32(0..100_000), random.u32(0..500), random.u32(0..100));
        writeln!(to, "vessel {vessel},{year}-{month:02}-{day:02},{tons}.{part:02},{note}")
            .expect("room on the disk");
    }
    to.flush().expect("room on the disk");
    fs::rename(beside, &path).expect("the finished file");
    path
}

/// The most memory that a command held, in bytes, as the system accounts for it.
pub(crate) fn peak_of_a_run(command: &mut Command) -> u64 {
    // The shell's own `times` do not tell memory; the kernel's account of a finished child does,
    // through GNU time's format.
    let inner: Vec<String> = std::iter::once(command.get_program())
        .chain(command.get_args())
        .map(|word| word.to_string_lossy().into_owned())
        .collect();
    let mut timed = Command::new("/usr/bin/time");
    timed.args(["-f", "%M"]).args(inner).stdout(Stdio::null()).stderr(Stdio::piped());
    for (name, value) in command.get_envs() {
        if let Some(value) = value {
            timed.env(name, value);
        }
    }
    let output = timed.output().expect("GNU time");
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{command:?}: {text}");
    text.lines().last().and_then(|kib| kib.trim().parse::<u64>().ok()).expect("kilobytes") * 1024
}
