//! [`Stack`]: appends tables, matching columns by name.

use super::all_kept;
use crate::{
    calendar::MICROS_PER_DAY,
    context::Context,
    error::{Error, Result, in_setting},
    kind::{Type, period_field},
    ledger::{Accounting, Outcome},
    plan::{Apply, Division, Inputs, Kind, Plan, Prepared, Roles},
    shape::{ColumnShape, Shape},
    table::Table,
};
use arrow_array::{
    Array, ArrayRef, StringViewArray, TimestampMicrosecondArray, cast::AsArray, new_null_array,
    types::Date32Type,
};
use arrow_cast::cast;
use arrow_schema::{DataType, Field, TimeUnit};
use arrow_select::{concat::concat, take::take};
use serde::Serialize;
use std::{collections::HashMap, sync::Arc};

/// Appends the rows of several tables, one table after the other. Columns with the same name become
/// one column.
///
/// Duplicates are kept. In the rows of a table that lacks a column, the column is missing. Types
/// are unified if no value changes: whole numbers become decimals or floats, decimals get more
/// places, dates become moments at midnight.
///
/// Errors: columns of one name with types that cannot be unified (the message names both tables);
/// more rows than one table can hold; the name for `source` is taken. Cost: one read and write of
/// all columns.
///
/// ```
/// use jembric_core::{Stack, Table, arrow::{ArrayRef, Int64Array}};
/// use std::sync::Arc;
///
/// let tons = |tons| -> ArrayRef { Arc::new(Int64Array::from(vec![tons])) };
/// let [one, other] = [3, 4].map(|n| Table::from_columns([("tons", tons(n))]));
///
/// let outcome = Stack::new().source("book").apply(&[("north", &one?), ("south", &other?)])?;
/// assert_eq!(outcome.table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "stack",
    does = "Append the rows of several files",
    answers = "What do both fuel books contain together?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Stack {
    /// Add a column with this name that names the file of each row, without its extension.
    #[setting(name)]
    pub source: Option<String>,
}

impl Stack {
    /// Appends tables, without a column for their source.
    pub fn new() -> Stack {
        Stack::default()
    }

    /// Appends the tables, each given with its name.
    ///
    /// Errors: those of [`prepare`](Stack::prepare); more rows than one table can hold.
    pub fn apply(&self, tables: &[(&str, &Table)]) -> Result<Outcome> {
        self.apply_with(tables, &Context::new())
    }

    /// The same, with sums to reconcile.
    pub fn apply_with(&self, tables: &[(&str, &Table)], context: &Context) -> Result<Outcome> {
        let shapes: Vec<Shape> = tables.iter().map(|(_, table)| table.shape()).collect();
        let named: Vec<(&str, &Shape)> =
            tables.iter().map(|(name, _)| *name).zip(&shapes).collect();
        let tables: Vec<&Table> = tables.iter().map(|(_, table)| *table).collect();
        self.prepare(&named, context)?.apply(&tables)
    }

    /// Prepares the operation for tables of these shapes, each with its name.
    ///
    /// Errors: columns of one name with types that cannot be unified; the name for `source` is
    /// taken; no table has a column to reconcile.
    pub fn prepare(&self, tables: &[(&str, &Shape)], context: &Context) -> Result<Plan> {
        let mut columns: Vec<StackedColumn> = Vec::new();
        // The columns in the order of their first appearance. They are looked up by name once for
        // all tables.
        let mut found: HashMap<&str, usize> = HashMap::new();
        for (table, (of, shape)) in tables.iter().enumerate() {
            for (place, column) in shape.columns().iter().enumerate() {
                let at = *found.entry(&column.name).or_insert_with(|| {
                    columns.push(StackedColumn {
                        name: column.name.clone(),
                        kind: Some(Type::Nothing),
                        places: vec![None; tables.len()],
                        first: String::new(),
                    });
                    columns.len() - 1
                });
                columns[at].places[table] = Some(place);
                columns[at].take_in(column.kind, of)?;
            }
        }
        let mut result = Shape::of_columns(
            columns.iter().map(|column| ColumnShape::new(&column.name, column.kind)),
        );
        let accounting = Accounting::prepare(&result, context)?;
        if let Some(source) = &self.source {
            result = in_setting("source", || result.with(source, Type::Text))?;
        }
        let mut uses = Inputs::new();
        let from = |column: &StackedColumn| {
            let places = column.places.iter().enumerate();
            places.filter_map(|(table, place)| Some((table, (*place)?))).collect::<Vec<_>>()
        };
        columns.iter().for_each(|column| uses.pass(from(column)));
        let reconciled = accounting.reconcile.iter().flat_map(|(_, place)| from(&columns[*place]));
        let uses = reconciled.fold(uses, |uses, (table, column)| uses.using_of(table, [column]));
        let shapes: Vec<&Shape> = tables.iter().map(|(_, shape)| *shape).collect();
        let plan = StackPlan {
            names: tables.iter().map(|(name, _)| (*name).to_owned()).collect(),
            columns,
            source: self.source.clone(),
            accounting,
        };
        let (kind, prepared) = (Kind::Divided(Division::Rows), Prepared::applied(Arc::new(plan)));
        let plan = Plan::new(&shapes, context, (result, uses, kind), prepared);
        // A column may have another role in each table.
        Ok(plan.with_roles(Roles::default()))
    }
}

