//! The first line of a file: the names of the columns, and the separator.

use super::{
    reading::Reading,
    records::{Record, Records},
};
use crate::{
    error::{Error, Result},
    formats::csv_rows::refuse_twice,
    text::file_bytes::FileBytes,
};
use memchr::memchr_iter;

/// The first line: the names of the columns, and the separator.
#[derive(Debug)]
pub(crate) struct Header {
    pub(crate) names: Vec<String>,
    pub(crate) separator: u8,
    /// Its end, and the number of lines in it.
    pub(crate) end: u64,
    pub(crate) lines: u64,
}

impl Header {
    pub(crate) fn read(reading: &Reading, source: &FileBytes) -> Result<Header> {
        let (mut most, mut buffer) = (1 << 20, Vec::new());
        loop {
            let head = source.bytes(0, source.len().min(most), &mut buffer)?;
            let whole = head.len() as u64 == source.len();
            let blank =
                head.iter().take_while(|byte| byte.is_ascii_whitespace()).collect::<Vec<_>>();
            let lines_before = blank.iter().filter(|&&&byte| byte == b'\n').count() as u64;
            let start =
                head[..blank.len()].iter().rposition(|&byte| byte == b'\n').map_or(0, |at| at + 1);
            if blank.len() == head.len() && whole {
                return Err(Error::Empty { file: source.name.clone() });
            }
            let quoting = !reading.no_quotes;
            let separator = reading
                .separator
                .map_or_else(|| likely_separator(&head[start..], quoting), |given| given.0);
            let records = Records { file: &source.name, separator, quoting, columns: 0 };
            let mut reader = records.reader();
            let mut record = Record::default();
            let (complete, read) = record.read(&mut reader, &head[start..], whole);
            if !complete {
                most *= 4;
                continue;
            }
            reading.refuse_columns(&source.name, record.cells)?;
            let first = &head[start..start + read];
            if let Some((_, error)) = records.check(source, start as u64, first, lines_before + 1) {
                return Err(error);
            }
            let cells = (0..record.cells)
                .map(|cell| String::from_utf8_lossy(record.cell(cell)).trim().to_owned());
            if reading.no_header {
                let names = (1..=record.cells).map(|n| format!("c{n}")).collect();
                return Ok(Header { names, separator, end: start as u64, lines: lines_before });
            }
            let names: Vec<String> = cells
                .zip(1..)
                .map(|(name, n)| if name.is_empty() { format!("c{n}") } else { name })
                .collect();
            refuse_twice(&source.name, &names)?;
            let lines = lines_before + memchr_iter(b'\n', first).count() as u64;
            return Ok(Header { names, separator, end: (start + read) as u64, lines });
        }
    }
}

/// The length up to the end of the last complete record, in the beginning of a longer text.
pub(crate) fn whole_records(reading: &Reading, header: &Header, text: &[u8]) -> usize {
    let records =
        Records { file: "", separator: header.separator, quoting: !reading.no_quotes, columns: 0 };
    let (mut reader, mut record, mut end) =
        (records.reader(), Record::default(), header.end as usize);
    loop {
        match record.read(&mut reader, &text[end..], false) {
            (true, read) => end += read,
            (false, _) => return end,
        }
    }
}

/// The separator by which the first lines have the same and the greatest number of cells, or
/// otherwise the most frequent one in the first line.
fn likely_separator(head: &[u8], quoting: bool) -> u8 {
    const LINES: usize = 50;
    let score = |separator: u8| {
        let mut reader = Records { file: "", separator, quoting, columns: 0 }.reader();
        let (mut record, mut rest, mut counts) = (Record::default(), head, Vec::new());
        while counts.len() < LINES {
            let (complete, read) = record.read(&mut reader, rest, false);
            if !complete {
                break;
            }
            counts.push(record.cells);
            rest = &rest[read..];
        }
        let first = counts
            .first()
            .copied()
            .unwrap_or_else(|| head.split(|&byte| byte == separator).count());
        (first > 1 && counts.iter().all(|&count| count == first), first)
    };
    // If several are equal, the last one wins, which is the comma.
    [b'|', b'\t', b';', b','].into_iter().max_by_key(|&separator| score(separator)).unwrap_or(b',')
}
