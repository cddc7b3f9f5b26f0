//! From files to tables.
//!
//! Reading is done in regions of some megabytes, on all threads, straight into columns of their
//! final length: `bytes` gives the text, `header` names the columns, `layout` finds where records
//! begin, `records` and `marks` where cells end, `infer` decides each column's type from all of its
//! cells, `given_formats` has the formats that users give, `convert` fills the columns, `pass` does
//! either on all threads, and `table` puts these together, as a `reading` says. `settings` has what
//! can be written down of a reading, `holidays` and `entities` read files of days and of keys.

pub(crate) mod bytes;
pub(crate) mod convert;
pub(crate) mod entities;
pub(crate) mod given_formats;
pub(crate) mod header;
pub(crate) mod holidays;
pub(crate) mod infer;
pub(crate) mod layout;
pub(crate) mod marks;
pub(crate) mod pass;
pub(crate) mod reading;
pub(crate) mod records;
pub(crate) mod settings;
mod table;
