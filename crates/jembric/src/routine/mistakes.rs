//! Errors that mark their place in the text of a routine.

use super::{Planned, Routine, Text, routine_words};
use crate::{
    CoreError, Error,
    error::Mistaken,
    uri::{hidden, shown_name, without_secrets},
};
use std::{io, ops::Range, path::Path};

impl Routine {
    /// An error that marks a place in the text.
    pub(crate) fn error(
        &self,
        at: Range<usize>,
        problem: impl Into<String>,
        advice: impl Into<String>,
    ) -> Error {
        match &self.text {
            Some(text) => text.error(at, problem, advice),
            None => {
                let (problem, advice) = (problem.into(), advice.into());
                Error::Settings(if advice.is_empty() {
                    problem
                } else {
                    format!("{problem}: {advice}")
                })
            }
        }
    }

    /// An error with the step that it is about, if the routine is a chain of several steps. Errors
    /// of files name their file.
    fn of_step(&self, planned: &Planned, error: Error) -> Error {
        let is_of_tables = match error.core() {
            Some(CoreError::Cancelled) | None => matches!(error, Error::Setting { .. }),
            Some(_) => true,
        };
        let place = self.steps.iter().position(|step| std::ptr::eq(step, planned));
        match place.filter(|_| self.names_steps && is_of_tables && self.steps.len() > 1) {
            Some(place) => {
                let step = match &planned.name {
                    Some(name) => format!("step `{name}`"),
                    None => format!("step {} ({})", place + 1, planned.operation.name),
                };
                Error::OfStep { step, source: Box::new(error) }
            }
            None => error,
        }
    }

    /// An error that is told at its place in the text. Without a text, it stays as it is.
    pub(crate) fn marked(&self, at: Range<usize>, error: impl Into<Error>) -> Error {
        let error = error.into();
        match &self.text {
            Some(text) => text.error(at, error.rendered(&routine_words), ""),
            None => error,
        }
    }

    /// The place of a setting or file in the text, or else that of the step.
    pub(crate) fn place_in_text(&self, planned: &Planned, name: &str) -> Range<usize> {
        let place = planned.settings_at.iter().find(|(other, _)| other == name);
        place.map_or(planned.at.clone(), |(_, at)| at.clone())
    }

    /// Marks the place of an error in the text of the routine: the setting or file that caused it,
    /// or the step.
    pub(crate) fn error_at_step(&self, planned: &Planned, error: impl Into<Error>) -> Error {
        let error = error.into();
        let is_of_a_step = !error.is_closed_pipe() && !matches!(error, Error::Process { .. });
        if !is_of_a_step {
            return error;
        }
        let Some(text) = self.text.as_ref() else { return self.of_step(planned, error) };
        let is_file = |name: &str| {
            let name = shown_name(name.trim_start_matches("./"));
            // The error may be about the database of a table.
            let databases = name.match_indices(':').map(|(colon, _)| &name[..colon]);
            let names: Vec<&str> = databases.chain([name.as_str()]).collect();
            error
                .file()
                .is_some_and(|file| names.iter().any(|name| Path::new(file).ends_with(name)))
        };
        let of_setting = error.setting().map(str::to_owned);
        let of_file =
            || planned.settings_at.iter().map(|(name, _)| name).find(|name| is_file(name)).cloned();
        let named = of_setting.or_else(of_file).unwrap_or_default();
        let at = self.place_in_text(planned, &named);
        // An expression is marked at its place in the routine.
        if let Some(wrong) = error.expression() {
            let from = text.text[at.clone()].find(&wrong.text).map(|from| at.start + from);
            let at = from.map_or(at, |from| from + wrong.at.start..from + wrong.at.end);
            return self.error(at, wrong.problem.clone(), wrong.advice.clone().unwrap_or_default());
        }
        self.marked(at, error)
    }

    /// The error of a result that could not be delivered: that of the receiver, or that of the
    /// step.
    pub(crate) fn handed_over(
        &self,
        planned: &Planned,
        error: impl Into<Error>,
        file: Option<&str>,
    ) -> Error {
        match (error.into(), file) {
            (Error::Core(CoreError::Sink(error)), Some(file)) => {
                let source =
                    error.downcast::<io::Error>().map_or_else(io::Error::other, |error| *error);
                Error::write(file)(source)
            }
            (error @ Error::Core(CoreError::Sink(_)), None) => error,
            (error, _) => self.error_at_step(planned, error),
        }
    }
}

impl Text {
    pub(crate) fn error(
        &self,
        at: Range<usize>,
        problem: impl Into<String>,
        advice: impl Into<String>,
    ) -> Error {
        let (problem, advice) = (problem.into(), advice.into());
        // The line with the mistake is shown, and must not show a password.
        let (mut text, mut at) = (self.text.clone(), at);
        for (secret, shown) in hidden(&self.text).into_iter().rev() {
            let moved = |place: usize| match place {
                place if place >= secret.end => place - secret.len() + shown.len(),
                place => place.min(secret.start),
            };
            at = moved(at.start)..moved(at.end);
            text.replace_range(secret, &shown);
        }
        let problem = without_secrets(&problem);
        Error::Routine(Box::new(Mistaken { file: self.file.clone(), text, at, problem, advice }))
    }
}
