//! Runs the steps of a routine.

use super::{
    Input, Planned, Routine,
    aside::SetAside,
    checked::{Checked, Run, Uses},
    readings::Readings,
    report::{Report, whole},
    routine_words,
    since::{StepChanges, all_changes},
    stream::{Failed, Stream},
};
use crate::{
    Context, CoreError, Error, Ledger, Outcome, Result, Sink, Takes,
    calendar::{AsOf, Day, Zone},
    draw::{Picture, PictureFormat},
    io::{Batches, Data, Destination, Memory, Outputs, Reading, Writing, name_in, without_secrets},
    larger::{shared::without_numbers, step::Accounted},
    settings::Given,
    steps::Contents,
};
use std::{
    collections::HashMap,
    io,
    ops::Range,
    path::{Path, PathBuf},
};

/// A step that has run.
#[derive(Debug)]
#[non_exhaustive]
pub struct Ran<'a> {
    /// The step.
    pub step: &'a Planned,
    /// Its place.
    pub place: usize,
    /// Its result; only the columns if it was delivered in batches, to the caller or to the next
    /// step. The rows set aside are in `set_aside`.
    pub outcome: &'a Outcome,
    /// The rows that it set aside, each with the reason.
    pub set_aside: &'a Data,
    /// The file that it was written to, or would be.
    pub written: Option<String>,
    /// The picture of a step that draws.
    #[cfg_attr(not(feature = "draw"), doc(hidden))]
    pub picture: Option<&'a Picture>,
    /// The context in which it ran.
    pub context: &'a Context,
    /// Whether process 0 of several applied it to all rows, because it needs them in one order or
    /// beside all rows of another table.
    pub at_one_process: bool,
}

impl Routine {
    /// The place of a step, by its name or by its number from 1.
    pub fn place_of(&self, name: &str) -> Result<usize> {
        let by_name = self.steps.iter().position(|step| step.name.as_deref() == Some(name));
        let by_number =
            || name.parse::<usize>().ok().filter(|n| (1..=self.steps.len()).contains(n));
        by_name.or_else(|| by_number().map(|n| n - 1)).ok_or_else(|| Error::Setting {
            setting: "upto",
            value: format!("`{name}` is not a step"),
            expected: {
                let names: Vec<&str> =
                    self.steps.iter().filter_map(|step| step.name.as_deref()).collect();
                format!("one of {}, or a number from 1 to {}", names.join(", "), self.steps.len())
            },
        })
    }

    /// What is known before any data is read.
    pub(super) fn context(&self, running: &Run<'_>) -> Result<(Context, Option<AsOf>)> {
        let shown =
            |at: &Range<usize>, error: CoreError| match self.text.is_some() && !at.is_empty() {
                true => self.error(at.clone(), error.to_string(), ""),
                false => error.into(),
            };
        let zone = self.zone.as_deref().map(str::parse::<Zone>).transpose();
        let zone = zone.map_err(|error| shown(&self.zone_at, error))?.unwrap_or_default();
        let as_of = self.as_of.as_deref().map(str::parse::<AsOf>).transpose();
        let as_of = as_of.map_err(|error| shown(&self.as_of_at, error))?;
        let mut context = Context::new()
            .zone(zone)
            .today(running.today)
            .reconcile(running.reconcile.iter().cloned());
        context.follow = running.follow.clone();
        context.memory = running.memory.or(self.memory.map(|size| size.0));
        let context = match &as_of {
            None => context,
            Some(as_of) if as_of.column().is_some() => context.as_of_follows(),
            Some(as_of) => context.as_of(as_of.resolve(running.today, |_| Ok(running.today))?),
        };
        Ok((context, as_of.filter(|as_of| as_of.column().is_some())))
    }

    /// The place of a setting or file in the text, or else that of the step.
    pub(super) fn place_in_text(&self, planned: &Planned, name: &str) -> Range<usize> {
        let place = planned.settings_at.iter().find(|(other, _)| other == name);
        place.map_or(planned.at.clone(), |(_, at)| at.clone())
    }

