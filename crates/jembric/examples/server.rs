//! A server that answers with Arrow record batches: as a stream of bytes, for any connection, and
//! as a reader, for consumers in the same program.
//!
//! `cargo run -p jembric --features arrow-files --example server`

use jembric::{
    Cancel, Chain, Filter, Latest, Result, Table,
    arrow::RecordBatchReader,
    io::{Format, Writing},
};
use std::{io::Write, thread};

/// Answers a request: the latest inspections for which a condition is true, as an Arrow stream.
/// The connection may be a socket, or the body of a response.
fn answer(condition: &str, cancel: &Cancel, connection: &mut impl Write) -> Result<()> {
    let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/inspections.csv");
    let mut stream = Writing::new().format(Format::ArrowStream).batches(connection);
    let chain = Chain::read(file)
        .then(Latest::new("inspected_on").per(["vessel"]))
        .then(Filter::new(condition))
        .cancelled_by(cancel);
    chain.each(|batch| stream.write(batch))?;
    stream.finish().map_err(|error| jembric::CoreError::Sink(error.into()))?;
    Ok(())
}

fn main() -> Result<()> {
    // Requests are answered by several threads.
    let requests = ["hull_mm > 4", "result = 'failed'", "hull > 4"];
    let answers = requests.map(|condition| {
        thread::spawn(move || {
            let mut bytes = Vec::new();
            answer(condition, &Cancel::new(), &mut bytes).map(|()| bytes)
        })
    });
    for (request, answer) in requests.iter().zip(answers) {
        match answer.join() {
            Ok(Ok(bytes)) => println!("{request}: an Arrow stream, {}", bytes.len() > 500),
            Ok(Err(error)) => println!("{request}: {error}"),
            Err(_) => println!("{request}: the thread failed"),
        }
    }

    // A consumer of record batches in the same program.
    let days = Table::builder().column("n", 1..=5_i64).build()?;
    let reader = Chain::read(days).then(Filter::new("n > 2")).reader()?;
    println!("{} columns", reader.schema().fields().len());
    let rows: usize = reader.map(|batch| batch.map_or(0, |batch| batch.num_rows())).sum();
    println!("{rows} rows");
    Ok(())
}
