// The helpers that the recipes of the cookbook share. They are included in each recipe, and are not
// part of the library.

/// The path of one of the harbour's tables.
#[allow(dead_code)]
fn demo(file: &str) -> String {
    format!("{}/../../demo/{file}", env!("CARGO_MANIFEST_DIR"))
}

/// The first rows of a table as CSV.
#[allow(dead_code)]
fn csv(table: &jembric::Table, rows: usize) -> String {
    let mut text = Vec::new();
    jembric::io::Writing::new().write(&table.head(rows), &mut text).expect("memory takes all that \
        is written");
    String::from_utf8(text).expect("CSV is UTF-8")
}
