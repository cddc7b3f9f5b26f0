//! Which days, weeks, months was it active, and how many were active at once?
//!
//! `cargo run -p jembric --example active`

use jembric::{Active, Context, calendar::Grain, io};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let stays = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/stays.csv"))?;
    let active = Active::new("arrived", "left");
    let markdown = io::Writing::new().format(io::Format::Markdown);
    let context = Context::new().as_of("2025-06-30".parse()?);

    // A row for each stay and month, with its days and its part of the tonnage: the parts add up
    // exactly.
    let months = active.clone().grain(Grain::Month).share(["tons"]).apply_with(&stays, &context)?;
    markdown.write(&months.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", months.ledger);

    // How many were at the quays, month by month: counted by a sweep, without those rows.
    let counts = active
        .clone()
        .grain(Grain::Month)
        .range("2025".parse()?)
        .count()
        .apply_with(&stays, &context)?;
    markdown.write(&counts.table.head(6), &mut std::io::stdout())?;

    // Who was there on a day.
    let there = active.clone().on("2025-03-31".parse()?).apply_with(&stays, &context)?;
    println!("\n{}\n", there.ledger);

    // A long answer goes out in batches and never stands in memory whole.
    let mut rows = 0;
    active.apply_into(&stays, &context, &mut |batch| {
        rows += batch.rows();
        Ok(())
    })?;
    println!("{rows} days");
    Ok(())
}
