//! [`Division`]: how the rows of a plan's tables can be divided, so that tables that do not fit
//! into memory are processed in parts.
//!
//! A part is a table like any other, so a plan needs no second algorithm for it. What the parts
//! have to restore is the order of the result. The rows of a part carry their numbers among all
//! rows in one more column ([`Table::with_row_numbers`]), which operations pass on as any other.

use crate::{
    entities::{Entities, Missing, hash_of_bytes, hash_of_number},
    error::Result,
    number::in_one_type,
    ordering::distinct,
    table::Table,
};
use arrow_array::{Array, ArrayRef, cast::AsArray, new_empty_array, types::*};
use arrow_schema::DataType;
use borsh::{BorshDeserialize, BorshSerialize};
use std::collections::BTreeSet;

/// The seed of the division among processes. It differs from those of the parts in one process, so
/// that the rows of one owner are divided as well as all rows would be.
const OWNERS: u64 = 0x6a65_6d62_7269_6321;

/// Spreads a hash over all numbers once more (the last steps of MurmurHash3, by Austin Appleby).
///
/// The entities of a part are numbered by a table that is placed by the same hash. Without this,
/// all of them would begin in the same few slots, and numbering would take quadratic time.
fn mixed(mut hash: u64) -> u64 {
    hash = (hash ^ hash >> 33).wrapping_mul(0xff51_afd7_ed55_8ccd);
    hash = (hash ^ hash >> 33).wrapping_mul(0xc4ce_b9fe_1a85_ec53);
    hash ^ hash >> 33
}

/// How the rows of a plan's tables can be divided into parts.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Division {
    /// Into any rows that follow each other, one table after the other. The result is that of the
    /// parts, in this order.
    Rows,
    /// Into any rows that follow each other. The results of the parts are sorted by these columns
    /// (each with whether it is descending), and have to be merged; equal rows keep their order.
    Sorted(Vec<(usize, bool)>),
    /// Into groups of entities, with all rows of an entity in one part.
    Entities(ByEntity),
    /// Into rows that follow each other in order of this column of dates, with missing dates last
    /// ([`Plan::in_order`](super::Plan::in_order)).
    Dates(usize, ResultOrder),
    /// Into any rows of the first table that follow each other, each beside all rows of the second
    /// ([`Plan::beside`](super::Plan::beside)). The result is that of the pieces, in this order.
    Beside,
}

/// How a plan works on the rows of its tables.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Kind {
    /// Each row of the result comes from one row of the table, so any group of rows can be
    /// processed separately, and is final.
    ByRow,
    /// One pass over the rows in any order, with a small state
    /// ([`Plan::begin`](super::Plan::begin)). The states of different rows can be merged. If the
    /// state becomes too large, the rows can be divided like this; none if they cannot.
    OnePass(Option<Division>),
    /// Parts of the rows, once what is needed of all rows is known
    /// ([`Plan::survey`](super::Plan::survey)).
    Divided(Division),
    /// All rows at once.
    Whole,
}

impl Kind {
    /// Divided, or if the rows cannot be divided, all of them at once.
    pub(crate) fn apart(division: Option<Division>) -> Kind {
        division.map_or(Kind::Whole, Kind::Divided)
    }

    /// How the rows can be divided; none if they cannot.
    pub fn division(&self) -> Option<&Division> {
        match self {
            Kind::ByRow => Some(&Division::Rows),
            Kind::OnePass(division) => division.as_ref(),
            Kind::Divided(division) => Some(division),
            Kind::Whole => None,
        }
    }
}

/// A division into groups of entities.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct ByEntity {
    /// The places of the key columns of each table. Those of several tables agree in pairs.
    pub keys: Vec<Vec<usize>>,
    /// Whether keys that differ only in case and outer blanks must be in the same part, because a
    /// warning compares them.
    pub folded: bool,
    /// Whether a missing key is a key like others. Otherwise rows without a key are spread.
    pub missing_is_a_key: bool,
    /// The column of dates in whose order the rows of one entity can be taken in pieces
    /// ([`Plan::in_order`](super::Plan::in_order)).
    pub date: Option<usize>,
    /// The order of the result.
    pub order: ResultOrder,
}

