//! A run that another thread cancels: it ends with an error of its own, and leaves no file.
//!
//! `cargo run -p jembric --example cancel`

use jembric::{Cancel, Chain, CoreError, Filter, Sort, Table};
use std::{error::Error, fs, thread, time::Duration};

fn main() -> Result<(), Box<dyn Error>> {
    let numbers = (0..2_000_000_i64).map(|n| n * 7_919 % 1_000_003);
    let table = Table::builder().column("n", numbers).build()?;
    let directory = std::env::temp_dir().join(format!("jembric-cancel-{}", std::process::id()));
    fs::create_dir_all(&directory)?;

    let cancel = Cancel::new();
    let chain = Chain::read(table).then(Filter::new("n > 10")).then(Sort::new(["n"]));
    let chain = chain.cancelled_by(&cancel);
    let file = directory.join("numbers.csv");
    let run = thread::spawn(move || {
        // The chain runs over and over, until it is cancelled.
        loop {
            if let Err(error) = chain.write(&file) {
                return error;
            }
        }
    });
    thread::sleep(Duration::from_millis(30));
    cancel.cancel();

    let error = run.join().map_err(|_| "the thread failed")?;
    println!("{error}: {}", matches!(error.core(), Some(CoreError::Cancelled)));
    // Earlier runs may have written the whole file. Nothing else is left.
    let left = fs::read_dir(&directory)?.flatten();
    let left = left.filter(|entry| entry.file_name() != "numbers.csv");
    println!("{} temporary files", left.count());
    Ok(fs::remove_dir_all(&directory)?)
}
