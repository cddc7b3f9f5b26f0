//! [`Memory`]: the budget of a run, and how it is shared out.

use super::{
    merge::MOST_RUNS,
    progress::{Phase, Progress, Stage},
    scratch::Scratch,
    size::Size,
};
use crate::error::{Error, Result};
use std::{
    fmt,
    path::PathBuf,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

/// The least bytes of a frame, of which the names and types of the columns take some hundreds.
const LEAST_FRAME: u64 = 8 << 10;

/// The memory that a run may use, with a directory for what does not fit. Clones share both.
///
/// The budget is for tables: the program itself and its buffers take up to 256 MiB more. A file
/// whose table is small is read as a whole. Tables in memory together take at most a quarter of the
/// budget, because an operation needs room for its result and for what it sorts. What counts of
/// active intervals keep of each period is not limited.
#[derive(Clone, Default)]
pub struct Memory(Arc<Shares>);

#[derive(Default)]
struct Shares {
    budget: Option<u64>,
    scratch: Scratch,
    progress: Option<Progress>,
    /// The bytes of the tables that are in memory as a whole.
    held: AtomicU64,
}

impl fmt::Debug for Memory {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Memory").field(&self.0.budget).finish()
    }
}

impl Memory {
    /// The least budget that commands and routines accept. With less, batches are so short that
    /// hardly anything but their bookkeeping is done.
    pub const LEAST: u64 = 16 << 20;

    /// Errors: the budget is below the least one.
    pub fn expect_enough(budget: Size) -> Result<()> {
        if budget.0 >= Memory::LEAST {
            Ok(())
        } else {
            Err(Error::Setting {
                setting: "memory",
                value: format!("{budget}, which is too little to work with"),
                expected: format!("at least {}", Size(Memory::LEAST)),
            })
        }
    }

    /// No limit: every table is in memory as a whole.
    pub fn unlimited() -> Memory {
        Memory::default()
    }

    /// A budget in bytes. What does not fit is written to a private directory in this one, which is
    /// created when it is needed and removed when the last clone is dropped.
    pub fn limited(budget: u64, scratch: impl Into<PathBuf>) -> Memory {
        Memory::telling(budget, scratch, None)
    }

    /// The same, which reports what is being done.
    pub fn telling(budget: u64, scratch: impl Into<PathBuf>, progress: Option<Progress>) -> Memory {
        let scratch = Scratch::in_directory(scratch.into());
        let held = AtomicU64::new(0);
        Memory(Arc::new(Shares { budget: Some(budget), scratch, progress, held }))
    }

    /// Reports that some of all rows of a phase are done.
    pub(crate) fn tell(&self, phase: Phase, input: Option<&str>, rows: u64, all_rows: u64) {
        if let Some(progress) = &self.0.progress {
            progress.tell(Stage { phase, input, rows, all_rows, spilled: self.spilled() });
        }
    }

    /// Whether there is a limit.
    pub(crate) fn is_limited(&self) -> bool {
        self.0.budget.is_some()
    }

    /// The bytes that were written to temporary files so far.
    pub fn spilled(&self) -> u64 {
        self.0.scratch.written()
    }

    pub(crate) fn scratch(&self) -> &Scratch {
        &self.0.scratch
    }

    fn part_of(&self, share: u64) -> u64 {
        self.0.budget.map_or(u64::MAX, |budget| (budget / share).max(1))
    }

    /// The bytes of a batch.
    pub(crate) fn batch(&self) -> u64 {
        self.part_of(16).min(256 << 20)
    }

    /// The bytes of a part that is processed as a whole.
    pub(crate) fn part(&self) -> u64 {
        self.part_of(8)
    }

    /// The bytes of rows that wait to be written or merged.
    pub(crate) fn buffers(&self) -> u64 {
        self.part_of(8)
    }

    /// The bytes of a frame of a sorted run. The frames of all runs that are merged at once are in
    /// memory together.
    pub(crate) fn frame(&self) -> u64 {
        (self.buffers() / MOST_RUNS as u64).max(LEAST_FRAME)
    }

    /// The bytes of a parcel of rows for another process.
    pub(crate) fn parcel(&self) -> u64 {
        self.part_of(64).min(1 << 18)
    }

    /// The bytes of a table that an operation needs as a whole.
    pub(crate) fn whole(&self) -> u64 {
        self.part_of(4)
    }

    /// Whether there is room for a table of this size beside those that are held. If so, it is held
    /// from now on.
    pub(crate) fn holds(&self, bytes: u64) -> bool {
        let room = self.part_of(4);
        let held = self.0.held.fetch_update(Relaxed, Relaxed, |held| {
            held.checked_add(bytes).filter(|held| *held <= room)
        });
        held.is_ok()
    }

    /// The budget that a run needs if an operation needs a table of this size as a whole.
    pub(crate) fn needed_for(bytes: u64) -> u64 {
        bytes.saturating_mul(4)
    }

    /// The budget.
    pub(crate) fn budget(&self) -> u64 {
        self.0.budget.unwrap_or(u64::MAX)
    }
}
