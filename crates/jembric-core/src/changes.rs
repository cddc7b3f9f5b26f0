//! [`Changes`]: lists what changed between two tables with the same key, cell by cell.
//!
//! The keys of both sides are numbered together (`keys` of `within`). A slot for each key holds its
//! row on both sides (`records`). Each column is compared over all records of both sides, and only
//! cells that differ become rows of the result (`compare`, `cells`).

mod between;
mod cells;
mod compare;
mod records;

pub use between::Between;

use crate::{
    context::Context,
    decimal::Decimal,
    error::{Error, Result, excludes, in_setting, needs, refuse},
    kind::Type,
    latest::{Latest, Ties},
    ledger::{Accounting, Cause, Ledger, Outcome, Warning},
    limits::MOST_ROWS,
    plan::{Apply, ByEntity, Division, Inputs, Kind, Plan, Prepared, ResultOrder, Roles},
    role::Role,
    row_numbers::has_row_numbers,
    shape::{ColumnShape, Shape},
    table::Table,
    within::keys::{self, Pair},
};
use cells::{ChangedCells, common_type, difference_type};
use records::Records;
use serde::Serialize;
use std::sync::Arc;

/// Which of several records with the same key is compared.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, jembric_derive::Words)]
pub enum Duplicates {
    /// Refuse them with an error that names the keys.
    #[default]
    Refuse,
    /// The first by the order of the rows.
    First,
    /// The last by the order of the rows.
    Last,
}

/// Lists what changed between two tables, or between two dates of one table.
///
/// Records are identified by key columns, which both sides have. The columns that both sides have
/// are compared; those of one side only are counted. The result has a row for each changed cell,
/// sorted by key and then in the order of the columns of the newer side: the key, `change`
/// (`changed`, `appeared` or `gone`), `column`, `before`, `now`, and `difference`. A record that
/// appeared or is gone has one row, without a column. `before` and `now` have the type of the
/// compared columns if all have the same one, and are text otherwise. The difference of numbers is
/// exact, and that of dates is in days; it is missing for other types. It is a number too, unless
/// floats are compared beside whole numbers or decimals: no type of numbers holds the differences
/// of both, so it is text. A difference that does not fit into its column is left out, and the
/// ledger counts it.
///
/// Keys are compared as by [`Within`](crate::Within): numbers of different types by their exact
/// values, texts exactly. Keys of floats on one side and exact numbers on the other are text in the
/// result. Two missing values are equal. Numbers of different types are compared by their exact
/// values (a float by its shortest digits, so that 0.1 equals 0.10), and other columns of different
/// types as text.
///
/// With [`date`](Changes::date) and [`between`](Changes::between), one table takes the place of
/// both: its latest record of each key as of the earlier date, and as of the later date.
///
/// Set aside on both sides: rows without a key, and with `date` rows without a date. Dropped:
/// records that are equal on both sides. The ledger is that of the newer side;
/// [`Ledger::other_side`](crate::Ledger::other_side) is that of the older one.
///
/// Errors: a key column is missing or its types can never be equal; a key occurs
/// twice; more rows than the limit, checked before any row is made. Cost: one numbering
/// of both sides' keys, one comparison for each column and record, and a sort of the records that
/// differ.
///
/// ```
/// use jembric_core::{Changes, Table, arrow::{ArrayRef, Int64Array, StringViewArray}};
/// use std::sync::Arc;
///
/// let table = |names: Vec<&str>, tons: Vec<i64>| {
///     let names: ArrayRef = Arc::new(StringViewArray::from(names));
///     let tons: ArrayRef = Arc::new(Int64Array::from(tons));
///     Table::from_columns([("vessel", names), ("tons", tons)])
/// };
/// let now = table(vec!["Petrel", "Wend"], vec![12, 7])?;
/// let before = table(vec!["Wend", "Petrel"], vec![7, 10])?;
///
/// let changes = Changes::per(["vessel"]).apply(&now, &before)?;
/// assert_eq!(changes.table.rows(), 1);
/// assert_eq!(changes.table.names().last(), Some("difference"));
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "changes",
    does = "List what changed between two tables, or between two dates of one table",
    answers = "What is new since last month?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Changes {
    /// Identify each record by these columns.
    #[setting(columns, required)]
    pub per: Vec<String>,
    /// Compare the latest records of one table by this column of dates; see `between`.
    #[setting(column)]
    pub date: Option<String>,
    /// Compare the latest records as of these two dates: 2025-05-31..2025-06-30.
    #[setting(text = "A..B")]
    pub between: Option<Between>,
    /// Break ties on `date` by these columns: the greatest value wins, a missing value loses.
    #[setting(columns)]
    pub then: Vec<String>,
    /// Refuse several records with the same key (with `date`: and the same date), or compare the
    /// first or last by the order of rows. The default is `refuse`.
    #[setting(one_of)]
    pub ties: Duplicates,
    /// Compare these columns only. The default is all that both sides have.
    #[setting(columns)]
    pub only: Vec<String>,
    /// Do not compare these columns.
    #[setting(columns)]
    pub ignore: Vec<String>,
    /// Treat numbers that differ by at most this as equal.
    #[setting(text = "NUMBER")]
    pub within: Option<Decimal>,
    /// Let a missing key be a key like any other, as `totals` does. The default sets rows without a
    /// key aside.
    #[setting(yes)]
    pub missing_keys: bool,
    /// Limit the number of rows of the result. The default is `200000000`.
    #[setting(number, default = MOST_ROWS)]
    pub most_rows: u64,
}

