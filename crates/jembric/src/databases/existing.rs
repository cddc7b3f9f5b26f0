//! [`Existing`]: what happens to a table of a database that exists already.

/// What to do if a table to write exists already.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Existing {
    /// It is an error.
    #[default]
    Refuse,
    /// The new table takes its place. Its indexes and permissions are lost.
    Replace,
    /// The rows are added to it. Both tables must have the same columns.
    Append,
}
