//! Parses tokens into a tree, by precedence: `or`, `and`, `not`, comparisons, `+ -`, `* /`, a sign
//! before a value.

use super::{
    ast::{Arithmetic, Comparison, Function, Literal, Meaning, Node, NodeKind},
    lexer::{Word, words},
    problem::Problem,
};
use crate::calendar::{
    Day, Period, Span,
    notation::{self, NotADate},
};
use std::ops::Range;

/// The deepest nesting of an expression, and the most parts that may be open at once. Both are
/// processed recursively, which must not overflow the stack.
const DEEPEST: usize = 250;
const MOST_OPEN: usize = 60;

/// Parses a whole text.
pub(super) fn parse(text: &str) -> Result<Node, Problem> {
    let words = words(text)?;
    if words.is_empty() {
        return Err(Problem::new(&(0..text.len()), "this expression is empty"));
    }
    let mut parser = Parser { words, next: 0, end: text.len(), open: 0 };
    let node = parser.expression()?;
    match parser.words.get(parser.next) {
        None => Ok(node),
        Some((Word::Sign(")"), at)) => Err(Problem::new(at, "this `)` closes nothing")),
        Some((_, at)) => Err(Problem::new(at, "the expression is complete before this")
            .advice("is `and`, `or` or an operator missing?")),
    }
}

struct Parser<'a> {
    words: Vec<(Word<'a>, Range<usize>)>,
    next: usize,
    end: usize,
    /// The number of parts that are open.
    open: usize,
}

type Parsed = Result<Node, Problem>;

impl<'a> Parser<'a> {
    fn expression(&mut self) -> Parsed {
        self.deeper(|parser| {
            let mut left = parser.conjunction()?;
            while parser.takes_name("or") {
                let right = parser.conjunction()?;
                left = two(left, right, NodeKind::Or)?;
            }
            Ok(left)
        })
    }

    fn conjunction(&mut self) -> Parsed {
        let mut left = self.negation()?;
        while self.takes_name("and") {
            let right = self.negation()?;
            left = two(left, right, NodeKind::And)?;
        }
        Ok(left)
    }

    fn negation(&mut self) -> Parsed {
        let start = self.place().start;
        if self.takes_name("not") {
            let value = self.deeper(Parser::negation)?;
            return node(start..value.at.end, value.depth, NodeKind::Not(Box::new(value)));
        }
        self.comparison()
    }

    fn comparison(&mut self) -> Parsed {
        let left = self.sum()?;
        if let Some(comparison) = self.takes_comparison() {
            let right = self.sum()?;
            if self.peek_comparison().is_some() {
                let problem = Problem::new(&self.place(), "comparisons cannot be chained");
                return Err(problem.advice("join two comparisons: `a < b and b < c`"));
            }
            return two(left, right, |both| NodeKind::Comparison(comparison, both));
        }
        if self.takes_name("is") {
            let negated = self.takes_name("not");
            if !self.takes_name("missing") {
                return Err(self.expected("`missing` or `not missing` after `is`"));
            }
            let (at, depth) = (left.at.start..self.before().end, left.depth);
            return node(at, depth, NodeKind::IsMissing { value: Box::new(left), negated });
        }
        let negated = self.is_name_at(0, "not") && self.is_name_at(1, "in");
        if negated {
            self.next += 1;
        }
        if self.takes_name("in") {
            if !self.takes_sign("(") {
                return Err(self.expected("a list in parentheses after `in`"));
            }
            let (list, end) = self.list()?;
            let depth = list.iter().map(|item| item.depth).max().unwrap_or(0).max(left.depth);
            return node(
                left.at.start..end,
                depth,
                NodeKind::In { value: Box::new(left), list, negated },
            );
        }
        Ok(left)
    }

