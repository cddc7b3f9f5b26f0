//! [`Sentence`]: a text with placeholders for computed values, such as `{rows} of {rows of current}
//! vessels are overdue`.
//!
//! A placeholder is `{as-of}`, or a figure of the step's own result or of another step:
//! `{rows}`, `{sum of COLUMN}`, `{sum of COLUMN of STEP}`, `{share of rows of STEP}`. Two braces
//! stand for one: `{{` and `}}`.

use super::figures::{Figure, Figures, NO_VALUE, Quantity, What, percent};
use crate::Shape;
use jembric_core::nearest_name;

/// A sentence with its figures.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Sentence {
    parts: Vec<SentencePart>,
}

#[derive(Clone, Debug, PartialEq)]
enum SentencePart {
    Text(String),
    AsOf,
    Figure(Figure, String),
    /// A figure of the own result as a share of the same one of another step.
    Share(Figure, Figure, String),
}

/// What is wrong with a placeholder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Misplaced {
    /// The placeholder as it is written, with its braces.
    pub(crate) placeholder: String,
    pub(crate) problem: String,
    pub(crate) advice: String,
}

/// What a sentence can refer to.
pub(crate) struct Known<'a> {
    /// The place of the step that says the sentence.
    pub(crate) own: usize,
    /// The name of each step, if it has one.
    pub(crate) names: &'a [Option<&'a str>],
    /// The shape of each step's result, as far as it is known.
    pub(crate) shapes: &'a [Option<Shape>],
    /// Whether there is an as-of date, or will be.
    pub(crate) has_as_of: bool,
}

type Parsed<T> = Result<T, (String, String)>;

impl Sentence {
    /// A sentence without placeholders.
    pub(crate) fn plain(text: &str) -> Sentence {
        Sentence { parts: vec![SentencePart::Text(text.to_owned())] }
    }

    /// Errors: a placeholder that is not closed, or that names an unknown figure, step or column,
    /// or a column of the wrong type.
    pub(crate) fn parse(text: &str, known: &Known<'_>) -> Result<Sentence, Misplaced> {
        let mut parts = Vec::new();
        let mut plain = String::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            plain.push_str(&rest[..at]);
            let (brace, behind) = rest[at..].split_at(1);
            if let Some(behind) = behind.strip_prefix(brace) {
                plain.push_str(brace);
                rest = behind;
                continue;
            }
            let unpaired = || Misplaced {
                placeholder: brace.to_owned(),
                problem: format!("the brace `{brace}` has no partner"),
                advice: format!(
                    "write `{brace}{brace}` for a brace in the text, or a placeholder such as \
                        {{rows}}"
                ),
            };
            let end = behind.find(['{', '}']).filter(|end| behind[*end..].starts_with('}'));
            let end = end.filter(|_| brace == "{").ok_or_else(unpaired)?;
            let inside = &behind[..end];
            let placeholder = format!("{{{inside}}}");
            let part = known.part(inside.trim(), &placeholder).map_err(|(problem, advice)| {
                Misplaced { placeholder: placeholder.clone(), problem, advice }
            })?;
            if !plain.is_empty() {
                parts.push(SentencePart::Text(std::mem::take(&mut plain)));
            }
            parts.push(part);
            rest = &behind[end + 1..];
        }
        plain.push_str(rest);
        if !plain.is_empty() {
            parts.push(SentencePart::Text(plain));
        }
        Ok(Sentence { parts })
    }

    /// The figures of the sentence, each with its placeholder.
    pub(crate) fn figures(&self) -> impl Iterator<Item = (&Figure, &str)> {
        self.parts
            .iter()
            .flat_map(|part| match part {
                SentencePart::Figure(one, text) => [Some((one, text.as_str())), None],
                SentencePart::Share(one, other, text) => {
                    [Some((one, text.as_str())), Some((other, text.as_str()))]
                }
                _ => [None, None],
            })
            .flatten()
    }

    /// The sentence with its values.
    pub(crate) fn text(&self, as_of: Option<&str>, figures: &Figures) -> String {
        let number = |figure: &Figure| figures.get(figure).and_then(|value| value.number);
        let part = |part: &SentencePart| match part {
            SentencePart::Text(text) => text.clone(),
            SentencePart::AsOf => as_of.unwrap_or(NO_VALUE).to_owned(),
            SentencePart::Figure(figure, _) => {
                figures.get(figure).map_or(NO_VALUE, |value| &value.text).to_owned()
            }
            SentencePart::Share(part, whole, _) => match number(part).zip(number(whole)) {
                Some((part, whole)) => percent(part, whole),
                None => NO_VALUE.to_owned(),
            },
        };
        self.parts.iter().map(part).collect()
    }
}

