//! Checks the steps of a routine before any data is read.

use super::checked::{Checked, Grains, RunSettings};
use crate::{
    Context, CoreError, Error, Plan, Result, Shape, Table,
    calendar::Day,
    draw::{PictureFormat, expect_drawable},
    page::{Outline, expect_page_name},
    read::reading::Reading,
    routine::{Input, Planned, Routine, Show, routine_words},
    settings::GivenSettings,
    steps::{Files, Step, resolved},
    uri::shown_name,
};
use std::{
    cell::RefCell,
    ops::Range,
    path::{Component, Path},
};

impl Routine {
    /// The operations with their settings, each with those of its further grains.
    fn prepared(&self, files: &dyn Files) -> Result<Vec<(Step, Grains)>> {
        let step = |planned: &Planned, settings: &GivenSettings| {
            let step = planned.operation.step(settings, planned.covered.clone());
            step.map_err(|error| self.error_at_step(planned, Error::Value(Box::new(error))))
        };
        let prepare = |planned: &Planned| {
            let mut settings = resolved(planned.operation, &planned.settings, files)
                .map_err(|error| self.error_at_step(planned, error))?;
            let main = step(planned, &settings)?;
            let further = planned.grains.iter().skip(1).map(|grain| {
                settings.insert("grain", grain.clone());
                Ok((grain.clone(), step(planned, &settings)?))
            });
            let further = further.collect::<Result<_>>()?;
            Ok((main, further))
        };
        self.steps.iter().map(prepare).collect()
    }

    /// Errors: a result has no column that its key names.
    fn key_fits(&self, planned: &Planned, shape: Option<&Shape>) -> Result<()> {
        let (Some(key), Some(shape)) = (&planned.key, shape) else { return Ok(()) };
        for column in key {
            shape.find(column).map_err(|error| {
                let at = self.place_in_text(planned, "key");
                self.marked(at, error)
            })?;
        }
        Ok(())
    }

