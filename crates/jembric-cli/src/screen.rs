//! Where the command's words go: answers to standard output, accounts and errors to standard error.

use anstyle::{AnsiColor, Style};
use jembric::{Error, Result};
use std::{
    fmt::Display,
    io::{self, IsTerminal, Write},
};

pub(crate) const BOLD: Style = Style::new().bold();
const WARNING: Style = AnsiColor::Yellow.on_default();
const ERROR: Style = AnsiColor::Red.on_default().bold();

/// Two streams. Words are coloured only where a stream is a terminal and `NO_COLOR` is not set; data is never touched.
pub(crate) struct Screen {
    answers: Box<dyn Write>,
    answers_coloured: bool,
    accounts: Box<dyn Write>,
    /// Whether a person is looking at the answers.
    pub(crate) is_terminal: bool,
    /// Whether a person is looking at the accounts, so that progress can be shown.
    pub(crate) shows_progress: bool,
}

impl Screen {
    /// Standard output and standard error.
    pub(crate) fn standard() -> Screen {
        Screen {
            answers: Box::new(io::stdout()),
            answers_coloured: coloured(),
            accounts: Box::new(anstream::stderr()),
            is_terminal: io::stdout().is_terminal(),
            shows_progress: io::stderr().is_terminal(),
        }
    }

    /// Both to standard output, as if a person were looking: what the demo shows is one text.
    pub(crate) fn as_one_text() -> Screen {
        Screen {
            answers: Box::new(io::stdout()),
            answers_coloured: coloured(),
            accounts: Box::new(anstream::stdout()),
            is_terminal: true,
            shows_progress: false,
        }
    }

    /// Writes to where answers go.
    pub(crate) fn answer(&mut self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<()> {
        write(&mut self.answers)
            .and_then(|()| self.answers.flush())
            .map_err(|source| Error::Write { file: "standard output".to_owned(), source })
    }

    /// Writes words for people to where answers go.
    pub(crate) fn words(&mut self, text: &str) -> Result<()> {
        let plain;
        let text = if self.answers_coloured {
            text
        } else {
            plain = anstream::adapter::strip_str(text).to_string();
            &plain
        };
        self.answer(|to| to.write_all(text.as_bytes()))
    }

    /// Writes to where accounts go.
    pub(crate) fn account(&mut self, text: impl Display) -> Result<()> {
        let text = text.to_string();
        let styled = text.lines().map(|line| match line.trim_start().strip_prefix("warning:") {
            Some(warning) => format!("  {WARNING}warning:{WARNING:#}{warning}\n"),
            None => format!("{line}\n"),
        });
        let written = self.accounts.write_all(styled.collect::<String>().as_bytes());
        written.map_err(|source| Error::Write { file: "standard error".to_owned(), source })
    }

    /// Says why there is no answer.
    pub(crate) fn error(&mut self, error: &Error) {
        // Where standard error itself is gone, there is nobody left to tell.
        let _ = writeln!(self.accounts, "{ERROR}error:{ERROR:#} {error}");
    }
}

fn coloured() -> bool {
    anstream::AutoStream::choice(&io::stdout()) != anstream::ColorChoice::Never
}
