//! [`Exchange`]: connects the processes that run a routine together, each with a share of the rows.
//!
//! All processes run the same steps in the same order, and exchange parcels at the same places.
//! What is in a parcel is up to the steps: rows for the owner of their entity, or facts that every
//! process must know.

use super::Data;
use crate::error::{Error, Result};
use borsh::{BorshDeserialize, BorshSerialize};
use std::fmt;

/// Receives parcels, each with a process: that to send it to, or that which sent it.
pub type Parcels<'a> = dyn FnMut(usize, Vec<u8>) -> Result<()> + 'a;

/// A part of a file: the parts from one to another, if it is cut into equal ones.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Portion {
    pub(crate) from: u64,
    pub(crate) to: u64,
    pub(crate) of: u64,
}

impl Portion {
    /// The whole file.
    pub(crate) const WHOLE: Portion = Portion { from: 0, to: 1, of: 1 };
}

/// The place of a file among several that are shared out together, so that each process has
/// consecutive rows of all files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PlaceInList {
    /// The bytes of the files before it.
    pub before: u64,
    /// The bytes of all files.
    pub all: u64,
}

impl PlaceInList {
    /// The portion of a process, of a file with so many bytes.
    pub(crate) fn portion(self, bytes: u64, process: usize, processes: usize) -> Portion {
        // A file without bytes is cut as well, so that one process has the whole of it.
        let (of, all) = (bytes.max(1), self.all.max(self.before + bytes.max(1)));
        let bound = |process: usize| {
            if process == processes {
                of
            } else {
                let place = u128::from(all) * process as u128 / processes as u128;
                (place as u64).saturating_sub(self.before).min(of)
            }
        };
        Portion { from: bound(process), to: bound(process + 1), of }
    }

    /// The process that reads the whole of a file with so many bytes, in the order of the list.
    pub(crate) fn owner(self, bytes: u64, processes: usize) -> usize {
        if bytes == self.all {
            return 0;
        }
        let middle = u128::from(self.before + bytes / 2);
        let owner = middle * processes as u128 / u128::from(self.all.max(1));
        (owner as usize).min(processes - 1)
    }
}

/// The processes that run a routine together.
pub trait Exchange: fmt::Debug {
    /// The number of this process, from 0.
    fn process(&self) -> usize;

    /// The number of all processes.
    fn processes(&self) -> usize;

    /// Sends parcels, and takes those that are sent to this process until every process has sent
    /// all of its own. The parcels of one process come in the order in which it sent them.
    ///
    /// All processes call this in the same order. No more parcels are on their way than memory
    /// allows: a process that is slow in taking them slows the others down.
    ///
    /// Errors: those of `send` and `take`; another process failed or cannot be reached any more.
    fn parcels(
        &self,
        send: &mut dyn FnMut(&mut Parcels<'_>) -> Result<()>,
        take: &mut Parcels<'_>,
    ) -> Result<()>;
}

/// A process that runs a routine alone: an exchange among one.
#[derive(Clone, Copy, Debug)]
pub struct Alone;

impl Exchange for Alone {
    fn process(&self) -> usize {
        0
    }

    fn processes(&self) -> usize {
        1
    }

    fn parcels(
        &self,
        send: &mut dyn FnMut(&mut Parcels<'_>) -> Result<()>,
        take: &mut Parcels<'_>,
    ) -> Result<()> {
        send(&mut |_, parcel| take(0, parcel))
    }
}

impl dyn Exchange + '_ {
    /// Whether there are no other processes.
    pub(crate) fn is_alone(&self) -> bool {
        self.processes() == 1
    }

    /// Whether this is process 0, which has the ledgers and what is not shared out.
    pub(crate) fn is_first(&self) -> bool {
        self.process() == 0
    }

    /// What each process knows, in the order of processes.
    pub(crate) fn all_gather<T: BorshSerialize + BorshDeserialize>(
        &self,
        own: &T,
    ) -> Result<Vec<T>> {
        let bytes = packed(own)?;
        let processes = self.processes();
        self.facts(&mut |send| (0..processes).try_for_each(|to| send(to, bytes.clone())))
    }

    /// What process 0 knows. The value of other processes is not used.
    pub(crate) fn broadcast_from_first<T: BorshSerialize + BorshDeserialize>(
        &self,
        own: Option<&T>,
    ) -> Result<T> {
        self.broadcast(0, own)
    }

