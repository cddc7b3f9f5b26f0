//! [`Window`]: the two bounds of a stretch of time as columns, each plus or minus a span, written
//! `A..B`.

use crate::{
    calendar::{Span, ValueError, serialized_as_text},
    error::{Error, Result},
    settings::from_given_text,
    shape::Shape,
};
use std::{fmt, str::FromStr};

/// From one column to another, each plus or minus a span. A side that is left out is open.
///
/// Examples: `arrived..left`, `due - 7 days .. due + 3 days`, `valid_from..`, `..left`. Put a name
/// that contains two dots, or a sign between blanks, in double quotes.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Window {
    pub(super) from: Option<Bound>,
    pub(super) to: Option<Bound>,
}

/// A column, and the span that is added to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Bound {
    pub(super) column: String,
    pub(super) span: Span,
}

/// Both bounds, with the places of their columns.
#[derive(Clone, Debug)]
pub(super) struct PlacedWindow {
    pub(super) from: Option<(Bound, usize)>,
    pub(super) to: Option<(Bound, usize)>,
}

impl PlacedWindow {
    /// The columns of starts and of ends, if there are both.
    pub(super) fn columns(&self) -> Option<(&str, &str)> {
        let ((from, _), (to, _)) = (self.from.as_ref()?, self.to.as_ref()?);
        (from.column != to.column).then_some((&*from.column, &*to.column))
    }

    /// The places of the columns.
    pub(super) fn places(&self) -> impl Iterator<Item = usize> {
        self.from.iter().chain(&self.to).map(|(_, place)| *place)
    }
}

serialized_as_text!(Window);
from_given_text!(Window);

impl Window {
    /// From the dates of one column to those of another.
    pub fn between(from: impl Into<String>, to: impl Into<String>) -> Window {
        Window::starting(from).ending(to)
    }

    /// From the dates of a column on, without an end.
    pub fn starting(from: impl Into<String>) -> Window {
        Window { from: Some(Bound { column: from.into(), span: Span::default() }), to: None }
    }

    /// Up to the dates of this column.
    #[must_use]
    pub fn ending(mut self, to: impl Into<String>) -> Window {
        self.to = Some(Bound { column: to.into(), span: Span::default() });
        self
    }

    /// Resolves the columns of the bounds.
    ///
    /// Errors: a column is missing, or is known to hold no dates.
    pub(super) fn placed(&self, shape: &Shape) -> Result<PlacedWindow> {
        let place = |bound: &Option<Bound>| {
            let place = |bound: &Bound| {
                bound.expect_in(shape)?;
                Ok::<_, Error>((bound.clone(), shape.place(&bound.column)?))
            };
            bound.as_ref().map(place).transpose()
        };
        Ok(PlacedWindow { from: place(&self.from)?, to: place(&self.to)? })
    }

    /// The bounds that are columns.
    pub(super) fn bounds(&self) -> impl Iterator<Item = &Bound> {
        self.from.iter().chain(&self.to)
    }
}

impl FromStr for Window {
    type Err = ValueError;

    fn from_str(text: &str) -> std::result::Result<Window, ValueError> {
        let malformed = || ValueError::Malformed {
            what: "a window",
            text: text.to_owned(),
            expected: "two columns with `..` between them, each with a span added or taken or \
                left out on an open side: \
                       `arrived..left`, `due - 7 days..due + 3 days`, `valid_from..`",
        };
        let mut quoted = false;
        let outside_quotes = text.char_indices().filter(|&(_, sign)| {
            quoted ^= sign == '"';
            !quoted
        });
        let points: Vec<usize> = outside_quotes
            .filter(|&(at, _)| text[at..].starts_with(".."))
            .map(|(at, _)| at)
            .collect();
        let [at] = points[..] else { return Err(malformed()) };
        let window = Window { from: bound(&text[..at]), to: bound(&text[at + 2..]) };
        if window == Window::default() { Err(malformed()) } else { Ok(window) }
    }
}

fn bound(text: &str) -> Option<Bound> {
    let text = text.trim();
    if text.is_empty() {
        return None;
    }
    if let Some((column, rest)) = text.strip_prefix('"').and_then(|rest| rest.split_once('"')) {
        // Only a span may follow the quote.
        let (name, span) = Span::split_from(rest);
        if name.trim().is_empty() {
            return Some(Bound { column: column.to_owned(), span });
        }
    }
    let (column, span) = Span::split_from(text);
    Some(Bound { column: column.trim().to_owned(), span })
}

impl Bound {
    /// Errors: the column is missing, or is known to hold no dates; or the text behind it looks
    /// like a span and is not one.
    pub(super) fn expect_in(&self, shape: &Shape) -> Result<()> {
        let Err(error) = shape.expect_dates(&self.column) else { return Ok(()) };
        let span = self.column.rsplit_once(" + ").or_else(|| self.column.rsplit_once(" - "));
        match span {
            Some((column, span)) if shape.find(column.trim()).is_ok() => {
                Ok(span.parse::<Span>().map(drop)?)
            }
            _ => Err(error),
        }
    }
}

impl fmt::Display for Bound {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Bound { column, span } = self;
        let needs_quotes = column.contains("..") || Span::split_from(column).1 != Span::default();
        if needs_quotes {
            write!(f, "\"{column}\"")?
        } else {
            f.write_str(column)?
        }
        match *span {
            span if span == Span::default() => Ok(()),
            span if span.month_count() < 0 || span.day_count() < 0 => {
                write!(f, " - {}", span.negated())
            }
            span => write!(f, " + {span}"),
        }
    }
}

impl fmt::Display for Window {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let text = |bound: &Option<Bound>| bound.as_ref().map(Bound::to_string).unwrap_or_default();
        f.pad(&format!("{}..{}", text(&self.from), text(&self.to)))
    }
}
