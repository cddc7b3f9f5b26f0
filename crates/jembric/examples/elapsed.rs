//! How long did it take, how old is it, and how late is it?
//!
//! `cargo run -p jembric --example elapsed`

use jembric::{Context, Elapsed, Latest, Sort, Unit, io};

type Failure = Box<dyn std::error::Error>;

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Failure> {
    // The age of each vessel's last inspection, in bands. Bands are sorted by their numbers.
    let context = Context::new().as_of("2025-06-30".parse()?);
    let inspections = io::read(demo("inspections.csv"))?;
    let last = Latest::new("inspected_on").per(["vessel"]).then(["hull_mm"]).apply(&inspections)?;
    let old = Elapsed::between("inspected_on", "as-of")
        .bands([0, 90, 180])
        .apply_with(&last.table, &context)?;
    let sorted = Sort::new(["elapsed_days_band:down", "vessel"]).apply(&old.table)?;
    io::Writing::new()
        .format(io::Format::Markdown)
        .write(&sorted.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", old.ledger);

    // The number of workdays until payment, with the harbour's holidays.
    let dues = io::read(demo("dues.csv"))?;
    let workdays = Elapsed::between("issued", "paid")
        .unit(Unit::Workdays)
        .holidays(io::holidays(demo("holidays.csv"))?);
    println!("{}\n", workdays.apply(&dues)?.ledger);

    // The time from one inspection of a vessel to the next, in completed months.
    let between = Elapsed::since_previous("inspected_on").per(["vessel"]).unit(Unit::Months);
    let between = between.apply(&inspections)?;
    println!("{}", between.ledger);
    assert!(between.table.names().any(|name| name == "months_since_previous"));
    Ok(())
}
