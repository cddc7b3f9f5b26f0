//! Runs a routine of [`jembric`] on several machines.
//!
//! Every machine runs the same command with the same routine and the same list of hosts. Each
//! process has a share of the rows, and sends those of an entity to the process that owns it. Every
//! computation is that of the plans of `jembric`; this crate connects the processes.
//!
//! `hosts` reads the list of hosts. `peers` connects the processes, checks that they run the same,
//! and notices when one of them ends. `flow` carries parcels between them, as a dataflow of
//! `timely`. `command` is the command line, and `local` starts several processes on one machine.

pub mod command;
mod flow;
mod hosts;
mod local;
mod peers;

pub use flow::{Flow, Traffic};
pub use hosts::Hosts;
pub use peers::Peers;
