//! What changed between two dates of one table, and between two tables.
//!
//! `cargo run -p jembric --example changes`

use jembric::{
    Between, Changes, Decimal, Duplicates, Filter,
    io::{self, Format, Writing},
};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let markdown = Writing::new().format(Format::Markdown);

    // Each vessel's latest inspection at the end of May, and at the end of June.
    let inspections = io::read(format!("{demo}/inspections.csv"))?;
    let between = Between::new("2025-05-31".parse()?, "2025-06-30".parse()?);
    let changes = Changes::per(["vessel"])
        .date("inspected_on")
        .between(between.expect("the earlier date is first"))
        .ties(Duplicates::First);
    let outcome = changes.apply_between(&inspections)?;
    markdown.write(&outcome.table, &mut std::io::stdout())?;
    println!("\n{}", outcome.ledger);

    // Two tables: the dues as they are, and without the last invoices.
    let dues = io::read(format!("{demo}/dues.csv"))?;
    let before = Filter::new("invoice < '00540'").apply(&dues)?.table;
    let changes = Changes::per(["invoice"]).only(["amount"]).within(Decimal::from(1));
    let outcome = changes.apply(&dues, &before)?;
    println!("\n{}", outcome.ledger);
    markdown.write(&outcome.table.head(3), &mut std::io::stdout())?;

    // A key that occurs twice is refused, with its lines.
    if let Err(error) = Changes::per(["class"]).apply(&dues, &dues) {
        println!("\n{error}");
    }
    Ok(())
}
