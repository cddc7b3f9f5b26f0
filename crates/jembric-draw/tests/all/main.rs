//! Pictures of tables, checked by what they show. All modules are one program,
//! which is linked with the library once.

#![allow(clippy::unwrap_used)]

mod common;
mod refused;
mod values;
