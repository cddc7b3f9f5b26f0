//! Filter rows, compute columns, and stack several files.
//!
//! `cargo run -p jembric --example filter`

use jembric::{Add, Context, Filter, Sort, Stack, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    // High water on Tuesdays and Thursdays.
    let gauge = io::Reading::new().missing(["-"]).file(demo("gauge.csv"))?;
    let high = Filter::new("level_m > 3.2 and weekday(day) in (tue, thu)").apply(&gauge)?;
    println!("{}\n", high.ledger);

    // A mistake is reported before any row is read, with its place in the text.
    let mistake = Filter::new("levle_m > 3.2").check(&gauge.shape());
    println!("{}\n", mistake.err().ok_or("a column that does not exist is refused")?);

    // Dues that are late, and the fee. Amounts stay exact.
    let dues = io::read(demo("dues.csv"))?;
    let context = Context::new().as_of("2025-06-30".parse()?);
    let late = Add::new([
        "days_late = (if paid is missing then as_of else paid) - due",
        "fee = if days_late > 0 then round(amount * 0.0125, 2) else 0.00",
    ]);
    let late = Sort::new(["days_late:down"]).apply(&late.apply_with(&dues, &context)?.table)?;
    io::Writing::new()
        .format(io::Format::Markdown)
        .write(&late.table.head(3), &mut std::io::stdout())?;

    // Both fuel books as one table. Columns with the same name become one; others are missing in
    // one of the books.
    let (bought, used) = (io::read(demo("fuel_in.csv"))?, io::read(demo("fuel_out.csv"))?);
    let both = Stack::new().source("book").apply(&[("in", &bought), ("out", &used)])?;
    println!("\n{}", both.ledger);
    Ok(())
}
