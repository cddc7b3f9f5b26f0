//! [`OfAll`]: what a plan for a part of the rows knows of all rows.

use super::{
    TotalsPlan,
    cells::Keys,
    partial::{DatedRows, over},
};
use crate::{
    context::Context,
    error::Result,
    ordering::distinct,
    plan::{ByEntity, EntityPart, Overall, ResultOrder},
    table::Table,
};

/// What is known of all rows.
#[derive(Clone)]
pub(super) struct OfAll {
    pub(super) overall: Overall,
    /// Whether this is the first part, whose ledger counts what is counted once.
    pub(super) is_first: bool,
}

impl TotalsPlan {
    /// What parts need to know of some rows.
    pub(super) fn surveyed(&self, table: &Table, context: &Context) -> Result<Overall> {
        let by_date = DatedRows::by_date(self, table, context)?;
        let mut overall = Overall::default();
        for dated in by_date.iter().filter(|dated| dated.timed.axis.is_some()) {
            let of_date = Overall {
                periods: dated.timed.ends(&dated.used),
                with_record: dated.timed.distinct(&dated.used).into_iter().collect(),
                ..Overall::default()
            };
            overall = overall.plus(of_date)?;
        }
        if !self.side.is_empty() {
            // A value that no counted row has is shown only with `dense`.
            let values = table.select(&self.side)?;
            let used = over(&by_date, |dated| &dated.used, |one, other| one | other);
            let values = if self.dense { values } else { values.filter(&used)? };
            overall.side_by_side = Some(distinct(&values)?);
        }
        Ok(overall)
    }

    /// The keys, by their places among those of rows, by which rows can be divided: a figure over
    /// all values of a key needs all rows with the other keys.
    pub(super) fn dividing_keys(&self) -> Vec<usize> {
        if self.every_combination {
            return Vec::new();
        }
        let is_over = |key: &usize| self.scopes.iter().any(|scope| scope.is_over(*key));
        (0..self.per.len()).filter(|key| !is_over(key)).collect()
    }

    /// The plan for one part of the entities.
    pub(super) fn of_part(&self, part: EntityPart, sample: &Table) -> Result<TotalsPlan> {
        let mut plan = self.clone();
        plan.of_all.iter_mut().for_each(|all| all.is_first &= part.number == 0);
        let Some(list) = &self.entities else { return Ok(plan) };
        // The listed entities are divided as those of the rows are.
        let keys = list.after(&sample.head(0), &self.per)?;
        if let Some(division) = ByEntity::by(self.dividing_keys(), ResultOrder::Rows(0)) {
            let division = ByEntity { missing_is_a_key: true, ..division };
            let parts = division.parts(0, &keys, &[&keys], (part.parts, part.seed))?;
            plan.entities = Some(list.only(|n| parts[n] == part.number));
        }
        Ok(plan)
    }

    /// The values side by side of a table's rows, followed by those of all rows; none if these are
    /// all rows.
    pub(super) fn sides_of_all(&self, table: &Table) -> Result<Option<Table>> {
        let sides = self.of_all.as_ref().and_then(|all| all.overall.side_by_side.clone());
        let Some(sides) = sides else { return Ok(None) };
        let own = table.select(&self.side)?;
        Ok(Some(Table::joined(&own.anonymous(), &[sides.anonymous()])?))
    }

    /// Which of these values are side by side in the result for all rows; none if that is decided
    /// by these rows.
    pub(super) fn shown_sides(&self, values: &Keys) -> Result<Option<Vec<bool>>> {
        let sides = self.of_all.as_ref().and_then(|all| all.overall.side_by_side.clone());
        let Some(sides) = sides else { return Ok(None) };
        let (all, own, shown) = Keys::merged(values, &Keys::of_values(sides)?)?;
        let mut is_shown = vec![false; all.count];
        shown.iter().for_each(|&place| is_shown[place as usize] = true);
        Ok(Some(own.into_iter().map(|place| is_shown[place as usize]).collect()))
    }

    /// Whether the result ends with the row of totals.
    pub(super) fn has_last_row(&self) -> bool {
        self.margins && (self.of_all.is_none() || self.only_last_row)
    }

    /// Whether the ledger counts what is counted once.
    pub(super) fn counts_once(&self) -> bool {
        self.of_all.as_ref().is_none_or(|all| all.is_first)
    }
}
