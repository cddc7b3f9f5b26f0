//! [`Fold`]: folds batches into a small state, which can be merged with the state of other batches.
//!
//! Each batch comes with the number of its first row, so the result does not depend on how the rows
//! are divided or on the order in which states are merged. [`SelectionState`] is the state of all
//! operations that select rows: it holds only the rows that may still be selected.

use super::{
    Plan, handed_over,
    numbered::{NumberedRows, Numbers},
};
use crate::{
    context::{Context, Sink},
    error::{Error, Result},
    ledger::{Accounting, Outcome, RowMasks, Tally},
    packed::{packed, unpacked},
    parallel,
    shape::Shape,
    table::{Origin, Table},
};
use arrow_array::{Array, ArrayRef, UInt32Array, new_empty_array};
use arrow_cast::cast;
use arrow_schema::{DataType, Field};
use arrow_select::concat::concat;
use borsh::{BorshDeserialize, BorshSerialize};
use std::{any::Any, fmt, sync::Arc};

/// A fold of batches by a plan of the kind [`Kind::OnePass`](super::Kind::OnePass).
///
/// ```
/// use jembric_core::{Context, Operation, Table, Totals, arrow::{ArrayRef, Int64Array}};
/// use std::sync::Arc;
///
/// let tons: ArrayRef = Arc::new(Int64Array::from(vec![3, 4, 5]));
/// let lifts = Table::from_columns([("tons", tons)])?;
/// let plan = Totals::new().sum(["tons"]).prepare(&lifts.shape(), &Context::new())?;
///
/// let mut fold = plan.begin().expect("totals need one pass");
/// fold.take(&lifts.slice(0, 2), 0)?;
/// fold.take(&lifts.slice(2, 1), 2)?;
/// assert_eq!(fold.finish()?.ledger.rows_in, 3);
/// # Ok::<(), jembric_core::Error>(())
/// ```
pub struct Fold {
    plan: Plan,
    state: Box<dyn State>,
}

/// What a plan keeps of the batches so far.
pub(crate) trait State: Send {
    /// Takes a batch of the table at a place. Its first row has this number among the rows of that
    /// table.
    fn take(&mut self, place: usize, batch: &Table, first_row: u64) -> Result<()>;

    /// Merges another state of the same plan.
    fn merge(&mut self, other: Box<dyn Any>) -> Result<()>;

    /// Forgets what cannot matter any more.
    fn compact(&mut self) -> Result<()> {
        Ok(())
    }

    /// About the bytes that it takes in memory.
    fn bytes(&self) -> u64;

    /// The rows that were set aside so far; none if the operation sets no rows aside.
    fn set_aside(&mut self) -> Option<&mut NumberedRows>;

    /// The state as bytes for another process. Nothing is done with this one after that.
    fn packed(&mut self) -> Result<Vec<u8>>;

    /// Merges the bytes of another state of the same plan.
    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()>;

    /// The result for all batches.
    fn finish(self: Box<Self>) -> Result<Outcome>;

    /// Delivers the result in batches. The table of the outcome has no rows.
    fn finish_into(self: Box<Self>, sink: &mut Sink<'_>) -> Result<Outcome> {
        handed_over(self.finish()?, sink)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any>;
}

impl fmt::Debug for Fold {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Fold").field("plan", &self.plan).finish_non_exhaustive()
    }
}

impl Fold {
    pub(crate) fn new(plan: Plan, state: Box<dyn State>) -> Fold {
        Fold { plan, state }
    }

    /// Takes a batch of rows. Its first row has this number among all rows, from 0.
    ///
    /// Errors: a batch of another shape; errors of the operation about the data.
    pub fn take(&mut self, batch: &Table, first_row: u64) -> Result<()> {
        self.take_of(0, batch, first_row)
    }

    /// The same for a batch of one of several tables, given by its place.
    pub fn take_of(&mut self, table: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.plan.expect_table(table, batch)?;
        self.take_table(table, batch, first_row)
    }

