//! Workbooks: reads a sheet of XLSX or ODS, and writes XLSX.

mod ods;

use super::{
    Target,
    csv_rows::{Cell, CsvRows, Joining, Rows, refuse_twice},
    packing::CELL,
    sheet::Book,
    text::CellText,
};
use crate::{
    Table, Type,
    calendar::{Day, Grain, MICROS_PER_DAY, Periods},
    data::memory::Memory,
    error::{Error, Result},
    guard::guarded,
};
use arrow_array::{ArrayRef, cast::AsArray, types::*};
use calamine::{Data, DataRef, ExcelDateTime, Ods, Reader, Sheet, SheetType, SheetVisible, Xlsx};
use rust_xlsxwriter::{Format, FormatAlign, Workbook, Worksheet, XlsxError};
use std::{
    borrow::Cow,
    io::{self, Cursor, Read},
    path::Path,
};

/// Receives each cell with a value: its row and column, from 0. Returns whether to continue.
type OnCell<'a> = dyn FnMut(u32, u32, Cell<'_>) -> Result<bool> + 'a;

impl Book<'_> {
    /// The error for a workbook that needs more memory than the limit.
    fn unpacks(&self) -> Error {
        let most = self.most_unpacked;
        Error::Unpacks { file: self.file.to_owned(), packed: self.bytes.len() as u64, most }
    }

    /// Errors: the archive unpacks to more than the limit.
    fn refuse_far_larger(&self) -> Result<()> {
        let most = self.most_unpacked;
        let mut archive = zip::ZipArchive::new(Cursor::new(self.bytes))
            .map_err(|error| self.unreadable(error))?;
        let mut left = most.saturating_add(1);
        for part in 0..archive.len() {
            let part = archive.by_index(part).map_err(|error| self.unreadable(error))?;
            left -= io::copy(&mut part.take(left), &mut io::sink())
                .map_err(|error| self.unreadable(error))?;
            if left == 0 {
                return Err(self.unpacks());
            }
        }
        Ok(())
    }

    /// The requested sheet, or the only visible one.
    fn sheet_of(&self, sheets: &[Sheet]) -> Result<String> {
        let sheets = sheets.iter().filter(|sheet| sheet.typ == SheetType::WorkSheet);
        let names = |visible: bool| {
            let sheets = sheets
                .clone()
                .filter(move |sheet| !visible || sheet.visible == SheetVisible::Visible);
            sheets.map(|sheet| sheet.name.as_str()).collect::<Vec<_>>()
        };
        let refused = |value: String, expected: String| {
            Err(Error::Setting { setting: "sheet", value, expected })
        };
        match (self.sheet, &names(true)[..]) {
            (Some(asked), _) if names(false).contains(&asked) => Ok(asked.to_owned()),
            (Some(asked), _) => {
                let nearest = jembric_core::nearest_name(asked, names(false).into_iter());
                let meant =
                    nearest.map(|name| format!(". Did you mean `{name}`?")).unwrap_or_default();
                refused(
                    format!("{} has no sheet `{asked}`{meant}", self.file),
                    format!("one of {}", names(false).join(", ")),
                )
            }
            (None, [only]) => Ok((*only).to_owned()),
            (None, several) => {
                let first = several.first().copied().unwrap_or("Sheet");
                let value = format!("{} has the sheets {}", self.file, several.join(", "));
                refused(
                    value,
                    format!("one of them behind the file, as in `{}:{first}`", self.file),
                )
            }
        }
    }

    /// Passes on the cells with a value, row after row.
    fn each(&self, on: &mut OnCell<'_>) -> Result<()> {
        let bytes = Cursor::new(self.bytes);
        let is_xlsx = zip::ZipArchive::new(bytes.clone())
            .is_ok_and(|archive| archive.index_for_name("xl/workbook.xml").is_some());
        if is_xlsx {
            let mut book = Xlsx::new(bytes).map_err(|error| self.unreadable(error))?;
            let sheet = self.sheet_of(book.sheets_metadata())?;
            let mut cells =
                book.worksheet_cells_reader(&sheet).map_err(|error| self.unreadable(error))?;
            while let Some(found) = cells.next_cell().map_err(|error| self.unreadable(error))? {
                let (row, column) = found.get_position();
                if !on(row, column, cell(found.get_value()))? {
                    break;
                }
            }
            return Ok(());
        }
        ods::check(bytes.clone(), self.most_unpacked).map_err(|problem| match problem {
            Some(problem) => self.unreadable(problem),
            None => self.unpacks(),
        })?;
        let mut book = Ods::new(bytes).map_err(|error| self.unreadable(error))?;
        let sheet = self.sheet_of(book.sheets_metadata())?;
        let cells = book.worksheet_range(&sheet).map_err(|error| self.unreadable(error))?;
        let (first_row, first_column) = cells.start().unwrap_or_default();
        for (row, column, value) in cells.used_cells() {
            let (row, column) = (first_row + row as u32, first_column + column as u32);
            if !on(row, column, cell(&data_ref(value)))? {
                break;
            }
        }
        Ok(())
    }

    /// The row with the names, the first column with a value, and the names of the columns from it
    /// on.
    fn header(&self) -> Result<(u32, u32, Vec<String>)> {
        let (mut first, mut most) = (u32::MAX, 0);
        let mut header: Option<(u32, Vec<(u32, String)>)> = None;
        let no_header = self.rules.no_header;
        self.each(&mut |row, column, found| {
            let name = match found {
                Cell::Missing => return Ok(true),
                Cell::Bare(text) | Cell::Text(text) => text.trim().to_owned(),
            };
            let (at, names) = header.get_or_insert_with(|| (row, Vec::new()));
            let is_of_it = no_header || *at == row;
            if is_of_it {
                (first, most) = (first.min(column), most.max(column));
                names.push((column, name));
            }
            Ok(is_of_it)
        })?;
        let Some((header_row, found)) = header.filter(|(_, names)| !names.is_empty()) else {
            return Err(Error::Empty { file: self.file.to_owned() });
        };
        self.rules.refuse_columns(self.file, (most - first) as usize + 1)?;
        let mut names: Vec<String> = (1..=most - first + 1).map(|n| format!("c{n}")).collect();
        if !no_header {
            for (column, name) in found.into_iter().filter(|(_, name)| !name.is_empty()) {
                names[(column - first) as usize] = name;
            }
        }
        refuse_twice(self.file, &names)?;
        Ok((header_row, first, names))
    }

    /// The columns and rows of a sheet. The first row with a value has the names, unless there is
    /// no header. Rows without any value are skipped.
    pub(crate) fn to_csv_rows(&self) -> Result<CsvRows> {
        self.refuse_far_larger()?;
        let (header_row, first, names) = self.header()?;
        let (no_header, missing) = (self.rules.no_header, self.rules.missing);
        let mut rows = Rows::new(names.len(), missing);
        let mut left = self.most_unpacked;
        let row_takes = CELL * names.len() as u64;
        let mut cells: Vec<Cell<'static>> = vec![Cell::Missing; names.len()];
        let mut at: Option<u32> = None;
        let written = |error: csv::Error| self.unreadable(error);
        self.each(&mut |row, column, found| {
            if found == Cell::Missing || (row <= header_row && !no_header) {
                return Ok(true);
            }
            let text = match &found {
                Cell::Bare(text) | Cell::Text(text) => text.len() as u64,
                Cell::Missing => 0,
            };
            // Many cells may share one text of the file.
            let taken = text + if at == Some(row) { 0 } else { row_takes };
            left = left.checked_sub(taken).ok_or_else(|| self.unpacks())?;
            if at != Some(row)
                && let Some(before) = at.replace(row)
            {
                if row < before {
                    let problem = format!("row {} comes after row {}", row + 1, before + 1);
                    return Err(self.unreadable(problem));
                }
                rows.row(u64::from(before) + 1, cells.iter()).map_err(written)?;
                cells.fill(Cell::Missing);
            }
            let cell = column.checked_sub(first).and_then(|place| cells.get_mut(place as usize));
            let owned = match found {
                Cell::Missing => Cell::Missing,
                Cell::Bare(text) => Cell::Bare(text.into_owned().into()),
                Cell::Text(text) => Cell::Text(text.into_owned().into()),
            };
            let Some(cell) = cell else {
                let problem = format!(
                    "a value in column {}, which has no name in row {}: the first row with values \
                        has the names of all columns",
                    column_letters(column),
                    header_row + 1
                );
                return Err(Error::Line {
                    file: self.file.to_owned(),
                    line: u64::from(row) + 1,
                    problem,
                });
            };
            *cell = owned;
            Ok(true)
        })?;
        if let Some(last) = at {
            rows.row(u64::from(last) + 1, cells.iter()).map_err(written)?;
        }
        let unlimited = Memory::unlimited();
        let mut joining = Joining::new(self.file, names, &unlimited);
        joining.add(rows)?;
        joining.finish()
    }
}

