//! The unbroken spells, and the gaps between them.
//!
//! `cargo run -p jembric --example spells`

use jembric::{Spells, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let stays = io::read(demo("stays.csv"))?;
    let markdown = io::Writing::new().format(io::Format::Markdown);

    // The spells in which a berth was in use, joined across a gap of one day, and the gaps.
    let in_use = Spells::of_intervals("arrived", "left").per(["berth"]).join_gaps(1);
    let spells = in_use.apply(&stays)?;
    markdown.write(&spells.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", spells.ledger);
    println!("{}\n", in_use.idle().apply(&stays)?.ledger);

    // How long each result of an inspection was valid: a state holds until the next one.
    let results = Spells::of_states("inspected_on", ["result"])
        .per(["vessel"])
        .apply(&io::read(demo("inspections.csv"))?)?;
    markdown.write(&results.table.head(3), &mut std::io::stdout())?;
    println!("\n{}", results.ledger);
    Ok(())
}
