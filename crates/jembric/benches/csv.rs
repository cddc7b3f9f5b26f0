//! Reading CSV into typed columns, beside reading only its records with the `csv` crate on the same
//! threads, and beside finding every separator and parsing each column, whose type is known; and
//! writing it, beside formatting every cell into a buffer that is discarded.
//!
//! It also prints the peak memory of reading in a separate process, beside the size of the file.

#[path = "../../../benches/lifts.rs"]
mod lifts;
#[path = "../../../benches/ratio.rs"]
mod ratio;

use arrow_array::{ArrayRef, Date32Array, Decimal64Array, StringViewArray, builder::make_view};
use arrow_buffer::{Buffer, NullBuffer};
use criterion::{Criterion, criterion_group};
use jembric::io;
use rayon::prelude::*;
use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    path::Path,
    sync::Arc,
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
        Some(1.0),
    );
    let table = io::read(&path).expect("a table");
    assert_eq!(index_then_columns(&path), table.columns(), "the kernel reads the same");
    drop(table);
    ratio::compare(
        criterion,
        "CSV of four columns to typed columns, beside its columns",
        ("every separator, then each column", || index_then_columns(&path)),
        ("read", || io::read(&path).expect("a table").rows()),
        Some(1.3),
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
    let columns = io::CellText::for_columns(table);
    let one = |buffer: &mut String, row: usize| {
        buffer.clear();
        columns.iter().for_each(|column| column.append(row, buffer));
        std::hint::black_box(&*buffer).len()
    };
    (0..table.rows()).into_par_iter().with_min_len(1 << 14).map_init(String::new, one).sum()
}

/// The bytes of a file that a thread takes at a time.
const PIECE: usize = 1 << 20;

/// A file in pieces that begin after a line break, because it has none inside its cells.
struct Pieces {
    file: File,
    starts: Vec<u64>,
}

impl Pieces {
    fn of(path: &Path) -> Pieces {
        let file = File::open(path).expect("the file");
        let len = file.metadata().expect("the file").len();
        Pieces { file, starts: (0..len).step_by(PIECE).collect() }
    }

    /// The lines of the piece that begins here.
    fn lines<'b>(&self, start: u64, buffer: &'b mut Vec<u8>) -> &'b [u8] {
        buffer.resize(PIECE + 4096, 0);
        let read = self.file.read_at(buffer, start).expect("the file");
        let behind = |from: usize| {
            memchr::memchr(b'\n', &buffer[from..read]).map_or(read, |at| from + at + 1)
        };
        let first = if start == 0 { 0 } else { behind(0) };
        let last = if PIECE < read { behind(PIECE) } else { read };
        &buffer[first..last]
    }

    /// The same without the header.
    fn rows<'b>(&self, start: u64, buffer: &'b mut Vec<u8>) -> &'b [u8] {
        let lines = self.lines(start, buffer);
        let header = memchr::memchr(b'\n', lines).filter(|_| start == 0);
        &lines[header.map_or(0, |at| at + 1)..]
    }
}

/// Counts records.
fn records(path: &Path) -> usize {
    let pieces = Pieces::of(path);
    let one = |buffer: &mut Vec<u8>, &start: &u64| {
        let lines = pieces.lines(start, buffer);
        let mut reader = csv::ReaderBuilder::new().has_headers(start == 0).from_reader(lines);
        let mut record = csv::ByteRecord::new();
        let mut count = 0;
        while reader.read_byte_record(&mut record).expect("records") {
            count += std::hint::black_box(&record).len() / 4;
        }
        count
    };
    pieces.starts.par_iter().map_init(Vec::new, one).sum()
}

/// The rows of one piece of the file, in each column.
struct Part<'a> {
    number: u32,
    start: u64,
    vessels: &'a mut [u128],
    days: &'a mut [i32],
    tons: &'a mut [i64],
    notes: &'a mut [u128],
}

