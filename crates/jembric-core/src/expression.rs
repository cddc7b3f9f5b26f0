//! The language of conditions and computed columns: `level > 3.2 and weekday(day) in (tue, thu)`.
//!
//! The text is split into tokens (`lexer`), parsed into a tree (`parse`), checked against the
//! columns (`check`), and evaluated for all rows at once (`evaluate`, with `exact` for numbers and
//! `calendrical` for dates). The functions are one table (`functions`). Everything that can be
//! wrong without the data is found before any row is read, and the message marks its place in the
//! text.
//!
//! * Values: `12`, `3.5`, `'text'`, `2025-06-30`, `2025-06` (a month), `2025-06-30T14:05`, `14:05`,
//!   `9 months`, `true`, `false`, `missing`, `as_of`
//! * Columns: by name; a name with blanks or signs in double quotes, such as `"arrived on"`
//! * Operators: `+ - * /`, `= != < <= > >=`, `and or not`, `in (…)`, `not in (…)`, `is missing`,
//!   `is not missing`, `if … then … else …`
//! * Functions of dates: `year quarter month day weekday week` of a date, `hour minute` of a moment
//!   or time, `date(moment)`, `date(y, m, d)`, `time(moment)`, `period(d, month)`
//! * Functions of numbers: `abs`, `round(x)`, `round(x, places)`
//! * Functions of any values: `least`, `greatest`, `coalesce`, which skip missing values
//! * Functions of text: `lower`, `upper`, `trim`
//!
//! Whole numbers and decimals are exact, or an error. A quotient is a float, and missing if the
//! divisor is 0. Halves are rounded away from zero. Date − date is a number of days (months between
//! months); date ± span is a date. To compare a day with a month, the day is converted to its
//! month; a moment is converted to its day in the same way. Arithmetic with a missing value is
//! missing. A comparison with a missing value is unknown, and so not true.

mod ast;
mod calendrical;
mod check;
mod compare;
mod evaluate;
mod exact;
mod functions;
mod lexer;
mod parse;
mod problem;
mod types;
mod value;

use crate::{
    calendar::{Day, Zone},
    error::{Error, Result},
    kind::Type,
    shape::Shape,
    table::Table,
};
use arrow_array::{ArrayRef, BooleanArray};
use arrow_schema::Field;
use ast::{Meaning, Node, NodeKind};
use evaluate::Evaluation;
use problem::Problem;
use std::{cell::RefCell, collections::BTreeSet, fmt, str::FromStr};
use types::TermType;

/// A parsed expression, which is not bound to columns yet.
#[derive(Clone, Debug)]
pub struct Expression {
    text: String,
    root: Node,
}

/// An expression that is bound to the columns of a shape.
#[derive(Clone, Debug)]
pub(crate) struct BoundExpression {
    text: String,
    root: Node,
    /// Its type, if it does not depend on types that are unknown so far.
    pub(crate) kind: Option<Type>,
    /// The places of the columns that it uses.
    pub(crate) columns: BTreeSet<usize>,
    /// Whether it uses the as-of date.
    pub(crate) uses_as_of: bool,
    /// Whether its value depends on the time zone that converts points in time to days.
    pub(crate) cuts_instants: bool,
}

/// What could not be computed in some rows and is missing there.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub(crate) struct Unanswered {
    pub(crate) divisions_by_zero: u64,
    /// A year, month and day that are not a date.
    pub(crate) no_such_day: u64,
}

impl FromStr for Expression {
    type Err = Error;

    fn from_str(text: &str) -> Result<Expression> {
        let root = parse::parse(text).map_err(|problem| problem.within(text))?;
        Ok(Expression { text: text.to_owned(), root })
    }
}

impl fmt::Display for Expression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

/// What an expression needs to know besides the rows.
#[derive(Clone, Copy, Debug)]
pub struct ExpressionContext<'a> {
    /// The as-of date.
    pub(crate) as_of: Option<Day>,
    /// The date will be given, but is not known before the data is read.
    pub(crate) as_of_follows: bool,
    /// The time zone that converts points in time to days.
    pub(crate) zone: &'a Zone,
}

