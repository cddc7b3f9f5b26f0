//! Output files that appear complete or not at all, alone or as a set.
//!
//! A file is written beside its target under a temporary name, and renamed once it is complete and
//! on the disk. The temporary name contains the process that owns it (`temporary`), so that a later
//! process can remove what a dead one left. Several files form a set ([`Outputs`]): all are
//! complete before the first is renamed, and a journal beside the routine (`journal`) lets the next
//! run finish the renames of a process that was killed between two of them.

mod behind;
mod journal;

use super::writing::{Batches, Writing};
use crate::{
    data::Data,
    databases::{
        existing::Existing,
        name::{Name, Place},
        target::{SharedWriter, TableOutput, expect_writable, table_named},
    },
    disk::temporary::{self, Purpose, Temporary},
    error::{Error, Result},
    formats::sheet::file_of,
};
use behind::behind;
use journal::Journal;
use std::{
    fs,
    io::{self, Write},
    ops::ControlFlow,
    path::{Path, PathBuf},
    sync::{Arc, Mutex},
};

/// The most links to follow to a target.
const MOST_LINKS: usize = 40;

/// A file that appears complete, or not at all.
///
/// It is written beside its target, and takes its place only in [`commit`](Destination::commit). If
/// it is dropped before, it leaves nothing behind. A device or a pipe is written directly. If the
/// target is a link, the file that it points to is written, even if that does not exist yet. A file
/// that is replaced keeps its permissions. A table of a database (`harbour.sqlite:overdue`) is
/// written in a transaction, which is committed then.
#[must_use]
#[derive(Debug)]
pub struct Destination {
    name: String,
    kind: Placement,
}

#[derive(Debug)]
enum Placement {
    Beside {
        file: Temporary,
        target: PathBuf,
    },
    Direct(fs::File),
    /// A table of a database, and the file of the database if it is a new one.
    Table {
        table: TableOutput,
        new: Option<NewDatabase>,
    },
}

/// The temporary file of a SQLite database that does not exist yet. All tables of the database
/// share it, and the first one that is put in place takes it.
type NewDatabase = Arc<Mutex<Option<Box<Destination>>>>;

impl Destination {
    /// Opens a file. Errors: its directory does not exist or is not writable; it is a directory; it
    /// is not writable.
    pub fn file(path: impl AsRef<Path>) -> Result<Destination> {
        let path = path.as_ref();
        match path.to_str().and_then(Name::of_output) {
            Some(name) => {
                let open = OpenDatabase::open(&name.place, |path| {
                    Destination::with(path, Purpose::Single, |_, _| Ok(()))
                })?;
                open.table(&name)
            }
            None => Destination::with(path, Purpose::Single, |_, _| Ok(())),
        }
    }

    /// Opens a file, and reports its temporary name before the file exists.
    fn with(
        path: &Path,
        purpose: Purpose,
        tell: impl FnOnce(&Path, &Path) -> Result<()>,
    ) -> Result<Destination> {
        let name = path.display().to_string();
        let target = target_of(path);
        let about = fs::metadata(&target).ok();
        if about.as_ref().is_some_and(fs::Metadata::is_dir) {
            return Err(Error::Directory { file: name });
        }
        if let Some(about) = &about {
            // A rename would replace a file even if it is not writable.
            let denied =
                about.permissions().readonly().then(|| io::ErrorKind::PermissionDenied.into());
            let open = || fs::OpenOptions::new().write(true).open(&target);
            let file = denied.map_or_else(open, Err).map_err(Error::write(&name))?;
            if !about.is_file() {
                return Ok(Destination { name, kind: Placement::Direct(file) });
            }
        }
        let directory = directory_of(&target);
        let temporary = temporary::name(purpose);
        tell(&directory.join(&temporary), &target)?;
        let permissions = about.map(|about| about.permissions());
        let file =
            Temporary::create(directory, &temporary, permissions).map_err(Error::write(&name))?;
        Ok(Destination { name, kind: Placement::Beside { file, target } })
    }

    /// The directory of the target, if it is a file.
    pub fn directory(&self) -> Option<PathBuf> {
        match &self.kind {
            Placement::Beside { target, .. } => Some(directory_of(target).to_owned()),
            Placement::Direct(_) | Placement::Table { .. } => None,
        }
    }

