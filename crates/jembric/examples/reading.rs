//! How difficult files are read, and which errors they give.
//!
//! `cargo run -p jembric --example reading`

use jembric::{
    calendar::Zone,
    io::{DateOrder, Reading},
};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    // Whether the day or the month comes first is decided from the whole column. If the column does
    // not show it, it is an error and not a guess.
    let open = "seen,vessel\n03/04/2025,Petrel\n05/06/2025,Thrift\n";
    let table = Reading::new().stream("open.csv", open.as_bytes())?;
    let refused = jembric::Latest::new("seen").apply(&table).map(|outcome| outcome.table.rows());
    println!("{}", refused.err().ok_or("an open order is refused")?);
    let table = Reading::new().date_order(DateOrder::Dmy).stream("open.csv", open.as_bytes())?;
    println!("newest: {}\n", table.newest("seen", &Zone::default())?);

    // Old exports: no header, a decimal comma, marks for missing values, two-digit years, another
    // encoding.
    let old = b"30.06.49;M\xf6we;3,5\n01.07.49;-;4\n";
    let table = Reading::new()
        .no_header()
        .encoding("windows-1252")
        .decimal_comma()
        .missing(["-"])
        .read("c1", "%d.%m.%y")
        .century(1900)
        .stream("old.csv", &old[..])?;
    for column in table.shape().columns() {
        println!("{}: {}", column.name, column.kind.ok_or("a type")?);
    }

    // An error has its file, line and reason.
    let ragged =
        Reading::new().stream("ragged.csv", "a,b\n1,2\n3\n".as_bytes()).map(|table| table.rows());
    println!("\n{}", ragged.err().ok_or("a ragged row is refused")?);
    Ok(())
}
