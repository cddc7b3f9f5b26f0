//! Reads a file as a table, as a [`Reading`] says.
//!
//! The types of the columns are guessed from the first region, and the whole file is read with
//! these types. If a cell does not fit, its column is surveyed from end to end and read again with
//! the right type. This is rare, and no row is lost.

use super::{
    bytes::FileBytes,
    given_formats::Given,
    header::{Header, whole_records},
    infer::{CellType, Conventions, Facts, notations},
    layout::{BLOCK, Counts, Region, Share, regions, regions_of},
    pass::Pass,
    reading::Reading,
};
use crate::databases::{
    HowMany, Rows,
    name::{Name, Place},
};
use crate::formats::{
    Choose, Source,
    batches::{Columnar, Input},
    detect::{FIRST, Special, special, unread},
    json_lines,
    packed::{self, unpacked},
    packing::{Packing, most_unpacked},
    sheet::{self, Book, file_and_sheet, file_of},
    transcript::Transcript,
};
use crate::{
    ColumnShape, CoreError, Shape, Stack, Table, Type,
    error::{Error, Result},
    exchange::{Exchange, PlaceInList},
    guard::guarded,
    larger::Memory,
};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions, cast::AsArray};
use arrow_schema::{DataType, Field, Schema};
use encoding_rs::Encoding;
use jembric_core::{
    Origin,
    calendar::{Grain, Zone, notation},
};
use std::{
    cell::RefCell,
    collections::HashMap,
    fs::File,
    io::{Read, Seek},
    path::Path,
    sync::Arc,
};

/// The rows for guessing types.
pub(super) const ROWS_TO_GUESS_FROM: usize = 8_192;

/// The type of a column that is declared to hold numbers, unless its cells have a narrower one.
const ANY_NUMBER: CellType = CellType::Float;

/// The beginning of a file, or all of it if it cannot be inspected otherwise.
enum Beginning {
    /// Names and types.
    Known(Shape),
    /// Converted rows, and the name of their file for messages.
    Rows(String, Transcript),
    /// Text with a header.
    Text(FileBytes),
}

/// All batches of a source as one table.
pub(crate) fn whole(source: &dyn Source, choose: &Choose<'_>, most_bytes: u64) -> Result<Table> {
    let mut batches: Vec<Table> = Vec::new();
    source.batches(choose, most_bytes, &mut |batch| {
        batches.push(batch);
        Ok(())
    })?;
    if let [_] = &batches[..] {
        return Ok(batches.remove(0));
    }
    let not_numbers = batches.iter().map(Table::not_numbers).sum();
    let named: Vec<(&str, &Table)> = batches.iter().map(|batch| ("", batch)).collect();
    Ok(Stack::new().apply(&named)?.table.with_not_numbers(not_numbers))
}

/// The error for a sheet of a file that has no sheets.
fn no_sheets(file: &Path) -> Error {
    let (value, expected) =
        (format!("{} is not a workbook", file.display()), "a file without the name of a sheet");
    Error::Setting { setting: "sheet", value, expected: expected.to_owned() }
}

impl Reading {
    /// Reads a file: CSV, JSON Lines, Parquet, Arrow, or a workbook (XLSX or ODS), optionally
    /// compressed with gzip or zstd. The format is detected from the first bytes. A sheet of a
    /// workbook follows its name: `book.xlsx:Stays`.
    ///
    /// In JSON Lines, each key is a column; a line without it, or with `null`, has a missing value.
    /// Texts in JSON and in sheets may be dates, but are never numbers, unless the format `number`
    /// is given. In a sheet, the first row with values has the names.
    ///
    /// A table or view of a database follows its name as well: `harbour.sqlite:stays`,
    /// `postgresql://localhost/harbour:stays`. For a [`query`](Reading::query), name the database
    /// alone.
    pub fn file(&self, path: impl AsRef<Path>) -> Result<Table> {
        let name = path.as_ref().display().to_string();
        if let Some(database) = Name::of_input(&name) {
            let memory = Memory::unlimited();
            return self.rows_of_database(&database, &memory)?.whole(&memory);
        }
        self.refuse_for_databases(&name)?;
        let (path, sheet) = file_and_sheet(path.as_ref());
        match special(&path)? {
            Some((file, Special::Columnar(format))) if sheet.is_none() => {
                self.typed(format, &name, Input::File(Arc::new(file)))
            }
            Some((mut file, _)) => {
                let mut bytes = Vec::new();
                file.read_to_end(&mut bytes).map_err(unread(&name))?;
                self.bytes(&name, bytes, sheet.as_deref())
            }
            None if sheet.is_some() && path.exists() => Err(no_sheets(&path)),
            None => self.table(&FileBytes::file(&path, self.known_encoding()?)?),
        }
    }