/// The letters of a sheet's column: A to Z, AA and so on.
fn column_letters(column: u32) -> String {
    let letter = char::from(b'A' + (column % 26) as u8);
    match column / 26 {
        0 => letter.to_string(),
        before => column_letters(before - 1) + &letter.to_string(),
    }
}

fn data_ref(value: &Data) -> DataRef<'_> {
    match value {
        Data::Int(value) => DataRef::Int(*value),
        Data::Float(value) => DataRef::Float(*value),
        Data::String(text) => DataRef::SharedString(text),
        Data::Bool(value) => DataRef::Bool(*value),
        Data::DateTime(value) => DataRef::DateTime(*value),
        Data::DateTimeIso(text) => DataRef::DateTimeIso(text.clone()),
        Data::DurationIso(text) => DataRef::DurationIso(text.clone()),
        Data::Error(error) => DataRef::Error(error.clone()),
        Data::Empty => DataRef::Empty,
    }
}

fn cell<'a>(value: &'a DataRef<'_>) -> Cell<'a> {
    let bare = |text: String| Cell::Bare(text.into());
    match value {
        DataRef::Empty => Cell::Missing,
        DataRef::Int(value) => bare(value.to_string()),
        // The last digits of large numbers are not reliable.
        DataRef::Float(value) if value.abs() >= 1e15 => bare(format!("{value:?}")),
        DataRef::Float(value) => bare(value.to_string()),
        DataRef::Bool(value) => bare(value.to_string()),
        DataRef::String(text) => Cell::Text(Cow::Borrowed(text)),
        DataRef::SharedString(text) => Cell::Text(Cow::Borrowed(text)),
        DataRef::DateTime(value) if !value.as_f64().is_finite() => {
            Cell::Text(value.as_f64().to_string().into())
        }
        DataRef::DateTime(value) => bare(moment(value)),
        // A day among moments is the midnight at which it begins.
        DataRef::DateTimeIso(text) if !text.contains('T') => bare(format!("{text}T00:00")),
        DataRef::DateTimeIso(text) => Cell::Bare(Cow::Borrowed(text)),
        DataRef::DurationIso(text) => match text.parse::<jiff::SignedDuration>() {
            Ok(length) => Cell::Text(clock(length.as_millis() as i64).into()),
            Err(_) => Cell::Text(Cow::Borrowed(text)),
        },
        DataRef::Error(error) => Cell::Text(error.to_string().into()),
    }
}

