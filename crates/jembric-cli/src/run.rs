//! What each command does: check what was typed, open what is written to, read, answer, account.

use crate::{
    Failure,
    arguments::{
        AccountArguments, AnswerArguments, Described, LedgerForm, OPERATIONS, ReadArguments, Reads,
        command as command_line, file_and_columns,
    },
    demo::{self, Files},
    progress::Progress,
    screen::Screen,
    show,
    typed::Shown,
};
use clap::{ArgMatches, FromArgMatches};
use jembric::{
    Active, Add, Almanac, Columns, Context, CoreError, Earliest, Elapsed, Error, Filled, Filter, Latest,
    Look, Operation, Outcome, Recent, Running, Shape, Sink, Sort, Spells, Stack, Table, Totals, Type, Within,
    io::{Batches, Destination, Reading, Writing},
};
use serde::de::DeserializeOwned;
use std::{
    ffi::OsString,
    io,
    path::{Path, PathBuf},
};

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
pub(crate) fn step(
    name: &str,
    typed: &ArgMatches,
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
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

fn look(typed: &ArgMatches, files: Files<'_>, screen: &mut Screen) -> Result<(), Failure> {
    let reading = ReadArguments::from_arg_matches(typed)?.reading()?;
    for (n, file) in typed.get_many::<String>("FILE").into_iter().flatten().enumerate() {
        let table = read(&reading, file, files, screen)?;
        let text = show::look(file, &Look::at(&table).map_err(Error::from)?, screen.width);
        screen.words(&format!("{}{text}", if n > 0 { "\n" } else { "" }))?;
    }
    Ok(())
}

/// What is asked of the files that were named.
enum Question {
    Step(Box<dyn Operation>),
    Stack(Stack),
    Within(Box<Within>),
    /// The columns of each file that are covered.
    Almanac(Box<Almanac>, Vec<Vec<String>>),
}

impl Question {
    /// The question that was typed, and the files that it is asked of.
    fn typed(
        described: &Described,
        typed: &ArgMatches,
        files: Files<'_>,
    ) -> Result<(Question, Vec<String>), Failure> {
        let settings = serde_json::Value::Object(described.settings(typed, files)?);
        let named = || typed.get_many::<String>("FILE").into_iter().flatten().cloned().collect();
        Ok(match described.reads {
            Reads::OneFile => (Question::Step(step_of(described.name, settings)?), named()),
            Reads::EventsAndWindows => {
                let files = ["EVENTS", "WINDOWS"].iter().filter_map(|name| typed.get_one::<String>(name));
                (Question::Within(Box::new(of_settings(settings)?)), files.cloned().collect())
            }
            Reads::SeveralFiles => (Question::Stack(of_settings(settings)?), named()),
            Reads::Covering => {
                let covering = typed.get_many::<String>("covering").into_iter().flatten();
                let covering = covering
                    .map(|text| file_and_columns("covering", text))
                    .collect::<jembric::Result<Vec<_>>>()?;
                let (files, columns) = covering.into_iter().unzip();
                (Question::Almanac(Box::new(of_settings(settings)?), columns), files)
            }
        })
    }

    /// All that can be wrong without the data, given what the files' headers tell.
    fn check(&self, shapes: &[Option<Shape>], context: &Context) -> Result<(), CoreError> {
        if let (Question::Within(within), [Some(events), Some(windows)]) = (self, shapes) {
            return within.check_with(events, windows, context).map(drop);
        }
        let shapes = shapes.iter().map(Option::as_ref);
        match self {
            Question::Step(step) => {
                shapes.flatten().try_for_each(|shape| step.check_with(shape, context).map(drop))
            }
            // One of the files cannot be looked into before it is read.
            Question::Within(_) => Ok(()),
            Question::Stack(stack) => {
                let Some(source) = &stack.source else { return Ok(()) };
                shapes.flatten().try_for_each(|shape| shape.with(source, Type::Text).map(drop))
            }
            Question::Almanac(almanac, columns) => {
                almanac.check(columns.iter().map(Vec::len).sum())?;
                let known = shapes.zip(columns).filter_map(|(shape, columns)| Some((shape?, columns)));
                known.into_iter().try_for_each(|(shape, columns)| shape.named(columns).map(drop))
            }
        }
    }

    /// Hands the answer over in batches.
    fn answer_into(
        &self,
        files: &[String],
        tables: &[Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome, CoreError> {
        let outcome = match self {
            Question::Step(step) => return step.apply_into(&tables[0], context, sink),
            Question::Within(within) => return within.apply_into(&tables[0], &tables[1], context, sink),
            Question::Stack(stack) => {
                let stem = |file: &String| {
                    Path::new(file)
                        .file_stem()
                        .map_or_else(|| file.clone(), |stem| stem.to_string_lossy().into_owned())
                };
                let names: Vec<String> = files.iter().map(stem).collect();
                stack
                    .apply_with(&names.iter().map(String::as_str).zip(tables).collect::<Vec<_>>(), context)?
            }
            Question::Almanac(almanac, columns) => {
                let covering = |almanac: Almanac, (table, columns): (&Table, &Vec<String>)| {
                    almanac.covering(table, columns)
                };
                tables.iter().zip(columns).try_fold((**almanac).clone(), covering)?.make_with(context)?
            }
        };
        sink(&outcome.table).map_err(CoreError::Sink)?;
        Ok(outcome)
    }
}

fn operation(
    described: &Described,
    typed: &ArgMatches,
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let answer = AnswerArguments::from_arg_matches(typed)?;
    let account = AccountArguments::from_arg_matches(typed)?;
    let reading = ReadArguments::from_arg_matches(typed)?.reading()?;
    let asked = answer.asked()?;
    let (question, inputs) = Question::typed(described, typed, files)?;
    let reading = if inputs.len() > 1 { reading.one_of_several() } else { reading };

    if inputs.iter().filter(|file| *file == "-").count() > 1 {
        let (value, expected) = ("given more than once".to_owned(), "standard input for one file".to_owned());
        return Err(Error::Setting { setting: "-", value, expected }.into());
    }

    // All that can be wrong without the data comes before the data is read.
    let shown = Shown::of(answer.format, answer.out.as_deref(), screen.is_terminal)?;
    let shown_aside =
        account.aside.as_deref().map(|aside| Shown::of(None, Some(aside), false)).transpose()?;
    let context = asked.context()?.reconcile(account.reconcile.iter().cloned());
    let shapes =
        inputs.iter().map(|file| files.shape(&reading, file)).collect::<jembric::Result<Vec<_>>>()?;
    read_options_fit(&reading, &shapes)?;
    question.check(&shapes, &context).map_err(Error::from)?;
    for (written, file) in
        answer.out.iter().chain(&account.aside).flat_map(|to| inputs.iter().map(move |file| (to, file)))
    {
        Destination::refuse_onto(written, file)?;
    }
    let mut out = answer.out.as_ref().map(Destination::file).transpose()?;
    let mut aside = account.aside.as_ref().map(Destination::file).transpose()?;
    if out.as_ref().zip(aside.as_ref()).is_some_and(|(out, aside)| out.is_same(aside)) {
        let value = format!("`{}` is where the answer goes", account.aside.unwrap_or_default().display());
        return Err(Error::Setting { setting: "aside", value, expected: "another file".to_owned() }.into());
    }

    let tables =
        inputs.iter().map(|file| read(&reading, file, files, screen)).collect::<jembric::Result<Vec<_>>>()?;
    let context = asked.context_with(context, tables.first())?;
    let answers = |to: &mut dyn io::Write, rows: usize, width: Option<u16>| {
        let mut drain = Drain::new(shown, rows, to);
        let answered = question.answer_into(&inputs, &tables, &context, &mut |batch| Ok(drain.take(batch)?));
        match answered {
            // What takes the answer failed, not what gives it.
            Err(CoreError::Sink(error)) => {
                Err(error.downcast::<io::Error>().map_or_else(io::Error::other, |error| *error))
            }
            answered => drain.finish(width).map(|()| answered),
        }
    };
    let mut answered = None;
    match &mut out {
        Some(out) => out.write(|to| answers(to, usize::MAX, None).map(|outcome| answered = Some(outcome)))?,
        None => {
            let width = screen.width;
            screen.answer(|to| answers(to, answer.rows, width).map(|outcome| answered = Some(outcome)))?;
        }
    }
    let Some(answered) = answered else { return Ok(()) };
    let Outcome { ledger, set_aside, .. } = answered.map_err(Error::from)?;
    if let (Some(aside), Some(shown)) = (&mut aside, shown_aside) {
        aside.write(|to| {
            let mut drain = Drain::new(shown, usize::MAX, to);
            drain.take(&set_aside).and_then(|()| drain.finish(None))
        })?;
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

/// An error where a format was given for a column that none of several files has.
fn read_options_fit(reading: &Reading, shapes: &[Option<Shape>]) -> Result<(), Failure> {
    let known: Option<Vec<&Shape>> = shapes.iter().map(Option::as_ref).collect();
    let Some((first, others)) = known.as_deref().and_then(<[_]>::split_first) else { return Ok(()) };
    for column in reading.columns_with_formats() {
        if !others.iter().any(|shape| shape.find(column).is_ok()) {
            first.find(column).map_err(Error::from)?;
        }
    }
    Ok(())
}

fn not_json(error: serde_json::Error) -> Error {
    Error::Write { file: "the ledger".to_owned(), source: error.into() }
}

/// The step of this name with its settings.
fn step_of(name: &str, settings: serde_json::Value) -> Result<Box<dyn Operation>, Failure> {
    Ok(match name {
        Latest::NAME => Box::new(of_settings::<Latest>(settings)?),
        Earliest::NAME => Box::new(of_settings::<Earliest>(settings)?),
        Active::NAME => Box::new(of_settings::<Active>(settings)?),
        Spells::NAME => Box::new(of_settings::<Spells>(settings)?),
        Elapsed::NAME => Box::new(of_settings::<Elapsed>(settings)?),
        Running::NAME => Box::new(of_settings::<Running>(settings)?),
        Filled::NAME => Box::new(of_settings::<Filled>(settings)?),
        Totals::NAME => Box::new(of_settings::<Totals>(settings)?),
        Recent::NAME => Box::new(of_settings::<Recent>(settings)?),
        Filter::NAME => Box::new(of_settings::<Filter>(settings)?),
        Add::NAME => Box::new(of_settings::<Add>(settings)?),
        Sort::NAME => Box::new(of_settings::<Sort>(settings)?),
        _ => Box::new(of_settings::<Columns>(settings)?),
    })
}

/// What the arguments let through may still be no date, span or range; the words say which.
fn of_settings<T: DeserializeOwned>(settings: serde_json::Value) -> Result<T, Failure> {
    serde_json::from_value(settings)
        .map_err(|error| clap::Error::raw(clap::error::ErrorKind::InvalidValue, format!("{error}\n")).into())
}

fn read(reading: &Reading, file: &str, files: Files<'_>, screen: &Screen) -> jembric::Result<Table> {
    let progress = Progress::of(reading.clone(), file, screen.shows_progress);
    files.read(&progress.reading, file)
}

/// Takes an answer in batches: writes them, or keeps the first rows to be shown and counts the others.
struct Drain<'a> {
    to: To<'a>,
}

enum To<'a> {
    Batches(Batches<'a>),
    Shown { kept: Vec<Table>, rows: usize, all: u64, to: &'a mut dyn io::Write },
}

impl<'a> Drain<'a> {
    fn new(shown: Shown, rows: usize, to: &'a mut dyn io::Write) -> Drain<'a> {
        Drain {
            to: match shown {
                Shown::As(format) => To::Batches(Writing::new().format(format).batches(to)),
                Shown::AsTable => To::Shown { kept: Vec::new(), rows, all: 0, to },
            },
        }
    }

    fn take(&mut self, batch: &Table) -> io::Result<()> {
        match &mut self.to {
            To::Batches(batches) => batches.write(batch),
            To::Shown { kept, rows, all, .. } => {
                let left = *rows - kept.iter().map(Table::rows).sum::<usize>();
                if left > 0 || kept.is_empty() {
                    kept.push(batch.head(left));
                }
                *all += batch.rows() as u64;
                Ok(())
            }
        }
    }

    fn finish(self, width: Option<u16>) -> io::Result<()> {
        let To::Shown { kept, all, to, .. } = self.to else { return Ok(()) };
        let table = match &kept[..] {
            [] => return Ok(()),
            [one] => one.clone(),
            several => {
                let named: Vec<(&str, &Table)> = several.iter().map(|batch| ("", batch)).collect();
                Stack::new().apply(&named).map_err(io::Error::other)?.table
            }
        };
        to.write_all(show::table(&table, all, width).as_bytes())
    }
}
