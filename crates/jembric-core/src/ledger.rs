//! [`Ledger`]: accounts for every row of an operation's input. [`Outcome`]: a result with its
//! ledger.
//!
//! An operation decides the fate of each row as masks over its input ([`RowMasks`]), one for each
//! reason. Everything else is derived from the masks here: the rows of the result, the rows set
//! aside, the counts, and the reconciled sums.

mod display;
mod reason;
mod warning;

pub use reason::Reason;
pub use warning::{Cause, Warning};

use crate::{
    calendar::{Day, Range},
    context::Context,
    error::Result,
    exact::ExactSum,
    expression::{BoundExpression, Unanswered},
    shape::Shape,
    table::{Numbering, Origin, Table},
};
use arrow_array::{Array, ArrayRef, StringViewArray};
use arrow_buffer::BooleanBuffer;
use borsh::{BorshDeserialize, BorshSerialize};
use serde::{Serialize, Serializer, ser::SerializeMap};
use std::{borrow::Cow, fmt, sync::Arc};

/// The most lines that an entry names.
const LINES_NAMED: usize = 3;

/// What an operation returns: the result, the ledger, and the rows that could not be used.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Outcome {
    /// The result.
    pub table: Table,
    /// What happened to every row.
    pub ledger: Ledger,
    /// The rows that could not be used, unchanged, with a column `set_aside_because`.
    pub set_aside: Table,
}

impl Outcome {
    /// The result of an operation with its ledger and the rows set aside.
    pub fn new(table: Table, ledger: Ledger, set_aside: Table) -> Outcome {
        Outcome { table, ledger, set_aside }
    }
}

/// The rows with the same reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, BorshSerialize, BorshDeserialize)]
#[non_exhaustive]
pub struct Entry {
    /// Why they are not in the result.
    pub reason: Reason,
    /// The number of rows.
    pub rows: u64,
    /// The lines of the first ones in the input file, or their row numbers in a database.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<u64>,
    /// The primary keys of these rows, such as `stay 17`, if they are known.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
    /// What the numbers count.
    #[serde(skip)]
    pub numbering: Numbering,
}

impl Entry {
    /// Rows on these lines, without keys.
    pub(crate) fn new(reason: Reason, rows: u64, lines: Vec<u64>) -> Entry {
        Entry { reason, rows, lines, keys: Vec::new(), numbering: Numbering::Lines }
    }

    /// Adds the lines of another entry, and keeps the first ones.
    fn add_lines(&mut self, more: &Entry) {
        let keyed = |entry: &Entry| -> Vec<(u64, Option<String>)> {
            let key = |n: usize| entry.keys.get(n).cloned();
            entry.lines.iter().enumerate().map(|(n, line)| (*line, key(n))).collect()
        };
        let mut all = [keyed(self), keyed(more)].concat();
        all.sort_unstable();
        all.truncate(LINES_NAMED);
        self.keys = all.iter().filter_map(|(_, key)| key.clone()).collect();
        self.lines = all.into_iter().map(|(line, _)| line).collect();
        if self.numbering == Numbering::Lines {
            self.numbering = more.numbering;
        }
    }
}

/// The sums of a column over the rows of each fate. In = kept + dropped + set aside, exactly.
#[derive(Clone, Debug, PartialEq, Serialize, BorshSerialize, BorshDeserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Reconciled {
    /// The column.
    pub column: String,
    /// The sum over all input rows.
    #[serde(rename = "in")]
    pub came_in: ExactSum,
    /// The sum over the kept rows.
    pub kept: ExactSum,
    /// The sum over the dropped rows.
    pub dropped: ExactSum,
    /// The sum over the rows set aside.
    pub set_aside: ExactSum,
    /// The sum over the rows of the result, if it may have a row more than once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_answer: Option<ExactSum>,
}

impl Reconciled {
    /// Adds the sums over other rows.
    pub(crate) fn add(&mut self, more: &Reconciled) {
        self.came_in = self.came_in.clone().plus(&more.came_in);
        self.kept = self.kept.clone().plus(&more.kept);
        self.dropped = self.dropped.clone().plus(&more.dropped);
        self.set_aside = self.set_aside.clone().plus(&more.set_aside);
        self.in_answer = match (self.in_answer.take(), &more.in_answer) {
            (Some(sum), Some(more)) => Some(sum.plus(more)),
            (one, other) => one.or_else(|| other.clone()),
        };
    }
}

