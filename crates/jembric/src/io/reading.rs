//! [`Reading`]: how CSV text becomes a table.
//!
//! The types of the columns are guessed from the first region and the whole file is read as guessed. Where a cell does not
//! fit, its column is surveyed from end to end and read again as what it then is: rare, and never a row lost.

use super::{
    columns::{Column, ColumnCells, Filled, Filling},
    layout::{BLOCK, Region, regions},
    marks::Marks,
    source::Source,
    survey::{Conventions, Facts, Formatted, Kind, notations},
};
use crate::{
    Shape, Table,
    error::{Error, Result},
};
use arrow_array::ArrayRef;
use csv_core::{ReadRecordResult, ReaderBuilder, Terminator};
use encoding_rs::Encoding;
use jembric_core::{Origin, calendar::notation::Order};
use memchr::{memchr_iter, memrchr};
use rayon::prelude::*;
use std::{
    io::Read,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

/// Rows by which the types are guessed.
const ROWS_TO_GUESS_FROM: usize = 8_192;

/// Told how many bytes of how many have been read, from any thread.
type Progress = Arc<dyn Fn(u64, u64) + Send + Sync>;

/// How to read CSV text: what is not said is found from the file itself.
///
/// Text is UTF-8 unless a byte-order mark or [`encoding`](Reading::encoding) says otherwise; quotes are those of RFC 4180;
/// lines end in LF or CRLF; an empty or blank cell has no value; an empty line is passed over. A column's type is decided
/// from all of its cells:
///
/// * whole numbers without a leading zero that fit 64 bits; decimals with at most 18 digits and 6 places, exactly; other
///   numbers in floating point; `true` and `false`
/// * dates in the [known notations](jembric_core::calendar::notation::Form), where the order of day and month is clear from
///   the column or was given; with a time of day behind them, moments
/// * text, where no other type fits every cell
///
/// Errors name file, line and what was expected. Costs one pass over the text on all threads, and memory for the columns.
#[derive(Clone, Default)]
pub struct Reading {
    separator: Option<u8>,
    encoding: Option<String>,
    decimal_comma: bool,
    no_header: bool,
    no_quotes: bool,
    missing: Vec<String>,
    order: Option<Order>,
    year_first_only: bool,
    formats: Vec<(String, String)>,
    century: Option<i16>,
    progress: Option<Progress>,
    /// Bytes read at a time, where tests have it otherwise.
    block: Option<u64>,
}

impl Reading {
    /// All settings found from the file.
    pub fn new() -> Reading {
        Reading::default()
    }

    /// The character between cells, instead of what the first lines suggest.
    pub fn separator(mut self, separator: u8) -> Reading {
        self.separator = Some(separator);
        self
    }

    /// The encoding by its name: `windows-1252`, `utf-16le` and the others of the WHATWG encoding standard.
    pub fn encoding(mut self, name: impl Into<String>) -> Reading {
        self.encoding = Some(name.into());
        self
    }

    /// Numbers are written `3,5`.
    pub fn decimal_comma(mut self, comma: bool) -> Reading {
        self.decimal_comma = comma;
        self
    }

    /// The first line is a row; columns are called `c1`, `c2` ….
    pub fn no_header(mut self, without: bool) -> Reading {
        self.no_header = without;
        self
    }

    /// Quotes are ordinary characters.
    pub fn no_quotes(mut self, without: bool) -> Reading {
        self.no_quotes = without;
        self
    }

    /// Texts that mean "no value", beside the blank.
    pub fn missing<N: Into<String>>(mut self, marks: impl IntoIterator<Item = N>) -> Reading {
        self.missing = marks.into_iter().map(Into::into).collect();
        self
    }

    /// Which of day and month comes first between slashes.
    pub fn date_order(mut self, order: Order) -> Reading {
        self.order = Some(order);
        self
    }

    /// Only dates that begin with the year are dates.
    pub fn year_first_only(mut self, only: bool) -> Reading {
        self.year_first_only = only;
        self
    }

    /// Reads a column in a format of strptime directives (`%d.%m.%y %H:%M`), or as `text`.
    pub fn read(mut self, column: impl Into<String>, format: impl Into<String>) -> Reading {
        self.formats.push((column.into(), format.into()));
        self
    }

    /// The first of the hundred years that two-digit years (`%y`) stand for.
    pub fn century(mut self, first_year: i16) -> Reading {
        self.century = Some(first_year);
        self
    }

    /// Is told, from any thread, how many bytes of how many have been read.
    pub fn progress(mut self, told: impl Fn(u64, u64) + Send + Sync + 'static) -> Reading {
        self.progress = Some(Arc::new(told));
        self
    }

    /// Reads a file.
    pub fn file(&self, path: impl AsRef<Path>) -> Result<Table> {
        self.table(&Source::file(path.as_ref(), self.known_encoding()?)?)
    }

    /// Reads a stream to its end; `name` is what messages call it. All of its text is held in memory meanwhile.
    pub fn stream(&self, name: impl Into<String>, stream: impl Read) -> Result<Table> {
        self.table(&Source::stream(name.into(), stream, self.known_encoding()?)?)
    }

    /// What a file's header tells, without reading the rest.
    pub fn shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        let source = Source::file(path.as_ref(), self.known_encoding()?)?;
        let header = Header::read(self, &source)?;
        Ok(Shape::of_names(header.names).from_file(source.name))
    }

    fn known_encoding(&self) -> Result<Option<&'static Encoding>> {
        let known = |name: &String| {
            Encoding::for_label(name.as_bytes()).ok_or_else(|| Error::Setting {
                setting: "encoding",
                value: format!("`{name}` is not the name of an encoding"),
                expected: "a name such as utf-8, windows-1252, iso-8859-15 or utf-16le".to_owned(),
            })
        };
        self.encoding.as_ref().map(known).transpose()
    }

    fn table(&self, source: &Source) -> Result<Table> {
        let header = Header::read(self, source)?;
        let conventions = Conventions {
            decimal_comma: self.decimal_comma,
            order: self.order,
            year_first_only: self.year_first_only,
        };
        let regions =
            regions(source, header.end, header.lines + 1, !self.no_quotes, self.block.unwrap_or(BLOCK))?;
        let pass =
            Pass { source, regions: &regions, header: &header, conventions: &conventions, reading: self };

        let mut columns: Vec<usize> = (0..header.names.len()).collect();
        let guessed = pass.survey(&columns, &regions[..regions.len().min(1)], ROWS_TO_GUESS_FROM)?;
        let given = self.given_kinds(source, &header.names)?;
        let mut kinds: Vec<Kind> = given
            .into_iter()
            .zip(&guessed)
            .map(|(given, facts)| given.unwrap_or_else(|| facts.kind(&conventions)))
            .collect();

        let mut arrays: Vec<Option<ArrayRef>> = vec![None; columns.len()];
        let mut notations_met = vec![0; columns.len()];
        let mut origin = Origin::default();
        while !columns.is_empty() {
            let filled = pass.fill(&columns, &kinds)?;
            origin = filled.origin;
            let mut surprised = Vec::new();
            for (&column, done) in columns.iter().zip(filled.columns) {
                if done.misfits > 0 {
                    surprised.push(column);
                    pass.insists(column, &kinds[column], &done, &origin)?;
                }
                notations_met[column] = done.forms;
                arrays[column] = Some(done.array);
            }
            let facts = if surprised.is_empty() {
                Vec::new()
            } else {
                pass.survey(&surprised, &regions, usize::MAX)?
            };
            for (&column, facts) in surprised.iter().zip(&facts) {
                let kind = facts.kind(&conventions);
                // What a survey of every cell has not foreseen can only be text.
                kinds[column] = if kind == kinds[column] { Kind::Text } else { kind };
            }
            columns = surprised;
        }
        for ((name, kind), forms) in header.names.iter().zip(&kinds).zip(notations_met) {
            let (order, time) = match kind {
                Kind::Date(order) => (*order, ""),
                Kind::Moment { order, instant: false } => (*order, " 14:05"),
                Kind::Moment { order, instant: true } => (*order, " 14:05+02:00"),
                _ => continue,
            };
            origin.notation(name, notations(forms, order, time));
        }
        let named = header.names.iter().cloned().zip(arrays.into_iter().flatten());
        Ok(Table::from_columns(named)?.with_origin(origin))
    }

    /// The kinds of the columns whose format was given.
    fn given_kinds(&self, source: &Source, names: &[String]) -> Result<Vec<Option<Kind>>> {
        let shape = Shape::of_names(names).from_file(&source.name);
        let mut kinds = vec![None; names.len()];
        for (column, format) in &self.formats {
            shape.find(column)?;
            let kind =
                if format == "text" { Kind::Text } else { Kind::Formatted(self.formatted(column, format)?) };
            names
                .iter()
                .zip(&mut kinds)
                .filter(|(name, _)| *name == column)
                .for_each(|(_, given)| *given = Some(kind.clone()));
        }
        Ok(kinds)
    }

    fn formatted(&self, column: &str, format: &str) -> Result<Formatted> {
        let wrong = |value: String, expected: &str| {
            Err(Error::Setting { setting: "read", value, expected: expected.to_owned() })
        };
        let any_moment = jiff::Timestamp::UNIX_EPOCH.to_zoned_datetime(jiff::tz::TimeZone::UTC);
        let known = jiff::fmt::strtime::format(format, &any_moment).is_ok();
        if !format.contains('%') || !known {
            let expected = "`text`, or strptime directives such as `%d.%m.%Y` or `%d/%m/%y %H:%M`";
            return wrong(format!("`{column}={format}`"), expected);
        }
        let directives: Vec<char> = format
            .split('%')
            .skip(1)
            .filter_map(|part| {
                part.trim_start_matches(['-', '_', '^', '#', ':', '.', '0', '1', '2', '3', '6', '9'])
                    .chars()
                    .next()
            })
            .collect();
        let any = |of: &str| directives.iter().any(|&directive| of.contains(directive));
        let two_digits = any("yD");
        if two_digits && self.century.is_none() {
            let expected =
                "the first of the hundred years that two digits stand for as well: `--century 1900`";
            return wrong(format!("`{column}={format}` has years of two digits"), expected);
        }
        Ok(Formatted {
            format: format.to_owned(),
            moment: any("HIklMSfNTRrXcspP"),
            instant: any("zs"),
            century: self.century.filter(|_| two_digits),
        })
    }
}

