//! What type each part of an expression has, and whether the types go together: all that can be wrong without the data.

use super::{
    Problem,
    functions::Call,
    parse::{Arithmetic, Comparison, Literal, Meaning, Node, NodeKind},
};
use crate::{
    calendar::{Grain, Periods, Span, Weekday, common_periods},
    context::Context,
    error::Error,
    shape::{Shape, Type},
};
use std::ops::Range;

/// What a part of an expression is.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Kind {
    Of(Type),
    Weekday,
    Span,
    /// No value at all: it can stand for any type.
    Missing,
    /// A column whose type is not known before the file is read.
    Unknown,
}

const BOOLEAN: Kind = Kind::Of(Type::Boolean);

impl Kind {
    pub(super) fn words(self) -> String {
        match self {
            Kind::Of(Type::Boolean) => "true or false".to_owned(),
            Kind::Of(kind) => kind.to_string(),
            Kind::Weekday => "weekdays".to_owned(),
            Kind::Span => "a span".to_owned(),
            Kind::Missing => "no value".to_owned(),
            Kind::Unknown => "something that is not known yet".to_owned(),
        }
    }

    fn is_number(self) -> bool {
        matches!(self, Kind::Of(Type::Integer | Type::Decimal { .. } | Type::Float))
    }

    /// Whether it can stand where anything else can.
    pub(super) fn is_open(self) -> bool {
        matches!(self, Kind::Missing | Kind::Unknown)
    }
}

/// An expression is held against these columns.
pub(super) struct Check<'a> {
    pub(super) shape: &'a Shape,
    pub(super) context: &'a Context,
}

