//! Runs a routine: opens the outputs, reads, computes, and prints the ledgers.

use crate::{
    Failure,
    arguments::{AccountArguments, AnswerArguments, LedgerForm, command_words},
    budget,
    drain::Drain,
    files::{Files, Reader},
    ledgers::{Told, tell_ledgers},
    pictures::ShownPicture,
    progress::RunBar,
    screen::Screen,
    show::ChosenColumns,
    typed::{Shown, today},
};
use clap::{ArgMatches, FromArgMatches};
use jembric::{
    CoreError, Error, Expression, Table,
    calendar::{Day, Zone},
    draw::Picture,
    io::{Exchange, Outputs, is_database_output},
    routine::{Routine, Run, name_of_share},
    steps::{self, FilesOnce},
};
use std::{
    io,
    path::{Path, PathBuf},
};

/// What one of several processes that run a routine together knows of the others.
#[derive(Clone, Copy, Debug)]
pub struct Among<'a> {
    /// What connects them.
    pub exchange: &'a dyn Exchange,
    /// Whether process 0 writes whole results.
    pub gathers: bool,
    /// Today's date, which all processes share.
    pub today: Day,
}

/// Runs a saved routine.
pub(crate) fn routine(
    typed: &ArgMatches,
    files: Files<'_>,
    among: Option<Among<'_>>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let file = typed.get_one::<String>("FILE").map(PathBuf::from).unwrap_or_default();
    let routine = match files.routine() {
        Some(text) => Routine::parse(&file.display().to_string(), text)?,
        None => Routine::file(&file)?,
    };
    let answer = AnswerArguments::from_arg_matches(typed)?;
    // A typed date or zone takes precedence over the saved one.
    let routine = routine.instead(answer.as_of.clone(), answer.zone.clone());
    let directory = file.parent().unwrap_or(Path::new(""));
    if typed.get_flag("check") {
        let reader = Reader::new(files, directory, false);
        let mut conditions = Run::on(&reader, today(None));
        routine.check(&conditions)?;
        // A step may be valid by the names of its columns and invalid by their types. The types
        // come from the first rows only, so this check is not a proof.
        conditions.guess = true;
        let checked = routine.check(&conditions).map_err(|error| {
            Error::Settings(format!(
                "{error}\n\nThe types are those of the first rows. If later rows change the type \
                    of a column, the step may be valid"
            ))
        })?;
        let known = checked.shapes.iter().filter(|shape| shape.is_some()).count();
        let steps = routine.steps.len();
        let hold = if steps == 1 {
            "the step is valid".to_owned()
        } else {
            format!("{steps} steps are valid")
        };
        let unknown = match steps - known {
            0 => String::new(),
            1 => "; the columns of one step are known only after it has run".to_owned(),
            unknown => {
                format!("; the columns of {unknown} steps are known only after they have run")
            }
        };
        let text = format!(
            "{}: {hold}, judging by the headers and first rows of the files{unknown}",
            file.display()
        );
        return Ok(screen.account(text)?);
    }
    let upto = typed.get_one::<String>("upto").map(|name| routine.place_of(name)).transpose()?;
    let follow =
        typed.get_one::<String>("follow").map(|text| text.parse::<Expression>()).transpose();
    let follow = follow.map_err(Error::from)?;
    let account = AccountArguments::from_arg_matches(typed)?;
    let written = routine.steps.iter().map(|step| step.files_written().count()).sum::<usize>();
    let since = typed.get_one::<String>("since").map(|text| text.parse::<Day>());
    let since = since.transpose().map_err(|error| Error::Value(Box::new(error)))?;
    let page = typed.get_one::<PathBuf>("page").cloned();
    let has_page = page.is_some() || routine.page.is_some();
    let further = [answer.out.is_some(), account.aside.is_some(), has_page];
    let written = written + further.into_iter().filter(|is_there| *is_there).count();
    let mut outputs = match files {
        Files::OfTheDisk => {
            // Each process has a journal of its own.
            let journal = among.map(|Among { exchange, .. }| {
                let name = file.display().to_string();
                name_of_share(&name, exchange.process(), exchange.processes()).into()
            });
            Outputs::of_routine(journal.unwrap_or_else(|| file.clone()), written)?
        }
        _ => Outputs::new(),
    };
    if files == Files::OfTheDisk {
        outputs.protect([file.clone()]);
    }
    run(
        &routine,
        directory,
        RunOptions { answer, account, upto, follow, since, page, saved: None, among },
        outputs,
        files,
        screen,
    )
}

/// The options of a run that are not part of the steps.
pub(crate) struct RunOptions<'a> {
    pub(crate) answer: AnswerArguments,
    pub(crate) account: AccountArguments,
    pub(crate) upto: Option<usize>,
    pub(crate) follow: Option<Expression>,
    /// The earlier date to compare with.
    pub(crate) since: Option<Day>,
    /// The file for the report page.
    pub(crate) page: Option<PathBuf>,
    /// The text of the routine to save, and its file.
    pub(crate) saved: Option<(String, PathBuf)>,
    /// The other processes that run the routine.
    pub(crate) among: Option<Among<'a>>,
}

