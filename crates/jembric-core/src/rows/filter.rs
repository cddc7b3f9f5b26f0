//! [`Filter`]: the rows of which a condition is true.

use super::check_reconciled;
use crate::{
    error::Result,
    expression::Expression,
    ledger::{Fates, Outcome, Reason},
    operation::{Context, Operation, Setting, Takes, called_alone},
    shape::{Shape, Type},
    table::Table,
};
use arrow_array::Array;
use arrow_buffer::BooleanBuffer;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The rows of which a condition is true: `level > 3.2 and weekday(day) in (tue, thu)`.
///
/// Rows come out in the order they came in. Dropped: rows of which it is not true, and, counted apart, those of which it is
/// undecided because it compares a missing value. See [`Expression`] for what a condition can say.
///
/// Errors: the condition cannot be understood, or not of these columns. Costs one pass for each sign and function of the
/// condition, and one read and write of what is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Filter {
    /// The condition.
    pub condition: String,
    /// Keep all rows, and tell in a column of this name of which it is true. It is missing where that is undecided.
    #[serde(default)]
    pub mark: Option<String>,
}

called_alone!(Filter);

impl Filter {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "filter";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "Of which rows is a condition true?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "condition",
            Takes::Expression,
            "The condition, such as 'level > 3.2 and weekday(day) in (tue, thu)'; README.md tells all that it can say",
        )
        .required(),
        Setting::new("mark", Takes::Name, "Keep all rows, and tell in a column of this name of which it is true"),
    ];

    /// The rows of which this condition is true.
    pub fn new(condition: impl Into<String>) -> Filter {
        Filter { condition: condition.into(), mark: None }
    }

    /// Keep all rows, and tell in a column of this name of which it is true.
    pub fn mark(mut self, name: impl Into<String>) -> Filter {
        self.mark = Some(name.into());
        self
    }
}

impl Operation for Filter {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.condition.parse::<Expression>()?.check_condition(shape, context)?;
        check_reconciled(shape, context)?;
        self.mark.as_ref().map_or_else(|| Ok(shape.clone()), |name| shape.with(name, Type::Boolean))
    }

    fn is_row_by_row(&self, _: &Shape, _: &Context) -> bool {
        true
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context)?;
        let condition: Expression = self.condition.parse()?;
        let (truth, unanswered) = condition.condition(table, context)?;
        let (kept, dropped) = match truth.nulls() {
            None => {
                let not_true = !truth.values();
                (truth.values().clone(), vec![(Reason::ConditionNotTrue, not_true)])
            }
            Some(decided) => {
                let kept: BooleanBuffer = truth.values() & decided.inner();
                let not_true = decided.inner() & &!&kept;
                let undecided = !decided.inner();
                let dropped =
                    vec![(Reason::ConditionNotTrue, not_true), (Reason::ConditionUndecided, undecided)];
                (kept, dropped)
            }
        };
        let fates = Fates { kept: kept.clone(), dropped, set_aside: Vec::new() };
        let step = format!("filter {condition}");
        let mut outcome = match &self.mark {
            None => {
                let (ledger, set_aside) = fates.account(step, table, context)?;
                Outcome { table: table.filter(&kept)?, ledger, set_aside }
            }
            Some(name) => {
                let (mut ledger, set_aside) = fates.account_of_all_kept(step, table, context)?;
                ledger.counts.insert(0, ("marked".into(), kept.count_set_bits() as u64));
                Outcome { table: table.with_column(name, Arc::new(truth))?.anonymous(), ledger, set_aside }
            }
        };
        condition.tell(&mut outcome.ledger, unanswered, &table.shape(), context);
        Ok(outcome)
    }
}
