//! What a file holds, whether its dates are really dates, and what looks wrong.
//!
//! `cargo run -p jembric --example look`

use jembric::{Look, io};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    for file in ["stays.csv", "lifts.csv", "gauge.csv"] {
        let look = Look::at(&io::read(format!("{demo}/{file}"))?)?;
        println!("{file}: {} rows", look.rows);
        for column in &look.columns {
            let dates = column
                .dates
                .map(|dates| format!(" ({}..{})", dates.first, dates.last))
                .unwrap_or_default();
            println!("  {}: {}, {} distinct{dates}", column.name, column.kind, column.distinct);
        }
        for finding in &look.findings {
            println!("  looks wrong: {finding}");
        }
    }
    Ok(())
}
