//! Writes tables to files: `writing` makes the bytes, and `destination` puts files in place,
//! complete or not at all.

pub(crate) mod destination;
pub(crate) mod writing;