impl Known<'_> {
    fn part(&self, text: &str, placeholder: &str) -> Parsed<SentencePart> {
        if text == "as-of" {
            return if self.has_as_of {
                Ok(SentencePart::AsOf)
            } else {
                Err((
                    "there is no as-of date".to_owned(),
                    "set it above the steps: as-of = \"2025-06-30\"".to_owned(),
                ))
            };
        }
        let Some(shared) = text.strip_prefix("share of ") else {
            return Ok(SentencePart::Figure(self.figure(text)?, placeholder.to_owned()));
        };
        let whole = self.figure(shared)?;
        if !matches!(whole.quantity, Quantity { what: What::Rows | What::Sum, .. }) {
            let advice = "{share of rows of STEP} or {share of sum of COLUMN of STEP}".to_owned();
            return Err(("only rows and sums have shares".to_owned(), advice));
        }
        if whole.step == self.own {
            let of = match &whole.quantity.column {
                Some(column) => format!("sum of {column}"),
                None => "rows".to_owned(),
            };
            let names_own = shared.trim() != of;
            let problem = match self.names[self.own].filter(|_| names_own) {
                Some(own) => format!("`{own}` is this step, whose share of itself is always 100%"),
                None => format!("`{text}` does not name the step with the whole"),
            };
            return Err((problem, format!("{{share of {of} of STEP}}")));
        }
        let part = Figure { step: self.own, quantity: whole.quantity.clone() };
        self.expect(&part)?;
        Ok(SentencePart::Share(part, whole, placeholder.to_owned()))
    }

    /// A figure: its word, its column, and the step that it is about.
    fn figure(&self, text: &str) -> Parsed<Figure> {
        let (word, rest) = match text.split_once(" of ") {
            Some((word, rest)) => (word.trim(), Some(rest.trim())),
            None => (text, None),
        };
        let Some(what) = What::ALL.into_iter().find(|what| what.word() == word) else {
            let words = What::ALL.iter().map(|what| what.word()).chain(["as-of", "share"]);
            let advice = match nearest_name(word, words.clone()) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None => format!("a placeholder begins with {}", listed(words)),
            };
            return Err((format!("`{word}` is not a figure"), advice));
        };
        let (column, step) = match (what, rest) {
            (What::Rows, None) => (None, self.own),
            (What::Rows, Some(step)) => (None, self.step(step)?),
            (_, None) => {
                let problem = format!("`{word}` needs a column");
                return Err((problem, format!("{{{word} of COLUMN}}")));
            }
            (_, Some(rest)) => {
                let (column, step) = self.column_and_step(rest)?;
                (Some(column.to_owned()), step)
            }
        };
        let figure = Figure { step, quantity: Quantity { what, column } };
        self.expect(&figure)?;
        Ok(figure)
    }

    /// `COLUMN`, or `COLUMN of STEP`. A column of the own result may itself contain ` of `.
    fn column_and_step<'t>(&self, text: &'t str) -> Parsed<(&'t str, usize)> {
        let own = self.shapes[self.own].as_ref();
        let has = |column: &str| own.is_some_and(|shape| shape.find(column).is_ok());
        let Some((column, step)) = text.rsplit_once(" of ").filter(|_| !has(text)) else {
            return Ok((text, self.own));
        };
        Ok((column.trim(), self.step(step.trim())?))
    }

    fn step(&self, name: &str) -> Parsed<usize> {
        self.names.iter().position(|other| *other == Some(name)).ok_or_else(|| {
            let names = || self.names.iter().copied().flatten();
            let advice = match nearest_name(name, names()) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None if names().next().is_none() => "give the step a name: name = \"…\"".to_owned(),
                None => format!("the steps are {}", listed(names())),
            };
            (format!("no step is named `{name}`"), advice)
        })
    }

    /// Errors: the result is known to lack the column, or the column has the wrong type.
    fn expect(&self, figure: &Figure) -> Parsed<()> {
        match self.shapes[figure.step].as_ref() {
            Some(shape) => {
                figure.quantity.expect(shape).map_err(|error| (error.to_string(), String::new()))
            }
            None => Ok(()),
        }
    }
}

fn listed<'a>(words: impl Iterator<Item = &'a str>) -> String {
    words.collect::<Vec<_>>().join(", ")
}

#[cfg(test)]
mod tests;