    /// Writes tables, batch by batch, in a format or into a table of a database. Their end is
    /// written as well.
    pub fn write_tables(
        &mut self,
        writing: Writing,
        write: impl FnOnce(&mut Batches<'_>) -> io::Result<()>,
    ) -> Result<()> {
        let directory = self.directory();
        if let Placement::Table { table, .. } = &mut self.kind {
            let mut batches = Batches::into_table(table, writing.existing_table());
            let written = write(&mut batches).and_then(|()| batches.finish());
            return written.map_err(Error::write(&self.name));
        }
        self.write(|to| {
            let mut batches = writing.batches(to).beside(directory);
            write(&mut batches)?;
            batches.finish()
        })
    }

    /// Writes all rows of a table that may be larger than memory.
    ///
    /// Errors: also those of reading the rows.
    pub fn write_data(&mut self, writing: Writing, data: &Data) -> Result<()> {
        let mut failed = None;
        let written = self.write_tables(writing, |batches| {
            let mut unwritten = None;
            let read = data.each_until(&mut |batch| {
                unwritten = batches.write(&batch).err();
                let is_written = unwritten.is_none();
                Ok(if is_written { ControlFlow::Continue(()) } else { ControlFlow::Break(()) })
            });
            match (unwritten, read) {
                (Some(error), _) => Err(error),
                (None, Err(error)) => {
                    failed = Some(error);
                    Err(io::Error::other("the rows could not be read"))
                }
                (None, Ok(_)) => Ok(()),
            }
        });
        failed.map_or(written, Err)
    }

    /// Writes to the file. Errors: also that it is a table of a database.
    pub fn write(&mut self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<()> {
        let file = match &mut self.kind {
            Placement::Beside { file, .. } => file.as_file(),
            Placement::Direct(file) => file,
            Placement::Table { .. } => {
                return Err(Error::Setting {
                    setting: "out",
                    value: format!("the table {}, which holds only tables", self.name),
                    expected: "a file".to_owned(),
                });
            }
        };
        behind(file, write).map_err(Error::write(&self.name))
    }

    /// Puts the file in place.
    pub fn commit(self) -> Result<()> {
        let mut outputs = Outputs::new();
        outputs.add(self);
        outputs.commit()
    }
}

/// A database that is open for writing.
#[derive(Clone, Debug)]
struct OpenDatabase {
    writer: SharedWriter,
    new: Option<NewDatabase>,
}

impl OpenDatabase {
    /// Opens a database. `create` makes the temporary file of one that does not exist.
    fn open(
        place: &Place,
        create: impl FnOnce(&Path) -> Result<Destination>,
    ) -> Result<OpenDatabase> {
        let file = match place {
            Place::File(path) if fs::symlink_metadata(path).is_err() => Some(create(path)?),
            _ => None,
        };
        let temporary = file.as_ref().and_then(|file| match &file.kind {
            Placement::Beside { file, .. } => Some(file.path()),
            _ => None,
        });
        let writer = SharedWriter::open(place, temporary)?;
        Ok(OpenDatabase {
            writer,
            new: file.map(|file| Arc::new(Mutex::new(Some(Box::new(file))))),
        })
    }

    fn table(&self, name: &Name) -> Result<Destination> {
        let table = TableOutput::new(self.writer.clone(), table_named(name)?);
        let kind = Placement::Table { table, new: self.new.clone() };
        Ok(Destination { name: name.shown(), kind })
    }
}

/// Commits the transactions of databases, and returns the files, also those of new databases.
///
/// A transaction can still fail, so this comes before any file is put in place.
fn commit_databases(outputs: Vec<Destination>) -> Result<Vec<Destination>> {
    let mut files = Vec::new();
    for output in outputs {
        match output.kind {
            Placement::Table { table, new } => {
                table.writer.commit()?;
                let new = new.and_then(|new| new.lock().ok()?.take());
                files.extend(new.map(|new| *new));
            }
            _ => files.push(output),
        }
    }
    Ok(files)
}

/// Writes the bytes of all files to the disk.
fn sync(outputs: &[Destination]) -> Result<()> {
    for Destination { name, kind } in outputs {
        if let Placement::Beside { file, .. } = kind {
            file.sync().map_err(Error::write(name))?;
        }
    }
    Ok(())
}

/// Renames files that are on the disk to their targets.
///
/// Signals wait until after the last one. If a rename fails, the journal and its temporary files
/// remain, and the next run finishes the renames.
fn place(mut files: Vec<Destination>, mut journal: Option<Journal>) -> Result<()> {
    let mut live = temporary::live();
    if let Some(journal) = &mut journal {
        // From here on a signal waits, because what the journal now says must not be undone in
        // part.
        let written = journal.placing();
        if written.is_err() {
            drop(live);
            return written;
        }
    }
    let mut directories: Vec<PathBuf> = Vec::new();
    let mut placed = Ok(());
    for Destination { name, kind } in &mut files {
        let Placement::Beside { file, target } = kind else { continue };
        if placed.is_ok() {
            placed = file.rename(target, &mut live).map_err(Error::write(name));
        }
        if placed.is_err() && journal.is_some() {
            file.leave(&mut live);
        }
        directories.push(directory_of(target).to_owned());
    }
    directories.sort();
    directories.dedup();
    // The names are on the disk, too, if the system can guarantee that.
    for directory in directories {
        let _ = fs::File::open(directory).and_then(|directory| directory.sync_all());
    }
    let settled = match (&placed, journal) {
        (Ok(()), Some(journal)) => journal.remove(&mut live),
        (Err(_), Some(journal)) => {
            journal.leave(&mut live);
            Ok(())
        }
        (_, None) => Ok(()),
    };
    // Dropping a file needs the list.
    drop(live);
    placed.and(settled)
}

/// Files that are put in place together, and files that they must not replace.
///
/// Each file is claimed before anything is read ([`claim`](Outputs::claim)), so that none replaces
/// an input or another output. [`commit`](Outputs::commit) puts all of them in place once all are
/// complete. Without it, nothing is left behind.
#[must_use]
#[derive(Debug, Default)]
pub struct Outputs {
    read: Vec<PathBuf>,
    /// The tables of databases that are read, by their names.
    tables_read: Vec<Name>,
    claimed: Vec<(String, PathBuf)>,
    databases: Vec<OpenDatabase>,
    files: Vec<Destination>,
    journal: Option<Journal>,
}

impl Outputs {
    /// An empty set.
    pub fn new() -> Outputs {
        Outputs::default()
    }

    /// An empty set for a run of a routine that will write this number of files.
    ///
    /// If an earlier run ended while it put its files in place, this puts the rest in place; files
    /// that such a run only began to write are removed. Several files get a journal beside the
    /// routine, unless its directory is not writable. A single file needs no journal.
    ///
    /// Errors: another process runs the routine; the files of an earlier run cannot be put in
    /// place.
    pub fn of_routine(routine: impl AsRef<Path>, files: usize) -> Result<Outputs> {
        let path = journal::path_of(routine.as_ref());
        let journal = if files > 1 {
            Journal::create(path)?
        } else {
            journal::settle(&path)?;
            None
        };
        Ok(Outputs { journal, ..Outputs::default() })
    }

    /// Declares input files, which no output may replace.
    pub fn protect(&mut self, files: impl IntoIterator<Item = PathBuf>) {
        for file in files {
            let name = file.to_str().and_then(Name::of_input);
            self.read.push(match &name {
                Some(Name { place: Place::File(path), .. }) => path.clone(),
                _ => file_of(file),
            });
            self.tables_read.extend(name);
        }
    }

    /// Declares that a file will be written; `what` describes it for messages. The same claim may
    /// be made twice.
    ///
    /// Errors: it is an input file, or is claimed for another output, under any spelling of its
    /// path.
    pub fn claim(&mut self, what: &str, path: impl AsRef<Path>) -> Result<()> {
        let path = path.as_ref();
        if let Some(name) = path.to_str().and_then(Name::of_output) {
            return self.claim_table(what, &name);
        }
        if self.read.iter().any(|read| is_same(read, path)) {
            return Err(Error::OntoInput { file: path.display().to_string() });
        }
        match self.claimed.iter().find(|(_, other)| is_same(other, path)) {
            Some((other, _)) if other == what => {}
            Some((other, _)) => {
                let file = path.display().to_string();
                return Err(Error::OutputTwice {
                    file,
                    one: other.clone(),
                    other: what.to_owned(),
                });
            }
            None => self.claimed.push((what.to_owned(), path.to_owned())),
        }
        Ok(())
    }

    fn claim_table(&mut self, what: &str, name: &Name) -> Result<()> {
        let wanted = table_named(name)?;
        // Case does not matter to SQLite.
        let is_same_table = |other: &Name| match (&name.place, &other.place, &other.table) {
            (Place::File(one), Place::File(other), Some(table)) => {
                is_same(one, other) && table.eq_ignore_ascii_case(&wanted)
            }
            (Place::Uri(one), Place::Uri(other), Some(table)) => one == other && *table == wanted,
            _ => false,
        };
        let shown = name.shown();
        if self.tables_read.iter().any(is_same_table) {
            return Err(Error::OntoInput { file: shown });
        }
        let others = self
            .claimed
            .iter()
            .filter_map(|(other, path)| Some((other, path.to_str().and_then(Name::of_output)?)));
        let mut others = others.filter(|(_, other)| is_same_table(other));
        match others.next() {
            Some((other, _)) if other != what => {
                Err(Error::OutputTwice { file: shown, one: other.clone(), other: what.to_owned() })
            }
            Some(_) => Ok(()),
            None => {
                self.claimed.push((what.to_owned(), full_name(name).into()));
                Ok(())
            }
        }
    }

    /// Declares that a table of a database will be written in this way. Any other file is left to
    /// [`claim`](Outputs::claim).
    ///
    /// Errors: the database cannot be opened; the table exists and must not, or is a view.
    pub fn expect_writable(&self, path: impl AsRef<Path>, existing: Existing) -> Result<()> {
        match path.as_ref().to_str().and_then(Name::of_output) {
            Some(name) => expect_writable(&name, existing),
            None => Ok(()),
        }
    }

    /// The database of an output, which is opened once.
    fn database(&mut self, place: &Place) -> Result<OpenDatabase> {
        let is_same_place = |open: &&OpenDatabase| match (&open.writer.place, place) {
            (Place::File(one), Place::File(other)) => is_same(one, other),
            (one, other) => one == other,
        };
        if let Some(open) = self.databases.iter().find(is_same_place) {
            return Ok(open.clone());
        }
        let journal = &mut self.journal;
        let open = OpenDatabase::open(place, |path| match journal {
            None => Destination::with(path, Purpose::Single, |_, _| Ok(())),
            Some(journal) => Destination::with(path, Purpose::OfASet, |temporary, target| {
                journal.begin(temporary, target)
            }),
        })?;
        self.databases.push(open.clone());
        Ok(open)
    }

    /// Whether no file was claimed or written.
    pub fn is_empty(&self) -> bool {
        self.claimed.is_empty() && self.files.is_empty()
    }

    /// Opens a file of the set, to be written and passed to [`add`](Outputs::add).
    pub fn file(&mut self, what: &str, path: impl AsRef<Path>) -> Result<Destination> {
        self.claim(what, &path)?;
        if let Some(name) = path.as_ref().to_str().and_then(Name::of_output) {
            return self.database(&name.place)?.table(&name);
        }
        match &mut self.journal {
            None => Destination::file(path),
            Some(journal) => {
                Destination::with(path.as_ref(), Purpose::OfASet, |temporary, target| {
                    journal.begin(temporary, target)
                })
            }
        }
    }

    /// Adds a file that is complete.
    pub fn add(&mut self, file: Destination) {
        self.files.push(file);
    }

    /// Puts all files in place.
    pub fn commit(self) -> Result<()> {
        self.complete()?.commit()
    }

    /// Writes the bytes of all files to the disk. Errors: for example that the disk is full.
    pub fn sync(&self) -> Result<()> {
        sync(&self.files)
    }

    /// Writes all files to the disk and commits the transactions of databases, so that only
    /// renames are left.
    pub fn complete(self) -> Result<Complete> {
        self.sync()?;
        let files = commit_databases(self.files)?;
        sync(&files)?;
        Ok(Complete { files, journal: self.journal })
    }
}

/// Files that are complete, but not in place yet. If this is dropped, they are removed.
#[must_use]
#[derive(Debug)]
pub struct Complete {
    files: Vec<Destination>,
    journal: Option<Journal>,
}

impl Complete {
    /// Puts all files in place.
    pub fn commit(self) -> Result<()> {
        place(self.files, self.journal)
    }
}

/// The name of a table with its password, as it was given.
fn full_name(name: &Name) -> String {
    let place = match &name.place {
        Place::File(path) => path.display().to_string(),
        Place::Uri(uri) => uri.clone(),
    };
    format!("{place}:{}", name.table.as_deref().unwrap_or_default())
}

/// Whether both paths name the same regular file, or will once it exists.
fn is_same(one: &Path, other: &Path) -> bool {
    let regular = |path: &Path| fs::metadata(path).map_or(true, |about| about.is_file());
    regular(one) && regular(other) && identity(one) == identity(other)
}

/// The identity of a file, under any spelling of its path.
#[derive(PartialEq, Eq)]
enum Identity {
    #[cfg(unix)]
    Inode(u64, u64),
    Path(PathBuf),
}

fn identity(path: &Path) -> Identity {
    #[cfg(unix)]
    if let Ok(about) = fs::metadata(path) {
        use std::os::unix::fs::MetadataExt;
        return Identity::Inode(about.dev(), about.ino());
    }
    Identity::Path(target_of(path))
}

/// The full path of the file to write, which is what a link points to.
fn target_of(path: &Path) -> PathBuf {
    let mut path = path.to_owned();
    for _ in 0..MOST_LINKS {
        match fs::read_link(&path) {
            Ok(to) => path = directory_of(&path).join(to),
            Err(_) => break,
        }
    }
    if let Ok(there) = fs::canonicalize(&path) {
        return there;
    }
    match (fs::canonicalize(directory_of(&path)), path.file_name()) {
        (Ok(directory), Some(name)) => directory.join(name),
        _ => path,
    }
}

fn directory_of(path: &Path) -> &Path {
    path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

#[cfg(test)]
mod tests;