/// Formats a day with its time for CSV; a time of day or a duration as hours, minutes and seconds.
fn moment(value: &ExcelDateTime) -> String {
    let days = value.as_f64();
    if days.is_finite() && value.is_duration() || (0.0..1.0).contains(&days) {
        return clock((days * 86_400_000.0).round() as i64);
    }
    let (year, month, day, hour, minute, second, milli) = value.to_ymd_hms_milli();
    // Beyond the calendar, the library returns its last day. That is a real date only for these
    // numbers (counted from 1900, and from 1904).
    let is_last = (year, month, day) == (9999, 12, 31);
    let is_its_number = [2_958_465.0, 2_957_003.0].contains(&days.floor());
    if !days.is_finite() || days < 0.0 || is_last && !is_its_number {
        return days.to_string();
    }
    let millis = (u64::from(hour) * 60 + u64::from(minute)) * 60_000
        + u64::from(second) * 1000
        + u64::from(milli);
    format!("{year:04}-{month:02}-{day:02}T{}", clock(millis as i64))
}

fn clock(millis: i64) -> String {
    let (sign, all) = (if millis < 0 { "-" } else { "" }, millis.unsigned_abs());
    let (hours, minutes, seconds, millis) =
        (all / 3_600_000, all / 60_000 % 60, all / 1000 % 60, all % 1000);
    let behind = match (seconds, millis) {
        (0, 0) => String::new(),
        (seconds, 0) => format!(":{seconds:02}"),
        (seconds, millis) => format!(":{seconds:02}.{millis:03}"),
    };
    format!("{sign}{hours:02}:{minutes:02}{behind}")
}