    /// Marks the place of an error in the text of the routine: the setting or file that caused it,
    /// or the step.
    pub(super) fn told_at(&self, planned: &Planned, error: impl Into<Error>) -> Error {
        let error = error.into();
        let is_of_a_step = !error.is_closed_pipe() && !matches!(error, Error::Process { .. });
        let Some(text) = self.text.as_ref().filter(|_| is_of_a_step) else { return error };
        let is_file = |name: &str| {
            let name = without_secrets(name.trim_start_matches("./"));
            // The error may be about the database of a table.
            let databases = name.match_indices(':').map(|(colon, _)| &name[..colon]);
            let names: Vec<&str> = databases.chain([name.as_str()]).collect();
            error
                .file()
                .is_some_and(|file| names.iter().any(|name| Path::new(file).ends_with(name)))
        };
        let of_setting = error.setting().map(str::to_owned);
        let of_file =
            || planned.settings_at.iter().map(|(name, _)| name).find(|name| is_file(name)).cloned();
        let named = of_setting.or_else(of_file).unwrap_or_default();
        let at = self.place_in_text(planned, &named);
        // An expression is marked at its place in the routine.
        if let Some(wrong) = error.expression() {
            let from = text.text[at.clone()].find(&wrong.text).map(|from| at.start + from);
            let at = from.map_or(at, |from| from + wrong.at.start..from + wrong.at.end);
            return self.error(at, wrong.problem.clone(), wrong.advice.clone().unwrap_or_default());
        }
        self.error(at, error.told(&routine_words), "")
    }

    /// The error of a result that could not be delivered: that of the receiver, or that of the
    /// step.
    fn handed_over(&self, planned: &Planned, error: impl Into<Error>, file: Option<&str>) -> Error {
        match (error.into(), file) {
            (Error::Core(CoreError::Sink(error)), Some(file)) => {
                let source =
                    error.downcast::<io::Error>().map_or_else(io::Error::other, |error| *error);
                Error::write(file)(source)
            }
            (error @ Error::Core(CoreError::Sink(_)), None) => error,
            (error, _) => self.told_at(planned, error),
        }
    }

    /// The files that the steps read, with their names in the routine: tables, holidays and
    /// entities.
    pub fn files_read(&self) -> impl Iterator<Item = &str> {
        self.steps.iter().flat_map(|step| {
            let tables = step.inputs.iter().filter_map(|input| match input {
                Input::File(file, _) => Some(file.as_str()),
                Input::Step(_) => None,
            });
            let named = step.operation.settings.iter().filter_map(|setting| {
                let Given::Text(text) = step.settings.get(setting.name)? else { return None };
                let text = text.as_str();
                match setting.takes {
                    Takes::Days => Some(text),
                    Takes::Entities => text.rsplit_once(':').map(|(file, _)| file),
                    _ => None,
                }
            });
            tables.chain(named)
        })
    }

    /// The steps that are needed for the one at this place: itself, its inputs, and those that
    /// write a file or are on the page.
    fn needed(&self, until: usize, page: impl Fn(usize) -> bool) -> Vec<bool> {
        let is_needed =
            |(place, step): (usize, &Planned)| page(place) || step.files_written().next().is_some();
        let mut needed: Vec<bool> = self.steps.iter().enumerate().map(is_needed).collect();
        needed[until] = true;
        for place in (0..=until).rev() {
            if needed[place] {
                for input in &self.steps[place].inputs {
                    if let Input::Step(earlier) = input {
                        needed[*earlier] = true;
                    }
                }
            }
        }
        needed
    }