/// The first line: what the columns are called, and what separates them.
struct Header {
    names: Vec<String>,
    separator: u8,
    /// Where it ends, and how many lines that took.
    end: u64,
    lines: u64,
}

impl Header {
    fn read(reading: &Reading, source: &Source) -> Result<Header> {
        let (mut most, mut buffer) = (1 << 20, Vec::new());
        loop {
            let head = source.bytes(0, source.len().min(most), &mut buffer)?;
            let whole = head.len() as u64 == source.len();
            let blank = head.iter().take_while(|byte| byte.is_ascii_whitespace()).collect::<Vec<_>>();
            let lines_before = blank.iter().filter(|&&&byte| byte == b'\n').count() as u64;
            let start = head[..blank.len()].iter().rposition(|&byte| byte == b'\n').map_or(0, |at| at + 1);
            if blank.len() == head.len() && whole {
                return Err(Error::Empty { file: source.name.clone() });
            }
            let quoting = !reading.no_quotes;
            let separator = reading.separator.unwrap_or_else(|| likely_separator(&head[start..], quoting));
            let records = Records { file: &source.name, separator, quoting, columns: 0 };
            let mut reader = records.reader();
            let mut record = Record::default();
            let (complete, read) = record.read(&mut reader, &head[start..], whole);
            if !complete {
                most *= 4;
                continue;
            }
            let first = &head[start..start + read];
            records.check(source, start as u64, first, lines_before + 1)?;
            let cells =
                (0..record.cells).map(|cell| String::from_utf8_lossy(record.cell(cell)).trim().to_owned());
            if reading.no_header {
                let names = (1..=record.cells).map(|n| format!("c{n}")).collect();
                return Ok(Header { names, separator, end: start as u64, lines: lines_before });
            }
            let names: Vec<String> = cells
                .zip(1..)
                .map(|(name, n)| if name.is_empty() { format!("c{n}") } else { name })
                .collect();
            let twice = names.iter().enumerate().find(|(i, name)| names[..*i].contains(name));
            if let Some((_, name)) = twice {
                let (file, name) = (Some(source.name.clone()), name.clone());
                return Err(jembric_core::Error::TwoColumnsOfOneName { file, name }.into());
            }
            let lines = lines_before + memchr_iter(b'\n', first).count() as u64;
            return Ok(Header { names, separator, end: (start + read) as u64, lines });
        }
    }
}

