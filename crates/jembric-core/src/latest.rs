//! [`Latest`] and [`Earliest`]: what each entity's record says now, or said first.
//!
//! The usual question, one record per entity, is one pass: an array with the best record so far of each entity, where a
//! record is its date and its row packed into one number, so that the greater number is the better record. Rows that meet a
//! record of the same date are noted on the way; those whose date is still the best at the end are the ties. The records of
//! the N newest dates need the [`Timeline`]. What decides ties is the same for both.
//!
//! `Earliest` is the same with every date turned round: the complement of a number sorts the other way.

use crate::{
    entities::{Entities, Missing},
    error::{Error, Result},
    ledger::{Fates, Outcome, Reason, Warning},
    operation::{Context, Operation, Setting, Takes},
    table::{Dates, Named, Shape, Table, Type},
    timeline::Timeline,
};
use arrow_array::BooleanArray;
use arrow_buffer::{BooleanBuffer, BooleanBufferBuilder, NullBuffer};
use arrow_ord::ord::{DynComparator, make_comparator};
use arrow_schema::{DataType, SortOptions};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::{cmp::Ordering, collections::BTreeSet, ops::Range, sync::Arc};

/// What happens to records that tie on the date and on everything that was named to break the tie.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Ties {
    /// Every tied record is kept, and the ledger warns how many they are.
    #[default]
    All,
    /// The one that comes first among the rows is kept.
    First,
    /// The one that comes last among the rows is kept.
    Last,
    /// They are an error, which names the entities.
    Refuse,
}

/// Declares one of the two mirrored operations, which differ in their names and in the end of time they look from.
macro_rules! record_by_date {
    ($name:ident, $word:literal, $count:ident, $count_word:literal, $count_help:literal, $earliest:literal, $answers:literal, $docs:literal) => {
        #[doc = $docs]
        ///
        /// Rows come out in the order they came in. Set aside: rows without a date, rows that miss a key. Dropped: records
        /// that are superseded, and those dated after [`Context::as_of`] where that is given. Dates compare as dates and
        /// moments as moments; the end of the as-of day is that of UTC for moments that had an offset. The answer does not
        /// depend on the order of the rows, unless `ties` is `first` or `last`.
        ///
        /// Errors: a column is missing or holds no dates; ties are refused and there are some; the name to mark with is
        /// taken. Costs one numbering of the entities, one pass over the dates, and one read and write of what is kept.
        #[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(rename_all = "kebab-case", deny_unknown_fields)]
        #[non_exhaustive]
        pub struct $name {
            /// The columns that identify the entity; none: the whole table is one entity.
            #[serde(default)]
            pub per: Vec<String>,
            /// The column of dates or moments.
            pub date: String,
            /// Columns that break ties on the date, the first first. A missing value loses.
            #[serde(default)]
            pub then: Vec<String>,
            /// What happens to records that still tie.
            #[serde(default)]
            pub ties: Ties,
            #[doc = $count_help]
            #[serde(default = "one")]
            pub $count: u32,
            /// Keep all rows, and tell in a column of this name which they are. It is missing where date or key are.
            #[serde(default)]
            pub mark: Option<String>,
        }

        impl $name {
            /// The word for it on the command line and in files.
            pub const NAME: &'static str = $word;
            /// What it answers, in a sentence.
            pub const ANSWERS: &'static str = $answers;
            /// Its settings, described.
            pub const SETTINGS: &'static [Setting] = &[
                Setting::new("per", Takes::Columns, "The columns that identify the entity. Without them the whole table is one entity"),
                Setting::new("date", Takes::Column, "The column of dates or moments").required(),
                Setting::new("then", Takes::Columns, if $earliest {
                    "Break ties on the date by these columns: the least wins, a missing value loses"
                } else {
                    "Break ties on the date by these columns: the greatest wins, a missing value loses"
                }),
                Setting::new("ties", Takes::OneOf(&["all", "first", "last", "refuse"]), "What happens to records that still tie: keep all and warn, keep the first or last by the order of rows, or refuse with an error"),
                Setting::new($count_word, Takes::Count, $count_help),
                Setting::new("mark", Takes::Name, "Keep all rows, and tell in a column of this name which they are"),
            ];

            /// The operation by a date column, with the whole table as one entity and all ties kept.
            pub fn new(date: impl Into<String>) -> $name {
                let (per, then, ties, mark) = (Vec::new(), Vec::new(), Ties::All, None);
                $name { per, date: date.into(), then, ties, $count: 1, mark }
            }

            /// The columns that identify the entity.
            pub fn per<N: Into<String>>(mut self, columns: impl IntoIterator<Item = N>) -> $name {
                self.per = columns.into_iter().map(Into::into).collect();
                self
            }

            /// Columns that break ties on the date, the first first. A missing value loses.
            pub fn then<N: Into<String>>(mut self, columns: impl IntoIterator<Item = N>) -> $name {
                self.then = columns.into_iter().map(Into::into).collect();
                self
            }

            /// What happens to records that still tie.
            pub fn ties(mut self, ties: Ties) -> $name {
                self.ties = ties;
                self
            }

            #[doc = $count_help]
            pub fn $count(mut self, dates: u32) -> $name {
                self.$count = dates;
                self
            }

            /// Keep all rows, and tell in a column of this name which they are.
            pub fn mark(mut self, name: impl Into<String>) -> $name {
                self.mark = Some(name.into());
                self
            }

            fn settings(&self) -> Settings<'_> {
                Settings {
                    word: $word,
                    per: &self.per,
                    date: &self.date,
                    then: &self.then,
                    ties: self.ties,
                    dates: ($count_word, self.$count),
                    mark: self.mark.as_deref(),
                    earliest: $earliest,
                }
            }

            /// Everything that can be wrong without the data; otherwise what is known of the answer's columns.
            pub fn check(&self, shape: &Shape) -> Result<Shape> {
                self.settings().check(shape, &Context::new())
            }

            /// The answer for a table.
            pub fn apply(&self, table: &Table) -> Result<Outcome> {
                self.settings().apply(table, &Context::new())
            }
        }

        impl Operation for $name {
            fn check(&self, shape: &Shape, context: &Context) -> Result<Shape> {
                self.settings().check(shape, context)
            }

            fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
                self.settings().apply(table, context)
            }
        }
    };
}