/// A column that both sides have.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Compared {
    name: String,
    now: usize,
    before: usize,
    /// Its types on both sides, if they are known.
    kinds: Option<(Type, Type)>,
}

impl Changes {
    /// Identifies records by these columns.
    pub fn per<N: Into<String>>(columns: impl IntoIterator<Item = N>) -> Changes {
        Changes { per: columns.into_iter().map(Into::into).collect(), ..Changes::default() }
    }

    /// The columns to compare, in the order of the newer side; and the numbers of columns that only
    /// one side has.
    fn compared(&self, now: &Shape, before: &Shape, pairs: &[Pair]) -> Result<Vec<Compared>> {
        for (setting, names) in [("only", &self.only), ("ignore", &self.ignore)] {
            for name in names {
                // A column to ignore may be that of one side only.
                let on_both = setting == "only";
                let found = now.find(name).map(drop);
                let other = before.find(name).map(drop);
                let result = if on_both { found.and(other) } else { found.or(other) };
                in_setting(setting, || result)?;
            }
        }
        let is_key = |place: usize| pairs.iter().any(|pair| pair.of_events == place);
        let wanted = |name: &String| {
            (self.only.is_empty() || self.only.contains(name)) && !self.ignore.contains(name)
        };
        let columns = now.columns().iter().enumerate();
        let columns = columns.filter(|(place, column)| !is_key(*place) && wanted(&column.name));
        Ok(columns
            .filter_map(|(place, column)| {
                let other = before.place(&column.name).ok()?;
                let kinds = column.kind.zip(before.kind(other));
                Some(Compared { name: column.name.clone(), now: place, before: other, kinds })
            })
            .collect())
    }

    fn step(&self) -> String {
        let per = self.per.join(", ");
        match (&self.date, &self.between) {
            (Some(date), Some(between)) => {
                format!("changes per {per} by {date} from {} to {}", between.before, between.now)
            }
            _ => format!("changes per {per}"),
        }
    }

