//! Runs a routine: opens the outputs, reads, computes, and prints the ledgers.

use crate::{
    Failure,
    arguments::{AccountArguments, AnswerArguments, LedgerForm, command_words},
    budget,
    drain::Drain,
    files::{Files, Reader},
    ledgers::{StepReport, print_ledgers},
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
    io::{Data, Destination, Exchange, Existing, Outputs, is_database_output},
    routine::Routine,
    run::{Checked, RunSettings, name_of_share},
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
        return check(&routine, &file, Reader::new(files, directory, false), screen);
    }
    let upto = typed.get_one::<String>("upto").map(|name| routine.place_of(name)).transpose()?;
    let follow =
        typed.get_one::<String>("follow").map(|text| text.parse::<Expression>()).transpose();
    let follow = follow.map_err(Error::from)?;
    let account = AccountArguments::from_arg_matches(typed)?;
    let written = routine.steps.iter().map(|step| step.files_written().count()).sum::<usize>();
    let since = typed.get_one::<String>("since").map(|text| text.parse::<Day>());
    let since = since.transpose().map_err(|error| Error::Value(Box::new(error.into())))?;
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

/// Checks a routine without running it: first the names of columns, then their types.
fn check(
    routine: &Routine,
    file: &Path,
    reader: Reader<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let mut conditions = RunSettings::on(&reader, today(None));
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
    Ok(screen.account(text)?)
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

impl RunOptions<'_> {
    /// Replaces the files by those of this process.
    fn share(&mut self, checked: &Checked<'_>, is_first: bool) {
        let share = |out: &PathBuf| checked.file_of_share(&out.display().to_string());
        self.answer.out = self.answer.out.as_ref().and_then(share).map(PathBuf::from);
        if !is_first {
            self.account.aside = None;
        }
    }

    /// The columns to show of the last table.
    ///
    /// Errors: it is known to lack one of them. What changed has columns of its own.
    fn columns(&self, checked: &Checked<'_>) -> Result<ChosenColumns, Failure> {
        let columns = ChosenColumns::parse(&self.answer.columns);
        let shape = self.upto.map_or(checked.shapes.last(), |place| checked.shapes.get(place));
        if let Some(Some(shape)) = shape
            && self.since.is_none()
        {
            columns.check(shape)?;
        }
        Ok(columns)
    }
}

/// What a run delivers and in which form. This follows from what was typed and from the routine
/// alone, so it is decided before anything is opened.
struct Delivery {
    /// Whether the last step draws. With an earlier date, the result is what changed.
    draws: bool,
    /// The form of the picture that is shown instead of the last table, unless the step has a file
    /// for it.
    picture: Option<ShownPicture>,
    /// The form of the last table.
    table: Shown,
    /// The form of the rows set aside.
    aside: Option<Shown>,
    /// Whether the last table is on the report page and need not be shown as well.
    is_on_page: bool,
    /// Whether the results are compared with those of an earlier date.
    is_compared: bool,
    /// Whether the last step writes its table to a file of its own.
    is_written: bool,
}

impl Delivery {
    fn decide(
        routine: &Routine,
        options: &RunOptions<'_>,
        is_terminal: bool,
        writes_files: bool,
    ) -> Result<Delivery, Failure> {
        let RunOptions { answer, account, upto, since, page, .. } = options;
        let last = upto.and_then(|place| routine.steps.get(place)).or(routine.steps.last());
        let out = answer.out.as_deref();
        let is_compared = since.is_some();
        let draws = !is_compared && last.is_some_and(|step| step.operation.draws());
        let has_page = page.is_some() || routine.page.is_some() && upto.is_none() && writes_files;
        let is_on_page = has_page && out.is_none() && !is_compared;
        let shows_picture = draws && !is_on_page && last.is_some_and(|step| step.picture.is_none());
        let (picture, table) = if shows_picture {
            let picture = ShownPicture::choose(answer.format, out, is_terminal)?;
            (Some(picture), Shown::AsTable)
        } else {
            (None, Shown::choose(answer.format, out, is_terminal)?)
        };
        let aside = account.aside.as_deref();
        let aside = aside.map(|aside| Shown::choose(None, Some(aside), false)).transpose()?;
        let is_written = upto.is_none() && last.is_some_and(|step| step.write.is_some());
        Ok(Delivery { draws, picture, table, aside, is_on_page, is_compared, is_written })
    }

