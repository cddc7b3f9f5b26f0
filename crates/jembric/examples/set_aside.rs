//! The account of every row: the ledger, the rows set aside with their reasons, and reconciled
//! sums.
//!
//! `cargo run -p jembric --example set_aside`

use jembric::{Context, Latest, io};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let inspections = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv"))?;
    let context = Context::new().reconcile(["hull_mm"]);
    let outcome = Latest::new("inspected_on").per(["vessel"]).apply_with(&inspections, &context)?;

    assert!(outcome.ledger.balances());
    for entry in outcome.ledger.dropped.iter().chain(&outcome.ledger.set_aside) {
        println!("{}: {} rows", entry.reason, entry.rows);
    }
    let sums = &outcome.ledger.reconciled[0];
    println!("{} = {} + {} + {}\n", sums.came_in, sums.kept, sums.dropped, sums.set_aside);
    io::Writing::new().write(&outcome.set_aside, &mut std::io::stdout())?;
    Ok(())
}
