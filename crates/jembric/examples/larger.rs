//! A file that is larger than memory: read, summed up and written in batches.
//!
//! `cargo run -p jembric --example larger`

use jembric::{
    Chain, Filter, Totals,
    calendar::Grain,
    io::{self, Size},
};
use std::{error::Error, fs};

fn main() -> Result<(), Box<dyn Error>> {
    let directory = std::env::temp_dir().join(format!("jembric-larger-{}", std::process::id()));
    fs::create_dir_all(&directory)?;
    let calls = directory.join("calls.csv");
    let mut text = String::from("day,berth,tons\n");
    for n in 0..300_000 {
        text += &format!("2024-{:02}-{:02},B{},{}\n", n % 12 + 1, n % 28 + 1, n % 7, n % 1000);
    }
    fs::write(&calls, &text)?;

    // Row by row: no more than a few batches are in memory.
    let heavy = Chain::read(&calls).then(Filter::new("tons > 500")).memory(Size::mebibytes(8));
    let outcome = heavy.write(directory.join("heavy.csv"))?;
    println!("{} of {} calls are heavy", outcome.ledgers[0].kept, outcome.ledgers[0].rows_in);

    // One pass: only the sums are in memory.
    let months = Chain::read(heavy)
        .then(Totals::new().date(["day"]).grain(Grain::Month).per(["berth"]).sum(["tons"]))
        .memory(Size::mebibytes(8));
    months.write(directory.join("months.csv"))?;
    println!("{} rows of months", io::read(directory.join("months.csv"))?.rows());

    // In batches, for a program of its own.
    let (mut batches, mut tons) = (0, 0);
    months.each(|batch| {
        batches += 1;
        tons += batch.cells::<i64>("sum_tons")?.flatten().sum::<i64>();
        Ok::<(), jembric::CoreError>(())
    })?;
    println!("{tons} tons");
    assert!(batches > 0);
    Ok(fs::remove_dir_all(&directory)?)
}
