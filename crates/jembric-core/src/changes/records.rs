//! [`Records`]: which rows of both sides are the same record.

use super::{Changes, Duplicates};
use crate::{
    entities::{Entities, Missing},
    error::{Error, Places, Result},
    ledger::{Reason, RowMasks},
    table::Table,
    within::keys::{self, Pair},
};
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder};
use std::collections::BTreeMap;

/// No row.
const NONE: u32 = u32::MAX;
/// The most keys in a message.
const NAMED: usize = 3;

/// The rows of the records on both sides.
pub(super) struct Records {
    /// The keys of the rows of both sides: first those now, then those before.
    entities: Entities,
    rows_now: usize,
    /// The rows now and before of the records on both sides, in the order of the rows now.
    pub(super) both: Vec<(u32, u32)>,
    /// The rows of records on one side only.
    pub(super) appeared: Vec<u32>,
    pub(super) gone: Vec<u32>,
    /// The rows that another row with the same key takes the place of.
    lost_now: Vec<u32>,
    lost_before: Vec<u32>,
}

impl Records {
    /// Errors: a key occurs twice on a side, and duplicates are refused.
    pub(super) fn match_records(
        pairs: &[Pair],
        now: &Table,
        before: &Table,
        settings: &Changes,
    ) -> Result<Records> {
        let missing = if settings.missing_keys { Missing::IsAKey } else { Missing::NoEntity };
        let entities = keys::number(pairs, now, before, missing)?;
        let ties = settings.ties;
        let (ids_now, ids_before) = entities.ids().split_at(now.rows());
        let side = |ids, table, side: &str, places: Vec<usize>| match one_each(
            ids,
            entities.count(),
            ties,
        ) {
            Ok(found) => Ok(found),
            Err(twice) => Err(duplicates(table, side, &places, &twice)?),
        };
        let places_now = pairs.iter().map(|pair| pair.of_events).collect();
        let places_before = pairs.iter().map(|pair| pair.of_windows).collect();
        let (slots_now, lost_now) = side(ids_now, now, "now", places_now)?;
        let (slots_before, lost_before) = side(ids_before, before, "before", places_before)?;
        let (mut both, mut appeared) = (Vec::new(), Vec::new());
        for (row, &id) in ids_now.iter().enumerate() {
            // A key has one row; the others are lost.
            if id == Entities::NONE || slots_now[id as usize] != row as u32 {
                continue;
            }
            match slots_before[id as usize] {
                NONE => appeared.push(row as u32),
                other => both.push((row as u32, other)),
            }
        }
        let is_gone = |&(row, &id): &(usize, &u32)| {
            id != Entities::NONE
                && slots_before[id as usize] == row as u32
                && slots_now[id as usize] == NONE
        };
        let gone =
            ids_before.iter().enumerate().filter(is_gone).map(|(row, _)| row as u32).collect();
        let rows_now = now.rows();
        Ok(Records { entities, rows_now, both, appeared, gone, lost_now, lost_before })
    }

    /// The number of each row's key, as of [`keys::number`].
    pub(super) fn ids(&self) -> &[u32] {
        self.entities.ids()
    }

    /// The fates of the rows now. `changed` tells for each record of both sides whether it differs.
    pub(super) fn now_masks(&self, changed: &[bool]) -> RowMasks {
        let ids = &self.ids()[..self.rows_now];
        let rows = self.both.iter().map(|(now, _)| *now).zip(changed.iter().copied());
        masks(ids, rows, &self.appeared, &self.lost_now)
    }

    /// The fates of the rows before.
    pub(super) fn before_masks(&self, changed: &[bool]) -> RowMasks {
        let ids = &self.ids()[self.rows_now..];
        let rows = self.both.iter().map(|(_, before)| *before).zip(changed.iter().copied());
        masks(ids, rows, &self.gone, &self.lost_before)
    }
}

/// The keys that occur twice, each with a row and the number of its rows.
type Twice = BTreeMap<u32, Vec<u32>>;

/// The row of each key, and the rows that lost to another one. Errors: keys that occur twice.
fn one_each(
    ids: &[u32],
    count: usize,
    ties: Duplicates,
) -> std::result::Result<(Vec<u32>, Vec<u32>), Twice> {
    let mut slots = vec![NONE; count];
    let (mut lost, mut twice) = (Vec::new(), Twice::new());
    for (row, &id) in ids.iter().enumerate().filter(|(_, id)| **id != Entities::NONE) {
        let (row, slot) = (row as u32, &mut slots[id as usize]);
        match (*slot, ties) {
            (NONE, _) => *slot = row,
            (first, Duplicates::Refuse) => {
                twice.entry(id).or_insert_with(|| vec![first]).push(row);
            }
            (_, Duplicates::First) => lost.push(row),
            (other, Duplicates::Last) => {
                lost.push(other);
                *slot = row;
            }
        }
    }
    if twice.is_empty() { Ok((slots, lost)) } else { Err(twice) }
}

/// The error that keys occur twice, with the least keys and their places.
fn duplicates(table: &Table, side: &str, columns: &[usize], twice: &Twice) -> Result<Error> {
    let mut named = Vec::new();
    for rows in twice.values() {
        let key = columns.iter().map(|&place| table.cell_text_at(place, rows[0] as usize));
        let key = key.collect::<Result<Vec<_>>>()?.join(", ");
        let places: Vec<String> =
            rows.iter().take(NAMED).map(|row| table.place(*row as usize)).collect();
        let more = if rows.len() > NAMED { ", …" } else { "" };
        named.push(format!("`{key}` ({}{more})", places.join(", ")));
    }
    named.sort();
    let keys = named.len() as u64;
    named.truncate(NAMED);
    let side = table.origin().map_or_else(|| side.to_owned(), |origin| origin.file().to_owned());
    Ok(Places::DuplicateKeys { side, keys, named }.into())
}

fn masks(
    ids: &[u32],
    both: impl Iterator<Item = (u32, bool)>,
    alone: &[u32],
    lost: &[u32],
) -> RowMasks {
    let empty = || {
        let mut mask = BooleanBufferBuilder::new(ids.len());
        mask.append_n(ids.len(), false);
        mask
    };
    let (mut kept, mut unchanged, mut tied) = (empty(), empty(), empty());
    for (row, is_changed) in both {
        if is_changed { &mut kept } else { &mut unchanged }.set_bit(row as usize, true);
    }
    alone.iter().for_each(|row| kept.set_bit(*row as usize, true));
    lost.iter().for_each(|row| tied.set_bit(*row as usize, true));
    let no_key = BooleanBuffer::collect_bool(ids.len(), |row| ids[row] == Entities::NONE);
    RowMasks {
        kept: kept.finish(),
        dropped: vec![
            (Reason::TiedWithTheOneKept, tied.finish()),
            (Reason::Unchanged, unchanged.finish()),
        ],
        set_aside: vec![(Reason::NoKey, no_key)],
    }
}
