//! What all operations have in common: the circumstances that reach them as values, how their settings are described once
//! for every way in, and what they are asked to do.

use crate::{
    calendar::{Day, Zone},
    error::{Error, Result},
    expression::Expression,
    ledger::Outcome,
    shape::Shape,
    table::Table,
};

/// What an operation cannot see in its table: the date that the answer speaks of, and which sums to reconcile.
#[derive(Clone, Debug, Default)]
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

    /// An error where an answer of so many rows, each of so many bytes, takes more memory than it may.
    pub(crate) fn expect_room(&self, rows: u64, row_bytes: u64, advice: &'static str) -> Result<()> {
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

/// A step from a table to an answer and its ledger.
pub trait Operation {
    /// Everything that can be wrong without the data; otherwise what is known of the answer's columns.
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape>;

    /// Whether the data alone knows the columns of the answer, so that nothing after it can be checked beforehand.
    fn answers_with_columns_of_the_data(&self) -> bool {
        false
    }

    /// Whether each row of the answer is made of one row of the table alone, so that stretches of a table can be answered one after
    /// the other, and their answers have the same types.
    fn is_row_by_row(&self, shape: &Shape, context: &Context) -> bool {
        let _ = (shape, context);
        false
    }

    /// The answer for a table.
    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome>;

    /// The answer handed over in batches, the first of which may have no rows; the outcome's own table has none. A long
    /// answer never stands in memory whole where the operation can make it piece by piece.
    fn apply_into(&self, table: &Table, context: &Context, sink: &mut Sink<'_>) -> Result<Outcome> {
        let outcome = self.apply_with(table, context)?;
        sink(&outcome.table).map_err(crate::Error::Sink)?;
        Ok(Outcome { table: outcome.table.head(0), ..outcome })
    }
}

/// What takes an answer in batches.
pub type Sink<'a> =
    dyn FnMut(&Table) -> std::result::Result<(), Box<dyn std::error::Error + Send + Sync>> + 'a;

/// The two calls of an operation that need nothing but a table, so that whoever uses the library need not import the trait.
macro_rules! called_alone {
    ($($operation:ty),*) => {$(
        impl $operation {
            /// Everything that can be wrong without the data; otherwise what is known of the answer's columns.
            pub fn check(&self, shape: &$crate::Shape) -> $crate::Result<$crate::Shape> {
                $crate::Operation::check_with(self, shape, &$crate::Context::new())
            }

            /// The answer for a table, without an as-of date and with days of UTC.
            pub fn apply(&self, table: &$crate::Table) -> $crate::Result<$crate::Outcome> {
                $crate::Operation::apply_with(self, table, &$crate::Context::new())
            }
        }
    )*};
}
pub(crate) use called_alone;

/// Builder methods of settings that are lists, each with what it tells.
macro_rules! told_in_lists {
    ($operation:ty { $($list:ident: $tells:literal),* $(,)? }) => {
        impl $operation {
            $(
                #[doc = $tells]
                pub fn $list<N: Into<String>>(mut self, $list: impl IntoIterator<Item = N>) -> $operation {
                    self.$list = $list.into_iter().map(Into::into).collect();
                    self
                }
            )*
        }
    };
}
pub(crate) use told_in_lists;

/// Builder methods of where weeks and years begin.
macro_rules! told_of_periods {
    ($operation:ty) => {
        impl $operation {
            /// The day on which weeks begin.
            pub fn week_start(mut self, weekday: $crate::calendar::Weekday) -> $operation {
                self.week_start = Some(weekday);
                self
            }

            /// The month in which years begin, by its name or number.
            pub fn year_start(mut self, month: impl Into<String>) -> $operation {
                self.year_start = Some(month.into());
                self
            }
        }
    };
}
pub(crate) use told_of_periods;

/// One setting of an operation, described once for the library's docs, the command line and saved files.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Setting {
    /// Its name, with dashes.
    pub name: &'static str,
    /// What it takes.
    pub takes: Takes,
    /// Whether the operation cannot do without it.
    pub required: bool,
    /// What it does, in a sentence.
    pub help: &'static str,
}

impl Setting {
    pub(crate) const fn new(name: &'static str, takes: Takes, help: &'static str) -> Setting {
        Setting { name, takes, required: false, help }
    }

    pub(crate) const fn required(mut self) -> Setting {
        self.required = true;
        self
    }
}

/// What a [`Setting`] takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Takes {
    /// One column's name.
    Column,
    /// Several columns' names.
    Columns,
    /// The name of a column that is made.
    Name,
    /// A whole number from 1.
    Count,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// Yes, where it is given at all.
    Yes,
    /// Text of its own kind, shown by this word: a date, a span, a range.
    Text(&'static str),
    /// A whole number from 0, however large.
    Number,
    /// Whole numbers.
    Numbers,
    /// Texts of one kind, shown by this word.
    Texts(&'static str),
    /// The days in a file of dates.
    Days,
    /// The entities in columns of a file.
    Entities,
    /// An expression, which stands without an option's name.
    Expression,
    /// Several texts that stand without an option's name, shown by this word.
    Several(&'static str),
    /// A list with commas that stands without an option's name, shown by this word.
    List(&'static str),
}
