//! What each command does: check what was typed, open what is written to, read, answer, account.

use crate::{
    Failure,
    arguments::{
        AccountArguments, AnswerArguments, Described, LedgerForm, OPERATIONS, ReadArguments,
        command as command_line,
    },
    demo::{self, Files},
    progress::Progress,
    screen::Screen,
    show,
    typed::{self, Shown},
};
use clap::{ArgMatches, FromArgMatches};
use jembric::{
    Context, Earliest, Error, Latest, Look, Operation, Outcome, Table,
    io::{Destination, Reading, Writing},
};
use std::{ffi::OsString, path::PathBuf};

/// Runs the command that was typed.
pub(crate) fn command(typed: impl IntoIterator<Item = OsString>, screen: &mut Screen) -> Result<(), Failure> {
    let typed = command_line().try_get_matches_from(typed)?;
    match typed.subcommand() {
        Some(("demo", typed)) => match typed.get_one::<PathBuf>("into") {
            Some(directory) => demo::write_into(directory, screen),
            None => demo::run(&mut Screen::as_one_text()),
        },
        Some(("completions", typed)) => completions(typed, screen),
        Some((name, typed)) => step(name, typed, Files::OfTheDisk, screen),
        None => Ok(()),
    }
}

/// Runs a command that reads tables.
pub(crate) fn step(name: &str, typed: &ArgMatches, files: Files, screen: &mut Screen) -> Result<(), Failure> {
    match OPERATIONS.iter().find(|operation| operation.name == name) {
        Some(described) => operation(described, typed, files, screen),
        None => look(typed, files, screen),
    }
}

fn completions(typed: &ArgMatches, screen: &mut Screen) -> Result<(), Failure> {
    let mut text = Vec::new();
    if let Some(&shell) = typed.get_one::<clap_complete::Shell>("SHELL") {
        clap_complete::generate(shell, &mut command_line(), "jembric", &mut text);
    }
    Ok(screen.answer(|to| to.write_all(&text))?)
}

fn look(typed: &ArgMatches, files: Files, screen: &mut Screen) -> Result<(), Failure> {
    let reading = ReadArguments::from_arg_matches(typed)?.reading()?;
    for (n, file) in typed.get_many::<String>("FILE").into_iter().flatten().enumerate() {
        let table = read(&reading, file, files, screen)?;
        let text = show::look(file, &Look::at(&table).map_err(Error::from)?, screen.width);
        screen.words(&format!("{}{text}", if n > 0 { "\n" } else { "" }))?;
    }
    Ok(())
}

fn operation(
    described: &Described,
    typed: &ArgMatches,
    files: Files,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let answer = AnswerArguments::from_arg_matches(typed)?;
    let account = AccountArguments::from_arg_matches(typed)?;
    let reading = ReadArguments::from_arg_matches(typed)?.reading()?;
    let operation = of_settings(described, typed)?;
    let file = typed.get_one::<String>("FILE").map(String::as_str).unwrap_or("-");

    // All that can be wrong without the data comes before the data is read.
    let shown = Shown::of(answer.format, answer.out.as_deref(), screen.is_terminal)?;
    let shown_aside =
        account.aside.as_deref().map(|aside| Shown::of(None, Some(aside), false)).transpose()?;
    let mut context = Context::new().reconcile(account.reconcile.iter().cloned());
    if let Some(as_of) = &answer.as_of {
        as_of.parse::<jembric::calendar::AsOf>().map_err(Error::from)?;
    }
    if let Some(shape) = files.shape(&reading, file)? {
        operation.check(&shape, &context).map_err(Error::from)?;
    }
    for written in answer.out.iter().chain(&account.aside) {
        Destination::refuse_onto(written, file)?;
    }
    let mut out = answer.out.as_ref().map(Destination::file).transpose()?;
    let mut aside = account.aside.as_ref().map(Destination::file).transpose()?;
    if out.as_ref().zip(aside.as_ref()).is_some_and(|(out, aside)| out.is_same(aside)) {
        let value = format!("`{}` is where the answer goes", account.aside.unwrap_or_default().display());
        return Err(Error::Setting { setting: "aside", value, expected: "another file".to_owned() }.into());
    }

    let table = read(&reading, file, files, screen)?;
    if let Some(as_of) = &answer.as_of {
        context = context.as_of(typed::as_of(as_of, typed::today(), &table)?);
    }
    let Outcome { table, ledger, set_aside, .. } =
        operation.apply_with(&table, &context).map_err(Error::from)?;

    if let (Some(aside), Some(shown)) = (&mut aside, shown_aside) {
        aside.write(|to| write(&set_aside, shown, set_aside.rows(), None, to))?;
    }
    match &mut out {
        Some(out) => out.write(|to| write(&table, shown, table.rows(), None, to))?,
        None => {
            let width = screen.width;
            screen.answer(|to| write(&table, shown, answer.rows, width, to))?;
        }
    }
    for written in out.into_iter().chain(aside) {
        written.commit()?;
    }
    if account.quiet {
        return Ok(());
    }
    match account.ledger {
        LedgerForm::Text if screen.is_terminal && answer.out.is_none() => {
            screen.account(format!("\n{ledger}"))?
        }
        LedgerForm::Text => screen.account(&ledger)?,
        LedgerForm::Json => screen.account(serde_json::to_string(&ledger).map_err(not_json)?)?,
    }
    Ok(())
}

fn not_json(error: serde_json::Error) -> Error {
    Error::Write { file: "the ledger".to_owned(), source: error.into() }
}

/// The operation that was typed.
fn of_settings(described: &Described, typed: &ArgMatches) -> Result<Box<dyn Operation>, Failure> {
    let settings = serde_json::Value::Object(described.settings(typed));
    let operation: Result<Box<dyn Operation>, _> = match described.name {
        Latest::NAME => serde_json::from_value::<Latest>(settings).map(|latest| Box::new(latest) as _),
        _ => serde_json::from_value::<Earliest>(settings).map(|earliest| Box::new(earliest) as _),
    };
    // What the arguments let through, the settings take; were it not so, the words say which.
    operation
        .map_err(|error| clap::Error::raw(clap::error::ErrorKind::InvalidValue, format!("{error}\n")).into())
}

fn read(reading: &Reading, file: &str, files: Files, screen: &Screen) -> jembric::Result<Table> {
    let progress = Progress::of(reading.clone(), file, screen.shows_progress);
    files.read(&progress.reading, file)
}

fn write(
    table: &Table,
    shown: Shown,
    rows: usize,
    width: Option<u16>,
    to: &mut dyn std::io::Write,
) -> std::io::Result<()> {
    match shown {
        Shown::AsTable => to.write_all(show::table(table, rows, width).as_bytes()),
        Shown::As(format) => Writing::new().format(format).write(table, to),
    }
}
