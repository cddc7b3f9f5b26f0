//! Several processes give what one gives. All modules are one program,
//! which is linked with the library once.

#![allow(clippy::unwrap_used)]

mod cluster;
mod databases;
#[cfg(target_os = "linux")]
mod hosts;
mod reading;
#[path = "../../../jembric/tests/all/server.rs"]
mod server;
mod shared;
#[path = "../../../jembric/tests/all/stays.rs"]
mod stays;
mod together;
