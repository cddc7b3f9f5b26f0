//! The `jembric` command.

use std::process::ExitCode;

fn main() -> ExitCode {
    jembric_cli::main()
}
