//! [`Fold`]: batches folded into a small state, which can be merged with the state of other
//! batches.
//!
//! A batch comes with the number of its first row, so that the result does not depend on how the
//! rows are cut or in which order states are merged. [`SelectionState`] is the state of every
//! operation that selects rows: it holds only the rows that may still be selected.

use super::{Plan, Prepared};
use crate::{
    context::Context,
    error::{Error, Result},
    ledger::{Accounting, Outcome, RowMasks, Tally},
    shape::Shape,
    table::{Origin, Table},
};
use arrow_array::{Array, ArrayRef, UInt32Array};
use arrow_cast::cast;
use arrow_schema::DataType;
use arrow_select::concat::concat;
use std::{any::Any, fmt, sync::Arc};

/// Batches of tables that are folded by a plan with [`Access::OnePass`](super::Access::OnePass).
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

/// What a plan keeps of the batches that it has taken.
pub(crate) trait State: Send {
    /// Takes a batch of the table at a place, whose first row has this number among the table's
    /// rows.
    fn take(&mut self, place: usize, batch: &Table, first_row: u64) -> Result<()>;

    /// Takes what another state of the same plan keeps.
    fn merge(&mut self, other: Box<dyn Any>) -> Result<()>;

    /// The result for all batches.
    fn finish(self: Box<Self>) -> Result<Outcome>;

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

    /// Takes a batch of rows, the first of which has this number, from 0, among all rows.
    ///
    /// Errors: a batch of another shape; whatever the operation finds wrong with the data.
    pub fn take(&mut self, batch: &Table, first_row: u64) -> Result<()> {
        self.take_of(0, batch, first_row)
    }

    /// The same for a batch of one of several tables, by its place.
    pub fn take_of(&mut self, table: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.plan.expect_table(table, batch)?;
        self.take_table(table, batch, first_row)
    }

    pub(super) fn take_table(&mut self, table: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.state.take(table, batch, first_row)
    }

    /// Takes what another fold of the same plan has taken.
    ///
    /// Errors: the other fold is of another plan.
    pub fn merge(&mut self, other: Fold) -> Result<()> {
        if !self.plan.is(&other.plan) {
            let (prepared, found) = ("one plan".to_owned(), "the state of another".to_owned());
            return Err(Error::OtherShape { prepared, found });
        }
        self.state.merge(other.state.into_any())
    }

    /// The result for all batches that were taken.
    pub fn finish(self) -> Result<Outcome> {
        self.state.finish()
    }
}

/// Rows that have left a selection for good: their account, and those that were set aside.
#[derive(Default)]
pub(crate) struct Gone {
    pub(crate) tally: Option<Tally>,
    set_aside: NumberedRows,
}

impl Gone {
    /// The ledger of a step whose last rows have this account, and the rows set aside of all.
    pub(crate) fn with(self, tally: Tally, set_aside: Table) -> Result<(Tally, Table)> {
        match self.tally {
            None => Ok((tally, set_aside)),
            // What was set aside is gone from the last rows, which are candidates alone.
            Some(gone) => Ok((tally.plus(&gone), self.set_aside.in_order()?.unwrap_or(set_aside))),
        }
    }
}

/// Rows, each with its number among all rows.
#[derive(Default)]
pub(crate) struct NumberedRows {
    /// The rows as they came. A table without rows stays only where it is the one.
    tables: Vec<Table>,
    numbers: Vec<u64>,
}

impl NumberedRows {
    pub(crate) fn add(&mut self, table: &Table, numbers: impl IntoIterator<Item = u64>) {
        if self.tables.first().is_none_or(|first| first.rows() == 0) {
            self.tables = vec![table.clone()];
        } else if table.rows() > 0 {
            self.tables.push(table.clone());
        }
        self.numbers.extend(numbers);
    }

    /// Whether any table was added, be it without rows.
    pub(crate) fn has_table(&self) -> bool {
        !self.tables.is_empty()
    }

    /// Takes the rows with their numbers.
    pub(crate) fn take(&mut self) -> Result<Option<(Table, Vec<u64>)>> {
        let NumberedRows { tables, numbers } = std::mem::take(self);
        let Some((first, others)) = tables.split_first() else { return Ok(None) };
        Ok(Some((Table::joined(first, others)?, numbers)))
    }

    /// The same in the order of their numbers.
    pub(crate) fn take_in_order(self) -> Result<Option<(Table, Vec<u64>)>> {
        let mut numbers = self.numbers.clone();
        numbers.sort_unstable();
        Ok(self.in_order()?.map(|table| (table, numbers)))
    }

    /// Adds the rows of another.
    pub(crate) fn merge(&mut self, other: NumberedRows) {
        let mut numbers = other.numbers.into_iter();
        for table in other.tables {
            self.add(&table, numbers.by_ref().take(table.rows()));
        }
    }

