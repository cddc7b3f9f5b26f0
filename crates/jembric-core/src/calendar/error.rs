//! [`ValueError`]: what is wrong with the text of a value, or with date arithmetic.

use super::{
    Day, Span,
    notation::{self, NotADate},
};
use crate::message::{meant, shortened};
use std::fmt;

pub(crate) type Result<T> = std::result::Result<T, ValueError>;

/// What is wrong with a text that should be a value (a date, a span, a number), or with the result
/// of date arithmetic.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum ValueError {
    /// A text does not have a valid form.
    Malformed {
        /// What the text should be.
        what: &'static str,
        /// The text.
        text: String,
        /// The valid forms.
        expected: &'static str,
    },
    /// A word or name is not one of the known ones.
    Unknown {
        /// What the word should be.
        what: &'static str,
        /// What was given.
        text: String,
        /// The most similar names, the nearest first.
        nearest: Vec<String>,
        /// The known words, for the message.
        known: &'static str,
    },
    /// The result of date arithmetic is outside the years 0001 to 9999.
    BeyondCalendar {
        /// The first date.
        from: Day,
        /// The span that was added.
        span: Span,
    },
}

impl fmt::Display for ValueError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ValueError::Malformed { what, text, expected } => {
                let text = shortened(text);
                match notation::read(text.as_bytes()) {
                    Err(why @ (NotADate::NoSuchDay { .. } | NotADate::NoSuchMonth(_))) => {
                        write!(f, "`{text}` is not {what}: {why}")
                    }
                    _ => write!(f, "`{text}` is not {what}: expected {expected}"),
                }
            }
            ValueError::Unknown { what, text, nearest, known } => {
                write!(f, "`{}` is not {what}{}", shortened(text), meant(nearest, known))
            }
            ValueError::BeyondCalendar { from, span } => {
                write!(f, "{span} after {from} is outside the years 0001 to 9999")
            }
        }
    }
}

impl std::error::Error for ValueError {}
