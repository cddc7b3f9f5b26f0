//! [`Executor`]: runs one step after the other, and keeps what later ones need.

use super::{
    Ran,
    checked::Checked,
    inputs::InputTables,
    outputs::{StepFile, no_result, written_by},
    report::{Report, whole},
    shares::Shares,
    since::{Earlier, all_changes},
    stream::{Failed, Stream},
};
use crate::{
    Context, CoreError, Error, Ledger, Result, Sink,
    compared::StepChanges,
    data::{Data, memory::Memory},
    databases::name::name_in,
    larger::step::Accounted,
    routine::{Input, Routine, Uses},
    uri::shown_name,
    write::{destination::Outputs, writing::Writing},
};
use std::path::PathBuf;

/// Runs the steps of a checked routine.
pub(super) struct Executor<'a> {
    pub(super) checked: &'a Checked<'a>,
    pub(super) context: Context,
    pub(super) memory: Memory,
    pub(super) read: InputTables<'a>,
    pub(super) report: Option<Report<'a>>,
    /// The results of an earlier date, and what has changed since then.
    pub(super) earlier: Option<Earlier>,
    pub(super) changes: Vec<StepChanges>,
    /// The place of the last step.
    pub(super) until: usize,
    pub(super) uses: Vec<Uses>,
    /// The results that later steps need.
    pub(super) answers: Vec<Option<Data>>,
    /// The ledger of each step, if pictures have them in their foot lines.
    pub(super) accounts: Vec<Option<Ledger>>,
    pub(super) keeps_accounts: bool,
}

/// Who is given the results of a run.
pub(super) struct Receivers<'r, 's> {
    pub(super) outputs: &'r mut Outputs,
    /// Takes the last result.
    pub(super) last: &'r mut Sink<'s>,
    /// Is told of each step after it has run.
    pub(super) after_step: &'r mut dyn FnMut(&Ran<'_>) -> Result<()>,
}

