//! The last nine months, the two quarters before this one, or March.
//!
//! `cargo run -p jembric --example recent`

use jembric::{Context, Recent, calendar::Grain, io};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let lifts = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/lifts.csv"))?;

    // Without an as-of date, the newest date of the column is used.
    let last = Recent::last("lifted_on", "9 months".parse()?).apply(&lifts)?;
    println!("{}\n", last.ledger);

    let context = Context::new().as_of("2025-02-10".parse()?);
    let quarters = Recent::previous("lifted_on", 2, Grain::Quarter).apply_with(&lifts, &context)?;
    println!("{}\n", quarters.ledger);

    let march = Recent::range("lifted_on", "2025-03".parse()?).mark("in_march").apply(&lifts)?;
    println!("{}", march.ledger);
    assert_eq!(march.table.rows(), lifts.rows());
    Ok(())
}
