//! [`Value`]: the value of a part of an expression in all rows at once.

use super::{ast::Literal, types::TermType};
use crate::{
    calendar::{Weekday, Zone},
    error::Result,
    kind::{Type, period_field},
    table::ordered_field,
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Datum, Decimal64Array, Decimal128Array,
    Float64Array, Int64Array, NullArray, Scalar, StringViewArray, Time64MicrosecondArray,
    TimestampMicrosecondArray, UInt32Array, cast::AsArray, new_null_array, types::Int64Type,
};
use arrow_schema::Field;
use arrow_select::{take::take, zip::zip};
use std::{cell::Cell, sync::Arc};

/// The rows in which an expression is evaluated, and the number of those in which something could
/// not be computed.
pub(super) struct Rows<'a> {
    pub(super) count: usize,
    pub(super) zone: &'a Zone,
    pub(super) divisions_by_zero: Cell<u64>,
    pub(super) no_such_day: Cell<u64>,
}

/// The value of a part of an expression: one for each row, or one for all rows.
#[derive(Clone, Debug)]
pub(super) struct Value {
    pub(super) kind: TermType,
    /// Of length one if it is constant. Weekdays are their numbers.
    pub(super) array: ArrayRef,
    pub(super) constant: bool,
}

impl Value {
    pub(super) fn new(kind: TermType, array: ArrayRef, constant: bool) -> Value {
        Value { kind, array, constant }
    }

    /// Another value for the same rows.
    pub(super) fn with(&self, kind: TermType, array: ArrayRef) -> Value {
        Value { kind, array, constant: self.constant }
    }

    pub(super) fn missing() -> Value {
        Value::new(TermType::Missing, Arc::new(NullArray::new(1)), true)
    }

    /// The value as a column of a table.
    pub(super) fn into_column(self, name: &str, rows: usize) -> Result<(Field, ArrayRef)> {
        let array = self.rows(rows)?;
        Ok(match self.kind {
            TermType::Weekday => {
                let names = StringViewArray::from_iter_values(Weekday::NAMES);
                let index =
                    array.as_primitive::<Int64Type>().unary::<_, Int64Type>(|number| number - 1);
                (ordered_field(name, &Weekday::NAMES), take(&names, &index, None)?)
            }
            TermType::Of(Type::Date(periods)) => (period_field(name, periods), array),
            _ => (Field::new(name, array.data_type().clone(), true), array),
        })
    }

    /// The value in each row.
    pub(super) fn rows(&self, rows: usize) -> Result<ArrayRef> {
        if !self.constant {
            Ok(self.array.clone())
        } else if self.array.is_null(0) || self.kind == TermType::Missing {
            Ok(new_null_array(self.array.data_type(), rows))
        } else {
            Ok(take(&self.array, &UInt32Array::from(vec![0; rows]), None)?)
        }
    }
}

/// Two values as operands of Arrow's kernels.
/// The value as an operand of Arrow's kernels.
pub(super) fn datum(value: &Value) -> Box<dyn Datum> {
    if value.constant {
        Box::new(Scalar::new(value.array.clone()))
    } else {
        Box::new(value.array.clone())
    }
}

/// One value if the condition is true, and the other if it is false or unknown.
pub(super) fn choose(condition: &BooleanArray, one: &Value, other: &Value) -> Result<Value> {
    let condition = only_true(condition);
    let array = zip(&condition, &*datum(one), &*datum(other))?;
    let constant = one.constant && other.constant && condition.len() == 1;
    Ok(Value::new(one.kind, array, constant))
}

/// The condition, with false for unknown.
pub(super) fn only_true(condition: &BooleanArray) -> BooleanArray {
    match condition.nulls() {
        None => condition.clone(),
        Some(decided) => BooleanArray::new(condition.values() & decided.inner(), None),
    }
}

/// A literal as a value.
pub(super) fn constant(literal: &Literal) -> Value {
    let (kind, array): (Type, ArrayRef) = match literal {
        Literal::Integer(number) => (Type::Integer, Arc::new(Int64Array::from(vec![*number]))),
        Literal::Decimal { units, places } => {
            let places = *places as i8;
            let fits = places <= 18 && units.unsigned_abs() < 1_000_000_000_000_000_000;
            let narrow = if fits { i64::try_from(*units).ok() } else { None };
            let narrow = narrow.map(|units| {
                Decimal64Array::from(vec![units]).with_precision_and_scale(18, places)
            });
            let array: ArrayRef = match narrow {
                Some(Ok(array)) => Arc::new(array),
                _ => {
                    let wide =
                        Decimal128Array::from(vec![*units]).with_precision_and_scale(38, places);
                    Arc::new(wide.expect("the parser lets at most 38 digits be a decimal"))
                }
            };
            (Type::Decimal { places }, array)
        }
        Literal::Float(number) => (Type::Float, Arc::new(Float64Array::from(vec![*number]))),
        Literal::Text(text) => (Type::Text, Arc::new(StringViewArray::from_iter_values([text]))),
        Literal::Period(period) => (
            Type::Date(period.periods()),
            Arc::new(Date32Array::from(vec![period.first().number()])),
        ),
        Literal::Time(micros) => {
            (Type::Time, Arc::new(Time64MicrosecondArray::from(vec![*micros])))
        }
        Literal::Moment { micros, instant } => {
            let moments = TimestampMicrosecondArray::from(vec![*micros]);
            let array = if *instant { moments.with_timezone("UTC") } else { moments };
            (Type::Moment { instant: *instant }, Arc::new(array))
        }
        Literal::Boolean(truth) => (Type::Boolean, Arc::new(BooleanArray::from(vec![*truth]))),
        // A span is used by the date that it is added to.
        Literal::Missing | Literal::Span(_) => return Value::missing(),
    };
    Value::new(TermType::Of(kind), array, true)
}

pub(super) fn constant_weekday(weekday: Weekday) -> Value {
    Value::new(
        TermType::Weekday,
        Arc::new(Int64Array::from(vec![i64::from(weekday.number())])),
        true,
    )
}

/// A weekday that is written as text.
pub(super) fn weekday_text(value: &Value) -> Value {
    let text = value.array.as_string_view();
    text.iter()
        .flatten()
        .next()
        .and_then(|text| text.parse().ok())
        .map_or_else(Value::missing, constant_weekday)
}

/// A text in each row, changed by a function.
pub(super) fn text(value: &Value, work: impl Fn(&str) -> String) -> Value {
    let texts: StringViewArray =
        value.array.as_string_view().iter().map(|text| text.map(&work)).collect();
    value.with(value.kind, Arc::new(texts))
}