    pub(super) fn take_table(&mut self, table: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.plan.context.expect_wanted()?;
        self.state.take(table, batch, first_row)
    }

    /// Merges another fold of the same plan.
    ///
    /// Errors: the other fold is of another plan.
    pub fn merge(&mut self, other: Fold) -> Result<()> {
        if !self.plan.is(&other.plan) {
            let (prepared, found) = ("one plan".to_owned(), "the state of another".to_owned());
            return Err(Error::OtherShape { prepared, found });
        }
        self.state.merge(other.state.into_any())
    }

    /// The state as bytes, which a fold of the same plan in another process can merge.
    ///
    /// Errors: those of the operation about the data. Cost: one pass over what is kept.
    pub fn packed(mut self) -> Result<Vec<u8>> {
        self.state.packed()
    }

    /// Merges the state of another fold of the same plan, as [`packed`](Fold::packed) returns it.
    ///
    /// Errors: the bytes are damaged.
    pub fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        self.state.merge_packed(bytes)
    }

    /// Forgets the rows that cannot matter any more, which otherwise happens from time to time.
    ///
    /// Errors: those of the operation about the data. Cost: one pass over the rows that are kept.
    pub fn compact(&mut self) -> Result<()> {
        self.state.compact()
    }

    /// About the bytes that the state takes in memory. They grow with the number of entities and
    /// periods, and with that of the rows set aside, unless these are forgotten.
    pub fn bytes(&self) -> u64 {
        self.state.bytes()
    }

    /// Forgets the rows that were set aside so far. The ledger counts them all the same.
    pub fn forget_set_aside(&mut self) {
        if let Some(rows) = self.state.set_aside() {
            rows.clear();
        }
    }

    /// Takes out the rows that were set aside so far, in their order. Returns none if they take
    /// fewer bytes than `least_bytes`. The result of [`finish`](Fold::finish) has only the rows
    /// that are left; its ledger counts all of them.
    pub fn take_set_aside(&mut self, least_bytes: u64) -> Result<Option<Table>> {
        let rows = self.state.set_aside();
        let Some(rows) = rows.filter(|rows| rows.bytes() >= least_bytes) else { return Ok(None) };
        std::mem::replace(rows, rows.without_rows()).in_order()
    }

    /// The result for all batches.
    pub fn finish(self) -> Result<Outcome> {
        Ok(self.plan.with_its_roles(self.state.finish()?))
    }

    /// Delivers the result for all batches in batches of its own, so that a long one is never whole
    /// in memory. The table of the outcome has no rows.
    ///
    /// Errors: those of the operation about the data, and of the sink.
    pub fn finish_into(self, sink: &mut Sink<'_>) -> Result<Outcome> {
        let Fold { plan, state } = self;
        let outcome = state.finish_into(&mut |batch| sink(&plan.table_with_its_roles(batch)))?;
        Ok(plan.with_its_roles(outcome))
    }
}

/// Rows that cannot be selected any more: their account, and those that were set aside.
#[derive(Default, BorshSerialize, BorshDeserialize)]
pub(crate) struct DiscardedRows {
    pub(crate) tally: Option<Tally>,
    pub(crate) set_aside: NumberedRows,
}

impl DiscardedRows {
    /// Adds the rows of a table that are not candidates any more.
    pub(crate) fn add(
        &mut self,
        masks: &RowMasks,
        (table, numbers): (&Table, &Numbers),
        accounting: &Accounting,
    ) -> Result<()> {
        let (tally, set_aside) = masks.tally(table, accounting)?;
        let gone = tally.without_kept();
        self.tally = Some(match self.tally.take() {
            None => gone,
            Some(before) => before.plus(&gone),
        });
        let set_aside = set_aside.without_others_texts()?;
        self.set_aside.add(&set_aside, masks.aside().set_indices().map(|row| numbers.at(row)));
        Ok(())
    }

