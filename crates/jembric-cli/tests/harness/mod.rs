//! What the tests of the command share: the demo's tables in a directory, and a way to run the
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

/// The words of a command line, as a shell would take it apart.
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
