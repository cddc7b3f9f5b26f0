//! [`Progress`]: tells what a run with limited memory is doing.

use std::{fmt, sync::Arc};

/// What a run with limited memory is doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Phase {
    /// It reads rows, and computes or sorts what it can at once.
    Reading,
    /// It computes the parts into which it divided the rows.
    Computing,
    /// It merges sorted rows, and delivers them.
    Merging,
    /// It delivers rows that waited in a temporary file.
    Writing,
}

impl Phase {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Phase::Reading => "reading",
            Phase::Computing => "computing",
            Phase::Merging => "merging",
            Phase::Writing => "writing",
        }
    }
}

/// How far a run with limited memory is.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Stage<'a> {
    /// What it is doing.
    pub phase: Phase,
    /// The input that is read, if it is a file or a table of a database.
    pub input: Option<&'a str>,
    /// The rows that are done, and all rows, of this phase.
    pub rows: u64,
    /// All rows of this phase.
    pub all_rows: u64,
    /// The bytes that were written to temporary files so far.
    pub spilled: u64,
}

/// Receives the stages of runs with limited memory, on the thread that runs.
#[derive(Clone)]
pub struct Progress(Arc<dyn Fn(Stage<'_>) + Send + Sync>);

impl Progress {
    /// Calls a function for each stage.
    pub fn new(tell: impl Fn(Stage<'_>) + Send + Sync + 'static) -> Progress {
        Progress(Arc::new(tell))
    }

    pub(crate) fn tell(&self, stage: Stage<'_>) {
        (self.0)(stage);
    }
}

impl fmt::Debug for Progress {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Progress")
    }
}
