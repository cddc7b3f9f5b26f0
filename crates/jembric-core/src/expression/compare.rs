//! Comparisons of values, and the choice of the lesser or greater one.

use super::{
    ast::{Comparison, Function},
    calendrical, exact,
    types::{TermType, common_number},
    value::{Rows, Value, choose, datum, only_true, weekday_text},
};
use crate::{calendar::Zone, error::Result, kind::Type};
use arrow_arith::boolean::{is_not_null, is_null, or};
use arrow_array::{Array, BooleanArray, cast::AsArray, new_null_array};
use arrow_ord::cmp;
use std::sync::Arc;

/// Compares two values in each row.
pub(super) fn comparison(
    comparison: Comparison,
    left: &Value,
    right: &Value,
    rows: &Rows<'_>,
) -> Result<Value> {
    let constant = left.constant && right.constant;
    let truth = |array| Ok(Value::new(TermType::Of(Type::Boolean), Arc::new(array), constant));
    if left.kind == TermType::Missing || right.kind == TermType::Missing {
        return truth(BooleanArray::new_null(if constant { 1 } else { rows.count }));
    }
    let (left, right) = comparable(left, right, rows.zone)?;
    let (a, b) = (datum(&left), datum(&right));
    truth(match comparison {
        Comparison::Equal => cmp::eq(&*a, &*b)?,
        Comparison::NotEqual => cmp::neq(&*a, &*b)?,
        Comparison::Less => cmp::lt(&*a, &*b)?,
        Comparison::LessOrEqual => cmp::lt_eq(&*a, &*b)?,
        Comparison::Greater => cmp::gt(&*a, &*b)?,
        Comparison::GreaterOrEqual => cmp::gt_eq(&*a, &*b)?,
    })
}

/// Converts both to one Arrow type with the same order.
fn comparable(left: &Value, right: &Value, zone: &Zone) -> Result<(Value, Value)> {
    match (left.kind, right.kind) {
        (TermType::Weekday, TermType::Of(Type::Text)) => Ok((left.clone(), weekday_text(right))),
        (TermType::Of(Type::Text), TermType::Weekday) => Ok((weekday_text(left), right.clone())),
        (
            TermType::Of(Type::Date(_) | Type::Moment { .. }),
            TermType::Of(Type::Date(_) | Type::Moment { .. }),
        ) => calendrical::comparable(left, right, zone),
        (TermType::Of(Type::Float), other) | (other, TermType::Of(Type::Float))
            if other != TermType::Of(Type::Float) =>
        {
            exact::compared(left, right)
        }
        (one, other) if one != other || matches!(one, TermType::Of(Type::Decimal { .. })) => {
            exact::alike(left, right)
        }
        _ => Ok((left.clone(), right.clone())),
    }
}

/// The lesser or greater of two values, or the first that is present; missing values are
/// skipped.
pub(super) fn better(
    function: Function,
    best: Value,
    next: Value,
    rows: &Rows<'_>,
) -> Result<Value> {
    match (best.kind, next.kind) {
        (TermType::Missing, _) => return Ok(next),
        (_, TermType::Missing) => return Ok(best),
        _ => {}
    }
    let count = if best.constant && next.constant { 1 } else { rows.count };
    let comparison = match function {
        Function::Coalesce => None,
        Function::Least => Some(Comparison::LessOrEqual),
        _ => Some(Comparison::GreaterOrEqual),
    };
    // Numbers are compared before they are converted to one type.
    let better = comparison.map(|comparison| self::comparison(comparison, &best, &next, rows));
    let (best, next) = alike(best, next)?;
    let keeps = match better {
        None => is_not_null(&best.rows(count)?)?,
        Some(better) => {
            let better = better?.rows(count)?;
            let better = only_true(better.as_boolean());
            let next_missing = is_null(&next.rows(count)?)?;
            or(&better, &next_missing)?
        }
    };
    if count == 1 && best.constant && next.constant {
        return Ok(if keeps.value(0) { best } else { next });
    }
    choose(&keeps, &best, &next)
}

/// Converts two values of one column to one Arrow type.
pub(super) fn alike(one: Value, other: Value) -> Result<(Value, Value)> {
    let typed_missing =
        |like: &Value| Value::new(like.kind, new_null_array(like.array.data_type(), 1), true);
    match (one.kind, other.kind) {
        (TermType::Missing, TermType::Missing) => Ok((one, other)),
        (TermType::Missing, _) => Ok((typed_missing(&other), other)),
        (_, TermType::Missing) => {
            let missing = typed_missing(&one);
            Ok((one, missing))
        }
        (TermType::Of(Type::Integer | Type::Decimal { .. } | Type::Float), _) => {
            let (one, other) = exact::alike(&one, &other)?;
            let kind = common_number(one.kind, other.kind);
            Ok((Value { kind, ..one }, Value { kind, ..other }))
        }
        _ => Ok((one, other)),
    }
}