record_by_date!(
    Latest,
    "latest",
    newest,
    "newest",
    "The records of so many newest dates of each entity, instead of one",
    false,
    "What does each entity's record say now?",
    "The latest record of each entity: what its record says *now*."
);
record_by_date!(
    Earliest,
    "earliest",
    oldest,
    "oldest",
    "The records of so many oldest dates of each entity, instead of one",
    true,
    "What did each entity's record say first?",
    "The earliest record of each entity: what its record said *first*. The mirror of [`Latest`]; in `then` the least wins."
);

fn one() -> u32 {
    1
}

/// Which rows have the newest date of their entity, ties included: the heart of [`Latest`], for entities that are numbered
/// already.
///
/// Rows without a date or an entity are none of them. Errors: the column is missing or holds no dates; there is not one
/// number a row. Costs one pass over ids and dates, and a slot an entity.
pub fn latest_rows(entities: &Entities, table: &Table, date: &str) -> Result<BooleanBuffer> {
    if table.rows() != entities.ids().len() {
        let (name, rows, expected) = (date.to_owned(), table.rows(), entities.ids().len());
        return Err(Error::UnequalLengths { name, rows, expected });
    }
    let dates = table.dates(date)?;
    let dated = dates.nulls().map_or_else(|| BooleanBuffer::new_set(table.rows()), NullBuffer::into_inner);
    let considered = entities.rows_with_one().map_or_else(|| dated.clone(), |keyed| &dated & &keyed);
    Ok(one_each(false, entities, &dates, &considered).best)
}

/// The settings of either operation.
struct Settings<'a> {
    word: &'static str,
    per: &'a [String],
    date: &'a str,
    then: &'a [String],
    ties: Ties,
    /// How many dates of each entity, and what that setting is called.
    dates: (&'static str, u32),
    mark: Option<&'a str>,
    earliest: bool,
}