    /// The ledgers of the steps that the result of a step depends on, in order.
    pub(super) fn accounts_behind<'a>(
        &self,
        place: usize,
        accounts: &'a [Option<Ledger>],
    ) -> impl Iterator<Item = &'a Ledger> + use<'a> {
        self.behind(place).into_iter().filter_map(|place| accounts[place].as_ref())
    }

    /// The places of the steps that the result of a step depends on, in order.
    pub(super) fn behind(&self, place: usize) -> Vec<usize> {
        let mut behind = vec![false; self.steps.len()];
        behind[place] = true;
        // A step depends on earlier ones only.
        for later in (0..=place).rev() {
            let inputs = self.steps[later].inputs.iter().filter(|_| behind[later]);
            let earlier: Vec<usize> = inputs.filter_map(Input::step).collect();
            earlier.into_iter().for_each(|earlier| behind[earlier] = true);
        }
        (0..place).filter(|&place| behind[place]).collect()
    }

    /// For each step, the later ones (up to a place) that use its result.
    fn uses(&self, until: usize) -> Vec<Uses> {
        let mut uses = vec![Uses::default(); self.steps.len()];
        for (place, step) in self.steps.iter().enumerate().take(until + 1) {
            for input in &step.inputs {
                if let Input::Step(earlier) = input {
                    uses[*earlier].steps += usize::from(uses[*earlier].last != place);
                    uses[*earlier].last = place;
                }
            }
        }
        uses
    }

    /// The table that a step works on, with its name. Each file is read once.
    fn table(
        &self,
        input: &Input,
        inputs: usize,
        answers: &[Option<Data>],
        read: &mut Readings<'_>,
    ) -> Result<(String, Data)> {
        match input {
            Input::Step(place) => {
                let table = answers[*place].clone();
                let name = self.steps[*place].title().to_owned();
                Ok((
                    name,
                    table.ok_or_else(|| {
                        Error::Settings(format!("step {} has no result", place + 1))
                    })?,
                ))
            }
            Input::File(file, settings) => {
                let key = format!("{file}\n{settings:?}");
                if let Some(table) = read.tables.get(&key) {
                    return Ok((file.clone(), table.clone()));
                }
                let mut reading: Reading = settings.reading()?;
                if inputs > 1 {
                    reading = reading.one_of_several();
                }
                if let Some(Some(names)) = read.columns.get(file.as_str()) {
                    reading = reading.only(names);
                }
                let table = match read.shares.exchange {
                    Some(exchange) => read.files.share(file, &reading, &read.memory, exchange)?,
                    None => read.files.data(file, &reading, &read.memory)?,
                };
                read.rows.insert(file.clone(), read.shares.rows(&table)?);
                read.tables.insert(key, table.clone());
                Ok((file.clone(), table))
            }
        }
    }

    /// The title of the ledgers, with the as-of date inserted.
    pub fn title_on(&self, as_of: Option<Day>) -> Option<String> {
        let title = self.title.as_ref()?;
        Some(as_of.map_or_else(|| title.clone(), |day| title.replace("{as-of}", &day.to_string())))
    }
}

/// What a step writes, for messages.
fn written_by(place: usize, planned: &Planned) -> String {
    match &planned.name {
        Some(name) => format!("the result of step `{name}`"),
        None => format!("the result of step {}", place + 1),
    }
}

