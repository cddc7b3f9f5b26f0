//! [`Latest`] and [`Earliest`]: what each entity's record says now, or said first.
//!
//! The usual question, one record per entity, is one pass (`best`); the records of the N newest dates need the
//! [`Timeline`]. What decides ties is the same for both.
//!
//! `Earliest` is the same with every date turned round: the complement of a number sorts the other way.

mod best;
mod states;

use crate::{
    active::most_rows,
    calendar::{Grain, Periods},
    dates::Dates,
    entities::{Entities, Missing},
    error::{Error, Result},
    ledger::{Fates, Outcome, Reason, Warning},
    operation::{Context, Operation, Setting, Takes, called_alone},
    rows::entities_in_order,
    shape::{Named, Shape, Type},
    table::{Table, period_field},
    timeline::Timeline,
};
use arrow_array::BooleanArray;
use arrow_buffer::{BooleanBuffer, NullBuffer};

use arrow_ord::ord::{DynComparator, make_comparator};
use arrow_schema::{DataType, SortOptions};
use best::{Chosen, Groups, except, mask, one_each};
use serde::{Deserialize, Serialize};
use states::States;
use std::{cmp::Ordering, collections::BTreeSet, sync::Arc};

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
    ($name:ident, $word:literal, $count:ident, $count_word:literal, $count_help:literal, $earliest:literal, $answers:literal, $docs:literal
        $(, $at_each:ident $at_each_word:literal $most_rows:ident $most_rows_word:literal)?) => {
        #[doc = $docs]
        ///
        /// Rows come out in the order they came in. Set aside: rows without a date, rows that miss a key. Dropped: records
        /// that are superseded, and those dated after [`Context::as_of`] where that is given. Dates compare as dates and
        /// moments as moments; the as-of day ends in [`Context::zone`] for moments that had an offset. The answer does not
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
            $(
                /// The state at the end of every period instead: for each period and each entity that has begun, its latest
                /// record then, with the date that it speaks of in a column `state_on`.
                #[serde(default)]
                pub $at_each: Option<Grain>,
                /// How many rows the answer may have.
                #[serde(default = "most_rows")]
                pub $most_rows: u64,
            )?
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
                $(
                    Setting::new($at_each_word, Takes::Text("GRAIN"), "The state at the end of every day, week, month, quarter or year: each entity's latest record then"),
                    Setting::new($most_rows_word, Takes::Number, "How many rows the answer may have [default: 200000000]"),
                )?
            ];

            /// The operation by a date column, with the whole table as one entity and all ties kept.
            pub fn new(date: impl Into<String>) -> $name {
                let (per, then, ties, mark) = (Vec::new(), Vec::new(), Ties::All, None);
                $name { per, date: date.into(), then, ties, $count: 1, mark $(, $at_each: None, $most_rows: most_rows())? }
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

            $(
                /// The state at the end of every period instead.
                pub fn $at_each(mut self, grain: Grain) -> $name {
                    self.$at_each = Some(grain);
                    self
                }

                /// How many rows the answer may have.
                pub fn $most_rows(mut self, rows: u64) -> $name {
                    self.$most_rows = rows;
                    self
                }
            )?

            fn settings(&self) -> Settings<'_> {
                let at_each: Option<(Grain, u64)> = None;
                $(let at_each = self.$at_each.map(|grain| (grain, self.$most_rows)).or(at_each);)?
                Settings {
                    at_each,
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
        }

        called_alone!($name);

        impl Operation for $name {
            fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
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
    "The latest record of each entity: what its record says *now*.",
    at_each "at-each" most_rows "most-rows"
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

/// The column that tells of which day a state is.
const STATE_ON: &str = "state_on";

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
    /// At the end of each of which periods instead, and how many rows that may make.
    at_each: Option<(Grain, u64)>,
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
        if let Some((grain, _)) = self.at_each {
            let refused = |setting, value: &str, expected| {
                Err(Error::Setting { setting, value: value.to_owned(), expected })
            };
            return match (grain, self.mark, self.dates.1) {
                (Grain::Hour, ..) => refused("at-each", "hour", "a day or longer"),
                (_, Some(_), _) => refused("mark", "given", "either it or `at-each`"),
                (.., 2..) => refused(self.dates.0, "more than 1", "one date, beside `at-each`"),
                _ => shape.with(STATE_ON, Type::DAYS),
            };
        }
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
        let after = context
            .as_of
            .map_or_else(|| BooleanBuffer::new_unset(rows), |day| &dates.after(day, &context.zone) & &usable);
        let considered = except(&usable, &after);

        let states = match self.at_each {
            Some((grain, most)) => Some(States::of(grain, most, self.date, &dates, context)?),
            None => None,
        };
        let chosen = match self.dates.1 {
            _ if let Some(states) = &states => states.latest_each(&entities, &dates, &considered),
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
        let names = [&per[..], &then[..]].concat();
        let mut outcome = match (self.mark, states) {
            (None, Some(states)) => {
                let (mut ledger, set_aside) = fates.account(words, table, context)?;
                let order = if per.is_empty() {
                    (0..entities.count()).collect()
                } else {
                    entities_in_order(table, &keys, &entities)?
                };
                let timeline = Timeline::new(&entities, &dates, &kept);
                let (rows, state_on) = states.at_ends(&timeline, &order)?;
                ledger.counts.insert(0, ("rows out".into(), rows.len() as u64));
                let answer = table.take(&rows)?.renamed(&names)?;
                let field = period_field(STATE_ON, Periods::DAYS);
                Outcome { table: answer.with_field(field, Arc::new(state_on))?, ledger, set_aside }
            }
            (None, None) => {
                let (ledger, set_aside) = fates.account(words, table, context)?;
                Outcome { table: table.filter(&kept)?.renamed(&names)?, ledger, set_aside }
            }
            (Some(name), _) => {
                let (mut ledger, set_aside) = fates.account_of_all_kept(words, table, context)?;
                ledger.counts.insert(0, ("marked".into(), kept.count_set_bits() as u64));
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
        let cut = context.as_of.is_some() || self.at_each.is_some();
        ledger.zone = Some(context.zone.to_string()).filter(|_| cut && dates.are_instants());
        ledger.counts.insert(0, ("entities".into(), chosen.entities));
        if decided.records > 0 {
            ledger.counts.push(("tied".into(), decided.records));
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
        let at_each =
            self.at_each.map(|(grain, _)| format!(", at the end of each {grain}")).unwrap_or_default();
        format!("{}{per} by {}{several}{at_each}", self.word, self.date)
    }

    /// The records of so many dates of each entity, from the timeline.
    fn several_dates_each(
        &self,
        several: u32,
        entities: &Entities,
        dates: &Dates,
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
        dates: &Dates,
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
    fn name_of(&self, table: &Table, dates: &Dates, per: &[Named], row: usize) -> Result<String> {
        let mut key = Vec::new();
        for named in per {
            key.push(table.cell_text(&named.column, row)?);
        }
        let key = if key.is_empty() { "the whole table".to_owned() } else { format!("`{}`", key.join(", ")) };
        Ok(format!("{key} on {}", dates.text(row)))
    }
}

#[derive(Default)]
struct Decided {
    superseded: Vec<u32>,
    tied_out: Vec<u32>,
    records: u64,
    entities: u64,
}

#[cfg(test)]
mod tests;
