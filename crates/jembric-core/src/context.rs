//! [`Context`]: the circumstances that reach an operation as values.

use crate::{
    calendar::{Day, Zone},
    error::{Error, Result, Smaller},
    expression::{Expression, ExpressionContext},
    table::Table,
};

/// What an operation cannot see in its table: the date that the answer speaks of, and which sums to
/// reconcile.
#[derive(Clone, Debug, Default)]
#[must_use]
#[non_exhaustive]
pub struct Context {
    /// The date that the answer speaks of.
    pub as_of: Option<Day>,
    /// That date will be given, but is not known before the data is read.
    pub as_of_follows: bool,
    /// What `today` means, where a setting may say it. The core has no clock.
    pub today: Option<Day>,
    /// The time zone in which points in time are cut into days.
    pub zone: Zone,
    /// Columns whose sums every ledger carries.
    pub reconcile: Vec<String>,
    /// The bytes that an answer may take where it is made whole; without a bound if not said.
    pub memory: Option<u64>,
    /// Rows whose fate every ledger tells apart, where its table has the columns for it.
    pub follow: Option<Expression>,
}

impl Context {
    /// No as-of date, days of UTC, nothing to reconcile.
    pub fn new() -> Context {
        Context::default()
    }

    /// The date that the answer speaks of.
    pub fn as_of(mut self, day: Day) -> Context {
        self.as_of = Some(day);
        self
    }

    /// Says that the as-of date will be given once the data is read, for checks before that.
    pub fn as_of_follows(mut self) -> Context {
        self.as_of_follows = true;
        self
    }

    /// The bytes that an answer may take where it is made whole.
    pub fn memory(mut self, bytes: u64) -> Context {
        self.memory = Some(bytes);
        self
    }

    /// An error where an answer of so many rows, each of so many bytes, takes more memory than it
    /// may.
    pub(crate) fn expect_room(&self, rows: u64, row_bytes: u64, advice: Smaller) -> Result<()> {
        let bytes = rows.saturating_mul(row_bytes);
        match self.memory {
            Some(most) if bytes > most => Err(Error::TooMuchMemory { rows, bytes, most, advice }),
            _ => Ok(()),
        }
    }

    /// Whether there is no as-of date and none will follow.
    pub(crate) fn as_of_is_unknown(&self) -> bool {
        self.as_of.is_none() && !self.as_of_follows
    }

    /// What `today` means, where a setting may say it.
    pub fn today(mut self, day: Day) -> Context {
        self.today = Some(day);
        self
    }

    /// The time zone in which points in time are cut into days; UTC if not said.
    pub fn zone(mut self, zone: Zone) -> Context {
        self.zone = zone;
        self
    }

    /// Tells in every ledger what became of the rows of which this is true.
    pub fn follow(mut self, condition: Expression) -> Context {
        self.follow = Some(condition);
        self
    }

    /// Columns whose sums every ledger carries: in, kept, dropped, set aside.
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

/// What takes an answer in batches.
pub type Sink<'a> =
    dyn FnMut(&Table) -> std::result::Result<(), Box<dyn std::error::Error + Send + Sync>> + 'a;