    /// The latest records at two dates of one table; none if there are two tables.
    ///
    /// Errors: the settings are for the other one of both.
    fn latest(&self, has_second: bool) -> Result<Option<(Latest, Between)>> {
        match (&self.date, self.between, has_second) {
            (Some(_), _, true) => excludes("date", "a second table"),
            (None, Some(_), _) => needs("between", "`date`"),
            (None, None, false) => needs("per", "a second table, or `date` and `between`"),
            (Some(_), None, false) => needs("date", "`between`"),
            (None, None, true) if !self.then.is_empty() => needs("then", "`date`"),
            (None, None, true) => Ok(None),
            (Some(date), Some(between), false) => {
                let mut latest = Latest::new(date).per(self.per.clone()).then(self.then.clone());
                latest.ties = match self.ties {
                    Duplicates::Refuse => Ties::Refuse,
                    Duplicates::First => Ties::First,
                    Duplicates::Last => Ties::Last,
                };
                Ok(Some((latest, between)))
            }
        }
    }

    /// Prepares the operation for a table now and one before. Without the latter, the table is
    /// compared with itself between two dates.
    ///
    /// Errors: everything that can be wrong without the data.
    pub fn prepare(&self, now: &Shape, before: Option<&Shape>, context: &Context) -> Result<Plan> {
        if self.within.is_some_and(|within| within.units() < 0) {
            let value = self.within.map_or_else(String::new, |within| within.to_string());
            return refuse("within", value, "0 or a greater number");
        }
        let latest = self.latest(before.is_some())?;
        let (sides, older) = match before {
            Some(before) => (vec![now, before], before),
            None => (vec![now], now),
        };
        if self.per.is_empty() {
            return needs("per", "at least one column");
        }
        let pairs = in_setting("per", || keys::pairs(&self.per, now, older, "before"))?;
        let compared = self.compared(now, older, &pairs)?;
        // The plans of the latest records are prepared for each table; this checks the settings.
        if let Some((latest, between)) = &latest {
            latest.prepare(now, &context.clone().as_of(between.now))?;
        }
        let result = result_shape(now, older, &pairs, &compared)?;
        let mut uses = Inputs::new();
        for (side, shape) in sides.iter().enumerate() {
            // Rows set aside and errors name whole rows.
            uses = uses.using_of(side, 0..shape.columns().len());
        }
        let roles = pairs.iter().fold(Roles::default(), |roles, pair| {
            roles.with(&now.columns()[pair.of_events].name, Role::Key)
        });
        let names = |shape: &Shape, other: &Shape| -> Vec<String> {
            let alone = shape.columns().iter().filter(|column| other.find(&column.name).is_err());
            let alone = alone.filter(|column| !has_row_numbers(&column.name));
            alone.map(|column| column.name.clone()).collect()
        };
        let no_key = || Cause::NoKey { columns: self.per.clone() };
        let sums = |shape: &Shape| {
            let has = |name: &&String| shape.find(name).is_ok();
            let names = context.reconcile.iter().filter(has).cloned();
            Context { reconcile: names.collect(), ..context.clone() }
        };
        // A column that neither side has is looked up on the newer one, for the error.
        let neither = |name: &&String| now.find(name).is_err() && older.find(name).is_err();
        if let Some(name) = context.reconcile.iter().find(neither) {
            now.find(name)?;
        }
        let plan = ChangesPlan {
            step: self.step(),
            only_now: names(now, older),
            only_before: names(older, now),
            now_accounting: Accounting::prepare(now, &sums(now))?.warning_of([no_key()]),
            before_accounting: Accounting::prepare(older, &sums(older))?.warning_of([no_key()]),
            within: self.within,
            most_rows: self.most_rows,
            settings: self.clone(),
            latest,
        };
        // Records of one table may have the same key at two dates; two tables are divided.
        let division = before.map(|_| {
            Division::Entities(ByEntity {
                keys: vec![
                    pairs.iter().map(|pair| pair.of_events).collect(),
                    pairs.iter().map(|pair| pair.of_windows).collect(),
                ],
                folded: true,
                missing_is_a_key: self.missing_keys,
                date: None,
                order: ResultOrder::Columns((0..pairs.len()).collect()),
            })
        });
        let (kind, prepared) = (Kind::apart(division), Prepared::applied(Arc::new(plan)));
        let plan = Plan::new(&sides, context, (result, uses, kind), prepared);
        let plan = plan.limited(self.most_rows, crate::Smaller::FewerColumns);
        Ok(plan.with_roles(roles))
    }

