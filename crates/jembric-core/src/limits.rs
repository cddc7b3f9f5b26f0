//! How much an answer may have, where a setting does not say otherwise.

/// Rows of an answer.
pub(crate) const MOST_ROWS: u64 = 200_000_000;
