//! Decides between records with the same entity and date: by further columns, or by the order of
//! the rows.

use super::{Ties, best::Groups};
use crate::{
    dates::Dates,
    entities::Entities,
    error::{Places, Result},
    shape::Named,
    table::Table,
};
use arrow_array::Array;
use arrow_ord::ord::{DynComparator, make_comparator};
use arrow_schema::{DataType, SortOptions};
use std::{cmp::Ordering, collections::BTreeSet};

/// The most entities in a message.
const NAMED: usize = 3;

/// How to decide between tied records.
pub(super) struct TieBreak<'a> {
    pub(super) table: &'a Table,
    pub(super) entities: &'a Entities,
    pub(super) dates: &'a Dates,
    pub(super) per: &'a [Named],
    /// The columns that break ties, the first one first.
    pub(super) then: &'a [Named],
    /// What to do with records that still tie.
    pub(super) ties: Ties,
    pub(super) date: &'a str,
    pub(super) earliest: bool,
}

/// The records that lost, and the number of those that still tie.
#[derive(Default)]
pub(super) struct Decided {
    pub(super) superseded: Vec<u32>,
    pub(super) tied_out: Vec<u32>,
    pub(super) records: u64,
    pub(super) entities: u64,
}

impl TieBreak<'_> {
    /// Decides between the rows of each group.
    ///
    /// Errors: ties are refused and there are some.
    pub(super) fn decide(&self, groups: &Groups) -> Result<Decided> {
        let breakers =
            self.then.iter().map(|named| self.breaker(named.place)).collect::<Result<Vec<_>>>()?;
        let (mut decided, mut left, mut last_entity) =
            (Decided::default(), Vec::new(), Entities::NONE);
        let mut named = BTreeSet::new();
        for group in groups.iter() {
            left.clear();
            left.extend_from_slice(group);
            for compare in &breakers {
                // The rows that are equal to the best one go on to the next column.
                let best = left.iter().copied().reduce(|best, row| {
                    if compare(best as usize, row as usize) == Ordering::Less { row } else { best }
                });
                let loses = |row: u32| {
                    best.is_some_and(|best| compare(row as usize, best as usize) != Ordering::Equal)
                };
                decided.superseded.extend(left.iter().copied().filter(|&row| loses(row)));
                left.retain(|&row| !loses(row));
            }
            let [first, .., last] = left[..] else { continue };
            decided.records += left.len() as u64;
            // The groups of one entity are next to each other.
            let entity = self.entities.ids()[first as usize];
            decided.entities += u64::from(entity != last_entity);
            last_entity = entity;
            match self.ties {
                Ties::All => {}
                Ties::First => decided.tied_out.extend(left.iter().filter(|&&row| row != first)),
                Ties::Last => decided.tied_out.extend(left.iter().filter(|&&row| row != last)),
                Ties::Refuse => {
                    // The least ones, so that the message does not depend on the order of the rows.
                    named.insert(self.name_of(first as usize)?);
                    if named.len() > NAMED {
                        named.pop_last();
                    }
                }
            }
        }
        if self.ties == Ties::Refuse && decided.records > 0 {
            let (date, named) = (self.date.to_owned(), named.into_iter().collect());
            let Decided { records, entities, .. } = decided;
            return Err(Places::Tied { date, records, entities, named }.into());
        }
        Ok(decided)
    }

    /// Compares two rows by a tie-breaking column: the greater value wins, and a missing value
    /// loses.
    fn breaker(&self, place: usize) -> Result<DynComparator> {
        let column = self.table.at(place);
        if *column.data_type() == DataType::Null {
            return Ok(Box::new(|_, _| Ordering::Equal));
        }
        // Reversed for `earliest`, where a missing value still loses.
        let options = SortOptions { descending: self.earliest, nulls_first: true };
        Ok(make_comparator(column, column, options)?)
    }

    /// The entity of a row and its date, for messages.
    fn name_of(&self, row: usize) -> Result<String> {
        let key = self.per.iter().map(|named| self.table.cell_text_at(named.place, row));
        let key = key.collect::<Result<Vec<_>>>()?;
        let key = if key.is_empty() {
            "the whole table".to_owned()
        } else {
            format!("`{}`", key.join(", "))
        };
        Ok(format!("{key} on {}", self.dates.text(row)))
    }
}