    /// Prepares the operation for these tables. Errors name the cells that cause them.
    ///
    /// Errors: those of [`prepare`](Changes::prepare).
    pub fn prepare_for(
        &self,
        now: &Table,
        before: Option<&Table>,
        context: &Context,
    ) -> Result<Plan> {
        let shape = before.map(Table::shape);
        self.prepare(&now.shape(), shape.as_ref(), context)
            .map_err(|error| now.explained(keys::with_examples(error, now, before.unwrap_or(now))))
    }

    /// Lists what changed between two tables.
    ///
    /// Errors: the settings do not fit the tables; the data cannot be used.
    pub fn apply(&self, now: &Table, before: &Table) -> Result<Outcome> {
        self.apply_with(now, Some(before), &Context::new())
    }

    /// Lists what changed in one table between two dates.
    ///
    /// Errors: the settings do not fit the table; the data cannot be used.
    pub fn apply_between(&self, table: &Table) -> Result<Outcome> {
        self.apply_with(table, None, &Context::new())
    }

    /// Lists what changed in a context: time zone, sums to reconcile.
    ///
    /// Errors: the settings do not fit the tables; the data cannot be used.
    pub fn apply_with(
        &self,
        now: &Table,
        before: Option<&Table>,
        context: &Context,
    ) -> Result<Outcome> {
        let tables: Vec<&Table> = [now].into_iter().chain(before).collect();
        self.prepare_for(now, before, context)?.apply(&tables)
    }
}

/// The keys, and the columns of a change.
fn result_shape(
    now: &Shape,
    older: &Shape,
    pairs: &[Pair],
    compared: &[Compared],
) -> Result<Shape> {
    let keys = Shape::of_columns(pairs.iter().map(|pair| {
        let column = &now.columns()[pair.of_events];
        let kind = column.kind.filter(|kind| older.kind(pair.of_windows) == Some(*kind));
        ColumnShape::new(&column.name, kind)
    }));
    let kinds: Option<Vec<(Type, Type)>> = compared.iter().map(|column| column.kinds).collect();
    let value = kinds.as_ref().map(|kinds| common_type(kinds));
    let difference = kinds.as_ref().map(|kinds| difference_type(kinds));
    let columns = [
        ("change", Some(Type::Text)),
        ("column", Some(Type::Text)),
        ("before", value),
        ("now", value),
        ("difference", difference),
    ];
    let with = |shape: Shape, (name, kind)| shape.with_shape(ColumnShape::new(name, kind));
    columns.into_iter().try_fold(keys, with)
}

struct ChangesPlan {
    step: String,
    /// The columns of one side only.
    only_now: Vec<String>,
    only_before: Vec<String>,
    now_accounting: Accounting,
    before_accounting: Accounting,
    within: Option<Decimal>,
    most_rows: u64,
    settings: Changes,
    /// How the sides are made of one table, and the dates.
    latest: Option<(Latest, Between)>,
}

impl Apply for ChangesPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        match (&self.latest, tables) {
            (Some((latest, between)), [table, ..]) => {
                let as_of = |day| latest.apply_with(table, &context.clone().as_of(day));
                let (now, before) = (as_of(between.now)?, as_of(between.before)?);
                let mut outcome = self.compare(&now.table, &before.table)?;
                let other = outcome.ledger.other_side.take();
                let mut ledger = whole(now.ledger, outcome.ledger);
                let older = other.map(|other| Box::new(whole(before.ledger, *other)));
                if let Some(older) = &older
                    && older.rows_in > 0
                    && older.kept + older.rows(crate::Reason::Unchanged) == 0
                    && ledger.count("appeared") > 0
                {
                    ledger.warnings.push(Warning::NothingBefore { date: between.before });
                }
                ledger.other_side = older;
                outcome.ledger = ledger;
                outcome.set_aside = now.set_aside;
                Ok(outcome)
            }
            (_, [now, before, ..]) => self.compare(now, before),
            _ => Err(Error::OtherShape {
                prepared: "2 tables".to_owned(),
                found: "fewer tables".to_owned(),
            }),
        }
    }
}