/// The separator by which the first lines have equally many cells, and most of them; failing that, the one of which the
/// first line has most.
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
        let first = counts.first().copied().unwrap_or_else(|| head.split(|&byte| byte == separator).count());
        (first > 1 && counts.iter().all(|&count| count == first), first)
    };
    // Of equals the last is the greatest: the comma.
    [b'|', b'\t', b';', b','].into_iter().max_by_key(|&separator| score(separator)).unwrap_or(b',')
}

/// One record's cells, without their quotes.
#[derive(Default)]
struct Record {
    output: Vec<u8>,
    ends: Vec<usize>,
    cells: usize,
}

impl Record {
    /// Reads the next record: whether there was a whole one, and how many bytes it took.
    #[inline]
    fn read(&mut self, reader: &mut csv_core::Reader, input: &[u8], to_the_end: bool) -> (bool, usize) {
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
                // Nothing more tells the reader that the last record ends here.
                ReadRecordResult::InputEmpty if !to_the_end => return (false, taken),
                ReadRecordResult::InputEmpty => {}
                ReadRecordResult::OutputFull => self.output.resize((self.output.len() * 2).max(1 << 12), 0),
                ReadRecordResult::OutputEndsFull => self.ends.resize((self.ends.len() * 2).max(16), 0),
            }
        }
    }

    /// Of a line end CR LF, the LF alone has ended the record.
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

    fn cell(&self, cell: usize) -> &[u8] {
        let (start, end) = self.bounds(cell);
        &self.output[start..end]
    }
}