impl Settings<'_> {
    fn check(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        shape.expect_dates(self.date)?;
        let mut named = shape.named(self.per)?;
        named.extend(shape.named(self.then)?);
        for name in &context.reconcile {
            shape.expect_numbers(name)?;
        }
        if self.dates.1 == 0 {
            let (setting, value) = (self.dates.0, "0".to_owned());
            return Err(Error::Setting { setting, value, expected: "a whole number from 1" });
        }
        let shape = shape.renamed(&named)?;
        self.mark.map_or(Ok(shape.clone()), |name| shape.with(name, Type::Boolean))
    }

    fn apply(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check(&table.shape(), context).map_err(|error| table.explain(error))?;
        let dates = table.dates(self.date)?;
        let (per, then) = (table.shape().named(self.per)?, table.shape().named(self.then)?);
        let keys: Vec<&str> = per.iter().map(|named| named.column.as_str()).collect();
        let entities = Entities::number(table, &keys, Missing::NoEntity)?;

        let rows = table.rows();
        let dated = dates.nulls().map_or_else(|| BooleanBuffer::new_set(rows), NullBuffer::into_inner);
        let keyed = entities.rows_with_one().unwrap_or_else(|| BooleanBuffer::new_set(rows));
        let usable = &dated & &keyed;
        let after =
            context.as_of.map_or_else(|| BooleanBuffer::new_unset(rows), |day| &dates.after(day) & &usable);
        let considered = except(&usable, &after);

        let chosen = match self.dates.1 {
            1 => one_each(self.earliest, &entities, &dates, &considered),
            several => self.several_dates_each(several, &entities, &dates, &considered),
        };
        let decided = self.decide_ties(table, &entities, &dates, &chosen.ties, (&per, &then))?;
        let tied_out = mask(rows, decided.tied_out.iter().copied());
        let kept = except(&except(&chosen.best, &mask(rows, decided.superseded.iter().copied())), &tied_out);

        let fates = Fates {
            dropped: vec![
                (Reason::Superseded, except(&except(&considered, &kept), &tied_out)),
                (Reason::TiedWithTheOneKept, tied_out),
                (Reason::AfterAsOf, after),
            ],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, except(&dated, &keyed))],
            kept: kept.clone(),
        };
        let words = self.words();
        let names = [per, then].concat();
        let mut outcome = match self.mark {
            None => {
                let (ledger, set_aside) = fates.account(words, table, context)?;
                Outcome { table: table.filter(&kept)?.renamed(&names)?, ledger, set_aside }
            }
            Some(name) => {
                let (mut ledger, set_aside) = fates.account_of_all_kept(words, table, context)?;
                ledger.counts.insert(0, ("marked", kept.count_set_bits() as u64));
                let marks = BooleanArray::new(kept, Some(NullBuffer::new(usable)));
                Outcome {
                    table: table.renamed(&names)?.with_column(name, Arc::new(marks))?,
                    ledger,
                    set_aside,
                }
            }
        };
        let ledger = &mut outcome.ledger;
        ledger.as_of = context.as_of;
        ledger.counts.insert(0, ("entities", chosen.entities));
        if decided.records > 0 {
            ledger.counts.push(("tied", decided.records));
            if self.ties == Ties::All {
                let (date, entities, records) = (self.date.to_owned(), decided.entities, decided.records);
                ledger.warnings.push(Warning::Tied { date, entities, records });
            }
        }
        Ok(outcome)
    }

    fn words(&self) -> String {
        let per = if self.per.is_empty() { String::new() } else { format!(" per {}", self.per.join(", ")) };
        let several =
            if self.dates.1 == 1 { String::new() } else { format!(", {} dates each", self.dates.1) };
        format!("{}{per} by {}{several}", self.word, self.date)
    }

    /// The records of so many dates of each entity, from the timeline.
    fn several_dates_each(
        &self,
        several: u32,
        entities: &Entities,
        dates: &Dates<'_>,
        considered: &BooleanBuffer,
    ) -> Chosen {
        let timeline = Timeline::new(entities, dates, considered);
        let (mut chosen, mut best) = (Chosen::default(), Vec::new());
        for rows in timeline.entities().filter(|rows| !rows.is_empty()) {
            chosen.entities += 1;
            let by_date = || rows.chunk_by(|&a, &b| dates.sortable(a as usize) == dates.sortable(b as usize));
            let mut take = |same_date: &[u32]| {
                best.extend_from_slice(same_date);
                if same_date.len() > 1 {
                    chosen.ties.push(same_date);
                }
            };
            if self.earliest {
                by_date().take(several as usize).for_each(&mut take);
            } else {
                by_date().rev().take(several as usize).for_each(&mut take);
            }
        }
        chosen.best = mask(considered.len(), best.into_iter());
        chosen
    }

    /// Which of the tied records lose, by further columns or by the order of rows, and how many still tie.
    fn decide_ties(
        &self,
        table: &Table,
        entities: &Entities,
        dates: &Dates<'_>,
        ties: &Groups,
        (per, then): (&[Named], &[Named]),
    ) -> Result<Decided> {
        let breakers =
            then.iter().map(|named| self.breaker(table, &named.column)).collect::<Result<Vec<_>>>()?;
        let (mut decided, mut left, mut last_entity) = (Decided::default(), Vec::new(), Entities::NONE);
        let mut named = BTreeSet::new();
        for group in ties.iter() {
            left.clear();
            left.extend_from_slice(group);
            for compare in &breakers {
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
            let entity = entities.ids()[first as usize];
            decided.entities += u64::from(entity != last_entity);
            last_entity = entity;
            match self.ties {
                Ties::All => {}
                Ties::First => decided.tied_out.extend(left.iter().filter(|&&row| row != first)),
                Ties::Last => decided.tied_out.extend(left.iter().filter(|&&row| row != last)),
                Ties::Refuse => {
                    // The least three, so that the message does not depend on the order of the rows.
                    named.insert(self.name_of(table, dates, per, first as usize)?);
                    if named.len() > 3 {
                        named.pop_last();
                    }
                }
            }
        }
        if self.ties == Ties::Refuse && decided.records > 0 {
            let (date, named) = (self.date.to_owned(), named.into_iter().collect());
            let Decided { records, entities, .. } = decided;
            return Err(Error::Tied { date, records, entities, named });
        }
        Ok(decided)
    }

    /// Compares two rows by a column that breaks ties: the greater is the better. A missing value is the least.
    fn breaker(&self, table: &Table, name: &str) -> Result<DynComparator> {
        let column = table.column(name)?;
        if *column.data_type() == DataType::Null {
            return Ok(Box::new(|_, _| Ordering::Equal));
        }
        // Turned round for the earliest; a missing value stays the least.
        let options = SortOptions { descending: self.earliest, nulls_first: true };
        Ok(make_comparator(column, column, options)?)
    }

    /// The entity of a row and its date, in words.
    fn name_of(&self, table: &Table, dates: &Dates<'_>, per: &[Named], row: usize) -> Result<String> {
        let mut key = Vec::new();
        for named in per {
            key.push(arrow_cast::display::array_value_to_string(table.column(&named.column)?, row)?);
        }
        let key = if key.is_empty() { "the whole table".to_owned() } else { format!("`{}`", key.join(", ")) };
        Ok(format!("{key} on {}", dates.text(row)))
    }
}

