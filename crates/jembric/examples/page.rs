//! A report as one HTML page: sentences with computed values, pictures and tables.
//!
//! `cargo run -p jembric --features draw --example page`

use jembric::{Error, routine::Routine, run::RunSettings, steps::Disk};

const DUES: &str = r#"
title = "Dues on {as-of}"
as-of = "2025-06-30"

[[step]]
name = "dues"
read = "dues.csv"
totals = { date = ["issued"], grain = ["quarter", "month"], per = ["class"], sum = ["amount"] }
heading = "Dues of each class"
say = "Dues of {sum of sum_amount} were issued."
show = ["picture", "table"]

[[step]]
name = "late"
read = "dues.csv"
elapsed = { from = "due", to = "paid" }

[[step]]
filter = "elapsed_days > 30"
heading = "Paid more than 30 days late"
say = "{rows} of {rows of late} dues ({share of rows of late}), {max of elapsed_days} days at most."
"#;

fn main() -> Result<(), Error> {
    let files = Disk::in_directory(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo"));
    let page = std::env::temp_dir().join(format!("jembric-page-{}.html", std::process::id()));

    // The sentences are checked as well, before any row is read.
    let routine = Routine::parse("dues.toml", DUES)?;
    let mut run = RunSettings::on(&files, "2025-07-01".parse()?);
    run.page = Some(page.clone());
    routine.check(&run)?.run(&mut |_| Ok(()), &mut |_| Ok(()))?;

    let html = std::fs::read_to_string(&page).unwrap_or_default();
    for sentence in html.split("<p class=\"say\">").skip(1) {
        println!("{}", sentence.split("</p>").next().unwrap_or_default());
    }
    println!(
        "{} tables, {} pictures",
        html.matches("<tbody>").count(),
        html.matches("<svg").count()
    );
    drop(std::fs::remove_file(page));

    // A sentence that names an unknown column is marked in the routine.
    let mistaken = Routine::parse("dues.toml", &DUES.replace("of sum_amount}", "of amounts}"))?;
    if let Err(error) = mistaken.check(&run) {
        println!("\n{error}");
    }
    Ok(())
}