impl Check<'_> {
    pub(super) fn kind(&self, node: &Node) -> Result<Kind, Problem> {
        match &node.kind {
            NodeKind::Literal(literal) => Ok(literal_kind(literal)),
            NodeKind::Name { name, quoted, .. } => self.name(node, name, *quoted),
            NodeKind::AsOf if self.context.as_of_is_unknown() => Err(Problem::new(
                &node.at,
                "`as_of` stands for the date that the answer speaks of, which was not given",
            )
            .advice("give an as-of date; a column of this name stands in double quotes")),
            NodeKind::AsOf => Ok(Kind::Of(Type::DAYS)),
            NodeKind::Negative(value) => match self.kind(value)? {
                kind if kind.is_number() || kind.is_open() || kind == Kind::Span => Ok(kind),
                kind => Err(needed(&value.at, "a number", kind)),
            },
            NodeKind::Not(value) => self.condition(value).map(|()| BOOLEAN),
            NodeKind::And(both) | NodeKind::Or(both) => {
                both.iter().try_for_each(|part| self.condition(part)).map(|()| BOOLEAN)
            }
            NodeKind::Arithmetic(operation, [left, right]) => self.arithmetic(node, *operation, left, right),
            NodeKind::Comparison(comparison, [left, right]) => {
                if [left, right].iter().any(|side| side.kind == NodeKind::Literal(Literal::Missing)) {
                    let problem = Problem::new(&node.at, "a comparison with `missing` is never true");
                    return Err(problem.advice("ask `is missing` of what stands on the other side"));
                }
                let ordered = !matches!(comparison, Comparison::Equal | Comparison::NotEqual);
                let (one, other) = (self.kind(left)?, self.kind(right)?);
                self.comparable(node, (left, one), (right, other), ordered).map(|()| BOOLEAN)
            }
            NodeKind::In { value, list, .. } => {
                let kind = self.kind(value)?;
                let held =
                    |item: &Node| self.comparable(item, (value, kind), (item, self.kind(item)?), false);
                list.iter().try_for_each(held).map(|()| BOOLEAN)
            }
            NodeKind::IsMissing { value, .. } => self.kind(value).map(|_| BOOLEAN),
            NodeKind::If([condition, one, other]) => {
                self.condition(condition)?;
                self.one_of(node, &[one, other])
            }
            NodeKind::Call { function, arguments } => {
                Call { function: *function, node, arguments }.kind(self)
            }
        }
    }

    fn name(&self, node: &Node, name: &str, quoted: bool) -> Result<Kind, Problem> {
        match self.shape.find(name) {
            Ok(column) => Ok(match column.kind {
                None => Kind::Unknown,
                Some(Type::Nothing) => Kind::Missing,
                Some(kind) => Kind::Of(kind),
            }),
            // Where there is no such column, the names of weekdays stand for themselves.
            Err(_) if !quoted && name.parse::<Weekday>().is_ok() => Ok(Kind::Weekday),
            Err(Error::NoSuchColumn { file, nearest, columns, .. }) => {
                let file = file.map(|file| format!("{file}: ")).unwrap_or_default();
                let problem = Problem::new(&node.at, format!("{file}there is no column `{name}`"));
                let quoted =
                    |names: &[String]| names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>();
                Err(problem.advice(match nearest[..] {
                    [] => {
                        format!("there are: {}; a text stands in single quotes", quoted(&columns).join(", "))
                    }
                    _ => format!("did you mean {}?", quoted(&nearest).join(" or ")),
                }))
            }
            Err(error) => Err(Problem::new(&node.at, error.to_string())),
        }
    }

    fn condition(&self, node: &Node) -> Result<(), Problem> {
        match self.kind(node)? {
            kind if kind == BOOLEAN || kind.is_open() => Ok(()),
            kind => Err(needed(&node.at, "a condition", kind)),
        }
    }

    pub(super) fn number(&self, node: &Node) -> Result<Kind, Problem> {
        match self.kind(node)? {
            kind if kind.is_number() || kind.is_open() => Ok(kind),
            kind => Err(needed(&node.at, "a number", kind)),
        }
    }

    fn arithmetic(
        &self,
        node: &Node,
        operation: Arithmetic,
        left: &Node,
        right: &Node,
    ) -> Result<Kind, Problem> {
        use Arithmetic::{Minus, Over, Plus, Times};
        let (one, other) = (self.kind(left)?, self.kind(right)?);
        let wrong = |problem: String, advice: &str| Err(Problem::new(&node.at, problem).advice(advice));
        match (operation, one, other) {
            (Plus, Kind::Of(Type::Date(_) | Type::Moment { .. }), Kind::Span)
            | (Minus, Kind::Of(Type::Date(_) | Type::Moment { .. }), Kind::Span) => {
                self.shifted(node, one, right)
            }
            (Plus, Kind::Span, Kind::Of(Type::Date(_) | Type::Moment { .. })) => {
                self.shifted(node, other, left)
            }
            (Plus | Minus, Kind::Span, Kind::Unknown) | (Plus | Minus, Kind::Unknown, Kind::Span) => {
                Ok(Kind::Unknown)
            }
            (Minus, Kind::Of(Type::Date(one)), Kind::Of(Type::Date(other))) if one == other => {
                Ok(Kind::Of(Type::Integer))
            }
            (Minus, Kind::Of(Type::Date(one)), Kind::Of(Type::Date(other))) => wrong(
                format!("{} cannot be taken from {}", Type::Date(other), Type::Date(one)),
                "bring both to one grain first: `period(d, month)`",
            ),
            (
                Minus,
                Kind::Of(Type::Date(Periods::DAYS) | Type::Moment { .. }),
                Kind::Of(Type::Date(Periods::DAYS) | Type::Moment { .. }),
            ) => Ok(Kind::Of(Type::Integer)),
            (Plus | Minus, Kind::Of(Type::Date(_) | Type::Moment { .. }), other) if other.is_number() => {
                wrong(
                    format!("a number cannot be added to or taken from {}", one.words()),
                    "say of what: `7 days`",
                )
            }
            (_, one, other) if one == Kind::Missing || other == Kind::Missing => {
                // It is missing; but what the other side is must go with the sign.
                for (kind, side) in [(one, left), (other, right)] {
                    let dated = matches!(kind, Kind::Of(Type::Date(_) | Type::Moment { .. }) | Kind::Span);
                    if !(kind.is_number() || kind.is_open() || dated && matches!(operation, Plus | Minus)) {
                        return Err(needed(&side.at, "a number", kind));
                    }
                }
                Ok(Kind::Missing)
            }
            (_, one, other) if one == Kind::Unknown || other == Kind::Unknown => {
                for (kind, side) in [(one, left), (other, right)] {
                    let dated = matches!(kind, Kind::Of(Type::Date(_) | Type::Moment { .. }));
                    if !(kind.is_number() || kind.is_open() || dated && matches!(operation, Plus | Minus)) {
                        return Err(needed(&side.at, "a number", kind));
                    }
                }
                Ok(Kind::Unknown)
            }
            (_, Kind::Of(_), Kind::Of(_)) if one.is_number() && other.is_number() => {
                let kind = match (one, other) {
                    _ if operation == Over => Type::Float,
                    (Kind::Of(Type::Float), _) | (_, Kind::Of(Type::Float)) => Type::Float,
                    _ => {
                        let (left, right) = (places(one), places(other));
                        let places = if operation == Times { left + right } else { left.max(right) };
                        if places > super::exact::MOST_PLACES {
                            return wrong(
                                format!(
                                    "this has {places} places behind the point, of which {} can be held exactly",
                                    super::exact::MOST_PLACES
                                ),
                                "round before: `round(x, 2)`",
                            );
                        }
                        if left == 0 && right == 0 && whole(one) && whole(other) {
                            Type::Integer
                        } else {
                            Type::Decimal { places }
                        }
                    }
                };
                Ok(Kind::Of(kind))
            }
            (Times | Over, ..)
            | (_, Kind::Of(Type::Text | Type::Boolean | Type::Time), _)
            | (_, Kind::Weekday | Kind::Span, _) => {
                let (side, kind) = if one.is_number() { (right, other) } else { (left, one) };
                Err(needed(&side.at, "a number", kind))
            }
            (_, one, other) => wrong(
                format!("{} and {} cannot be added or taken from each other", one.words(), other.words()),
                "date − date is whole days, date ± span is a date",
            ),
        }
    }

    /// A date with a span added or taken.
    fn shifted(&self, node: &Node, date: Kind, span: &Node) -> Result<Kind, Problem> {
        let Some(span) = constant_span(span) else { return Ok(date) };
        match date {
            Kind::Of(Type::Date(periods)) if !span.fits(periods.grain()) => {
                let words = format!("{span} is not a whole number of {}", periods.grain().plural());
                Err(Problem::new(&node.at, words).advice("the column holds nothing finer"))
            }
            date => Ok(date),
        }
    }

    /// Whether two parts of these kinds can be compared.
    fn comparable(
        &self,
        node: &Node,
        (left, one): (&Node, Kind),
        (right, other): (&Node, Kind),
        ordered: bool,
    ) -> Result<(), Problem> {
        let fits = match (one, other) {
            (one, other) if one.is_open() || other.is_open() => one != Kind::Span && other != Kind::Span,
            (one, other) if one.is_number() && other.is_number() => true,
            (Kind::Of(Type::Boolean), Kind::Of(Type::Boolean)) => !ordered,
            (Kind::Weekday, Kind::Weekday) => true,
            (Kind::Weekday, Kind::Of(Type::Text)) | (Kind::Of(Type::Text), Kind::Weekday) => {
                for side in [left, right] {
                    if let NodeKind::Literal(Literal::Text(text)) = &side.kind {
                        let known = text.parse::<Weekday>();
                        return known.map(drop).map_err(|error| Problem::new(&side.at, error.to_string()));
                    }
                }
                let advice = "the column holds text: compare it with texts in single quotes, or take `weekday(…)` of a date";
                return Err(Problem::new(&node.at, "weekdays cannot be compared with text").advice(advice));
            }
            (Kind::Of(Type::Date(one)), Kind::Of(Type::Date(other))) => {
                if common_periods(one, other).is_none() {
                    let problem = format!(
                        "{} and {} cannot be compared: neither is made of the other",
                        one_of(one),
                        one_of(other)
                    );
                    return Err(Problem::new(&node.at, problem));
                }
                true
            }
            (
                Kind::Of(Type::Date(_) | Type::Moment { .. }),
                Kind::Of(Type::Date(_) | Type::Moment { .. }),
            ) => true,
            (one, other) => one == other && one != Kind::Span,
        };
        if fits {
            return Ok(());
        }
        let problem =
            Problem::new(&node.at, format!("{} cannot be compared with {}", one.words(), other.words()));
        Err(match (one, other) {
            (Kind::Of(Type::Text), Kind::Of(Type::Date(_) | Type::Moment { .. }))
            | (Kind::Of(Type::Date(_) | Type::Moment { .. }), Kind::Of(Type::Text)) => problem.advice(
                "a date stands without quotes: 2025-06-30; a column of text is no dates (`jembric look` tells why)",
            ),
            (Kind::Of(Type::Text), number) | (number, Kind::Of(Type::Text)) if number.is_number() => {
                problem.advice("a number stands without quotes; a column of text is no numbers")
            }
            (Kind::Of(Type::Boolean), Kind::Of(Type::Boolean)) => problem.advice("true and false are equal or not"),
            _ => problem,
        })
    }

    /// The kind that all of these have, where they go together.
    pub(super) fn one_of(&self, node: &Node, parts: &[&Node]) -> Result<Kind, Problem> {
        let mut all = Kind::Missing;
        let mut unknown = false;
        for part in parts {
            let kind = self.kind(part)?;
            all = match (all, kind) {
                (all, Kind::Missing) => all,
                (Kind::Missing, kind) => kind,
                (all, Kind::Unknown) => {
                    unknown = true;
                    all
                }
                (Kind::Unknown, kind) => {
                    unknown = true;
                    kind
                }
                (one, other) if one.is_number() && other.is_number() => common_number(one, other),
                (one, other) if one == other && one != Kind::Span => one,
                (one, other) => {
                    let words = format!(
                        "{} here, but {} in another place: one column cannot hold both",
                        other.words(),
                        one.words()
                    );
                    return Err(Problem::new(&part.at, words));
                }
            };
        }
        if all == Kind::Span {
            return Err(Problem::new(&node.at, "a span cannot stand in a column"));
        }
        Ok(if unknown { Kind::Unknown } else { all })
    }

    /// A date in which a period of this grain can be told.
    pub(super) fn dated(&self, node: &Node, grain: Grain) -> Result<(), Problem> {
        match self.kind(node)? {
            Kind::Of(Type::Moment { .. }) | Kind::Missing | Kind::Unknown => Ok(()),
            Kind::Of(Type::Date(periods)) if grain.holds(periods.grain()) => Ok(()),
            Kind::Of(Type::Date(periods)) => {
                let words =
                    format!("this holds {}, of which the {grain} cannot be told", periods.grain().plural());
                Err(Problem::new(&node.at, words))
            }
            kind => Err(needed(&node.at, "a date", kind)),
        }
    }
}