/// The records of the best dates, with all that tie.
struct Chosen {
    best: BooleanBuffer,
    ties: Groups,
    entities: u64,
}

impl Default for Chosen {
    fn default() -> Chosen {
        Chosen { best: BooleanBuffer::new_unset(0), ties: Groups::default(), entities: 0 }
    }
}

impl Chosen {
    /// What was chosen of other entities as well.
    fn and(self, other: Chosen) -> Chosen {
        let mut ties = self.ties;
        other.ties.iter().for_each(|group| ties.push(group));
        Chosen { best: &self.best | &other.best, ties, entities: self.entities + other.entities }
    }
}

/// Groups of rows that share entity and date; those of one entity stand together.
#[derive(Default)]
struct Groups {
    rows: Vec<u32>,
    ends: Vec<usize>,
}

impl Groups {
    fn push(&mut self, rows: &[u32]) {
        self.rows.extend_from_slice(rows);
        self.ends.push(self.rows.len());
    }

    fn iter(&self) -> impl Iterator<Item = &[u32]> {
        let starts = std::iter::once(0).chain(self.ends.iter().copied());
        starts.zip(&self.ends).map(|(start, &end)| &self.rows[start..end])
    }
}

#[derive(Default)]
struct Decided {
    superseded: Vec<u32>,
    tied_out: Vec<u32>,
    records: u64,
    entities: u64,
}