impl Checked<'_> {
    /// Runs the steps. The result of the last one goes to the sink, in batches, and to its file if
    /// it has one. `told` is called for each step after it has run. Files are written beside their
    /// targets, and put in place once all steps have run.
    ///
    /// Errors: those of reading, of writing, and of every operation. If the sink failed, it is the
    /// core's [`Sink`](CoreError::Sink).
    pub fn run(
        &self,
        last: &mut Sink<'_>,
        told: &mut dyn FnMut(&Ran<'_>) -> Result<()>,
    ) -> Result<()> {
        let mut outputs = Outputs::new();
        self.claim(&mut outputs)?;
        self.run_into(&mut outputs, last, told)?;
        self.running.files.close();
        self.await_all()?;
        outputs.commit()
    }

    /// Waits until all processes have run their steps. Nothing is put in place before that.
    ///
    /// Errors: another process failed.
    pub fn await_all(&self) -> Result<()> {
        match self.running.exchange {
            Some(exchange) => exchange.parcels(&mut |_| Ok(()), &mut |_, _| Ok(())),
            None => Ok(()),
        }
    }

    /// Claims the files that the steps write, as far as their names are known in advance, and
    /// protects those that are read.
    ///
    /// Errors: a step writes a file that the routine reads, or that another output has claimed.
    pub fn claim(&self, outputs: &mut Outputs) -> Result<()> {
        let Checked { routine, running, .. } = self;
        let (context, as_of) = routine.context(running)?;
        let read = routine.files_read().filter(|file| *file != "-");
        outputs.protect(read.filter_map(|file| match running.files.contents(file) {
            Some(Contents::File(path)) => Some(path),
            Some(Contents::Bytes(_)) => None,
            None => running.into.as_ref().map(|directory| name_in(directory, file).into()),
        }));
        if as_of.is_none() && self.shares().is_first() {
            self.claim_page(outputs, context.as_of)?;
        }
        let Some(directory) = &running.into else { return Ok(()) };
        let shares = self.shares();
        let until = running.upto.unwrap_or(routine.steps.len().saturating_sub(1));
        for (place, planned) in routine.steps.iter().enumerate().take(until + 1) {
            for name in planned.files_written() {
                if as_of.is_some() && name.contains("{as-of}") {
                    continue;
                }
                let name = routine.name_with_date(name, context.as_of, false, planned)?;
                let draws = planned.operation.draws();
                if !if draws { shares.is_first() } else { shares.write(&name) } {
                    continue;
                }
                let name = if draws { name } else { shares.name(&name) };
                let path = name_in(directory, &name);
                let claimed = outputs.claim(&written_by(place, planned), &path);
                let claimed =
                    claimed.and_then(|()| outputs.expect_writable(&path, planned.existing));
                claimed.map_err(|error| {
                    let at = routine.place_in_text(planned, "write");
                    routine.error(at, error.told(&routine_words), "")
                })?;
            }
        }
        Ok(())
    }

    /// Runs the steps as [`run`](Checked::run) does, and lets the caller put their files in place
    /// together with others. Call [`Files::close`](crate::steps::Files::close) before that, because
    /// a table cannot be replaced while a transaction reads its database.
    ///
    /// Returns the rows that all steps set aside, if the run keeps them. If several steps set some
    /// aside, the column `set_aside_by` names the step.
    pub fn run_into(
        &self,
        outputs: &mut Outputs,
        last: &mut Sink<'_>,
        told: &mut dyn FnMut(&Ran<'_>) -> Result<()>,
    ) -> Result<Data> {
        let Checked { routine, running, tables, plans, .. } = self;
        self.shares().expect_possible(routine, running)?;
        let (mut context, as_of) = routine.context(running)?;
        let until = running.upto.unwrap_or(routine.steps.len().saturating_sub(1));
        let shares = self.shares();
        let mut report = match shares.is_first() {
            true => Report::begin(self, &context, as_of.is_some(), outputs)?,
            false => None,
        };
        let needed = routine.needed(until, |place| self.needs_whole(place));
        let uses = routine.uses(until);
        let places = (0..=until).filter(|&place| needed[place]);
        let columns = match &running.follow {
            // The page shows the rows set aside in full.
            // So do results that are compared.
            None if !running.aside && !self.has_page() && !self.compares_any() => {
                let newest = as_of.as_ref().and_then(AsOf::column).map(str::to_owned);
                let at_any_rate: Vec<String> =
                    running.reconcile.iter().cloned().chain(newest).collect();
                // A picture needs only the columns that it draws.
                let draws = plans[until].is_some() && routine.steps[until].operation.draws();
                let shown = Some(until).filter(|_| !(running.pictures_only && draws));
                routine.columns_of_files(places.clone(), shown, (tables, plans), &at_any_rate)
            }
            _ => HashMap::new(),
        };
        let memory = match running.memory.or(routine.memory.map(|size| size.0)) {
            None => Memory::unlimited(),
            Some(budget) => {
                let scratch = running.scratch.clone().unwrap_or_else(std::env::temp_dir);
                Memory::telling(budget, scratch, running.progress.clone())
            }
        };
        let mut read = Readings {
            files: running.files,
            shares,
            memory: memory.clone(),
            columns,
            tables: HashMap::new(),
            rows: HashMap::new(),
        };
        let mut answers: Vec<Option<Data>> = vec![None; routine.steps.len()];
        // The ledger of each step, for the foot lines of pictures.
        let draws = report.is_some() || routine.steps.iter().any(|step| step.operation.draws());
        let mut accounts: Vec<Option<Ledger>> = vec![None; routine.steps.len()];
        if let Some(as_of) = as_of {
            context = self.dated(context, &as_of, &mut read)?;
        }
        let earlier = self.earlier(&context)?;
        let mut changes: Vec<StepChanges> = Vec::new();
        let mut all_set_aside = SetAside::default();
        let mut told = |ran: &Ran<'_>| {
            if running.aside {
                all_set_aside.add(&ran.outcome.ledger.step, ran.set_aside);
            }
            told(ran)
        };
        let mut places = places.peekable();
        while let Some(place) = places.next() {
            let planned = &routine.steps[place];
            let mut inputs = Vec::new();
            for input in &planned.inputs {
                let input = routine.table(input, planned.inputs.len(), &answers, &mut read);
                inputs.push(input.map_err(|error| routine.told_at(planned, error))?);
            }
            // A table that no later step needs is dropped before the next ones run.
            for input in &planned.inputs {
                if let Input::Step(earlier) = input
                    && uses[*earlier].last <= place
                {
                    answers[*earlier] = None;
                }
            }
            let tables = match planned.operation.draws() {
                true => {
                    let tables = shares.all_whole(&inputs, &memory);
                    let tables = tables.and_then(|tables| whole(&tables, &memory));
                    tables.map_err(|error| routine.told_at(planned, error))?
                }
                false => Vec::new(),
            };
            if planned.operation.draws() && !shares.is_first() {
                let columns = shares.columns_of_first(None)?;
                answers[place] = columns.filter(|_| uses[place].last > place).map(Data::Table);
                continue;
            }
            if let Some(drawn) = self.steps[place].drawn(&tables, &context) {
                let drawn = drawn.map_err(|error| routine.told_at(planned, error))?;
                let (outcome, picture) = drawn;
                shares.columns_of_first(Some(&outcome.table))?;
                let Accounted { outcome, set_aside } = Accounted::of(outcome);
                let picture = picture.after(routine.accounts_behind(place, &accounts));
                let written = self.write_drawn(place, &outcome, &picture, &context, outputs)?;
                if place == until && earlier.is_none() {
                    let failed = |error| routine.handed_over(planned, error, None);
                    last(&outcome.table).map_err(CoreError::Sink).map_err(failed)?;
                }
                let ran = Ran {
                    step: planned,
                    place,
                    outcome: &outcome,
                    set_aside: &set_aside,
                    written,
                    picture: Some(&picture),
                    context: &context,
                    at_one_process: shares.are_there(),
                };
                if let Some(report) = &mut report {
                    report.take(&ran, (Some(&inputs), &memory), &accounts)?;
                }
                told(&ran)?;
                let answer = Some(outcome.table).filter(|_| uses[place].last > place);
                answers[place] = answer.map(Data::Table);
                accounts[place] = Some(outcome.ledger);
                continue;
            }
            let mut stream = Stream::from(self, place, until, &uses, &inputs, (&context, &memory))
                .map_err(|error| routine.told_at(planned, error))?;
            for _ in 1..stream.steps.len() {
                places.next();
            }
            let end = stream.end();
            let planned = &routine.steps[end];
            let at = |error: Error| routine.told_at(planned, error);
            let written = match &planned.write {
                Some(name) => Some(routine.name_with_date(name, context.as_of, false, planned)?),
                None => None,
            };
            let mut file = match (&written, &running.into) {
                (Some(name), Some(directory)) if shares.write(name) => {
                    let path = PathBuf::from(name_in(directory, &shares.name(name)));
                    let writing = Writing::of(&path).map_err(at)?.existing(planned.existing);
                    let destination = outputs.file(&written_by(end, planned), &path).map_err(at)?;
                    Some(StepFile { destination, writing })
                }
                _ => None,
            };
            let gathers_file = written.as_ref().is_some_and(|name| shares.gathers_into(name));
            let gathers_last = end == until && shares.are_there() && shares.gathers_last;
            let gathers = gathers_file || gathers_last;
            // Only a result that nobody else needs is delivered in batches.
            let is_delivered = end == until && !self.needs_whole(end) && earlier.is_none();
            let accounted = if is_delivered && !gathers {
                let answered = match &mut file {
                    None => stream.hand_over(last),
                    Some(file) => file.write_both(&stream, last).map_err(at)?,
                };
                let failed = |(place, error): Failed| {
                    routine.handed_over(&routine.steps[place], *error, written.as_deref())
                };
                answered.map_err(failed)?
            } else if shares.are_there() {
                let told = |(place, error): Failed| routine.told_at(&routine.steps[place], *error);
                stream.gathers = gathers || self.needs_whole(end);
                let (mut accounted, answer) = stream.collected().map_err(told)?;
                let own = answer.ok_or_else(|| at(no_result().into()))?;
                let whole = match stream.gathers {
                    true => Some(shares.in_order(&own, stream.order(), &memory).map_err(at)?),
                    false => None,
                };
                let own = without_numbers(own, &memory).map_err(at)?;
                let result = |gathers| whole.as_ref().filter(|_| gathers).unwrap_or(&own);
                if let Some(file) = &mut file {
                    file.write_data(result(gathers_file)).map_err(at)?;
                }
                if end == until {
                    let failed = |error| routine.handed_over(planned, error, None);
                    result(gathers_last)
                        .each(&mut |batch| Ok(last(&batch).map_err(CoreError::Sink)?))
                        .map_err(failed)?;
                }
                if let (Some(last), Some(whole)) = (accounted.last_mut(), &whole)
                    && self.needs_whole(end)
                {
                    last.outcome.table = whole.whole(&memory).map_err(at)?;
                }
                answers[end] = Some(own).filter(|_| uses[end].last > end);
                accounted
            } else if stream.is_larger() && !self.needs_whole(end) && earlier.is_none() {
                let told = |(place, error): Failed| routine.told_at(&routine.steps[place], *error);
                let (accounted, answer) = stream.collected().map_err(told)?;
                if let (Some(file), Some(answer)) = (&mut file, &answer) {
                    file.write_data(answer).map_err(at)?;
                }
                answers[end] = answer.filter(|_| uses[end].last > end);
                accounted
            } else {
                let told = |(place, error): Failed| routine.told_at(&routine.steps[place], *error);
                let accounted = stream.whole().map_err(told)?;
                let answer = accounted.last().map(|step| &step.outcome.table);
                if let (Some(file), Some(answer)) = (&mut file, answer) {
                    file.write(|batches| batches.write(answer)).map_err(at)?;
                }
                if let Some(answer) = answer.filter(|_| end == until && earlier.is_none()) {
                    let failed = |error| routine.handed_over(planned, error, None);
                    last(answer).map_err(CoreError::Sink).map_err(failed)?;
                }
                let answer = answer.filter(|_| uses[end].last > end).cloned();
                answers[end] = answer.map(Data::Table);
                accounted
            };
            if let Some(StepFile { destination, .. }) = file {
                outputs.add(destination);
            }
            // The page applies the step's further grains to whole tables.
            let of_page = match shares.are_there() && self.page_needs_inputs(end) {
                true => Some(shares.all_whole(&inputs, &memory).map_err(at)?),
                false => None,
            };
            for (&place, accounted) in stream.steps.iter().zip(&accounted) {
                let Accounted { outcome, set_aside } = accounted;
                let written = written.as_deref().filter(|_| place == end);
                let written = written.map(|name| without_secrets(&shares.name(name)));
                let ran = Ran {
                    step: &routine.steps[place],
                    place,
                    outcome,
                    set_aside,
                    written,
                    picture: None,
                    context: &context,
                    at_one_process: place == stream.steps[0] && stream.is_at_one_process(),
                };
                if let Some(report) = &mut report {
                    let inputs = Some(of_page.as_deref().unwrap_or(&inputs));
                    report.take(&ran, (inputs.filter(|_| place == end), &memory), &accounts)?;
                }
                told(&ran)?;
                if let Some(earlier) = earlier.as_ref().filter(|_| place == end) {
                    match earlier.changes(self, &ran)? {
                        Some(Ok(found)) => changes.push(found),
                        Some(Err(why)) => self.not_compared.borrow_mut().push((place, why)),
                        None => {}
                    }
                }
                accounts[place] = Some(&outcome.ledger).filter(|_| draws).cloned();
            }
        }
        if earlier.is_some() {
            let failed = |error| routine.handed_over(&routine.steps[until], error, None);
            last(&all_changes(&routine.steps, &changes)?)
                .map_err(CoreError::Sink)
                .map_err(failed)?;
            for StepChanges { place, outcome, .. } in &changes {
                let (step, place) = (&routine.steps[*place], *place);
                let (written, picture) = (None, None);
                let (context, set_aside) = (&context, &Data::Table(outcome.set_aside.clone()));
                let at_one_process = false;
                told(&Ran {
                    step,
                    place,
                    outcome,
                    set_aside,
                    written,
                    picture,
                    context,
                    at_one_process,
                })?;
            }
        }
        if let Some(report) = report {
            report.finish(outputs, &context, &read, &changes)?;
        }
        all_set_aside.finish(&memory)
    }

    /// Writes the picture of a step and its table, as far as it has files for them. Returns the
    /// names of the files.
    fn write_drawn(
        &self,
        place: usize,
        outcome: &Outcome,
        picture: &Picture,
        context: &Context,
        outputs: &mut Outputs,
    ) -> Result<Option<String>> {
        let planned = &self.routine.steps[place];
        let at = |error: Error| self.routine.told_at(planned, error);
        let mut names = Vec::new();
        for (name, is_picture) in [(&planned.picture, true), (&planned.write, false)] {
            let Some(name) = name else { continue };
            let name = self.routine.name_with_date(name, context.as_of, false, planned)?;
            if let Some(directory) = &self.running.into {
                let path = PathBuf::from(name_in(directory, &name));
                let mut file = outputs.file(&written_by(place, planned), &path).map_err(at)?;
                match is_picture {
                    true => {
                        let format = PictureFormat::of(&path).map_err(at)?;
                        file.write(|to| format.write(picture, to)).map_err(at)?;
                        outputs.add(file);
                    }
                    false => {
                        let writing = Writing::of(&path).map_err(at)?.existing(planned.existing);
                        let mut file = StepFile { destination: file, writing };
                        file.write(|batches| batches.write(&outcome.table)).map_err(at)?;
                        outputs.add(file.destination);
                    }
                }
            }
            names.push(without_secrets(&name));
        }
        Ok((!names.is_empty()).then(|| names.join(", ")))
    }

    /// The context with its as-of date, if that is `today` or a column's newest date.
    fn dated(&self, context: Context, as_of: &AsOf, read: &mut Readings<'_>) -> Result<Context> {
        let Checked { routine, running, .. } = self;
        let mut inputs = routine.steps.iter().flat_map(|step| &step.inputs);
        let Some(first) = inputs.find(|input| matches!(input, Input::File(..))) else {
            return Err(Error::Setting {
                setting: "as-of",
                value: format!("`{as_of}`, but no file is read"),
                expected: "a date or `today`".to_owned(),
            });
        };
        let (_, table) = routine.table(first, 1, &[], read)?;
        let zone = context.zone.clone();
        let newest = as_of.column().map(|column| read.shares.newest(&table, column, &zone));
        let newest = newest.transpose()?;
        let day =
            as_of.resolve(running.today, |_| newest.ok_or(CoreError::NoAsOf { what: "it" }))?;
        Ok(context.as_of(day))
    }
}

fn no_result() -> CoreError {
    CoreError::Sink("the step gave no result".into())
}

/// The file for the result of a step.
struct StepFile {
    destination: Destination,
    writing: Writing,
}

impl StepFile {
    /// Writes what is delivered in batches.
    fn write(&mut self, answer: impl FnOnce(&mut Batches<'_>) -> io::Result<()>) -> Result<()> {
        self.destination.write_tables(self.writing, answer)
    }

    /// Writes a result that may be larger than memory.
    fn write_data(&mut self, data: &Data) -> Result<()> {
        self.destination.write_data(self.writing, data)
    }

    /// Writes the result of a stream, and passes it to a sink as well.
    fn write_both(
        &mut self,
        stream: &Stream<'_>,
        last: &mut Sink<'_>,
    ) -> Result<std::result::Result<Vec<Accounted>, Failed>> {
        let mut answered = Err((stream.end(), Box::new(no_result().into())));
        self.write(|batches| {
            answered = stream.hand_over(&mut |batch| {
                batches.write(batch)?;
                last(batch)
            });
            Ok(())
        })?;
        Ok(answered)
    }
}