/// The order of a result whose parts have to be merged.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ResultOrder {
    /// That of the rows of this table.
    Rows(usize),
    /// Sorted by these columns of the result, of which all rows of an entity have the same values.
    Columns(Vec<usize>),
}

/// What an operation needs to know of all rows before it can process a part of them.
#[derive(Clone, Debug, Default, PartialEq, BorshSerialize, BorshDeserialize)]
pub struct Overall {
    /// The first and last period of the records.
    pub(crate) periods: Option<(i32, i32)>,
    /// Whether a record is in the range.
    pub(crate) any_in_range: bool,
    /// Whether a record in the range is not dated on the last day of its period.
    pub(crate) not_on_last_days: bool,
    /// The newest day, or the newest tick of starts and ends.
    pub(crate) newest: Option<i32>,
    /// The periods with a record in the range.
    pub(crate) with_record: BTreeSet<i32>,
    /// The values that are side by side, as one column in order.
    pub(crate) side_by_side: Option<Table>,
}

impl Overall {
    /// Adds what is known of other rows.
    ///
    /// Errors: a column has values of different types.
    pub fn plus(mut self, other: Overall) -> Result<Overall> {
        let wider = |one: (i32, i32), other: (i32, i32)| (one.0.min(other.0), one.1.max(other.1));
        self.with_record.extend(other.with_record);
        Ok(Overall {
            periods: [self.periods, other.periods].into_iter().flatten().reduce(wider),
            any_in_range: self.any_in_range || other.any_in_range,
            not_on_last_days: self.not_on_last_days || other.not_on_last_days,
            newest: self.newest.max(other.newest),
            with_record: self.with_record,
            side_by_side: match (self.side_by_side, other.side_by_side) {
                (Some(one), Some(more)) => {
                    Some(distinct(&Table::joined(&one.anonymous(), &[more.anonymous()])?)?)
                }
                (one, other) => one.or(other),
            },
        })
    }
}

/// One of the parts of a table that is divided by entity.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct EntityPart {
    /// Its number, below that of all parts.
    pub number: u32,
    /// The number of all parts.
    pub parts: u32,
    /// Another seed gives another division.
    pub seed: u64,
}

impl EntityPart {
    /// A part by its number.
    pub fn new(number: u32, (parts, seed): (u32, u64)) -> EntityPart {
        EntityPart { number, parts, seed }
    }

    /// The part of a process, out of a number of processes that share the rows
    /// ([`ByEntity::owners`]).
    pub fn of_process(process: u32, processes: u32) -> EntityPart {
        EntityPart { number: process, parts: processes, seed: OWNERS }
    }
}

impl ByEntity {
    /// A division by these key columns of one table.
    pub(crate) fn division(
        keys: impl IntoIterator<Item = usize>,
        order: ResultOrder,
    ) -> Option<Division> {
        ByEntity::by(keys.into_iter().collect(), order).map(Division::Entities)
    }

    /// A division by these key columns, or without any by a column of dates.
    pub(crate) fn or_dates(
        keys: impl IntoIterator<Item = usize>,
        date: usize,
        order: ResultOrder,
    ) -> Division {
        let keys: Vec<usize> = keys.into_iter().collect();
        match ByEntity::by(keys, order.clone()) {
            Some(by_entity) => Division::Entities(ByEntity { date: Some(date), ..by_entity }),
            None => Division::Dates(date, order),
        }
    }

    /// The same; none if the whole table is one entity.
    pub(crate) fn by(keys: Vec<usize>, order: ResultOrder) -> Option<ByEntity> {
        let is_divided = !keys.is_empty();
        is_divided.then(|| ByEntity {
            keys: vec![keys],
            folded: false,
            missing_is_a_key: false,
            date: None,
            order,
        })
    }

    /// The first row of each entity, if rows of the first table are sorted by entity.
    pub fn starts_of_entities(&self, rows: &Table) -> Result<Vec<usize>> {
        let columns: Vec<ArrayRef> = self.keys[0].iter().map(|&key| rows.at(key).clone()).collect();
        let entities = Entities::of_columns(&columns, rows.rows(), Missing::IsAKey)?;
        Ok(entities.first_rows().iter().map(|&row| row as usize).collect())
    }

