//! Finds the type of each part of an expression, and whether the types fit together: all errors
//! that do not need the data.

use super::{
    ExpressionContext,
    ast::{Arithmetic, Comparison, Literal, Node, NodeKind, constant_span},
    functions::Call,
    problem::Problem,
    types::{BOOLEAN, TermType, common, needed, places, whole},
};
use crate::{
    calendar::{Periods, Weekday, common_periods},
    error::Error,
    kind::Type,
    shape::Shape,
};

/// Checks an expression against these columns.
pub(super) struct Check<'a> {
    pub(super) shape: &'a Shape,
    pub(super) context: ExpressionContext<'a>,
}

impl Check<'_> {
    pub(super) fn kind(&self, node: &Node) -> Result<TermType, Problem> {
        match &node.kind {
            NodeKind::Literal(literal) => Ok(literal_kind(literal)),
            NodeKind::Name { name, quoted, .. } => self.name(node, name, *quoted),
            NodeKind::AsOf if self.context.as_of.is_none() && !self.context.as_of_follows => {
                Err(Problem::new(&node.at, "`as_of` is the as-of date, and none is given")
                    .advice("give an as-of date; put a column of this name in double quotes"))
            }
            NodeKind::AsOf => Ok(TermType::Of(Type::DAYS)),
            NodeKind::Negative(value) => match self.kind(value)? {
                kind if kind.is_number() || kind.is_open() || kind == TermType::Span => Ok(kind),
                kind => Err(needed(&value.at, "a number", kind)),
            },
            NodeKind::Not(value) => self.condition(value).map(|()| BOOLEAN),
            NodeKind::And(both) | NodeKind::Or(both) => {
                both.iter().try_for_each(|part| self.condition(part)).map(|()| BOOLEAN)
            }
            NodeKind::Arithmetic(operation, [left, right]) => {
                self.arithmetic(node, *operation, left, right)
            }
            NodeKind::Comparison(comparison, [left, right]) => {
                if [left, right].iter().any(|side| side.kind == NodeKind::Literal(Literal::Missing))
                {
                    let problem =
                        Problem::new(&node.at, "a comparison with `missing` is never true");
                    return Err(problem.advice("use `is missing` with the other side"));
                }
                let ordered = !matches!(comparison, Comparison::Equal | Comparison::NotEqual);
                let (one, other) = (self.kind(left)?, self.kind(right)?);
                self.comparable(node, (left, one), (right, other), ordered).map(|()| BOOLEAN)
            }
            NodeKind::In { value, list, .. } => {
                let kind = self.kind(value)?;
                let held = |item: &Node| {
                    self.comparable(item, (value, kind), (item, self.kind(item)?), false)
                };
                list.iter().try_for_each(held).map(|()| BOOLEAN)
            }
            NodeKind::IsMissing { value, .. } => self.kind(value).map(|_| BOOLEAN),
            NodeKind::If([condition, one, other]) => {
                self.condition(condition)?;
                {
                    let parts =
                        [one, other].map(|part| self.kind(part).map(|kind| (&part.at, kind)));
                    let [one, other] = parts;
                    common(&node.at, [one?, other?])
                }
            }
            NodeKind::Call { function, arguments } => {
                let call = Call { function: *function, node, arguments };
                let kinds = call.values()?.iter().map(|argument| self.kind(argument));
                call.kind(&kinds.collect::<Result<Vec<TermType>, Problem>>()?)
            }
        }
    }

    fn name(&self, node: &Node, name: &str, quoted: bool) -> Result<TermType, Problem> {
        match self.shape.find(name) {
            Ok(column) => Ok(match column.kind {
                None => TermType::Unknown,
                Some(Type::Nothing) => TermType::Missing,
                Some(kind) => TermType::Of(kind),
            }),
            // The name of a weekday is its own value, unless there is a column of that name.
            Err(_) if !quoted && name.parse::<Weekday>().is_ok() => Ok(TermType::Weekday),
            Err(Error::NoSuchColumn { file, nearest, columns, .. }) => {
                let file = file.map(|file| format!("{file}: ")).unwrap_or_default();
                let problem = Problem::new(&node.at, format!("{file}there is no column `{name}`"));
                let quoted = |names: &[String]| {
                    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>()
                };
                Err(problem.advice(match nearest[..] {
                    [] => {
                        format!(
                            "the columns are: {}; put a text in single quotes",
                            quoted(&columns).join(", ")
                        )
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

    fn arithmetic(
        &self,
        node: &Node,
        operation: Arithmetic,
        left: &Node,
        right: &Node,
    ) -> Result<TermType, Problem> {
        use Arithmetic::{Minus, Over, Plus, Times};
        let (one, other) = (self.kind(left)?, self.kind(right)?);
        let wrong =
            |problem: String, advice: &str| Err(Problem::new(&node.at, problem).advice(advice));
        match (operation, one, other) {
            (Plus, TermType::Of(Type::Date(_) | Type::Moment { .. }), TermType::Span)
            | (Minus, TermType::Of(Type::Date(_) | Type::Moment { .. }), TermType::Span) => {
                self.shifted(node, one, right)
            }
            (Plus, TermType::Span, TermType::Of(Type::Date(_) | Type::Moment { .. })) => {
                self.shifted(node, other, left)
            }
            (Plus | Minus, TermType::Span, TermType::Unknown)
            | (Plus | Minus, TermType::Unknown, TermType::Span) => Ok(TermType::Unknown),
            (Minus, TermType::Of(Type::Date(one)), TermType::Of(Type::Date(other)))
                if one == other =>
            {
                Ok(TermType::Of(Type::Integer))
            }
            (Minus, TermType::Of(Type::Date(one)), TermType::Of(Type::Date(other))) => wrong(
                format!("{} cannot be subtracted from {}", Type::Date(other), Type::Date(one)),
                "convert both to one grain first: `period(d, month)`",
            ),
            (
                Minus,
                TermType::Of(Type::Date(Periods::DAYS) | Type::Moment { .. }),
                TermType::Of(Type::Date(Periods::DAYS) | Type::Moment { .. }),
            ) => Ok(TermType::Of(Type::Integer)),
            (Plus | Minus, TermType::Of(Type::Date(_) | Type::Moment { .. }), other)
                if other.is_number() =>
            {
                wrong(
                    format!("a number cannot be added to or subtracted from {}", one.words()),
                    "add a unit: `7 days`",
                )
            }
            // This side is missing or unknown, but the other one must still fit the operator.
            (_, one, other) if one == TermType::Missing || other == TermType::Missing => {
                goes_with(operation, [(one, left), (other, right)]).map(|()| TermType::Missing)
            }
            (_, one, other) if one == TermType::Unknown || other == TermType::Unknown => {
                goes_with(operation, [(one, left), (other, right)]).map(|()| TermType::Unknown)
            }
            (_, TermType::Of(_), TermType::Of(_)) if one.is_number() && other.is_number() => {
                number_type(operation, one, other).or_else(|places| {
                    let most = super::exact::MOST_PLACES;
                    let problem = format!(
                        "this has {places} places behind the point, of which {most} can be held \
                            exactly"
                    );
                    wrong(problem, "round before: `round(x, 2)`")
                })
            }
            (Times | Over, ..)
            | (_, TermType::Of(Type::Text | Type::Boolean | Type::Time), _)
            | (_, TermType::Weekday | TermType::Span, _) => {
                let (side, kind) = if one.is_number() { (right, other) } else { (left, one) };
                Err(needed(&side.at, "a number", kind))
            }
            (_, one, other) => wrong(
                format!("{} and {} cannot be added or subtracted", one.words(), other.words()),
                "date − date gives days, date ± span gives a date",
            ),
        }
    }

    /// A date plus or minus a span.
    fn shifted(&self, node: &Node, date: TermType, span: &Node) -> Result<TermType, Problem> {
        let Some(span) = constant_span(span) else { return Ok(date) };
        match date {
            TermType::Of(Type::Date(periods)) if !span.fits(periods.grain()) => {
                let words = format!("{span} is not a whole number of {}", periods.grain().plural());
                Err(Problem::new(&node.at, words).advice("the column holds no finer dates"))
            }
            date => Ok(date),
        }
    }

    /// Whether two parts of these kinds can be compared.
    fn comparable(
        &self,
        node: &Node,
        (left, one): (&Node, TermType),
        (right, other): (&Node, TermType),
        ordered: bool,
    ) -> Result<(), Problem> {
        let fits = match (one, other) {
            (one, other) if one.is_open() || other.is_open() => {
                one != TermType::Span && other != TermType::Span
            }
            (one, other) if one.is_number() && other.is_number() => true,
            (TermType::Of(Type::Boolean), TermType::Of(Type::Boolean)) => !ordered,
            (TermType::Weekday, TermType::Weekday) => true,
            (TermType::Weekday, TermType::Of(Type::Text))
            | (TermType::Of(Type::Text), TermType::Weekday) => {
                for side in [left, right] {
                    if let NodeKind::Literal(Literal::Text(text)) = &side.kind {
                        let known = text.parse::<Weekday>();
                        return known
                            .map(drop)
                            .map_err(|error| Problem::new(&side.at, error.to_string()));
                    }
                }
                let advice = "the column holds text: compare it with texts in single quotes, or \
                    take `weekday(…)` of a date";
                return Err(
                    Problem::new(&node.at, "weekdays cannot be compared with text").advice(advice)
                );
            }
            (TermType::Of(Type::Date(one)), TermType::Of(Type::Date(other))) => {
                if common_periods(one, other).is_none() {
                    let problem = format!(
                        "{} and {} cannot be compared, because neither consists of the other",
                        one_of(one),
                        one_of(other)
                    );
                    return Err(Problem::new(&node.at, problem));
                }
                true
            }
            (
                TermType::Of(Type::Date(_) | Type::Moment { .. }),
                TermType::Of(Type::Date(_) | Type::Moment { .. }),
            ) => true,
            (one, other) => one == other && one != TermType::Span,
        };
        if fits {
            return Ok(());
        }
        let problem = Problem::new(
            &node.at,
            format!("{} cannot be compared with {}", one.words(), other.words()),
        );
        Err(match (one, other) {
            (TermType::Of(Type::Text), TermType::Of(Type::Date(_) | Type::Moment { .. }))
            | (TermType::Of(Type::Date(_) | Type::Moment { .. }),
                TermType::Of(Type::Text)) => problem.advice(
                "a date stands without quotes: 2025-06-30; a column of text is no dates (`jembric \
                    look` tells why)",
            ),
            (TermType::Of(Type::Text), number) | (number,
                TermType::Of(Type::Text)) if number.is_number() => {
                problem.advice("write a number without quotes; a column of text holds no numbers")
            }
            (TermType::Of(Type::Boolean), TermType::Of(Type::Boolean)) => problem.advice("true \
                and false are equal or not"),
            _ => problem,
        })
    }
}

fn literal_kind(literal: &Literal) -> TermType {
    match literal {
        Literal::Integer(_) => TermType::Of(Type::Integer),
        Literal::Decimal { places, .. } => TermType::Of(Type::Decimal { places: *places as i8 }),
        Literal::Float(_) => TermType::Of(Type::Float),
        Literal::Text(_) => TermType::Of(Type::Text),
        Literal::Period(period) => TermType::Of(Type::Date(period.periods())),
        Literal::Time(_) => TermType::Of(Type::Time),
        Literal::Moment { instant, .. } => TermType::Of(Type::Moment { instant: *instant }),
        Literal::Span(_) => TermType::Span,
        Literal::Boolean(_) => BOOLEAN,
        Literal::Missing => TermType::Missing,
    }
}

/// Errors: the kind of one side is known, and does not fit the operator.
fn goes_with(operation: Arithmetic, sides: [(TermType, &Node); 2]) -> Result<(), Problem> {
    let is_sum = matches!(operation, Arithmetic::Plus | Arithmetic::Minus);
    let goes = |kind: TermType| {
        let dated =
            matches!(kind, TermType::Of(Type::Date(_) | Type::Moment { .. }) | TermType::Span);
        kind.is_number() || kind.is_open() || dated && is_sum
    };
    match sides.into_iter().find(|(kind, _)| !goes(*kind)) {
        Some((kind, side)) => Err(needed(&side.at, "a number", kind)),
        None => Ok(()),
    }
}

/// The kind of the operator's result for two numbers. Errors: the number of decimal places, if it
/// is more than can be exact.
fn number_type(operation: Arithmetic, one: TermType, other: TermType) -> Result<TermType, i8> {
    let float = TermType::Of(Type::Float);
    if operation == Arithmetic::Over || one == float || other == float {
        return Ok(float);
    }
    let (left, right) = (places(one), places(other));
    let places = if operation == Arithmetic::Times { left + right } else { left.max(right) };
    match places {
        0 if whole(one) && whole(other) => Ok(TermType::Of(Type::Integer)),
        places if places > super::exact::MOST_PLACES => Err(places),
        places => Ok(TermType::Of(Type::Decimal { places })),
    }
}

fn one_of(periods: Periods) -> String {
    Type::Date(periods).to_string()
}
