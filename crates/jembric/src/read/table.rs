//! Reads a file as a table, as a [`Reading`] says.
//!
//! The types of the columns are guessed from the first region, and the whole file is read with
//! these types. If a cell does not fit, its column is surveyed from end to end and read again with
//! the right type. This is rare, and no row is lost.

use super::{
    given_formats::Given,
    header::Header,
    infer::{CellType, Conventions, Facts, notations},
    layout::{BLOCK, Counts, Region, Share, regions, regions_of},
    pass::Pass,
    reading::{DateOrder, Reading},
};
use crate::{
    CoreError, Shape, Stack, Table,
    data::{
        exchange::{Exchange, PlaceInList},
        memory::Memory,
    },
    error::{Error, Result},
    formats::{
        Choose, Source,
        batches::{Columnar, Input},
        csv_rows::CsvRows,
        detect::{FIRST, Special},
        json_lines,
        packed::unpacked,
        packing::{Packing, most_unpacked},
        sheet::{self, Book, file_of},
    },
    guard::guarded,
    text::file_bytes::FileBytes,
};
use arrow_array::{ArrayRef, RecordBatch, RecordBatchOptions};
use arrow_schema::{DataType, Field, Schema};
use encoding_rs::Encoding;
use jembric_core::{
    Origin,
    calendar::{Grain, notation::Order},
};
use std::{cell::RefCell, collections::HashMap, io::Read, path::Path, sync::Arc};

/// The rows for guessing types.
pub(crate) const ROWS_TO_GUESS_FROM: usize = 8_192;

/// The type of a column that is declared to hold numbers, unless its cells have a narrower one.
const ANY_NUMBER: CellType = CellType::Float;

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
pub(crate) fn no_sheets(file: &Path) -> Error {
    let (value, expected) =
        (format!("{} is not a workbook", file.display()), "a file without the name of a sheet");
    Error::Setting { setting: "sheet", value, expected: expected.to_owned() }
}

impl Reading {
    /// Reads a stream to its end, in memory; `name` is its name for messages.
    pub fn stream(&self, name: impl Into<String>, mut stream: impl Read) -> Result<Table> {
        let name = name.into();
        self.refuse_for_databases(&name)?;
        let mut first = Vec::new();
        stream.by_ref().take(FIRST).read_to_end(&mut first).map_err(Error::read(&name))?;
        if Special::recognize(&first).is_none() {
            return self.table(&FileBytes::stream(
                name,
                first.chain(stream),
                self.known_encoding()?,
            )?);
        }
        stream.read_to_end(&mut first).map_err(Error::read(&name))?;
        self.bytes(&name, first, None)
    }

    /// Reads bytes that may be compressed, have typed columns, or have another format than CSV.
    pub(crate) fn bytes(&self, name: &str, bytes: Vec<u8>, sheet: Option<&str>) -> Result<Table> {
        let bytes = self.unpacked(name, bytes)?;
        match Special::recognize(&bytes) {
            Some(Special::Workbook | Special::JsonLines) => {
                self.written_down(self.to_csv_rows(name, bytes, sheet)?)
            }
            _ if sheet.is_some() => Err(no_sheets(&file_of(name))),
            Some(Special::Columnar(format)) => self.typed(format, name, Input::Bytes(bytes.into())),
            _ => {
                self.table(&FileBytes::stream(name.to_owned(), &bytes[..], self.known_encoding()?)?)
            }
        }
    }