    /// Checks every step, as far as the headers of its files allow, or their first rows.
    ///
    /// Errors: a file cannot be read; a step is invalid. The message marks the line of the step.
    pub fn check<'a>(&'a self, running: &'a RunSettings<'a>) -> Result<Checked<'a>> {
        let (context, _) = self.context(running)?;
        self.writes_fit()?;
        let counting = Counting { files: running.files, rows: RefCell::default() };
        let (steps, further): (Vec<Step>, Vec<_>) = self.prepared(&counting)?.into_iter().unzip();
        let mut plans: Vec<Option<Plan>> = Vec::new();
        let mut tables = Vec::new();
        // The shapes of the results of further grains.
        let mut by_grain: Vec<Vec<Option<Shape>>> = Vec::new();
        for ((planned, step), further) in self.steps.iter().zip(&steps).zip(&further) {
            let shape = |input: &Input| match input {
                Input::Step(place) => {
                    let shape = plans[*place].as_ref().and_then(Plan::shape).cloned();
                    Ok((self.steps[*place].title().to_owned(), shape.map(Shape::anonymous)))
                }
                Input::File(file, settings) => {
                    let shape = if running.guess {
                        running.files.guessed_shape(file, settings)
                    } else {
                        running.files.shape(file, settings)
                    };
                    Ok((file.clone(), shape?))
                }
            };
            let inputs = planned.inputs.iter().map(shape).collect::<Result<Vec<_>>>();
            let inputs = inputs.map_err(|error| self.error_at_step(planned, error))?;
            let shapes: Vec<Option<Shape>> =
                inputs.iter().map(|(_, shape)| shape.clone()).collect();
            self.formats_fit(planned, &shapes)?;
            let plan = step
                .prepare(&inputs, &context)
                .map_err(|error| self.error_at_step(planned, error))?;
            let further = further.iter().map(|(_, step)| {
                let plan = step.prepare(&inputs, &context);
                let plan = plan.map_err(|error| self.error_at_step(planned, error))?;
                Ok(plan.as_ref().and_then(Plan::shape).cloned())
            });
            by_grain.push(further.collect::<Result<_>>()?);
            // A `draw` step makes a picture of every grain of its input.
            if let (true, Some(Input::Step(before))) =
                (planned.operation.draws(), planned.inputs.first())
            {
                for shape in by_grain[*before].iter().flatten() {
                    let inputs = [(String::new(), Some(shape.clone().anonymous()))];
                    step.prepare(&inputs, &context)
                        .map_err(|error| self.error_at_step(planned, error))?;
                }
            }
            let results = plan.as_ref().and_then(Plan::shape).into_iter();
            for shape in results.chain(by_grain.last().into_iter().flatten().flatten()) {
                self.pictures_fit(planned, shape, &context)?;
            }
            self.key_fits(planned, plan.as_ref().and_then(Plan::shape))?;
            for name in planned.files_written() {
                self.name_with_date(name, context.as_of, context.as_of_follows, planned)?;
            }
            if let Some(picture) = &planned.picture {
                PictureFormat::from_path(Path::new(picture))
                    .map_err(|error| self.error_at_step(planned, error))?;
            }
            plans.push(plan);
            tables.push(shapes);
        }
        let shapes: Vec<Option<Shape>> =
            plans.iter().map(|plan| plan.as_ref().and_then(Plan::shape).cloned()).collect();
        let outline = self.outline(&shapes, &context)?;
        let lists = counting.rows.into_inner();
        Ok(Checked {
            routine: self,
            running,
            steps,
            shapes,
            plans,
            tables,
            further,
            outline,
            lists,
            not_compared: RefCell::default(),
            page_text: RefCell::default(),
        })
    }

    /// The plan of the page.
    ///
    /// Errors: the page's name does not end in `.html`; a placeholder is invalid.
    fn outline(&self, shapes: &[Option<Shape>], context: &Context) -> Result<Outline> {
        self.expect_title(context)?;
        if let Some(page) = &self.page {
            let at = self.page_at.clone();
            expect_page_name(page).map_err(|error| self.error(at, error.to_string(), ""))?;
            if page.contains("{as-of}") && context.as_of.is_none() && !context.as_of_follows {
                return Err(self.no_as_of(page, self.page_at.clone()));
            }
        }
        let has_as_of = context.as_of.is_some() || context.as_of_follows;
        Outline::plan(&self.steps, shapes, has_as_of).map_err(|(place, key, misplaced)| {
            let at = self.place_in_sentence(place, key, &misplaced.placeholder);
            self.error(at, misplaced.problem, misplaced.advice)
        })
    }

    /// Errors: the title has another placeholder than that of the as-of date, or there is no as-of
    /// date.
    fn expect_title(&self, context: &Context) -> Result<()> {
        let title = self.title.as_deref().unwrap_or_default();
        let placeholders =
            title.split('{').skip(1).filter_map(|rest| Some(rest.split_once('}')?.0));
        for placeholder in placeholders {
            if placeholder != "as-of" {
                let problem = format!("the title has no placeholder `{{{placeholder}}}`");
                let advice = "its only placeholder is {as-of}";
                return Err(self.error(self.title_at.clone(), problem, advice));
            }
            if context.as_of.is_none() && !context.as_of_follows {
                return Err(self.no_as_of(title, self.title_at.clone()));
            }
        }
        Ok(())
    }

    /// The place of a placeholder in the sentence of a step.
    pub(super) fn place_in_sentence(
        &self,
        step: usize,
        key: &str,
        placeholder: &str,
    ) -> Range<usize> {
        let at = self.place_in_text(&self.steps[step], key);
        let found = self.text.as_ref().and_then(|text| text.text[at.clone()].find(placeholder));
        match found {
            Some(from) => at.start + from..at.start + from + placeholder.len(),
            None => at,
        }
    }

    /// Errors: the page is to show a picture of a result that cannot be drawn.
    fn pictures_fit(&self, planned: &Planned, shape: &Shape, context: &Context) -> Result<()> {
        let shows = planned.page.show.as_ref().is_some_and(|show| show.contains(&Show::Picture));
        if !shows || planned.operation.draws() {
            return Ok(());
        }
        expect_drawable(shape, context).map_err(|error| self.not_drawn(planned, &error))
    }

    /// The error of a result of which the page cannot show a picture.
    pub(super) fn not_drawn(&self, planned: &Planned, error: &CoreError) -> Error {
        let problem = format!("the result cannot be drawn: {}", error.rendered(&routine_words));
        let advice = "remove \"picture\", or draw it in a step of its own: draw = { … }";
        self.error(self.place_in_text(planned, "show"), problem, advice)
    }

    /// Errors: a format is given for a column that none of the step's files has.
    fn formats_fit(&self, planned: &Planned, shapes: &[Option<Shape>]) -> Result<()> {
        let Some(known) = shapes.iter().map(Option::as_ref).collect::<Option<Vec<&Shape>>>() else {
            return Ok(());
        };
        for input in &planned.inputs {
            let Input::File(_, settings) = input else { continue };
            for column in settings.read.keys() {
                if !known.iter().any(|shape| shape.find(column).is_ok()) {
                    let missing = known.first().map(|shape| shape.find(column).map(drop));
                    missing
                        .unwrap_or(Ok(()))
                        .map_err(|error| self.error_at_step(planned, Error::from(error)))?;
                }
            }
        }
        Ok(())
    }

    /// Errors: two steps write the same file, or one of them the page; or a step reads a file that
    /// is written, which is put in place only at the end.
    fn writes_fit(&self) -> Result<()> {
        if let Some(page) = &self.page {
            let mut steps = self.steps.iter();
            let writes = |step: &&Planned| step.files_written().any(|file| is_spelled(file, page));
            if let Some(step) = steps.find(writes) {
                let at = self.place_in_text(step, "write");
                let problem = format!("the page is written to `{page}` as well");
                return Err(self.error(at, problem, "choose another name"));
            }
        }
        let all = self.steps.iter().enumerate();
        let written = all.flat_map(|(place, planned)| {
            planned.files_written().map(move |name| (place, planned, name))
        });
        for (place, planned, name) in written {
            let at = || self.place_in_text(planned, "write");
            let writes_it =
                |other: &Planned| other.files_written().any(|other| is_spelled(other, name));
            if self.steps[..place].iter().any(writes_it) {
                return Err(self.error(
                    at(),
                    format!("two steps write `{}`", shown_name(name)),
                    "choose another name",
                ));
            }
            let reads =
                |input: &Input| matches!(input, Input::File(file, _) if is_spelled(file, name));
            if let Some(reader) = self.steps.iter().find(|step| step.inputs.iter().any(reads)) {
                let at = self.place_in_text(reader, name);
                let problem = format!(
                    "`{}` is written by this routine, and is put in place only after all steps \
                        have run",
                    shown_name(name)
                );
                return Err(self.error(
                    at,
                    problem,
                    "give the step that writes it a name, and use that: from = \"…\"",
                ));
            }
        }
        Ok(())
    }

    /// Inserts the as-of date into a name.
    pub(super) fn name_with_date(
        &self,
        name: &str,
        as_of: Option<Day>,
        follows: bool,
        planned: &Planned,
    ) -> Result<String> {
        match as_of {
            Some(day) => Ok(name.replace("{as-of}", &day.to_string())),
            None if name.contains("{as-of}") && !follows => {
                Err(self.no_as_of(name, self.place_in_text(planned, "write")))
            }
            None => Ok(name.to_owned()),
        }
    }

    /// The error of a name with an as-of date that does not exist.
    pub(super) fn no_as_of(&self, name: &str, at: Range<usize>) -> Error {
        let name = shown_name(name);
        let problem = format!("`{name}` contains the as-of date, and there is none");
        self.error(at, problem, "set it above the steps: as-of = \"2025-06-30\"")
    }
}

/// Files that count the rows that were read from each.
struct Counting<'a> {
    files: &'a dyn Files,
    rows: RefCell<Vec<(String, usize)>>,
}

impl Files for Counting<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        let table = self.files.table(file, reading)?;
        self.rows.borrow_mut().push((file.to_owned(), table.rows()));
        Ok(table)
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.files.shape(file, reading)
    }
}

/// Whether two paths are equal, apart from components `.`: `o.csv` and `./o.csv`.
fn is_spelled(one: &str, other: &str) -> bool {
    let parts = |name| Path::new(name).components().filter(|part| *part != Component::CurDir);
    parts(one).eq(parts(other))
}
