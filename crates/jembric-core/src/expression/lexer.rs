//! Splits an expression into tokens, each with its place.

use super::problem::Problem;
use std::ops::Range;
use winnow::{
    LocatingSlice, Parser,
    ascii::{digit0, digit1, multispace0},
    combinator::{alt, delimited, not, opt, peek, preceded, repeat, terminated},
    error::ContextError,
    stream::Location,
    token::{any, one_of, take_while},
};

/// A token.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Word<'a> {
    /// Anything that looks like a date, a month, quarter or week, or a moment.
    Date(&'a str),
    Time(&'a str),
    Number(&'a str),
    /// A text in single quotes.
    Text(String),
    /// The name of a column in double quotes.
    Quoted(String),
    Name(&'a str),
    Sign(&'a str),
}

type Input<'a> = LocatingSlice<&'a str>;
type Read<T> = Result<T, ContextError>;

/// Splits a text into tokens.
pub(super) fn words(text: &str) -> Result<Vec<(Word<'_>, Range<usize>)>, Problem> {
    let mut input = LocatingSlice::new(text);
    let mut words = Vec::new();
    loop {
        let blanks: Read<&str> = multispace0(&mut input);
        let start = input.current_token_start();
        if blanks.is_err() || start == text.len() {
            return Ok(words);
        }
        match word.with_span().parse_next(&mut input) {
            Ok(word) => words.push(word),
            Err(_) => return Err(unreadable(text, start)),
        }
    }
}

fn unreadable(text: &str, start: usize) -> Problem {
    let c = text[start..].chars().next().unwrap_or(' ');
    let at = start..start + c.len_utf8();
    match c {
        '\'' => Problem::new(&(start..text.len()), "this text is never closed")
            .advice("a `'` is missing"),
        '"' => Problem::new(&(start..text.len()), "this column's name is never closed")
            .advice("a `\"` is missing"),
        '&' => Problem::new(&at, "`&` is not an operator").advice("write `and`"),
        '|' => Problem::new(&at, "`|` is not an operator").advice("write `or`"),
        _ => Problem::new(&at, format!("`{c}` is not allowed here")),
    }
}

fn word<'a>(input: &mut Input<'a>) -> Read<Word<'a>> {
    alt((
        date.map(Word::Date),
        time.map(Word::Time),
        number.map(Word::Number),
        quoted('\'').map(Word::Text),
        quoted('"').map(Word::Quoted),
        name.map(Word::Name),
        alt(("!=", "<=", ">=", one_of(['=', '<', '>', '+', '-', '*', '/', '(', ')', ',']).take()))
            .map(Word::Sign),
    ))
    .parse_next(input)
}

fn digits<'a>(count: usize) -> impl Parser<Input<'a>, &'a str, ContextError> {
    take_while(count, |c: char| c.is_ascii_digit())
}

/// No letter or digit may follow a date or number directly.
fn ends<'a>(input: &mut Input<'a>) -> Read<()> {
    not(one_of(|c: char| c.is_alphanumeric() || c == '_')).parse_next(input)
}

/// `2025-06-30`, with or without a time, `2025-06`, `2025-Q2`, `2025-W27`.
fn date<'a>(input: &mut Input<'a>) -> Read<&'a str> {
    let day = || (digits(4), '-', digits(2), '-', digits(2));
    let offset = alt((
        one_of(['Z', 'z']).void(),
        (one_of(['+', '-']), digits(2), opt(':'), digits(2)).void(),
    ));
    let moment = (
        day(),
        one_of(['T', 't']),
        digits(2),
        ':',
        digits(2),
        opt((':', digits(2), opt(('.', digit1)))),
    );
    let label = (
        digits(4),
        '-',
        alt((
            preceded(one_of(['W', 'w']), digits(2)),
            preceded(one_of(['Q', 'q']), digits(1)),
            digits(2),
        )),
    );
    alt((
        terminated((moment, opt(offset)).take(), ends),
        terminated(day().take(), ends),
        terminated(label.take(), (ends, not(('-', digits(1))))),
    ))
    .parse_next(input)
}

fn time<'a>(input: &mut Input<'a>) -> Read<&'a str> {
    terminated((digits(2), ':', digits(2), opt((':', digits(2), opt(('.', digit1))))).take(), ends)
        .parse_next(input)
}

fn number<'a>(input: &mut Input<'a>) -> Read<&'a str> {
    let part = alt(((digit1, opt(('.', digit0))).void(), ('.', digit1).void()));
    let exponent = (one_of(['e', 'E']), opt(one_of(['+', '-'])), digit1);
    terminated((part, opt(exponent)).take(), ends).parse_next(input)
}

/// The text between quotes; a quote within it is doubled.
fn quoted<'a>(mark: char) -> impl Parser<Input<'a>, String, ContextError> {
    let doubled = (mark, mark).value(mark);
    let other = preceded(peek(not(mark)), any);
    delimited(mark, repeat(0.., alt((doubled, other))), mark)
}

fn name<'a>(input: &mut Input<'a>) -> Read<&'a str> {
    let first = one_of(|c: char| c.is_alphabetic() || c == '_');
    (first, take_while(0.., |c: char| c.is_alphanumeric() || c == '_')).take().parse_next(input)
}
