//! From a database to a database: a table is read, summed up, and written in one transaction.
//!
//! `cargo run -p jembric --features sqlite --example database`

use jembric::{
    Chain, Filter, Result, Totals,
    calendar::Grain,
    io::{self, Existing, Reading},
};

fn main() -> Result<()> {
    let demo = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo");
    let harbour = std::env::temp_dir().join(format!("jembric-{}.sqlite", std::process::id()));
    let table = |name: &str| format!("{}:{name}", harbour.display());

    // The files of the harbour become tables.
    Chain::read(format!("{demo}/dues.csv")).write(table("dues"))?;

    let months = Totals::new().date(["issued"]).grain(Grain::Month).sum(["amount"]);
    let open = Chain::read(table("dues"))
        .then(Filter::new("paid is missing"))
        .then(months)
        .written(table("open_dues"));
    println!("{} months", open.run()?.table.rows());

    // The table exists now. Nothing is replaced by mistake.
    if let Err(error) = open.run() {
        println!("{}", error.to_string().replace(&harbour.display().to_string(), "harbour.sqlite"));
    }
    open.existing(Existing::Replace).run()?;

    let query = Reading::new().query("select sum(sum_amount) as amount from open_dues");
    let sum = Chain::read((harbour.display().to_string(), query)).run()?.table;
    println!("{}", io::read(table("open_dues"))?.rows() > 0 && sum.rows() == 1);
    drop(std::fs::remove_file(harbour));
    Ok(())
}
