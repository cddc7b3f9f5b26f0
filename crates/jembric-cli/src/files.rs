//! The files that a command reads: from the disk, or the built-in tables of the demo.

use crate::progress::Progress;
use jembric::{
    Result, Shape, Table,
    io::{
        ConnectedReading, Data, Databases, Exchange, Memory, PlaceInList, Reading, Sharing,
        file_of, is_database, name_in,
    },
    steps::{self, Contents},
};
use std::{
    io,
    path::{Path, PathBuf},
};

macro_rules! tables {
    ($($name:literal),* $(,)?) => { [$(($name, include_str!(concat!("../demo/", $name)))),*] };
}

/// The demo's tables.
pub(crate) const TABLES: [(&str, &str); 11] = tables![
    "vessels.csv",
    "inspections.csv",
    "stays.csv",
    "lifts.csv",
    "gauge.csv",
    "fuel_in.csv",
    "fuel_out.csv",
    "dues.csv",
    "crane_log.csv",
    "holidays.csv",
    "tariff.csv",
];

/// The routine of the demo.
pub(crate) const ROUTINE: (&str, &str) = ("harbour.toml", include_str!("../demo/harbour.toml"));

/// Where a command's files are.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Files<'a> {
    OfTheDisk,
    /// The built-in tables of the demo, and the bytes of standard input.
    OfTheDemo(&'a [u8]),
}

impl Files<'_> {
    /// The text of the demo's routine, if that is what runs.
    pub(crate) fn routine(self) -> Option<&'static str> {
        (self != Files::OfTheDisk).then_some(ROUTINE.1)
    }

    fn data(self, reading: &ConnectedReading, file: &str, memory: &Memory) -> Result<Data> {
        match self {
            Files::OfTheDisk if file == "-" => {
                reading.settings().stream_data("standard input", io::stdin().lock(), memory)
            }
            Files::OfTheDisk => reading.data(file, memory),
            Files::OfTheDemo(_) => self.read(reading, file).map(Data::Table),
        }
    }

    fn read(self, reading: &ConnectedReading, file: &str) -> Result<Table> {
        match self {
            Files::OfTheDisk if file == "-" => {
                reading.settings().stream("standard input", io::stdin().lock())
            }
            Files::OfTheDisk => reading.file(file),
            Files::OfTheDemo(piped) if file == "-" => {
                reading.settings().stream("standard input", piped)
            }
            Files::OfTheDemo(_) => {
                let text =
                    TABLES.iter().find(|(name, _)| *name == file).map_or("", |(_, text)| text);
                reading.settings().stream(file, text.as_bytes())
            }
        }
    }
}

/// Reads files, and shows a progress bar on a terminal.
pub(crate) struct Reader<'a> {
    pub(crate) files: Files<'a>,
    /// The directory that paths are relative to.
    directory: PathBuf,
    shows_progress: bool,
    databases: Databases,
}

impl<'a> Reader<'a> {
    /// Files whose paths are relative to a directory.
    pub(crate) fn new(files: Files<'a>, directory: &Path, shows_progress: bool) -> Reader<'a> {
        let databases = Databases::default();
        Reader { files, directory: directory.to_owned(), shows_progress, databases }
    }

    fn path(&self, file: &str) -> String {
        match file {
            "-" => file.to_owned(),
            _ => name_in(&self.directory, file),
        }
    }

    fn connected(&self, reading: &Reading) -> ConnectedReading {
        reading.clone().query_beside(&self.directory).through(&self.databases)
    }

    /// Whether the columns of an input can be known before it is read.
    fn is_inspected(&self, path: &str) -> bool {
        self.files == Files::OfTheDisk && (file_of(path).is_file() || is_database(path))
    }
}

impl steps::Files for Reader<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        let progress = Progress::new(reading.clone(), file, self.shows_progress);
        self.files.read(&self.connected(&progress.reading), &self.path(file))
    }

    fn data(&self, file: &str, reading: &Reading, memory: &Memory) -> Result<Data> {
        let progress = Progress::new(reading.clone(), file, self.shows_progress);
        self.files.data(&self.connected(&progress.reading), &self.path(file), memory)
    }

    fn sharing(&self, file: &str, reading: &Reading) -> Result<Sharing> {
        self.connected(reading).sharing(self.path(file))
    }

    fn share(
        &self,
        file: &str,
        reading: &Reading,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        let progress = Progress::new(reading.clone(), file, self.shows_progress);
        self.connected(&progress.reading).share(self.path(file), place, memory, exchange)
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        let path = self.path(file);
        if self.is_inspected(&path) {
            self.connected(reading).shape(path).map(Some)
        } else {
            Ok(None)
        }
    }

    fn close(&self) {
        self.databases.close();
    }

    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        match self.files {
            Files::OfTheDisk if file == "-" => None,
            // The bytes of a database may change while a transaction reads it.
            Files::OfTheDisk if is_database(&self.path(file)) => None,
            Files::OfTheDisk => Some(Contents::File(file_of(self.path(file)))),
            Files::OfTheDemo(_) => {
                let (_, text) = TABLES.iter().find(|(name, _)| *name == file)?;
                Some(Contents::Bytes(text.as_bytes().into()))
            }
        }
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        let path = self.path(file);
        if self.is_inspected(&path) {
            self.connected(reading).guessed_shape(path).map(Some)
        } else {
            Ok(None)
        }
    }
}