    /// Reads a stream to its end, in memory; `name` is its name for messages.
    pub fn stream(&self, name: impl Into<String>, mut stream: impl Read) -> Result<Table> {
        let name = name.into();
        self.refuse_for_databases(&name)?;
        let mut first = Vec::new();
        stream.by_ref().take(FIRST).read_to_end(&mut first).map_err(unread(&name))?;
        if Special::of(&first).is_none() {
            return self.table(&FileBytes::stream(
                name,
                first.chain(stream),
                self.known_encoding()?,
            )?);
        }
        stream.read_to_end(&mut first).map_err(unread(&name))?;
        self.bytes(&name, first, None)
    }

    /// Reads bytes that may be compressed, have typed columns, or have another format than CSV.
    pub(super) fn bytes(&self, name: &str, bytes: Vec<u8>, sheet: Option<&str>) -> Result<Table> {
        let bytes = self.unpacked(name, bytes)?;
        match Special::of(&bytes) {
            Some(Special::Workbook | Special::JsonLines) => {
                self.written_down(self.transcribed(name, bytes, sheet)?)
            }
            _ if sheet.is_some() => Err(no_sheets(&file_of(name))),
            Some(Special::Columnar(format)) => self.typed(format, name, Input::Bytes(bytes.into())),
            _ => {
                self.table(&FileBytes::stream(name.to_owned(), &bytes[..], self.known_encoding()?)?)
            }
        }
    }

    /// Reads a file with typed columns.
    pub(super) fn typed(&self, format: Columnar, name: &str, input: Input) -> Result<Table> {
        let refused = RefCell::new(Ok(()));
        let most = most_unpacked(input.len(), self.most_unpacked);
        let choose = |names: &mut dyn Iterator<Item = &str>| {
            let names: Vec<&str> = names.collect();
            let refuse = self.refuse_columns(name, names.len());
            *refused.borrow_mut() = refuse.and_then(|()| self.refuse_formats(name, &names));
            match &*refused.borrow() {
                Ok(()) => self.read_of(names.into_iter()),
                Err(_) => Vec::new(),
            }
        };
        let table = whole(&format.source(name, input), &choose, most);
        refused.into_inner().and(table)
    }

    /// The places of the columns to read from a file with typed columns.
    ///
    /// Errors: the file has too many columns, or a format is given for one.
    pub(super) fn chosen_places(
        &self,
        format: Columnar,
        name: &str,
        input: Input,
    ) -> Result<Vec<usize>> {
        let shape = format.source(name, input).shape()?;
        let names: Vec<&str> = shape.columns().iter().map(|column| column.name.as_str()).collect();
        self.refuse_columns(name, names.len())?;
        self.refuse_formats(name, &names)?;
        Ok(self.read_of(names.into_iter()))
    }

    /// Converts the rows of a workbook or of JSON Lines to CSV.
    fn transcribed(&self, name: &str, bytes: Vec<u8>, sheet: Option<&str>) -> Result<Transcript> {
        if !sheet::is_likely(&bytes) {
            return match sheet {
                Some(_) => Err(no_sheets(&file_of(name))),
                None => {
                    let source = FileBytes::memory(name.to_owned(), bytes);
                    self.of_objects(&source, &Memory::unlimited())
                }
            };
        }
        let file = file_of(name).display().to_string();
        let most_unpacked = most_unpacked(bytes.len() as u64, self.most_unpacked);
        let (bytes, rules) = (&bytes[..], self.row_rules());
        let book = Book { file: &file, bytes, sheet, rules, most_unpacked };
        guarded(|| book.transcribed()).unwrap_or_else(|problem| Err(book.unreadable(problem)))
    }

    /// Converts JSON Lines to CSV.
    pub(super) fn of_objects(&self, source: &FileBytes, memory: &Memory) -> Result<Transcript> {
        let most = most_unpacked(source.len(), self.most_unpacked);
        json_lines::transcribed(source, self.row_rules(), most, memory)
    }

