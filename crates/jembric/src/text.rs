//! Text files as bytes that are read in any order, and temporary files for text that cannot be read
//! as it is.

pub(crate) mod file_bytes;
pub(crate) mod spool;
