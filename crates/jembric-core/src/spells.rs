//! [`Spells`]: unbroken stretches of time, made from intervals that overlap or touch or from dated
//! states that do not change, and the gaps between them.
//!
//! Intervals are grouped by entity, sorted by start, and joined in one scan. States come from the
//! timeline (`of_intervals`, `of_states`). Entities are processed in parallel.

mod in_order;
mod of_intervals;
mod of_states;

use crate::{
    calendar::Day,
    context::Context,
    entities::{Entities, Missing},
    error::{Result, excludes, in_setting, refuse},
    intervals::{EndDay, OpenEnds, Rules},
    kind::Type,
    ledger::{Accounting, Cause, Outcome},
    operation::{Operation, callable},
    ordering::entities_in_order,
    plan::{
        Apply, ByEntity, InOrder, InParts, Inputs, Kind, Overall, Pieces, Plan, Prepared,
        ResultOrder, Roles,
    },
    role::Role,
    shape::{Named, Shape},
    table::Table,
};
use in_order::Carrying;
use serde::Serialize;
use std::sync::Arc;

/// Makes the unbroken spells of each entity: `per…, start, end, days, records`, sorted by entity
/// and start.
///
/// * From intervals: those that overlap, touch, or leave a gap of at most
///   [`join_gaps`](Spells::join_gaps) days become one spell. [`idle`](Spells::idle) gives the gaps
///   between an entity's spells instead (`per…, start, end, days`). The end has the meaning of the
///   intervals' ends: with exclusive end days it is the day after the last active one. An open
///   interval lasts to the as-of date, and nothing after that date counts: an interval that ends
///   later has not ended yet, and one that starts later is dropped. A spell that has not ended by
///   the as-of date has no end, and its days are counted up to that date. Without an as-of date,
///   open intervals last to the newest date of both columns.
/// * From dated states: each record holds until the day before the entity's next one, and
///   neighbours with equal values are one spell. The last spell has no end; its days are counted up
///   to the as-of date, if there is one. Of several records on one day the last moment counts. At
///   the same moment the greatest values count, and the ledger counts such ties.
///
/// Points in time are converted to days in [`Context::zone`]. Set aside: rows without a start or
/// date, rows that end before they start, rows without a key. Dropped: open intervals if
/// `open-ends` is `drop`, intervals and states that start after the as-of date, intervals without
/// an active day.
///
/// Errors: a column is missing or holds no dates; missing ends are refused; settings for intervals
/// are mixed with those for states. Cost: one numbering of the entities, one random access for each
/// row, and n log n within an entity.
///
/// ```
/// use jembric_core::{Spells, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let arrived: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_003, 20_009]));
/// let left: ArrayRef = Arc::new(Date32Array::from(vec![20_002, 20_005, 20_010]));
/// let stays = Table::from_columns([("arrived", arrived), ("left", left)])?;
///
/// let spells = Spells::of_intervals("arrived", "left").apply(&stays)?;
/// assert_eq!(spells.table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "spells",
    does = "Join intervals or unchanged states into unbroken spells, or list the gaps between them",
    answers = "When was each berth in use without a break, and when was it idle?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Spells {
    /// Identify the entity by these columns. Without them the whole table is one entity.
    #[setting(columns)]
    pub per: Vec<String>,
    /// The column of start dates.
    #[setting(column, plain)]
    pub start: Option<String>,
    /// The column of end dates.
    #[setting(column, plain)]
    pub end: Option<String>,
    /// The column of dates of states, each of which holds until the next; instead of `start` and
    /// `end`.
    #[setting(column, plain)]
    pub date: Option<String>,
    /// The columns that make the state; needs `date`.
    #[setting(columns, plain)]
    pub value: Vec<String>,
    /// Join spells across gaps of at most this many days.
    #[setting(number)]
    pub join_gaps: u32,
    /// List the gaps between an entity's spells instead of the spells.
    #[setting(yes)]
    pub idle: bool,
    /// Count the end day as active, or not. The default is `inclusive`.
    #[setting(one_of)]
    pub end_day: EndDay,
    /// Let intervals without an end last until the as-of date (or the newest date of both columns),
    /// drop them, or refuse them. The default is `as-of`.
    #[setting(one_of)]
    pub open_ends: OpenEnds,
    /// Treat these end dates as missing, such as 9999-12-31.
    #[setting(texts = "DATE,…")]
    pub never_ends: Vec<Day>,
}