    fn written_down(&self, transcript: Transcript) -> Result<Table> {
        let origin = Origin::new(&transcript.csv.name, 1);
        self.written_from(transcript, origin)
    }

    pub(super) fn written_from(&self, transcript: Transcript, origin: Origin) -> Result<Table> {
        let (reading, source, header, texts, origin) = self.for_written(transcript, origin);
        reading.rows(&source, &header, &texts, Some(origin))
    }

    /// How converted rows are read: the settings, the text, its columns, those that are never
    /// numbers, and the lines of the rows.
    pub(super) fn for_written(
        &self,
        transcript: Transcript,
        mut origin: Origin,
    ) -> (Reading, FileBytes, Header, Vec<bool>, Origin) {
        let Transcript { names, texts, mut csv, jumps } = transcript;
        origin.file().clone_into(&mut csv.name);
        jumps.into_iter().for_each(|(row, line)| origin.jump(row, line));
        let header = Header { names, separator: b',', end: 0, lines: 0 };
        let reading = Reading { no_quotes: false, decimal_comma: false, ..self.clone() };
        (reading, csv, header, texts, origin)
    }

    fn unpacked(&self, name: &str, bytes: Vec<u8>) -> Result<Vec<u8>> {
        match Packing::of(&bytes) {
            None => Ok(bytes),
            Some(packing) => {
                let most = most_unpacked(bytes.len() as u64, self.most_unpacked);
                unpacked(packing, name, &bytes, most)
            }
        }
    }

    /// Errors: a format is given for a column that has a type already.
    pub(crate) fn refuse_formats(&self, name: &str, names: &[&str]) -> Result<()> {
        match self.formats.iter().find(|(column, _)| names.contains(&column.as_str())) {
            _ if self.for_untyped => Ok(()),
            None => Ok(()),
            Some((column, format)) => Err(Error::Setting {
                setting: "read",
                value: format!("`{column}={format}`, but the columns of {name} already have types"),
                expected: "no format for this file".to_owned(),
            }),
        }
    }

