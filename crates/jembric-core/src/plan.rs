//! [`Plan`]: an operation that is prepared for tables of known shapes.
//!
//! [`prepare`](crate::Operation::prepare) checks the settings once: names become places of columns,
//! words become enums, ranges and limits are checked. Without any data, the plan then knows the
//! shape of its result, the columns that it uses, and how it needs its rows. It can be applied to
//! any number of tables of that shape.
//!
//! Plans of the kind [`Kind::OnePass`] fold batches into a small state ([`Fold`]). Applied to a
//! whole table, they fold it as one batch, so that there is one algorithm for both.

mod division;
mod fold;
mod in_pieces;
mod inputs;
mod numbered;
mod outside;
mod prepared;
mod roles;

pub use division::{ByEntity, Division, EntityPart, Kind, Overall, ResultOrder};
pub use fold::Fold;
pub(crate) use fold::{DiscardedRows, Selection, SelectionState, State};
pub use in_pieces::InPieces;
pub(crate) use in_pieces::{Pieces, before_last_date, before_last_day};
pub(crate) use inputs::Inputs;
pub(crate) use numbered::{NumberedRows, Numbers};
pub use outside::RowsLeftOut;
use prepared::Work;
pub(crate) use prepared::{Apply, Beside, FoldBatches, InOrder, InParts, Prepared, handed_over};
pub(crate) use roles::Roles;

use crate::{
    context::{Context, Sink},
    error::{Error, Result, Smaller},
    ledger::Outcome,
    shape::Shape,
    table::Table,
};
use std::{collections::BTreeSet, fmt, sync::Arc};

/// An operation that is prepared for tables of known shapes. Cloning it is cheap.
///
/// ```
/// use jembric_core::{Context, Kind, Latest, Operation, Shape};
///
/// let shape = Shape::of_names(["vessel", "inspected_on", "grade"]);
/// let plan = Latest::new("inspected_on").per(["vessel"]).prepare(&shape, &Context::new())?;
/// assert!(matches!(plan.kind(), Kind::OnePass(Some(_))));
/// assert_eq!(plan.used(0).collect::<Vec<_>>(), [0, 1]);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone)]
pub struct Plan {
    inputs: Vec<Shape>,
    context: Context,
    result: Shape,
    more_columns: bool,
    kind: Arc<Kind>,
    uses: Inputs,
    /// The roles of the columns of the result; none if columns keep theirs.
    roles: Option<Arc<Roles>>,
    /// The limit on the rows of the result, and the advice if it is exceeded.
    most_rows: Option<(u64, Smaller)>,
    prepared: Prepared,
    /// The plan for the rows at the end of the result that are over all rows of the table.
    last_rows: Option<Prepared>,
}

impl fmt::Debug for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Plan { inputs, result, kind, uses, .. } = self;
        let mut debug = f.debug_struct("Plan");
        debug
            .field("inputs", inputs)
            .field("result", result)
            .field("kind", kind)
            .field("uses", uses);
        debug.finish_non_exhaustive()
    }
}

impl Plan {
    pub(crate) fn new(
        inputs: &[&Shape],
        context: &Context,
        (result, uses, kind): (Shape, Inputs, Kind),
        prepared: Prepared,
    ) -> Plan {
        Plan {
            inputs: inputs.iter().copied().cloned().collect(),
            context: context.clone(),
            result: result.anonymous(),
            more_columns: false,
            kind: Arc::new(kind),
            uses,
            roles: None,
            most_rows: None,
            prepared,
            last_rows: None,
        }
    }

    /// The same plan, whose result has columns with these roles.
    pub(crate) fn with_roles(self, roles: Roles) -> Plan {
        let result = roles.shape(self.result);
        Plan { result, roles: Some(Arc::new(roles)), ..self }
    }

    /// Gives the columns of a result their roles.
    pub(crate) fn with_its_roles(&self, outcome: Outcome) -> Outcome {
        Outcome { table: self.table_with_its_roles(&outcome.table), ..outcome }
    }

