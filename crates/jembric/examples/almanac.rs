//! A calendar for the days that the data covers, with the harbour's holidays and fiscal year.
//!
//! `cargo run -p jembric --example almanac`

use jembric::{Almanac, Columns, Context, calendar::Month, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let almanac = Almanac::new()
        .covering(&io::read(demo("stays.csv"))?, ["arrived", "left"])?
        .covering(&io::read(demo("lifts.csv"))?, ["lifted_on as lifts"])?
        .holidays(io::holidays(demo("holidays.csv"))?)
        .year_start(Month::April);
    let outcome = almanac.make_with(&Context::new().as_of("2024-01-10".parse()?))?;
    println!("{}\n", outcome.ledger);

    let shown = [
        "date",
        "weekday",
        "year_quarter",
        "fiscal_year",
        "is_workday",
        "records_lifts",
        "days_from_as_of",
    ];
    let table = Columns::new(shown).apply(&outcome.table)?.table;
    io::Writing::new()
        .format(io::Format::Markdown)
        .write(&table.head(8), &mut std::io::stdout())?;
    Ok(())
}
