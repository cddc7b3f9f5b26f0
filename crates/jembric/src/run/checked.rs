//! [`RunSettings`] and [`Checked`]: the settings of a run, and a routine that was checked.

use crate::{
    Cancel, Error, Expression, Plan, Result, Shape,
    calendar::{AsOf, Day},
    data::{
        exchange::{Alone, Exchange},
        progress::Progress,
    },
    page::Outline,
    routine::Routine,
    steps::{Files, Step},
};
use std::{cell::RefCell, fmt};

/// The operations of a step's further grains.
pub(super) type Grains = Vec<(String, Step)>;

/// The settings of a run.
#[non_exhaustive]
pub struct RunSettings<'a> {
    /// The source of tables.
    pub files: &'a dyn Files,
    /// Today's date, for settings that refer to it. The library does not read the clock.
    pub today: Option<Day>,
    /// The columns to reconcile in every ledger.
    pub reconcile: Vec<String>,
    /// The condition of the rows to follow in every ledger.
    pub follow: Option<Expression>,
    /// The step to stop after, by its place; by default the last.
    pub upto: Option<usize>,
    /// The directory for the files that steps write; without one, no file is written.
    pub into: Option<std::path::PathBuf>,
    /// The file for the report page, in whose name `{as-of}` is replaced by the as-of date. Without
    /// one, the page is the routine's own, if files are written. If a run stops before the last
    /// step, there is no page.
    pub page: Option<std::path::PathBuf>,
    /// An earlier as-of date. The routine runs for it as well, and what changed in the named
    /// results is delivered instead of the last result. Wrap the files in
    /// [`FilesOnce`](crate::steps::FilesOnce), so that each is read once.
    pub since: Option<Day>,
    /// Whether steps are checked by the types of the first rows, and not by names only. Later rows
    /// may change the types.
    pub guess: bool,
    /// The bytes of memory for tables; unlimited by default. Tables that do not fit are read in
    /// batches, and what has to wait is written to temporary files.
    pub memory: Option<u64>,
    /// The directory in which a private one for temporary files is made, if one is needed. The
    /// default is that of the system.
    pub scratch: Option<std::path::PathBuf>,
    /// Receives what is being done, if the memory is limited.
    pub progress: Option<Progress>,
    /// Whether the rows set aside are needed in full. If not, columns that no step uses are not
    /// read.
    pub aside: bool,
    /// Whether the picture of a last step that draws is all that is needed of it, and its table
    /// may lack columns.
    pub pictures_only: bool,
    /// The processes that run the same routine; this one [alone](Alone) by default. Each has a
    /// share of the rows, and delivers its share of the results.
    pub exchange: &'a dyn Exchange,
    /// Whether process 0 writes whole results. Otherwise each process writes a file with its share
    /// of a result.
    pub gathers: bool,
    /// Whether process 0 delivers the whole last result. Otherwise each process delivers its share.
    pub gathers_last: bool,
    /// What cancels the run.
    pub cancel: Option<Cancel>,
    /// Whether the report page is made as a text ([`Checked::page_text`]). It is written to a file
    /// only if it has one.
    pub keeps_page: bool,
    /// Whether the last result is needed as a whole. Tables in memory are then not cut into
    /// batches, which would have to be joined again.
    pub(crate) needs_table: bool,
    /// Whether the whole results of named steps are kept, for a comparison.
    pub(super) keeps_results: bool,
}

impl fmt::Debug for RunSettings<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let RunSettings { today, reconcile, follow, upto, into, .. } = self;
        let mut debug = f.debug_struct("Run");
        debug.field("today", today).field("reconcile", reconcile).field("follow", follow);
        debug.field("upto", upto).field("into", into).finish_non_exhaustive()
    }
}

impl<'a> RunSettings<'a> {
    /// Runs on these files, with this date as today's.
    pub fn on(files: &'a dyn Files, today: Day) -> RunSettings<'a> {
        RunSettings { today: Some(today), ..RunSettings::without_today(files) }
    }

    /// Runs on these files. No setting may refer to today's date.
    pub fn without_today(files: &'a dyn Files) -> RunSettings<'a> {
        RunSettings {
            files,
            today: None,
            reconcile: Vec::new(),
            follow: None,
            upto: None,
            into: None,
            page: None,
            since: None,
            guess: false,
            memory: None,
            scratch: None,
            progress: None,
            aside: true,
            pictures_only: false,
            exchange: &Alone,
            gathers: false,
            gathers_last: false,
            cancel: None,
            keeps_page: false,
            needs_table: false,
            keeps_results: false,
        }
    }
}

impl RunSettings<'_> {
    /// Today's date for an as-of date. One that does not depend on it may be resolved with any.
    ///
    /// Errors: it depends on today's date, which is not given.
    pub(super) fn today_for(&self, as_of: Option<&AsOf>) -> Result<Day> {
        match (self.today, as_of.filter(|as_of| as_of.needs_today())) {
            (Some(today), _) => Ok(today),
            (None, None) => Ok(Day::MIN),
            (None, Some(as_of)) => Err(Error::Setting {
                setting: "as-of",
                value: format!("`{as_of}`, and today's date is not given"),
                expected: "a date, or today's date as well".to_owned(),
            }),
        }
    }
}

/// A routine that was checked, and can be run.
pub struct Checked<'a> {
    pub(crate) routine: &'a Routine,
    pub(crate) running: &'a RunSettings<'a>,
    pub(crate) steps: Vec<Step>,
    /// The known shape of each step's result.
    pub shapes: Vec<Option<Shape>>,
    /// The plan of each step, if its tables could be inspected.
    pub(super) plans: Vec<Option<Plan>>,
    /// The known shapes of a step's tables.
    pub(super) tables: Vec<Vec<Option<Shape>>>,
    /// The operations of each step's further grains.
    pub(super) further: Vec<Grains>,
    /// What the report page shows.
    pub(super) outline: Outline,
    /// The rows of the files with holidays and entities, which have been read.
    pub(super) lists: Vec<(String, usize)>,
    /// The places of results that could not be compared with those of an earlier date, and why.
    pub(super) not_compared: RefCell<Vec<(usize, String)>>,
    /// The report page, if the run keeps its text.
    pub(super) page_text: RefCell<Option<String>>,
}

impl Checked<'_> {
    /// The report page as HTML, once the run has ended, if its settings ask for the text.
    pub fn page_text(&self) -> Option<String> {
        self.page_text.borrow().clone()
    }

    /// Why named results were not compared with those of the earlier date of the run.
    pub fn not_compared(&self) -> Vec<String> {
        self.not_compared.borrow().iter().map(|(_, why)| why.clone()).collect()
    }
}

impl fmt::Debug for Checked<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Checked { steps, shapes, .. } = self;
        f.debug_struct("Checked")
            .field("steps", steps)
            .field("shapes", shapes)
            .finish_non_exhaustive()
    }
}