    fn sum(&mut self) -> Parsed {
        let mut left = self.product()?;
        loop {
            let operation = match self.peek() {
                Some(Word::Sign("+")) => Arithmetic::Plus,
                Some(Word::Sign("-")) => Arithmetic::Minus,
                _ => return Ok(left),
            };
            self.next += 1;
            let right = self.product()?;
            left = two(left, right, |both| NodeKind::Arithmetic(operation, both))?;
        }
    }

    fn product(&mut self) -> Parsed {
        let mut left = self.signed()?;
        loop {
            let operation = match self.peek() {
                Some(Word::Sign("*")) => Arithmetic::Times,
                Some(Word::Sign("/")) => Arithmetic::Over,
                _ => return Ok(left),
            };
            self.next += 1;
            let right = self.signed()?;
            left = two(left, right, |both| NodeKind::Arithmetic(operation, both))?;
        }
    }

    fn signed(&mut self) -> Parsed {
        let start = self.place().start;
        if self.takes_sign("-") {
            let value = self.deeper(Parser::signed)?;
            let at = start..value.at.end;
            // Without its sign, the least whole number is too large.
            return match value.kind {
                NodeKind::Literal(Literal::Decimal { units, places: 0 })
                    if units == -i128::from(i64::MIN) && self.is_least() =>
                {
                    node(at, 0, NodeKind::Literal(Literal::Integer(i64::MIN)))
                }
                _ => node(at, value.depth, NodeKind::Negative(Box::new(value))),
            };
        }
        self.value()
    }

    fn is_least(&self) -> bool {
        matches!(
            self.words.get(self.next.wrapping_sub(1)),
            Some((Word::Number("9223372036854775808"), _))
        )
    }

    fn value(&mut self) -> Parsed {
        let Some((word, at)) = self.words.get(self.next).cloned() else {
            return Err(self.expected("a value"));
        };
        self.next += 1;
        let literal = |literal| node(at.clone(), 0, NodeKind::Literal(literal));
        match word {
            Word::Date(text) => literal(date(text).map_err(|problem| Problem::new(&at, problem))?),
            Word::Time(text) => {
                let moment = notation::read(format!("2000-01-01T{text}").as_bytes()).ok();
                let time = moment.and_then(|moment| moment.time);
                literal(Literal::Time(
                    time.ok_or_else(|| Problem::new(&at, "this is not a time of day"))?,
                ))
            }
            Word::Number(text) => match self.span(text, &at)? {
                Some((span, at)) => node(at, 0, NodeKind::Literal(Literal::Span(span))),
                None => literal(number(text).map_err(|problem| Problem::new(&at, problem))?),
            },
            Word::Text(text) => literal(Literal::Text(text)),
            Word::Quoted(name) => {
                node(at, 0, NodeKind::Name { name, quoted: true, meaning: Meaning::Unknown })
            }
            Word::Sign("(") => {
                let inner = self.expression()?;
                if !self.takes_sign(")") {
                    return Err(self.not_closed(&at));
                }
                Ok(Node { at: at.start..self.before().end, ..inner })
            }
            Word::Name("if") => self.if_then_else(at),
            Word::Name("true") => literal(Literal::Boolean(true)),
            Word::Name("false") => literal(Literal::Boolean(false)),
            Word::Name("missing") => literal(Literal::Missing),
            Word::Name("as_of") => node(at, 0, NodeKind::AsOf),
            Word::Name(name) if !is_reserved(name) => {
                if !self.takes_sign("(") {
                    return node(
                        at,
                        0,
                        NodeKind::Name {
                            name: name.to_owned(),
                            quoted: false,
                            meaning: Meaning::Unknown,
                        },
                    );
                }
                let function = Function::named(name, &at)?;
                let (arguments, end) = self.list()?;
                let depth = arguments.iter().map(|argument| argument.depth).max().unwrap_or(0);
                node(at.start..end, depth, NodeKind::Call { function, arguments })
            }
            _ => {
                self.next -= 1;
                Err(self.expected("a value"))
            }
        }
    }

