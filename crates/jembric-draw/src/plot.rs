//! [`Room`] and [`Plot`]: rectangles of the paper, and the axes of the marks in them.

use crate::scale::Scale;

/// A rectangle of the paper.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Room {
    pub(crate) left: f64,
    pub(crate) top: f64,
    pub(crate) right: f64,
    pub(crate) bottom: f64,
}

impl Room {
    pub(crate) fn width(&self) -> f64 {
        self.right - self.left
    }
}

/// The place for marks: pixels of both axes.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Plot {
    /// The horizontal axis, or for bars in rows that of values.
    pub(crate) x: Scale,
    pub(crate) y: Scale,
    pub(crate) row_height: f64,
    /// Whether classes are rows, and values go to the right.
    pub(crate) is_sideways: bool,
}
