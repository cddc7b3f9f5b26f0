//! Runs each command: checks the arguments, opens the outputs, reads, computes, and prints the
//! ledgers.

use crate::{
    Failure,
    arguments::{
        AccountArguments, AnswerArguments, LedgerForm, ReadArguments, command as command_line,
        command_of, options_of_the_chain, settings_of,
    },
    demo,
    drain::Drain,
    files::{self, Files, Reader},
    memory,
    pictures::ShownPicture,
    progress::RunBar,
    screen::{BOLD, Screen},
    show::{self, ChosenColumns},
    typed::{Shown, today},
};
use clap::{ArgMatches, FromArgMatches};
use jembric::{
    CoreError, Error, Expression, Filter, Ledger, Look, Table,
    calendar::{Day, Zone},
    draw::Picture,
    io::{
        Exchange, Outputs, ReadingSettings, database, database_of, is_database, is_database_output,
        name_in, without_secrets,
    },
    routine::{Input, Planned, Ran, Routine, Run, name_of_share},
    steps::{self, Described, Files as _, FilesOnce, Reads, described, file_and_columns},
    visible,
};
use std::{
    ffi::OsString,
    io,
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
    let typed = command_line().try_get_matches_from(first).map_err(with_nearest_command)?;
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
    let settings = ReadArguments::from_arg_matches(typed)?.settings()?;
    let reading = settings.reading()?;
    let reader = Reader::new(files, Path::new(""), screen.shows_progress);
    let mut looks = Vec::new();
    for (n, file) in typed.get_many::<String>("FILE").into_iter().flatten().enumerate() {
        if files == Files::OfTheDisk && settings.query.is_none() && names_database(file) {
            let gap = if n == 0 { "" } else { "\n" };
            screen.words(&format!("{gap}{}", show::tables(file, &database(file)?.tables()?)))?;
            continue;
        }
        let table = reader.table(file, &reading)?;
        let look = Look::at(&table).map_err(Error::from)?;
        let file = without_secrets(file);
        let text = show::look(&file, &look, screen.width);
        screen.words(&format!("{}{text}", if n == 0 { "" } else { "\n" }))?;
        looks.push((file, look));
    }
    if let Some(next) = show::next_of_several(&looks) {
        screen.words(&format!("\n{BOLD}Together{BOLD:#}\n  {}\n", visible(&next)))?;
    }
    Ok(())
}

/// Whether an input is a database of which no table is named.
fn names_database(file: &str) -> bool {
    // A file whose table is named is not a database itself.
    is_database(file) && database_of(file) == file
}

/// Whether an input is the result of a query.
fn has_query(input: &Input) -> bool {
    matches!(input, Input::File(_, ReadingSettings { query: Some(_), .. }))
}

/// The step of a typed operation. After the first step, it works on the result of the step before.
fn planned(
    operation: &'static Described,
    typed: &ArgMatches,
    before: Option<usize>,
    reading: &ReadingSettings,
) -> Result<Planned, Failure> {
    // A query is for the databases of which no table is named.
    let file = |name: &String| match reading.query {
        Some(_) if !names_database(name) => {
            let mut reading = reading.clone();
            reading.query = None;
            Input::File(name.clone(), reading)
        }
        _ => Input::File(name.clone(), reading.clone()),
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
        Planned::new(operation, settings_of(operation, typed), inputs).covering(covered);
    if operation.draws() {
        planned.picture = typed.get_one::<String>("write").cloned();
    }
    Ok(planned)
}

/// Runs a chain of steps.
fn chain(
    operation: &'static Described,
    typed: &ArgMatches,
    further: &[Vec<OsString>],
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let reading = ReadArguments::from_arg_matches(typed)?.settings()?;
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
        let typed = command_of(operation, false).try_get_matches_from(words)?;
        steps.push(planned(operation, &typed, Some(steps.len() - 1), &reading)?);
    }
    let mut routine = Routine::of(steps);
    let inputs = routine.steps.iter().flat_map(|step| &step.inputs);
    if inputs.filter(|input| matches!(input, Input::File(file, _) if file == "-")).count() > 1 {
        let (value, expected) =
            ("given more than once".to_owned(), "standard input for only one file".to_owned());
        return Err(Error::Setting { setting: "-", value, expected }.into());
    }
    if reading.query.is_some() && !routine.steps.iter().flat_map(|step| &step.inputs).any(has_query)
    {
        let (value, expected) = (
            "given, but no input is a database without a table".to_owned(),
            "an input such as harbour.sqlite or postgresql://localhost/harbour".to_owned(),
        );
        return Err(Error::Setting { setting: "query", value, expected }.into());
    }
    let answer = AnswerArguments::from_arg_matches(typed)?;
    routine.as_of.clone_from(&answer.as_of);
    routine.zone.clone_from(&answer.zone);
    let saved =
        answer.save_routine.clone().map(|to| Ok::<_, Error>((saved(&routine, &to, &answer)?, to)));
    let asked = RunOptions {
        account: AccountArguments::from_arg_matches(typed)?,
        upto: None,
        follow: None,
        since: None,
        page: None,
        saved: saved.transpose()?,
        among: None,
        answer,
    };
    run(&routine, Path::new(""), asked, Outputs::new(), files, screen)
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
        match last.operation.draws() && last.picture.is_none() {
            true => last.picture = out,
            false => last.write = out,
        }
    }
    routine.to_text(path)
}

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
struct RunOptions<'a> {
    answer: AnswerArguments,
    account: AccountArguments,
    upto: Option<usize>,
    follow: Option<Expression>,
    /// The earlier date to compare with.
    since: Option<Day>,
    /// The file for the report page.
    page: Option<PathBuf>,
    /// The text of the routine to save, and its file.
    saved: Option<(String, PathBuf)>,
    /// The other processes that run the routine.
    among: Option<Among<'a>>,
}