    fn if_then_else(&mut self, at: Range<usize>) -> Parsed {
        let condition = self.expression()?;
        if !self.takes_name("then") {
            return Err(self.expected("`then`, followed by the value if the condition is true"));
        }
        let one = self.expression()?;
        if !self.takes_name("else") {
            return Err(self.expected(
                "`else`, followed by the value if the condition is false or unknown (it may be \
                    `missing`)",
            ));
        }
        let other = self.expression()?;
        let depth = condition.depth.max(one.depth).max(other.depth);
        let at = at.start..other.at.end;
        node(at, depth, NodeKind::If([Box::new(condition), Box::new(one), Box::new(other)]))
    }

    /// The parts between parentheses, separated by commas, and where they end.
    fn list(&mut self) -> Result<(Vec<Node>, usize), Problem> {
        let open = self.before();
        let mut list = Vec::new();
        if self.takes_sign(")") {
            return Ok((list, self.before().end));
        }
        loop {
            list.push(self.expression()?);
            if self.takes_sign(")") {
                return Ok((list, self.before().end));
            }
            if !self.takes_sign(",") {
                return Err(if self.peek().is_none() {
                    self.not_closed(&open)
                } else {
                    self.expected("`,` or `)`")
                });
            }
        }
    }

    /// `9 months`, `1 year 2 weeks`: numbers with units of time.
    fn span(
        &mut self,
        first: &str,
        at: &Range<usize>,
    ) -> Result<Option<(Span, Range<usize>)>, Problem> {
        let mut text = String::new();
        let mut number = first;
        let mut end = at.end;
        while let Some((Word::Name(unit), unit_at)) = self.words.get(self.next) {
            if !matches!(
                unit.to_ascii_lowercase().trim_end_matches('s'),
                "day" | "week" | "month" | "year"
            ) {
                break;
            }
            text += &format!("{number} {unit} ");
            end = unit_at.end;
            self.next += 1;
            match (self.words.get(self.next), self.words.get(self.next + 1)) {
                (Some((Word::Number(next), _)), Some((Word::Name(_), _))) => number = next,
                _ => break,
            }
            self.next += 1;
        }
        if text.is_empty() {
            return Ok(None);
        }
        match text.trim_end().parse() {
            Ok(span) => Ok(Some((span, at.start..end))),
            Err(_) => Err(Problem::new(
                &(at.start..end),
                "a span is a whole number of days, weeks, months or years",
            )),
        }
    }

    fn deeper(&mut self, parse: impl FnOnce(&mut Parser<'a>) -> Parsed) -> Parsed {
        self.open += 1;
        if self.open > MOST_OPEN {
            return Err(too_deep(&self.place(), MOST_OPEN));
        }
        let parsed = parse(self);
        self.open -= 1;
        parsed
    }

    fn peek(&self) -> Option<&Word<'a>> {
        self.words.get(self.next).map(|(word, _)| word)
    }

    fn is_name_at(&self, ahead: usize, name: &str) -> bool {
        matches!(self.words.get(self.next + ahead), Some((Word::Name(word), _)) if *word == name)
    }

    fn takes_name(&mut self, name: &str) -> bool {
        let takes = self.is_name_at(0, name);
        self.next += usize::from(takes);
        takes
    }

    fn takes_sign(&mut self, sign: &str) -> bool {
        let takes = matches!(self.peek(), Some(Word::Sign(next)) if *next == sign);
        self.next += usize::from(takes);
        takes
    }

    fn peek_comparison(&self) -> Option<Comparison> {
        Some(match self.peek()? {
            Word::Sign("=") => Comparison::Equal,
            Word::Sign("!=") => Comparison::NotEqual,
            Word::Sign("<") => Comparison::Less,
            Word::Sign("<=") => Comparison::LessOrEqual,
            Word::Sign(">") => Comparison::Greater,
            Word::Sign(">=") => Comparison::GreaterOrEqual,
            _ => return None,
        })
    }

    fn takes_comparison(&mut self) -> Option<Comparison> {
        let comparison = self.peek_comparison();
        self.next += usize::from(comparison.is_some());
        comparison
    }

