//! Makes the report page while the steps of a routine run.

use super::{Ran, checked::Checked, inputs::InputTables};
use crate::{
    Context, CoreError, Error, Ledger, Outcome, Result, Table,
    calendar::Day,
    compared::StepChanges,
    data::{Data, memory::Memory},
    draw::picture_of,
    page::{Collected, Page, Sources, Taken, expect_page_name},
    routine::{Input, Planned},
    uri::without_secrets,
    write::destination::{Destination, Outputs},
};
use std::{
    collections::HashMap,
    path::{Path, PathBuf},
};

/// The report page of a run.
pub(super) struct Report<'a> {
    checked: &'a Checked<'a>,
    sources: Sources,
    collected: Collected,
    /// The results of further grains, for steps that draw them.
    by_grain: HashMap<usize, Vec<(&'a str, Outcome)>>,
    /// The file of the page, and its path, once its name is known.
    file: Option<(Destination, PathBuf)>,
}

/// What the page is called in messages.
const PAGE: &str = "the report page";

impl Checked<'_> {
    /// Whether the run writes a page.
    pub(super) fn has_page(&self) -> bool {
        let is_own = self.routine.page.is_some() && self.running.into.is_some();
        let running = self.running;
        running.upto.is_none() && (running.page.is_some() || running.keeps_page || is_own)
    }

    /// Whether the page needs the whole result of a step.
    pub(super) fn page_needs(&self, place: usize) -> bool {
        self.has_page() && self.outline.needs(place)
    }

    /// Whether the page needs the whole tables that a step works on, for its further grains.
    pub(super) fn page_needs_inputs(&self, place: usize) -> bool {
        self.page_needs(place) && !self.further[place].is_empty()
    }

    /// Whether the whole result of a step is needed: by the page, or to compare it.
    pub(super) fn needs_whole(&self, place: usize) -> bool {
        self.page_needs(place) || self.compares(place)
    }

    /// The file of the report page, if the run writes one; with the as-of date in its name.
    ///
    /// Errors: the name does not end in `.html`; it contains the as-of date, and there is none.
    pub fn page_file(&self, as_of: Option<Day>) -> Result<Option<PathBuf>> {
        if !self.has_page() {
            return Ok(None);
        }
        let (routine, running) = (self.routine, self.running);
        let directory = running.into.as_deref().unwrap_or(Path::new(""));
        let (name, directory) = match (&running.page, &routine.page) {
            (Some(page), _) => (page.display().to_string(), Path::new("")),
            (None, Some(page)) => (page.clone(), directory),
            (None, None) => return Ok(None),
        };
        expect_page_name(&name)?;
        let name = match as_of {
            Some(day) => name.replace("{as-of}", &day.to_string()),
            None if name.contains("{as-of}") => return Err(routine.no_as_of(&name, 0..0)),
            None => name,
        };
        Ok(Some(directory.join(name)))
    }

    /// Claims the file of the page, if its name is known before the data is read.
    pub(super) fn claim_page(&self, outputs: &mut Outputs, as_of: Option<Day>) -> Result<()> {
        match self.page_file(as_of)? {
            Some(file) => outputs.claim(PAGE, file),
            None => Ok(()),
        }
    }
}