/// A column of the result: its place in each table, and a type that holds the values of all.
struct StackedColumn {
    name: String,
    /// None if the type of a table is unknown so far.
    kind: Option<Type>,
    places: Vec<Option<usize>>,
    /// The first table with values in the column.
    first: String,
}

impl StackedColumn {
    /// Unifies the type with that of one more table.
    fn take_in(&mut self, kind: Option<Type>, of: &str) -> Result<()> {
        let (Some(one), Some(other)) = (self.kind, kind) else {
            self.kind = None;
            return Ok(());
        };
        if one == Type::Nothing {
            self.first = of.to_owned();
        }
        match both(one, other) {
            Some(both) => self.kind = Some(both),
            None => {
                return Err(Error::TypesClash {
                    column: self.name.clone(),
                    one,
                    in_one: self.first.clone(),
                    other,
                    in_other: of.to_owned(),
                });
            }
        }
        Ok(())
    }
}

struct StackPlan {
    names: Vec<String>,
    columns: Vec<StackedColumn>,
    source: Option<String>,
    accounting: Accounting,
}

impl Apply for StackPlan {
    fn apply(&self, tables: &[&Table], _: &Context) -> Result<Outcome> {
        let rows: usize = tables.iter().map(|table| table.rows()).sum();
        if rows >= u32::MAX as usize {
            return Err(Error::TableTooLong { rows });
        }
        let columns = self.columns.iter().map(|column| column.stacked(tables));
        let mut answer = Table::of_fields(columns.collect::<Result<Vec<_>>>()?)?;
        if let Some(source) = &self.source {
            answer = answer.with_column(source, sources(&self.names, tables)?)?;
        }
        let not_everywhere =
            self.columns.iter().filter(|column| column.places.contains(&None)).count();
        let step = format!("stack {}", self.names.join(", "));
        all_kept(answer.clone(), step, &answer, &self.accounting, |ledger| {
            for (n, (name, table)) in self.names.iter().zip(tables).enumerate() {
                // Tables of one name are counted apart.
                let again = self.names[..n].iter().filter(|earlier| *earlier == name).count();
                let count = match again {
                    0 => format!("from {name}"),
                    _ => format!("from {name} ({})", again + 1),
                };
                ledger.counts.push((count.into(), table.rows() as u64));
            }
            ledger.note_columns("columns missing from some tables", not_everywhere as u64);
        })
    }
}

fn both(one: Type, other: Type) -> Option<Type> {
    match (one, other) {
        (one, other) if one == other => Some(one),
        (Type::Nothing, kind) | (kind, Type::Nothing) => Some(kind),
        (Type::Float, number) | (number, Type::Float) if number.is_number() => Some(Type::Float),
        (Type::Integer, decimal @ Type::Decimal { .. })
        | (decimal @ Type::Decimal { .. }, Type::Integer) => Some(decimal),
        (Type::Decimal { places: one }, Type::Decimal { places: other }) => {
            Some(Type::Decimal { places: one.max(other) })
        }
        (Type::DAYS, moment @ Type::Moment { instant: false })
        | (moment @ Type::Moment { instant: false }, Type::DAYS) => Some(moment),
        _ => None,
    }
}

