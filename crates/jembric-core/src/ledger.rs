//! [`Ledger`]: the account of every row that went into an operation, and [`Outcome`]: the answer with its ledger.
//!
//! An operation decides the fate of each row as masks over its input ([`Fates`]), one a reason. Everything else is derived
//! from those in one place: the answer's rows, the rows set aside, the counts, and the sums that were to be reconciled.

mod warning;

pub use warning::Warning;

use crate::{
    calendar::{Day, Range},
    error::Result,
    exact::ExactSum,
    operation::Context,
    table::{Origin, Table},
};
use arrow_array::{Array, ArrayRef, StringViewArray};
use arrow_buffer::BooleanBuffer;
use serde::{Serialize, Serializer, ser::SerializeMap};
use std::{borrow::Cow, fmt, sync::Arc};

/// How many lines of an entry's rows are named.
const LINES_NAMED: usize = 3;

/// What an operation returns: the answer, the account of every row, and the rows that could not be used.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct Outcome {
    /// The answer.
    pub table: Table,
    /// Where every row went.
    pub ledger: Ledger,
    /// The rows that could not be used, as they came, with a column `set_aside_because`.
    pub set_aside: Table,
}

/// Why a row is not in the answer.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
#[non_exhaustive]
pub enum Reason {
    /// Its date is missing.
    NoDate,
    /// One of its key columns is missing.
    NoKey,
    /// It is dated after the date that the answer speaks of.
    AfterAsOf,
    /// Its entity has a record with a better claim.
    Superseded,
    /// It ties with the record that was kept.
    TiedWithTheOneKept,
    /// It is dated before the first day in view.
    BeforeView,
    /// It is dated after the last day in view.
    AfterView,
    /// It is not active in the range that is looked at.
    OutsideRange,
    /// It has no end.
    Open,
    /// It has no day on which it is active, since its end day does not count.
    NoActiveDay,
    /// It has no start.
    NoStart,
    /// Its end is before its start.
    EndBeforeStart,
    /// It is not active on the day asked for.
    NotActiveThen,
    /// The condition is not true of it.
    ConditionNotTrue,
    /// The condition cannot be decided, since it compares a missing value.
    ConditionUndecided,
    /// There is no window for its key.
    NoWindowForItsKey,
    /// There are windows for its key, and each was set aside or dropped.
    NoUsableWindowForItsKey,
    /// There are windows for its key, and it is outside all of them.
    OutsideEveryWindow,
    /// It is inside a window.
    InAWindow,
    /// No event falls in it.
    WithoutAnEvent,
    /// An event falls in it.
    WithAnEvent,
}

impl Reason {
    /// The reason in words.
    pub fn text(self) -> &'static str {
        match self {
            Reason::NoDate => "no date",
            Reason::NoKey => "no key",
            Reason::AfterAsOf => "after the as-of date",
            Reason::Superseded => "superseded",
            Reason::TiedWithTheOneKept => "tied with the one kept",
            Reason::BeforeView => "before the first day in view",
            Reason::AfterView => "after the last day in view",
            Reason::OutsideRange => "outside the range",
            Reason::Open => "open",
            Reason::NoActiveDay => "no active day",
            Reason::NoStart => "no start",
            Reason::EndBeforeStart => "end before start",
            Reason::NotActiveThen => "not active then",
            Reason::ConditionNotTrue => "not so",
            Reason::ConditionUndecided => "undecided, a value is missing",
            Reason::NoWindowForItsKey => "no window for its key",
            Reason::NoUsableWindowForItsKey => "no usable window for its key",
            Reason::OutsideEveryWindow => "outside every window",
            Reason::InAWindow => "in a window",
            Reason::WithoutAnEvent => "without an event",
            Reason::WithAnEvent => "with an event",
        }
    }
}

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.text())
    }
}

impl Serialize for Reason {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        serializer.serialize_str(self.text())
    }
}

/// The rows that share a reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Entry {
    /// Why they are not in the answer.
    pub reason: Reason,
    /// How many they are.
    pub rows: u64,
    /// The lines of the first few in the file they came from.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub lines: Vec<u64>,
}

/// The sum of a column over the rows of each fate. In = kept + dropped + set aside, exactly.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Reconciled {
    /// The column.
    pub column: String,
    /// Over all rows that came in.
    #[serde(rename = "in")]
    pub came_in: ExactSum,
    /// Over the rows kept.
    pub kept: ExactSum,
    /// Over the rows dropped.
    pub dropped: ExactSum,
    /// Over the rows set aside.
    pub set_aside: ExactSum,
    /// Over the rows of the answer, where it may have a row more than once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub in_answer: Option<ExactSum>,
}