fn literal_kind(literal: &Literal) -> Kind {
    match literal {
        Literal::Integer(_) => Kind::Of(Type::Integer),
        Literal::Decimal { places, .. } => Kind::Of(Type::Decimal { places: *places as i8 }),
        Literal::Float(_) => Kind::Of(Type::Float),
        Literal::Text(_) => Kind::Of(Type::Text),
        Literal::Period(period) => Kind::Of(Type::Date(period.periods())),
        Literal::Time(_) => Kind::Of(Type::Time),
        Literal::Moment { instant, .. } => Kind::Of(Type::Moment { instant: *instant }),
        Literal::Span(_) => Kind::Span,
        Literal::Boolean(_) => BOOLEAN,
        Literal::Missing => Kind::Missing,
    }
}

/// The kind of number that holds both.
pub(super) fn common_number(one: Kind, other: Kind) -> Kind {
    match (one, other) {
        (Kind::Of(Type::Float), _) | (_, Kind::Of(Type::Float)) => Kind::Of(Type::Float),
        _ if whole(one) && whole(other) => Kind::Of(Type::Integer),
        _ => Kind::Of(Type::Decimal { places: places(one).max(places(other)) }),
    }
}

fn whole(kind: Kind) -> bool {
    kind == Kind::Of(Type::Integer)
}

