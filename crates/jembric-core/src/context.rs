//! [`Context`]: what an operation needs to know besides its tables.

use crate::{
    calendar::{Day, Zone},
    error::{Error, Result, Smaller},
    expression::{Expression, ExpressionContext},
    table::Table,
};
use std::sync::{
    Arc,
    atomic::{AtomicBool, Ordering},
};

/// Cancels runs: a program keeps one, and gives clones of it to runs and contexts.
///
/// A run that is cancelled ends at the next batch of rows with [`Error::Cancelled`], and leaves no
/// file.
///
/// ```
/// use jembric_core::{Cancel, Context, Error, Latest, Operation, Table};
///
/// let cancel = Cancel::new();
/// let context = Context::new().cancelled_by(&cancel);
/// let table = Table::builder().column("vessel", ["MS Anvil"]).build()?;
/// cancel.cancel();
/// assert!(matches!(jembric_core::Filter::new("vessel = 'a'").apply_with(&table, &context),
///     Err(Error::Cancelled)));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, Default)]
pub struct Cancel(Arc<AtomicBool>);

impl Cancel {
    /// Nothing is cancelled yet.
    pub fn new() -> Cancel {
        Cancel::default()
    }

    /// Cancels all runs that have a clone of this.
    pub fn cancel(&self) {
        self.0.store(true, Ordering::Relaxed);
    }

    /// Whether the runs are cancelled.
    pub fn is_cancelled(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}

/// What an operation needs to know besides its tables, such as the as-of date and the sums to
/// reconcile.
#[derive(Clone, Debug, Default)]
#[must_use]
#[non_exhaustive]
pub struct Context {
    /// The as-of date.
    pub as_of: Option<Day>,
    /// The date will be given, but is not known before the data is read.
    pub as_of_follows: bool,
    /// Today's date, if a setting may refer to it. The core has no clock.
    pub today: Option<Day>,
    /// The time zone that converts points in time to days.
    pub zone: Zone,
    /// The columns whose sums are part of every ledger.
    pub reconcile: Vec<String>,
    /// The bytes that a result may take if it is made in one piece; unlimited by default.
    pub memory: Option<u64>,
    /// The condition of the rows to follow in every ledger whose table has the columns for it.
    pub follow: Option<Expression>,
    /// What cancels the run.
    pub cancel: Option<Cancel>,
}

impl Context {
    /// A context without an as-of date, with days of UTC and nothing to reconcile.
    pub fn new() -> Context {
        Context::default()
    }

    /// Sets the as-of date.
    pub fn as_of(mut self, day: Day) -> Context {
        self.as_of = Some(day);
        self
    }

    /// Declares that the as-of date will be known once the data is read. This is for checks before
    /// that.
    pub fn as_of_follows(mut self) -> Context {
        self.as_of_follows = true;
        self
    }

    /// Limits the bytes that a result may take if it is made in one piece.
    pub fn memory(mut self, bytes: u64) -> Context {
        self.memory = Some(bytes);
        self
    }

    /// Errors: a result with this many rows of this many bytes takes more memory than allowed.
    pub(crate) fn expect_room(&self, rows: u64, row_bytes: u64, advice: Smaller) -> Result<()> {
        let bytes = rows.saturating_mul(row_bytes);
        match self.memory {
            Some(most) if bytes > most => Err(Error::TooMuchMemory { rows, bytes, most, advice }),
            _ => Ok(()),
        }
    }

    /// Lets a program cancel what runs in this context.
    pub fn cancelled_by(mut self, cancel: &Cancel) -> Context {
        self.cancel = Some(cancel.clone());
        self
    }

    /// Errors: the run is cancelled.
    pub fn expect_wanted(&self) -> Result<()> {
        match &self.cancel {
            Some(cancel) if cancel.is_cancelled() => Err(Error::Cancelled),
            _ => Ok(()),
        }
    }

    /// Whether there is no as-of date and none will follow.
    pub(crate) fn as_of_is_unknown(&self) -> bool {
        self.as_of.is_none() && !self.as_of_follows
    }

    /// Sets today's date, for settings that refer to it.
    pub fn today(mut self, day: Day) -> Context {
        self.today = Some(day);
        self
    }

    /// Sets the time zone that converts points in time to days. The default is UTC.
    pub fn zone(mut self, zone: Zone) -> Context {
        self.zone = zone;
        self
    }

    /// Follows the rows for which this condition is true: every ledger reports what happened to
    /// them.
    pub fn follow(mut self, condition: Expression) -> Context {
        self.follow = Some(condition);
        self
    }

    /// Adds the sums of these columns to every ledger: in, kept, dropped, set aside.
    pub fn reconcile<N: Into<String>>(mut self, columns: impl IntoIterator<Item = N>) -> Context {
        self.reconcile = columns.into_iter().map(Into::into).collect();
        self
    }
}

impl<'a> From<&'a Context> for ExpressionContext<'a> {
    fn from(context: &'a Context) -> ExpressionContext<'a> {
        let Context { as_of, as_of_follows, zone, .. } = context;
        ExpressionContext { as_of: *as_of, as_of_follows: *as_of_follows, zone }
    }
}

/// Receives a result in batches.
pub type Sink<'a> =
    dyn FnMut(&Table) -> std::result::Result<(), Box<dyn std::error::Error + Send + Sync>> + 'a;
