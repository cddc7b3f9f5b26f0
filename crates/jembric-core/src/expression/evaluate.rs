//! Evaluates an expression in all rows at once. The types have been checked before.

use super::{
    ExpressionContext, Unanswered, calendrical,
    check::{TermType, common_number, constant_span},
    exact,
    functions::{Call, Function},
    parse::{Arithmetic, Comparison, Literal, Meaning, Node, NodeKind},
};
use crate::{
    calendar::{Span, Weekday, Zone},
    error::{Error, Result},
    kind::{Type, period_field},
    table::{Table, ordered_field},
};
use arrow_arith::boolean::{and_kleene, is_not_null, is_null, not, or, or_kleene};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Datum, Decimal64Array, Decimal128Array,
    Float64Array, Int64Array, NullArray, Scalar, StringViewArray, Time64MicrosecondArray,
    TimestampMicrosecondArray, UInt32Array, cast::AsArray, new_null_array, types::Int64Type,
};
use arrow_ord::cmp;
use arrow_schema::Field;
use arrow_select::{take::take, zip::zip};
use std::{cell::Cell, sync::Arc};

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
fn datum(value: &Value) -> Box<dyn Datum> {
    if value.constant {
        Box::new(Scalar::new(value.array.clone()))
    } else {
        Box::new(value.array.clone())
    }
}

/// The rows, and the context.
pub(super) struct Evaluation<'a> {
    pub(super) table: &'a Table,
    pub(super) context: ExpressionContext<'a>,
    divisions_by_zero: Cell<u64>,
    no_such_day: Cell<u64>,
}

