//! The marks of each form as SVG elements.

pub(crate) mod bars;
pub(crate) mod calendar;
pub(crate) mod intervals;
pub(crate) mod many;
pub(crate) mod marker;
pub(crate) mod points;
