//! The series of the gauges without gaps, and the inspections of every vessel in every quarter.
//!
//! `cargo run -p jembric --example filled`

use jembric::{Extent, Filled, calendar::Grain, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let markdown = io::Writing::new().format(io::Format::Markdown);
    let gauge = io::Reading::new().missing(["-"]).file(demo("gauge.csv"))?;

    // A row for every gauge and day. The last level is carried for at most two days, and added rows
    // are marked.
    let series = Filled::new("day").per(["gauge"]).carry(["level_m"]).limit(2).mark("was_added");
    let outcome = series.apply(&gauge)?;
    markdown.write(&outcome.table.head(6), &mut std::io::stdout())?;
    println!("\n{}\n", outcome.ledger);

    // Linear interpolation through the gaps of one week.
    let week = Filled::new("day").per(["gauge"]).linear(["level_m"]);
    let week = week.range(Extent::Stated("2025-01-02..2025-01-08".parse()?)).apply(&gauge)?;
    markdown.write(&week.table.head(7), &mut std::io::stdout())?;

    // A row for every vessel and month, with constant columns from the list of vessels.
    let harbour = io::read(demo("stays.csv"))?;
    let monthly =
        jembric::Totals::new().date(["arrived"]).grain(Grain::Month).per(["vessel"]).sum(["tons"]);
    let monthly = monthly.apply(&harbour)?.table;
    let every = Filled::new("month").per(["vessel"]).grain(Grain::Month).zero(["sum_tons"]);
    let every = every.entities(io::entities(demo("vessels.csv"), &["vessel"])?).apply(&monthly)?;
    println!("\n{}", every.ledger);
    Ok(())
}