fn cleared<T>(mut vector: Vec<T>) -> Vec<T> {
    vector.clear();
    vector
}

/// The cells of some whole records, by their bounds in the text that they stand in, record after record.
#[derive(Clone, Copy)]
struct Cells<'a> {
    text: &'a [u8],
    bounds: &'a [(usize, usize)],
    columns: usize,
}

impl<'a> Cells<'a> {
    fn of_column(
        self,
        column: usize,
        missing: &'a [String],
    ) -> ColumnCells<'a, impl Iterator<Item = (usize, usize)>> {
        let bounds = self.bounds.iter().skip(column).step_by(self.columns).copied();
        ColumnCells { text: self.text, bounds, missing }
    }
}

/// How records are told apart in a file.
struct Records<'a> {
    file: &'a str,
    separator: u8,
    quoting: bool,
    columns: usize,
}

impl Records<'_> {
    fn reader(&self) -> csv_core::Reader {
        let mut builder = ReaderBuilder::new();
        builder.delimiter(self.separator).quoting(self.quoting).terminator(Terminator::Any(b'\n'));
        let mut reader = builder.build();
        // A new reader takes a byte-order mark away, which in the middle of a file is a character like any other.
        reader.read_record(b"-\n", &mut [0; 8], &mut [0; 8]);
        reader
    }

    /// Hands on the records of a region, some at a time; returns which rows do not stand on the line after the one before.
    ///
    /// Most records have no quotes, and their cells are what lies between the separators. The others go through the `csv`
    /// crate's parser, one at a time.
    fn each(
        &self,
        source: &Source,
        region: &Region,
        bytes: &[u8],
        mut on: impl FnMut(Cells<'_>),
    ) -> Result<Lines> {
        const TOGETHER: usize = 256;
        self.check(source, region.start, bytes, region.line)?;
        let quote = if self.quoting { b'"' } else { b'\n' };
        let (mut reader, mut record) = (self.reader(), Record::default());
        let mut lines = Lines { rows: 0, jumps: Vec::new() };
        let (mut line, mut expected) = (region.line, 0);
        let mut count = |line: u64, cells: usize, begins: usize| {
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
        // The cells of whole records, and behind them those of the record at hand.
        let mut bounds: Vec<(usize, usize)> = Vec::with_capacity(self.columns * TOGETHER);
        let (mut whole, mut begins, mut cell) = (0, 0, 0);
        let mut marks = Marks::new(bytes, [self.separator, b'\n', quote]);
        loop {
            let (mark, at) = match marks.next() {
                Some(at) => (bytes[at], at),
                None if begins == bytes.len() => break,
                None => (b'\n', bytes.len()),
            };
            if mark == self.separator {
                bounds.push((cell, at));
                cell = at + 1;
            } else if mark == b'\n' {
                let end = at - usize::from(at > cell && bytes[at - 1] == b'\r');
                // An empty line is no record.
                if bounds.len() > whole || end > begins {
                    bounds.push((cell, end));
                    count(line, bounds.len() - whole, begins)?;
                    whole = bounds.len();
                    if whole >= self.columns * TOGETHER {
                        on(Cells { text: bytes, bounds: &bounds, columns: self.columns });
                        (whole, bounds) = (0, cleared(bounds));
                    }
                }
                line += 1;
                begins = (at + 1).min(bytes.len());
                cell = begins;
            } else {
                on(Cells { text: bytes, bounds: &bounds[..whole], columns: self.columns });
                let (_, taken) = record.read(&mut reader, &bytes[begins..], true);
                bounds.clear();
                bounds.extend((0..record.cells).map(|cell| record.bounds(cell)));
                count(line, record.cells, begins)?;
                on(Cells { text: &record.output, bounds: &bounds, columns: self.columns });
                (whole, bounds) = (0, cleared(bounds));
                line += memchr_iter(b'\n', &bytes[begins..begins + taken]).count() as u64;
                begins += taken;
                cell = begins;
                marks.go_to(begins);
            }
        }
        on(Cells { text: bytes, bounds: &bounds, columns: self.columns });
        Ok(lines)
    }

    fn ragged(&self, line: u64, found: usize, text: &[u8]) -> Error {
        Error::Ragged { file: self.file.to_owned(), line, expected: self.columns, found, text: excerpt(text) }
    }

    /// That whole records are text, and that their quotes stand where RFC 4180 has them.
    fn check(&self, source: &Source, start: u64, bytes: &[u8], line: u64) -> Result<()> {
        let line_at = |at: usize| line + memchr_iter(b'\n', &bytes[..at]).count() as u64;
        if simdutf8::basic::from_utf8(bytes).is_err()
            && let Err(error) = std::str::from_utf8(bytes)
        {
            let bad = error.valid_up_to();
            let (file, value) = (self.file.to_owned(), bytes[bad]);
            return Err(Error::NotText {
                file,
                line: line_at(bad),
                byte: source.place(start + bad as u64),
                value,
                encoding: "UTF-8",
            });
        }
        if !self.quoting {
            return Ok(());
        }
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
                    !at.checked_sub(1).is_none_or(|before| begins_cell(before) || closed == Some(before))
                }
            };
            if stray {
                let begins = memrchr(b'\n', &bytes[..at]).map_or(0, |at| at + 1);
                let opened = opened.map(line_at).filter(|&opened| opened != line_at(at));
                let (file, text) = (self.file.to_owned(), excerpt(&bytes[begins..]));
                return Err(Error::StrayQuote { file, line: line_at(at), text, opened });
            }
            (opened, closed) = if opened.is_some() { (None, Some(at)) } else { (Some(at), None) };
        }
        match opened {
            Some(at) => Err(Error::OpenQuote {
                file: self.file.to_owned(),
                line: line_at(at),
                text: excerpt(&bytes[at..]),
            }),
            None => Ok(()),
        }
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