callable!(Spells);

impl Spells {
    /// Makes spells from intervals between these columns.
    pub fn of_intervals(start: impl Into<String>, end: impl Into<String>) -> Spells {
        Spells { start: Some(start.into()), end: Some(end.into()), ..Spells::default() }
    }

    /// Makes spells from states: the values of these columns, from this date on.
    pub fn of_states<N: Into<String>>(
        date: impl Into<String>,
        value: impl IntoIterator<Item = N>,
    ) -> Spells {
        Spells {
            date: Some(date.into()),
            value: value.into_iter().map(Into::into).collect(),
            ..Spells::default()
        }
    }

    fn check_settings(&self) -> Result<()> {
        let error = refuse::<()>;
        let of_intervals = self.join_gaps > 0 || self.idle || self.end_day == EndDay::Exclusive;
        match (&self.start, &self.end, &self.date) {
            (Some(_), Some(_), None) if !self.value.is_empty() => {
                error("value", "given", "`date` beside it")
            }
            (Some(_), Some(_), None) => Ok(()),
            (None, None, Some(_)) if self.value.is_empty() => {
                error("value", "not given", "the columns that make the state")
            }
            (None, None, Some(_))
                if of_intervals
                    || self.open_ends != OpenEnds::AsOf
                    || !self.never_ends.is_empty() =>
            {
                excludes(
                    "date",
                    "`join-gaps`, `idle`, `end-day`, `open-ends` and `never-ends`, which need \
                     `start` and `end`",
                )
            }
            (None, None, Some(_)) => Ok(()),
            (_, _, Some(_)) => excludes("date", "`start` and `end`"),
            (None, ..) => {
                error("start", "not given", "the column of starts, or `date` and `value`")
            }
            (_, None, _) => error("end", "not given", "the column of ends"),
        }
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" per {}", self.per.join(", "))
        };
        let what = if self.idle { "idle time between spells" } else { "spells" };
        match (&self.start, &self.end, &self.date) {
            (Some(start), Some(end), _) => {
                let gaps = if self.join_gaps > 0 {
                    format!(", gaps up to {} days joined", self.join_gaps)
                } else {
                    String::new()
                };
                format!("{what}{per} from {start} to {end}{gaps}")
            }
            _ => format!(
                "{what}{per} of {} by {}",
                self.value.join(", "),
                self.date.as_deref().unwrap_or_default()
            ),
        }
    }
}