impl StackedColumn {
    /// The column of all tables, in one type.
    fn stacked(&self, tables: &[&Table]) -> Result<(Field, ArrayRef)> {
        let in_tables = || {
            self.places.iter().zip(tables).map(|(place, table)| place.map(|place| table.at(place)))
        };
        let there = || in_tables().flatten();
        let kind = self.kind.unwrap_or(Type::Nothing);
        let wide = |array: &&ArrayRef| matches!(array.data_type(), DataType::Decimal128(..));
        // Whole numbers may have 19 digits, one more than decimals of 64 bits hold.
        let mixed = there().any(|array| *array.data_type() == DataType::Int64);
        let data_type = match kind {
            Type::Decimal { places }
                if mixed || places > 6 || there().any(|array| wide(&array)) =>
            {
                DataType::Decimal128(38, places)
            }
            Type::Decimal { places } => fitting(there(), places)?,
            Type::Float => DataType::Float64,
            Type::Moment { instant: false } => DataType::Timestamp(TimeUnit::Microsecond, None),
            _ => there()
                .map(|array| array.data_type())
                .find(|of| **of != DataType::Null)
                .cloned()
                .unwrap_or(DataType::Null),
        };
        let parts = in_tables().zip(tables).map(|(array, table)| match array {
            Some(array) if *array.data_type() != DataType::Null => converted(array, &data_type),
            _ => Ok(new_null_array(&data_type, table.rows())),
        });
        let parts = parts.collect::<Result<Vec<ArrayRef>>>()?;
        let array = concat(&parts.iter().map(|part| &**part).collect::<Vec<_>>())?;
        let with_order = |(place, table): (&Option<usize>, &&Table)| {
            let place = (*place).filter(|&place| table.order_at(place).is_some())?;
            Some(table.field_at(place).clone())
        };
        let order = self.places.iter().zip(tables).find_map(with_order);
        let field = match (kind, order) {
            (Type::Date(periods), _) => period_field(&self.name, periods),
            (_, Some(field)) => field,
            _ => Field::new(&self.name, data_type, true),
        };
        Ok((field, array))
    }
}

/// Decimals of 64 bits if all values fit with this number of places, otherwise of 128 bits.
fn fitting<'a>(arrays: impl Iterator<Item = &'a ArrayRef>, places: i8) -> Result<DataType> {
    let narrow = DataType::Decimal64(18, places);
    let mut fits = true;
    for array in arrays {
        fits &= *array.data_type() == narrow || cast_strictly(array, &narrow).is_ok();
    }
    Ok(if fits { narrow } else { DataType::Decimal128(38, places) })
}

fn cast_strictly(array: &ArrayRef, to: &DataType) -> Result<ArrayRef> {
    let strict = arrow_cast::CastOptions { safe: false, ..Default::default() };
    Ok(arrow_cast::cast_with_options(array, to, &strict)?)
}

fn converted(array: &ArrayRef, to: &DataType) -> Result<ArrayRef> {
    match (array.data_type(), to) {
        (DataType::Date32, DataType::Timestamp(..)) => {
            let days = array.as_primitive::<Date32Type>();
            let micros = days.values().iter().map(|&day| i64::from(day) * MICROS_PER_DAY).collect();
            Ok(Arc::new(TimestampMicrosecondArray::new(micros, days.nulls().cloned())))
        }
        (DataType::Decimal64(..) | DataType::Decimal128(..), DataType::Float64) => {
            Ok(cast(array, to)?)
        }
        (from, to) if from == to => Ok(array.clone()),
        _ => cast_strictly(array, to),
    }
}

/// The name of each row's table.
fn sources(names: &[String], tables: &[&Table]) -> Result<ArrayRef> {
    let names = StringViewArray::from_iter_values(names);
    let index: arrow_array::UInt32Array = (0..tables.len() as u32)
        .zip(tables)
        .flat_map(|(n, table)| std::iter::repeat_n(Some(n), table.rows()))
        .collect();
    Ok(take(&names, &index, None)?)
}
