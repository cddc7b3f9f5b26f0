//! Several processes give what one gives. One program for all of it: each module would otherwise
//! be linked with the whole library.

#![allow(clippy::unwrap_used)]

mod cluster;
#[cfg(feature = "databases")]
mod databases;
#[cfg(target_os = "linux")]
mod hosts;
mod reading;
#[cfg(feature = "databases")]
#[path = "../../../jembric/tests/all/server.rs"]
mod server;
mod shared;
#[path = "../../../jembric/tests/all/stays.rs"]
mod stays;
mod together;