    /// Adds the rows of another.
    pub(crate) fn merge(&mut self, other: DiscardedRows) {
        let both = [self.tally.take(), other.tally].into_iter().flatten();
        self.tally = both.reduce(|one, other| one.plus(&other));
        self.set_aside.merge(other.set_aside);
    }

    pub(crate) fn bytes(&self) -> u64 {
        self.set_aside.bytes()
    }

    /// Adds these rows to the account of the last ones, and to the rows set aside.
    pub(crate) fn with(self, tally: Tally, set_aside: Table) -> Result<(Tally, Table)> {
        match self.tally {
            None => Ok((tally, set_aside)),
            // The last rows are candidates, and the rows set aside are no longer among them.
            Some(gone) => Ok((tally.plus(&gone), self.set_aside.in_order()?.unwrap_or(set_aside))),
        }
    }
}

/// A plan whose result is a selection of rows. Selecting from several batches is the same as
/// selecting from the candidates of each batch.
pub(crate) trait Selection: Send + Sync {
    /// The candidates, which may still be selected whatever rows come later, and the reasons of the
    /// others.
    fn candidates(&self, table: &Table, context: &Context) -> Result<RowMasks>;

    /// The result for a table, with the account of rows that are gone.
    fn select(&self, table: &Table, gone: DiscardedRows, context: &Context) -> Result<Outcome>;

    fn accounting(&self) -> &Accounting;

    /// The shape of the tables that it was prepared for.
    fn shape(&self) -> &Shape;
}

/// The state of a selection.
pub(crate) struct SelectionState<S> {
    plan: Arc<S>,
    context: Context,
    /// The candidates. The rows of a single batch are divided only when another one comes.
    pending: NumberedRows,
    /// The rows that were added since the candidates were found, and the candidates then. They are
    /// found again when as many rows were added, so that each row is looked at a few times only.
    added: usize,
    candidates: usize,
    gone: DiscardedRows,
}

impl<S: Selection + 'static> SelectionState<S> {
    pub(crate) fn begin(plan: Arc<S>, context: &Context) -> Box<dyn State> {
        Box::new(SelectionState {
            plan,
            context: context.clone(),
            pending: NumberedRows::default(),
            added: 0,
            candidates: 0,
            gone: DiscardedRows::default(),
        })
    }

    /// Removes the pending rows that cannot be selected any more.
    fn find_candidates(&mut self) -> Result<()> {
        let Some((table, numbers)) = self.pending.take()? else { return Ok(()) };
        let masks = self.plan.candidates(&table, &self.context)?;
        self.gone.add(&masks, (&table, &numbers), self.plan.accounting())?;
        let rows = UInt32Array::from_iter_values(masks.kept.set_indices().map(|row| row as u32));
        let kept = rows.values().iter().map(|&row| numbers.at(row as usize));
        (self.added, self.candidates) = (0, rows.len());
        self.pending.add(&table.take_with_origin(&rows)?.without_others_texts()?, kept);
        Ok(())
    }
}