    fn table_with_its_roles(&self, table: &Table) -> Table {
        self.roles.as_ref().map_or_else(|| table.clone(), |roles| roles.table(table))
    }

    /// The same plan, with a result whose columns depend on the data.
    pub(crate) fn with_columns_of_the_data(self, more_columns: bool) -> Plan {
        Plan { more_columns, ..self }
    }

    /// The same plan, with the plan for the rows at the end of the result that no part has.
    pub(crate) fn with_last_rows(self, last_rows: Option<Prepared>) -> Plan {
        Plan { last_rows, ..self }
    }

    /// The same plan, whose result has at most this many rows.
    pub(crate) fn limited(self, rows: u64, advice: Smaller) -> Plan {
        Plan { most_rows: Some((rows, advice)), ..self }
    }

    /// Errors: some parts of the result have more rows than the whole may have.
    pub fn expect_rows(&self, rows: u64) -> Result<()> {
        match self.most_rows {
            Some((most, advice)) if rows > most => {
                Err(Error::TooManyRows { rows, most, widest: None, advice })
            }
            _ => Ok(()),
        }
    }

    /// What is known of a batch of the first table that is needed of all rows before a part of them
    /// can be processed; none if parts need nothing.
    pub fn survey(&self, batch: &Table) -> Result<Option<Overall>> {
        self.expect_table(0, batch)?;
        self.context.expect_wanted()?;
        let Some(parts) = &self.prepared.parts else { return Ok(None) };
        parts.survey(batch, &self.context)
    }

    /// The same plan for parts of the rows, of which all are known to be like this.
    #[must_use]
    pub fn for_parts(&self, overall: Overall) -> Plan {
        let parts = self.prepared.parts.as_ref();
        let prepared = parts.map_or_else(|| self.prepared.clone(), |plan| plan.for_parts(overall));
        Plan { prepared, ..self.clone() }
    }

    /// The same plan for one part of the entities, with rows of the first table that tell its
    /// types.
    pub fn for_part(&self, part: EntityPart, sample: &Table) -> Result<Plan> {
        let parts = self.prepared.parts.as_ref();
        let prepared = parts.map(|plan| plan.for_part(part, sample)).transpose()?.flatten();
        Ok(Plan { prepared: prepared.unwrap_or_else(|| self.prepared.clone()), ..self.clone() })
    }

    /// The plan for the rows at the end of the result that are over all rows of the table, and that
    /// no part has; none if there are no such rows.
    pub fn last_rows(&self) -> Option<Plan> {
        let prepared = self.last_rows.clone()?;
        Some(Plan { prepared, last_rows: None, ..self.clone() })
    }

    /// The names and types of the result's columns; none if they depend on the data.
    pub fn shape(&self) -> Option<&Shape> {
        (!self.more_columns).then_some(&self.result)
    }

    /// The columns of the result that do not depend on the data.
    pub fn known_columns(&self) -> &Shape {
        &self.result
    }

    /// How the plan works on the rows of its tables.
    pub fn kind(&self) -> &Kind {
        &self.kind
    }