/// The ledger of a side that was made by a step before: its rows are those of that step.
fn whole(made: Ledger, compared: Ledger) -> Ledger {
    let mut ledger = compared;
    ledger.from = made.from;
    ledger.as_of = made.as_of;
    ledger.zone = made.zone;
    ledger.rows_in = made.rows_in;
    ledger.dropped.extend(made.dropped);
    ledger.set_aside.extend(made.set_aside);
    ledger.warnings.extend(made.warnings);
    for (sums, of_all) in ledger.reconciled.iter_mut().zip(made.reconciled) {
        sums.came_in = of_all.came_in;
        sums.dropped = sums.dropped.clone().plus(&of_all.dropped);
        sums.set_aside = of_all.set_aside;
    }
    ledger.followed = made.followed.or(ledger.followed);
    ledger
}

impl ChangesPlan {
    /// Compares the records of both sides.
    fn compare(&self, now: &Table, before: &Table) -> Result<Outcome> {
        let (now_shape, before_shape) = (now.shape(), before.shape());
        let pairs = keys::pairs(&self.settings.per, &now_shape, &before_shape, "before")?;
        let compared = self.settings.compared(&now_shape, &before_shape, &pairs)?;
        let records = Records::match_records(&pairs, now, before, &self.settings)?;
        let differing = compare::differing(&compared, now, before, &records.both, self.within)?;
        let cells = ChangedCells {
            pairs: &pairs,
            compared: &compared,
            now,
            before,
            records: &records,
            differing,
        };
        let rows = cells.rows();
        if rows > self.most_rows {
            let advice = crate::Smaller::FewerColumns;
            return Err(Error::TooManyRows { rows, most: self.most_rows, widest: None, advice });
        }
        let changed = cells.changed();
        let (mut ledger, now_aside) =
            records.now_masks(&changed).account(self.step.clone(), now, &self.now_accounting)?;
        let (mut older, before_aside) = records.before_masks(&changed).account(
            "before".to_owned(),
            before,
            &self.before_accounting,
        )?;
        let count = changed.iter().filter(|is| **is).count() as u64;
        ledger.note("changed", count);
        ledger.note("appeared", records.appeared.len() as u64);
        ledger.note("changed cells", cells.cells());
        if cells.is_text() {
            ledger.note_columns("columns of different types, shown as text", compared.len() as u64);
        }
        let (table, too_large) = cells.table()?;
        ledger.note("differences too large to be exact, left out", too_large);
        older.note("changed", count);
        older.note("gone", records.gone.len() as u64);
        for (ledger, names) in [(&mut ledger, &self.only_now), (&mut older, &self.only_before)] {
            if !names.is_empty() {
                let name = format!("columns on this side only ({})", names.join(", "));
                ledger.note_columns(name, names.len() as u64);
            }
        }
        let appeared = records.appeared.iter().map(|row| *row as usize);
        let nearly = keys::nearly(&pairs, now, before, records.ids(), appeared, 0..before.rows())?;
        if let Some(Warning::KeysNearlyMatch { events: records, stray, window }) = nearly {
            let (now, before) = (stray, window);
            ledger.warnings.push(Warning::KeysNearlySame { records, now, before });
        }
        ledger.other_side = Some(Box::new(older));
        Ok(Outcome {
            table,
            ledger,
            set_aside: crate::within::both_aside(now_aside, before_aside, "before")?,
        })
    }
}

#[cfg(test)]
mod tests;