    /// Whether the last table is shown, or written to the file of the result if there is one.
    fn delivers_table(&self, is_first: bool, has_file: bool) -> bool {
        if self.is_on_page || !is_first && !has_file {
            false
        } else if self.is_compared {
            true
        } else if self.draws {
            self.picture.is_none() && has_file
        } else {
            has_file || !self.is_written
        }
    }

    /// Whether process 0 of several delivers the whole last result. What is shown is always whole,
    /// and only process 0 knows what changed.
    fn gathers_last(&self, gathers: bool, has_file: bool) -> bool {
        if self.is_compared {
            true
        } else if has_file {
            gathers
        } else {
            !self.is_written
        }
    }
}

/// Runs steps whose files are relative to a directory.
pub(crate) fn run(
    routine: &Routine,
    directory: &Path,
    mut options: RunOptions<'_>,
    mut outputs: Outputs,
    files: Files<'_>,
    screen: &mut Screen,
) -> Result<(), Failure> {
    let among = options.among;
    // Process 0 has what is not shared: ledgers, what is shown, the rows set aside.
    let is_first = among.is_none_or(|among| among.exchange.process() == 0);
    options.account.quiet |= !is_first;
    let writes_files = files == Files::OfTheDisk;
    let delivery = Delivery::decide(routine, &options, screen.is_terminal, writes_files)?;
    let reader = Reader::new(files, directory, screen.shows_progress);
    // For two dates, each file is read once.
    let once = FilesOnce::new(&reader);
    let reader: &dyn steps::Files = if delivery.is_compared { &once } else { &reader };
    // Rows that are printed as they come would mix with the bar.
    let prints = options.answer.out.is_none()
        && screen.is_terminal
        && matches!(delivery.table, Shown::As(_));
    let (bar, progress) = (screen.shows_progress && !prints).then(RunBar::new).unzip();
    let mut conditions = conditions(routine, &options, &delivery, reader)?;
    conditions.progress = progress;
    conditions.into = writes_files.then(|| directory.to_owned());
    let checked = routine.check(&conditions)?;
    checked.claim(&mut outputs)?;
    if among.is_some() {
        options.share(&checked, is_first);
    }
    let mut targets = Targets::open(&options, &mut outputs)?;
    let mut execution = Execution {
        checked: &checked,
        delivers_table: delivery.delivers_table(is_first, targets.out.is_some()),
        // If there are files to write, a closed pipe ends the printing only, and the work goes on.
        goes_on: !outputs.is_empty(),
        outputs: &mut outputs,
        bar,
        follow: options.follow.as_ref(),
        as_of: None,
        steps: Vec::new(),
        picture: None,
        result: None,
    };
    let columns = options.columns(&checked)?;
    execution.deliver(&delivery, &options.answer, columns, &mut targets.out, screen)?;
    let Execution { as_of, steps, picture, result, goes_on, delivers_table, .. } = execution;
    let set_aside = result.transpose()?;
    if let (Some(form), Some(picture)) = (delivery.picture, &picture) {
        match &mut targets.out {
            Some(out) => out.write(|to| form.write(picture, to))?,
            None => unless_closed(form.show(picture, screen), goes_on)?,
        }
    }
    if let (Some(form), Some(set_aside)) = (&delivery.aside, set_aside) {
        targets.write_aside(form, &set_aside, options.answer.existing())?;
    }
    targets.close(&options, &mut outputs)?;
    // A read transaction would keep a table from being replaced.
    reader.close();
    checked.commit(outputs)?;
    if options.account.quiet {
        return Ok(());
    }
    let several = among.is_some_and(|among| among.exchange.processes() > 1);
    let shows = delivers_table || delivery.picture.is_some();
    let words = routine.words().unwrap_or(&command_words);
    let RunOptions { account, answer, .. } = &options;
    print_ledgers(
        (&steps, several),
        (routine.title_on(as_of), words),
        account,
        answer,
        shows,
        screen,
    )?;
    print_end(&checked, as_of, account.ledger, screen)
}

