//! Arrivals and departures per quarter, dues by weekday and class, and months beside their year.
//!
//! `cargo run -p jembric --example totals`

use jembric::{Each, Totals, calendar::Grain, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let markdown = io::Writing::new().format(io::Format::Markdown);
    let (stays, dues) = (io::read(demo("stays.csv"))?, io::read(demo("dues.csv"))?);

    // Two columns of dates on a common axis.
    let quarters =
        Totals::new().date(["arrived", "left"]).grain(Grain::Quarter).count().apply(&stays)?;
    markdown.write(&quarters.table, &mut std::io::stdout())?;
    println!("\n{}\n", quarters.ledger);

    // Classes as columns and weekdays as rows, with totals of both. Amounts add up exactly.
    let weekdays = Totals::new().date(["issued"]).each(Each::Weekday).sum(["amount"]);
    let weekdays = weekdays.side_by_side("class").margins().apply(&dues)?;
    markdown.write(&weekdays.table, &mut std::io::stdout())?;
    println!("\n{}\n", weekdays.ledger);

    // What each vessel brought in a month, beside its year and beside all vessels.
    let monthly = Totals::new().date(["arrived"]).grain(Grain::Month).per(["vessel"]).sum(["tons"]);
    let beside = monthly.beside(["year"]).beside_every(["vessel"]).apply(&stays)?;
    markdown.write(&beside.table.head(3), &mut std::io::stdout())?;
    Ok(())
}
