//! From tables to files: `writing` makes the bytes, `destination` puts them in place whole or not
//! at all.

pub(crate) mod destination;
pub(crate) mod writing;
