//! Reads text as tables.
//!
//! Text is read in regions of some megabytes, on all threads, directly into columns of their final
//! length. `header` names the columns, `layout` finds the beginnings of records, `records` and
//! `marks` find the ends of cells, `infer` decides the type of each column from all of its cells,
//! `given_formats` has the formats that users give, `convert` fills the columns, `pass` runs both
//! on all threads, and `table` combines these as a `reading` says. `pieces` reads rows while more
//! of them are written, and `scan` reads text in batches. `settings` has the serialized form of a
//! reading.

pub(crate) mod convert;
pub(crate) mod given_formats;
pub(crate) mod header;
pub(crate) mod infer;
pub(crate) mod layout;
pub(crate) mod marks;
pub(crate) mod pass;
pub(crate) mod pieces;
pub(crate) mod reading;
pub(crate) mod records;
pub(crate) mod scan;
pub(crate) mod table;
