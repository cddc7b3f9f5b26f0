//! [`Chain`]: steps in types, from tables, files or databases to a result.
//!
//! ```
//! use jembric::{Chain, Elapsed, Filter, Latest};
//! # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv");
//!
//! let overdue = Chain::read(file)
//!     .then(Latest::new("inspected_on").per(["vessel"]))
//!     .then(Elapsed::between("inspected_on", "as-of"))
//!     .then(Filter::new("elapsed_days > 120"))
//!     .as_of("2025-06-30".parse()?)
//!     .run()?;
//!
//! assert_eq!(overdue.ledgers.len(), 3);
//! for vessel in overdue.table.cells::<&str>("vessel")?.flatten() {
//!     println!("{vessel}");
//! }
//! # Ok::<(), jembric::Error>(())
//! ```
//!
//! A chain is a [`Routine`] with its tables: [`Chain::routine`] and `Chain::from` convert one to
//! the other, and both have the same results. Nothing is read before a chain runs. All columns are
//! read, because the rows that are set aside have all of them, unless the chain only counts these
//! rows ([`Chain::counting_aside`]).
//!
//! `source` has what a chain begins with, and `ends` what it ends with: a table, batches, files, a
//! reader of record batches, a picture, a page.

mod ends;
mod source;

pub use ends::{Batches, ChainOutcome};
pub use source::{Source, Sources};

use crate::{
    Almanac, Cancel, Error, Expression,
    calendar::{AsOf, Day, Grain, Zone},
    data::{Data, progress::Progress, size::Size},
    databases::{existing::Existing, name::name_in},
    routine::{Input, Planned, Routine, Show},
    settings::GivenSettings,
    steps::{Described, OnMoreTables, OnOneTable, TypedOperation},
};
use std::{
    fmt,
    path::{Path, PathBuf},
};

/// Steps in types, which work one after the other on tables, files or databases; see the
/// [module](self).
///
/// A mistake that the types cannot tell, such as a misspelt column, is an error when the chain is
/// checked or run, before any data is read.
#[derive(Clone)]
#[must_use = "a chain does nothing before it runs"]
pub struct Chain {
    routine: Routine,
    /// The tables that are not files, by the names that steps read.
    tables: Vec<(String, Data)>,
    /// What the next step works on.
    inputs: Vec<Input>,
    /// What is wrong with the chain itself.
    problem: Option<String>,
    directory: PathBuf,
    today: Option<Day>,
    reconcile: Vec<String>,
    follow: Option<Expression>,
    scratch: Option<PathBuf>,
    cancel: Option<Cancel>,
    since: Option<Day>,
    progress: Option<Progress>,
    /// Whether rows set aside are counted, and not kept.
    only_counts_aside: bool,
}

impl fmt::Debug for Chain {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let names: Vec<&str> = self.tables.iter().map(|(name, _)| name.as_str()).collect();
        let mut debug = f.debug_struct("Chain");
        debug.field("routine", &self.routine).field("tables", &names).finish_non_exhaustive()
    }
}

impl Chain {
    /// A chain that begins with a file, a database's table, a table, or another chain.
    pub fn read(source: impl Into<Source>) -> Chain {
        let mut chain = Chain::empty(Routine::default());
        let input = chain.added(source.into());
        chain.inputs = vec![input];
        chain
    }

    /// A chain that begins with a calendar of the days that these columns cover.
    pub fn almanac<S: Into<Source>, C: Into<String>>(
        almanac: Almanac,
        covered: impl IntoIterator<Item = (S, Vec<C>)>,
    ) -> Chain {
        let mut chain = Chain::empty(Routine::default());
        let (mut inputs, mut columns) = (Vec::new(), Vec::new());
        for (source, names) in covered {
            inputs.push(chain.added(source.into()));
            columns.push(names.into_iter().map(Into::into).collect());
        }
        chain.push(Planned::new(&Almanac::DESCRIBED, almanac.given(), inputs).covering(columns))
    }

    fn empty(routine: Routine) -> Chain {
        Chain {
            routine,
            tables: Vec::new(),
            inputs: Vec::new(),
            problem: None,
            directory: PathBuf::new(),
            today: None,
            reconcile: Vec::new(),
            follow: None,
            scratch: None,
            cancel: None,
            since: None,
            progress: None,
            only_counts_aside: false,
        }
    }

    /// Adds a step that works on the result of the step before.
    pub fn then(self, step: impl Into<AnyStep>) -> Chain {
        let AnyStep { operation, settings } = step.into();
        self.step((operation, settings), Sources::default())
    }

