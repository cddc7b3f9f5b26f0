//! Shared by the tests of the command: the demo's tables in a directory, and a way to run the
//! command there.

use assert_cmd::{Command, cargo::cargo_bin_cmd};
use rstest::fixture;
use std::path::Path;
use tempfile::TempDir;

/// The demo's tables, as `jembric demo --into` writes them.
#[fixture]
pub(crate) fn harbour() -> TempDir {
    let directory = tempfile::tempdir().unwrap();
    jembric(directory.path(), &["demo", "--into", "."])
        .assert()
        .success()
        .stderr("11 tables and a routine in .\n");
    directory
}

/// The words of a command line, split as a shell would.
#[allow(dead_code)]
pub(crate) fn words(line: &str) -> Vec<String> {
    shlex::split(line).unwrap()
}

pub(crate) fn jembric(directory: &Path, arguments: &[&str]) -> Command {
    let mut command = cargo_bin_cmd!("jembric");
    command.current_dir(directory).args(arguments);
    command
}

#[allow(dead_code)]
pub(crate) struct Ran {
    pub(crate) out: String,
    pub(crate) err: String,
    pub(crate) code: i32,
}

pub(crate) fn run(directory: &Path, arguments: &[&str]) -> Ran {
    let output = jembric(directory, arguments).output().unwrap();
    let text = |bytes| String::from_utf8(bytes).unwrap();
    Ran { out: text(output.stdout), err: text(output.stderr), code: output.status.code().unwrap() }
}

/// What a person sees in a terminal of this width, which the `script` program emulates.
#[cfg(target_os = "linux")]
#[allow(dead_code)]
pub(crate) fn on_a_terminal(directory: &Path, width: u16, command: &str, colour: bool) -> String {
    let line = format!("stty cols {width} rows 40; {} {command}", env!("CARGO_BIN_EXE_jembric"));
    let mut script = std::process::Command::new("script");
    script
        .args(["-qec", &line, "/dev/null"])
        .current_dir(directory)
        .env("TERM", "xterm")
        .env_remove("CI");
    if !colour {
        script.env("NO_COLOR", "1");
    }
    String::from_utf8(script.output().unwrap().stdout).unwrap().replace('\r', "")
}