impl<'a> Evaluation<'a> {
    pub(super) fn new(table: &'a Table, context: ExpressionContext<'a>) -> Evaluation<'a> {
        Evaluation { table, context, divisions_by_zero: Cell::new(0), no_such_day: Cell::new(0) }
    }

    pub(super) fn unanswered(&self) -> Unanswered {
        Unanswered {
            divisions_by_zero: self.divisions_by_zero.get(),
            no_such_day: self.no_such_day.get(),
        }
    }

    pub(super) fn zone(&self) -> &Zone {
        self.context.zone
    }

    /// The truth of a condition in each row; missing if it is unknown.
    pub(super) fn truth(&self, node: &Node) -> Result<BooleanArray> {
        let value = self.value(node)?;
        if value.kind == TermType::Missing {
            return Ok(BooleanArray::new_null(self.table.rows()));
        }
        Ok(value.rows(self.table.rows())?.as_boolean().clone())
    }

    /// The value of a node. It calls itself for each level, so it keeps little on the stack: each
    /// kind of node has a function of its own.
    pub(super) fn value(&self, node: &Node) -> Result<Value> {
        match &node.kind {
            NodeKind::Literal(literal) => Ok(constant(literal)),
            NodeKind::Name { meaning, .. } => Ok(self.named(*meaning)),
            NodeKind::AsOf => self.as_of(),
            NodeKind::Negative(value) => self.negative(value),
            NodeKind::Not(value) => self.boolean(&[value], |values| Ok(not(values[0])?)),
            NodeKind::And([left, right]) => {
                self.boolean(&[left, right], |values| Ok(and_kleene(values[0], values[1])?))
            }
            NodeKind::Or([left, right]) => {
                self.boolean(&[left, right], |values| Ok(or_kleene(values[0], values[1])?))
            }
            NodeKind::Arithmetic(operation, both) => match shift(*operation, both) {
                Some((date, span)) => self.shifted(date, span),
                None => self.arithmetic(*operation, both),
            },
            NodeKind::Comparison(comparison, both) => self.compared(*comparison, both),
            NodeKind::In { value, list, negated } => self.is_in(value, list, *negated),
            NodeKind::IsMissing { value, negated } => self.is_missing(value, *negated),
            NodeKind::If(parts) => self.chosen(parts),
            NodeKind::Call { function, arguments } => {
                Call { function: *function, node, arguments }.value(self)
            }
        }
    }

    fn as_of(&self) -> Result<Value> {
        let day = self.context.as_of.ok_or(Error::NoAsOf { what: "`as_of`" })?;
        let array = Arc::new(Date32Array::from(vec![day.number()]));
        Ok(Value::new(TermType::Of(Type::DAYS), array, true))
    }

    fn negative(&self, node: &Node) -> Result<Value> {
        let value = self.value(node)?;
        if value.kind == TermType::Missing {
            return Ok(value);
        }
        exact::negative(&value, false)
    }

    /// A date, moved by a span.
    fn shifted(&self, date: &Node, span: Span) -> Result<Value> {
        let date = self.value(date)?;
        if date.kind == TermType::Missing {
            return Ok(date);
        }
        calendrical::shifted(&date, span, self.zone())
    }

    fn is_missing(&self, node: &Node, negated: bool) -> Result<Value> {
        let value = self.value(node)?;
        let missing = is_null(&value.array)?;
        let truth = if negated { not(&missing)? } else { missing };
        Ok(value.with(TermType::Of(Type::Boolean), Arc::new(truth)))
    }

    fn chosen(&self, [condition, one, other]: &[Box<Node>; 3]) -> Result<Value> {
        let condition = self.value(condition)?;
        let (one, other) = alike(self.value(one)?, self.value(other)?)?;
        match condition.kind {
            TermType::Missing => Ok(other),
            _ if condition.constant => {
                let truth = condition.array.as_boolean();
                Ok(if truth.is_valid(0) && truth.value(0) { one } else { other })
            }
            _ => choose(condition.array.as_boolean(), &one, &other),
        }
    }

    fn named(&self, meaning: Meaning) -> Value {
        match meaning {
            Meaning::Column(place) => match self.table.kind(place) {
                Type::Nothing => Value::missing(),
                kind => Value::new(TermType::Of(kind), self.table.at(place).clone(), false),
            },
            Meaning::Weekday(weekday) => constant_weekday(weekday),
            // A bound expression has no other names in place of a value.
            Meaning::Grain(_) | Meaning::Unknown => Value::missing(),
        }
    }

    /// A condition of several conditions.
    fn boolean(
        &self,
        parts: &[&Node],
        work: impl FnOnce(&[&BooleanArray]) -> Result<BooleanArray>,
    ) -> Result<Value> {
        let values = parts.iter().map(|part| self.value(part)).collect::<Result<Vec<_>>>()?;
        let constant = values.iter().all(|value| value.constant);
        let rows = if constant { 1 } else { self.table.rows() };
        let truth = |value: &Value| match value.kind {
            TermType::Missing => Ok(BooleanArray::new_null(rows)),
            _ => Ok(value.rows(rows)?.as_boolean().clone()),
        };
        let truths = values.iter().map(truth).collect::<Result<Vec<_>>>()?;
        let result = work(&truths.iter().collect::<Vec<_>>())?;
        Ok(Value::new(TermType::Of(Type::Boolean), Arc::new(result), constant))
    }

    fn arithmetic(&self, operation: Arithmetic, [left, right]: &[Box<Node>; 2]) -> Result<Value> {
        let (left, right) = (&self.value(left)?, &self.value(right)?);
        match (left.kind, right.kind) {
            (TermType::Missing, _) | (_, TermType::Missing) => Ok(Value::missing()),
            (TermType::Of(Type::Date(_) | Type::Moment { .. }), _) => {
                calendrical::difference(left, right, self.zone())
            }
            _ => {
                let mut zeros = 0;
                let value = exact::arithmetic(operation, left, right, &mut zeros)?;
                // A value for all rows holds for each row.
                let rows = if value.constant { self.table.rows() as u64 } else { 1 };
                self.divisions_by_zero.set(self.divisions_by_zero.get() + zeros * rows);
                Ok(value)
            }
        }
    }

    fn compared(&self, comparison: Comparison, [left, right]: &[Box<Node>; 2]) -> Result<Value> {
        self.comparison(comparison, &self.value(left)?, &self.value(right)?)
    }

    fn comparison(&self, comparison: Comparison, left: &Value, right: &Value) -> Result<Value> {
        let constant = left.constant && right.constant;
        let truth = |array| Ok(Value::new(TermType::Of(Type::Boolean), Arc::new(array), constant));
        if left.kind == TermType::Missing || right.kind == TermType::Missing {
            return truth(BooleanArray::new_null(if constant { 1 } else { self.table.rows() }));
        }
        let (left, right) = self.comparable(left, right)?;
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
    fn comparable(&self, left: &Value, right: &Value) -> Result<(Value, Value)> {
        match (left.kind, right.kind) {
            (TermType::Weekday, TermType::Of(Type::Text)) => {
                Ok((left.clone(), weekday_text(right)))
            }
            (TermType::Of(Type::Text), TermType::Weekday) => {
                Ok((weekday_text(left), right.clone()))
            }
            (
                TermType::Of(Type::Date(_) | Type::Moment { .. }),
                TermType::Of(Type::Date(_) | Type::Moment { .. }),
            ) => calendrical::comparable(left, right, self.zone()),
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

    fn is_in(&self, value: &Node, list: &[Node], negated: bool) -> Result<Value> {
        let value = &self.value(value)?;
        let mut found: Option<Value> = None;
        for item in list {
            let equal = self.comparison(Comparison::Equal, value, &self.value(item)?)?;
            found = Some(match found {
                None => equal,
                Some(before) => {
                    let rows =
                        if before.constant && equal.constant { 1 } else { self.table.rows() };
                    let (one, other) = (before.rows(rows)?, equal.rows(rows)?);
                    let either = or_kleene(one.as_boolean(), other.as_boolean())?;
                    Value::new(equal.kind, Arc::new(either), before.constant && equal.constant)
                }
            });
        }
        let none = || {
            Value::new(TermType::Of(Type::Boolean), Arc::new(BooleanArray::from(vec![false])), true)
        };
        let found = found.unwrap_or_else(none);
        if !negated {
            return Ok(found);
        }
        let is_in_none = not(found.array.as_boolean())?;
        Ok(found.with(found.kind, Arc::new(is_in_none)))
    }

    /// Counts the rows whose year, month and day are not a date.
    pub(super) fn note_no_such_day(&self, rows: u64) {
        self.no_such_day.set(self.no_such_day.get() + rows);
    }

    /// The lesser or greater of two values, or the first that is present; missing values are
    /// skipped.
    pub(super) fn better(&self, function: Function, best: Value, next: Value) -> Result<Value> {
        match (best.kind, next.kind) {
            (TermType::Missing, _) => return Ok(next),
            (_, TermType::Missing) => return Ok(best),
            _ => {}
        }
        let rows = if best.constant && next.constant { 1 } else { self.table.rows() };
        let comparison = match function {
            Function::Coalesce => None,
            Function::Least => Some(Comparison::LessOrEqual),
            _ => Some(Comparison::GreaterOrEqual),
        };
        // Numbers are compared before they are converted to one type.
        let better = comparison.map(|comparison| self.comparison(comparison, &best, &next));
        let (best, next) = alike(best, next)?;
        let keeps = match better {
            None => is_not_null(&best.rows(rows)?)?,
            Some(better) => {
                let better = better?.rows(rows)?;
                let better = only_true(better.as_boolean());
                let next_missing = is_null(&next.rows(rows)?)?;
                or(&better, &next_missing)?
            }
        };
        if rows == 1 && best.constant && next.constant {
            return Ok(if keeps.value(0) { best } else { next });
        }
        choose(&keeps, &best, &next)
    }
}

/// The date, and the span that is added to it, if one of both is a span.
fn shift(operation: Arithmetic, [left, right]: &[Box<Node>; 2]) -> Option<(&Node, Span)> {
    match constant_span(right) {
        Some(span) if operation == Arithmetic::Minus => Some((left, span.negated())),
        Some(span) => Some((left, span)),
        None => constant_span(left).map(|span| (&**right, span)),
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
fn only_true(condition: &BooleanArray) -> BooleanArray {
    match condition.nulls() {
        None => condition.clone(),
        Some(decided) => BooleanArray::new(condition.values() & decided.inner(), None),
    }
}

/// Converts two values of one column to one Arrow type.
fn alike(one: Value, other: Value) -> Result<(Value, Value)> {
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

fn constant(literal: &Literal) -> Value {
    let (kind, array): (Type, ArrayRef) = match literal {
        Literal::Integer(number) => (Type::Integer, Arc::new(Int64Array::from(vec![*number]))),
        Literal::Decimal { units, places } => {
            let places = *places as i8;
            let fits = places <= 18 && units.unsigned_abs() < 1_000_000_000_000_000_000;
            let narrow = i64::try_from(*units).ok().filter(|_| fits);
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

fn constant_weekday(weekday: Weekday) -> Value {
    Value::new(
        TermType::Weekday,
        Arc::new(Int64Array::from(vec![i64::from(weekday.number())])),
        true,
    )
}

/// A weekday that is written as text.
fn weekday_text(value: &Value) -> Value {
    let text = value.array.as_string_view();
    text.iter()
        .flatten()
        .next()
        .and_then(|text| text.parse().ok())
        .map_or_else(Value::missing, constant_weekday)
}

pub(super) fn text(value: &Value, work: impl Fn(&str) -> String) -> Value {
    let texts: StringViewArray =
        value.array.as_string_view().iter().map(|text| text.map(&work)).collect();
    value.with(value.kind, Arc::new(texts))
}