/// What became of the rows that are followed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Followed {
    /// The condition that is true of them.
    pub condition: String,
    /// How many came in.
    pub rows_in: u64,
    /// How many are in the answer.
    pub kept: u64,
    /// Those that the answer leaves out, by reason.
    pub dropped: Vec<Entry>,
    /// Those that could not be used, by reason.
    pub set_aside: Vec<Entry>,
}

/// The account of rows that an operation returns: rows in = kept + dropped + set aside.
///
/// Its [`Display`](fmt::Display) form is the account as the command shows it; it serializes to the same facts.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Ledger {
    /// What was done, in words: `latest per vessel by inspected_on`.
    pub step: String,
    /// The file that the rows came from, where it is known.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// The date that the answer speaks of, where one was used.
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "as_text")]
    pub as_of: Option<Day>,
    /// The first and last day in view, where the step looks at a stretch of time.
    #[serde(skip_serializing_if = "Option::is_none", serialize_with = "as_text")]
    pub view: Option<Range>,
    /// The time zone in which points in time were cut into days, where some were.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
    /// Rows that came in.
    pub rows_in: u64,
    /// Rows in the answer.
    pub kept: u64,
    /// Rows that the answer leaves out because that is what was asked, by reason.
    pub dropped: Vec<Entry>,
    /// Rows that could not be used, by reason.
    pub set_aside: Vec<Entry>,
    /// Further counts, by name.
    #[serde(serialize_with = "as_map")]
    pub counts: Vec<(Cow<'static, str>, u64)>,
    /// What the reader of the answer should know.
    pub warnings: Vec<Warning>,
    /// The sums that were to be reconciled.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub reconciled: Vec<Reconciled>,
    /// What became of the rows that are followed, where the table has the columns for it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub followed: Option<Followed>,
    /// The account of the other table, where two went in.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub other_side: Option<Box<Ledger>>,
}

impl Ledger {
    /// Whether every row that came in is accounted for exactly once.
    pub fn balances(&self) -> bool {
        let this_side = self.rows_in == self.kept + total(&self.dropped) + total(&self.set_aside);
        this_side && self.other_side.as_ref().is_none_or(|side| side.balances())
    }

    /// The account of both, where two parts of a table were worked apart.
    pub fn merge(mut self, other: &Ledger) -> Ledger {
        self.rows_in += other.rows_in;
        self.kept += other.kept;
        for (entries, more) in [(&mut self.dropped, &other.dropped), (&mut self.set_aside, &other.set_aside)]
        {
            for more in more {
                match entries.iter_mut().find(|entry| entry.reason == more.reason) {
                    Some(entry) => {
                        entry.rows += more.rows;
                        entry.lines.extend(&more.lines);
                        entry.lines.sort_unstable();
                        entry.lines.truncate(LINES_NAMED);
                    }
                    None => entries.push(more.clone()),
                }
            }
            // As they are told by one who sees all of them at once.
            entries.sort_by_key(|entry| entry.reason);
        }
        for (name, more) in &other.counts {
            match self.counts.iter_mut().find(|(of, _)| of == name) {
                Some((_, count)) => *count += more,
                None => self.counts.push((name.clone(), *more)),
            }
        }
        for warning in &other.warnings {
            if !self.warnings.iter_mut().any(|own| own.absorb(warning)) {
                self.warnings.push(warning.clone());
            }
        }
        for (sums, more) in self.reconciled.iter_mut().zip(&other.reconciled) {
            sums.came_in = sums.came_in.clone().plus(&more.came_in);
            sums.kept = sums.kept.clone().plus(&more.kept);
            sums.dropped = sums.dropped.clone().plus(&more.dropped);
            sums.set_aside = sums.set_aside.clone().plus(&more.set_aside);
            sums.in_answer = match (sums.in_answer.take(), &more.in_answer) {
                (Some(sum), Some(more)) => Some(sum.plus(more)),
                (one, other) => one.or_else(|| other.clone()),
            };
        }
        if let (Some(side), Some(more)) = (&mut self.other_side, &other.other_side) {
            **side = side.clone().merge(more);
        }
        self
    }

    /// A count by its name; 0 where there is none.
    pub fn count(&self, name: &str) -> u64 {
        self.counts.iter().find(|(of, _)| of == name).map_or(0, |(_, count)| *count)
    }

    /// Adds a count where there is something to count.
    pub(crate) fn note(&mut self, name: impl Into<Cow<'static, str>>, count: u64) {
        if count > 0 {
            self.counts.push((name.into(), count));
        }
    }

