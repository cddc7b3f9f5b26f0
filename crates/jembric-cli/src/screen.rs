//! Where the command's words go: answers to standard output, accounts and errors to standard error.

use crate::arguments::command_words;
use anstyle::{AnsiColor, Style};
use jembric::{Error, Result};
use std::{
    borrow::Cow,
    cell::RefCell,
    fmt::Display,
    io::{self, IsTerminal, Write},
    rc::Rc,
};

pub(crate) const BOLD: Style = Style::new().bold();
const WARNING: Style = AnsiColor::Magenta.on_default().bold();
const ERROR: Style = AnsiColor::Red.on_default().bold();

/// Answers that are kept.
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

/// Two streams. Words are coloured only where a stream is a terminal and `NO_COLOR` is not set;
/// data is never touched.
pub(crate) struct Screen {
    answers: Box<dyn Write>,
    answers_coloured: bool,
    accounts: Box<dyn Write>,
    /// Whether a person is looking at the answers.
    pub(crate) is_terminal: bool,
    /// The width that answers must fit into, where they go to a terminal.
    pub(crate) width: Option<u16>,
    account_width: Option<u16>,
    /// Whether a person is looking at the accounts.
    pub(crate) accounts_are_read: bool,
    /// Whether progress can be shown where the accounts go.
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
            width: width_of(io::stdout()),
            account_width: width_of(io::stderr()),
            accounts_are_read: io::stderr().is_terminal(),
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
            width: width_of(io::stdout()),
            account_width: width_of(io::stdout()),
            accounts_are_read: true,
            shows_progress: false,
        }
    }

    /// The same, but for answers, which are kept for the command that reads them.
    pub(crate) fn with_answers_kept(kept: Kept) -> Screen {
        let answers = Box::new(kept);
        Screen {
            answers,
            answers_coloured: false,
            is_terminal: false,
            width: None,
            ..Screen::as_one_text()
        }
    }

    /// Writes to where answers go.
    pub(crate) fn answer(
        &mut self,
        write: impl FnOnce(&mut dyn Write) -> io::Result<()>,
    ) -> Result<()> {
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
        let styled = |line: &str| match line.strip_prefix("  warning:") {
            Some(warning) => format!("  {WARNING}warning:{WARNING:#}{warning}\n"),
            None => format!("{line}\n"),
        };
        let text = wrapped(&visible(&text.to_string()), self.account_width);
        let written =
            self.accounts.write_all(text.lines().map(styled).collect::<String>().as_bytes());
        written.map_err(|source| Error::Write { file: "standard error".to_owned(), source })
    }

    /// Says what is wrong with the command line, or gives the help that was asked for. Nobody can
    /// be told of a failure to do so.
    pub(crate) fn command_line(&mut self, error: &clap::Error) {
        let plain = error.render().to_string();
        let shown = visible(&plain);
        let _ = if shown == plain { error.print() } else { write!(self.accounts, "{shown}") };
    }

    /// Says why there is no answer.
    pub(crate) fn error(&mut self, error: &Error) {
        let text = wrapped(
            &shortened_quotes(&visible(&format!("error: {}", error.told(&command_words)))),
            self.account_width,
        );
        // Where standard error itself is gone, there is nobody left to tell.
        let _ =
            writeln!(self.accounts, "{ERROR}error:{ERROR:#}{}", text.trim_start_matches("error:"));
    }
}

/// A text for people, in which characters that would act on a terminal stand as what they are:
/// `\u{1b}`. Those are control characters but line breaks, and those that turn the direction of
/// writing.
pub(crate) fn visible(text: &str) -> Cow<'_, str> {
    let acts = |c: char| {
        c.is_control() && c != '\n'
            || matches!(c,
                '\u{61c}' | '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
    };
    if !text.contains(acts) {
        return text.into();
    }
    let shown = |c: char| if acts(c) { c.escape_default().to_string() } else { c.to_string() };
    text.chars().map(shown).collect::<String>().into()
}

/// A message in which what is quoted has at most so many characters.
fn shortened_quotes(text: &str) -> String {
    const MOST: usize = 400;
    let parts = text.split('`').enumerate().map(|(n, part)| match part.char_indices().nth(MOST) {
        Some((end, _)) if n % 2 == 1 => format!("{}…", &part[..end]),
        _ => part.to_owned(),
    });
    parts.collect::<Vec<_>>().join("`")
}

/// The text with lines that are too long for a terminal broken between words, their rest indented.
pub(crate) fn wrapped(text: &str, width: Option<u16>) -> String {
    let Some(width) = width else { return text.to_owned() };
    let line = |line: &str| {
        let indent = " ".repeat(line.len() - line.trim_start().len() + 4);
        textwrap::fill(
            line,
            textwrap::Options::new(width.into()).subsequent_indent(&indent).break_words(false),
        )
    };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// The terminal's width, where a stream goes to one.
fn width_of(stream: impl IsTerminal) -> Option<u16> {
    terminal_size::terminal_size().filter(|_| stream.is_terminal()).map(|(width, _)| width.0)
}

fn coloured() -> bool {
    anstream::AutoStream::choice(&io::stdout()) != anstream::ColorChoice::Never
}
