//! Splits text into records: finds the beginning and end of each cell in a region, and checks that
//! quotes are where RFC 4180 allows them.

use super::{convert::ColumnCells, layout::Region, marks::Marks};
use crate::{
    error::{Error, Result},
    text::file_bytes::FileBytes,
};
use csv_core::{ReadRecordResult, ReaderBuilder, Terminator};
use memchr::{memchr_iter, memrchr};

/// The cells of one record, without quotes.
#[derive(Default)]
pub(crate) struct Record {
    output: Vec<u8>,
    ends: Vec<usize>,
    pub(crate) cells: usize,
}

impl Record {
    /// Reads the next record. Returns whether it was complete, and its length in bytes.
    #[inline]
    pub(crate) fn read(
        &mut self,
        reader: &mut csv_core::Reader,
        input: &[u8],
        to_the_end: bool,
    ) -> (bool, usize) {
        let (mut taken, mut written) = (0, 0);
        self.cells = 0;
        let mut rest = input;
        loop {
            let (result, read, out, ends) =
                reader.read_record(rest, &mut self.output[written..], &mut self.ends[self.cells..]);
            taken += read;
            written += out;
            self.cells += ends;
            rest = &input[taken..];
            match result {
                ReadRecordResult::Record => {
                    self.without_carriage_return();
                    return (true, taken);
                }
                ReadRecordResult::End => return (false, taken),
                // Tells the parser that the last record ends here.
                ReadRecordResult::InputEmpty if !to_the_end => return (false, taken),
                ReadRecordResult::InputEmpty => {}
                ReadRecordResult::OutputFull => {
                    self.output.resize((self.output.len() * 2).max(1 << 12), 0)
                }
                ReadRecordResult::OutputEndsFull => {
                    self.ends.resize((self.ends.len() * 2).max(16), 0)
                }
            }
        }
    }

    /// The parser has ended the record at the CR, so skip the LF.
    fn without_carriage_return(&mut self) {
        if let Some(last) = self.cells.checked_sub(1)
            && self.cell(last).last() == Some(&b'\r')
        {
            self.ends[last] -= 1;
        }
    }

    fn bounds(&self, cell: usize) -> (usize, usize) {
        (if cell == 0 { 0 } else { self.ends[cell - 1] }, self.ends[cell])
    }

    pub(crate) fn cell(&self, cell: usize) -> &[u8] {
        let (start, end) = self.bounds(cell);
        &self.output[start..end]
    }
}

/// The cells of some whole records, by their bounds in the text, record after record.
#[derive(Clone, Copy)]
pub(crate) struct RecordCells<'a> {
    text: &'a [u8],
    pub(crate) bounds: &'a [(usize, usize)],
    pub(crate) columns: usize,
}

impl<'a> RecordCells<'a> {
    pub(crate) fn of_column(
        self,
        column: usize,
        missing: &'a [String],
    ) -> ColumnCells<'a, impl Iterator<Item = (usize, usize)>> {
        let bounds = self.bounds.iter().skip(column).step_by(self.columns).copied();
        ColumnCells { text: self.text, bounds, missing }
    }
}

/// How records are separated in a file.
pub(crate) struct Records<'a> {
    pub(crate) file: &'a str,
    pub(crate) separator: u8,
    pub(crate) quoting: bool,
    pub(crate) columns: usize,
}

