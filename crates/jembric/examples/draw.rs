//! Pictures of results: dues per month and class, the berths in use, and a gauge with its gaps.
//!
//! `cargo run -p jembric --features png --example draw`

use jembric::{
    Active, Context, Draw, Filled, Spells, Totals,
    calendar::Grain,
    draw::{Form, Paper, write_picture},
    io,
};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let directory = std::env::args().nth(1).unwrap_or_else(|| ".".to_owned());
    let (dues, stays) = (io::read(demo("dues.csv"))?, io::read(demo("stays.csv"))?);
    let gauge = io::Reading::new().missing(["-"]).file(demo("gauge.csv"))?;

    // The result of every operation knows what its columns are for, so nothing has to be set. The
    // ledger of the step before becomes part of the foot line.
    let monthly = Totals::new().date(["issued"]).grain(Grain::Month).per(["class"]).sum(["amount"]);
    let monthly = monthly.apply(&dues)?;
    let picture = Draw::new().stacked().picture(&monthly.table)?.after([&monthly.ledger]);
    println!("{}: {}\n{}", picture.title(), picture.form(), picture.account());
    write_picture(&picture, format!("{directory}/dues.svg"))?;

    let counts = Active::new("arrived", "left").count().apply(&stays)?;
    let picture = Draw::new().title("Vessels at berth").level(["4 = all quays".parse()?]);
    let picture = picture.picture(&counts.table)?.after([&counts.ledger]);
    println!("{}: {}", picture.title(), picture.form());
    write_picture(&picture, format!("{directory}/berths.png"))?;

    // Filled days are hollow. Each gauge has a small picture, on the same scales.
    let filled = Filled::new("day").per(["gauge"]).linear(["level_m"]).mark("was_added");
    let filled = filled.apply(&gauge)?;
    let picture = Draw::new().apart("gauge").paper(Paper::Dark).picture(&filled.table)?;
    println!("{}: {}", picture.title(), picture.form());
    write_picture(&picture, format!("{directory}/gauges.png"))?;

    // Open spells fade out at the as-of date. In a terminal, a picture is text.
    let context = Context::new().as_of("2025-06-30".parse()?);
    let spells = Spells::of_intervals("arrived", "left").per(["berth"]);
    let spells = spells.apply_with(&stays, &context)?;
    let picture = Draw::new().picture_with(&spells.table, &context)?.after([&spells.ledger]);
    println!("\n{}", picture.text(100, 20));

    // A calendar of any column of days. What was guessed from the types is in the ledger.
    let calendar = Draw::new().form(Form::Calendar).picture(&gauge)?;
    println!("{}", calendar.ledger());
    Ok(())
}
