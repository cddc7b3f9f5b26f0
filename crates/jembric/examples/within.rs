//! The events inside each window, and the price in force.
//!
//! `cargo run -p jembric --example within`

use jembric::{Context, Keep, Pick, Window, Within, io};

fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let lifts = io::read(demo("lifts.csv"))?;
    let stays = io::read(demo("stays.csv"))?;
    let markdown = io::Writing::new().format(io::Format::Markdown);

    // The lifts while the vessel was at a berth, with the sums of the tons on both sides.
    let in_port = Within::new("lifted_on", Window::between("arrived", "left")).matching(["vessel"]);
    let context = Context::new().reconcile(["tons"]);
    let lifted = in_port.apply_with(&lifts, &stays, &context)?;
    markdown.write(&lifted.table.head(3), &mut std::io::stdout())?;
    println!("\n{}\n", lifted.ledger);

    // The other lifts, with the reason; and the stays without a lift.
    let strays = in_port.clone().keep(Keep::StrayEvents).apply(&lifts, &stays)?;
    markdown.write(&strays.table, &mut std::io::stdout())?;
    let idle = in_port.keep(Keep::EmptyWindows).apply(&lifts, &stays)?;
    println!("\nstays without a lift: {}\n", idle.table.rows());

    // The price in force on the day: of the windows that have begun, the one that began last.
    let in_force = Within::new("lifted_on", Window::starting("valid_from"))
        .matching(["crane"])
        .pick(Pick::Last);
    let priced = in_force.keep(Keep::EveryEvent).apply(&lifts, &io::read(demo("tariff.csv"))?)?;
    markdown.write(&priced.table.head(3), &mut std::io::stdout())?;

    // The dues that were paid within three days of their due date.
    let near: Window = "due - 3 days..due + 3 days".parse()?;
    let dues = io::read(demo("dues.csv"))?;
    let on_time = Within::new("paid", near)
        .matching(["invoice"])
        .bring(["due as was_due"])
        .apply(&dues, &dues)?;
    println!("\n{}", on_time.ledger);
    Ok(())
}