impl<'a> Executor<'a> {
    fn routine(&self) -> &'a Routine {
        self.checked.routine
    }

    fn shares(&self) -> Shares<'a> {
        self.checked.shares()
    }

    /// Runs the step at a place, and those after it to which it passes batches. Returns the place
    /// of the last one.
    pub(super) fn step(&mut self, place: usize, to: &mut Receivers<'_, '_>) -> Result<usize> {
        let planned = &self.routine().steps[place];
        let inputs = self.inputs(place);
        let inputs = inputs.map_err(|error| self.routine().error_at_step(planned, error))?;
        if planned.operation.draws() {
            self.drawn(place, &inputs, to).map(|()| place)
        } else {
            self.streamed(place, &inputs, to)
        }
    }

    /// The tables that a step works on, with their names. A result that no later step needs is
    /// dropped here.
    fn inputs(&mut self, place: usize) -> Result<Vec<(String, Data)>> {
        let routine = self.routine();
        let inputs = &routine.steps[place].inputs;
        let tables = routine.tables(inputs, &self.answers, &mut self.read)?;
        for earlier in inputs.iter().filter_map(Input::step) {
            if self.uses[earlier].last <= place {
                self.answers[earlier] = None;
            }
        }
        Ok(tables)
    }

    /// Whether a later step uses the result of this one.
    fn is_used(&self, place: usize) -> bool {
        self.uses[place].last > place
    }

    /// Runs a step that draws, which process 0 does with whole tables.
    fn drawn(
        &mut self,
        place: usize,
        inputs: &[(String, Data)],
        to: &mut Receivers<'_, '_>,
    ) -> Result<()> {
        let (routine, shares) = (self.routine(), self.shares());
        let planned = &routine.steps[place];
        let at = |error: Error| routine.error_at_step(planned, error);
        let tables = shares.all_whole(inputs, &self.memory);
        let tables = tables.and_then(|tables| whole(&tables, &self.memory)).map_err(at)?;
        if !shares.is_first() {
            let columns = shares.columns_of_first(None)?;
            self.answers[place] = self.is_used(place).then_some(Data::Table(columns));
            return Ok(());
        }
        let Some(drawn) = self.checked.steps[place].drawn(&tables, &self.context) else {
            return Err(at(no_result().into()));
        };
        let (outcome, picture) = drawn.map_err(|error| at(error.into()))?;
        shares.columns_of_first(Some(&outcome.table))?;
        let Accounted { outcome, set_aside } = Accounted::from_outcome(outcome);
        let picture = picture.after(routine.accounts_behind(place, &self.accounts));
        let written =
            self.checked.write_drawn(place, &outcome, &picture, &self.context, to.outputs)?;
        if place == self.until && self.earlier.is_none() {
            self.hand_over(&Data::Table(outcome.table.clone()), to)?;
        }
        let ran = Ran {
            step: planned,
            place,
            outcome: &outcome,
            set_aside: &set_aside,
            written,
            picture: Some(&picture),
            context: &self.context,
            at_one_process: shares.are_there(),
            since: None,
        };
        if let Some(report) = &mut self.report {
            report.take(&ran, (Some(inputs), &self.memory), &self.accounts)?;
        }
        (to.after_step)(&ran)?;
        if self.is_used(place) {
            self.answers[place] = Some(Data::Table(outcome.table));
        }
        self.accounts[place] = Some(outcome.ledger);
        Ok(())
    }

    /// Passes the last result on.
    fn hand_over(&self, result: &Data, to: &mut Receivers<'_, '_>) -> Result<()> {
        let handed = result.each(&mut |batch| Ok((to.last)(&batch).map_err(CoreError::Sink)?));
        handed.map_err(|error| {
            self.routine().handed_over(&self.routine().steps[self.until], error, None)
        })
    }

    /// Runs a step, and those after it that work row by row on its result only.
    fn streamed(
        &mut self,
        place: usize,
        inputs: &[(String, Data)],
        to: &mut Receivers<'_, '_>,
    ) -> Result<usize> {
        let (checked, routine, shares) = (self.checked, self.routine(), self.shares());
        let (context, memory) = (self.context.clone(), self.memory.clone());
        let stream =
            Stream::from(checked, place, self.until, &self.uses, inputs, (&context, &memory));
        let stream = self.counted(place, inputs, stream);
        let mut stream =
            stream.map_err(|error| routine.error_at_step(&routine.steps[place], error))?;
        let end = stream.end();
        let planned = &routine.steps[end];
        let at = |error: Error| routine.error_at_step(planned, error);
        let written = planned.write.as_ref();
        let written = written
            .map(|name| routine.name_with_date(name, context.as_of, false, planned))
            .transpose()?;
        let mut file = match (&written, &checked.running.into) {
            (Some(name), Some(directory)) if shares.write(name) => {
                let path = PathBuf::from(name_in(directory, &shares.name(name)));
                let writing = Writing::for_path(&path).map_err(at)?.existing(planned.existing);
                let destination = to.outputs.file(&written_by(end, planned), &path).map_err(at)?;
                Some(StepFile { destination, writing })
            }
            _ => None,
        };
        let accounted = self.delivered(&mut stream, (written.as_deref(), &mut file), to)?;
        if let Some(StepFile { destination, .. }) = file {
            to.outputs.add(destination);
        }
        // The page applies the step's further grains to whole tables.
        let of_page = if shares.are_there() && checked.page_needs_inputs(end) {
            Some(shares.all_whole(inputs, &memory).map_err(at)?)
        } else {
            None
        };
        for (&place, Accounted { outcome, set_aside }) in stream.steps.iter().zip(&accounted) {
            let written = if place == end { written.as_deref() } else { None };
            let written = written.map(|name| shown_name(&shares.name(name)));
            let ran = Ran {
                step: &routine.steps[place],
                place,
                outcome,
                set_aside,
                written,
                picture: None,
                context: &context,
                at_one_process: place == stream.steps[0] && stream.is_at_one_process(),
                since: None,
            };
            if let Some(report) = &mut self.report {
                let inputs = Some(of_page.as_deref().unwrap_or(inputs));
                report.take(&ran, (inputs.filter(|_| place == end), &memory), &self.accounts)?;
            }
            (to.after_step)(&ran)?;
            if place == end && shares.is_first() {
                self.compare(&ran)?;
            }
            self.accounts[place] = self.keeps_accounts.then(|| outcome.ledger.clone());
        }
        Ok(end)
    }

    /// What came of preparing a step. An error may count cells of its tables, of which several
    /// processes have shares: process 0 counts those of all, and the others learn of its error.
    fn counted<T>(
        &self,
        place: usize,
        inputs: &[(String, Data)],
        prepared: std::result::Result<T, CoreError>,
    ) -> Result<T> {
        let exchange = self.shares().exchange;
        let counts = prepared.as_ref().err().is_some_and(CoreError::counts_cells);
        if exchange.is_alone() || exchange.all_gather(&counts)?.contains(&false) {
            return Ok(prepared?);
        }
        let tables = self.shares().all_whole(inputs, &self.memory)?;
        if exchange.is_first()
            && let Ok(tables) = whole(&tables, &self.memory)
        {
            self.checked.steps[place].prepare_for(&tables, &self.context)?;
        } else if !exchange.is_first() {
            exchange.broadcast_from_first::<()>(None)?;
        }
        Ok(prepared?)
    }

    /// Runs the steps of a stream, and delivers the last result to its file, to the last receiver
    /// and to later steps.
    fn delivered(
        &mut self,
        stream: &mut Stream<'_>,
        (written, file): (Option<&str>, &mut Option<StepFile>),
        to: &mut Receivers<'_, '_>,
    ) -> Result<Vec<Accounted>> {
        let (checked, routine, shares) = (self.checked, self.routine(), self.shares());
        let end = stream.end();
        let is_last = end == self.until && self.earlier.is_none();
        let needs_whole = checked.needs_whole(end);
        let needs_table = checked.running.needs_table && !stream.is_larger();
        let follows = shares.are_there() && checked.running.follow.is_some();
        let gathers_file = written.is_some_and(|name| shares.gathers_into(name));
        let gathers_last = is_last && shares.are_there() && shares.gathers_last;
        let gathers = gathers_file || gathers_last;
        // Only a result that nobody else needs is delivered in batches.
        if is_last && !needs_whole && !needs_table && !gathers && !follows {
            let answered = match file {
                None => stream.hand_over(to.last),
                Some(file) => {
                    let written = file.write_both(stream, to.last);
                    written.map_err(|error| routine.error_at_step(&routine.steps[end], error))?
                }
            };
            return answered.map_err(|(place, error): Failed| {
                routine.handed_over(&routine.steps[place], *error, written)
            });
        }
        let at_its_step =
            |(place, error): Failed| routine.error_at_step(&routine.steps[place], *error);
        let at = |error: Error| routine.error_at_step(&routine.steps[end], error);
        let (mut accounted, own) = stream.result().map_err(at_its_step)?;
        // Process 0 has the whole result, where it is needed, and the others have no row of it.
        let memory = &self.memory;
        let whole = if gathers || needs_whole {
            Some(shares.whole(&own, memory).map_err(at)?)
        } else {
            None
        };
        let result = |gathers: bool| whole.as_ref().filter(|_| gathers).unwrap_or(&own);
        if let Some(file) = file {
            file.write_data(result(gathers_file)).map_err(at)?;
        }
        if is_last {
            self.hand_over(result(gathers_last), to)?;
        }
        let table = match (&whole, &checked.running.follow) {
            (Some(whole), _) if needs_whole => Some(whole.whole(memory)),
            (_, Some(condition)) if follows => {
                Some(shares.followed(&own, condition, &self.context, memory))
            }
            _ => None,
        };
        if let (Some(last), Some(table)) = (accounted.last_mut(), table) {
            last.outcome.table = table.map_err(at)?;
        }
        self.answers[end] = self.is_used(end).then_some(own);
        Ok(accounted)
    }

    /// Finds what changed in the result of a step since the earlier date, if there is one.
    fn compare(&mut self, ran: &Ran<'_>) -> Result<()> {
        let Some(earlier) = &self.earlier else { return Ok(()) };
        match earlier.changes(self.checked, ran)? {
            Some(Ok(found)) => self.changes.push(found),
            Some(Err(why)) => self.checked.not_compared.borrow_mut().push((ran.place, why)),
            None => {}
        }
        Ok(())
    }

    /// Delivers what changed since the earlier date, if there is one, and the report page.
    pub(super) fn finish(mut self, to: &mut Receivers<'_, '_>) -> Result<()> {
        if self.earlier.is_some() {
            let steps = &self.routine().steps;
            self.hand_over(&Data::Table(all_changes(steps, &self.changes)?), to)?;
            for StepChanges { place, outcome, .. } in &self.changes {
                (to.after_step)(&Ran {
                    step: &steps[*place],
                    place: *place,
                    outcome,
                    set_aside: &Data::Table(outcome.set_aside.clone()),
                    written: None,
                    picture: None,
                    context: &self.context,
                    at_one_process: false,
                    since: self.checked.running.since,
                })?;
            }
        }
        match self.report.take() {
            Some(report) => report.finish(to.outputs, &self.context, &self.read, &self.changes),
            None => Ok(()),
        }
    }
}