    /// The shape from a file's header, without reading the rest if possible. Parquet and Arrow also
    /// give the types.
    pub fn shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        match self.beginning(path.as_ref(), 0)? {
            Beginning::Known(shape) => Ok(shape),
            Beginning::Rows(name, transcript) => {
                Ok(Shape::of_names(transcript.names).from_file(name))
            }
            Beginning::Text(source) => {
                Ok(Shape::of_names(Header::read(self, &source)?.names).from_file(source.name))
            }
        }
    }

    /// The same, with types that are guessed from the first rows (the first megabyte of CSV, or
    /// more if a table has many columns). Later rows may change them. A column of dates that does
    /// not show the order of day and month has no type yet.
    ///
    /// Errors: also errors in these rows.
    pub fn guessed_shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        let (name, table) = match self.beginning(path.as_ref(), ROWS_TO_GUESS_FROM)? {
            Beginning::Known(shape) => return Ok(shape),
            Beginning::Rows(name, transcript) => (name, self.written_down(transcript)?),
            Beginning::Text(source) => {
                let header = Header::read(self, &source)?;
                let mut buffer = Vec::new();
                let first = source.bytes(
                    0,
                    source.len().min(header.end + self.block(&header)),
                    &mut buffer,
                )?;
                let is_whole = first.len() as u64 == source.len();
                let end = if is_whole { first.len() } else { whole_records(self, &header, first) };
                let first = FileBytes::memory(source.name.clone(), first[..end].to_vec());
                (source.name.clone(), self.rows(&first, &header, &[], None)?)
            }
        };
        let zone = Zone::default();
        // Dates are open only if every cell may be one, so most columns are decided by their first
        // cell. A whole error is costly, because it looks for a format that reads all cells.
        let begins_with_a_date = |name: &str| {
            let cells = table.column(name).ok().and_then(|cells| cells.as_string_view_opt());
            let first = cells.and_then(|cells| cells.iter().flatten().next());
            first.is_some_and(|first| notation::read(first.as_bytes()).is_ok())
        };
        let is_open = |name: &str| {
            begins_with_a_date(name)
                && matches!(table.newest(name, &zone), Err(CoreError::AmbiguousDates(_)))
        };
        let known = table.shape();
        let columns = known.columns().iter().cloned().map(|column| {
            let kind = column.kind.filter(|kind| *kind != Type::Text || !is_open(&column.name));
            ColumnShape { kind, ..column }
        });
        Ok(Shape::of_columns(columns).from_file(name))
    }

    /// The beginning of a file, with this many rows if it is a database whose columns have no
    /// types.
    fn beginning(&self, path: &Path, rows: usize) -> Result<Beginning> {
        let name = path.display().to_string();
        if let Some(database) = Name::of_input(&name) {
            let query = self.query_text()?;
            let shape = self.databases.shape(&database, query.as_deref())?;
            if matches!(database.place, Place::Uri(_)) || rows == 0 {
                return Ok(Beginning::Known(shape));
            }
            let first = HowMany::First(rows);
            let (shown, answer) =
                self.databases.answer(&database, query.as_deref(), self, first)?;
            return Ok(match answer.rows {
                Rows::Typed(data) => Beginning::Known(data.sample().shape().from_file(shown)),
                Rows::Pieces(pieces) => {
                    let table = pieces.table(&shown, Origin::of_rows(&shown))?;
                    Beginning::Known(table.shape().from_file(shown))
                }
                Rows::Written(transcript) => Beginning::Rows(shown, transcript),
            });
        }
        self.refuse_for_databases(&name)?;
        let (path, sheet) = file_and_sheet(path);
        let whole = |mut file: File| {
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes).map_err(unread(&name))?;
            let transcript =
                self.transcribed(&name, self.unpacked(&name, bytes)?, sheet.as_deref())?;
            Ok(Beginning::Rows(name.clone(), transcript))
        };
        match special(&path)? {
            Some((file, Special::Workbook | Special::JsonLines)) => whole(file),
            _ if sheet.is_some() && path.exists() => Err(no_sheets(&path)),
            None => Ok(Beginning::Text(FileBytes::file(&path, self.known_encoding()?)?)),
            Some((file, Special::Columnar(format))) => {
                let shape = format.source(&name, Input::File(Arc::new(file))).shape()?;
                self.refuse_columns(&name, shape.columns().len())?;
                Ok(Beginning::Known(shape))
            }
            Some((mut file, Special::Packed(packing))) => {
                let beginning = packed::beginning(packing, &mut file).map_err(unread(&name))?;
                file.rewind().map_err(unread(&name))?;
                match Special::of(&beginning) {
                    Some(Special::Workbook | Special::JsonLines) => whole(file),
                    Some(Special::Columnar(_)) => {
                        Ok(Beginning::Known(self.file(&path)?.head(0).shape()))
                    }
                    _ => Ok(Beginning::Text(FileBytes::stream(
                        name,
                        &beginning[..],
                        self.known_encoding()?,
                    )?)),
                }
            }
        }
    }

    pub(super) fn known_encoding(&self) -> Result<Option<&'static Encoding>> {
        let known = |name: &String| {
            Encoding::for_label(name.as_bytes()).ok_or_else(|| Error::Setting {
                setting: "encoding",
                value: format!("`{name}` is not the name of an encoding"),
                expected: "a name such as utf-8, windows-1252, iso-8859-15 or utf-16le".to_owned(),
            })
        };
        self.encoding.as_ref().map(known).transpose()
    }

    fn table(&self, source: &FileBytes) -> Result<Table> {
        self.rows(source, &Header::read(self, source)?, &[], None)
    }

    /// The rows below a header. Columns listed in `texts` are never inferred as numbers. `origin`
    /// gives the lines of converted rows.
    fn rows(
        &self,
        source: &FileBytes,
        header: &Header,
        texts: &[bool],
        written_from: Option<Origin>,
    ) -> Result<Table> {
        let regions = self.regions(source, header)?;
        self.rows_of(source, header, &regions, texts, written_from)
    }

    /// The regions of the rows below a header.
    pub(super) fn regions(&self, source: &FileBytes, header: &Header) -> Result<Vec<Region>> {
        let start = (header.end, header.lines + 1);
        regions(source, start, !self.no_quotes, self.block(header))
    }

    /// The regions of the rows that begin in the share of this process.
    pub(super) fn regions_of_share(
        &self,
        source: &FileBytes,
        header: &Header,
        place: PlaceInList,
        exchange: &dyn Exchange,
    ) -> Result<Vec<Region>> {
        let before = |own: Counts| {
            let all = exchange.of_all(&own)?.into_iter().take(exchange.process());
            Ok(all.fold((0, 0), |all, more| (all.0 + more.0, all.1 + more.1)))
        };
        let (process, processes) = (exchange.process(), exchange.processes());
        let portion = place.portion(source.len(), process, processes);
        let share = Share { portion, before: &before };
        let start = (header.end, header.lines + 1);
        // A short file is shared out as well.
        let bytes = source.len().saturating_sub(header.end).div_ceil(processes as u64).max(1);
        let block = self.block(header).min(bytes);
        regions_of(&share, source, start, !self.no_quotes, block)
    }

    /// The bytes that are read at a time: more for a table with many columns, so that a block has
    /// several rows.
    pub(super) fn block(&self, header: &Header) -> u64 {
        const OF_COLUMN: u64 = 128;
        self.block.unwrap_or_else(|| BLOCK.max(header.names.len() as u64 * OF_COLUMN))
    }

    /// The columns to read, the types that the first rows suggest for all columns, and how types
    /// are decided.
    pub(super) fn guessed<'a>(
        &self,
        pass: &Pass<'_>,
        texts: &'a [bool],
        exchange: Option<&dyn Exchange>,
    ) -> Result<(Vec<usize>, Vec<CellType>, Typing<'a>)> {
        let header = pass.header;
        let columns = self.read_of(header.names.iter().map(String::as_str));
        let first = &pass.regions[..pass.regions.len().min(1)];
        let guessed = pass.survey(&columns, first, ROWS_TO_GUESS_FROM)?;
        let guessed = match exchange {
            Some(exchange) => {
                let has_rows = exchange.of_all(&!first.is_empty())?;
                let of_first_rows = has_rows.into_iter().position(|has_rows| has_rows);
                exchange.of_one(of_first_rows.unwrap_or(0), Some(&guessed))?
            }
            None => guessed,
        };
        let typing = Typing { given: self.given_kinds(pass.source, &header.names)?, texts };
        // The type of a column that is not read does not matter.
        let mut kinds = vec![CellType::Text; header.names.len()];
        for (&column, facts) in columns.iter().zip(&guessed) {
            kinds[column] = match typing.given(column) {
                // All cells are surveyed, because none fits.
                None if facts.has_open_order(pass.conventions) => CellType::Nothing,
                _ => typing.decided(column, facts, pass.conventions),
            };
        }
        Ok((columns, kinds, typing))
    }

    /// The rows of all regions of a source.
    pub(super) fn rows_of(
        &self,
        source: &FileBytes,
        header: &Header,
        regions: &[Region],
        texts: &[bool],
        written_from: Option<Origin>,
    ) -> Result<Table> {
        let conventions = self.conventions();
        let pass = Pass { source, regions, header, conventions: &conventions, reading: self };
        let (mut columns, mut kinds, typing) = self.guessed(&pass, texts, None)?;
        let mut arrays: Vec<Option<ArrayRef>> = vec![None; kinds.len()];
        let mut notations_met = vec![0; kinds.len()];
        let mut origin = Origin::default();
        while !columns.is_empty() {
            let filled = pass.fill(&columns, &kinds)?;
            origin = written_from.clone().unwrap_or(filled.origin);
            let mut surprised = Vec::new();
            for (&column, done) in columns.iter().zip(filled.columns) {
                if done.misfits > 0 {
                    surprised.push(column);
                    if let Some(format) = insisted(&kinds[column], typing.given(column)) {
                        return Err(pass.misfitting(column, format, &done, &origin));
                    }
                }
                notations_met[column] = done.forms;
                arrays[column] = Some(done.array);
            }
            let facts = if surprised.is_empty() {
                Vec::new()
            } else {
                pass.survey(&surprised, regions, usize::MAX)?
            };
            for (&column, facts) in surprised.iter().zip(&facts) {
                let kind = typing.decided(column, facts, &conventions);
                // Anything that the survey of all cells did not foresee can only be text.
                kinds[column] = if kind == kinds[column] { CellType::Text } else { kind };
            }
            columns = surprised;
        }
        self.assembled(header, &kinds, &notations_met, arrays, origin)
    }

    pub(super) fn conventions(&self) -> Conventions {
        Conventions {
            decimal_comma: self.decimal_comma,
            order: self.order,
            year_first_only: self.year_first_only,
        }
    }

    /// The table of the columns that were read.
    pub(super) fn assembled(
        &self,
        header: &Header,
        kinds: &[CellType],
        notations_met: &[u16],
        arrays: Vec<Option<ArrayRef>>,
        mut origin: Origin,
    ) -> Result<Table> {
        for ((name, kind), forms) in header.names.iter().zip(kinds).zip(notations_met) {
            if let Some(notation) = notation_of(kind, *forms) {
                origin.notation(name, notation);
            }
        }
        let periods = header.names.iter().zip(kinds).filter_map(|(name, kind)| match kind {
            CellType::Periods(grain) | CellType::Given(Given::Periods(grain)) => {
                Some((name.clone(), *grain))
            }
            _ => None,
        });
        let periods: HashMap<String, Grain> = periods.collect();
        let named = header.names.iter().cloned().zip(arrays);
        let named = named.filter_map(|(name, array)| Some((name, array?)));
        let fields = named.map(|(name, array): (String, ArrayRef)| {
            let field = Field::new(&name, array.data_type().clone(), true);
            let grain = periods.get(&name).filter(|_| *array.data_type() == DataType::Date32);
            let about = grain.map(|grain| ("jembric.grain".to_owned(), grain.to_string()));
            (field.with_metadata(about.into_iter().collect::<HashMap<_, _>>()), array)
        });
        let (fields, arrays): (Vec<Field>, Vec<ArrayRef>) = fields.unzip();
        let rows =
            RecordBatchOptions::new().with_row_count(arrays.first().map(|array| array.len()));
        let batch = RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &rows);
        Ok(Table::from_batch(&batch.map_err(CoreError::from)?)?.with_origin(origin))
    }

    /// The types of the columns with a given format.
    pub(super) fn given_kinds(
        &self,
        source: &FileBytes,
        names: &[String],
    ) -> Result<Vec<Option<CellType>>> {
        let shape = Shape::of_names(names).from_file(&source.name);
        let mut kinds = vec![None; names.len()];
        for (column, format) in &self.formats {
            if let Err(error) = shape.find(column) {
                if self.one_of_several {
                    continue;
                }
                return Err(error.into());
            }
            let kind = match format.as_str() {
                "text" => CellType::Text,
                "number" => ANY_NUMBER,
                _ => CellType::Given(Given::of(column, format, self.century)?),
            };
            names
                .iter()
                .zip(&mut kinds)
                .filter(|(name, _)| *name == column)
                .for_each(|(_, given)| *given = Some(kind.clone()));
        }
        Ok(kinds)
    }
}