    /// The rows in the order of their numbers; none where no table was ever added.
    pub(crate) fn in_order(mut self) -> Result<Option<Table>> {
        let Some((table, numbers)) = self.take()? else { return Ok(None) };
        if numbers.is_sorted() {
            return Ok(Some(table));
        }
        let mut rows: Vec<u32> = (0..numbers.len() as u32).collect();
        rows.sort_unstable_by_key(|&row| numbers[row as usize]);
        table.take_with_origin(&UInt32Array::from(rows)).map(Some)
    }
}

/// A plan whose result is a selection of rows: what it selects of several batches is what it
/// selects of the rows of each that it may still select.
pub(crate) trait Selection: Prepared {
    /// The rows that may still be selected, whatever rows come later, and why the others are not.
    fn candidates(&self, table: &Table, context: &Context) -> Result<RowMasks>;

    /// The result for a table, beside rows that are gone.
    fn select(&self, table: &Table, gone: Gone, context: &Context) -> Result<Outcome>;

    fn accounting(&self) -> &Accounting;

    /// The shape of the tables that it was prepared for.
    fn shape(&self) -> &Shape;
}

/// The state of a selection.
pub(crate) struct SelectionState<S> {
    plan: Arc<S>,
    context: Context,
    /// The rows that may be selected, as they came. Those of one batch are looked at only when
    /// another comes.
    pending: NumberedRows,
    gone: Gone,
}

impl<S: Selection + 'static> SelectionState<S> {
    pub(crate) fn begin(plan: Arc<S>, context: &Context) -> Box<dyn State> {
        Box::new(SelectionState {
            plan,
            context: context.clone(),
            pending: NumberedRows::default(),
            gone: Gone::default(),
        })
    }

    /// Forgets the pending rows that cannot be selected any more.
    fn compact(&mut self) -> Result<()> {
        let Some((table, numbers)) = self.pending.take()? else { return Ok(()) };
        let masks = self.plan.candidates(&table, &self.context)?;
        let (tally, set_aside) = masks.tally(&table, self.plan.accounting())?;
        let gone = tally.without_kept();
        self.gone.tally = Some(match self.gone.tally.take() {
            None => gone,
            Some(before) => before.plus(&gone),
        });
        let aside = masks.aside();
        self.gone.set_aside.add(&set_aside, aside.set_indices().map(|row| numbers[row]));
        let rows = UInt32Array::from_iter_values(masks.kept.set_indices().map(|row| row as u32));
        let kept = rows.values().iter().map(|&row| numbers[row as usize]);
        self.pending.add(&table.take_with_origin(&rows)?, kept);
        Ok(())
    }
}

impl<S: Selection + 'static> State for SelectionState<S> {
    fn take(&mut self, _: usize, batch: &Table, first_row: u64) -> Result<()> {
        self.compact()?;
        self.pending.add(batch, first_row..first_row + batch.rows() as u64);
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        let Ok(mut other) = other.downcast::<SelectionState<S>>() else { return Ok(()) };
        self.compact()?;
        other.compact()?;
        self.pending.merge(other.pending);
        let both = [self.gone.tally.take(), other.gone.tally].into_iter().flatten();
        self.gone.tally = both.reduce(|one, other| one.plus(&other));
        self.gone.set_aside.merge(other.gone.set_aside);
        Ok(())
    }

    fn finish(mut self: Box<Self>) -> Result<Outcome> {
        if self.gone.tally.is_some() {
            self.compact()?;
        }
        let SelectionState { plan, context, pending, gone } = *self;
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
    /// The rows of tables of the same columns, one after the other.
    pub(crate) fn joined(first: &Table, others: &[Table]) -> Result<Table> {
        if others.is_empty() {
            return Ok(first.clone());
        }
        let tables = || std::iter::once(first).chain(others);
        let columns = first.fields().map(|(field, _)| field).enumerate().map(|(place, field)| {
            let mut parts: Vec<ArrayRef> = tables().map(|table| table.at(place).clone()).collect();
            // Decimals of one kind may be of either width.
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
        let all = Table::of_known(columns.collect::<Result<Vec<_>>>()?)?;
        let origins: Option<Vec<&Origin>> = tables().map(Table::origin).collect();
        let origin = origins.map(|origins| {
            let lines = origins.iter().zip(tables());
            let lines =
                lines.flat_map(|(origin, table)| (0..table.rows()).map(|row| origin.line(row)));
            origins[0].of_lines(lines)
        });
        Ok(all.with_facts(tables().map(Table::not_numbers).sum(), origin))
    }

    /// The same table, of which so many cells were not numbers.
    pub(crate) fn with_not_numbers(self, cells: u64) -> Table {
        let origin = self.origin().cloned();
        self.with_facts(cells, origin)
    }

    /// The rows with these numbers, which still know where they came from.
    pub(crate) fn take_with_origin(&self, rows: &UInt32Array) -> Result<Table> {
        let line = |origin: &Origin| {
            origin.of_lines(rows.values().iter().map(|&row| origin.line(row as usize)))
        };
        let origin = self.origin().map(line);
        Ok(self.take(rows)?.with_facts(self.not_numbers(), origin))
    }
}

fn decimal_places(kind: &DataType) -> i8 {
    match kind {
        DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => *places,
        _ => 0,
    }
}