/// Day 0 of a sheet, and the first day that all programs number alike.
const DAY_ZERO: i32 = -25_569;
const FIRST_DAY: i32 = -25_508;
/// Up to this many units, numbers keep all their digits in a sheet, whose floats have fifteen.
const EXACT: u64 = 999_999_999_999_999;
/// The rows of a sheet, including the names.
const MOST_ROWS: u32 = 1 << 20;

/// Writes the batches of a table to a workbook with one sheet.
pub(crate) struct WorkbookWriter {
    book: Workbook,
    /// The number of rows so far.
    rows: u32,
}

fn failed(error: XlsxError) -> io::Error {
    match error {
        XlsxError::IoError(error) => error,
        error => io::Error::other(error),
    }
}

impl WorkbookWriter {
    /// Creates the sheet, with the names and the widths of columns from the first rows.
    pub(crate) fn new(rows: &Table, beside: Option<&Path>) -> io::Result<WorkbookWriter> {
        let mut book = Workbook::new();
        if let Some(directory) = beside {
            book.set_tempdir(directory).map_err(failed)?;
        }
        let sheet = book.add_worksheet_with_constant_memory().map_err(failed)?;
        let shape = rows.shape();
        for ((about, text), column) in
            shape.columns().iter().zip(CellText::for_columns(rows)).zip(0..)
        {
            let name = &about.name;
            let cells = (0..rows.rows().min(200)).map(|row| text.text(row).chars().count());
            let width = cells.chain([name.chars().count()]).max().unwrap_or(0).clamp(6, 60) + 1;
            sheet.set_column_width(column, width as f64 + 2.0).map_err(failed)?;
            // Names are aligned as the values below them.
            let is_text = matches!(about.kind, Some(Type::Text | Type::Boolean | Type::Nothing));
            let side = if is_text { FormatAlign::Left } else { FormatAlign::Right };
            let bold = Format::new().set_bold().set_align(side);
            let bold = if is_text { bold.set_indent(1) } else { bold };
            sheet.write_string_with_format(0, column, name, &bold).map_err(failed)?;
        }
        sheet.set_freeze_panes(1, 0).map_err(failed)?;
        // On paper: one page wide, with the names on each page.
        sheet.set_landscape().set_print_fit_to_pages(1, 0);
        sheet.set_repeat_rows(0, 0).map_err(failed)?;
        Ok(WorkbookWriter { book, rows: 1 })
    }
}

impl Target for WorkbookWriter {
    fn write(&mut self, rows: &Table, _: &mut dyn io::Write) -> io::Result<()> {
        if rows.rows() as u64 + u64::from(self.rows) > MOST_ROWS.into() {
            let most = format!(
                "a sheet has at most {} rows below the names; write Parquet or CSV",
                MOST_ROWS - 1
            );
            return Err(io::Error::new(io::ErrorKind::InvalidInput, most));
        }
        let sheet = self.book.worksheet_from_index(0).map_err(failed)?;
        guarded(|| write_rows(sheet, &mut self.rows, rows)).map_err(io::Error::other)?
    }

    fn finish(mut self: Box<Self>, to: &mut dyn io::Write) -> io::Result<()> {
        let bytes =
            guarded(|| self.book.save_to_buffer()).map_err(io::Error::other)?.map_err(failed)?;
        to.write_all(&bytes)
    }
}

/// Adds rows to the sheet.
fn write_rows(sheet: &mut Worksheet, written: &mut u32, rows: &Table) -> io::Result<()> {
    let shape = rows.shape();
    let kinds = shape.columns().iter().map(|column| column.kind.unwrap_or(Type::Nothing));
    let columns: Vec<SheetColumn<'_>> = kinds
        .zip(rows.columns())
        .zip(CellText::for_columns(rows))
        .map(|((kind, array), text)| SheetColumn { kind, array, text, format: format_of(kind) })
        .collect();
    for row in 0..rows.rows() {
        for (column, place) in columns.iter().zip(0..) {
            column.write(row, sheet, (*written, place)).map_err(failed)?;
        }
        *written += 1;
    }
    Ok(())
}