impl Expression {
    /// The functions of the language: how to call each one, and what it returns.
    pub fn functions() -> impl Iterator<Item = (&'static str, &'static str)> {
        functions::all()
    }

    /// The type of the expression for these columns; none if it depends on types that are unknown
    /// so far.
    ///
    /// Errors: an unknown column or function; types that do not fit together.
    pub fn check<'a>(
        &self,
        shape: &Shape,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<Option<Type>> {
        let kind = check::Check { shape, context: context.into() }
            .kind(&self.root)
            .map_err(|problem| problem.within(&self.text))?;
        match kind {
            TermType::Of(kind) => Ok(Some(kind)),
            TermType::Weekday => Ok(Some(Type::Text)),
            TermType::Missing => Ok(Some(Type::Nothing)),
            TermType::Unknown => Ok(None),
            TermType::Span => Err(self.wrong("this is a span, and a column cannot hold a span")),
        }
    }

    /// Errors: the expression is not a condition for these columns.
    pub(crate) fn check_condition<'a>(
        &self,
        shape: &Shape,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<()> {
        match self.check(shape, context)? {
            None | Some(Type::Boolean | Type::Nothing) => Ok(()),
            Some(kind) => {
                let problem =
                    format!("expected a condition, which is true or false, but this is {kind}");
                Err(self.wrong(&problem))
            }
        }
    }

    fn wrong(&self, problem: &str) -> Error {
        Problem::new(&(0..self.text.len()), problem).within(&self.text)
    }

    /// Checks the expression for columns of this shape, and resolves its names.
    ///
    /// Errors: those of [`check`](Expression::check).
    pub(crate) fn bind<'a>(
        &self,
        shape: &Shape,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<BoundExpression> {
        let kind = self.check(shape, context)?;
        let mut root = self.root.clone();
        root.bind(shape);
        let columns = RefCell::new(BTreeSet::new());
        root.any(&|node| {
            if let NodeKind::Name { meaning: Meaning::Column(place), .. } = node.kind {
                columns.borrow_mut().insert(place);
            }
            false
        });
        let columns = columns.into_inner();
        let is_instant = |&place: &usize| shape.kind(place) == Some(Type::Moment { instant: true });
        Ok(BoundExpression {
            text: self.text.clone(),
            kind,
            uses_as_of: root.any(&|node| matches!(node.kind, NodeKind::AsOf)),
            cuts_instants: columns.iter().any(is_instant),
            root,
            columns,
        })
    }

    /// The same for a condition.
    ///
    /// Errors: as for `bind`; the expression is not a condition.
    pub(crate) fn bind_condition<'a>(
        &self,
        shape: &Shape,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<BoundExpression> {
        let context = context.into();
        self.check_condition(shape, context)?;
        self.bind(shape, context)
    }
}

impl BoundExpression {
    /// Evaluates the expression in every row, as a column with this name.
    ///
    /// Errors: numbers that are too large to be exact; dates outside the calendar. Cost: one pass
    /// over the columns for each operator and function.
    pub(crate) fn column<'a>(
        &self,
        name: &str,
        table: &Table,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<(Field, ArrayRef, Unanswered)> {
        let evaluation = Evaluation::new(table, context.into());
        let (field, array) = evaluation.value(&self.root)?.into_column(name, table.rows())?;
        Ok((field, array, evaluation.unanswered()))
    }

    /// The rows where it is true. Rows where it is unknown are missing.
    pub(crate) fn condition<'a>(
        &self,
        table: &Table,
        context: impl Into<ExpressionContext<'a>>,
    ) -> Result<(BooleanArray, Unanswered)> {
        let evaluation = Evaluation::new(table, context.into());
        let truth = evaluation.truth(&self.root)?;
        Ok((truth, evaluation.unanswered()))
    }
}

impl fmt::Display for BoundExpression {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

#[cfg(test)]
mod tests;
