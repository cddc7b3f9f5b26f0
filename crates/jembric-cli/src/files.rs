//! The files that a command reads: from the disk, or the built-in tables of the demo.

use crate::progress::Progress;
use jembric::{
    Result, Shape, Table,
    io::{Reading, file_of},
    steps::{self, Contents},
};
use std::{io, path::PathBuf};

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

    fn read(self, reading: &Reading, file: &str) -> Result<Table> {
        match self {
            Files::OfTheDisk if file == "-" => reading.stream("standard input", io::stdin().lock()),
            Files::OfTheDisk => reading.file(file),
            Files::OfTheDemo(piped) if file == "-" => reading.stream("standard input", piped),
            Files::OfTheDemo(_) => {
                let text =
                    TABLES.iter().find(|(name, _)| *name == file).map_or("", |(_, text)| text);
                reading.stream(file, text.as_bytes())
            }
        }
    }
}

/// Reads files, and shows a progress bar on a terminal.
pub(crate) struct Reader<'a> {
    pub(crate) files: Files<'a>,
    /// The directory that paths are relative to.
    pub(crate) directory: PathBuf,
    pub(crate) shows_progress: bool,
}

impl Reader<'_> {
    fn path(&self, file: &str) -> String {
        match file {
            "-" => file.to_owned(),
            _ if self.directory.as_os_str().is_empty() => file.to_owned(),
            _ => self.directory.join(file).display().to_string(),
        }
    }
}

impl steps::Files for Reader<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        let progress = Progress::of(reading.clone(), file, self.shows_progress);
        self.files.read(&progress.reading, &self.path(file))
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        let path = self.path(file);
        match self.files {
            Files::OfTheDisk if file_of(&path).is_file() => reading.shape(path).map(Some),
            _ => Ok(None),
        }
    }

    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        match self.files {
            Files::OfTheDisk if file == "-" => None,
            Files::OfTheDisk => Some(Contents::File(file_of(self.path(file)))),
            Files::OfTheDemo(_) => {
                let (_, text) = TABLES.iter().find(|(name, _)| *name == file)?;
                Some(Contents::Bytes(text.as_bytes().into()))
            }
        }
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        let path = self.path(file);
        match self.files {
            Files::OfTheDisk if file_of(&path).is_file() => reading.guessed_shape(path).map(Some),
            _ => Ok(None),
        }
    }
}
