//! [`Stack`]: tables put on top of each other, column by column.

use super::{all_kept, check_reconciled};
use crate::{
    calendar::MICROS_PER_DAY,
    error::{Error, Result},
    ledger::Outcome,
    operation::{Context, Setting, Takes},
    shape::Type,
    table::{Table, period_field},
};
use arrow_array::{
    Array, ArrayRef, StringViewArray, TimestampMicrosecondArray, cast::AsArray, new_null_array,
    types::Date32Type,
};
use arrow_cast::cast;
use arrow_schema::{DataType, Field, TimeUnit};
use arrow_select::{concat::concat, take::take};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// The rows of several tables, one table after the other, columns of one name in one column.
///
/// Nothing is de-duplicated. A column that a table does not have is missing in its rows. Types are brought together where no
/// value changes: whole numbers become decimals or floats, decimals get more places, dates become moments at midnight.
///
/// Errors: columns of one name that hold different things (the message names both tables); more rows than one piece can
/// hold; a name for the source that is taken. Costs one read and write of all columns.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Stack {
    /// Tell in a column of this name which table each row came from.
    #[serde(default)]
    pub source: Option<String>,
}

impl Stack {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "stack";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "What do several files say together?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[Setting::new(
        "source",
        Takes::Name,
        "Tell in a column of this name which file each row came from, by the file's name without its ending",
    )];

    /// Tables on top of each other, without a column for their source.
    pub fn new() -> Stack {
        Stack::default()
    }

    /// Tell in a column of this name which table each row came from.
    pub fn source(mut self, name: impl Into<String>) -> Stack {
        self.source = Some(name.into());
        self
    }

    /// The tables as one, each given with its name.
    pub fn apply(&self, tables: &[(&str, &Table)]) -> Result<Outcome> {
        self.apply_with(tables, &Context::new())
    }

    /// The same, with sums to reconcile.
    pub fn apply_with(&self, tables: &[(&str, &Table)], context: &Context) -> Result<Outcome> {
        let rows: usize = tables.iter().map(|(_, table)| table.rows()).sum();
        if rows >= u32::MAX as usize {
            return Err(Error::TooManyRows { rows });
        }
        let mut names: Vec<&str> = Vec::new();
        for name in tables.iter().flat_map(|(_, table)| table.names()) {
            if !names.contains(&name) {
                names.push(name);
            }
        }
        let mut columns = Vec::new();
        let mut not_everywhere = 0;
        for name in &names {
            let kind = common_type(name, tables)?;
            not_everywhere += u64::from(tables.iter().any(|(_, table)| table.column(name).is_err()));
            columns.push(stacked(name, kind, tables)?);
        }
        let mut answer = Table::of_fields(columns)?;
        check_reconciled(&answer.shape(), context)?;
        if let Some(source) = &self.source {
            answer = answer.with_column(source, sources(tables)?)?;
        }
        let named: Vec<&str> = tables.iter().map(|(name, _)| *name).collect();
        all_kept(answer.clone(), format!("stack {}", named.join(", ")), &answer, context, |ledger| {
            for (name, table) in tables {
                ledger.counts.push((format!("from {name}").into(), table.rows() as u64));
            }
            ledger.note("columns that some of them do not have", not_everywhere);
        })
    }
}

/// The type that holds what the column holds in every table.
fn common_type(name: &str, tables: &[(&str, &Table)]) -> Result<Type> {
    let mut common: Option<(Type, &str)> = None;
    for (of, table) in tables {
        let Ok(kind) = table.shape().find(name).map(|column| column.kind.unwrap_or(Type::Nothing)) else {
            continue;
        };
        common = Some(match common {
            None | Some((Type::Nothing, _)) => (kind, of),
            Some((one, first)) => match both(one, kind) {
                Some(both) => (both, first),
                None => {
                    return Err(Error::TypesClash {
                        column: name.to_owned(),
                        one,
                        in_one: first.to_owned(),
                        other: kind,
                        in_other: (*of).to_owned(),
                    });
                }
            },
        });
    }
    Ok(common.map_or(Type::Nothing, |(kind, _)| kind))
}

fn both(one: Type, other: Type) -> Option<Type> {
    match (one, other) {
        (one, other) if one == other => Some(one),
        (Type::Nothing, kind) | (kind, Type::Nothing) => Some(kind),
        (Type::Float, number) | (number, Type::Float) if number.is_number() => Some(Type::Float),
        (Type::Integer, decimal @ Type::Decimal { .. }) | (decimal @ Type::Decimal { .. }, Type::Integer) => {
            Some(decimal)
        }
        (Type::Decimal { places: one }, Type::Decimal { places: other }) => {
            Some(Type::Decimal { places: one.max(other) })
        }
        (Type::DAYS, moment @ Type::Moment { instant: false })
        | (moment @ Type::Moment { instant: false }, Type::DAYS) => Some(moment),
        _ => None,
    }
}

/// A column of all tables in one type.
fn stacked(name: &str, kind: Type, tables: &[(&str, &Table)]) -> Result<(Field, ArrayRef)> {
    let there = || tables.iter().filter_map(|(_, table)| table.column(name).ok());
    let wide = |array: &&ArrayRef| matches!(array.data_type(), DataType::Decimal128(..));
    // Whole numbers may have 19 digits, one more than 64-bit decimals hold.
    let mixed = there().any(|array| *array.data_type() == DataType::Int64);
    let data_type = match kind {
        Type::Decimal { places } if mixed || places > 6 || there().any(|array| wide(&array)) => {
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
    let parts = tables.iter().map(|(_, table)| match table.column(name) {
        Ok(array) if *array.data_type() != DataType::Null => converted(array, &data_type),
        _ => Ok(new_null_array(&data_type, table.rows())),
    });
    let parts = parts.collect::<Result<Vec<ArrayRef>>>()?;
    let array = concat(&parts.iter().map(|part| &**part).collect::<Vec<_>>())?;
    let order =
        tables.iter().find_map(|(_, table)| table.field(name).filter(|_| table.order_of(name).is_some()));
    let field = match (kind, order) {
        (Type::Date(periods), _) => period_field(name, periods),
        (_, Some(field)) => field,
        _ => Field::new(name, data_type, true),
    };
    Ok((field, array))
}

/// 64-bit decimals where the values still fit them with so many places, else 128-bit ones.
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
        (DataType::Decimal64(..) | DataType::Decimal128(..), DataType::Float64) => Ok(cast(array, to)?),
        (from, to) if from == to => Ok(array.clone()),
        _ => cast_strictly(array, to),
    }
}

/// The name of each row's table.
fn sources(tables: &[(&str, &Table)]) -> Result<ArrayRef> {
    let names = StringViewArray::from_iter_values(tables.iter().map(|(name, _)| name));
    let index: arrow_array::UInt32Array = (0..tables.len() as u32)
        .zip(tables)
        .flat_map(|(n, (_, table))| std::iter::repeat_n(Some(n), table.rows()))
        .collect();
    Ok(take(&names, &index, None)?)
}
