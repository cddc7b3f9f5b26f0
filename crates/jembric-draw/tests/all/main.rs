//! Pictures of tables, checked by what they show. One program for all of it: each module would
//! otherwise be linked with the whole crate.

#![allow(clippy::unwrap_used)]

mod common;
mod refused;
mod values;