    /// Adds a step that works on the result of the step before and on other tables: the windows of
    /// [`Within`](crate::Within), the earlier table of [`Changes`](crate::Changes), or those that
    /// [`Stack`](crate::Stack) appends.
    ///
    /// ```
    /// use jembric::{Chain, Within};
    /// # let file = |name| format!("{}/../../demo/{name}", env!("CARGO_MANIFEST_DIR"));
    ///
    /// let window = "arrived..left".parse()?;
    /// let lifts = Chain::read(file("lifts.csv"))
    ///     .then_with(Within::new("lifted_on", window).matching(["vessel"]), file("stays.csv"))
    ///     .run()?;
    /// assert!(lifts.table.rows() > 0);
    /// # Ok::<(), jembric::Error>(())
    /// ```
    pub fn then_with(self, operation: impl OnMoreTables, others: impl Into<Sources>) -> Chain {
        self.step(parts_of(&operation), others.into())
    }

    fn step(
        mut self,
        (described, settings): (&'static Described, GivenSettings),
        others: Sources,
    ) -> Chain {
        let mut inputs = std::mem::take(&mut self.inputs);
        inputs.extend(others.0.into_iter().map(|source| self.added(source)));
        if let Some(most) = described.reads.most_inputs().filter(|most| inputs.len() > *most) {
            self.problem.get_or_insert(format!(
                "`{}` works on {most} tables, and {} are given",
                described.name,
                inputs.len()
            ));
        }
        self.push(Planned::new(described, settings, inputs))
    }

    fn push(mut self, step: Planned) -> Chain {
        let place = self.routine.steps.len();
        let referred = step.inputs.iter().enumerate().filter_map(|(n, input)| {
            let earlier = input.step()?;
            // A step works on the result of the step before without naming it.
            (n > 0 || earlier + 1 != place).then_some(earlier)
        });
        for earlier in referred {
            if self.routine.steps[earlier].name.is_none() {
                let name = self.unused(format!("step {}", earlier + 1));
                self.routine.steps[earlier].name = Some(name);
            }
        }
        self.inputs = vec![Input::Step(self.routine.steps.len())];
        self.routine.steps.push(step);
        self
    }

    /// A name that no step has: this one, or with a number.
    fn unused(&self, name: String) -> String {
        let is_used =
            |name: &str| self.routine.steps.iter().any(|step| step.name.as_deref() == Some(name));
        if !is_used(&name) {
            return name;
        }
        let numbered = (2..).map(|n| format!("{name} {n}"));
        numbered.into_iter().find(|name| !is_used(name)).unwrap_or(name)
    }

    /// What a step reads of a source. The steps of a chain are put before the next step. If names
    /// of both are equal, those of the other chain get a number.
    fn added(&mut self, source: Source) -> Input {
        match source {
            Source::File(name, reading) => Input::File(name, reading),
            Source::Table(data) => {
                let name = format!("table {}", self.tables.len() + 1);
                self.tables.push((name.clone(), data));
                Input::File(name, Box::default())
            }
            Source::Chain(other) => {
                let other = other.with_a_step().with_absolute_names();
                let first = self.routine.steps.len();
                let names = self.tables.len();
                self.problem = self.problem.take().or(other.problem);
                let renamed = |name: &str| {
                    let place = other.tables.iter().position(|(own, _)| own == name);
                    place.map(|place| format!("table {}", names + place + 1))
                };
                for mut step in other.routine.steps {
                    for input in &mut step.inputs {
                        match input {
                            Input::Step(place) => *place += first,
                            Input::File(name, _) => {
                                *name = renamed(name).unwrap_or_else(|| std::mem::take(name));
                            }
                        }
                    }
                    step.name = step.name.map(|name| self.unused(name));
                    self.routine.steps.push(step);
                }
                let tables = other.tables.iter().zip(names + 1..);
                let tables = tables.map(|((_, data), n)| (format!("table {n}"), data.clone()));
                let tables: Vec<(String, Data)> = tables.collect();
                self.tables.extend(tables);
                Input::Step(self.routine.steps.len() - 1)
            }
        }
    }

    /// The same chain, whose files are not relative to a directory of its own.
    fn with_absolute_names(mut self) -> Chain {
        if self.directory.as_os_str().is_empty() {
            return self;
        }
        let own = std::path::absolute(&self.directory);
        let directory = own.unwrap_or_else(|_| self.directory.clone());
        let tables = self.tables.iter().map(|(name, _)| name.clone()).collect::<Vec<_>>();
        let renamed = |name: &str| {
            if tables.iter().any(|own| own == name) {
                name.to_owned()
            } else {
                name_in(&directory, name)
            }
        };
        self.routine.steps.iter_mut().for_each(|step| step.rename_files(&renamed));
        self
    }

    /// The same chain, with a step even if it only reads: one that passes its table on.
    fn with_a_step(self) -> Chain {
        if self.routine.steps.is_empty() {
            self.step(parts_of(&crate::Stack::new()), Sources::default())
        } else {
            self
        }
    }

    /// Changes the last step, or notes that there is none.
    fn last(mut self, what: &str, change: impl FnOnce(&mut Planned)) -> Chain {
        match self.routine.steps.last_mut() {
            Some(step) => change(step),
            None => {
                self.problem.get_or_insert(format!("`{what}` comes before the first step"));
            }
        }
        self
    }

    /// Names the last step, so that later steps can work on its result, and ledgers and pages show
    /// its name.
    pub fn named(self, name: impl Into<String>) -> Chain {
        self.last("named", |step| step.name = Some(name.into()))
    }

    /// Lets the next step work on the result of an earlier step with this name.
    pub fn after(mut self, name: &str) -> Chain {
        match self.routine.steps.iter().position(|step| step.name.as_deref() == Some(name)) {
            Some(place) => self.inputs = vec![Input::Step(place)],
            None => {
                let names = self.routine.steps.iter().filter_map(|step| step.name.as_deref());
                let names: Vec<&str> = names.collect();
                self.problem.get_or_insert(format!(
                    "`{name}` is not a step: expected one of {}",
                    names.join(", ")
                ));
            }
        }
        self
    }

    /// Lets the next step read another source.
    pub fn and_read(mut self, source: impl Into<Source>) -> Chain {
        let input = self.added(source.into());
        self.inputs = vec![input];
        self
    }

    /// Writes the result of the last step to a file, or to a table of a database. A step that draws
    /// writes its picture to a name that ends in `.svg` or `.png`. In the name, `{as-of}` is
    /// replaced by the as-of date.
    pub fn written(self, file: impl Into<String>) -> Chain {
        self.last("written", |step| {
            step.write = Some(file.into());
            *step = step.clone().with_picture_placed();
        })
    }

    /// What to do if the last step writes to a table of a database that exists already.
    pub fn existing(self, existing: Existing) -> Chain {
        self.last("existing", |step| step.existing = existing)
    }

    /// Shows the figures of totals for each of these grains on the page, with a button for each.
    /// The first one is that of the result.
    pub fn grains(self, grains: impl IntoIterator<Item = Grain>) -> Chain {
        let grains: Vec<String> = grains.into_iter().map(|grain| grain.to_string()).collect();
        let has_several = |step: &Planned| step.operation.has_several_grains();
        if self.routine.steps.last().is_some_and(|step| !has_several(step)) {
            let problem = "only totals have several grains".to_owned();
            return Chain { problem: self.problem.or(Some(problem)), ..self };
        }
        self.last("grains", |step| {
            if let Some(first) = grains.first() {
                step.settings.insert("grain", first.clone());
            }
            step.grains = if grains.len() > 1 { grains } else { Vec::new() };
        })
    }

    /// Begins a section of the page with the last step.
    pub fn heading(self, heading: impl Into<String>) -> Chain {
        self.last("heading", |step| step.page.heading = Some(heading.into()))
    }

    /// Puts a sentence with computed values on the page: `{rows} vessels are due`.
    pub fn say(self, sentence: impl Into<String>) -> Chain {
        self.last("say", |step| step.page.say = Some(sentence.into()))
    }

    /// What the page shows of the last step.
    pub fn show(self, show: impl IntoIterator<Item = Show>) -> Chain {
        self.last("show", |step| step.page.show = Some(show.into_iter().collect()))
    }

    /// The title of the ledgers and of the page, in which `{as-of}` is replaced by the as-of date.
    pub fn title(mut self, title: impl Into<String>) -> Chain {
        self.routine.title = Some(title.into());
        self
    }

    /// The as-of date: a day, `today`, or the newest date of a column (`newest:arrived`), plus or
    /// minus a span. `today` needs [`Chain::today`].
    pub fn as_of(mut self, as_of: AsOf) -> Chain {
        self.routine.as_of = Some(as_of.to_string());
        self
    }

    /// Today's date. The library has no clock.
    pub fn today(mut self, today: Day) -> Chain {
        self.today = Some(today);
        self
    }

    /// The time zone that converts points in time to days. The default is UTC.
    pub fn zone(mut self, zone: &Zone) -> Chain {
        self.routine.zone = Some(zone.to_string());
        self
    }

    /// Reconciles the sums of these columns in every ledger.
    pub fn reconcile<C: Into<String>>(mut self, columns: impl IntoIterator<Item = C>) -> Chain {
        self.reconcile = columns.into_iter().map(Into::into).collect();
        self
    }

    /// Follows the rows for which a condition is true through all ledgers.
    pub fn follow(mut self, condition: Expression) -> Chain {
        self.follow = Some(condition);
        self
    }

    /// Limits the memory for tables. What does not fit is written to temporary files.
    pub fn memory(mut self, size: Size) -> Chain {
        self.routine.memory = Some(size);
        self
    }

    /// The directory for temporary files. The default is that of the system.
    pub fn scratch(mut self, directory: impl Into<PathBuf>) -> Chain {
        self.scratch = Some(directory.into());
        self
    }

    /// The directory that the names of files are relative to. The default is the working directory.
    pub fn in_directory(mut self, directory: impl Into<PathBuf>) -> Chain {
        self.directory = directory.into();
        self
    }

    /// Lets a program cancel the run, which then ends with
    /// [`CoreError::Cancelled`](crate::CoreError::Cancelled) and leaves no file.
    pub fn cancelled_by(mut self, cancel: &Cancel) -> Chain {
        self.cancel = Some(cancel.clone());
        self
    }

    /// Runs the steps for this earlier date as well. The result is what changed in the results of
    /// named steps since then.
    pub fn since(mut self, day: Day) -> Chain {
        self.since = Some(day);
        self
    }

    /// Reports what is being done, if the memory is limited.
    pub fn progress(mut self, progress: Progress) -> Chain {
        self.progress = Some(progress);
        self
    }

    /// Counts the rows that are set aside, and does not keep them. Then only the columns that the
    /// steps use are read.
    pub fn counting_aside(mut self) -> Chain {
        self.only_counts_aside = true;
        self
    }

    /// The steps as a routine, whose text is that of [`Routine::to_text`].
    ///
    /// Errors: the chain reads a table that is not a file; a mistake in the chain.
    pub fn routine(&self) -> Result<Routine, Error> {
        self.expect_sound()?;
        if let Some((name, _)) = self.tables.first() {
            return Err(Error::Settings(format!(
                "{name} of the chain is in memory, so a routine cannot read it again: write it to \
                    a file first"
            )));
        }
        Ok(self.clone().with_a_step().routine)
    }

    fn expect_sound(&self) -> Result<(), Error> {
        match &self.problem {
            Some(problem) => Err(Error::Settings(problem.clone())),
            None => Ok(()),
        }
    }
}

/// The operation and the settings of an operation in types.
fn parts_of<O: TypedOperation>(operation: &O) -> (&'static Described, GivenSettings) {
    (&O::DESCRIBED, operation.given())
}

/// Any operation on one table, for lists of steps that are known only when a program runs.
///
/// ```
/// use jembric::{Chain, Filter, Sort, chain::AnyStep};
/// # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv");
///
/// let steps: Vec<AnyStep> = vec![Filter::new("tons > 500").into(), Sort::new(["tons"]).into()];
/// assert_eq!(steps[0].name(), "filter");
/// let chain = steps.into_iter().fold(Chain::read(file), Chain::then);
/// assert_eq!(chain.run()?.ledgers.len(), 2);
/// # Ok::<(), jembric::Error>(())
/// ```
#[derive(Clone, Debug)]
pub struct AnyStep {
    operation: &'static Described,
    settings: GivenSettings,
}

impl AnyStep {
    /// The name of the operation.
    pub fn name(&self) -> &'static str {
        self.operation.name
    }

