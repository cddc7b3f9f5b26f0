//! Output files that appear complete or not at all, alone or as a set.
//!
//! A file is written beside its target under a temporary name, and renamed once it is complete and
//! on the disk. The temporary name contains the process that owns it (`temporary`), so that a later
//! process can remove what a dead one left. Several files form a set ([`Outputs`]): all are
//! complete before the first is renamed, and a journal beside the routine (`journal`) lets the next
//! run finish the renames of a process that was killed between two of them.

mod journal;
mod process;
mod temporary;

use crate::error::{Error, Result};
use crate::formats::sheet::file_of;
use journal::Journal;
use std::{
    fs,
    io::{self, Write},
    path::{Path, PathBuf},
};
use temporary::{Purpose, Temporary};

pub use temporary::abandon_files;

/// The most links to follow to a target.
const MOST_LINKS: usize = 40;

/// A file that appears complete, or not at all.
///
/// It is written beside its target, and takes its place only in [`commit`](Destination::commit). If
/// it is dropped before, it leaves nothing behind. A device or a pipe is written directly. If the
/// target is a link, the file that it points to is written, even if that does not exist yet. A file
/// that is replaced keeps its permissions.
#[must_use]
#[derive(Debug)]
pub struct Destination {
    name: String,
    kind: Placement,
}

#[derive(Debug)]
enum Placement {
    Beside { file: Temporary, target: PathBuf },
    Direct(fs::File),
}

impl Destination {
    /// Opens a file. Errors: its directory does not exist or is not writable; it is a directory; it
    /// is not writable.
    pub fn file(path: impl AsRef<Path>) -> Result<Destination> {
        Destination::with(path.as_ref(), Purpose::Single, |_, _| Ok(()))
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
            Placement::Direct(_) => None,
        }
    }

    /// Writes to the file.
    pub fn write(&mut self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<()> {
        let file = match &mut self.kind {
            Placement::Beside { file, .. } => file.as_file(),
            Placement::Direct(file) => file,
        };
        write(file).map_err(Error::write(&self.name))
    }

    /// Puts the file in place.
    pub fn commit(self) -> Result<()> {
        place(vec![self], None)
    }
}

/// Renames complete files to their targets.
///
/// All files are on the disk before the first rename, and signals wait until after the last one. If
/// a rename fails, the journal and its temporary files remain, and the next run finishes the
/// renames.
fn place(mut files: Vec<Destination>, mut journal: Option<Journal>) -> Result<()> {
    for Destination { name, kind } in &files {
        if let Placement::Beside { file, .. } = kind {
            file.sync().map_err(Error::write(name))?;
        }
    }
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
    claimed: Vec<(String, PathBuf)>,
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
        journal::settle(&path)?;
        let journal = if files > 1 { Journal::create(path)? } else { None };
        Ok(Outputs { journal, ..Outputs::default() })
    }

    /// Declares input files, which no output may replace.
    pub fn protect(&mut self, files: impl IntoIterator<Item = PathBuf>) {
        self.read.extend(files.into_iter().map(file_of));
    }

    /// Declares that a file will be written; `what` describes it for messages. The same claim may
    /// be made twice.
    ///
    /// Errors: it is an input file, or is claimed for another output, under any spelling of its
    /// path.
    pub fn claim(&mut self, what: &str, path: impl AsRef<Path>) -> Result<()> {
        let path = path.as_ref();
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

    /// Whether no file was claimed or written.
    pub fn is_empty(&self) -> bool {
        self.claimed.is_empty() && self.files.is_empty()
    }

    /// Opens a file of the set, to be written and passed to [`add`](Outputs::add).
    pub fn file(&mut self, what: &str, path: impl AsRef<Path>) -> Result<Destination> {
        self.claim(what, &path)?;
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
        place(self.files, self.journal)
    }
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
