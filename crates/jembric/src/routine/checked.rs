//! [`Run`] and [`Checked`]: how a routine is run, and a routine that can be.

use super::Routine;
use crate::{
    Expression, Plan, Shape,
    calendar::Day,
    steps::{Files, Step},
};
use std::fmt;

/// How a routine is run.
#[non_exhaustive]
pub struct Run<'a> {
    /// Where its tables come from.
    pub files: &'a dyn Files,
    /// What `today` means. Nothing here looks at a clock.
    pub today: Day,
    /// Columns whose sums every ledger carries.
    pub reconcile: Vec<String>,
    /// Tells in every ledger what became of the rows of which this is true.
    pub follow: Option<Expression>,
    /// The step after which to stop, by its place; the last if not said.
    pub upto: Option<usize>,
    /// Where the steps' files are written, relative to this directory; not at all where it is none.
    pub into: Option<std::path::PathBuf>,
    /// Whether steps are checked by the types that the first rows of files suggest, and not by
    /// names alone. Later rows may tell otherwise.
    pub guess: bool,
    /// The bytes that an answer may take where it is made whole; without a bound if not said.
    pub memory: Option<u64>,
    /// Whether the rows that are set aside are wanted as they are. If not, columns that no step
    /// uses are not read.
    pub aside: bool,
}

impl fmt::Debug for Run<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Run { today, reconcile, follow, upto, into, .. } = self;
        let mut debug = f.debug_struct("Run");
        debug.field("today", today).field("reconcile", reconcile).field("follow", follow);
        debug.field("upto", upto).field("into", into).finish_non_exhaustive()
    }
}

impl<'a> Run<'a> {
    /// On these files, with what `today` means.
    pub fn on(files: &'a dyn Files, today: Day) -> Run<'a> {
        Run {
            files,
            today,
            reconcile: Vec::new(),
            follow: None,
            upto: None,
            into: None,
            guess: false,
            memory: None,
            aside: true,
        }
    }
}

/// A routine that has been checked, and can be run.
pub struct Checked<'a> {
    pub(crate) routine: &'a Routine,
    pub(crate) running: &'a Run<'a>,
    pub(crate) steps: Vec<Step>,
    /// What is known of each step's answer.
    pub shapes: Vec<Option<Shape>>,
    /// The plan of each step, where its tables could be looked into.
    pub(super) plans: Vec<Option<Plan>>,
    /// What is known of the tables that it works on.
    pub(super) tables: Vec<Vec<Option<Shape>>>,
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

/// The steps that work on an answer.
#[derive(Clone, Copy, Default)]
pub(crate) struct Uses {
    /// How many they are, and the place of the last.
    pub(crate) steps: usize,
    pub(crate) last: usize,
}