    /// How many rows were dropped or set aside for this reason.
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

fn as_map<S: Serializer>(
    counts: &[(Cow<'static, str>, u64)],
    serializer: S,
) -> std::result::Result<S::Ok, S::Error> {
    let mut map = serializer.serialize_map(Some(counts.len()))?;
    counts.iter().try_for_each(|(name, count)| map.serialize_entry(name, count))?;
    map.end()
}

impl fmt::Display for Ledger {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.step)?;
        if let Some(from) = &self.from {
            write!(f, ", from {from}")?;
        }
        if let Some(as_of) = self.as_of {
            write!(f, ", as of {as_of}")?;
        }
        if let Some(view) = self.view {
            write!(f, ", in view {view}")?;
        }
        if let Some(zone) = &self.zone {
            write!(f, ", days of {zone}")?;
        }
        let width = self.rows_in.to_string().len().max(4);
        let mut line = |name: &str, rows: u64, rest: &str| {
            write!(f, "\n  {name:<10} {rows:>width$}{}{rest}", if rest.is_empty() { "" } else { "  " })
        };
        line("rows in", self.rows_in, "")?;
        let counts: Vec<String> = self.counts.iter().map(|(name, count)| format!("{name} {count}")).collect();
        line("kept", self.kept, &counts.join(" · "))?;
        for (name, entries) in [("dropped", &self.dropped), ("set aside", &self.set_aside)] {
            if !entries.is_empty() {
                line(
                    name,
                    total(entries),
                    &entries.iter().map(Entry::to_string).collect::<Vec<_>>().join(" · "),
                )?;
            }
        }
        for Reconciled { column, came_in, kept, dropped, set_aside, in_answer } in &self.reconciled {
            write!(
                f,
                "\n  sum of {column}: in {came_in} = kept {kept} + dropped {dropped} + set aside {set_aside}"
            )?;
            if let Some(sum) = in_answer {
                write!(f, "; over the answer {sum}")?;
            }
        }
        if let Some(followed) = &self.followed {
            write!(
                f,
                "\n  {:<10} {:>width$}  {}: kept {}",
                "followed", followed.rows_in, followed.condition, followed.kept
            )?;
            let left = followed.dropped.iter().chain(&followed.set_aside);
            left.into_iter().try_for_each(|entry| write!(f, " · {entry}"))?;
        }
        for warning in &self.warnings {
            write!(f, "\n  warning: {warning}")?;
        }
        let (dropped, set_aside) = (total(&self.dropped), total(&self.set_aside));
        let sign = if self.rows_in == self.kept + dropped + set_aside { '=' } else { '≠' };
        write!(f, "\n  {:<10} {} {sign} {} + {dropped} + {set_aside}", "balance", self.rows_in, self.kept)?;
        self.other_side.as_ref().map_or(Ok(()), |side| write!(f, "\n{side}"))
    }
}

impl fmt::Display for Entry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.reason, self.rows)?;
        if self.lines.is_empty() {
            return Ok(());
        }
        let lines: Vec<String> = self.lines.iter().map(u64::to_string).collect();
        let more = if self.rows > lines.len() as u64 { ", …" } else { "" };
        write!(f, " (line{} {}{more})", if self.rows == 1 { "" } else { "s" }, lines.join(", "))
    }
}

/// What happens to each row of a table: every row is in exactly one of the masks.
pub(crate) struct Fates {
    pub(crate) kept: BooleanBuffer,
    pub(crate) dropped: Vec<(Reason, BooleanBuffer)>,
    pub(crate) set_aside: Vec<(Reason, BooleanBuffer)>,
}