impl<S: Selection + 'static> State for SelectionState<S> {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        if self.added >= self.candidates {
            self.find_candidates()?;
        }
        self.added += batch.rows();
        self.pending.add_batch(batch, first_row);
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        let Ok(mut other) = other.downcast::<SelectionState<S>>() else { return Ok(()) };
        self.find_candidates()?;
        other.find_candidates()?;
        self.pending.merge(other.pending);
        // Those of one may rule out those of the other.
        self.added += other.candidates;
        self.gone.merge(other.gone);
        Ok(())
    }

    fn compact(&mut self) -> Result<()> {
        if self.added > 0 { self.find_candidates() } else { Ok(()) }
    }

    fn bytes(&self) -> u64 {
        self.pending.bytes() + self.gone.bytes()
    }

    fn set_aside(&mut self) -> Option<&mut NumberedRows> {
        Some(&mut self.gone.set_aside)
    }

    fn packed(&mut self) -> Result<Vec<u8>> {
        self.find_candidates()?;
        packed(&(&self.pending, &self.gone))
    }

    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        let (pending, gone): (NumberedRows, DiscardedRows) = unpacked(bytes)?;
        self.find_candidates()?;
        self.added += pending.rows();
        self.pending.merge(pending);
        self.gone.merge(gone);
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<Outcome> {
        if self.gone.tally.is_some() && self.added > 0 {
            self.find_candidates()?;
        }
        let SelectionState { plan, context, pending, gone, .. } = *self;
        let table = match pending.in_order()? {
            Some(table) => table,
            None => Table::without_rows(plan.shape())?,
        };
        plan.select(&table, gone, &context)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl Table {
    /// Joins tables with the same columns, one after the other. Decimals may have 64 or 128 bits.
    ///
    /// Errors: columns of the same place have different types. Cost: a copy of all columns.
    pub fn joined(first: &Table, others: &[Table]) -> Result<Table> {
        if others.is_empty() {
            return Ok(first.clone());
        }
        let tables = || std::iter::once(first).chain(others);
        let fields: Vec<Field> = first.fields().map(|(field, _)| field).collect();
        let columns = parallel::of_parts(fields, |place, field| {
            let mut parts: Vec<ArrayRef> = tables().map(|table| table.at(place).clone()).collect();
            // Decimals of the same type may have 64 or 128 bits.
            if parts.iter().any(|part| part.data_type() != field.data_type()) {
                let wide = DataType::Decimal128(38, decimal_places(field.data_type()));
                parts = parts
                    .iter()
                    .map(|part| cast(part, &wide))
                    .collect::<std::result::Result<_, _>>()?;
            }
            let parts: Vec<&dyn Array> = parts.iter().map(AsRef::as_ref).collect();
            let all = concat(&parts)?;
            Ok((field.with_data_type(all.data_type().clone()), all))
        });
        let all = Table::of_known(columns.into_iter().collect::<Result<Vec<_>>>()?)?;
        let origins: Option<Vec<&Origin>> = tables().map(Table::origin).collect();
        let origin = origins.map(|origins| {
            let lines = origins.iter().zip(tables());
            let lines = lines.flat_map(|(origin, table)| origin.lines(table.rows()));
            Origin::joined(&origins, lines)
        });
        Ok(all.with_facts(tables().map(Table::not_numbers).sum(), origin))
    }

    /// The columns without rows. They keep no memory of the table, as [`head`](Table::head) does.
    #[must_use]
    pub fn emptied(&self) -> Table {
        let none =
            self.fields().map(|(field, column)| (field, new_empty_array(column.data_type())));
        let empty = Table::of_known(none).unwrap_or_else(|_| self.head(0));
        empty.with_facts(0, self.origin().map(|origin| origin.of_lines([])))
    }

    /// The columns of both tables without their rows. Decimals are as wide as the wider ones.
    ///
    /// Errors: the tables have different columns.
    pub fn widest(&self, other: &Table) -> Result<Table> {
        self.shape().expect_same(&other.shape())?;
        let is_wide = |column: &ArrayRef| matches!(column.data_type(), DataType::Decimal128(..));
        let columns = self.fields().zip(other.fields()).map(|(one, other)| {
            let (field, column) = if is_wide(&other.1) { other } else { one };
            (field, new_empty_array(column.data_type()))
        });
        Table::of_known(columns)
    }

    /// The same table, with this number of NaN cells.
    #[must_use]
    pub fn with_not_numbers(self, cells: u64) -> Table {
        let origin = self.origin().cloned();
        self.with_facts(cells, origin)
    }
}

fn decimal_places(kind: &DataType) -> i8 {
    match kind {
        DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => *places,
        _ => 0,
    }
}