impl Operation for Spells {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        self.check_settings()?;
        let per = in_setting("per", || shape.named(&self.per))?;
        let mut causes = vec![Cause::no_key(&per)];
        causes.extend(self.date.iter().flat_map(|date| {
            let column = || date.clone();
            [Cause::NoDate { column: column() }, Cause::AfterAsOf { column: column() }]
        }));
        if let (Some(start), Some(end)) = (&self.start, &self.end) {
            causes.push(Cause::NoDate { column: start.clone() });
            causes.push(Cause::AfterAsOf { column: start.clone() });
            causes.push(Cause::Reversed { start: start.clone(), end: end.clone() });
        }
        let accounting = Accounting::prepare(shape, context)?.warning_of(causes);
        let place = |setting, name: &Option<String>| {
            in_setting(setting, || shape.place_of_dates(name.as_deref().unwrap_or_default()))
        };
        let mut named = per.clone();
        let mut kind = Type::DAYS;
        let mut uses = Inputs::new().using_named(&per).accounting(&accounting);
        let spells_of = if self.date.is_some() {
            let date = place("date", &self.date)?;
            let value = in_setting("value", || shape.named(&self.value))?;
            kind = shape.kind(date).and_then(Type::periods).map_or(Type::DAYS, Type::Date);
            uses = uses.using([date]).using_named(&value);
            named.extend(value.iter().cloned());
            SpellsOf::States { date, value }
        } else {
            let rules = Rules {
                start: place("start", &self.start)?,
                end: place("end", &self.end)?,
                end_day: self.end_day,
                open_ends: self.open_ends,
                never_ends: self.never_ends.clone(),
                range: None,
                hours: false,
                only_until_as_of: true,
            };
            uses = uses.using([rules.start, rules.end]);
            SpellsOf::Intervals(rules)
        };
        let result = shape
            .select(&named)?
            .with("start", kind)?
            .with("end", kind)?
            .with("days", Type::Integer)?;
        let result = if self.idle { result } else { result.with("records", Type::Integer)? };
        // States end on the day before the next one; intervals end as their column does.
        let is_exclusive = self.date.is_none() && self.end_day == EndDay::Exclusive;
        let end = if is_exclusive { Role::ExclusiveEnd } else { Role::End };
        let roles = Roles::default().keys(&named).with("start", Role::Start).with("end", end);
        let plan = SpellsPlan {
            step: self.step(),
            per,
            spells_of,
            join_gaps: self.join_gaps,
            idle: self.idle,
            newest: None,
            accounting,
        };
        let order = ResultOrder::Columns((0..plan.per.len()).collect());
        let keys = plan.per.iter().map(|key| key.place);
        let division = ByEntity::or_dates(keys, plan.spells_of.date(), order);
        let kind = Kind::Divided(division);
        let plan = Plan::new(&[shape], context, (result, uses, kind), plan.prepared());
        Ok(plan.with_roles(roles))
    }
}

/// What spells are made from.
#[derive(Clone)]
enum SpellsOf {
    Intervals(Rules),
    /// Values that hold from a date on.
    States {
        date: usize,
        value: Vec<Named>,
    },
}

impl SpellsOf {
    /// The column by which spells are in order.
    fn date(&self) -> usize {
        match self {
            SpellsOf::Intervals(rules) => rules.start,
            SpellsOf::States { date, .. } => *date,
        }
    }
}

#[derive(Clone)]
struct SpellsPlan {
    step: String,
    per: Vec<Named>,
    spells_of: SpellsOf,
    join_gaps: u32,
    idle: bool,
    /// The newest tick of all rows, if these are only a part of them.
    newest: Option<i32>,
    accounting: Accounting,
}

/// A piece of the rows, with the spell that is left of the rows before it.
struct Piece<'a, S> {
    left: &'a mut Option<S>,
    are_last: bool,
}

impl SpellsPlan {
    fn prepared(self) -> Prepared {
        let plan = Arc::new(self);
        Prepared::in_order(plan.clone()).in_parts(plan)
    }
}

impl InParts for SpellsPlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        Ok(match &self.spells_of {
            SpellsOf::Intervals(rules) => rules.newest_of_part(table, context),
            SpellsOf::States { .. } => None,
        })
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        SpellsPlan { newest: overall.newest, ..self.clone() }.prepared()
    }
}

impl InOrder for SpellsPlan {
    fn begin(self: Arc<Self>) -> Box<dyn Pieces> {
        Box::new(Carrying::begin(self))
    }
}

impl Apply for SpellsPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let table = tables[0];
        match &self.spells_of {
            SpellsOf::States { date, value } => {
                self.of_dated_states(table, *date, value, None, context)
            }
            SpellsOf::Intervals(rules) => {
                let entities = self.entities(table)?;
                self.of_table_intervals(table, rules, &entities, None, context)
            }
        }
    }
}

impl SpellsPlan {
    fn entities(&self, table: &Table) -> Result<Entities> {
        Entities::of_columns(&table.columns_at(&self.per), table.rows(), Missing::NoEntity)
    }

    /// The entities in the order of their keys.
    fn order(&self, table: &Table, entities: &Entities) -> Result<Vec<usize>> {
        if self.per.is_empty() {
            Ok((0..entities.count()).collect())
        } else {
            entities_in_order(table, &self.per, entities)
        }
    }
}

#[cfg(test)]
mod tests;
