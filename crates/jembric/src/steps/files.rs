//! [`Files`]: the source of the tables that steps read.

use crate::{
    Result, Shape, Table,
    data::{
        Data,
        exchange::{Exchange, PlaceInList, held_by_one},
        memory::Memory,
    },
    databases::{
        Databases,
        name::{is_database, name_in},
    },
    formats::sheet::file_of,
    open::{ConnectedReading, share::Sharing},
    read::reading::Reading,
};
use std::{borrow::Cow, cell::RefCell, collections::HashMap, fmt, path::PathBuf};

/// The bytes of a file that a routine reads.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub enum Contents<'a> {
    /// A file on the disk.
    File(PathBuf),
    /// Bytes in memory.
    Bytes(Cow<'a, [u8]>),
}

/// The source of tables.
pub trait Files {
    /// The table in a file.
    fn table(&self, file: &str, reading: &Reading) -> Result<Table>;

    /// The table in a file, in memory if it fits.
    fn data(&self, file: &str, reading: &Reading, memory: &Memory) -> Result<Data> {
        let _ = memory;
        self.table(file, reading).map(Data::Table)
    }

    /// How several processes that run a routine together read a file.
    fn sharing(&self, file: &str, reading: &Reading) -> Result<Sharing> {
        let _ = (file, reading);
        Ok(Sharing::AtFirst)
    }

    /// The rows of this process among those of all processes that run a routine together. All have
    /// the same columns. If the rows are not shared out, process 0 has all of them.
    fn share(
        &self,
        file: &str,
        reading: &Reading,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        // One process has all rows, so the place does not matter.
        let _ = place;
        let own = match exchange.process() {
            0 => Some(self.data(file, reading, memory)?),
            _ => None,
        };
        held_by_one(0, own, exchange)
    }

    /// The shape from its header; none if it cannot be inspected before it is read.
    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>>;

    /// The shape with the types of the first rows.
    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.shape(file, reading)
    }

    /// Closes what was opened for reading, such as the connections to databases. What is read after
    /// this may be of a later moment.
    fn close(&self) {}

    /// The bytes of a file, for its size and checksum on a report page; none if they cannot be read
    /// again.
    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        let _ = file;
        None
    }
}

/// The files of a directory, files with absolute paths, and databases. Clones share the connections
/// to databases.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct Disk {
    /// The directory that paths are relative to; the working directory if it is empty.
    pub directory: PathBuf,
    databases: Databases,
}

impl Disk {
    /// The files of a directory.
    pub fn in_directory(directory: impl Into<PathBuf>) -> Disk {
        Disk { directory: directory.into(), databases: Databases::default() }
    }

    /// The reading with the directory and the open databases.
    fn connected(&self, reading: &Reading) -> ConnectedReading {
        reading.clone().query_beside(&self.directory).through(&self.databases)
    }
}

impl Files for Disk {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        self.connected(reading).file(name_in(&self.directory, file))
    }

    fn data(&self, file: &str, reading: &Reading, memory: &Memory) -> Result<Data> {
        self.connected(reading).data(name_in(&self.directory, file), memory)
    }

    fn sharing(&self, file: &str, reading: &Reading) -> Result<Sharing> {
        self.connected(reading).sharing(name_in(&self.directory, file))
    }

    fn share(
        &self,
        file: &str,
        reading: &Reading,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        self.connected(reading).share(name_in(&self.directory, file), place, memory, exchange)
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.connected(reading).shape(name_in(&self.directory, file)).map(Some)
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.connected(reading).guessed_shape(name_in(&self.directory, file)).map(Some)
    }

    fn close(&self) {
        self.databases.close();
    }

    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        let name = name_in(&self.directory, file);
        // The bytes of a database may change while a transaction reads it.
        (!is_database(&name)).then(|| Contents::File(file_of(name)))
    }
}

/// Files that are read once, however often a table is asked for.
pub struct FilesOnce<'a> {
    files: &'a dyn Files,
    read: RefCell<HashMap<String, Data>>,
}

impl fmt::Debug for FilesOnce<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("FilesOnce")
            .field("read", &self.read.borrow().keys())
            .finish_non_exhaustive()
    }
}

impl<'a> FilesOnce<'a> {
    /// Keeps the tables of these files.
    pub fn new(files: &'a dyn Files) -> FilesOnce<'a> {
        FilesOnce { files, read: RefCell::default() }
    }

    /// A table that was read before, or is read now.
    fn once(
        &self,
        file: &str,
        reading: &Reading,
        read: impl FnOnce() -> Result<Data>,
    ) -> Result<Data> {
        let key = format!("{file}\n{reading:?}");
        if let Some(data) = self.read.borrow().get(&key) {
            return Ok(data.clone());
        }
        let data = read()?;
        self.read.borrow_mut().insert(key, data.clone());
        Ok(data)
    }
}

impl Files for FilesOnce<'_> {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        match self.data(file, reading, &Memory::unlimited())? {
            Data::Table(table) => Ok(table),
            // It was read within a limit before.
            Data::Larger(_) => self.files.table(file, reading),
        }
    }

    fn data(&self, file: &str, reading: &Reading, memory: &Memory) -> Result<Data> {
        self.once(file, reading, || self.files.data(file, reading, memory))
    }

    fn sharing(&self, file: &str, reading: &Reading) -> Result<Sharing> {
        self.files.sharing(file, reading)
    }

    fn share(
        &self,
        file: &str,
        reading: &Reading,
        place: Option<PlaceInList>,
        memory: &Memory,
        exchange: &dyn Exchange,
    ) -> Result<Data> {
        self.once(file, reading, || self.files.share(file, reading, place, memory, exchange))
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.files.shape(file, reading)
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.files.guessed_shape(file, reading)
    }

    fn close(&self) {
        self.files.close();
    }

    fn contents(&self, file: &str) -> Option<Contents<'_>> {
        self.files.contents(file)
    }
}
