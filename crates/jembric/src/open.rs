//! Opens inputs: files of any format, streams, and tables of databases, as tables in memory or as
//! larger ones.
//!
//! A [`Reading`] says how an input is read. A [`ConnectedReading`] has the connections of a run as
//! well, so that all that is read from a database is of one moment. `data` opens what may be larger
//! than memory, `share` the share of one of several processes, and `shape` only the columns.
//! `databases` reads tables of databases. `holidays` and `entities` read files of days and of
//! keys.

mod data;
mod databases;
pub(crate) mod entities;
pub(crate) mod holidays;
mod shape;
pub(crate) mod share;

use crate::{
    Error, Result, Shape, Table,
    data::{
        Data,
        exchange::{Exchange, PlaceInList},
        memory::Memory,
    },
    databases::{Databases, name::Name},
    formats::{
        batches::Input,
        detect::{Special, special},
        sheet::file_and_sheet,
    },
    read::{reading::Reading, table::no_sheets},
    text::file_bytes::FileBytes,
};
use share::Sharing;
use std::{io::Read, path::Path, sync::Arc};

/// A [`Reading`] that shares its connections to databases with other readings, so that all that is
/// read from a database is of the same moment. Its methods are those of a [`Reading`].
#[derive(Clone, Debug)]
pub struct ConnectedReading {
    reading: Reading,
    databases: Databases,
}

impl Reading {
    /// Reads databases through connections that are shared with other readings, so that all that
    /// is read from a database is of the same moment.
    pub fn through(&self, databases: &Databases) -> ConnectedReading {
        ConnectedReading { reading: self.clone(), databases: databases.clone() }
    }

    fn alone(&self) -> ConnectedReading {
        self.through(&Databases::default())
    }

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
        self.alone().file(path)
    }

    /// Reads a file as [`file`](Reading::file) does. If its table does not fit into memory, it is
    /// read in batches, as often as it is needed.
    ///
    /// Errors: also that temporary files cannot be written. Cost: a text file whose table does not
    /// fit is read once more, to find the types of its columns.
    pub fn data(&self, path: impl AsRef<Path>, memory: &Memory) -> Result<Data> {
        self.alone().data(path, memory)
    }

    /// The shape from a file's header, without reading the rest if possible. Parquet and Arrow also
    /// give the types.
    pub fn shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        self.alone().shape(path)
    }

    /// The same, with types that are guessed from the first rows (the first megabyte of CSV, or
    /// more if a table has many columns). Later rows may change them. A column of dates that does
    /// not show the order of day and month has no type yet.
    ///
    /// Errors: also errors in these rows.
    pub fn guessed_shape(&self, path: impl AsRef<Path>) -> Result<Shape> {
        self.alone().guessed_shape(path)
    }

    /// How several processes read a file together.
    pub fn sharing(&self, path: impl AsRef<Path>) -> Result<Sharing> {
        self.alone().sharing(path)
    }

    /// Reads the share of this process, as [`data`](Reading::data) reads all rows. All processes
    /// call this with the same file, and get columns of the same types. `place` is that of the file
    /// among several that are shared out together.
    ///
    /// A text file is shared out by bytes, and a record belongs to the process in whose share it
    /// begins. A Parquet file is shared out by its groups of rows, and a table of a PostgreSQL
    /// database by ranges of a column ([`by_ranges_of`](Reading::by_ranges_of)). A file that is
    /// compressed, in another encoding or in another format, and any other table of a database, are
    /// read by process 0.
    pub fn share(
        &self,
        path: impl AsRef<Path>,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        self.alone().share(path, place, memory, exchange)
    }
}

impl ConnectedReading {
    /// The settings, without the connections.
    pub fn settings(&self) -> &Reading {
        &self.reading
    }

    /// See [`Reading::file`].
    pub fn file(&self, path: impl AsRef<Path>) -> Result<Table> {
        let name = path.as_ref().display().to_string();
        if let Some(database) = Name::of_input(&name) {
            let memory = Memory::unlimited();
            return self.rows_of_database(&database, &memory)?.whole(&memory);
        }
        self.reading.refuse_for_databases(&name)?;
        let (path, sheet) = file_and_sheet(path.as_ref());
        match special(&path)? {
            Some((file, Special::Columnar(format))) if sheet.is_none() => {
                self.reading.typed(format, &name, Input::File(Arc::new(file)))
            }
            Some((mut file, _)) => {
                let mut bytes = Vec::new();
                file.read_to_end(&mut bytes).map_err(Error::read(&name))?;
                self.reading.bytes(&name, bytes, sheet.as_deref())
            }
            None if sheet.is_some() && path.exists() => Err(no_sheets(&path)),
            None => self.reading.table(&FileBytes::file(&path, self.reading.known_encoding()?)?),
        }
    }
}
