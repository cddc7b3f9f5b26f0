//! [`Mistaken`]: a mistake in a routine, with its place in the text.

use std::{fmt, ops::Range};

/// What is wrong with a routine, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Mistaken {
    /// The routine's file.
    pub file: String,
    /// Its whole text.
    pub text: String,
    /// The bytes with the mistake.
    pub at: Range<usize>,
    /// What is wrong.
    pub problem: String,
    /// What to do; may be empty.
    pub advice: String,
}

impl fmt::Display for Mistaken {
    /// Formats the file and the problem, and below them the line with the place marked.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
        // A step of several lines is shown by its first line.
        let from = self.at.start.min(self.text.len());
        let line_end = self.text[from..].find('\n').map_or(self.text.len(), |end| from + end);
        let at = from..self.at.end.clamp(from, line_end);
        let mark = AnnotationKind::Primary.span(at).label(&self.advice);
        let snippet = Snippet::source(&self.text).path(&self.file).annotation(mark);
        let group = Group::with_level(Level::ERROR).element(snippet);
        write!(f, "{}: {}\n{}", self.file, self.problem, Renderer::plain().render(&[group]))
    }
}