    /// What one process knows. The value of other processes is not used.
    pub(crate) fn broadcast<T: BorshSerialize + BorshDeserialize>(
        &self,
        process: usize,
        own: Option<&T>,
    ) -> Result<T> {
        let bytes = own.filter(|_| self.process() == process).map(packed).transpose()?;
        let processes = self.processes();
        let mut facts = self.facts(&mut |send| {
            let mut bytes = bytes.iter();
            bytes.try_for_each(|bytes| (0..processes).try_for_each(|to| send(to, bytes.clone())))
        })?;
        facts.pop().ok_or_else(|| damaged(format!("process {process} has sent nothing")))
    }

    fn facts<T: BorshDeserialize>(
        &self,
        send: &mut dyn FnMut(&mut Parcels<'_>) -> Result<()>,
    ) -> Result<Vec<T>> {
        let mut facts: Vec<Option<T>> = (0..self.processes()).map(|_| None).collect();
        self.parcels(send, &mut |from, bytes| {
            facts[from] = Some(unpacked(&bytes)?);
            Ok(())
        })?;
        Ok(facts.into_iter().flatten().collect())
    }
}

/// The rows that one process has. The other processes have none, and the same columns.
pub(crate) fn held_by_one(
    process: usize,
    own: Option<Data>,
    exchange: &dyn Exchange,
) -> Result<Data> {
    let columns = own.as_ref().map(|data| data.sample().emptied());
    let columns = exchange.broadcast(process, columns.as_ref())?;
    Ok(own.unwrap_or(Data::Table(columns)))
}

/// A value as the bytes of a parcel.
pub(crate) fn packed(value: &impl BorshSerialize) -> Result<Vec<u8>> {
    borsh::to_vec(value).map_err(damaged)
}

/// The value in a parcel.
pub(crate) fn unpacked<T: BorshDeserialize>(parcel: &[u8]) -> Result<T> {
    borsh::from_slice(parcel).map_err(damaged)
}

fn damaged(problem: impl fmt::Display) -> Error {
    let problem = format!("a parcel is damaged ({problem})");
    Error::Process { process: "another process".to_owned(), problem }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A process that is alone has what it says itself, in the order in which it sends it.
    #[test]
    fn a_process_alone_exchanges_with_itself() {
        let alone: &dyn Exchange = &Alone;
        assert!(alone.is_alone() && alone.is_first());
        assert_eq!(alone.all_gather(&7_u32).unwrap(), [7]);
        assert_eq!(alone.broadcast_from_first(Some(&"a".to_owned())).unwrap(), "a");
        let mut parcels = Vec::new();
        let sent = alone.parcels(
            &mut |send| (0..3).try_for_each(|n| send(0, vec![n])),
            &mut |from, parcel| {
                parcels.push((from, parcel));
                Ok(())
            },
        );
        sent.unwrap();
        assert_eq!(parcels, [(0, vec![0]), (0, vec![1]), (0, vec![2])]);
        // Without a value there is nothing to take.
        assert!(alone.broadcast_from_first::<u32>(None).is_err());
        let failed = alone.parcels(&mut |send| send(0, vec![1]), &mut |_, _| Err(damaged("x")));
        assert!(failed.is_err());
    }

    proptest! {
        /// Each file is covered, and processes have the files in the order of the list.
        #[test]
        fn a_list_is_cut_in_its_order(
            sizes in prop::collection::vec(0_u64..2_000, 1..6),
            processes in 1_usize..9,
        ) {
            let all = sizes.iter().sum();
            let (mut before, mut last) = (0, 0);
            for &bytes in &sizes {
                let place = PlaceInList { before, all };
                let mut end = 0;
                for process in 0..processes {
                    let portion = place.portion(bytes, process, processes);
                    prop_assert_eq!(portion.from, end);
                    end = portion.to;
                    if portion.from < portion.to {
                        prop_assert!(process >= last || bytes == 0, "{} after {}", process, last);
                        last = last.max(process);
                    }
                }
                prop_assert_eq!(end, bytes.max(1));
                before += bytes;
            }
            let mut before = 0;
            let owners = sizes.iter().map(|&bytes| {
                let place = PlaceInList { before, all };
                before += bytes;
                place.owner(bytes, processes)
            });
            let owners: Vec<usize> = owners.collect();
            let is_alone = sizes.contains(&all);
            prop_assert!(is_alone || owners.is_sorted(), "{:?}", owners);
        }
    }
}