    /// The places of the columns of a table that the plan itself uses, in order.
    pub fn used(&self, table: usize) -> impl Iterator<Item = usize> + '_ {
        self.uses.used(table)
    }

    /// The places of each table's columns that are needed for some columns of the result, in order.
    /// Without names, all columns of the result are needed.
    pub fn needed(&self, of_result: Option<&BTreeSet<String>>) -> Vec<Vec<usize>> {
        let is_needed = |place: usize| {
            of_result.is_none_or(|names| {
                self.result.columns().get(place).is_none_or(|column| names.contains(&column.name))
            })
        };
        self.uses.needed(self.inputs.len(), is_needed)
    }

    /// Applies the plan to tables of the shapes that it was prepared for.
    ///
    /// Errors: a table of another shape; errors of the operation about the data.
    pub fn apply(&self, tables: &[&Table]) -> Result<Outcome> {
        self.expect(tables)?;
        self.context.expect_wanted()?;
        match self.folded(tables)? {
            Some(fold) => fold.finish(),
            None => {
                let plan = self.prepared.expect_applied()?;
                Ok(self.with_its_roles(plan.apply(tables, &self.context)?))
            }
        }
    }

    /// The state of whole tables; none if the plan does not fold.
    fn folded(&self, tables: &[&Table]) -> Result<Option<Fold>> {
        let Some(mut fold) = self.begin() else { return Ok(None) };
        for (place, table) in tables.iter().enumerate() {
            fold.take_table(place, table, 0)?;
        }
        Ok(Some(fold))
    }

    /// Applies the plan and delivers the result in batches, the first of which may be empty. The
    /// table of the outcome has no rows.
    ///
    /// Errors: as for [`apply`](Plan::apply), and those of the sink.
    pub fn apply_into(&self, tables: &[&Table], sink: &mut Sink<'_>) -> Result<Outcome> {
        self.expect(tables)?;
        self.context.expect_wanted()?;
        if let Some(fold) = self.folded(tables)? {
            return fold.finish_into(sink);
        }
        let mut sink = |batch: &Table| {
            self.context.expect_wanted()?;
            sink(&self.table_with_its_roles(batch))
        };
        let plan = self.prepared.expect_applied()?;
        let outcome = plan.apply_into(tables, &self.context, &mut sink);
        // If the run was cancelled, the sink has failed because of that.
        self.context.expect_wanted()?;
        Ok(self.with_its_roles(outcome?))
    }

    /// The plan for the rows of one entity, which come in pieces, in order of their dates; none
    /// unless the division is [`Division::Dates`], or [`Division::Entities`] with a date.
    pub fn in_order(&self) -> Option<InPieces> {
        match &self.prepared.work {
            Work::InOrder(plan) => Some(InPieces::new(self.clone(), plan.clone().begin())),
            _ => None,
        }
    }

    /// The plan for any rows of the first table that follow each other, beside all rows of the
    /// second; none if both are needed as a whole.
    ///
    /// Errors: a second table of another shape.
    pub fn beside(&self, second: &Table) -> Result<Option<InPieces>> {
        self.expect_table(1, second)?;
        match &self.prepared.work {
            Work::Beside(plan) => {
                Ok(Some(InPieces::new(self.clone(), plan.clone().begin(second.clone()))))
            }
            _ => Ok(None),
        }
    }

    /// An empty fold; none unless the kind is [`Kind::OnePass`].
    pub fn begin(&self) -> Option<Fold> {
        match &self.prepared.work {
            Work::Fold(plan) => Some(Fold::new(self.clone(), plan.clone().begin(&self.context))),
            _ => None,
        }
    }

    /// Whether both are the same plan that folds, and not two equal ones.
    pub(crate) fn is(&self, other: &Plan) -> bool {
        match (&self.prepared.work, &other.prepared.work) {
            (Work::Fold(one), Work::Fold(other)) => Arc::ptr_eq(one, other),
            _ => false,
        }
    }

    fn expect(&self, tables: &[&Table]) -> Result<()> {
        if tables.len() != self.inputs.len() {
            let tables_of =
                |count: usize| format!("{count} {}", if count == 1 { "table" } else { "tables" });
            let (prepared, found) = (tables_of(self.inputs.len()), tables_of(tables.len()));
            return Err(Error::OtherShape { prepared, found });
        }
        self.inputs
            .iter()
            .zip(tables)
            .try_for_each(|(shape, table)| shape.expect_same(&table.shape()))
    }

    pub(crate) fn expect_table(&self, place: usize, table: &Table) -> Result<()> {
        self.inputs.get(place).map_or(Ok(()), |shape| shape.expect_same(&table.shape()))
    }
}

#[cfg(test)]
mod tests;