    /// The place of the next token, or the end of the text.
    fn place(&self) -> Range<usize> {
        self.words.get(self.next).map_or(self.end..self.end, |(_, at)| at.clone())
    }

    /// The place of the previous token.
    fn before(&self) -> Range<usize> {
        self.words.get(self.next.wrapping_sub(1)).map_or(0..0, |(_, at)| at.clone())
    }

    fn expected(&self, what: &str) -> Problem {
        let at = self.place();
        match self.peek() {
            None => Problem::new(&at, format!("the expression ends, but expected {what}")),
            Some(Word::Sign("="))
                if matches!(
                    self.words.get(self.next.wrapping_sub(1)),
                    Some((Word::Sign("="), _))
                ) =>
            {
                Problem::new(&at, "`==` is not an operator").advice("use `=`")
            }
            Some(_) => Problem::new(&at, format!("expected {what} here")),
        }
    }

    fn not_closed(&self, open: &Range<usize>) -> Problem {
        match self.peek() {
            None => Problem::new(open, "this `(` is never closed"),
            Some(_) => self.expected("`)`"),
        }
    }
}

fn node(at: Range<usize>, depth_of_parts: usize, kind: NodeKind) -> Parsed {
    if depth_of_parts >= DEEPEST {
        return Err(too_deep(&at, DEEPEST));
    }
    Ok(Node { at, kind, depth: depth_of_parts + 1 })
}

fn two(left: Node, right: Node, kind: impl FnOnce([Box<Node>; 2]) -> NodeKind) -> Parsed {
    let (at, depth) = (left.at.start..right.at.end, left.depth.max(right.depth));
    node(at, depth, kind([Box::new(left), Box::new(right)]))
}

fn too_deep(at: &Range<usize>, most: usize) -> Problem {
    Problem::new(at, format!("this is nested more than {most} levels deep"))
        .advice("split it into several steps")
}

fn is_reserved(name: &str) -> bool {
    matches!(name, "and" | "or" | "not" | "in" | "is" | "if" | "then" | "else")
}

fn date(text: &str) -> Result<Literal, String> {
    let no_such = || match notation::read(text.as_bytes()) {
        Err(why @ (NotADate::NoSuchDay { .. } | NotADate::NoSuchMonth(_))) => {
            format!("`{text}` is not a date: {why}")
        }
        _ => format!("`{text}` is not a date"),
    };
    if text.len() > 10 {
        let written = notation::read(text.as_bytes()).map_err(|_| no_such())?;
        let micros = written.micros(notation::Order::DayFirst).ok_or_else(no_such)?;
        return Ok(Literal::Moment { micros, instant: written.offset.is_some() });
    }
    let day = text.parse::<Day>().ok().map(|day| crate::calendar::Periods::DAYS.containing(day));
    day.or_else(|| text.parse::<Period>().ok()).map(Literal::Period).ok_or_else(no_such)
}

/// Parses a number exactly: a whole number of 64 bits, a decimal of 38 digits, or a float if it has
/// an exponent.
fn number(text: &str) -> Result<Literal, &'static str> {
    const MOST_DIGITS: usize = 38;
    if let Ok(whole) = text.parse() {
        return Ok(Literal::Integer(whole));
    }
    if text.contains(['e', 'E']) {
        let number = text.parse().ok().filter(|number: &f64| number.is_finite());
        return number.map(Literal::Float).ok_or("this number is too large");
    }
    let (whole, part) = text.split_once('.').unwrap_or((text, ""));
    let digits = format!("{}{part}", whole.trim_start_matches('0'));
    if digits.len() > MOST_DIGITS {
        return Err("this number has more than 38 digits, so it cannot be exact");
    }
    let units = if digits.is_empty() {
        0
    } else {
        digits.parse().map_err(|_| "this number is too large")?
    };
    Ok(Literal::Decimal { units, places: part.len() as u8 })
}
