//! [`InputTables`]: the files that a run has read.

use super::{needed::Names, shares::Shares};
use crate::{
    Result,
    data::{
        Data,
        exchange::{PlaceInList, held_by_one},
        memory::Memory,
    },
    open::share::Sharing,
    read::reading::Reading,
    routine::Input,
    steps::Files,
};
use std::collections::HashMap;

/// The files that have been read, their rows, and their columns that were read.
pub(super) struct InputTables<'a> {
    pub(super) files: &'a dyn Files,
    pub(super) shares: Shares<'a>,
    pub(super) columns: HashMap<&'a str, Names>,
    pub(super) memory: Memory,
    tables: HashMap<String, Data>,
    rows: HashMap<String, u64>,
}

/// A file that is still to be read.
struct Unread<'a> {
    key: String,
    file: &'a str,
    reading: Reading,
}

/// The key of a table that was read.
fn key_of(file: &str, settings: &Reading) -> String {
    format!("{file}\n{settings:?}")
}

impl<'a> InputTables<'a> {
    /// Nothing was read yet.
    pub(super) fn new(
        files: &'a dyn Files,
        shares: Shares<'a>,
        memory: &Memory,
        columns: HashMap<&'a str, Names>,
    ) -> InputTables<'a> {
        let (memory, tables, rows) = (memory.clone(), HashMap::new(), HashMap::new());
        InputTables { files, shares, columns, memory, tables, rows }
    }

    /// The table in a file that was read.
    pub(super) fn table(&self, file: &str, settings: &Reading) -> Option<&Data> {
        self.tables.get(&key_of(file, settings))
    }

    /// Reads the files among the inputs of a step, each once.
    pub(super) fn read(&mut self, inputs: &[Input]) -> Result<()> {
        let mut unread: Vec<Unread<'_>> = Vec::new();
        for input in inputs {
            let Input::File(file, settings) = input else { continue };
            let key = key_of(file, settings);
            if self.tables.contains_key(&key) || unread.iter().any(|other| other.key == key) {
                continue;
            }
            let mut reading = Reading::clone(settings);
            if inputs.len() > 1 {
                reading = reading.one_of_several();
            }
            if let Some(Some(names)) = self.columns.get(file.as_str()) {
                reading = reading.only(names);
            }
            unread.push(Unread { key, file, reading });
        }
        let owners = self.owners(&unread)?;
        // Each process reads its whole files before it waits for those of others.
        let mut own = Vec::new();
        for (Unread { file, reading, .. }, owner) in unread.iter().zip(&owners) {
            let is_own = *owner == Owner::Process(self.shares.process());
            let whole = || self.files.data(file, reading, &self.memory);
            own.push(is_own.then(whole).transpose()?);
        }
        for ((Unread { key, file, reading }, owner), own) in unread.into_iter().zip(owners).zip(own)
        {
            let exchange = self.shares.exchange;
            let data = match owner {
                Owner::Process(process) => held_by_one(process, own, exchange)?,
                Owner::All(place) => {
                    self.files.share(file, &reading, place, &self.memory, exchange)?
                }
            };
            self.rows.insert(file.to_owned(), self.shares.rows(&data)?);
            self.tables.insert(key, data);
        }
        Ok(())
    }

    /// Who reads each file. Together the files are shared out by bytes, in their order, so that
    /// each process has consecutive rows of all of them.
    fn owners(&self, unread: &[Unread<'_>]) -> Result<Vec<Owner>> {
        let mut owners = vec![Owner::Process(0); unread.len()];
        if !self.shares.are_there() {
            return Ok(owners);
        }
        let processes = self.shares.exchange.processes();
        let sharings =
            unread.iter().map(|Unread { file, reading, .. }| self.files.sharing(file, reading));
        let sharings: Vec<Sharing> = sharings.collect::<Result<_>>()?;
        let bytes = |sharing: &Sharing| match sharing {
            Sharing::Rows(bytes) | Sharing::Whole(bytes) => *bytes,
            Sharing::Ranges | Sharing::AtFirst => 0,
        };
        let (mut before, all) = (0, sharings.iter().map(bytes).sum());
        for (owner, sharing) in owners.iter_mut().zip(&sharings) {
            let place = PlaceInList { before, all };
            *owner = match *sharing {
                Sharing::Rows(_) => Owner::All(Some(place)),
                Sharing::Ranges => Owner::All(None),
                Sharing::Whole(bytes) => Owner::Process(place.owner(bytes, processes)),
                Sharing::AtFirst => Owner::Process(0),
            };
            before += bytes(sharing);
        }
        Ok(owners)
    }

    /// The number of rows of each file.
    pub(super) fn rows(&self) -> impl Iterator<Item = (&str, u64)> {
        self.rows.iter().map(|(name, rows)| (name.as_str(), *rows))
    }
}

/// Who reads a file.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Owner {
    /// One process, which has all rows.
    Process(usize),
    /// All processes, each some of the rows, by the place of the file among others.
    All(Option<PlaceInList>),
}