/// The record of the best date of each entity, in one pass.
fn one_each(earliest: bool, entities: &Entities, dates: &Dates<'_>, considered: &BooleanBuffer) -> Chosen {
    match dates {
        Dates::Days(days) => best_records(entities, days.values(), earliest, considered),
        Dates::Moments(moments) => best_records(entities, moments.values(), earliest, considered),
        Dates::Missing(rows) => Chosen { best: BooleanBuffer::new_unset(*rows), ..Chosen::default() },
    }
}

/// A date as a number of either width.
trait Date: Copy + Sync {
    /// Date and row in one number: the better date is greater and, on one date, the earlier row. 0 is no record.
    type Record: Copy + Ord + Default + Send + Sync;
    /// Flipping all bits of a date turns the order round.
    fn record(self, row: u32, earliest: bool) -> Self::Record;
    fn same_date(one: Self::Record, other: Self::Record) -> bool;
    fn row(record: Self::Record) -> u32;
}

impl Date for i32 {
    type Record = u64;
    #[inline]
    fn record(self, row: u32, earliest: bool) -> u64 {
        let sortable = (self ^ -i32::from(earliest)) as u32 ^ 1 << 31;
        u64::from(sortable) << 32 | u64::from(!row)
    }
    #[inline]
    fn same_date(one: u64, other: u64) -> bool {
        (one ^ other) >> 32 == 0
    }
    #[inline]
    fn row(record: u64) -> u32 {
        !(record as u32)
    }
}

impl Date for i64 {
    type Record = u128;
    #[inline]
    fn record(self, row: u32, earliest: bool) -> u128 {
        let sortable = (self ^ -i64::from(earliest)) as u64 ^ 1 << 63;
        u128::from(sortable) << 32 | u128::from(!row)
    }
    #[inline]
    fn same_date(one: u128, other: u128) -> bool {
        (one ^ other) >> 32 == 0
    }
    #[inline]
    fn row(record: u128) -> u32 {
        !(record as u32)
    }
}

/// The rows that the records are chosen from.
struct Rows<'a, D> {
    ids: &'a [u32],
    dates: &'a [D],
    earliest: bool,
    /// All of them, where this is none.
    considered: Option<&'a BooleanBuffer>,
}

/// The best record of some entities, and rows that met a record of their own date on the way.
struct Best<D: Date> {
    records: Vec<D::Record>,
    met: Vec<u32>,
}

/// Above so many bytes of records they do not stay in cache. Then threads share the entities instead of the rows, and the
/// records of a block of rows are fetched at once.
const FETCH_AHEAD_FROM: usize = 4 << 20;
/// Rows whose records are fetched together.
const BLOCK: usize = 64;

impl<D: Date> Best<D> {
    fn none(entities: usize) -> Best<D> {
        Best { records: vec![D::Record::default(); entities], met: Vec::new() }
    }

    #[inline]
    fn consider(&mut self, entity: usize, record: D::Record) {
        let best = &mut self.records[entity];
        if D::same_date(record, *best) {
            self.met.push(D::row(record));
        }
        *best = record.max(*best);
    }

    /// Of all entities, over a stretch of the rows.
    fn of_stretch(entities: usize, rows: &Rows<'_, D>, stretch: Range<usize>) -> Best<D> {
        let mut best = Best::none(entities);
        let (ids, dates) = (&rows.ids[stretch.clone()], &rows.dates[stretch.clone()]);
        match rows.considered {
            None => {
                for ((&id, date), row) in ids.iter().zip(dates).zip(stretch.start as u32..) {
                    best.consider(id as usize, date.record(row, rows.earliest));
                }
            }
            Some(considered) => {
                for i in considered.slice(stretch.start, stretch.len()).set_indices() {
                    best.consider(
                        ids[i] as usize,
                        dates[i].record((stretch.start + i) as u32, rows.earliest),
                    );
                }
            }
        }
        best
    }