    /// Reads a file with typed columns.
    pub(crate) fn typed(&self, format: Columnar, name: &str, input: Input) -> Result<Table> {
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
    pub(crate) fn chosen_places(
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
    pub(crate) fn to_csv_rows(
        &self,
        name: &str,
        bytes: Vec<u8>,
        sheet: Option<&str>,
    ) -> Result<CsvRows> {
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
        guarded(|| book.to_csv_rows()).unwrap_or_else(|problem| Err(book.unreadable(problem)))
    }

    /// Converts JSON Lines to CSV.
    pub(crate) fn of_objects(&self, source: &FileBytes, memory: &Memory) -> Result<CsvRows> {
        let most = most_unpacked(source.len(), self.most_unpacked);
        json_lines::to_csv_rows(source, self.row_rules(), most, memory)
    }

    pub(crate) fn written_down(&self, rows: CsvRows) -> Result<Table> {
        let origin = Origin::new(&rows.csv.name, 1);
        self.written_from(rows, origin)
    }

    pub(crate) fn written_from(&self, rows: CsvRows, origin: Origin) -> Result<Table> {
        let (reading, source, header, texts, origin) = self.for_written(rows, origin);
        reading.rows(&source, &header, &texts, Some(origin))
    }

    /// How converted rows are read: the settings, the text, its columns, those that are never
    /// numbers, and the lines of the rows.
    pub(crate) fn for_written(
        &self,
        rows: CsvRows,
        mut origin: Origin,
    ) -> (Reading, FileBytes, Header, Vec<bool>, Origin) {
        let CsvRows { names, texts, mut csv, jumps } = rows;
        origin.file().clone_into(&mut csv.name);
        jumps.into_iter().for_each(|(row, line)| origin.jump(row, line));
        let header = Header { names, separator: b',', end: 0, lines: 0 };
        let reading = Reading { no_quotes: false, decimal_comma: false, ..self.clone() };
        (reading, csv, header, texts, origin)
    }

    pub(crate) fn unpacked(&self, name: &str, bytes: Vec<u8>) -> Result<Vec<u8>> {
        match Packing::recognize(&bytes) {
            None => Ok(bytes),
            Some(packing) => {
                let most = most_unpacked(bytes.len() as u64, self.most_unpacked);
                unpacked(packing, name, &bytes, most)
            }
        }
    }

    /// Errors: a format is given for a column that has a type already.
    pub(crate) fn refuse_formats(&self, name: &str, names: &[&str]) -> Result<()> {
        match self.read.iter().find(|(column, _)| names.contains(&column.as_str())) {
            _ if self.for_untyped => Ok(()),
            None => Ok(()),
            Some((column, format)) => Err(Error::Setting {
                setting: "read",
                value: format!("`{column}={format}`, but the columns of {name} already have types"),
                expected: "no format for this file".to_owned(),
            }),
        }
    }

    pub(crate) fn known_encoding(&self) -> Result<Option<&'static Encoding>> {
        let known = |name: &String| {
            Encoding::for_label(name.as_bytes()).ok_or_else(|| Error::Setting {
                setting: "encoding",
                value: format!("`{name}` is not the name of an encoding"),
                expected: "a name such as utf-8, windows-1252, iso-8859-15 or utf-16le".to_owned(),
            })
        };
        self.encoding.as_ref().map(known).transpose()
    }

    pub(crate) fn table(&self, source: &FileBytes) -> Result<Table> {
        self.rows(source, &Header::read(self, source)?, &[], None)
    }

    /// The rows below a header. Columns listed in `texts` are never inferred as numbers. `origin`
    /// gives the lines of converted rows.
    pub(crate) fn rows(
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
    pub(crate) fn regions(&self, source: &FileBytes, header: &Header) -> Result<Vec<Region>> {
        let start = (header.end, header.lines + 1);
        regions(source, start, !self.no_quotes, self.block(header))
    }

    /// The regions of the rows that begin in the share of this process.
    pub(crate) fn regions_of_share(
        &self,
        source: &FileBytes,
        header: &Header,
        place: PlaceInList,
        exchange: &dyn Exchange,
    ) -> Result<Vec<Region>> {
        let before = |own: Counts| {
            let all = exchange.all_gather(&own)?.into_iter().take(exchange.process());
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
    pub(crate) fn block(&self, header: &Header) -> u64 {
        const OF_COLUMN: u64 = 128;
        self.block.unwrap_or_else(|| BLOCK.max(header.names.len() as u64 * OF_COLUMN))
    }

    /// The columns to read, the types that the first rows suggest for all columns, and how types
    /// are decided.
    pub(crate) fn guessed<'a>(
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
                let has_rows = exchange.all_gather(&!first.is_empty())?;
                let of_first_rows = has_rows.into_iter().position(|has_rows| has_rows);
                exchange.broadcast(of_first_rows.unwrap_or(0), Some(&guessed))?
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
    pub(crate) fn rows_of(
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

    pub(crate) fn conventions(&self) -> Conventions {
        Conventions {
            decimal_comma: self.decimal_comma,
            order: match self.date_order {
                Some(DateOrder::Dmy) => Some(Order::DayFirst),
                Some(DateOrder::Mdy) => Some(Order::MonthFirst),
                Some(DateOrder::Ymd) | None => None,
            },
            year_first_only: self.date_order == Some(DateOrder::Ymd),
        }
    }

    /// The table of the columns that were read.
    pub(crate) fn assembled(
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
            let grain =
                if *array.data_type() == DataType::Date32 { periods.get(&name) } else { None };
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
    pub(crate) fn given_kinds(
        &self,
        source: &FileBytes,
        names: &[String],
    ) -> Result<Vec<Option<CellType>>> {
        let shape = Shape::of_names(names).from_file(&source.name);
        let mut kinds = vec![None; names.len()];
        for (column, format) in &self.read {
            if let Err(error) = shape.find(column) {
                if self.one_of_several {
                    continue;
                }
                return Err(error.into());
            }
            let kind = match format.as_str() {
                "text" => CellType::Text,
                "number" => ANY_NUMBER,
                _ => CellType::Given(Given::parse(column, format, self.century)?),
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
pub(crate) struct Typing<'a> {
    /// The given types.
    given: Vec<Option<CellType>>,
    /// The columns that are never inferred as numbers.
    texts: &'a [bool],
}

impl Typing<'_> {
    /// The given type of a column.
    pub(crate) fn given(&self, column: usize) -> Option<&CellType> {
        self.given[column].as_ref()
    }

    /// The type of a column with cells like these.
    pub(crate) fn decided(
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
pub(crate) fn insisted(kind: &CellType, given: Option<&CellType>) -> Option<String> {
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