    /// The part, out of a number of parts, of each row of a batch of the table at a place.
    /// `samples` are rows of all tables, which tell the types of the keys. Another seed gives
    /// another division. Rows without a key are spread over the parts by their numbers, unless a
    /// missing key is a key like others.
    pub fn parts(
        &self,
        place: usize,
        batch: &Table,
        samples: &[&Table],
        (parts, seed): (u32, u64),
    ) -> Result<Vec<u32>> {
        let mut hashes = vec![seed; batch.rows()];
        let mut keyed = vec![true; batch.rows()];
        for (n, &key) in self.keys[place].iter().enumerate() {
            let mut column = batch.at(key).clone();
            for (other, sample) in samples.iter().enumerate().filter(|(other, _)| *other != place) {
                let there = new_empty_array(sample.at(self.keys[other][n]).data_type());
                column = in_one_type(&column, &there)?.0;
            }
            if let Some(nulls) = column.logical_nulls() {
                keyed.iter_mut().zip(nulls.iter()).for_each(|(keyed, valid)| *keyed &= valid);
            }
            self.add_hashes(&column, &mut hashes);
            if let Some(nulls) = column.logical_nulls()
                && self.missing_is_a_key
            {
                // The value below a missing one may be any.
                let missing = hashes.iter_mut().zip(nulls.iter()).filter(|(_, valid)| !valid);
                missing.for_each(|(hash, _)| *hash = seed);
                keyed.fill(true);
            }
        }
        // The upper half of the product is the hash, scaled to the number of parts.
        let part = |hash: u64| ((u128::from(mixed(hash)) * u128::from(parts)) >> 64) as u32;
        let rows = hashes.into_iter().zip(keyed).enumerate();
        Ok(rows
            .map(|(row, (hash, keyed))| {
                part(if keyed { hash } else { hash_of_number(row as u64, seed) })
            })
            .collect())
    }

    /// The owner of each row of a batch of the table at a place, out of a number of processes that
    /// share the rows. All processes must have the same version of this crate.
    pub fn owners(
        &self,
        place: usize,
        batch: &Table,
        samples: &[&Table],
        processes: u32,
    ) -> Result<Vec<u32>> {
        self.parts(place, batch, samples, (processes, OWNERS))
    }

    /// Makes the hash of each row depend on a column as well.
    fn add_hashes(&self, column: &ArrayRef, hashes: &mut [u64]) {
        macro_rules! numbers {
            ($type:ty, $bits:expr) => {{
                let values = column.as_primitive::<$type>().values();
                for (hash, &value) in hashes.iter_mut().zip(values.iter()) {
                    *hash = hash_of_number($bits(value), *hash);
                }
            }};
        }
        match column.data_type() {
            DataType::Int64 => numbers!(Int64Type, |value| value as u64),
            DataType::Date32 => numbers!(Date32Type, |value| value as u64),
            DataType::Timestamp(..) => numbers!(TimestampMicrosecondType, |value| value as u64),
            DataType::Time64(_) => numbers!(Time64MicrosecondType, |value| value as u64),
            DataType::Decimal64(..) => numbers!(Decimal64Type, |value| value as u64),
            DataType::Float64 => numbers!(Float64Type, f64::to_bits),
            DataType::Decimal128(..) => {
                for (hash, value) in
                    hashes.iter_mut().zip(column.as_primitive::<Decimal128Type>().values())
                {
                    *hash = hash_of_bytes(&value.to_le_bytes(), *hash);
                }
            }
            DataType::Boolean => {
                for (hash, value) in hashes.iter_mut().zip(column.as_boolean().values()) {
                    *hash = hash_of_number(value.into(), *hash);
                }
            }
            DataType::Utf8View => {
                for (hash, value) in hashes.iter_mut().zip(column.as_string_view()) {
                    let value = value.unwrap_or_default();
                    *hash = if self.folded {
                        hash_of_bytes(value.trim().to_lowercase().as_bytes(), *hash)
                    } else {
                        hash_of_bytes(value.as_bytes(), *hash)
                    };
                }
            }
            _ => {}
        }
    }
}
