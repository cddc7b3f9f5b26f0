//! Reports from tables of dated records, with an account of every row.
//!
//! | the question | what answers it |
//! | --- | --- |
//! | What does each vessel's record say *now*? And what did it say first? | [`Latest`], [`Earliest`] |
//! | What is in this file, are its dates really dates, what looks wrong? | [`Look`] |
//! | How do files become tables, and tables files? | [`io`] |
//!
//! ```
//! use jembric::{Latest, io};
//!
//! let inspections = io::read(demo("inspections.csv"))?;
//! let outcome = Latest::new("inspected_on").per(["vessel"]).apply(&inspections)?;
//!
//! println!("{}", outcome.ledger);          // where every row went
//! io::write(&outcome.table, std::env::temp_dir().join("jembric-latest.csv"))?;
//! assert!(outcome.ledger.balances());
//! # fn demo(file: &str) -> String { format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR")) }
//! # Ok::<(), jembric::Error>(())
//! ```
//!
//! Every operation returns an [`Outcome`]: the answer, the rows that could not be used, and the [`Ledger`], in which
//! rows in = kept + dropped + set aside. Tables come in and go out as Arrow record batches ([`arrow`]).

mod error;
pub mod io;

pub use error::{Error, Result};
pub use jembric_core::{AmbiguousDates, BadCell, Error as CoreError, NotDates};
pub use jembric_core::{
    ColumnLook, ColumnShape, Context, DateLook, Earliest, Entities, Entry, ExactSum, Finding, Latest, Ledger,
    Look, Missing, Operation, Origin, Outcome, Reason, Reconciled, Setting, Shape, Table, Takes, Ties,
    Timeline, Type, Warning, arrow, calendar,
};

/// The README's examples are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
