//! Finds the command that was typed, and runs it.

use crate::{
    Failure,
    arguments::{asks_briefly, brief, command as command_line, options_of_the_chain, reading_of},
    chain::{chain, names_database},
    demo,
    files::{self, Files, Reader},
    run::routine,
    screen::{BOLD, Screen},
    show,
};
use clap::ArgMatches;
use jembric::{
    Error, Look,
    io::{Outputs, database, shown_name},
    steps::{Files as _, described},
    visible,
};
use std::{
    ffi::OsString,
    path::{Path, PathBuf},
};

/// Runs the command that was typed.
pub(crate) fn command(
    typed: impl IntoIterator<Item = OsString>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    self::typed(typed, Files::OfTheDisk, screen)
}

/// Runs a command on files of the disk or on the demo's tables.
pub(crate) fn typed(
    words: impl IntoIterator<Item = OsString>,
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let mut segments: Vec<Vec<OsString>> = vec![Vec::new()];
    for word in words {
        match (word == "+", segments.last_mut()) {
            (false, Some(segment)) => segment.push(word),
            _ => segments.push(Vec::new()),
        }
    }
    let further = segments.split_off(1);
    let mut first = segments.pop().unwrap_or_default();
    // Options for the whole chain may stand in any of its steps.
    let further: Vec<Vec<OsString>> =
        further.into_iter().map(|step| of_the_step(step, &mut first)).collect();
    let command = if asks_briefly(&first) { brief(command_line()) } else { command_line() };
    let typed = command.try_get_matches_from(first).map_err(with_nearest_command)?;
    let Some((name, typed)) = typed.subcommand() else { return Ok(()) };
    match (described(name), name) {
        (Some(operation), _) => chain(operation, typed, &further, files, screen),
        (None, _) if !further.is_empty() => {
            let message =
                format!("a lone + must follow an operation, and {name} is not an operation\n");
            Err(clap::Error::raw(clap::error::ErrorKind::ArgumentConflict, message).into())
        }
        (None, "demo") => {
            match (typed.get_one::<PathBuf>("into"), typed.get_one::<PathBuf>("page")) {
                (Some(directory), _) if typed.get_flag("sqlite") => {
                    demo::write_sqlite_into(directory, screen)
                }
                (Some(directory), _) => demo::write_into(directory, screen),
                (None, Some(page)) => {
                    let words = ["jembric", "run", files::ROUTINE.0, "--quiet", "--page"];
                    let words = words.map(OsString::from).into_iter().chain([page.into()]);
                    self::typed(words, Files::OfTheDemo(b""), screen)?;
                    Ok(screen.account(format!("The harbour's report is in {}", page.display()))?)
                }
                (None, None) => demo::run(&mut Screen::as_one_text(), &|words, piped, screen| {
                    self::typed(words.into_iter().map(Into::into), Files::OfTheDemo(piped), screen)
                }),
            }
        }
        (None, "completions") => completions(typed, screen),
        (None, "manual") => manual(typed, screen),
        (None, "run") => routine(typed, files, None, screen),
        (None, _) => look(typed, files, screen),
    }
}

/// Replaces the suggestions for a misspelt command by the one nearest name.
fn with_nearest_command(mut error: clap::Error) -> clap::Error {
    use clap::error::{ContextKind, ContextValue};
    let Some(ContextValue::String(typed)) = error.get(ContextKind::InvalidSubcommand) else {
        return error;
    };
    let command = command_line();
    let names = command.get_subcommands().map(clap::Command::get_name);
    let typed = typed.clone();
    let nearest = jembric::nearest_name(&typed, names);
    let typed = visible(&typed).into_owned();
    error.insert(ContextKind::InvalidSubcommand, ContextValue::String(typed));
    match nearest {
        Some(nearest) => {
            let nearest = ContextValue::Strings(vec![nearest]);
            error.insert(ContextKind::SuggestedSubcommand, nearest);
        }
        None => {
            error.remove(ContextKind::SuggestedSubcommand);
        }
    }
    error
}

/// Returns the words that belong to a further step, and moves the options for the whole chain
/// behind the first step.
fn of_the_step(words: Vec<OsString>, first: &mut Vec<OsString>) -> Vec<OsString> {
    let options = options_of_the_chain();
    let mut own = Vec::new();
    let mut words = words.into_iter();
    while let Some(word) = words.next() {
        let text = word.to_string_lossy();
        let (name, has_value) =
            text.split_once('=').map_or((&*text, false), |(name, _)| (name, true));
        let option = options.iter().find(|(long, short, _)| {
            let is_short =
                short.is_some_and(|short| name.strip_prefix('-') == Some(&short.to_string()));
            name.strip_prefix("--") == Some(long) || is_short
        });
        match option {
            None => own.push(word),
            Some((_, _, takes)) => {
                let takes = *takes && !has_value;
                first.push(word);
                first.extend(if takes { words.next() } else { None });
            }
        }
    }
    own
}

fn completions(typed: &ArgMatches, screen: &mut Screen) -> Result<(), Failure> {
    let mut text = Vec::new();
    if let Some(&shell) = typed.get_one::<clap_complete::Shell>("SHELL") {
        clap_complete::generate(shell, &mut command_line(), "jembric", &mut text);
    }
    Ok(screen.answer(|to| to.write_all(&text))?)
}

/// Writes a manual page for the command and one for each of its commands.
fn manual(typed: &ArgMatches, screen: &mut Screen) -> Result<(), Failure> {
    let directory = typed.get_one::<PathBuf>("into").cloned().unwrap_or_default();
    let failed = |source| Error::Write { file: directory.display().to_string(), source };
    std::fs::create_dir_all(&directory).map_err(failed)?;
    let mut command = command_line();
    command.build();
    let pages: Vec<(String, clap::Command)> =
        std::iter::once(("jembric".to_owned(), command.clone()))
            .chain(command.get_subcommands().map(|one| {
                let name = format!("jembric-{}", one.get_name());
                (name.clone(), one.clone().display_name(name))
            }))
            .collect();
    let mut outputs = Outputs::new();
    for (name, command) in &pages {
        let mut file = outputs.file(name, directory.join(format!("{name}.1")))?;
        file.write(|to| clap_mangen::Man::new(command.clone()).render(to))?;
        outputs.add(file);
    }
    outputs.commit()?;
    Ok(screen.account(format!("{} manual pages in {}", pages.len(), directory.display()))?)
}

fn look(typed: &ArgMatches, files: Files<'_>, screen: &mut Screen) -> Result<(), Failure> {
    let reading = reading_of(typed)?;
    let reader = Reader::new(files, Path::new(""), screen.shows_progress);
    let mut looks = Vec::new();
    for (n, file) in typed.get_many::<String>("FILE").into_iter().flatten().enumerate() {
        if files == Files::OfTheDisk && reading.query.is_none() && names_database(file) {
            let gap = if n == 0 { "" } else { "\n" };
            screen.words(&format!("{gap}{}", show::tables(file, &database(file)?.tables()?)))?;
            continue;
        }
        let table = reader.table(file, &reading)?;
        let look = Look::at(&table).map_err(Error::from)?;
        let file = shown_name(file);
        let text = show::look(&file, &look, screen.width);
        screen.words(&format!("{}{text}", if n == 0 { "" } else { "\n" }))?;
        looks.push((file, look));
    }
    if let Some(next) = show::next_of_several(&looks) {
        screen.words(&format!("\n{BOLD}Together{BOLD:#}\n  {}\n", visible(&next)))?;
    }
    Ok(())
}
