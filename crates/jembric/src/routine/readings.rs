//! [`Readings`]: the files that a run has read.

use super::{needed::Names, shared::Shares};
use crate::{
    io::{Data, Memory},
    steps::Files,
};
use std::collections::HashMap;

/// The files that have been read, their rows, and their columns that were read.
pub(super) struct Readings<'a> {
    pub(super) files: &'a dyn Files,
    pub(super) shares: Shares<'a>,
    pub(super) columns: HashMap<&'a str, Names>,
    pub(super) memory: Memory,
    pub(super) tables: HashMap<String, Data>,
    pub(super) rows: HashMap<String, u64>,
}

impl Readings<'_> {
    /// The number of rows of each file.
    pub(super) fn rows(&self) -> impl Iterator<Item = (&str, u64)> {
        self.rows.iter().map(|(name, rows)| (name.as_str(), *rows))
    }
}