fn places(kind: Kind) -> i8 {
    match kind {
        Kind::Of(Type::Decimal { places }) => places,
        _ => 0,
    }
}

/// A span that is written out, with its sign.
pub(super) fn constant_span(node: &Node) -> Option<Span> {
    match &node.kind {
        NodeKind::Literal(Literal::Span(span)) => Some(*span),
        NodeKind::Negative(inner) => constant_span(inner).map(Span::negated),
        _ => None,
    }
}

pub(super) fn grain_of(node: &Node) -> Result<Grain, Problem> {
    match &node.kind {
        NodeKind::Name { meaning: Meaning::Grain(grain), .. } => Ok(*grain),
        NodeKind::Name { name, .. } => {
            name.parse().map_err(|error: Error| Problem::new(&node.at, error.to_string()))
        }
        _ => {
            Err(Problem::new(&node.at, "a grain should stand here: hour, day, week, month, quarter or year"))
        }
    }
}

pub(super) fn places_of(node: &Node) -> Result<i8, Problem> {
    match node.kind {
        NodeKind::Literal(Literal::Integer(places @ 0..=9)) => Ok(places as i8),
        _ => Err(Problem::new(&node.at, "the number of places should stand here: 0 to 9")),
    }
}

fn one_of(periods: Periods) -> String {
    Type::Date(periods).to_string()
}

pub(super) fn needed(at: &Range<usize>, what: &str, found: Kind) -> Problem {
    Problem::new(at, format!("{what} is needed here, but this is {}", found.words()))
}
