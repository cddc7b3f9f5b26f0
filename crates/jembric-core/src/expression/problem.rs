//! [`Problem`]: what is wrong at a place in the text of an expression.

use crate::error::{Error, ExpressionError};
use std::ops::Range;

/// The error for a place in the text.
pub(super) struct Problem {
    pub(super) at: Range<usize>,
    pub(super) problem: String,
    pub(super) advice: Option<String>,
}

impl Problem {
    pub(super) fn new(at: &Range<usize>, problem: impl Into<String>) -> Problem {
        Problem { at: at.clone(), problem: problem.into(), advice: None }
    }

    pub(super) fn advice(mut self, advice: impl Into<String>) -> Problem {
        self.advice = Some(advice.into());
        self
    }

    pub(super) fn within(self, text: &str) -> Error {
        let Problem { at, problem, advice } = self;
        Error::Expression(Box::new(ExpressionError { text: text.to_owned(), at, problem, advice }))
    }
}
