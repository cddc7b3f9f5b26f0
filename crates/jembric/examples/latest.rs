//! The latest record of each vessel, its state at the end of 2024, and its first record.
//!
//! `cargo run -p jembric --example latest`

use jembric::{Context, Earliest, Latest, Ties, io};

type Failure = Box<dyn std::error::Error>;

fn main() -> Result<(), Failure> {
    let inspections = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv"))?;

    // One record for each vessel. Two vessels have two records on their last day: both are kept,
    // and the ledger warns.
    let latest = Latest::new("inspected_on").per(["vessel"]);
    let now = latest.apply(&inspections)?;
    println!("{}\n", now.ledger);

    // The same with ties broken by the reading, and then by the order of the rows.
    let decided = latest.clone().then(["hull_mm"]).ties(Ties::First).apply(&inspections)?;
    println!("{}\n", decided.ledger);
    assert_eq!(decided.table.rows() as u64, decided.ledger.count("entities"));

    // As of the end of 2024. Later records are dropped, and counted.
    let context = Context::new().as_of("2024-12-31".parse()?).reconcile(["hull_mm"]);
    let then = latest.apply_with(&inspections, &context)?;
    println!("{}\n", then.ledger);

    // The first record of each vessel, marked among all rows.
    let first =
        Earliest::new("inspected_on").per(["vessel"]).mark("is_first").apply(&inspections)?;
    io::Writing::new()
        .format(io::Format::Markdown)
        .write(&first.table.head(5), &mut std::io::stdout())?;
    Ok(())
}
