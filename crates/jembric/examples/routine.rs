//! A saved report that runs again: the harbour's routine, checked, run, and saved anew.
//!
//! `cargo run -p jembric --example routine`

use jembric::{
    Error,
    io::{Format, Writing},
    routine::Routine,
    run::RunSettings,
};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/harbour.toml");
    let routine = Routine::file(path)?;
    let files = Routine::files_beside(path);

    // Every step is checked by the names in the headers of its files, before any row is read.
    // Nothing is written, because no output is named.
    let mut run = RunSettings::on(&files, "2025-07-01".parse()?);
    run.follow = Some("vessel = 'Wend'".parse()?);
    let checked = routine.check(&run)?;
    println!("{} steps are valid", routine.steps.len());

    let (markdown, mut out) = (Writing::new().format(Format::Markdown), std::io::stdout());
    let mut answer = markdown.batches(&mut out);
    let mut told = Vec::new();
    checked.run(&mut |batch| Ok(answer.write(batch)?), &mut |ran| {
        told.push(format!("{}: {}", ran.step.title(), ran.outcome.ledger));
        Ok(())
    })?;
    println!("\n{}", told.join("\n"));

    // A mistake is shown with its line.
    let mistaken = Routine::parse(
        "report.toml",
        "[[step]]\nread = \"stays.csv\"\nlates = { date = \"left\" }\n",
    );
    if let Err(Error::Routine(mistaken)) = mistaken {
        println!("\n{mistaken}");
    }
    println!(
        "\n{}",
        routine.to_text(str::to_owned)?.lines().take(7).collect::<Vec<_>>().join("\n")
    );
    Ok(())
}