/// Runs steps whose files are relative to a directory.
pub(crate) fn run(
    routine: &Routine,
    directory: &Path,
    asked: RunOptions<'_>,
    mut outputs: Outputs,
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let RunOptions { mut answer, mut account, upto, follow, since, page, saved, among } = asked;
    // Process 0 has what is not shared: ledgers, what is shown, the rows set aside.
    let is_first = among.is_none_or(|among| among.exchange.process() == 0);
    account.quiet |= !is_first;
    // Everything that can fail without the data is checked before the data is read.
    let last = upto.and_then(|place| routine.steps.get(place)).or(routine.steps.last());
    // A last step that draws shows its picture, unless it has a file for it.
    let draws = last.is_some_and(|step| step.operation.draws());
    // With a page, the result is there, and need not be shown as well.
    let is_on_page =
        page.is_some() || routine.page.is_some() && upto.is_none() && files == Files::OfTheDisk;
    let is_on_page = is_on_page && answer.out.is_none() && since.is_none();
    // With an earlier date, the result is what changed.
    let draws = draws && since.is_none();
    let shows_picture = draws && !is_on_page && last.is_some_and(|step| step.picture.is_none());
    let out_name = answer.out.as_deref();
    let shown_picture = match shows_picture {
        true => Some(ShownPicture::of(answer.format, out_name, screen.is_terminal)?),
        false => None,
    };
    let shown = match shows_picture {
        true => Shown::AsTable,
        false => Shown::of(answer.format, out_name, screen.is_terminal)?,
    };
    let shown_aside =
        account.aside.as_deref().map(|aside| Shown::of(None, Some(aside), false)).transpose()?;
    let zone = routine.zone.as_deref().map(str::parse::<Zone>).transpose().map_err(Error::from)?;
    let reader = Reader::new(files, directory, screen.shows_progress);
    // For two dates, each file is read once.
    let once = FilesOnce::of(&reader);
    let reader: &dyn steps::Files = if since.is_some() { &once } else { &reader };
    let today = among.map_or_else(|| today(zone.as_ref()), |among| among.today);
    let mut conditions = Run::on(reader, today);
    if let Some(among) = among {
        conditions.exchange = Some(among.exchange);
        conditions.gathers = among.gathers;
        // What is shown is the whole result.
        conditions.gathers_last = match answer.out {
            // What changed is known to process 0.
            _ if since.is_some() => true,
            Some(_) => among.gathers,
            None => upto.is_some() || last.is_none_or(|step| step.write.is_none()),
        };
    }
    conditions.since = since;
    conditions.reconcile.clone_from(&account.reconcile);
    conditions.follow = follow;
    conditions.upto = upto;
    conditions.page = page;
    conditions.aside = account.aside.is_some();
    let saved_memory = routine.memory.map(|size| size.0);
    conditions.memory = account.memory()?.or(saved_memory).or_else(budget::budget);
    conditions.scratch = Some(scratch(&account, answer.out.as_deref()));
    // Rows that are printed as they come would mix with the bar.
    let prints = answer.out.is_none() && screen.is_terminal && matches!(shown, Shown::As(_));
    let (bar, progress) = match screen.shows_progress && !prints {
        true => Some(RunBar::new()).unzip(),
        false => (None, None),
    };
    conditions.progress = progress;
    conditions.pictures_only = draws && (shows_picture || answer.out.is_none());
    conditions.into = (files == Files::OfTheDisk).then(|| directory.to_owned());
    let checked = routine.check(&conditions)?;
    checked.claim(&mut outputs)?;
    if among.is_some() {
        let share = |out: &PathBuf| checked.file_of_share(&out.display().to_string());
        answer.out = answer.out.as_ref().and_then(share).map(PathBuf::from);
        account.aside = account.aside.filter(|_| is_first);
    }
    const OUT: &str = "the result (--out)";
    const ASIDE: &str = "the rows set aside (--aside)";
    // A table that exists already is found before the data is read.
    for (what, path) in [(OUT, &answer.out), (ASIDE, &account.aside)] {
        if let Some(path) = path {
            outputs.claim(what, path)?;
            outputs.expect_writable(path, answer.existing())?;
        }
    }
    let mut file =
        |what: &str, path: Option<&PathBuf>| path.map(|path| outputs.file(what, path)).transpose();
    let mut out = file(OUT, answer.out.as_ref())?;
    let mut aside = file(ASIDE, account.aside.as_ref())?;
    let mut routine_file = file("the routine (--save-routine)", saved.as_ref().map(|(_, to)| to))?;
    // If there are files to write, a closed pipe ends the printing only, and the work goes on.
    let goes_on = !outputs.is_empty();
    let is_shown = match draws {
        _ if is_on_page || !is_first && answer.out.is_none() => false,
        _ if since.is_some() => true,
        true => !shows_picture && out.is_some(),
        false => out.is_some() || upto.is_some() || last.is_none_or(|step| step.write.is_none()),
    };
    let mut picture: Option<Picture> = None;

    let mut told: Vec<Told> = Vec::new();
    let (mut title, mut as_of) = (None, None);
    let columns = ChosenColumns::of(&answer.columns);
    let is_last_shown = since.is_none();
    let shape = upto.map_or(checked.shapes.last(), |place| checked.shapes.get(place));
    if let Some(Some(shape)) = shape.filter(|_| is_last_shown) {
        columns.check(shape)?;
    }
    let mut answered = None;
    let mut answers = |mut drain: Drain<'_>, width: Option<u16>| {
        let result = checked.run_into(
            &mut outputs,
            &mut |batch| if is_shown { Ok(drain.take(batch)?) } else { Ok(()) },
            &mut |ran| {
                as_of = ran.context.as_of;
                title = routine.title_on(as_of);
                told.push(Told::of(ran, conditions.follow.as_ref()));
                picture = ran.picture.cloned();
                Ok(())
            },
        );
        bar.iter().for_each(RunBar::clear);
        match result {
            // The output failed, not the computation.
            Err(Error::Core(CoreError::Sink(error))) => {
                Err(error.downcast::<io::Error>().map_or_else(io::Error::other, |error| *error))
            }
            result => {
                answered = Some(result);
                drain.finish(width)
            }
        }
    };
    match &mut out {
        _ if shows_picture => {
            let mut nowhere = io::sink();
            answers(Drain::new(shown, (0, columns), &mut nowhere, goes_on), None)
                .map_err(|source| Error::Write { file: "the picture".to_owned(), source })?
        }
        Some(out) => match shown {
            Shown::As(writing) => {
                out.write_tables(writing.existing(answer.existing()), |batches| {
                    let mut write = |rows: &Table| batches.write(rows);
                    answers(Drain::into_file(&mut write, goes_on), None)
                })?
            }
            Shown::AsTable => out
                .write(|to| answers(Drain::new(shown, (usize::MAX, columns), to, goes_on), None))?,
        },
        None => {
            let width = screen.width;
            let shown = screen.answer(|to| {
                answers(Drain::new(shown, (answer.rows, columns), to, goes_on), width)
            });
            match shown {
                Err(error) if goes_on && error.is_closed_pipe() => {}
                shown => shown?,
            }
        }
    }
    let set_aside = answered.transpose()?;
    if let (Some(shown), Some(picture)) = (shown_picture, &picture) {
        match &mut out {
            Some(out) => out.write(|to| shown.write(picture, to))?,
            None => match shown.show(picture, screen) {
                Err(error) if goes_on && error.is_closed_pipe() => {}
                shown => shown?,
            },
        }
    }
    if let (Some(aside), Some(shown), Some(set_aside)) = (&mut aside, shown_aside, set_aside) {
        match shown {
            Shown::As(writing) => {
                aside.write_data(writing.existing(answer.existing()), &set_aside)?;
            }
            Shown::AsTable => {
                let set_aside = set_aside.head(usize::MAX)?;
                aside.write(|to| {
                    let columns = ChosenColumns::All;
                    let mut drain = Drain::new(shown, (usize::MAX, columns), to, false);
                    drain.take(&set_aside).and_then(|()| drain.finish(None))
                })?;
            }
        }
    }
    if let (Some(file), Some((text, _))) = (&mut routine_file, &saved) {
        file.write(|to| to.write_all(text.as_bytes()))?;
    }
    out.into_iter().chain(aside).chain(routine_file).for_each(|file| outputs.add(file));
    // A read transaction would keep a table from being replaced.
    reader.close();
    checked.commit(outputs)?;
    if account.quiet {
        return Ok(());
    }
    let several = among.is_some_and(|among| among.exchange.processes() > 1);
    let is_shown = is_shown || shows_picture;
    let words = routine.words().unwrap_or(&command_words);
    tell_ledgers((&told, several), (title, words), &account, &answer, is_shown, screen)?;
    for why in checked.not_compared() {
        screen.account(format!("  warning: {why}"))?;
    }
    match checked.page_file(as_of)? {
        Some(page) if account.ledger == LedgerForm::Text => {
            Ok(screen.account(format!("The report page is in {}", page.display()))?)
        }
        _ => Ok(()),
    }
}

/// The directory in which temporary files are made: on the disk of the result, if there is one.
fn scratch(account: &AccountArguments, out: Option<&Path>) -> PathBuf {
    let beside = || {
        let out = out.filter(|out| !is_database_output(out.display().to_string()))?;
        let directory = out.parent().filter(|parent| !parent.as_os_str().is_empty());
        Some(directory.unwrap_or(Path::new(".")).to_owned()).filter(|path| path.is_dir())
    };
    account.scratch.clone().or_else(beside).unwrap_or_else(std::env::temp_dir)
}
