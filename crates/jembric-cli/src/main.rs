//! The `jembric` command: arguments to steps, tables and ledgers to the terminal.
//!
//! `arguments` declares what can be typed, `typed` turns it into what was meant, `run` does it,
//! `show` draws tables and looks, `demo` has the harbour's tables and the commands that are run on
//! them. What a command prints goes through a [`Screen`], so that the demo, a pipe and a terminal
//! are served by the same code.

mod arguments;
mod demo;
mod ending;
mod files;
mod layout;
mod memory;
mod progress;
mod run;
mod screen;
mod show;
mod typed;

use screen::Screen;
use std::process::ExitCode;

#[global_allocator]
static ALLOCATOR: memory::OrEnd = memory::OrEnd(mimalloc::MiMalloc);

/// Why the command ends.
enum Failure {
    /// The command line cannot be understood; or help was asked for, which is none.
    CommandLine(Box<clap::Error>),
    /// The data or the settings cannot give the answer.
    NoAnswer(jembric::Error),
}

impl From<jembric::Error> for Failure {
    fn from(error: jembric::Error) -> Failure {
        match error {
            // What the arguments let through may still be no date, span or range; the words say
            // which.
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

/// How the command ended, for whoever called it.
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
        // Whoever was reading has seen enough.
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
