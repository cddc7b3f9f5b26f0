//! The limits on results, unless a setting changes them.

/// The rows of a result.
pub(crate) const MOST_ROWS: u64 = 200_000_000;
