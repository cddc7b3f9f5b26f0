//! The command, driven as a user drives it. One program for all of it: each module would otherwise
//! be linked with the whole library.

#![allow(clippy::unwrap_used)]

mod browser;
mod chain;
mod changes;
mod command;
#[cfg(all(feature = "postgresql", feature = "sqlite"))]
mod databases;
mod dates;
mod draw;
mod faces;
mod harness;
#[cfg(unix)]
mod hostile;
mod intervals;
#[cfg(unix)]
mod memory;
mod page;
#[cfg(target_os = "linux")]
mod screen;
mod series;
#[cfg(all(feature = "postgresql", feature = "sqlite"))]
#[path = "../../../jembric/tests/all/server.rs"]
mod server;
mod within;
mod workbook;