/// How the types of columns are decided.
pub(super) struct Typing<'a> {
    /// The given types.
    given: Vec<Option<CellType>>,
    /// The columns that are never inferred as numbers.
    texts: &'a [bool],
}

impl Typing<'_> {
    /// The given type of a column.
    pub(super) fn given(&self, column: usize) -> Option<&CellType> {
        self.given[column].as_ref()
    }

    /// The type of a column with cells like these.
    pub(super) fn decided(
        &self,
        column: usize,
        facts: &Facts,
        conventions: &Conventions,
    ) -> CellType {
        let found = facts.kind(conventions);
        match &self.given[column] {
            Some(kind) if *kind == ANY_NUMBER && found.is_number() => found,
            Some(kind) => kind.clone(),
            None if self.texts.get(column) == Some(&true)
                && (found.is_number() || found == CellType::Boolean) =>
            {
                CellType::Text
            }
            None => found,
        }
    }
}

/// The format that every cell of a column must match; other cells are errors.
pub(super) fn insisted(kind: &CellType, given: Option<&CellType>) -> Option<String> {
    match (kind, given) {
        (kind, Some(given)) if *kind == ANY_NUMBER && kind == given => Some("number".to_owned()),
        (CellType::Given(given), _) => Some(given.words()),
        (CellType::Text, _) => Some("texts of less than 4 GiB".to_owned()),
        _ => None,
    }
}

/// The notation of a column's dates, in which these forms occur.
fn notation_of(kind: &CellType, forms: u16) -> Option<String> {
    let (order, time) = match kind {
        CellType::Given(given) => return Some(given.words()),
        CellType::Date(order) => (*order, ""),
        CellType::Moment { order, instant: false } => (*order, " 14:05"),
        CellType::Moment { order, instant: true } => (*order, " 14:05+02:00"),
        _ => return None,
    };
    Some(notations(forms, order, time))
}

#[cfg(test)]
mod tests;