/// What happened to the followed rows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, BorshSerialize, BorshDeserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Followed {
    /// The condition that the rows satisfy.
    pub condition: String,
    /// The number of input rows.
    pub rows_in: u64,
    /// The number of kept rows.
    pub kept: u64,
    /// The dropped rows, by reason.
    pub dropped: Vec<Entry>,
    /// The rows set aside, by reason.
    pub set_aside: Vec<Entry>,
}

impl Followed {
    /// Adds what happened to other rows.
    fn add(&mut self, more: &Followed) {
        self.rows_in += more.rows_in;
        self.kept += more.kept;
        add_entries(&mut self.dropped, &more.dropped);
        add_entries(&mut self.set_aside, &more.set_aside);
    }
}

/// The account of an operation's rows: rows in = kept + dropped + set aside.
///
/// The command prints its [`Display`](fmt::Display) form. Serialized, it has the same facts.
#[derive(Clone, Debug, PartialEq, Serialize, BorshSerialize, BorshDeserialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Ledger {
    /// The step in words: `latest per vessel by inspected_on`.
    pub step: String,
    /// The file that the rows came from, if it is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The as-of date, if one was used.
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "as_text")]
    pub as_of: Option<Day>,
    /// The first and last day of the range, if the step has one.
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "as_text")]
    pub view: Option<Range>,
    /// The time zone, if points in time were converted to days.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// The number of input rows.
    pub rows_in: u64,
    /// The number of kept rows.
    pub kept: u64,
    /// The rows that the settings left out, by reason.
    pub dropped: Vec<Entry>,
    /// The rows that could not be used, by reason.
    pub set_aside: Vec<Entry>,
    /// Further counts, by name.
    #[serde(serialize_with = "as_map")]
    pub counts: Vec<(Cow<'static, str>, u64)>,
    /// The names of counts in their order, also of those that are 0 and left out.
    #[serde(skip)]
    pub(crate) noted: Vec<(Cow<'static, str>, Counted)>,
    /// The warnings, also those that are not due yet.
    #[serde(serialize_with = "those_due")]
    pub(crate) warnings: Vec<Warning>,
    /// The reconciled sums.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub reconciled: Vec<Reconciled>,
    /// What happened to the followed rows, if the table has the columns for the condition.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub followed: Option<Followed>,
    /// The ledger of the other table, if there were two.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_side: Option<Box<Ledger>>,
}

/// What a count is about, which decides how those of two parts of a table are merged.
#[derive(Clone, Copy, Debug, PartialEq, Eq, BorshSerialize, BorshDeserialize)]
pub(crate) enum Counted {
    /// Rows, or something else of which each part has its own: the counts are added.
    Rows,
    /// Columns, which are the same in every part: the larger count holds.
    Columns,
}

impl Ledger {
    /// Whether every row is accounted for exactly once.
    pub fn balances(&self) -> bool {
        let this_side = self.rows_in == self.kept + total(&self.dropped) + total(&self.set_aside);
        this_side && self.other_side.as_ref().is_none_or(|side| side.balances())
    }

    /// Merges the ledgers of two parts of a table.
    #[must_use]
    pub fn merge(mut self, other: &Ledger) -> Ledger {
        self.rows_in += other.rows_in;
        self.kept += other.kept;
        self.from = self.from.or_else(|| other.from.clone());
        self.as_of = self.as_of.or(other.as_of);
        self.zone = self.zone.or_else(|| other.zone.clone());
        self.view = match (self.view, other.view) {
            (Some(one), Some(more)) => {
                Range::new(one.first().min(more.first()), one.last().max(more.last()))
            }
            (one, other) => one.or(other),
        };
        for (entries, more) in
            [(&mut self.dropped, &other.dropped), (&mut self.set_aside, &other.set_aside)]
        {
            add_entries(entries, more);
            // In the order of a ledger of the whole table.
            entries.sort_by_key(|entry| entry.reason);
        }
        for (n, (name, count)) in other.counts.iter().enumerate() {
            self.add_count(name, *count, &other.counts[n + 1..]);
        }
        for warning in &other.warnings {
            if !self.warnings.iter_mut().any(|own| own.absorb(warning)) {
                self.warnings.push(warning.clone());
            }
        }
        for (sums, more) in self.reconciled.iter_mut().zip(&other.reconciled) {
            sums.add(more);
        }
        if let (Some(followed), Some(more)) = (&mut self.followed, &other.followed) {
            followed.add(more);
            followed.dropped.sort_by_key(|entry| entry.reason);
            followed.set_aside.sort_by_key(|entry| entry.reason);
        }
        if let (Some(side), Some(more)) = (&mut self.other_side, &other.other_side) {
            **side = side.clone().merge(more);
        }
        self
    }

    /// The warnings that are due.
    pub fn warnings(&self) -> impl Iterator<Item = &Warning> {
        self.warnings.iter().filter(|warning| warning.is_due())
    }

    /// A count by its name; 0 if there is none.
    pub fn count(&self, name: &str) -> u64 {
        self.counts.iter().find(|(of, _)| of == name).map_or(0, |(_, count)| *count)
    }

    /// Adds a count, unless it is 0.
    pub(crate) fn note(&mut self, name: impl Into<Cow<'static, str>>, count: u64) {
        self.note_what(name.into(), count, Counted::Rows);
    }

    /// Adds a number of columns, unless it is 0.
    pub(crate) fn note_columns(&mut self, name: impl Into<Cow<'static, str>>, count: u64) {
        self.note_what(name.into(), count, Counted::Columns);
    }

    fn note_what(&mut self, name: Cow<'static, str>, count: u64, what: Counted) {
        self.noted.push((name.clone(), what));
        if count > 0 {
            self.counts.push((name, count));
        }
    }

    /// Adds a count of another part of the table, which is followed there by others. A count that
    /// only the other part has is put where a ledger of the whole table has it.
    fn add_count(&mut self, name: &str, count: u64, later: &[(Cow<'static, str>, u64)]) {
        if let Some((_, own)) = self.counts.iter_mut().find(|(of, _)| of == name) {
            let what = self.noted.iter().find(|(of, _)| of == name).map(|(_, what)| *what);
            *own = match what {
                Some(Counted::Columns) => (*own).max(count),
                Some(Counted::Rows) | None => *own + count,
            };
            return;
        }
        let order = |of: &str| self.noted.iter().position(|(noted, _)| noted == of);
        let is_later = |of: &str| {
            let is_noted_later = order(of).zip(order(name)).is_some_and(|(of, own)| of > own);
            is_noted_later || later.iter().any(|(later, _)| later == of)
        };
        let next = self.counts.iter().position(|(of, _)| is_later(of));
        let at = next.unwrap_or(self.counts.len());
        self.counts.insert(at, (name.to_owned().into(), count));
    }

    /// Adds what the values of an expression depend on, and what could not be computed.
    pub(crate) fn tell(
        &mut self,
        expression: &BoundExpression,
        unanswered: Unanswered,
        context: &Context,
    ) {
        if expression.uses_as_of {
            self.as_of = context.as_of;
        }
        if expression.cuts_instants {
            self.zone = Some(context.zone.to_string());
        }
        self.note("divisions by zero, counted as missing", unanswered.divisions_by_zero);
        self.note("dates that do not exist, counted as missing", unanswered.no_such_day);
    }

    /// The number of rows that were dropped or set aside for this reason.
    pub fn rows(&self, reason: Reason) -> u64 {
        let entries = self.dropped.iter().chain(&self.set_aside);
        entries.filter(|entry| entry.reason == reason).map(|entry| entry.rows).sum()
    }
}

fn total(entries: &[Entry]) -> u64 {
    entries.iter().map(|entry| entry.rows).sum()
}

fn as_text<T: fmt::Display, S: Serializer>(
    value: &Option<T>,
    serializer: S,
) -> std::result::Result<S::Ok, S::Error> {
    match value {
        Some(value) => serializer.collect_str(value),
        None => serializer.serialize_none(),
    }
}

fn those_due<S: Serializer>(
    warnings: &[Warning],
    serializer: S,
) -> std::result::Result<S::Ok, S::Error> {
    serializer.collect_seq(warnings.iter().filter(|warning| warning.is_due()))
}

fn as_map<S: Serializer>(
    counts: &[(Cow<'static, str>, u64)],
    serializer: S,
) -> std::result::Result<S::Ok, S::Error> {
    let mut map = serializer.serialize_map(Some(counts.len()))?;
    counts.iter().try_for_each(|(name, count)| map.serialize_entry(name, count))?;
    map.end()
}

/// What a step's ledger reports besides numbers of rows, resolved for the columns of its table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Accounting {
    /// The columns to reconcile, with their places.
    pub(crate) reconcile: Vec<(String, usize)>,
    /// The condition of the rows to follow, if the table has the columns for it.
    follow: Option<BoundExpression>,
    /// The probable mistakes to warn of if most rows are left out.
    causes: Vec<Cause>,
    context: Context,
}

impl Accounting {
    /// Errors: a column to reconcile is missing, or is known to hold no numbers.
    pub(crate) fn prepare(shape: &Shape, context: &Context) -> Result<Accounting> {
        let place = |name: &String| {
            shape.expect_numbers(name)?;
            Ok((name.clone(), shape.place(name)?))
        };
        let follow = context.follow.as_ref();
        Ok(Accounting {
            reconcile: context.reconcile.iter().map(place).collect::<Result<_>>()?,
            follow: follow.and_then(|condition| condition.bind_condition(shape, context).ok()),
            causes: Vec::new(),
            context: context.clone(),
        })
    }

    /// Warns of these causes if most rows are left out.
    pub(crate) fn warning_of(mut self, causes: impl IntoIterator<Item = Cause>) -> Accounting {
        self.causes.extend(causes);
        self
    }

    /// The same without sums to reconcile.
    pub(crate) fn without_sums(&self) -> Accounting {
        Accounting { reconcile: Vec::new(), ..self.clone() }
    }
}

/// The fate of each row of a table: every row is in exactly one of the masks.
pub(crate) struct RowMasks {
    pub(crate) kept: BooleanBuffer,
    pub(crate) dropped: Vec<(Reason, BooleanBuffer)>,
    pub(crate) set_aside: Vec<(Reason, BooleanBuffer)>,
}

/// The account of some rows, before the rest of the ledger is known. Tallies of different rows can
/// be added.
#[derive(Clone, Debug, Default, BorshSerialize, BorshDeserialize)]
pub(crate) struct Tally {
    pub(crate) from: Option<String>,
    pub(crate) rows_in: u64,
    pub(crate) kept: u64,
    /// An entry for each possible reason, even if it has no rows.
    dropped: Vec<Entry>,
    set_aside: Vec<Entry>,
    reconciled: Vec<Reconciled>,
    followed: Option<Followed>,
    not_numbers: u64,
    causes: Vec<Cause>,
}

impl Tally {
    /// Adds two tallies.
    pub(crate) fn plus(mut self, other: &Tally) -> Tally {
        self.rows_in += other.rows_in;
        self.kept += other.kept;
        self.not_numbers += other.not_numbers;
        add_entries(&mut self.dropped, &other.dropped);
        add_entries(&mut self.set_aside, &other.set_aside);
        for (sums, more) in self.reconciled.iter_mut().zip(&other.reconciled) {
            sums.add(more);
        }
        if let (Some(followed), Some(more)) = (&mut self.followed, &other.followed) {
            followed.add(more);
        }
        self.from = self.from.or_else(|| other.from.clone());
        self
    }

    /// The same, with the reasons in this order.
    pub(crate) fn in_order(mut self, reasons: impl Iterator<Item = Reason> + Clone) -> Tally {
        let place = |entry: &Entry| reasons.clone().position(|reason| reason == entry.reason);
        self.dropped.sort_by_key(place);
        self.set_aside.sort_by_key(place);
        if let Some(followed) = &mut self.followed {
            followed.dropped.sort_by_key(place);
            followed.set_aside.sort_by_key(place);
        }
        self
    }

    /// The account of the rows that were not kept.
    pub(crate) fn without_kept(mut self) -> Tally {
        self.rows_in -= self.kept;
        self.kept = 0;
        self.not_numbers = 0;
        for sums in &mut self.reconciled {
            sums.came_in = sums.dropped.clone().plus(&sums.set_aside);
            sums.kept = sums.kept.minus_itself();
        }
        if let Some(followed) = &mut self.followed {
            followed.rows_in -= followed.kept;
            followed.kept = 0;
        }
        self
    }

    /// Makes the ledger of a step, without the reasons that have no rows.
    pub(crate) fn ledger(self, step: String) -> Ledger {
        let some =
            |entries: Vec<Entry>| entries.into_iter().filter(|entry| entry.rows > 0).collect();
        let counts = match self.not_numbers {
            0 => Vec::new(),
            cells => vec![("NaN cells counted as missing".into(), cells)],
        };
        let warnings = self.causes.iter().map(|cause| cause.warning(&self)).collect();
        let without_lines = |entries: Vec<Entry>| {
            entries
                .into_iter()
                .map(|entry| Entry { lines: Vec::new(), keys: Vec::new(), ..entry })
                .collect::<Vec<_>>()
        };
        let followed = self.followed.map(|followed| Followed {
            dropped: some(followed.dropped),
            set_aside: some(followed.set_aside),
            ..followed
        });
        Ledger {
            step,
            from: self.from,
            as_of: None,
            view: None,
            zone: None,
            rows_in: self.rows_in,
            kept: self.kept,
            dropped: some(without_lines(self.dropped)),
            set_aside: some(self.set_aside),
            counts,
            noted: Vec::new(),
            warnings,
            reconciled: self.reconciled,
            followed,
            other_side: None,
        }
    }

    /// The number of rows for each reason.
    fn reasons(&self) -> impl Iterator<Item = (Reason, u64)> {
        self.dropped.iter().chain(&self.set_aside).map(|entry| (entry.reason, entry.rows))
    }
}

impl RowMasks {
    /// The same reasons, for no row.
    pub(crate) fn of_no_row(self) -> RowMasks {
        let none = || BooleanBuffer::new_unset(0);
        let reasons = |masks: Vec<(Reason, _)>| {
            masks.into_iter().map(|(reason, _)| (reason, none())).collect()
        };
        let (dropped, set_aside) = (reasons(self.dropped), reasons(self.set_aside));
        RowMasks { kept: none(), dropped, set_aside }
    }

    /// The rows that are set aside.
    pub(crate) fn aside(&self) -> BooleanBuffer {
        let none = BooleanBuffer::new_unset(self.kept.len());
        self.set_aside.iter().fold(none, |aside, (_, rows)| &aside | rows)
    }

    /// The ledger, and the rows set aside.
    pub(crate) fn account(
        self,
        step: String,
        table: &Table,
        accounting: &Accounting,
    ) -> Result<(Ledger, Table)> {
        let (tally, set_aside) = self.tally(table, accounting)?;
        Ok((tally.ledger(step), set_aside))
    }

    /// The account of all rows, and the rows set aside.
    pub(crate) fn tally(&self, table: &Table, accounting: &Accounting) -> Result<(Tally, Table)> {
        let RowMasks { kept, dropped, set_aside } = self;
        let mut reconciled = Vec::new();
        for (name, place) in &accounting.reconcile {
            let column = table.at(*place);
            let sum = |masks: &[(Reason, BooleanBuffer)]| {
                let none = ExactSum::of_column(column, &BooleanBuffer::new_unset(table.rows()));
                masks
                    .iter()
                    .fold(none, |sum, (_, rows)| sum.plus(&ExactSum::of_column(column, rows)))
            };
            reconciled.push(Reconciled {
                column: name.clone(),
                came_in: ExactSum::of_column(column, &BooleanBuffer::new_set(table.rows())),
                kept: ExactSum::of_column(column, kept),
                dropped: sum(dropped),
                set_aside: sum(set_aside),
                in_answer: None,
            });
        }
        let entries = |masks: &[(Reason, BooleanBuffer)], with_lines| {
            let origin = if with_lines { table.origin() } else { None };
            masks.iter().map(|(reason, rows)| entry(*reason, rows, origin)).collect()
        };
        let tally = Tally {
            from: table.origin().map(|origin| origin.file().to_owned()),
            rows_in: table.rows() as u64,
            kept: kept.count_set_bits() as u64,
            dropped: entries(dropped, false),
            set_aside: entries(set_aside, true),
            reconciled,
            followed: self.followed(table, accounting)?,
            not_numbers: table.not_numbers(),
            causes: accounting.causes.clone(),
        };
        Ok((tally, rows_with_reasons(table, &self.aside(), set_aside)?))
    }

    /// The masks of a table whose rows are all kept.
    pub(crate) fn all_kept(table: &Table) -> RowMasks {
        RowMasks {
            kept: BooleanBuffer::new_set(table.rows()),
            dropped: Vec::new(),
            set_aside: Vec::new(),
        }
    }

    /// The ledger of an operation that keeps all rows and only marks them. The other fates become
    /// counts.
    pub(crate) fn account_of_all_kept(
        self,
        step: String,
        table: &Table,
        accounting: &Accounting,
    ) -> Result<(Ledger, Table)> {
        let plain = Accounting { follow: None, ..accounting.without_sums() };
        let counts: Vec<_> = self.tally(table, &plain)?.0.reasons().collect();
        let (mut ledger, none) = RowMasks::all_kept(table).account(step, table, accounting)?;
        counts.into_iter().for_each(|(reason, rows)| ledger.note(reason.text(), rows));
        Ok((ledger, none))
    }

    /// What happened to the followed rows, if the table has the columns for the condition.
    fn followed(&self, table: &Table, accounting: &Accounting) -> Result<Option<Followed>> {
        let Some(condition) = &accounting.follow else { return Ok(None) };
        let (truth, _) = condition.condition(table, &accounting.context)?;
        let rows = truth
            .nulls()
            .map_or_else(|| truth.values().clone(), |decided| truth.values() & decided.inner());
        let entries = |masks: &[(Reason, BooleanBuffer)]| {
            masks
                .iter()
                .map(|(reason, mask)| entry(*reason, &(mask & &rows), table.origin()))
                .collect()
        };
        Ok(Some(Followed {
            condition: condition.to_string(),
            rows_in: rows.count_set_bits() as u64,
            kept: (&self.kept & &rows).count_set_bits() as u64,
            dropped: entries(&self.dropped),
            set_aside: entries(&self.set_aside),
        }))
    }
}

/// Adds the rows of other entries with the same reasons.
fn add_entries(entries: &mut Vec<Entry>, more: &[Entry]) {
    for more in more {
        match entries.iter_mut().find(|entry| entry.reason == more.reason) {
            Some(entry) => {
                entry.rows += more.rows;
                entry.add_lines(more);
            }
            None => entries.push(more.clone()),
        }
    }
}

fn entry(reason: Reason, rows: &BooleanBuffer, origin: Option<&Origin>) -> Entry {
    let lines = origin.map(|origin| origin.least_lines(rows.set_indices(), LINES_NAMED));
    let lines = lines.unwrap_or_default();
    let keys = lines.iter().filter_map(|line| origin.and_then(|origin| origin.key(*line)));
    Entry {
        keys: keys.collect(),
        numbering: origin.map(Origin::numbering).unwrap_or_default(),
        ..Entry::new(reason, rows.count_set_bits() as u64, lines)
    }
}

/// The rows of a mask, with the reason of each in one more column.
pub(crate) fn rows_with_reasons(
    table: &Table,
    rows: &BooleanBuffer,
    reasons: &[(Reason, BooleanBuffer)],
) -> Result<Table> {
    const BECAUSE: &str = "set_aside_because";
    let because: StringViewArray = rows
        .set_indices()
        .map(|row| {
            reasons.iter().find(|(_, rows)| rows.value(row)).map(|(reason, _)| reason.text())
        })
        .collect();
    // A table that was set aside before has such a column already; the new reason replaces it.
    table.filter(rows)?.without(BECAUSE)?.with_column(BECAUSE, Arc::new(because) as ArrayRef)
}

#[cfg(test)]
mod tests;