/// The arrays of all columns, from the separators of each piece.
fn index_then_columns(path: &Path) -> Vec<ArrayRef> {
    let pieces = Pieces::of(path);
    let count = |buffer: &mut Vec<u8>, &start: &u64| {
        memchr::memchr_iter(b'\n', pieces.rows(start, buffer)).count()
    };
    let rows: Vec<usize> = pieces.starts.par_iter().map_init(Vec::new, count).collect();
    let all = rows.iter().sum();
    let (mut vessels, mut notes) = (vec![0; all], vec![0; all]);
    let (mut days, mut tons) = (vec![0; all], vec![0; all]);
    let mut parts = Vec::new();
    let (mut vessels_left, mut notes_left) = (&mut vessels[..], &mut notes[..]);
    let (mut days_left, mut tons_left) = (&mut days[..], &mut tons[..]);
    for ((&start, rows), number) in pieces.starts.iter().zip(rows).zip(0..) {
        parts.push(Part {
            number,
            start,
            vessels: vessels_left.split_off_mut(..rows).expect("the rows of a piece"),
            days: days_left.split_off_mut(..rows).expect("the rows of a piece"),
            tons: tons_left.split_off_mut(..rows).expect("the rows of a piece"),
            notes: notes_left.split_off_mut(..rows).expect("the rows of a piece"),
        });
    }
    let fill =
        |(buffer, index): &mut (Vec<u8>, Vec<u32>), part| filled(part, &pieces, buffer, index);
    let long: Vec<Vec<u8>> =
        parts.into_par_iter().map_init(|| (Vec::new(), Vec::new()), fill).collect();
    let long: Vec<Buffer> = long.into_iter().map(Buffer::from_vec).collect();
    // A view of nothing is a missing note.
    let noted = NullBuffer::from_iter(notes.iter().map(|view| *view != 0));
    let tons = Decimal64Array::from(tons).with_precision_and_scale(18, 2).expect("two places");
    vec![
        Arc::new(StringViewArray::new(vessels.into(), Vec::new(), None)),
        Arc::new(Date32Array::from(days)),
        Arc::new(tons),
        Arc::new(StringViewArray::new(notes.into(), long, Some(noted))),
    ]
}

/// Fills the rows of a piece. Returns its long notes.
fn filled(part: Part<'_>, pieces: &Pieces, buffer: &mut Vec<u8>, index: &mut Vec<u32>) -> Vec<u8> {
    let text = pieces.rows(part.start, buffer);
    index.clear();
    let mut in_quotes = false;
    for at in memchr::memchr3_iter(b',', b'\n', b'"', text) {
        match text[at] {
            b'"' => in_quotes = !in_quotes,
            _ if !in_quotes => index.push(at as u32),
            _ => {}
        }
    }
    let cell = |row: usize, column: usize| {
        let at = row * 4 + column;
        let start = at.checked_sub(1).map_or(0, |before| index[before] as usize + 1);
        &text[start..index[at] as usize]
    };
    for (row, view) in part.vessels.iter_mut().enumerate() {
        *view = make_view(cell(row, 0), 0, 0);
    }
    for (row, day) in part.days.iter_mut().enumerate() {
        *day = day_of(cell(row, 1)).expect("a date");
    }
    for (row, units) in part.tons.iter_mut().enumerate() {
        let digits = cell(row, 2).iter().filter(|byte| **byte != b'.');
        *units = digits.fold(0, |units, digit| units * 10 + i64::from(digit - b'0'));
    }
    let mut long = Vec::new();
    for (row, view) in part.notes.iter_mut().enumerate() {
        let note = cell(row, 3);
        if note.is_empty() {
            continue;
        }
        let start = long.len();
        match note.strip_prefix(b"\"").and_then(|note| note.strip_suffix(b"\"")) {
            None => long.extend_from_slice(note),
            Some(quoted) => {
                let mut bytes = quoted.iter();
                while let Some(byte) = bytes.next() {
                    long.push(*byte);
                    if *byte == b'"' {
                        bytes.next();
                    }
                }
            }
        }
        *view = make_view(&long[start..], part.number, start as u32);
        if long.len() - start <= 12 {
            long.truncate(start);
        }
    }
    long
}

/// The number of a day, as in `2025-01-31`.
fn day_of(text: &[u8]) -> Option<i32> {
    let [y0, y1, y2, y3, b'-', m0, m1, b'-', d0, d1] = *text.first_chunk::<10>()? else {
        return None;
    };
    let digits = [y0, y1, y2, y3, m0, m1, d0, d1].map(|byte| i32::from(byte.wrapping_sub(b'0')));
    if digits.iter().any(|digit| *digit > 9) {
        return None;
    }
    let [y0, y1, y2, y3, m0, m1, d0, d1] = digits;
    let (year, month, day) = (y0 * 1000 + y1 * 100 + y2 * 10 + y3, m0 * 10 + m1, d0 * 10 + d1);
    let is_leap = year % 4 == 0 && (year % 100 != 0 || year % 400 == 0);
    let most = [31, 28 + i32::from(is_leap), 31, 30, 31, 30, 31, 31, 30, 31, 30, 31];
    if day < 1 || day > *most.get(usize::try_from(month - 1).ok()?)? {
        return None;
    }
    // Years begin in March, so that a leap day is the last one (Howard Hinnant, 2021).
    let (year, month) = if month < 3 { (year - 1, month + 9) } else { (year, month - 3) };
    Some(365 * year + year / 4 - year / 100 + year / 400 + (153 * month + 2) / 5 + day - 719_469)
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