/// Prints why results were not compared, and where the report page is.
fn print_end(
    checked: &Checked<'_>,
    as_of: Option<Day>,
    form: LedgerForm,
    screen: &mut Screen,
) -> Result<(), Failure> {
    for why in checked.not_compared() {
        screen.account(format!("  warning: {why}"))?;
    }
    match checked.page_file(as_of)? {
        Some(page) if form == LedgerForm::Text => {
            Ok(screen.account(format!("The report page is in {}", page.display()))?)
        }
        _ => Ok(()),
    }
}

/// The settings of the run that follow from the options.
fn conditions<'a>(
    routine: &Routine,
    options: &RunOptions<'a>,
    delivery: &Delivery,
    reader: &'a dyn steps::Files,
) -> Result<RunSettings<'a>, Failure> {
    let RunOptions { answer, account, .. } = options;
    let zone = routine.zone.as_deref().map(str::parse::<Zone>).transpose().map_err(Error::from)?;
    let today = options.among.map_or_else(|| today(zone.as_ref()), |among| among.today);
    let mut conditions = RunSettings::on(reader, today);
    if let Some(among) = options.among {
        conditions.exchange = among.exchange;
        conditions.gathers = among.gathers;
        conditions.gathers_last = delivery.gathers_last(among.gathers, answer.out.is_some());
    }
    conditions.since = options.since;
    conditions.reconcile.clone_from(&account.reconcile);
    conditions.follow = options.follow.clone();
    conditions.upto = options.upto;
    conditions.page = options.page.clone();
    conditions.aside = account.aside.is_some();
    let saved_memory = routine.memory.map(|size| size.0);
    conditions.memory = account.memory()?.or(saved_memory).or_else(budget::budget);
    conditions.scratch = Some(scratch(account, answer.out.as_deref()));
    conditions.pictures_only =
        delivery.draws && (delivery.picture.is_some() || answer.out.is_none());
    Ok(conditions)
}

/// The files of a run besides those of its steps.
struct Targets {
    out: Option<Destination>,
    aside: Option<Destination>,
    routine: Option<Destination>,
}

impl Targets {
    /// Errors: two outputs have the same file, or a table exists already. This is found before the
    /// data is read.
    fn open(options: &RunOptions<'_>, outputs: &mut Outputs) -> Result<Targets, Failure> {
        const OUT: &str = "the result (--out)";
        const ASIDE: &str = "the rows set aside (--aside)";
        const ROUTINE: &str = "the routine (--save-routine)";
        let RunOptions { answer, account, saved, .. } = options;
        for (what, path) in [(OUT, &answer.out), (ASIDE, &account.aside)] {
            if let Some(path) = path {
                outputs.claim(what, path)?;
                outputs.expect_writable(path, answer.existing())?;
            }
        }
        let mut file = |what: &str, path: Option<&PathBuf>| {
            path.map(|path| outputs.file(what, path)).transpose()
        };
        Ok(Targets {
            out: file(OUT, answer.out.as_ref())?,
            aside: file(ASIDE, account.aside.as_ref())?,
            routine: file(ROUTINE, saved.as_ref().map(|(_, path)| path))?,
        })
    }

    fn write_aside(
        &mut self,
        form: &Shown,
        set_aside: &Data,
        existing: Existing,
    ) -> Result<(), Failure> {
        let Some(aside) = &mut self.aside else { return Ok(()) };
        match form {
            Shown::As(writing) => {
                aside.write_data(writing.existing(existing), set_aside)?;
            }
            Shown::AsTable => {
                let set_aside = set_aside.head(usize::MAX)?;
                aside.write(|to| {
                    let columns = ChosenColumns::All;
                    let mut drain = Drain::new(Shown::AsTable, (usize::MAX, columns), to, false);
                    drain.take(&set_aside).and_then(|()| drain.finish(None))
                })?;
            }
        }
        Ok(())
    }

