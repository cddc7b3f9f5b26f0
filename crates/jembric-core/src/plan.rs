//! [`Plan`]: an operation that is prepared for tables of known shapes.
//!
//! [`prepare`](crate::Operation::prepare) checks the settings once: names become places of columns,
//! words become enums, ranges and limits are checked. Without any data, the plan then knows the
//! shape of its result, the columns that it uses, and how it needs its rows. It can be applied to
//! any number of tables of that shape.
//!
//! Plans with [`Access::OnePass`] fold batches into a small state ([`Fold`]). Applied to a whole
//! table, they fold it as one batch, so that there is one algorithm for both.

mod division;
mod fold;
mod in_pieces;
mod inputs;
mod numbered;
mod outside;
mod roles;

pub use division::{ByEntity, Division, EntityPart, Overall, ResultOrder};
pub use fold::Fold;
pub(crate) use fold::{DiscardedRows, Selection, SelectionState, State};
pub use in_pieces::InPieces;
pub(crate) use in_pieces::{Pieces, before_last_date, before_last_day};
pub(crate) use inputs::Inputs;
pub(crate) use numbered::{NumberedRows, Numbers};
pub use outside::Judged;
pub(crate) use roles::Roles;

use crate::{
    context::{Context, Sink},
    error::{Error, Result, Smaller},
    ledger::Outcome,
    shape::Shape,
    table::Table,
};
use std::{collections::BTreeSet, fmt, sync::Arc};

/// How a plan needs the rows of its tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Access {
    /// Each row of the result comes from one row of the table, so any group of rows can be
    /// processed separately.
    ByRow,
    /// One pass over the rows in any order, with a small state. The states of different rows can be
    /// merged.
    OnePass,
    /// All rows of one entity together. Entities do not depend on each other.
    ByEntity,
    /// All rows, in one order.
    Ordered,
}

/// The error of a plan that folds, and was applied in another way.
pub(crate) const NOT_FOLDED: Error = Error::Broken { invariant: "a plan that folds was applied" };

/// The implementation of a plan.
pub(crate) trait Prepared: Send + Sync {
    /// The result for tables of the shapes that it was prepared for. A plan that always folds needs
    /// none.
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        let _ = (tables, context);
        Err(NOT_FOLDED)
    }

    /// Delivers the result in batches. The table of the outcome has no rows.
    fn apply_into(
        &self,
        tables: &[&Table],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> Result<Outcome> {
        handed_over(self.apply(tables, context)?, sink)
    }

    /// What is known of a batch that is needed of all rows before a part of them can be processed;
    /// none if parts need nothing.
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        let _ = (table, context);
        Ok(None)
    }

    /// The same plan for parts of the rows, which together are like this; none if it does not
    /// matter.
    fn for_parts(&self, overall: Overall) -> Option<Arc<dyn Prepared>> {
        let _ = overall;
        None
    }

    /// The same plan for one part of the entities, with rows of the table that tell its types; none
    /// if it is the same for each part.
    fn for_part(&self, part: EntityPart, sample: &Table) -> Result<Option<Arc<dyn Prepared>>> {
        let _ = (part, sample);
        Ok(None)
    }

    /// The plan for the rows at the end of the result that are over all rows of the table, and that
    /// no part has; none if there are no such rows.
    fn last_rows(&self) -> Option<Arc<dyn Prepared>> {
        None
    }

    /// What is carried from piece to piece if the rows are of one entity and come in order of
    /// their dates, at the beginning; none if they must come together.
    fn in_order(self: Arc<Self>) -> Option<Box<dyn Pieces>> {
        None
    }

    /// What is carried from piece to piece of the first table beside all rows of the second; none
    /// if both are needed as a whole.
    fn beside(self: Arc<Self>, second: Table) -> Option<Box<dyn Pieces>> {
        let _ = second;
        None
    }

    /// The empty state of a fold, if the plan has [`Access::OnePass`].
    fn begin(self: Arc<Self>, context: &Context) -> Option<Box<dyn State>> {
        let _ = context;
        None
    }
}

/// Delivers a result that is complete.
pub(crate) fn handed_over(outcome: Outcome, sink: &mut Sink<'_>) -> Result<Outcome> {
    sink(&outcome.table).map_err(Error::Sink)?;
    Ok(Outcome { table: outcome.table.emptied(), ..outcome })
}

/// An operation that is prepared for tables of known shapes. Cloning it is cheap.
///
/// ```
/// use jembric_core::{Access, Context, Latest, Operation, Shape};
///
/// let shape = Shape::of_names(["vessel", "inspected_on", "grade"]);
/// let plan = Latest::new("inspected_on").per(["vessel"]).prepare(&shape, &Context::new())?;
/// assert_eq!(plan.access(), Access::OnePass);
/// assert_eq!(plan.used(0).collect::<Vec<_>>(), [0, 1]);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone)]
pub struct Plan {
    inputs: Vec<Shape>,
    context: Context,
    result: Shape,
    more_columns: bool,
    access: Access,
    uses: Inputs,
    /// The roles of the columns of the result; none if columns keep theirs.
    roles: Option<Arc<Roles>>,
    division: Option<Arc<Division>>,
    /// The limit on the rows of the result, and the advice if it is exceeded.
    most_rows: Option<(u64, Smaller)>,
    prepared: Arc<dyn Prepared>,
}

