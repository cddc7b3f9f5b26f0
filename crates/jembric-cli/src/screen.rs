//! Prints results to standard output, and ledgers and errors to standard error.

use crate::arguments::command_words;
use anstyle::{AnsiColor, Style};
use jembric::{
    Error, Result,
    io::{shown_name, without_secrets},
    visible,
};
use std::{
    cell::RefCell,
    fmt::{self, Display},
    io::{self, IsTerminal, Write},
    rc::Rc,
};

pub(crate) const BOLD: Style = Style::new().bold();
const WARNING: Style = AnsiColor::Magenta.on_default().bold();
const ERROR: Style = AnsiColor::Red.on_default().bold();

/// Output that is kept in memory.
#[derive(Clone, Default)]
pub(crate) struct Kept(Rc<RefCell<Vec<u8>>>);

impl Kept {
    pub(crate) fn bytes(&self) -> Vec<u8> {
        self.0.borrow().clone()
    }
}

impl Write for Kept {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.borrow_mut().write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// The two output streams. Text is coloured only on a terminal and without `NO_COLOR`; data never
/// is.
pub struct Screen {
    answers: Box<dyn Write>,
    answers_coloured: bool,
    accounts: Box<dyn Write>,
    /// Whether results go to a terminal.
    pub(crate) is_terminal: bool,
    /// The width of the terminal that results go to.
    pub(crate) width: Option<u16>,
    /// The height of the terminal that results go to.
    #[cfg_attr(not(feature = "draw"), expect(dead_code, reason = "it is for pictures"))]
    pub(crate) height: Option<u16>,
    account_width: Option<u16>,
    /// Whether ledgers are for people: they go to a terminal, or are part of the demo.
    pub(crate) accounts_are_read: bool,
    /// Whether a progress bar may be shown.
    pub(crate) shows_progress: bool,
}

impl fmt::Debug for Screen {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Screen").field("width", &self.width).finish_non_exhaustive()
    }
}

impl Screen {
    /// Standard output and standard error.
    pub(crate) fn standard() -> Screen {
        Screen {
            answers: Box::new(io::stdout()),
            answers_coloured: coloured(),
            accounts: Box::new(anstream::stderr()),
            is_terminal: io::stdout().is_terminal(),
            width: width_of(io::stdout()),
            height: height_of(io::stdout()),
            account_width: width_of(io::stderr()),
            accounts_are_read: io::stderr().is_terminal(),
            shows_progress: io::stderr().is_terminal(),
        }
    }

    /// Both to standard output, as on a terminal: the output of the demo is one text.
    pub(crate) fn as_one_text() -> Screen {
        Screen {
            answers: Box::new(io::stdout()),
            answers_coloured: coloured(),
            accounts: Box::new(anstream::stdout()),
            is_terminal: true,
            width: width_of(io::stdout()),
            height: height_of(io::stdout()),
            account_width: width_of(io::stdout()),
            accounts_are_read: io::stdout().is_terminal(),
            shows_progress: false,
        }
    }

    /// The same, with results kept in memory for the next command of a pipe.
    pub(crate) fn with_answers_kept(kept: Kept) -> Screen {
        let answers = Box::new(kept);
        Screen {
            answers,
            answers_coloured: false,
            is_terminal: false,
            width: None,
            height: None,
            ..Screen::as_one_text()
        }
    }

    /// Writes a result.
    pub(crate) fn answer(
        &mut self,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> Result<()> {
        write(&mut self.answers)
            .and_then(|()| self.answers.flush())
            .map_err(|source| Error::Write { file: "standard output".to_owned(), source })
    }

    /// Writes text for people where results go.
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

    /// Writes a ledger, with its lines wrapped to the terminal.
    ///
    /// Errors: standard error cannot be written to.
    pub fn account(&mut self, text: impl Display) -> Result<()> {
        let styled = |line: &str| match line.strip_prefix("  warning:") {
            Some(warning) => format!("  {WARNING}warning:{WARNING:#}{warning}\n"),
            None => format!("{line}\n"),
        };
        let text = wrapped(&visible(&hidden(&text.to_string())), self.account_width);
        let written =
            self.accounts.write_all(text.lines().map(styled).collect::<String>().as_bytes());
        written.map_err(|source| Error::Write { file: "standard error".to_owned(), source })
    }

    /// Prints the help, or an error about the command line. A failure to print it is ignored,
    /// because there is nowhere to report it.
    pub(crate) fn command_line(&mut self, error: &clap::Error) {
        let plain = error.render().to_string();
        let without = hidden(&plain);
        let shown = visible(&without);
        let _ = if shown == plain { error.print() } else { write!(self.accounts, "{shown}") };
    }

    /// Prints why there is no result.
    pub(crate) fn error(&mut self, error: &Error) {
        let text = wrapped(
            &shortened_quotes(&visible(&hidden(&format!(
                "error: {}",
                error.rendered(&command_words)
            )))),
            self.account_width,
        );
        // If standard error is closed, nobody can be told.
        let _ =
            writeln!(self.accounts, "{ERROR}error:{ERROR:#}{}", text.trim_start_matches("error:"));
    }
}

/// A text without the secrets of connection URIs: first of those that were typed, whose ends are
/// known, then of any others.
fn hidden(text: &str) -> String {
    let mut shown = text.to_owned();
    for argument in std::env::args_os().skip(1) {
        let argument = argument.to_string_lossy();
        // A name may stand behind an option, or behind the name of a setting.
        let begins = argument.match_indices('=').map(|(place, _)| place + 1);
        for begin in std::iter::once(0).chain(begins) {
            let name = &argument[begin..];
            let instead = shown_name(name);
            if instead != name {
                shown = shown.replace(name, &instead);
            }
        }
    }
    without_secrets(&shown)
}

/// A message in which each quoted text is shortened.
fn shortened_quotes(text: &str) -> String {
    const MOST: usize = 400;
    let parts = text.split('`').enumerate().map(|(n, part)| match part.char_indices().nth(MOST) {
        Some((end, _)) if n % 2 == 1 => format!("{}…", &part[..end]),
        _ => part.to_owned(),
    });
    parts.collect::<Vec<_>>().join("`")
}

/// Wraps lines that are too long for a terminal between words, and indents the rest.
pub(crate) fn wrapped(text: &str, width: Option<u16>) -> String {
    let Some(width) = width else { return text.to_owned() };
    let line = |line: &str| {
        let indent = " ".repeat(line.len() - line.trim_start().len() + 4);
        // Only blanks separate words: dates and options keep their hyphens on one line.
        let options = textwrap::Options::new(width.into())
            .subsequent_indent(&indent)
            .break_words(false)
            .word_separator(textwrap::WordSeparator::AsciiSpace)
            .word_splitter(textwrap::WordSplitter::NoHyphenation);
        textwrap::fill(line, options)
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// The width of the terminal, if the stream goes to one.
fn width_of(stream: impl IsTerminal) -> Option<u16> {
    terminal_size::terminal_size().filter(|_| stream.is_terminal()).map(|(width, _)| width.0)
}

fn height_of(stream: impl IsTerminal) -> Option<u16> {
    terminal_size::terminal_size().filter(|_| stream.is_terminal()).map(|(_, height)| height.0)
}

fn coloured() -> bool {
    anstream::AutoStream::choice(&io::stdout()) != anstream::ColorChoice::Never
}
