//! In which days, weeks or months is each record active, and how many are active at once?
//!
//! `cargo run -p jembric --example active`

use jembric::{Active, Context, calendar::Grain, io};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let stays = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv"))?;
    let active = Active::new("arrived", "left");
    let markdown = io::Writing::new().format(io::Format::Markdown);
    let context = Context::new().as_of("2025-06-30".parse()?);

    // A row for each stay and month, with its active days and its share of the tonnage. The shares
    // add up exactly.
    let months = active.clone().grain(Grain::Month).share(["tons"]).apply_with(&stays, &context)?;
    markdown.write(&months.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", months.ledger);

    // The number of vessels at the quays in each month, counted in a sweep without those rows.
    let counts = active
        .clone()
        .grain(Grain::Month)
        .range("2025".parse()?)
        .count()
        .apply_with(&stays, &context)?;
    markdown.write(&counts.table.head(6), &mut std::io::stdout())?;

    // The vessels at the quays on a date.
    let there = active.clone().on("2025-03-31".parse()?).apply_with(&stays, &context)?;
    println!("\n{}\n", there.ledger);

    // A long result is delivered in batches, and is never in memory as a whole.
    let mut rows = 0;
    active.apply_into(&stays, &context, &mut |batch| {
        rows += batch.rows();
        Ok(())
    })?;
    println!("{rows} days");
    Ok(())
}
