//! A database of a kind that the build does not include. There are none.

use super::{
    Answer, DatabaseTable, HowMany, Ranges, Snapshot, TablesWriter, Wanted, existing::Existing,
};
use crate::{Result, Shape, Table, read::reading::Reading};

/// A database that cannot be opened.
#[derive(Debug)]
pub(crate) enum Disabled {}

impl Snapshot for Disabled {
    fn names(&mut self) -> Result<Vec<DatabaseTable>> {
        match *self {}
    }

    fn tables(&mut self) -> Result<Vec<DatabaseTable>> {
        match *self {}
    }

    fn shape(&mut self, _: Wanted<'_>) -> Result<Shape> {
        match *self {}
    }

    fn answer(&mut self, _: Wanted<'_>, _: &Reading, _: HowMany<'_>) -> Result<Answer> {
        match *self {}
    }

    fn ranges(&mut self, _: Wanted<'_>, _: &str, _: usize) -> Result<Ranges> {
        match *self {}
    }

    fn show(&mut self, _: &str) -> Result<()> {
        match *self {}
    }
}

impl TablesWriter for Disabled {
    fn begin(&mut self, _: &str, _: &Table, _: Existing) -> Result<usize> {
        match *self {}
    }

    fn write(&mut self, _: usize, _: &Table) -> Result<()> {
        match *self {}
    }

    fn commit(self: Box<Self>) -> Result<()> {
        match *self {}
    }
}
