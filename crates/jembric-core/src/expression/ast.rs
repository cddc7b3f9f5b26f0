//! The tree of an expression: its nodes, with their places in the text.

use super::problem::Problem;
use crate::{
    calendar::{Grain, Period, Span, ValueError, Weekday},
    shape::Shape,
};
use std::ops::Range;

/// A part of an expression, and its place in the text.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Node {
    pub(super) at: Range<usize>,
    pub(super) kind: NodeKind,
    pub(super) depth: usize,
}

#[derive(Clone, Debug, PartialEq)]
pub(super) enum NodeKind {
    Literal(Literal),
    Name { name: String, quoted: bool, meaning: Meaning },
    AsOf,
    Negative(Box<Node>),
    Not(Box<Node>),
    Arithmetic(Arithmetic, [Box<Node>; 2]),
    Comparison(Comparison, [Box<Node>; 2]),
    And([Box<Node>; 2]),
    Or([Box<Node>; 2]),
    In { value: Box<Node>, list: Vec<Node>, negated: bool },
    IsMissing { value: Box<Node>, negated: bool },
    If([Box<Node>; 3]),
    Call { function: Function, arguments: Vec<Node> },
}

/// The meaning of a name, once the columns are known.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Meaning {
    /// The columns are not known yet.
    Unknown,
    /// The column at this place.
    Column(usize),
    Weekday(Weekday),
    Grain(Grain),
}

#[derive(Clone, Debug, PartialEq)]
pub(super) enum Literal {
    Integer(i64),
    Decimal {
        /// At most 38 digits.
        units: i128,
        places: u8,
    },
    Float(f64),
    Text(String),
    Period(Period),
    /// Microseconds since midnight.
    Time(i64),
    /// Microseconds since 1970, in UTC for a point in time.
    Moment {
        micros: i64,
        instant: bool,
    },
    Span(Span),
    Boolean(bool),
    Missing,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Arithmetic {
    Plus,
    Minus,
    Times,
    Over,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Node {
    /// Whether any part of it satisfies this.
    pub(super) fn any(&self, like: &impl Fn(&Node) -> bool) -> bool {
        like(self) || self.parts().any(|part| part.any(like))
    }

    /// Resolves each name for these columns: to a grain where a grain is expected, else to a
    /// column, else to a weekday. The check has found that there is one.
    pub(super) fn bind(&mut self, shape: &Shape) {
        if let NodeKind::Name { name, quoted, meaning } = &mut self.kind {
            let column =
                shape.columns().iter().position(|column| column.name == *name).map(Meaning::Column);
            let weekday = || name.parse().ok().filter(|_| !*quoted).map(Meaning::Weekday);
            *meaning = column.or_else(weekday).unwrap_or(Meaning::Unknown);
        }
        if let NodeKind::Call { function: Function::Period, arguments } = &mut self.kind
            && let [date, grain] = &mut arguments[..]
        {
            date.bind(shape);
            if let NodeKind::Name { name, meaning, .. } = &mut grain.kind
                && let Ok(grain) = name.parse()
            {
                *meaning = Meaning::Grain(grain);
            }
            return;
        }
        self.parts_mut().for_each(|part| part.bind(shape));
    }

    fn parts_mut(&mut self) -> Box<dyn Iterator<Item = &mut Node> + '_> {
        match &mut self.kind {
            NodeKind::Literal(_) | NodeKind::Name { .. } | NodeKind::AsOf => {
                Box::new(std::iter::empty())
            }
            NodeKind::Negative(one)
            | NodeKind::Not(one)
            | NodeKind::IsMissing { value: one, .. } => Box::new(std::iter::once(&mut **one)),
            NodeKind::Arithmetic(_, two)
            | NodeKind::Comparison(_, two)
            | NodeKind::And(two)
            | NodeKind::Or(two) => Box::new(two.iter_mut().map(|part| &mut **part)),
            NodeKind::In { value, list, .. } => Box::new(std::iter::once(&mut **value).chain(list)),
            NodeKind::If(three) => Box::new(three.iter_mut().map(|part| &mut **part)),
            NodeKind::Call { arguments, .. } => Box::new(arguments.iter_mut()),
        }
    }

    fn parts(&self) -> Box<dyn Iterator<Item = &Node> + '_> {
        match &self.kind {
            NodeKind::Literal(_) | NodeKind::Name { .. } | NodeKind::AsOf => {
                Box::new(std::iter::empty())
            }
            NodeKind::Negative(one)
            | NodeKind::Not(one)
            | NodeKind::IsMissing { value: one, .. } => Box::new(std::iter::once(&**one)),
            NodeKind::Arithmetic(_, two)
            | NodeKind::Comparison(_, two)
            | NodeKind::And(two)
            | NodeKind::Or(two) => Box::new(two.iter().map(|part| &**part)),
            NodeKind::In { value, list, .. } => Box::new(std::iter::once(&**value).chain(list)),
            NodeKind::If(three) => Box::new(three.iter().map(|part| &**part)),
            NodeKind::Call { arguments, .. } => Box::new(arguments.iter()),
        }
    }
}

/// A function.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Function {
    Year,
    Quarter,
    Month,
    Day,
    Weekday,
    Week,
    Hour,
    Minute,
    Date,
    Time,
    Period,
    Abs,
    Round,
    Least,
    Greatest,
    Coalesce,
    Lower,
    Upper,
    Trim,
}

/// A literal span with its sign.
pub(super) fn constant_span(node: &Node) -> Option<Span> {
    match &node.kind {
        NodeKind::Literal(Literal::Span(span)) => Some(*span),
        NodeKind::Negative(inner) => constant_span(inner).map(Span::negated),
        _ => None,
    }
}

/// The grain that an argument names.
pub(super) fn grain_of(node: &Node) -> Result<Grain, Problem> {
    match &node.kind {
        NodeKind::Name { meaning: Meaning::Grain(grain), .. } => Ok(*grain),
        NodeKind::Name { name, .. } => {
            name.parse().map_err(|error: ValueError| Problem::new(&node.at, error.to_string()))
        }
        _ => Err(Problem::new(
            &node.at,
            "expected a grain here: hour, day, week, month, quarter or year",
        )),
    }
}

/// The decimal places that an argument names.
pub(super) fn places_of(node: &Node) -> Result<i8, Problem> {
    match node.kind {
        NodeKind::Literal(Literal::Integer(places @ 0..=9)) => Ok(places as i8),
        _ => Err(Problem::new(&node.at, "expected the number of decimal places here: 0 to 9")),
    }
}