impl Fates {
    /// The rows set aside, and the ledger with all that follows from the masks.
    pub(crate) fn account(self, step: String, table: &Table, context: &Context) -> Result<(Ledger, Table)> {
        let Fates { kept, dropped, set_aside } = self;
        let mut aside = BooleanBuffer::new_unset(table.rows());
        for (_, rows) in &set_aside {
            aside = &aside | rows;
        }
        let mut reconciled = Vec::new();
        for column in &context.reconcile {
            let sum = |masks: &[(Reason, BooleanBuffer)]| {
                let none = BooleanBuffer::new_unset(table.rows());
                masks.iter().try_fold(ExactSum::of(table, column, &none)?, |sum, (_, rows)| {
                    Ok::<_, crate::Error>(sum.plus(&ExactSum::of(table, column, rows)?))
                })
            };
            reconciled.push(Reconciled {
                column: column.clone(),
                came_in: ExactSum::of(table, column, &BooleanBuffer::new_set(table.rows()))?,
                kept: ExactSum::of(table, column, &kept)?,
                dropped: sum(&dropped)?,
                set_aside: sum(&set_aside)?,
                in_answer: None,
            });
        }
        let followed = followed(context, table, &kept, &dropped, &set_aside)?;
        let counts = match table.not_numbers() {
            0 => Vec::new(),
            cells => vec![("cells that are NaN and count as missing".into(), cells)],
        };
        let set_aside_table = rows_with_reasons(table, &aside, &set_aside)?;
        let entries = |masks: Vec<(Reason, BooleanBuffer)>, with_lines| {
            let entries = masks
                .iter()
                .map(|(reason, rows)| entry(*reason, rows, table.origin().filter(|_| with_lines)));
            entries.filter(|entry| entry.rows > 0).collect()
        };
        let ledger = Ledger {
            step,
            from: table.origin().map(|origin| origin.file().to_owned()),
            as_of: None,
            view: None,
            zone: None,
            rows_in: table.rows() as u64,
            kept: kept.count_set_bits() as u64,
            dropped: entries(dropped, false),
            set_aside: entries(set_aside, true),
            counts,
            warnings: Vec::new(),
            reconciled,
            followed,
            other_side: None,
        };
        Ok((ledger, set_aside_table))
    }

    /// The fates of a table of which every row stays.
    pub(crate) fn all_kept(table: &Table) -> Fates {
        Fates { kept: BooleanBuffer::new_set(table.rows()), dropped: Vec::new(), set_aside: Vec::new() }
    }

    /// The same where every row stays, and is only told apart: what would have happened to it is counted by its reason.
    pub(crate) fn account_of_all_kept(
        self,
        step: String,
        table: &Table,
        context: &Context,
    ) -> Result<(Ledger, Table)> {
        let reasons = self.dropped.iter().chain(&self.set_aside);
        let counts: Vec<_> =
            reasons.map(|(reason, rows)| (reason.text().into(), rows.count_set_bits() as u64)).collect();
        let (mut ledger, none) = Fates::all_kept(table).account(step, table, context)?;
        ledger.counts.extend(counts.into_iter().filter(|(_, rows)| *rows > 0));
        Ok((ledger, none))
    }
}

/// What became of the rows that are followed, if the condition can be asked of the table.
fn followed(
    context: &Context,
    table: &Table,
    kept: &BooleanBuffer,
    dropped: &[(Reason, BooleanBuffer)],
    set_aside: &[(Reason, BooleanBuffer)],
) -> Result<Option<Followed>> {
    let Some(condition) = &context.follow else { return Ok(None) };
    if condition.check_condition(&table.shape(), context).is_err() {
        return Ok(None);
    }
    let (truth, _) = condition.condition(table, context)?;
    let rows =
        truth.nulls().map_or_else(|| truth.values().clone(), |decided| truth.values() & decided.inner());
    let entries = |masks: &[(Reason, BooleanBuffer)]| {
        let entries = masks.iter().map(|(reason, mask)| entry(*reason, &(mask & &rows), table.origin()));
        entries.filter(|entry| entry.rows > 0).collect()
    };
    Ok(Some(Followed {
        condition: condition.to_string(),
        rows_in: rows.count_set_bits() as u64,
        kept: (kept & &rows).count_set_bits() as u64,
        dropped: entries(dropped),
        set_aside: entries(set_aside),
    }))
}

fn entry(reason: Reason, rows: &BooleanBuffer, origin: Option<&Origin>) -> Entry {
    let first = rows.set_indices().take(LINES_NAMED);
    let lines = origin.map(|origin| first.map(|row| origin.line(row)).collect()).unwrap_or_default();
    Entry { reason, rows: rows.count_set_bits() as u64, lines }
}

/// The rows of a mask as they came, with the reason of each in a further column.
pub(crate) fn rows_with_reasons(
    table: &Table,
    rows: &BooleanBuffer,
    reasons: &[(Reason, BooleanBuffer)],
) -> Result<Table> {
    const BECAUSE: &str = "set_aside_because";
    let because: StringViewArray = rows
        .set_indices()
        .map(|row| reasons.iter().find(|(_, rows)| rows.value(row)).map(|(reason, _)| reason.text()))
        .collect();
    // A table that was itself set aside once has such a column: the newer reason is what counts.
    table.filter(rows)?.without(BECAUSE)?.with_column(BECAUSE, Arc::new(because) as ArrayRef)
}
