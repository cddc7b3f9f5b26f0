//! A report as one HTML page: sentences with computed values, pictures and tables.
//!
//! `cargo run -p jembric --features draw --example page`

use jembric::{Chain, Elapsed, Error, Filter, Totals, calendar::Grain, routine::Show};

/// The report, with a sentence above its dues.
fn report(dues: &str, sentence: &str) -> Chain {
    let classes = Totals::new().date(["issued"]).per(["class"]).sum(["amount"]);
    Chain::read(dues)
        .then(classes)
        .named("dues")
        .grains([Grain::Quarter, Grain::Month])
        .heading("Dues of each class")
        .say(sentence)
        .show([Show::Picture, Show::Table])
        .and_read(dues)
        .then(Elapsed::between("due", "paid"))
        .named("late")
        .then(Filter::new("elapsed_days > 30"))
        .heading("Paid more than 30 days late")
        .say(
            "{rows} of {rows of late} dues ({share of rows of late}), {max of elapsed_days} days \
                at most.",
        )
        .title("Dues on {as-of}")
}

fn main() -> Result<(), Error> {
    let dues = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/dues.csv");
    let as_of = "2025-06-30".parse()?;

    let html = report(dues, "Dues of {sum of sum_amount} were issued.").as_of(as_of).page()?;
    for sentence in html.split("<p class=\"say\">").skip(1) {
        println!("{}", sentence.split("</p>").next().unwrap_or_default());
    }
    println!(
        "{} tables, {} pictures",
        html.matches("<tbody>").count(),
        html.matches("<svg").count()
    );

    // The sentences are checked before any row is read.
    let mistaken = report(dues, "Dues of {sum of amounts} were issued.");
    if let Err(error) = mistaken.as_of("2025-06-30".parse()?).check() {
        println!("\n{error}");
    }
    Ok(())
}