    /// The operation, as it is known by its name.
    pub fn operation(&self) -> &'static Described {
        self.operation
    }

    /// The settings that differ from the defaults.
    pub fn settings(&self) -> &GivenSettings {
        &self.settings
    }
}

impl PartialEq for AnyStep {
    /// Steps with the same operation and settings are equal.
    fn eq(&self, other: &AnyStep) -> bool {
        (self.name(), &self.settings) == (other.name(), &other.settings)
    }
}

impl<O: OnOneTable> From<O> for AnyStep {
    fn from(operation: O) -> AnyStep {
        let (operation, settings) = parts_of(&operation);
        AnyStep { operation, settings }
    }
}

impl From<Routine> for Chain {
    /// The steps of a routine. Its files are relative to the working directory, unless another one
    /// is given ([`Chain::in_directory`]).
    fn from(routine: Routine) -> Chain {
        let last = routine.steps.len().checked_sub(1).map(Input::Step);
        Chain { inputs: last.into_iter().collect(), ..Chain::empty(routine) }
    }
}

impl Chain {
    /// The steps of the file of a routine, with the files relative to it.
    ///
    /// Errors: those of [`Routine::file`].
    pub fn open(path: impl AsRef<Path>) -> Result<Chain, Error> {
        let directory = path.as_ref().parent().map(Path::to_owned).unwrap_or_default();
        Ok(Chain::from(Routine::file(path)?).in_directory(directory))
    }
}
