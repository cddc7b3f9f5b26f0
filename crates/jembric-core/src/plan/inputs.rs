//! [`Inputs`]: the columns of its tables that a plan uses, and those that it only passes on.

use crate::{
    ledger::Accounting,
    shape::{Named, Shape},
};
use std::collections::BTreeSet;

/// The columns of each table that a plan uses, and the origin of each column of its result.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct Inputs {
    used: Vec<BTreeSet<usize>>,
    /// For each column of the result, the tables and columns that it is passed on from, if it is.
    passed: Vec<Vec<(usize, usize)>>,
}

impl Inputs {
    /// A plan that passes nothing on.
    pub(crate) fn new() -> Inputs {
        Inputs::default()
    }

    /// A plan whose result begins with all columns of its first table, in order.
    pub(crate) fn passing(shape: &Shape) -> Inputs {
        let passed = (0..shape.columns().len()).map(|place| vec![(0, place)]);
        Inputs { used: Vec::new(), passed: passed.collect() }
    }

    /// Adds a column of the result that is passed on from these columns, each given with its table.
    pub(crate) fn pass(&mut self, from: impl IntoIterator<Item = (usize, usize)>) {
        self.passed.push(from.into_iter().collect());
    }

    /// Adds columns of the first table that are used.
    pub(crate) fn using(self, columns: impl IntoIterator<Item = usize>) -> Inputs {
        self.using_of(0, columns)
    }

    /// Adds columns of a table that are used.
    pub(crate) fn using_of(
        mut self,
        table: usize,
        columns: impl IntoIterator<Item = usize>,
    ) -> Inputs {
        self.used.resize(self.used.len().max(table + 1), BTreeSet::new());
        self.used[table].extend(columns);
        self
    }

    /// Adds these columns of the first table that are used.
    pub(crate) fn using_named(self, named: &[Named]) -> Inputs {
        self.using(named.iter().map(|named| named.place))
    }

    /// Adds the columns of the first table that the ledger needs.
    pub(crate) fn accounting(self, accounting: &Accounting) -> Inputs {
        self.using(accounting.reconcile.iter().map(|(_, place)| *place))
    }

    pub(crate) fn used(&self, table: usize) -> impl Iterator<Item = usize> + '_ {
        self.used.get(table).into_iter().flatten().copied()
    }

    /// The columns of this number of tables that are needed for some columns of the result.
    pub(crate) fn needed(
        &self,
        tables: usize,
        is_needed: impl Fn(usize) -> bool,
    ) -> Vec<Vec<usize>> {
        let mut needed = self.used.clone();
        needed.resize(tables, BTreeSet::new());
        let passed = self.passed.iter().enumerate().filter(|(place, _)| is_needed(*place));
        for &(table, column) in passed.flat_map(|(_, from)| from) {
            needed[table].insert(column);
        }
        needed.into_iter().map(|columns| columns.into_iter().collect()).collect()
    }
}