/// What is printed about a step that has run.
struct Told {
    ledger: Ledger,
    written: Option<String>,
    /// The followed rows in its result.
    followed: Option<Table>,
    /// Whether one of several processes did it for all rows.
    at_one_process: bool,
}

impl Told {
    fn of(ran: &Ran<'_>, follow: Option<&Expression>) -> Told {
        let followed = follow.map(|condition| {
            Filter::new(condition.to_string()).apply_with(&ran.outcome.table, ran.context)
        });
        Told {
            ledger: ran.outcome.ledger.clone(),
            written: ran.written.clone(),
            followed: followed.and_then(Result::ok).map(|outcome| outcome.table),
            at_one_process: ran.at_one_process,
        }
    }
}

/// Runs steps whose files are relative to a directory.
fn run(
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
    conditions.memory = account.memory()?.or(saved_memory).or_else(memory::budget);
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
    checked.await_all()?;
    outputs.commit()?;
    if account.quiet {
        return Ok(());
    }
    let several = among.is_some_and(|among| among.exchange.processes() > 1);
    let is_shown = is_shown || shows_picture;
    tell_ledgers((&told, several), title, &account, &answer, is_shown, screen)?;
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

/// Prints the ledgers of the steps that have run, and the followed rows.
fn tell_ledgers(
    (told, several): (&[Told], bool),
    title: Option<String>,
    account: &AccountArguments,
    answer: &AnswerArguments,
    is_shown: bool,
    screen: &mut Screen,
) -> Result<(), Failure> {
    // A blank line separates the ledgers from a table above them.
    let is_below = screen.is_terminal && answer.out.is_none() && is_shown;
    let mut gap = if is_below && account.ledger == LedgerForm::Text { "\n" } else { "" };
    if let (Some(title), LedgerForm::Text) = (title, account.ledger) {
        screen.account(format!("{gap}{title}"))?;
        gap = "";
    }
    for Told { ledger, written, followed, at_one_process } in told {
        match account.ledger {
            LedgerForm::Text if screen.accounts_are_read => {
                screen.account(format!("{gap}{ledger:#}"))?
            }
            LedgerForm::Text => screen.account(format!("{gap}{ledger}"))?,
            LedgerForm::Json => screen.account(serde_json::to_string(ledger).map_err(not_json)?)?,
        }
        gap = "";
        if *at_one_process && several && account.ledger == LedgerForm::Text {
            screen.account("  process    0, because this step needs all rows together")?;
        }
        if let (Some(file), LedgerForm::Text) = (written, account.ledger) {
            screen.account(format!("  {:<10} {file}", "file"))?;
        }
        if let Some(rows) =
            followed.as_ref().filter(|rows| rows.rows() > 0 && account.ledger == LedgerForm::Text)
        {
            let (some, all) = (rows.head(answer.rows), rows.rows() as u64);
            // The chosen columns are those of the last step, which may not be this one.
            let shown = show::table(&some, all, &ChosenColumns::Fitting, screen.width)?;
            screen.account(format!("\n{}", shown.trim_end()))?;
            gap = "\n";
        }
    }
    Ok(())
}

fn not_json(error: serde_json::Error) -> Error {
    Error::Write { file: "the ledger".to_owned(), source: error.into() }
}
