//! The highest water level so far, the mean of seven days, and the fuel in the tank.
//!
//! `cargo run -p jembric --example running`

use jembric::{Add, Latest, Running, Stack, calendar::Grain, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let markdown = io::Writing::new().format(io::Format::Markdown);
    let gauge = io::Reading::new().missing(["-"]).file(demo("gauge.csv"))?;

    // The highest level so far, and the days with a new one.
    let highest =
        Running::new("day").per(["gauge"]).max(["level_m as highest"]).mark_highs("is_high");
    let highest = highest.apply(&gauge)?;
    markdown.write(&highest.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", highest.ledger);

    // The mean of the seven days up to each day.
    let week = Running::new("day").per(["gauge"]).mean(["level_m"]).trailing("7 days".parse()?);
    markdown.write(&week.apply(&gauge)?.table.head(3), &mut std::io::stdout())?;

    // Both books as one, and the balance after each day, from an opening balance.
    let (came, went) = (io::read(demo("fuel_in.csv"))?, io::read(demo("fuel_out.csv"))?);
    let both = Stack::new().source("book").apply(&[("in", &came), ("out", &went)])?.table;
    let signed = Add::new(["change = if book = 'in' then litres else -litres"]).apply(&both)?.table;
    let balance =
        Running::new("day").sum(["change as in_tank"]).opening(12_000.into()).apply(&signed)?.table;

    // The balance at the end of each month.
    let states = Latest::new("day")
        .then(["book"])
        .ties(jembric::Ties::First)
        .at_each(Grain::Month)
        .apply(&balance)?;
    println!();
    markdown.write(&states.table.head(3), &mut std::io::stdout())?;
    println!("\n{}", states.ledger);
    Ok(())
}