impl<'a> Report<'a> {
    /// Begins the page, if the run writes one: opens its file, so that a directory that does not
    /// exist is reported before the data is read, and computes the checksums of the input files.
    /// Without an as-of date the name of the file may not be known yet.
    pub(super) fn begin(
        checked: &'a Checked<'a>,
        context: &Context,
        as_of_follows: bool,
        outputs: &mut Outputs,
    ) -> Result<Option<Report<'a>>> {
        if !checked.has_page() {
            return Ok(None);
        }
        let path = if as_of_follows { None } else { checked.page_file(context.as_of)? };
        let file =
            path.map(|path| Ok::<_, Error>((outputs.file(PAGE, &path)?, path))).transpose()?;
        let mut sources = Sources::from_files(checked.routine.files_read(), checked.running.files)?;
        checked.lists.iter().for_each(|(name, rows)| sources.read(name, *rows));
        let (collected, by_grain) = (Collected::default(), HashMap::new());
        Ok(Some(Report { checked, sources, collected, by_grain, file }))
    }

    /// Takes what the page shows of a step that has run. `inputs` are those that it worked on, if
    /// the outcome has the whole result.
    ///
    /// Errors: a figure of a sentence cannot be computed; the result cannot be drawn; a further
    /// grain has no result.
    pub(super) fn take(
        &mut self,
        ran: &Ran<'_>,
        (inputs, memory): (Option<&[(String, Data)]>, &Memory),
        accounts: &[Option<Ledger>],
    ) -> Result<()> {
        let Report { checked, .. } = *self;
        let Ran { step, place, outcome, context, .. } = *ran;
        let (routine, outline) = (checked.routine, &checked.outline);
        // The file of the table; a picture has its own.
        let written = if step.write.is_some() { ran.written.as_deref() } else { None };
        let written = written.map(|names| names.rsplit(", ").next().unwrap_or(names));
        self.collected.account(place, (&outcome.ledger, ran.set_aside), written)?;
        if !outline.needs(place) {
            return Ok(());
        }
        let Some(inputs) = inputs else { return Ok(()) };
        let at = |error: CoreError| routine.error_at_step(step, error);
        let behind = || routine.accounts_behind(place, accounts);
        let drawn = |outcome: &Outcome| {
            if outline.shows_picture(place) {
                let picture = picture_of(&outcome.table, context);
                let picture = picture.map_err(|error| routine.not_drawn(step, &error))?;
                Ok(Some(picture.after(behind()).after([&outcome.ledger])))
            } else {
                Ok::<_, Error>(None)
            }
        };
        let mut results = Vec::new();
        if let Some(picture) = ran.picture {
            let further = input_of(step).and_then(|before| self.by_grain.get(&before));
            let before = input_of(step).map(|before| &routine.steps[before]);
            let grain = before.and_then(|before| before.grains.first()).map(String::as_str);
            results.push((grain, outcome.clone(), Some(picture.clone())));
            for (grain, result) in further.into_iter().flatten() {
                let input = [(String::new(), result.table.clone())];
                let Some(drawn) = checked.steps[place].drawn(&input, context) else { continue };
                let (outcome, picture) = drawn.map_err(at)?;
                results.push((Some(*grain), outcome, Some(picture.after(behind()))));
            }
        } else {
            let grain = step.grains.first().map(String::as_str);
            results.push((grain, outcome.clone(), drawn(outcome)?));
            let mut further = Vec::new();
            let further_grains = &checked.further[place];
            let tables = if further_grains.is_empty() {
                Vec::new()
            } else {
                whole(inputs, memory).map_err(|error| routine.error_at_step(step, error))?
            };
            for (grain, operation) in further_grains {
                let outcome = operation.apply(&tables, context).map_err(at)?;
                results.push((Some(grain), outcome.clone(), drawn(&outcome)?));
                further.push((grain.as_str(), outcome));
            }
            if !further.is_empty() {
                self.by_grain.insert(place, further);
            }
        }
        let results = results.iter().map(|(grain, outcome, picture)| Taken {
            grain: *grain,
            outcome,
            picture: picture.clone(),
        });
        self.collected.results(outline, results.collect()).map_err(|failed| {
            let (needed, error) = *failed;
            // The column is missing or has another type than its name let expect.
            let at = routine.place_in_sentence(needed.by, needed.key, &needed.placeholder);
            routine.marked(at, error)
        })
    }

    /// Writes the page.
    ///
    /// Errors: a file has changed; the page cannot be written.
    pub(super) fn finish(
        mut self,
        outputs: &mut Outputs,
        context: &Context,
        read: &InputTables<'_>,
        changes: &[StepChanges],
    ) -> Result<()> {
        let Checked { routine, running, .. } = self.checked;
        let opened = match self.file.take() {
            Some(opened) => Some(opened),
            None => match self.checked.page_file(context.as_of)? {
                Some(path) => Some((outputs.file(PAGE, &path)?, path)),
                None => None,
            },
        };
        let path = opened.as_ref().map_or(Path::new("report.html"), |(_, path)| path);
        self.sources.expect_unchanged()?;
        read.rows().for_each(|(name, rows)| self.sources.read(name, rows as usize));
        let text = match &routine.text {
            Some(text) => without_secrets(&text.text),
            None => routine.to_text(str::to_owned)?,
        };
        let behind: Vec<Vec<usize>> =
            (0..routine.steps.len()).map(|place| routine.behind(place)).collect();
        let page = Page {
            title: routine.title.as_deref(),
            as_of: context.as_of,
            zone: &context.zone.to_string(),
            outline: &self.checked.outline,
            collected: &self.collected,
            sources: &self.sources,
            routine: &text,
            behind: &behind,
            file: path,
            directory: running.into.as_deref(),
            since: running.since,
            changes,
            not_compared: &self.checked.not_compared.borrow(),
        };
        let html = page.html();
        if let Some((mut file, _)) = opened {
            file.write(|to| to.write_all(html.as_bytes()))?;
            outputs.add(file);
        }
        if running.keeps_page {
            *self.checked.page_text.borrow_mut() = Some(html);
        }
        Ok(())
    }
}

/// The tables with their names, which must fit into memory.
pub(super) fn whole(inputs: &[(String, Data)], memory: &Memory) -> Result<Vec<(String, Table)>> {
    inputs.iter().map(|(name, input)| Ok((name.clone(), input.whole(memory)?))).collect()
}

/// The place of the step whose result a step works on.
fn input_of(step: &Planned) -> Option<usize> {
    step.inputs.first().and_then(Input::step)
}
