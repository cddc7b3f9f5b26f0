//! A typed operation, and those after it: a routine without a text.

use crate::{
    Failure,
    arguments::{
        AccountArguments, AnswerArguments, asks_briefly, brief_step, command_of, reading_of,
        settings_of,
    },
    files::Files,
    run::{RunOptions, run},
    screen::Screen,
};
use clap::{ArgMatches, FromArgMatches};
use jembric::{
    Error,
    io::{Outputs, Reading, database_of, is_database, name_in},
    routine::{Input, Planned, Routine},
    steps::{Described, Reads, described, file_and_columns},
};
use std::{ffi::OsString, path::Path};

/// Runs a chain of steps.
pub(crate) fn chain(
    operation: &'static Described,
    typed: &ArgMatches,
    further: &[Vec<OsString>],
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let reading = reading_of(typed)?;
    let mut steps = vec![planned(operation, typed, None, &reading)?];
    for words in further {
        let name =
            words.first().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
        let Some(operation) = described(&name) else {
            let message = match jembric::nearest_name(
                &name,
                jembric::steps::OPERATIONS.iter().map(|known| known.name),
            ) {
                Some(meant) => format!("there is no step `{name}`. Did you mean `{meant}`?\n"),
                None => format!(
                    "there is no step `{name}`: a lone + must be followed by an operation\n"
                ),
            };
            return Err(clap::Error::raw(clap::error::ErrorKind::InvalidSubcommand, message).into());
        };
        let command = command_of(operation, false);
        let command = if asks_briefly(words) { brief_step(command) } else { command };
        let typed = command.try_get_matches_from(words)?;
        steps.push(planned(operation, &typed, Some(steps.len() - 1), &reading)?);
    }
    let mut routine = Routine::from_steps(steps);
    let inputs = routine.steps.iter().flat_map(|step| &step.inputs);
    if inputs.filter(|input| matches!(input, Input::File(file, _) if file == "-")).count() > 1 {
        let (value, expected) =
            ("given more than once".to_owned(), "standard input for only one file".to_owned());
        return Err(Error::Setting { setting: "-", value, expected }.into());
    }
    expect_used(&reading, &routine)?;
    let answer = AnswerArguments::from_arg_matches(typed)?;
    routine.as_of.clone_from(&answer.as_of);
    routine.zone.clone_from(&answer.zone);
    let saved =
        answer.save_routine.clone().map(|to| Ok::<_, Error>((saved(&routine, &to, &answer)?, to)));
    let options = RunOptions {
        account: AccountArguments::from_arg_matches(typed)?,
        upto: None,
        follow: None,
        since: None,
        page: None,
        saved: saved.transpose()?,
        among: None,
        answer,
    };
    run(&routine, Path::new(""), options, Outputs::new(), files, screen)
}

/// The step of a typed operation. After the first step, it works on the result of the step before.
fn planned(
    operation: &'static Described,
    typed: &ArgMatches,
    before: Option<usize>,
    reading: &Reading,
) -> Result<Planned, Failure> {
    let file = |name: &String| {
        let mut reading = reading.clone();
        // A query is for the databases of which no table is named, and ranges are for databases.
        reading.query = if names_database(name) { reading.query } else { None };
        reading.by_ranges_of = if is_database(name) { reading.by_ranges_of } else { None };
        Input::File(name.clone(), Box::new(reading))
    };
    let mut inputs: Vec<Input> = before.map(Input::Step).into_iter().collect();
    let mut covered = Vec::new();
    match (operation.reads, before) {
        (Reads::OneTable, Some(_)) => {}
        (Reads::OneTable | Reads::SeveralTables, _) => {
            inputs.extend(typed.get_many::<String>("FILE").into_iter().flatten().map(file));
        }
        (Reads::EventsAndWindows, before) => {
            let names = if before.is_some() { &["WINDOWS"][..] } else { &["EVENTS", "WINDOWS"] };
            inputs.extend(names.iter().filter_map(|name| typed.get_one::<String>(name)).map(file));
        }
        (Reads::NowAndBefore, before) => {
            let names = if before.is_some() { &["BEFORE"][..] } else { &["NOW", "BEFORE"] };
            inputs.extend(names.iter().filter_map(|name| typed.get_one::<String>(name)).map(file));
        }
        (Reads::Covering, Some(_)) => {
            let message = format!("{} cannot follow another step: begin with it\n", operation.name);
            return Err(clap::Error::raw(clap::error::ErrorKind::ArgumentConflict, message).into());
        }
        (Reads::Covering, None) => {
            for text in typed.get_many::<String>("covering").into_iter().flatten() {
                let (name, columns) = file_and_columns("covering", text)?;
                inputs.push(file(&name));
                covered.push(columns);
            }
        }
        _ => {}
    }
    let mut planned =
        Planned::new(operation, settings_of(operation.settings, typed), inputs).covering(covered);
    if operation.draws() {
        planned.picture = typed.get_one::<String>("write").cloned();
    }
    Ok(planned)
}

/// Errors: a setting for databases is given, and no input is one.
fn expect_used(reading: &Reading, routine: &Routine) -> Result<(), Error> {
    let is_used = |is_set: fn(&Reading) -> bool| {
        let mut inputs = routine.steps.iter().flat_map(|step| &step.inputs);
        inputs.any(|input| matches!(input, Input::File(_, own) if is_set(own)))
    };
    let unused = |setting, value: &str, expected: &str| {
        Err(Error::Setting { setting, value: value.to_owned(), expected: expected.to_owned() })
    };
    if reading.query.is_some() && !is_used(|own| own.query.is_some()) {
        return unused(
            "query",
            "given, but no input is a database without a table",
            "an input such as harbour.sqlite or postgresql://localhost/harbour",
        );
    }
    if reading.by_ranges_of.is_some() && !is_used(|own| own.by_ranges_of.is_some()) {
        return unused(
            "by-ranges-of",
            "given, but no input is a database",
            "an input such as postgresql://localhost/harbour:stays",
        );
    }
    Ok(())
}

/// The text of a routine that gives the same result. Paths in it are relative to the routine's
/// file.
fn saved(routine: &Routine, to: &Path, answer: &AnswerArguments) -> jembric::Result<String> {
    let mut routine = routine.clone();
    let here = std::env::current_dir().unwrap_or_default();
    let beside = here.join(to).parent().map(Path::to_owned).unwrap_or_default();
    let path = |file: &str| match pathdiff::diff_paths(name_in(&here, file), &beside) {
        Some(path) if Path::new(file).is_relative() && name_in(&here, file) != file => {
            path.display().to_string()
        }
        _ => file.to_owned(),
    };
    if let (Some(last), Some(out)) = (routine.steps.last_mut(), &answer.out) {
        last.existing = answer.existing();
        let out = Some(path(&out.display().to_string()));
        if last.operation.draws() && last.picture.is_none() {
            last.picture = out
        } else {
            last.write = out
        }
    }
    routine.to_text(path)
}

/// Whether an input is a database of which no table is named.
pub(crate) fn names_database(file: &str) -> bool {
    // A file whose table is named is not a database itself.
    is_database(file) && database_of(file) == file
}