impl Records<'_> {
    pub(crate) fn reader(&self) -> csv_core::Reader {
        let mut builder = ReaderBuilder::new();
        builder.delimiter(self.separator).quoting(self.quoting).terminator(Terminator::Any(b'\n'));
        let mut reader = builder.build();
        // A new parser removes a byte-order mark, but in the middle of a file it is an ordinary
        // character.
        reader.read_record(b"-\n", &mut [0; 8], &mut [0; 8]);
        reader
    }

    /// Passes on the records of a region, a few at a time. Returns the rows that are not on the
    /// line after the row before them.
    ///
    /// Most records have no quotes, and their cells lie between the separators. Other records are
    /// parsed by the `csv` crate, one at a time.
    pub(crate) fn each(
        &self,
        source: &FileBytes,
        region: &Region,
        bytes: &[u8],
        mut on: impl FnMut(RecordCells<'_>),
    ) -> Result<Lines> {
        const TOGETHER: usize = 256;
        // If there are several mistakes, the first one is reported.
        let mut broken = self.check(source, region.start, bytes, region.line);
        let broken_at = broken.as_ref().map_or(usize::MAX, |(at, _)| *at);
        // Without quoting, a second line break among the marks changes nothing.
        let quote = if self.quoting { b'"' } else { b'\n' };
        let (mut reader, mut record) = (self.reader(), Record::default());
        let mut lines = Lines { rows: 0, jumps: Vec::new() };
        let (mut line, mut expected) = (region.line, 0);
        let mut count = |line: u64, cells: usize, begins: usize, end: usize| {
            if let Some((_, error)) = broken.take_if(|_| broken_at < end) {
                return Err(error);
            }
            if cells != self.columns {
                return Err(self.ragged(line, cells, &bytes[begins..]));
            }
            if line != expected {
                lines.jumps.push((lines.rows, line));
            }
            lines.rows += 1;
            expected = line + 1;
            Ok(())
        };
        // The cells of whole records, followed by those of the current record.
        let mut bounds: Vec<(usize, usize)> = Vec::with_capacity(self.columns * TOGETHER);
        // `whole` is the number of bounds of complete records, `begins` the start of the current
        // record, and `cell` that of the current cell.
        let (mut whole, mut begins, mut cell) = (0, 0, 0);
        let mut marks = Marks::new(bytes, [self.separator, b'\n', quote]);
        loop {
            let (mark, at) = match marks.next() {
                Some(at) => (bytes[at], at),
                None if begins == bytes.len() => break,
                // A last line without a line break ends with the text.
                None => (b'\n', bytes.len()),
            };
            if mark == self.separator {
                bounds.push((cell, at));
                cell = at + 1;
            } else if mark == b'\n' {
                // The CR of a CRLF is not part of the cell.
                let end = at - usize::from(at > cell && bytes[at - 1] == b'\r');
                // An empty line is not a record.
                if bounds.len() > whole || end > begins {
                    bounds.push((cell, end));
                    count(line, bounds.len() - whole, begins, at)?;
                    whole = bounds.len();
                    if whole >= self.columns * TOGETHER {
                        on(RecordCells { text: bytes, bounds: &bounds, columns: self.columns });
                        bounds.clear();
                        whole = 0;
                    }
                }
                line += 1;
                begins = (at + 1).min(bytes.len());
                cell = begins;
            } else {
                on(RecordCells { text: bytes, bounds: &bounds[..whole], columns: self.columns });
                // A quote: pass on what is complete, and let the parser read this record from its
                // beginning.
                let (_, taken) = record.read(&mut reader, &bytes[begins..], true);
                bounds.clear();
                bounds.extend((0..record.cells).map(|cell| record.bounds(cell)));
                count(line, record.cells, begins, begins + taken)?;
                on(RecordCells { text: &record.output, bounds: &bounds, columns: self.columns });
                bounds.clear();
                whole = 0;
                // A quoted cell may contain line breaks.
                line += memchr_iter(b'\n', &bytes[begins..begins + taken]).count() as u64;
                begins += taken;
                cell = begins;
                marks.go_to(begins);
            }
        }
        if let Some((_, error)) = broken {
            return Err(error);
        }
        on(RecordCells { text: bytes, bounds: &bounds, columns: self.columns });
        Ok(lines)
    }

    fn ragged(&self, line: u64, found: usize, text: &[u8]) -> Error {
        Error::Ragged {
            file: self.file.to_owned(),
            line,
            expected: self.columns,
            found,
            text: excerpt(text),
        }
    }

    /// The first place in whole records that is not text, or has a quote where RFC 4180 allows
    /// none.
    pub(crate) fn check(
        &self,
        source: &FileBytes,
        start: u64,
        bytes: &[u8],
        line: u64,
    ) -> Option<(usize, Error)> {
        let line_at = |at: usize| line + memchr_iter(b'\n', &bytes[..at]).count() as u64;
        // The fast check tells only whether all of it is valid; the slow one finds the place.
        let valid = match simdutf8::basic::from_utf8(bytes) {
            Ok(_) => bytes.len(),
            Err(_) => std::str::from_utf8(bytes).map_or_else(|error| error.valid_up_to(), str::len),
        };
        let quote = if self.quoting {
            self.check_quotes(&bytes[..valid], bytes.len(), line_at)
        } else {
            None
        };
        quote.or_else(|| {
            let (file, value) = (self.file.to_owned(), *bytes.get(valid)?);
            let (byte, encoding) = (source.place(start + valid as u64), "UTF-8");
            Some((valid, Error::NotText { file, line: line_at(valid), byte, value, encoding }))
        })
    }

    /// The first misplaced quote in the valid part of a text. The text itself may be longer, and
    /// then an open quote may be closed after that part.
    fn check_quotes(
        &self,
        bytes: &[u8],
        whole: usize,
        line_at: impl Fn(usize) -> u64,
    ) -> Option<(usize, Error)> {
        let (mut opened, mut closed) = (None, None);
        for at in memchr_iter(b'"', bytes) {
            let stray = match opened {
                Some(_) => {
                    let ends_cell =
                        |&next: &u8| next == self.separator || matches!(next, b'\n' | b'\r' | b'"');
                    !bytes.get(at + 1).is_none_or(ends_cell)
                }
                None => {
                    let begins_cell =
                        |before: usize| bytes[before] == self.separator || bytes[before] == b'\n';
                    !at.checked_sub(1)
                        .is_none_or(|before| begins_cell(before) || closed == Some(before))
                }
            };
            if stray {
                let begins = memrchr(b'\n', &bytes[..at]).map_or(0, |at| at + 1);
                let opened = opened.map(&line_at).filter(|&opened| opened != line_at(at));
                let (file, text) = (self.file.to_owned(), excerpt(&bytes[begins..]));
                return Some((at, Error::StrayQuote { file, line: line_at(at), text, opened }));
            }
            (opened, closed) = if opened.is_some() { (None, Some(at)) } else { (Some(at), None) };
        }
        let at = opened.filter(|_| bytes.len() == whole)?;
        Some((
            at,
            Error::OpenQuote {
                file: self.file.to_owned(),
                line: line_at(at),
                text: excerpt(&bytes[at..]),
            },
        ))
    }
}

/// The first characters of a line, for messages.
fn excerpt(text: &[u8]) -> String {
    const MOST: usize = 60;
    let line = text.split(|&byte| byte == b'\n').next().unwrap_or_default().trim_ascii_end();
    let line = String::from_utf8_lossy(line);
    let short: String = line.chars().take(MOST).collect();
    if short.len() < line.len() { format!("`{short}…`") } else { format!("`{short}`") }
}

/// The rows of a region, and those that are not on the line after the row before them.
pub(crate) struct Lines {
    pub(crate) rows: u32,
    pub(crate) jumps: Vec<(u32, u64)>,
}
