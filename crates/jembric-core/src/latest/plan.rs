//! Prepares `latest` and `earliest`, and applies them as plans.

use super::{Ties, best_so_far::BestSoFar, record::RecordPlan, states::STATE_ON};
use crate::{
    calendar::Grain,
    context::Context,
    error::{Result, Smaller, excludes, in_setting, refuse},
    kind::Type,
    ledger::{Accounting, Cause, Outcome},
    plan::{
        Apply, ByEntity, DiscardedRows, FoldBatches, InParts, Inputs, Kind, Overall, Plan,
        Prepared, ResultOrder, Roles, Selection, SelectionState, State,
    },
    role::Role,
    shape::Shape,
    table::Table,
};
use std::sync::Arc;

/// The settings of either operation.
pub(super) struct RecordSettings<'a> {
    pub(super) word: &'static str,
    pub(super) per: &'a [String],
    pub(super) date: &'a str,
    pub(super) then: &'a [String],
    pub(super) ties: Ties,
    /// The number of dates of each entity, and the name of that setting.
    pub(super) dates: (&'static str, u32),
    pub(super) mark: Option<&'a str>,
    pub(super) earliest: bool,
    /// The periods of `at_each`, and the limit on rows.
    pub(super) at_each: Option<(Grain, u64)>,
}

impl RecordSettings<'_> {
    pub(super) fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let date = in_setting("date", || shape.place_of_dates(self.date))?;
        let per = in_setting("per", || shape.named(self.per))?;
        let then = in_setting("then", || shape.named(self.then))?;
        let accounting = Accounting::prepare(shape, context)?.warning_of([
            Cause::NoDate { column: self.date.to_owned() },
            Cause::no_key(&per),
            Cause::AfterAsOf { column: self.date.to_owned() },
        ]);
        let names = [&per[..], &then[..]].concat();
        let result = in_setting("per", || shape.renamed(&names))?;
        let result = match (self.at_each, self.mark) {
            (Some((Grain::Hour, _)), _) => return refuse("at-each", "hour", "a day or longer"),
            (Some(_), Some(_)) => return excludes("mark", "`at-each`"),
            (Some(_), _) if self.dates.1 > 1 => {
                return refuse(self.dates.0, "more than 1", "1, because `at-each` is given");
            }
            (Some(_), None) => result.with(STATE_ON, Type::DAYS)?,
            (None, Some(name)) => in_setting("mark", || result.with(name, Type::Boolean))?,
            (None, None) => result,
        };
        let uses = Inputs::passing(shape).using([date]).using_named(&names).accounting(&accounting);
        // The first number of a record is what holds until its next state.
        let mut roles = Roles::default().keys(&per);
        let is_key = |place: usize| per.iter().any(|key| key.place == place);
        let number = result.columns().iter().enumerate().find(|(place, column)| {
            !is_key(*place) && column.kind.is_some_and(|kind| kind.is_number())
        });
        match (self.at_each, number) {
            (Some(_), Some((_, number))) => {
                roles = roles.with(STATE_ON, Role::Date).with(&number.name, Role::State);
            }
            (Some(_), None) => roles = roles.with(STATE_ON, Role::Date),
            (None, _) => roles = roles.with(&result.columns()[date].name, Role::Event),
        }
        let plan = RecordPlan {
            shape: shape.clone(),
            step: self.step(),
            date_name: self.date.to_owned(),
            date,
            per,
            then,
            names,
            ties: self.ties,
            several: self.dates.1,
            mark: self.mark.map(str::to_owned),
            earliest: self.earliest,
            at_each: self.at_each,
            last_period: None,
            accounting,
        };
        // States are in the order of their dates and keys, and other records in that of rows.
        let keys = plan.per.iter().map(|key| key.place);
        let order = match self.at_each {
            Some(_) => {
                let date = result.columns().len() - 1;
                ResultOrder::Columns(std::iter::once(date).chain(keys.clone()).collect())
            }
            None => ResultOrder::Rows(0),
        };
        let division = ByEntity::division(keys, order);
        // If all rows are kept and only marked, a small state cannot hold them.
        let kind =
            if self.mark.is_some() { Kind::apart(division) } else { Kind::OnePass(division) };
        let plan = Plan::new(&[shape], context, (result, uses, kind), plan.prepared());
        let plan = match self.at_each {
            Some((_, most)) => plan.limited(most, Smaller::LongerGrain),
            None => plan,
        };
        Ok(plan.with_roles(roles))
    }

    fn step(&self) -> String {
        let per = if self.per.is_empty() {
            String::new()
        } else {
            format!(" per {}", self.per.join(", "))
        };
        let several = if self.dates.1 == 1 {
            String::new()
        } else {
            format!(", {} dates each", self.dates.1)
        };
        let at_each = self
            .at_each
            .map(|(grain, _)| format!(", at the end of each {grain}"))
            .unwrap_or_default();
        format!("{}{per} by {}{several}{at_each}", self.word, self.date)
    }
}

impl RecordPlan {
    fn prepared(self) -> Prepared {
        let (marks, plan) = (self.mark.is_some(), Arc::new(self));
        let prepared =
            if marks { Prepared::applied(plan.clone()) } else { Prepared::folded(plan.clone()) };
        prepared.in_parts(plan)
    }
}

impl Apply for RecordPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        self.select(tables[0], DiscardedRows::default(), context)
    }
}

impl InParts for RecordPlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        let rows = self.rows(table, context)?;
        let Some(states) = &rows.states else { return Ok(None) };
        let periods = states.ends(&rows.considered);
        Ok(Some(Overall { periods, ..Overall::default() }))
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        let last_period = overall.periods.map(|(_, last)| last);
        RecordPlan { last_period, ..self.clone() }.prepared()
    }
}

impl FoldBatches for RecordPlan {
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State> {
        if self.several == 1 && self.at_each.is_none() {
            BestSoFar::begin(self, context)
        } else {
            SelectionState::begin(self, context)
        }
    }
}
