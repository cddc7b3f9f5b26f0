//! The file formats that can be read and written.
//!
//! `cargo run -p jembric --example formats`

use jembric::{
    Totals,
    calendar::Grain,
    io::{self, Reading},
};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let dues = io::read(concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/dues.csv"))?;
    let months =
        Totals::new().date(["issued"]).grain(Grain::Month).sum(["amount"]).apply(&dues)?.table;
    let directory = std::env::temp_dir().join(format!("jembric-formats-{}", std::process::id()));
    std::fs::create_dir_all(&directory)?;

    // The file extension decides how a file is written, and its first bytes how it is read.
    for name in [
        "months.csv",
        "months.csv.zst",
        "months.jsonl",
        "months.parquet",
        "months.arrow",
        "months.xlsx",
    ] {
        let path = directory.join(name);
        io::write(&months, &path)?;
        let back = io::read(&path)?;
        let kinds: Vec<String> = back
            .shape()
            .columns()
            .iter()
            .filter_map(|column| Some(column.kind?.to_string()))
            .collect();
        println!("{name}: {}", kinds.join(", "));
    }

    // The name of a sheet follows the name of the workbook. Only the columns that are used are
    // read.
    let sheet = directory.join("months.xlsx:Sheet1");
    println!(
        "\n{:?}",
        Reading::new().only(["sum_amount"]).file(&sheet)?.names().collect::<Vec<_>>()
    );
    let misspelt =
        io::read(directory.join("months.xlsx:Shet1")).err().ok_or("there is no such sheet")?;
    println!("{}", misspelt.to_string().replace(&directory.display().to_string(), "…"));

    // Texts that look like numbers stay texts, unless the reading says otherwise.
    let lines = "{\"day\": \"2025-06-30\", \"fee\": \"1.50\"}\n{\"day\": \
        null, \"fee\": \"2\", \"paid\": true}\n";
    for reading in [Reading::new(), Reading::new().read("fee", "number")] {
        let table = reading.stream("fees.jsonl", lines.as_bytes())?;
        println!("fee: {}", table.shape().find("fee")?.kind.ok_or("a type")?);
    }
    std::fs::remove_dir_all(directory)?;
    Ok(())
}
