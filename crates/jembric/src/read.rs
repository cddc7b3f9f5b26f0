//! Reads files as tables.
//!
//! Files are read in regions of some megabytes, on all threads, directly into columns of their
//! final length. `bytes` provides the text, `header` names the columns, `layout` finds the
//! beginnings of records, `records` and `marks` find the ends of cells, `infer` decides the type of
//! each column from all of its cells, `given_formats` has the formats that users give, `convert`
//! fills the columns, `pass` runs both on all threads, and `table` combines these as a `reading`
//! says. `pieces` reads rows while more of them are written. `data` opens what may be larger than
//! memory, `scan` reads such text in batches, and `spool` has the temporary files for it.
//! `rows_of_databases` names the rows of databases. `settings` has the serialized form of a
//! reading. `holidays` and `entities` read files of days and of keys.

pub(crate) mod bytes;
pub(crate) mod convert;
mod data;
pub(crate) mod entities;
pub(crate) mod given_formats;
pub(crate) mod header;
pub(crate) mod holidays;
pub(crate) mod infer;
pub(crate) mod layout;
pub(crate) mod marks;
pub(crate) mod pass;
pub(crate) mod pieces;
pub(crate) mod reading;
pub(crate) mod records;
mod rows_of_databases;
mod scan;
pub(crate) mod settings;
pub(crate) mod share;
pub(crate) mod spool;
pub(crate) mod table;