    /// Of a stretch of the entities, over all rows.
    fn of_entities(entities: Range<u32>, rows: &Rows<'_, D>) -> Best<D> {
        let mut best = Best::none(entities.len());
        let mut block = [(0_usize, D::Record::default()); BLOCK];
        for start in (0..rows.ids.len()).step_by(BLOCK) {
            let end = rows.ids.len().min(start + BLOCK);
            let mut len = 0;
            for ((&id, date), row) in
                rows.ids[start..end].iter().zip(&rows.dates[start..end]).zip(start as u32..)
            {
                block[len] = (id.wrapping_sub(entities.start) as usize, date.record(row, rows.earliest));
                let considered = rows.considered.is_none_or(|considered| considered.value(row as usize));
                len += usize::from(entities.contains(&id) & considered);
            }
            // These loads do not wait for one another; those of the loop below then find their lines in cache.
            let touched = block[..len].iter().map(|&(entity, _)| best.records[entity]).max();
            std::hint::black_box(touched);
            block[..len].iter().for_each(|&(entity, record)| best.consider(entity, record));
        }
        best
    }

    /// Of the same entities over two stretches of rows, of which the other comes later.
    fn and_later(mut self, later: Best<D>) -> Best<D> {
        self.met.extend(later.met);
        for (entity, record) in later.records.into_iter().enumerate() {
            if record != D::Record::default() {
                self.consider(entity, record);
            }
        }
        self
    }
}

fn best_records<D: Date>(
    entities: &Entities,
    dates: &[D],
    earliest: bool,
    considered: &BooleanBuffer,
) -> Chosen {
    let (ids, count, all) = (entities.ids(), entities.count(), considered.len());
    let rows = Rows {
        ids,
        dates,
        earliest,
        considered: Some(considered).filter(|_| considered.count_set_bits() < all),
    };
    let threads = rayon::current_num_threads();
    let cut = |length: usize, pieces: usize| {
        let piece = length.div_ceil(pieces).max(1);
        (0..pieces).into_par_iter().map(move |i| (i * piece).min(length)..((i + 1) * piece).min(length))
    };
    let in_cache = count * size_of::<D::Record>() < FETCH_AHEAD_FROM;
    let chosen: Vec<(usize, Best<D>)> = if in_cache {
        // Each thread has records of its own, which must stay few beside its rows.
        let stretches = cut(all, threads.min(all / (4 * count + 1)).max(1));
        let parts: Vec<Best<D>> = stretches.map(|stretch| Best::of_stretch(count, &rows, stretch)).collect();
        parts.into_iter().reduce(Best::and_later).map(|best| (0, best)).into_iter().collect()
    } else {
        let of =
            |part: Range<usize>| (part.start, Best::of_entities(part.start as u32..part.end as u32, &rows));
        cut(count, threads).map(of).collect()
    };
    let parts: Vec<Chosen> = chosen.into_par_iter().map(|(first, best)| best.chosen(&rows, first)).collect();
    parts.into_iter().reduce(Chosen::and).unwrap_or_default()
}

impl<D: Date> Best<D> {
    /// The rows of the best records and of those that tie with them; the records are those of entities from this one on.
    fn chosen(self, rows: &Rows<'_, D>, first: usize) -> Chosen {
        let Best { records, mut met } = self;
        let entity = |row: u32| rows.ids[row as usize] as usize - first;
        met.retain(|&row| {
            D::same_date(rows.dates[row as usize].record(row, rows.earliest), records[entity(row)])
        });
        met.sort_unstable_by_key(|&row| (entity(row), row));
        let mut ties = Groups::default();
        let mut group = Vec::new();
        for others in met.chunk_by(|&a, &b| entity(a) == entity(b)) {
            group.clear();
            group.push(D::row(records[entity(others[0])]));
            group.extend_from_slice(others);
            ties.push(&group);
        }
        let mut entities = 0;
        let found =
            records.iter().filter(|&&record| record != D::Record::default()).inspect(|_| entities += 1);
        let best = mask(rows.ids.len(), found.map(|&record| D::row(record)).chain(met.iter().copied()));
        Chosen { best, ties, entities }
    }
}

fn mask(rows: usize, set: impl Iterator<Item = u32>) -> BooleanBuffer {
    let mut mask = BooleanBufferBuilder::new(rows);
    mask.append_n(rows, false);
    set.for_each(|row| mask.set_bit(row as usize, true));
    mask.finish()
}

fn except(rows: &BooleanBuffer, others: &BooleanBuffer) -> BooleanBuffer {
    rows & &!others
}

#[cfg(test)]
mod tests;
