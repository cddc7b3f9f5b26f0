//! Evaluates an expression in all rows at once. The types have been checked before.

use super::{
    ExpressionContext, Unanswered,
    ast::{Arithmetic, Comparison, Meaning, Node, NodeKind, constant_span},
    calendrical,
    compare::{self, alike},
    exact,
    functions::Call,
    types::TermType,
    value::{Rows, Value, choose, constant, constant_weekday},
};
use crate::{
    calendar::Span,
    error::{Error, Result},
    kind::Type,
    table::Table,
};
use arrow_arith::boolean::{and_kleene, is_null, not, or_kleene};
use arrow_array::{Array, BooleanArray, Date32Array, cast::AsArray};
use std::{cell::Cell, sync::Arc};

/// Evaluates the nodes of an expression for a table.
pub(super) struct Evaluation<'a> {
    table: &'a Table,
    context: ExpressionContext<'a>,
    rows: Rows<'a>,
}

impl<'a> Evaluation<'a> {
    pub(super) fn new(table: &'a Table, context: ExpressionContext<'a>) -> Evaluation<'a> {
        let (divisions_by_zero, no_such_day) = (Cell::new(0), Cell::new(0));
        let (count, zone) = (table.rows(), context.zone);
        let rows = Rows { count, zone, divisions_by_zero, no_such_day };
        Evaluation { table, context, rows }
    }

    pub(super) fn unanswered(&self) -> Unanswered {
        Unanswered {
            divisions_by_zero: self.rows.divisions_by_zero.get(),
            no_such_day: self.rows.no_such_day.get(),
        }
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
                self.call(Call { function: *function, node, arguments })
            }
        }
    }

    fn call(&self, call: Call<'_>) -> Result<Value> {
        let arguments = call.values().map_err(Call::refused)?;
        let values = arguments.iter().map(|argument| self.value(argument));
        call.value(&values.collect::<Result<Vec<Value>>>()?, &self.rows)
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
        calendrical::shifted(&date, span, self.rows.zone)
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
                calendrical::difference(left, right, self.rows.zone)
            }
            _ => {
                let mut zeros = 0;
                let value = exact::arithmetic(operation, left, right, &mut zeros)?;
                // A value for all rows holds for each row.
                let rows = if value.constant { self.table.rows() as u64 } else { 1 };
                let divisions = &self.rows.divisions_by_zero;
                divisions.set(divisions.get() + zeros * rows);
                Ok(value)
            }
        }
    }

    fn compared(&self, comparison: Comparison, [left, right]: &[Box<Node>; 2]) -> Result<Value> {
        compare::comparison(comparison, &self.value(left)?, &self.value(right)?, &self.rows)
    }

    fn is_in(&self, value: &Node, list: &[Node], negated: bool) -> Result<Value> {
        let value = &self.value(value)?;
        let mut found: Option<Value> = None;
        for item in list {
            let equal =
                compare::comparison(Comparison::Equal, value, &self.value(item)?, &self.rows)?;
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
}

/// The date, and the span that is added to it, if one of both is a span.
fn shift(operation: Arithmetic, [left, right]: &[Box<Node>; 2]) -> Option<(&Node, Span)> {
    match constant_span(right) {
        Some(span) if operation == Arithmetic::Minus => Some((left, span.negated())),
        Some(span) => Some((left, span)),
        None => constant_span(left).map(|span| (&**right, span)),
    }
}
