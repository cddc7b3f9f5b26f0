//! Steps that follow each other, and the values of the result.
//!
//! `cargo run -p jembric --example chain`

use jembric::{Chain, CoreError, Elapsed, Error, Filter, Latest, calendar::Day};

fn main() -> Result<(), Error> {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv");
    let current = Latest::new("inspected_on").per(["vessel"]);
    let overdue = Chain::read(file)
        .then(current.clone())
        .named("current")
        .then(Elapsed::between("inspected_on", "as-of"))
        .then(Filter::new("elapsed_days > 120"))
        .as_of("2025-06-30".parse()?);

    let outcome = overdue.run()?;
    let vessels = outcome.table.cells::<&str>("vessel")?;
    let days = outcome.table.cells::<Day>("inspected_on")?;
    for (vessel, day) in vessels.zip(days) {
        println!("{} {}", vessel.unwrap_or("?"), day.map_or("never".to_owned(), |d| d.to_string()));
    }
    println!("{} steps, {} warnings", outcome.ledgers.len(), outcome.warnings().count());

    // The same steps as a routine, which the command runs.
    println!("\n{}", overdue.routine()?.to_text(|_| "inspections.csv".to_owned())?);

    // A mistake is found before any row is read.
    let mistaken = Chain::read(file).then(current.per(["vesel"]));
    if let Err(error) = mistaken.check()
        && let Some(CoreError::NoSuchColumn { column, nearest, .. }) = error.core()
    {
        println!("no column `{column}`, but {nearest:?}");
    }
    Ok(())
}
