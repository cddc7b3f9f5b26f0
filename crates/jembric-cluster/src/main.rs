//! The `jembric-cluster` command.

use std::process::ExitCode;

fn main() -> ExitCode {
    jembric_cluster::command::main()
}