    /// Writes the routine, and adds all files to the outputs.
    fn close(mut self, options: &RunOptions<'_>, outputs: &mut Outputs) -> Result<(), Failure> {
        if let (Some(file), Some((text, _))) = (&mut self.routine, &options.saved) {
            file.write(|to| to.write_all(text.as_bytes()))?;
        }
        let files = [self.out, self.aside, self.routine];
        files.into_iter().flatten().for_each(|file| outputs.add(file));
        Ok(())
    }
}

/// A checked routine while its steps run, and what is known of it afterwards.
struct Execution<'a> {
    checked: &'a Checked<'a>,
    outputs: &'a mut Outputs,
    delivers_table: bool,
    goes_on: bool,
    bar: Option<RunBar>,
    follow: Option<&'a Expression>,
    as_of: Option<Day>,
    steps: Vec<StepReport>,
    picture: Option<Picture>,
    /// The rows set aside, or the error of a step. None if the output failed before.
    result: Option<jembric::Result<Data>>,
}

impl Execution<'_> {
    /// Runs the steps, and writes or shows the last table.
    fn deliver(
        &mut self,
        delivery: &Delivery,
        answer: &AnswerArguments,
        columns: ChosenColumns,
        out: &mut Option<Destination>,
        screen: &mut Screen,
    ) -> Result<(), Failure> {
        let (shown, goes_on) = (delivery.table, self.goes_on);
        if delivery.picture.is_some() {
            let mut nowhere = io::sink();
            return self
                .run(Drain::new(shown, (0, columns), &mut nowhere, goes_on), None)
                .map_err(|source| Error::Write { file: "the picture".to_owned(), source }.into());
        }
        match (out, shown) {
            (Some(out), Shown::As(writing)) => {
                out.write_tables(writing.existing(answer.existing()), |batches| {
                    let mut write = |rows: &Table| batches.write(rows);
                    self.run(Drain::into_file(&mut write, goes_on), None)
                })?
            }
            (Some(out), Shown::AsTable) => out.write(|to| {
                self.run(Drain::new(Shown::AsTable, (usize::MAX, columns), to, goes_on), None)
            })?,
            (None, shown) => {
                let width = screen.width;
                let printed = screen.answer(|to| {
                    self.run(Drain::new(shown, (answer.rows, columns), to, goes_on), width)
                });
                unless_closed(printed, goes_on)?;
            }
        }
        Ok(())
    }

    /// Runs the steps, and passes the last table to the drain. Returns an error of the output only;
    /// that of a step is kept.
    fn run(&mut self, mut drain: Drain<'_>, width: Option<u16>) -> io::Result<()> {
        let Execution { checked, outputs, follow, as_of, steps, picture, .. } = self;
        let delivers_table = self.delivers_table;
        let result = checked.run_into(
            outputs,
            &mut |batch| if delivers_table { Ok(drain.take(batch)?) } else { Ok(()) },
            &mut |ran| {
                *as_of = ran.context.as_of;
                steps.push(StepReport::new(ran, *follow));
                *picture = ran.picture.cloned();
                Ok(())
            },
        );
        self.bar.iter().for_each(RunBar::clear);
        match result {
            Err(Error::Core(CoreError::Sink(error))) => {
                Err(error.downcast::<io::Error>().map_or_else(io::Error::other, |error| *error))
            }
            result => {
                self.result = Some(result);
                drain.finish(width)
            }
        }
    }
}

/// Ignores a closed pipe if there are files to write.
fn unless_closed(printed: jembric::Result<()>, goes_on: bool) -> jembric::Result<()> {
    match printed {
        Err(error) if goes_on && error.is_closed_pipe() => Ok(()),
        printed => printed,
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
