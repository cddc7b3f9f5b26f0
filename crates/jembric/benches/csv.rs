//! Reading CSV into typed columns, beside reading only its records with the `csv` crate on the same
//! threads; and writing it, beside formatting every cell into a buffer that is discarded.
//!
//! It also prints the peak memory of reading in a separate process, beside the size of the file.

#[path = "../../../benches/lifts.rs"]
mod lifts;
#[path = "../../../benches/ratio.rs"]
mod ratio;

use criterion::{Criterion, criterion_group};
use jembric::io;
use rayon::prelude::*;
use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    path::Path,
};

#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

const ROWS: usize = 10_000_000;

fn csv(criterion: &mut Criterion) {
    let path = lifts::file(ROWS);
    ratio::compare(
        criterion,
        "CSV of four columns to typed columns",
        ("records of the csv crate", || records(&path)),
        ("read", || io::read(&path).expect("a table").rows()),
        Some(1.5),
    );
    let peak = lifts::peak_of_a_run(
        std::process::Command::new(std::env::current_exe().expect("this bench")).env("READ", &path),
    );
    let size = fs::metadata(&path).expect("the file").len();
    println!(
        "RATIO peak memory of the read to the size of the file: {} MB / {} MB = {:.2} (to reach: \
            2.5)",
        peak / 1_000_000,
        size / 1_000_000,
        peak as f64 / size as f64
    );
}

fn csv_out(criterion: &mut Criterion) {
    let table = io::read(lifts::file(ROWS)).expect("a table");
    ratio::compare(
        criterion,
        "four columns to CSV",
        ("the text of every cell", || texts(&table)),
        ("write", || {
            io::Writing::new().write(&table, &mut std::io::sink()).expect("nothing to fail")
        }),
        Some(1.3),
    );
    ratio::compare(
        criterion,
        "four columns to a file of CSV",
        ("the text of every cell", || texts(&table)),
        ("write", || {
            io::write(&table, std::env::temp_dir().join("jembric-out.csv"))
                .expect("room on the disk")
        }),
        None,
    );
}

/// The bytes of all formatted cells, on all threads.
fn texts(table: &jembric::Table) -> usize {
    let columns = io::CellText::of(table);
    let one = |buffer: &mut String, row: usize| {
        buffer.clear();
        columns.iter().for_each(|column| column.append(row, buffer));
        std::hint::black_box(&*buffer).len()
    };
    (0..table.rows()).into_par_iter().with_min_len(1 << 14).map_init(String::new, one).sum()
}

/// Counts records in parts that begin after a line break, because the file has none inside its
/// cells.
fn records(path: &Path) -> usize {
    const PIECE: u64 = 1 << 20;
    let file = File::open(path).expect("the file");
    let len = file.metadata().expect("the file").len();
    let pieces: Vec<u64> = (0..len).step_by(PIECE as usize).collect();
    let one = |buffer: &mut Vec<u8>, &start: &u64| {
        buffer.resize(PIECE as usize + 4096, 0);
        let read = file.read_at(buffer, start).expect("the file");
        let behind = |from: usize| {
            buffer[from..read]
                .iter()
                .position(|&byte| byte == b'\n')
                .map_or(read, |at| from + at + 1)
        };
        let first = if start == 0 { 0 } else { behind(0) };
        let last = if (PIECE as usize) < read { behind(PIECE as usize) } else { read };
        let mut reader =
            csv::ReaderBuilder::new().has_headers(start == 0).from_reader(&buffer[first..last]);
        let mut record = csv::ByteRecord::new();
        let mut count = 0;
        while reader.read_byte_record(&mut record).expect("records") {
            count += std::hint::black_box(&record).len() / 4;
        }
        count
    };
    pieces.par_iter().map_init(Vec::new, one).sum()
}

fn read_for_memory() {
    if let Some(path) = std::env::var_os("READ") {
        println!("{}", io::read(path).expect("a table").rows());
        std::process::exit(0);
    }
}

criterion_group!(benches, csv, csv_out);
fn main() {
    read_for_memory();
    benches();
    Criterion::default().configure_from_args().final_summary();
}
