//! What every room needs of the file system: reading at any place of a file, temporary files that
//! are removed after a kill, and the processes that own them.

pub(crate) mod process;
pub(crate) mod read_at;
pub(crate) mod temporary;
