//! The library, used as a program uses it. All modules are one program,
//! which is linked with the library once.

#![allow(clippy::unwrap_used)]

#[path = "../../fuzz/bodies.rs"]
mod bodies;
mod chain;
mod corpus;
#[cfg(all(feature = "postgresql", feature = "sqlite"))]
mod databases;
mod examples;
mod formats;
#[cfg(feature = "draw")]
mod larger;
mod library;
#[cfg(feature = "draw")]
mod page;
mod rooms;
#[cfg(feature = "draw")]
mod routine;
#[cfg(all(feature = "postgresql", feature = "sqlite"))]
mod server;
#[cfg(feature = "draw")]
mod stays;
