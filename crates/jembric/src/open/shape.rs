//! The columns of an input, without reading all of its rows if possible.

use super::ConnectedReading;
use crate::{
    ColumnShape, CoreError, Error, Result, Shape, Type,
    databases::{
        HowMany, Rows,
        name::{Name, Place},
    },
    formats::Source,
    formats::{
        batches::Input,
        csv_rows::CsvRows,
        detect::{Special, special},
        packed,
        sheet::file_and_sheet,
    },
    read::{
        header::{Header, whole_records},
        table::{ROWS_TO_GUESS_FROM, no_sheets},
    },
    text::file_bytes::FileBytes,
};
use arrow_array::cast::AsArray;
use jembric_core::{
    Origin,
    calendar::{Zone, notation},
};
use std::{
    fs::File,
    io::{Read, Seek},
    path::Path,
    sync::Arc,
};

/// The beginning of a file, or all of it if it cannot be inspected otherwise.
enum Beginning {
    /// Names and types.
    Known(Shape),
    /// Converted rows, and the name of their file for messages.
    Rows(String, CsvRows),
    /// Text with a header.
    Text(FileBytes),
}

impl ConnectedReading {
    /// See [`Reading::shape`](crate::io::Reading::shape).
    pub fn shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        match self.beginning(path.as_ref(), 0)? {
            Beginning::Known(shape) => Ok(shape),
            Beginning::Rows(name, rows) => Ok(Shape::of_names(rows.names).from_file(name)),
            Beginning::Text(source) => {
                Ok(Shape::of_names(Header::read(&self.reading, &source)?.names)
                    .from_file(source.name))
            }
        }
    }

    /// See [`Reading::guessed_shape`](crate::io::Reading::guessed_shape).
    pub fn guessed_shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        let (name, table) = match self.beginning(path.as_ref(), ROWS_TO_GUESS_FROM)? {
            Beginning::Known(shape) => return Ok(shape),
            Beginning::Rows(name, rows) => (name, self.reading.written_down(rows)?),
            Beginning::Text(source) => {
                let header = Header::read(&self.reading, &source)?;
                let mut buffer = Vec::new();
                let first = source.bytes(
                    0,
                    source.len().min(header.end + self.reading.block(&header)),
                    &mut buffer,
                )?;
                let is_whole = first.len() as u64 == source.len();
                let end = if is_whole {
                    first.len()
                } else {
                    whole_records(&self.reading, &header, first)
                };
                let first = FileBytes::memory(source.name.clone(), first[..end].to_vec());
                (source.name.clone(), self.reading.rows(&first, &header, &[], None)?)
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
            let query = self.reading.query_text()?;
            let shape = self.databases.shape(&database, query.as_deref())?;
            if matches!(database.place, Place::Uri(_)) || rows == 0 {
                return Ok(Beginning::Known(shape));
            }
            let first = HowMany::First(rows);
            let (shown, answer) =
                self.databases.answer(&database, query.as_deref(), &self.reading, first)?;
            return Ok(match answer.rows {
                Rows::Typed(data) => Beginning::Known(data.sample().shape().from_file(shown)),
                Rows::Pieces(pieces) => {
                    let table = pieces.table(&shown, Origin::of_rows(&shown))?;
                    Beginning::Known(table.shape().from_file(shown))
                }
                Rows::Written(rows) => Beginning::Rows(shown, rows),
            });
        }
        self.reading.refuse_for_databases(&name)?;
        let (path, sheet) = file_and_sheet(path);
        let whole = |mut file: File| {
            let mut bytes = Vec::new();
            file.read_to_end(&mut bytes).map_err(Error::read(&name))?;
            let rows = self.reading.to_csv_rows(
                &name,
                self.reading.unpacked(&name, bytes)?,
                sheet.as_deref(),
            )?;
            Ok(Beginning::Rows(name.clone(), rows))
        };
        match special(&path)? {
            Some((file, Special::Workbook | Special::JsonLines)) => whole(file),
            _ if sheet.is_some() && path.exists() => Err(no_sheets(&path)),
            None => Ok(Beginning::Text(FileBytes::file(&path, self.reading.known_encoding()?)?)),
            Some((file, Special::Columnar(format))) => {
                let shape = format.source(&name, Input::File(Arc::new(file))).shape()?;
                self.reading.refuse_columns(&name, shape.columns().len())?;
                Ok(Beginning::Known(shape))
            }
            Some((mut file, Special::Packed(packing))) => {
                let beginning =
                    packed::beginning(packing, &mut file).map_err(Error::read(&name))?;
                file.rewind().map_err(Error::read(&name))?;
                match Special::recognize(&beginning) {
                    Some(Special::Workbook | Special::JsonLines) => whole(file),
                    Some(Special::Columnar(_)) => {
                        Ok(Beginning::Known(self.file(&path)?.head(0).shape()))
                    }
                    _ => Ok(Beginning::Text(FileBytes::stream(
                        name,
                        &beginning[..],
                        self.reading.known_encoding()?,
                    )?)),
                }
            }
        }
    }
}