/// The rows of a region, and which of them do not stand on the line after the one before.
struct Lines {
    rows: u32,
    jumps: Vec<(u32, u64)>,
}

/// All that one pass over the file needs.
struct Pass<'a> {
    source: &'a Source,
    regions: &'a [Region],
    header: &'a Header,
    conventions: &'a Conventions,
    reading: &'a Reading,
}

/// Columns that were filled, and where their rows stand in the file.
struct PassFilled {
    columns: Vec<ColumnFilled>,
    origin: Origin,
}

struct ColumnFilled {
    array: ArrayRef,
    forms: u16,
    misfits: u64,
    /// The first three, each with its row.
    first_misfits: Vec<(usize, String)>,
}

impl Pass<'_> {
    fn records(&self) -> Records<'_> {
        Records {
            file: &self.source.name,
            separator: self.header.separator,
            quoting: !self.reading.no_quotes,
            columns: self.header.names.len(),
        }
    }

    /// What the cells of some columns could be, over the first rows of some regions.
    fn survey(&self, columns: &[usize], regions: &[Region], most_rows: usize) -> Result<Vec<Facts>> {
        let one = |buffer: &mut Vec<u8>, region: &Region| {
            let mut facts = vec![Facts::default(); columns.len()];
            let bytes = self.source.bytes(region.start, region.end, buffer)?;
            let mut rows = 0;
            self.records().each(self.source, region, bytes, |cells| {
                rows += cells.bounds.len() / cells.columns;
                for (facts, &column) in facts.iter_mut().zip(columns).filter(|_| rows <= most_rows) {
                    let cells = cells.of_column(column, &self.reading.missing);
                    for cell in
                        cells.bounds.filter_map(|(start, end)| value(&cells.text[start..end], cells.missing))
                    {
                        facts.add(cell, self.conventions);
                    }
                }
            })?;
            Ok(facts)
        };
        let surveys: Vec<Vec<Facts>> = regions.par_iter().map_init(Vec::new, one).collect::<Result<_>>()?;
        let none = vec![Facts::default(); columns.len()];
        Ok(surveys
            .into_iter()
            .fold(none, |all, more| all.into_iter().zip(&more).map(|(all, more)| all.plus(more)).collect()))
    }

    /// Reads some columns as what they are taken for. Of several errors, the one that comes first in the file counts.
    fn fill(&self, columns: &[usize], kinds: &[Kind]) -> Result<PassFilled> {
        let lengths: Vec<usize> = self.regions.iter().map(|region| region.most_records).collect();
        let most: usize = lengths.iter().sum();
        if most >= u32::MAX as usize {
            return Err(jembric_core::Error::TooManyRows { rows: most }.into());
        }
        let mut blank: Vec<Column> =
            columns.iter().map(|&column| Column::blank(&kinds[column], most)).collect();
        // By column, then by region; turned round to be handed out by region.
        let mut by_column: Vec<_> =
            blank.iter_mut().map(|column| column.stretches(&lengths).into_iter()).collect();
        let by_region: Vec<Vec<_>> =
            self.regions.iter().map(|_| by_column.iter_mut().filter_map(Iterator::next).collect()).collect();
        let read = AtomicU64::new(0);
        let filled: Vec<(Lines, Vec<Filled>)> = self
            .regions
            .par_iter()
            .zip(by_region)
            .enumerate()
            .map_init(Vec::new, |buffer, (number, (region, stretches))| {
                let mut fillings: Vec<Filling<'_>> = stretches
                    .into_iter()
                    .zip(columns)
                    .map(|(stretch, &column)| {
                        Filling::new(
                            &kinds[column],
                            self.conventions,
                            stretch,
                            number as u32,
                            region.most_records,
                        )
                    })
                    .collect();
                let bytes = self.source.bytes(region.start, region.end, buffer)?;
                let lines = self.records().each(self.source, region, bytes, |cells| {
                    for (filling, &column) in fillings.iter_mut().zip(columns) {
                        filling.extend(cells.of_column(column, &self.reading.missing));
                    }
                })?;
                if let Some(progress) = &self.reading.progress {
                    let region = region.end - region.start;
                    progress(read.fetch_add(region, Relaxed) + region, self.source.len());
                }
                Ok((lines, fillings.into_iter().map(Filling::finish).collect()))
            })
            .collect::<Result<_>>()?;

        let (lines, filled): (Vec<Lines>, Vec<Vec<Filled>>) = filled.into_iter().unzip();
        let mut filled: Vec<_> = filled.into_iter().map(Vec::into_iter).collect();
        let by_column: Vec<_> = blank
            .into_iter()
            .zip(columns)
            .map(|(blank, &column)| {
                (blank, column, filled.iter_mut().filter_map(Iterator::next).collect::<Vec<Filled>>())
            })
            .collect();
        // What was read as text is looked over once more as an array is made of it, so a thread for each column pays.
        let columns = by_column.into_par_iter().map(|(blank, column, filled)| {
            let starts = lines
                .iter()
                .scan(0, |next, lines| Some(std::mem::replace(next, *next + lines.rows as usize)));
            let misfits = starts.zip(&filled).flat_map(|(start, filled)| {
                filled.first_misfits.iter().map(move |(row, text)| (start + row, text.clone()))
            });
            ColumnFilled {
                first_misfits: misfits.take(3).collect(),
                misfits: filled.iter().map(|filled| filled.misfits).sum(),
                forms: filled.iter().fold(0, |forms, filled| forms | filled.forms),
                array: blank.finish(&kinds[column], &lengths, filled),
            }
        });
        Ok(PassFilled { columns: columns.collect(), origin: self.origin(&lines) })
    }

    fn origin(&self, lines: &[Lines]) -> Origin {
        let mut origin = Origin::new(&self.source.name, self.header.lines + 1);
        let mut before = 0;
        for lines in lines {
            for &(row, line) in &lines.jumps {
                if origin.line((before + row) as usize) != line {
                    origin.jump(before + row, line);
                }
            }
            before += lines.rows;
        }
        origin
    }

    /// An error where a column whose kind is no guess has cells that do not fit.
    fn insists(&self, column: usize, kind: &Kind, filled: &ColumnFilled, origin: &Origin) -> Result<()> {
        let format = match kind {
            Kind::Formatted(format) => format.format.clone(),
            Kind::Text => "texts of less than 4 GiB".to_owned(),
            _ => return Ok(()),
        };
        let missing = filled.array.logical_null_count() as u64 - filled.misfits;
        let cell = |(row, text): &(usize, String)| format!("line {} `{text}`", origin.line(*row));
        Err(Error::Format {
            file: self.source.name.clone(),
            column: self.header.names[column].clone(),
            format,
            values: filled.array.len() as u64 - missing,
            bad: filled.misfits,
            first: filled.first_misfits.iter().map(cell).collect(),
        })
    }
}

/// A cell without outer blanks, where it has a value.
#[inline]
pub(super) fn value<'a>(cell: &'a [u8], missing: &[String]) -> Option<&'a [u8]> {
    let (Some(first), Some(last)) = (cell.first(), cell.last()) else { return None };
    let cell = if *first > b' ' && *last > b' ' { cell } else { cell.trim_ascii() };
    let none = cell.is_empty() || (!missing.is_empty() && missing.iter().any(|mark| mark.as_bytes() == cell));
    (!none).then_some(cell)
}

#[cfg(test)]
mod tests;
