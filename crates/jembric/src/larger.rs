//! Applies plans to tables that do not fit into memory, or that several processes share.
//!
//! `step` is a step whose tables are larger than memory, and `apply` applies its plan, with `parts`
//! for tables that are divided by entity and `in_order` for those that are sorted by date.
//! `results` collects what is made from parts and pieces. `shared` is a step whose tables several
//! processes share, with rows that are `received`, `reordered` and `gathered`.
//!
//! No operation has a second algorithm for this: a plan tells how its rows can be divided
//! ([`Division`](jembric_core::Division)), is applied to each part, and the results are merged in
//! the order of the whole.

mod apply;
pub(crate) mod gathered;
mod in_order;
mod parts;
mod received;
mod reordered;
mod results;
pub(crate) mod shared;
pub(crate) mod step;
