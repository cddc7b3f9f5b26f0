//! What all operations have in common: the circumstances that reach them as values, how their settings are described once
//! for every way in, and what they are asked to do.

use crate::{
    calendar::Day,
    error::Result,
    ledger::Outcome,
    table::{Shape, Table},
};

/// What an operation cannot see in its table: the date that the answer speaks of, and which sums to reconcile.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Context {
    /// The date that the answer speaks of.
    pub as_of: Option<Day>,
    /// Columns whose sums every ledger carries.
    pub reconcile: Vec<String>,
}

impl Context {
    /// No as-of date, nothing to reconcile.
    pub fn new() -> Context {
        Context::default()
    }

    /// The date that the answer speaks of.
    pub fn as_of(mut self, day: Day) -> Context {
        self.as_of = Some(day);
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
    fn check(&self, shape: &Shape, context: &Context) -> Result<Shape>;

    /// The answer for a table.
    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome>;
}

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
}
