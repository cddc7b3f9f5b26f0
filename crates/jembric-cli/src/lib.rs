//! The `jembric` command: turns arguments into steps, and prints tables and ledgers.
//!
//! `arguments` declares the command line, `typed` converts what was typed, and `commands` finds the
//! command. `chain` makes a routine of typed operations, `run` runs a routine, and `ledgers` prints
//! what became of the rows. `budget` says how much memory a result may take. `show` and `layout`
//! format tables; `demo` has the built-in tables and their commands. All output goes through a
//! [`Screen`], so that a terminal, a pipe and the demo share the same code.

mod arguments;
mod budget;
mod chain;
mod commands;
mod demo;
mod drain;
mod ending;
mod files;
mod layout;
mod ledgers;
mod memory;
#[cfg_attr(not(feature = "draw"), path = "pictures/disabled.rs")]
mod pictures;
mod progress;
mod run;
mod screen;
mod show;
mod typed;

use clap::FromArgMatches;
use jembric::io::without_secrets;
use std::{fmt, process::ExitCode};

pub use ending::end_as_on_a_signal;
pub use run::Among;
pub use screen::Screen;
pub use typed::today;

#[global_allocator]
static ALLOCATOR: memory::OrEnd = memory::OrEnd(mimalloc::MiMalloc);

/// Why a command fails.
#[derive(Debug)]
pub enum Failure {
    /// The command line is invalid, or it asks for help.
    CommandLine(Box<clap::Error>),
    /// The data or the settings do not allow a result.
    NoAnswer(jembric::Error),
    /// Another process has told what is wrong, and ended with this status.
    Told(u8),
}

impl fmt::Display for Failure {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Failure::CommandLine(error) => {
                let text = error.to_string();
                f.write_str(text.trim().trim_start_matches("error: "))
            }
            Failure::NoAnswer(error) => {
                write!(f, "{}", without_secrets(&error.rendered(&arguments::command_words)))
            }
            Failure::Told(status) => write!(f, "a process ended with status {status}"),
        }
    }
}

impl From<jembric::Error> for Failure {
    fn from(error: jembric::Error) -> Failure {
        match error {
            // A text that the argument parser accepts may still be an invalid date, span or range.
            jembric::Error::Settings(text) => {
                clap::Error::raw(clap::error::ErrorKind::InvalidValue, format!("{text}\n")).into()
            }
            error @ jembric::Error::Value(_) => {
                let text = format!("{}\n", error.rendered(&arguments::command_words));
                clap::Error::raw(clap::error::ErrorKind::InvalidValue, text).into()
            }
            error => Failure::NoAnswer(error),
        }
    }
}

impl From<clap::Error> for Failure {
    fn from(error: clap::Error) -> Failure {
        Failure::CommandLine(Box::new(error))
    }
}

/// The exit status.
#[derive(Clone, Copy)]
enum Exit {
    Done = 0,
    NoAnswer = 1,
    CommandLine = 2,
}

/// Runs the command that was typed.
pub fn main() -> ExitCode {
    ending::on_signals();
    let mut screen = Screen::standard();
    ended(commands::command(std::env::args_os(), &mut screen), &mut screen)
}

/// What a command needs before it does anything: signals remove temporary files from now on.
pub fn begin() -> Screen {
    ending::on_signals();
    Screen::standard()
}

/// The command `run` with its arguments, for a command that runs a routine on several processes.
pub fn run_command() -> clap::Command {
    arguments::run_command()
}

/// Runs a routine, as one of several processes that run it together. The arguments that were typed
/// are those of [`run_command`].
///
/// Errors: those of `jembric run`; another process failed.
pub fn run_among(
    typed: &clap::ArgMatches,
    among: Among<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    run::routine(typed, files::Files::OfTheDisk, Some(among), screen)
}

/// The bytes of memory for tables: those that were typed, or half of the machine's memory.
///
/// Errors: what was typed is no size, or too little.
pub fn memory_of(typed: &clap::ArgMatches) -> Result<Option<u64>, Failure> {
    let account = arguments::AccountArguments::from_arg_matches(typed)?;
    Ok(account.memory()?.or_else(budget::budget))
}

/// The exit status of a command, whose error it prints.
pub fn ended(done: Result<(), Failure>, screen: &mut Screen) -> ExitCode {
    let exit = match done {
        Ok(()) => Exit::Done,
        // The reader of the pipe has closed it.
        Err(Failure::NoAnswer(error)) if error.is_closed_pipe() => Exit::Done,
        Err(Failure::NoAnswer(error)) => {
            screen.error(&error);
            Exit::NoAnswer
        }
        Err(Failure::CommandLine(error)) => {
            screen.command_line(&error);
            if error.use_stderr() { Exit::CommandLine } else { Exit::Done }
        }
        Err(Failure::Told(status)) => return ExitCode::from(status),
    };
    ExitCode::from(exit as u8)
}