/// A column of a table, on its way into a sheet.
struct SheetColumn<'a> {
    kind: Type,
    array: &'a ArrayRef,
    text: CellText<'a>,
    format: Format,
}

/// The number format of this type.
fn format_of(kind: Type) -> Format {
    let shown = match kind {
        Type::Decimal { places } if places > 0 => format!("0.{}", "0".repeat(places as usize)),
        Type::Integer | Type::Decimal { .. } => "0".to_owned(),
        Type::Date(periods) if periods == Periods::from(Grain::Month) => "yyyy-mm".to_owned(),
        Type::Date(periods) if periods == Periods::from(Grain::Year) => "yyyy".to_owned(),
        Type::Date(_) => "yyyy-mm-dd".to_owned(),
        Type::Moment { .. } => "yyyy-mm-dd hh:mm:ss".to_owned(),
        Type::Time => "hh:mm:ss".to_owned(),
        // A narrow gap keeps it from touching a number to its left.
        _ => return Format::new().set_align(FormatAlign::Left).set_indent(1),
    };
    Format::new().set_num_format(shown)
}

impl SheetColumn<'_> {
    /// Writes a number if the sheet can hold it exactly, otherwise its CSV text.
    fn write(
        &self,
        row: usize,
        sheet: &mut Worksheet,
        at: (u32, u16),
    ) -> std::result::Result<(), XlsxError> {
        if self.text.is_missing(row) {
            return Ok(());
        }
        match self.number(row) {
            Some(number) => sheet.write_number_with_format(at.0, at.1, number, &self.format)?,
            None if self.kind == Type::Boolean => sheet.write_boolean_with_format(
                at.0,
                at.1,
                self.array.as_boolean().value(row),
                &self.format,
            )?,
            None => {
                sheet.write_string_with_format(at.0, at.1, self.text.text(row), &self.format)?
            }
        };
        Ok(())
    }

    fn number(&self, row: usize) -> Option<f64> {
        let exact = |units: i128| (units.unsigned_abs() <= EXACT.into()).then_some(units as f64);
        let day = |day: i32| {
            (FIRST_DAY..=Day::MAX.number()).contains(&day).then(|| f64::from(day - DAY_ZERO))
        };
        let array = self.array;
        match self.kind {
            Type::Integer => exact(array.as_primitive::<Int64Type>().value(row).into()),
            Type::Decimal { places } => {
                let narrow =
                    array.as_primitive_opt::<Decimal64Type>().map(|units| units.value(row).into());
                let units = narrow
                    .or_else(|| Some(array.as_primitive_opt::<Decimal128Type>()?.value(row)))?;
                Some(exact(units)? / 10_f64.powi(places.into()))
            }
            Type::Float => Some(array.as_primitive::<Float64Type>().value(row))
                .filter(|value| value.is_finite()),
            // Weeks and quarters have no number format, so write their labels.
            Type::Date(periods)
                if [Grain::Day, Grain::Month, Grain::Year]
                    .iter()
                    .any(|&grain| periods == grain.into()) =>
            {
                day(array.as_primitive::<Date32Type>().value(row))
            }
            Type::Moment { .. } => {
                let micros = array.as_primitive::<TimestampMicrosecondType>().value(row);
                let (whole, rest) =
                    (micros.div_euclid(MICROS_PER_DAY), micros.rem_euclid(MICROS_PER_DAY));
                // Sheets do not resolve less than a millisecond.
                (rest % 1000 == 0)
                    .then(|| day(whole as i32))
                    .flatten()
                    .map(|day| day + rest as f64 / MICROS_PER_DAY as f64)
            }
            Type::Time => {
                let micros = array.as_primitive::<Time64MicrosecondType>().value(row);
                (micros % 1000 == 0).then_some(micros as f64 / MICROS_PER_DAY as f64)
            }
            _ => None,
        }
    }
}
