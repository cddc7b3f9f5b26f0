//! The `jembric` command: turns arguments into steps, and prints tables and ledgers.
//!
//! `arguments` declares the command line, `typed` converts what was typed, `run` runs it, `show`
//! and `layout` format tables, `demo` has the built-in tables and their commands. All output goes
//! through a [`Screen`], so that a terminal, a pipe and the demo share the same code.

mod arguments;
mod demo;
mod drain;
mod ending;
mod files;
mod layout;
mod memory;
#[cfg_attr(not(feature = "draw"), path = "pictures/absent.rs")]
mod pictures;
mod progress;
mod run;
mod screen;
mod show;
mod typed;

use screen::Screen;
use std::process::ExitCode;

#[global_allocator]
static ALLOCATOR: memory::OrEnd = memory::OrEnd(mimalloc::MiMalloc);

/// Why the command fails.
enum Failure {
    /// The command line is invalid, or it asks for help.
    CommandLine(Box<clap::Error>),
    /// The data or the settings do not allow a result.
    NoAnswer(jembric::Error),
}

impl From<jembric::Error> for Failure {
    fn from(error: jembric::Error) -> Failure {
        match error {
            // A text that the argument parser accepts may still be an invalid date, span or range.
            jembric::Error::Settings(text) => {
                clap::Error::raw(clap::error::ErrorKind::InvalidValue, format!("{text}\n")).into()
            }
            error @ jembric::Error::Value(_) => {
                let text = format!("{}\n", error.told(&arguments::command_words));
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

fn main() -> ExitCode {
    ending::on_signals();
    let mut screen = Screen::standard();
    let exit = match run::command(std::env::args_os(), &mut screen) {
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
    };
    ExitCode::from(exit as u8)
}
