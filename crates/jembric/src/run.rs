//! Runs a routine: checks its steps, reads each file once, and applies one step after the other.
//!
//! `check` checks the steps before any data is read ([`Checked`]). `executor` runs them:
//! `inputs` reads each file once, with the columns that are `needed`, `stream` passes batches from
//! step to step, and `shares` is what several processes do differently. `outputs` writes the files
//! of steps, `set_aside` collects the rows that they set aside, `since` compares with an earlier
//! date, and `report` makes the page.
//!
//! This is for programs that build another interface, such as the command. Others use
//! [`Chain`](crate::Chain).

mod check;
mod checked;
mod executor;
mod inputs;
mod needed;
mod outputs;
mod report;
mod set_aside;
mod shares;
mod since;
mod stream;

pub use checked::{Checked, RunSettings};
pub use shares::name_of_share;

use self::{
    executor::{Executor, Receivers},
    inputs::InputTables,
    report::Report,
    set_aside::SetAside,
};
use crate::{
    Context, CoreError, Error, Outcome, Result, Sink,
    calendar::{AsOf, Day, Zone},
    data::{Data, memory::Memory},
    draw::Picture,
    routine::{Input, Planned, Routine},
    write::destination::Outputs,
};
use std::{collections::HashMap, ops::Range};

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
    /// The earlier date, if this is what changed in the result of the step since then.
    pub since: Option<Day>,
}

impl Routine {
    /// The tables that a step works on, with their names. Each file is read once.
    fn tables(
        &self,
        inputs: &[Input],
        answers: &[Option<Data>],
        read: &mut InputTables<'_>,
    ) -> Result<Vec<(String, Data)>> {
        read.read(inputs)?;
        let table = |input: &Input| match input {
            Input::Step(place) => {
                let none = || Error::Settings(format!("step {} has no result", place + 1));
                let table = answers[*place].clone().ok_or_else(none)?;
                Ok((self.steps[*place].title().to_owned(), table))
            }
            Input::File(file, settings) => {
                let none = || Error::Settings(format!("{file} was not read"));
                Ok((file.clone(), read.table(file, settings).cloned().ok_or_else(none)?))
            }
        };
        inputs.iter().map(table).collect()
    }

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
    pub(super) fn context(&self, running: &RunSettings<'_>) -> Result<(Context, Option<AsOf>)> {
        let shown = |at: &Range<usize>, error: CoreError| {
            if self.text.is_some() && !at.is_empty() {
                self.error(at.clone(), error.to_string(), "")
            } else {
                error.into()
            }
        };
        let zone = self.zone.as_deref().map(str::parse::<Zone>).transpose();
        let zone = zone.map_err(|error| shown(&self.zone_at, error.into()))?.unwrap_or_default();
        let as_of = self.as_of.as_deref().map(str::parse::<AsOf>).transpose();
        let as_of = as_of.map_err(|error| shown(&self.as_of_at, error.into()))?;
        let mut context = Context::new().zone(zone).reconcile(running.reconcile.iter().cloned());
        context.today = running.today;
        context.cancel = running.cancel.clone();
        context.follow = running.follow.clone();
        context.memory = running.memory.or(self.memory.map(|size| size.0));
        let today = running.today_for(as_of.as_ref())?;
        let context = match &as_of {
            None => context,
            Some(as_of) if as_of.column().is_some() => context.as_of_follows(),
            Some(as_of) => {
                context.as_of(as_of.resolve(today, |_| Err(CoreError::NoAsOf { what: "it" }))?)
            }
        };
        Ok((context, as_of.filter(|as_of| as_of.column().is_some())))
    }

    /// The title of the ledgers, with the as-of date inserted.
    pub fn title_on(&self, as_of: Option<Day>) -> Option<String> {
        let title = self.title.as_ref()?;
        Some(as_of.map_or_else(|| title.clone(), |day| title.replace("{as-of}", &day.to_string())))
    }
}

impl Checked<'_> {
    /// Runs the steps. The result of the last one goes to the sink, in batches, and to its file if
    /// it has one. `after_step` is called for each step after it has run. Files are written beside
    /// their targets, and put in place once all steps have run. Returns the rows that all steps set
    /// aside, as [`run_into`](Checked::run_into) does.
    ///
    /// Errors: those of reading, of writing, and of every operation. If the sink failed, it is the
    /// core's [`Sink`](CoreError::Sink).
    pub fn run(
        &self,
        last: &mut Sink<'_>,
        after_step: &mut dyn FnMut(&Ran<'_>) -> Result<()>,
    ) -> Result<Data> {
        let mut outputs = Outputs::new();
        self.claim(&mut outputs)?;
        let set_aside = self.run_into(&mut outputs, last, after_step)?;
        self.running.files.close();
        self.commit(outputs)?;
        Ok(set_aside)
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
        after_step: &mut dyn FnMut(&Ran<'_>) -> Result<()>,
    ) -> Result<Data> {
        let Checked { routine, running, tables, plans, .. } = self;
        self.shares().expect_possible(routine, running)?;
        let (mut context, as_of) = routine.context(running)?;
        let until = running.upto.unwrap_or(routine.steps.len().saturating_sub(1));
        let shares = self.shares();
        let report = if shares.is_first() {
            Report::begin(self, &context, as_of.is_some(), outputs)?
        } else {
            None
        };
        let needed = routine.needed(until, |place| self.needs_whole(place));
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
                let shown = (!(running.pictures_only && draws)).then_some(until);
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
        let mut read = InputTables::new(running.files, shares, &memory, columns);
        if let Some(as_of) = as_of {
            context = self.dated(context, &as_of, &mut read)?;
        }
        let steps = &routine.steps;
        let mut executor = Executor {
            checked: self,
            earlier: self.earlier(&context)?,
            changes: Vec::new(),
            until,
            uses: routine.uses(until),
            answers: vec![None; steps.len()],
            accounts: vec![None; steps.len()],
            keeps_accounts: report.is_some() || steps.iter().any(|step| step.operation.draws()),
            context,
            memory: memory.clone(),
            read,
            report,
        };
        let mut set_aside = SetAside::default();
        let mut after_step = |ran: &Ran<'_>| {
            if running.aside {
                set_aside.add(&ran.outcome.ledger.step, ran.set_aside);
            }
            after_step(ran)
        };
        let mut to = Receivers { outputs, last, after_step: &mut after_step };
        let mut places = places.peekable();
        while let Some(place) = places.next() {
            let end = executor.step(place, &mut to)?;
            while places.next_if(|place| *place <= end).is_some() {}
        }
        executor.finish(&mut to)?;
        set_aside.finish(&memory)
    }

    /// The context with its as-of date, if that is `today` or a column's newest date.
    fn dated(&self, context: Context, as_of: &AsOf, read: &mut InputTables<'_>) -> Result<Context> {
        let Checked { routine, running, .. } = self;
        let mut inputs = routine.steps.iter().flat_map(|step| &step.inputs);
        let Some(first) = inputs.find(|input| matches!(input, Input::File(..))) else {
            return Err(Error::Setting {
                setting: "as-of",
                value: format!("`{as_of}`, but no file is read"),
                expected: "a date or `today`".to_owned(),
            });
        };
        let tables = routine.tables(std::slice::from_ref(first), &[], read)?;
        let zone = context.zone.clone();
        let newest = as_of.column().map(|column| read.shares.newest(&tables[0].1, column, &zone));
        let newest = newest.transpose()?;
        let today = running.today_for(Some(as_of))?;
        let day = as_of.resolve(today, |_| newest.ok_or(CoreError::NoAsOf { what: "it" }))?;
        Ok(context.as_of(day))
    }
}
