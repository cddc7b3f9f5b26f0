//! Reports from tables of dated records, with an account of every row.
//!
//! | the question | what answers it |
//! | --- | --- |
//! | What does each vessel's record say *now*? And what did it say first? | [`Latest`], [`Earliest`] |
//! | How long did it take, how old is it, how late is it? | [`Elapsed`] |
//! | Which days, weeks, months was it active, and how many at once? | [`Active`] |
//! | What are the unbroken spells, and the idle time between them? | [`Spells`] |
//! | Which of these events fell inside which of those windows? | [`Within`] |
//! | The highest reading so far, the balance so far, the mean of the last 28 days | [`Running`] |
//! | One row for every day and every gauge, holes filled by a stated rule | [`Filled`] |
//! | Per month, per weekday; classes across the top; year totals beside the months | [`Totals`] |
//! | Only the last nine months, only this quarter, only the newest day in the data | [`Recent`] |
//! | A calendar that covers exactly what the data covers | [`Almanac`] |
//! | Only rows of which something is true; columns worked out from others | [`Filter`], [`Add`], in the language of [`Expression`] |
//! | Which columns, in which order; several files as one | [`Columns`], [`Sort`], [`Stack`] |
//! | What is in this file, are its dates really dates, what looks wrong? | [`Look`] |
//! | A report that runs again next month | [`routine`] |
//! | How do files become tables, and tables files? | [`io`] |
//! | A recipe for each of these | [`cookbook`] |
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
        feature = "workbooks"
    )),
    allow(dead_code)
)]

#[doc = include_str!("../cookbook/recipes.md")]
pub mod cookbook {}
mod error;
mod formats;
mod guard;
pub mod io;
mod read;
pub mod routine;
pub mod steps;
mod write;

pub use error::{Error, Result};
pub use jembric_core::{
    Access, Active, Add, Almanac, Cause, Column, ColumnLook, ColumnShape, Columns, Context,
    DateLook, Dated, Decimal, Each, Earliest, Elapsed, EndDay, Entities, EntityList, Entry,
    ExactSum, Expression, ExpressionContext, Extent, Filled, Filter, Finding, Fold, Followed, GoOn,
    Keep, Latest, Ledger, Look, LookFold, Missing, OpenEnds, Operation, Origin, Outcome, Pick,
    Plan, Reason, Recent, Reconciled, Running, Setting, Shape, Sink, Sort, Spells, Stack, Table,
    Takes, Ties, Timeline, Totals, Type, Unit, Warning, Whole, Window, Within, arrow, calendar,
    grouped, settings,
};
pub use jembric_core::{
    Advised, AmbiguousDates, BadCell, Error as CoreError, ExpressionError, NotDates, NotNumbers,
    NotQuite, Smaller, SuggestedReading, Words, nearest_name,
};

/// The README's examples are run as tests.
#[cfg(doctest)]
#[doc = include_str!("../../../README.md")]
struct Readme;
