//! Reports from tables of dated records, with an account of every row.
//!
//! | question | item |
//! | --- | --- |
//! | What does each vessel's record say *now*, and at first? | [`Latest`], [`Earliest`] |
//! | How long did it take, how old is it, how late is it? | [`Elapsed`] |
//! | In which months was it active, and how many at once? | [`Active`] |
//! | What are the unbroken spells, and the gaps between them? | [`Spells`] |
//! | Which events fall inside which windows? | [`Within`] |
//! | What changed since last month? | [`Changes`] |
//! | What is the highest value so far, the balance, the mean of the last 28 days? | [`Running`] |
//! | What does a series look like with one row for every day? | [`Filled`] |
//! | How much per month, per weekday, per class side by side? | [`Totals`] |
//! | What happened in the last nine months, or in this quarter? | [`Recent`] |
//! | Which days does the data cover? | [`Almanac`] |
//! | Which rows satisfy a condition? | [`Filter`], with an [`Expression`] |
//! | What can be computed from the columns of each row? | [`Add`], with an [`Expression`] |
//! | Which columns, in which order, of which files? | [`Columns`], [`Sort`], [`Stack`] |
//! | What does this file contain, and what looks wrong? | [`Look`] |
//! | How do several steps follow each other? | [`Chain`] |
//! | How do I run the same report next month? | [`routine`] |
//! | What does it look like? | `Draw`, in the module `draw` (a feature) |
//! | How are files read and written? | [`io`] |
//! | Is there a recipe for each of these? | [`cookbook`] |
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
//! Every operation returns an [`Outcome`]: the result, the rows that could not be used, and the
//! [`Ledger`], in which rows in = kept + dropped + set aside. Tables can be made from and converted
//! to Arrow record batches ([`arrow`]).

// If a format is disabled, the code that only it needs is unused.
#![cfg_attr(
    not(all(
        feature = "arrow-files",
        feature = "packed",
        feature = "parquet",
        feature = "postgresql",
        feature = "sqlite",
        feature = "workbooks"
    )),
    allow(dead_code)
)]

#[doc = include_str!("../cookbook/recipes.md")]
pub mod cookbook {}
pub mod chain;
mod compared;
mod data;
mod databases;
mod disk;
#[cfg_attr(not(feature = "draw"), path = "draw/disabled.rs", doc(hidden))]
pub mod draw;
mod error;
mod formats;
mod guard;
pub mod io;
mod larger;
mod open;
mod page;
mod read;
pub mod routine;
pub mod run;
pub mod steps;
mod text;
mod uri;
mod write;

pub use chain::{Chain, ChainOutcome};
#[cfg(feature = "draw")]
pub use draw::{Draw, Picture};
pub use error::{Error, Result};
pub use jembric_core::{
    Active, Add, Almanac, Between, Cancel, Cause, CellValue, Cells, Changes, Column, ColumnLook,
    ColumnShape, Columns, Context, DateLook, Dated, Decimal, Duplicates, Each, Earliest, Elapsed,
    EndDay, Entities, EntityList, Entry, ExactSum, Expression, ExpressionContext, Extent, Filled,
    Filter, Finding, Fold, Followed, GoOn, Keep, Latest, Ledger, Look, LookFold, Missing,
    Numbering, OpenEnds, Operation, Origin, Outcome, Pick, Plan, Reason, Recent, Reconciled, Role,
    Running, Setting, Shape, Sink, Sort, Spells, Stack, Table, TableBuilder, Takes, Ties, Timeline,
    Totals, Type, Unit, Warning, Whole, Window, Within, arrow, calendar, grouped, rounded,
    settings, visible,
};
pub use jembric_core::{
    Advised, AmbiguousDates, BadCell, ByEntity, Division, EntityPart, Error as CoreError, Expected,
    ExpressionError, InPieces, IntoCell, IntoColumn, Kind, NotDates, NotNumbers, NotQuite, Overall,
    Places, ResultOrder, Smaller, SuggestedReading, Words, nearest_name,
};

/// The README's examples are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
