//! Makes stays of vessels in the harbour, as many as are needed to measure large tables.
//!
//! `cargo run --release --example make_stays -- ROWS VESSELS DAYS FILE` writes the columns
//! `vessel`, `arrived`, `left` and `tons` to a file in the format of its extension, or as CSV to
//! `-`. The same numbers make the same rows. The vessels call in turn, each on another day as long
//! as there are enough days from 2020-01-01. One stay in a hundred has no end, and one in a
//! thousand no vessel.

use jembric::{
    Result, Table,
    arrow::{ArrayRef, Date32Array, Int64Array, StringViewArray},
    io::{Destination, Writing},
};
use std::{io, path::Path, sync::Arc};

/// The rows that are made at a time.
const BATCH: u64 = 1 << 18;
/// The number of 2020-01-01.
const FIRST_DAY: u64 = 18_262;
/// The number of names, and a step through all of them: both have no divisor in common.
const NAMES: u64 = 10_000_000;
const SPREAD: u64 = 7_654_321;

/// A number that depends on another one as if by chance (the finalizer of SplitMix64, by Steele,
/// Lea and Flood, 2014).
fn mixed(number: u64) -> u64 {
    let number = number.wrapping_add(0x9E37_79B9_7F4A_7C15);
    let number = (number ^ (number >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
    let number = (number ^ (number >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    number ^ (number >> 31)
}

/// The sizes of what is made.
#[derive(Clone, Copy)]
pub(crate) struct Sizes {
    pub(crate) rows: u64,
    pub(crate) vessels: u64,
    pub(crate) days: u64,
}

fn stays(rows: std::ops::Range<u64>, sizes: Sizes) -> Result<Table> {
    let Sizes { rows: all, vessels, days } = sizes;
    // The days between two calls of a vessel, as far as there are enough.
    let calls = all.div_ceil(vessels);
    let gap = (days / calls).max(1);
    let day = |row: u64| {
        let call = row / vessels;
        (FIRST_DAY + (call * gap + mixed(row) % gap) % days) as i32
    };
    let vessel = |row: u64| {
        let is_known = mixed(row) >> 20 & 1_023 > 0;
        is_known.then(|| format!("V{:07}", row % vessels * SPREAD % NAMES))
    };
    let left = |row: u64| {
        let number = mixed(row) >> 32;
        let has_left = number % 100 != 7;
        has_left.then(|| day(row) + (number >> 8) as i32 % 12)
    };
    let vessels: ArrayRef = Arc::new(rows.clone().map(vessel).collect::<StringViewArray>());
    let arrived: ArrayRef = Arc::new(Date32Array::from_iter_values(rows.clone().map(day)));
    let left: ArrayRef = Arc::new(rows.clone().map(left).collect::<Date32Array>());
    let tons = |row: u64| (mixed(row) >> 44) as i64 % 1_000;
    let tons: ArrayRef = Arc::new(Int64Array::from_iter_values(rows.map(tons)));
    let columns = [("vessel", vessels), ("arrived", arrived), ("left", left), ("tons", tons)];
    Ok(Table::from_columns(columns)?)
}

fn main() -> Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [rows, vessels, days, file] = &arguments[..] else {
        println!("give the numbers of rows, vessels and days, and a file or -");
        return Ok(());
    };
    let number = |text: &str| text.parse().ok().filter(|number| *number > 0);
    let (Some(rows), Some(vessels), Some(days)) = (number(rows), number(vessels), number(days))
    else {
        println!("the numbers of rows, vessels and days must be whole numbers above 0");
        return Ok(());
    };
    write(Sizes { rows, vessels, days }, file)
}

/// Writes stays to a file, or as CSV to `-`.
pub(crate) fn write(sizes: Sizes, file: &str) -> Result<()> {
    let rows = sizes.rows;
    let mut batches = (0..rows).step_by(BATCH as usize).map(|from| from..rows.min(from + BATCH));
    let mut made = |write: &mut dyn FnMut(&Table) -> io::Result<()>| {
        batches.try_for_each(|batch| write(&stays(batch, sizes).map_err(io::Error::other)?))
    };
    if file == "-" {
        let mut out = io::stdout().lock();
        let mut csv = Writing::for_path(Path::new("stays.csv"))?.batches(&mut out);
        let written = made(&mut |batch| csv.write(batch)).and_then(|()| csv.finish());
        return written.map_err(|source| jembric::Error::Write { file: "-".to_owned(), source });
    }
    let mut destination = Destination::file(file)?;
    destination.write_tables(Writing::for_path(Path::new(file))?, |batches| {
        made(&mut |batch| batches.write(batch))
    })?;
    destination.commit()
}