impl fmt::Debug for Plan {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Plan { inputs, result, access, uses, .. } = self;
        let mut debug = f.debug_struct("Plan");
        debug
            .field("inputs", inputs)
            .field("result", result)
            .field("access", access)
            .field("uses", uses);
        debug.finish_non_exhaustive()
    }
}

impl Plan {
    pub(crate) fn new(
        inputs: &[&Shape],
        context: &Context,
        (result, uses, access): (Shape, Inputs, Access),
        prepared: impl Prepared + 'static,
    ) -> Plan {
        Plan {
            inputs: inputs.iter().copied().cloned().collect(),
            context: context.clone(),
            result: result.anonymous(),
            more_columns: false,
            access,
            uses,
            roles: None,
            division: (access == Access::ByRow).then(|| Arc::new(Division::Rows)),
            most_rows: None,
            prepared: Arc::new(prepared),
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

    /// The same plan, whose tables can be divided.
    pub(crate) fn divided(self, division: Option<Division>) -> Plan {
        Plan { division: division.map(Arc::new), ..self }
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

    /// How the rows of the tables can be divided into parts; none if they cannot.
    pub fn division(&self) -> Option<&Division> {
        self.division.as_deref()
    }

    /// What is known of a batch of the first table that is needed of all rows before a part of them
    /// can be processed; none if parts need nothing.
    pub fn survey(&self, batch: &Table) -> Result<Option<Overall>> {
        self.expect_table(0, batch)?;
        self.prepared.survey(batch, &self.context)
    }

    /// The same plan for parts of the rows, of which all are known to be like this.
    #[must_use]
    pub fn for_parts(&self, overall: Overall) -> Plan {
        let prepared = self.prepared.for_parts(overall);
        Plan { prepared: prepared.unwrap_or_else(|| self.prepared.clone()), ..self.clone() }
    }

    /// The same plan for one part of the entities, with rows of the first table that tell its
    /// types.
    pub fn for_part(&self, part: EntityPart, sample: &Table) -> Result<Plan> {
        let prepared = self.prepared.for_part(part, sample)?;
        let prepared = prepared.unwrap_or_else(|| self.prepared.clone());
        Ok(Plan { prepared, ..self.clone() })
    }

    /// The plan for the rows at the end of the result that are over all rows of the table, and that
    /// no part has; none if there are no such rows.
    pub fn last_rows(&self) -> Option<Plan> {
        let prepared = self.prepared.last_rows()?;
        Some(Plan { prepared, ..self.clone() })
    }

    /// The names and types of the result's columns; none if they depend on the data.
    pub fn shape(&self) -> Option<&Shape> {
        (!self.more_columns).then_some(&self.result)
    }

    /// The columns of the result that do not depend on the data.
    pub fn known_columns(&self) -> &Shape {
        &self.result
    }

    /// How the plan needs the rows of its tables.
    pub fn access(&self) -> Access {
        self.access
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
        match self.folded(tables)? {
            Some(fold) => fold.finish(),
            None => Ok(self.with_its_roles(self.prepared.apply(tables, &self.context)?)),
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
        if let Some(fold) = self.folded(tables)? {
            return fold.finish_into(sink);
        }
        let mut sink = |batch: &Table| sink(&self.table_with_its_roles(batch));
        let outcome = self.prepared.apply_into(tables, &self.context, &mut sink)?;
        Ok(self.with_its_roles(outcome))
    }

    /// The plan for the rows of one entity, which come in pieces, in order of their dates; none
    /// unless the division is [`Division::Dates`], or [`Division::Entities`] with a date.
    pub fn in_order(&self) -> Option<InPieces> {
        let pieces = self.prepared.clone().in_order()?;
        Some(InPieces::new(self.clone(), pieces))
    }

    /// The plan for any rows of the first table that follow each other, beside all rows of the
    /// second; none if both are needed as a whole.
    ///
    /// Errors: a second table of another shape.
    pub fn beside(&self, second: &Table) -> Result<Option<InPieces>> {
        self.expect_table(1, second)?;
        let pieces = self.prepared.clone().beside(second.clone());
        Ok(pieces.map(|pieces| InPieces::new(self.clone(), pieces)))
    }

    /// An empty fold; none unless the access is [`Access::OnePass`].
    pub fn begin(&self) -> Option<Fold> {
        let state = self.prepared.clone().begin(&self.context)?;
        Some(Fold::new(self.clone(), state))
    }

    /// Whether both are the same plan, and not two equal ones.
    pub(crate) fn is(&self, other: &Plan) -> bool {
        Arc::ptr_eq(&self.prepared, &other.prepared)
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
