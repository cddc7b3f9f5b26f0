//! The command, driven as a user drives it. All modules are one program,
//! which is linked with the library once.

#![allow(clippy::unwrap_used)]

mod browser;
mod chain;
mod changes;
mod command;
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
#[path = "../../../jembric/tests/all/server.rs"]
mod server;
mod within;
mod workbook;
