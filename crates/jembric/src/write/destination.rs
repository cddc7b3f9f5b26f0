//! Where output goes: files that appear whole or not at all, alone or as a set.
//!
//! A file is written beside its target under a temporary name, and renamed once it is complete and
//! on the disk. A temporary name tells the process that owns it (`temporary`), so that a later
//! process can remove what a dead one left behind. Several files become a set ([`Outputs`]): all
//! are complete before the first is renamed, and a journal beside the routine (`journal`) lets the
//! next run finish the renames of a process that was killed between two of them.

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

/// Links that are followed to find a target, at most.
const MOST_LINKS: usize = 40;

/// A file that appears whole, or not at all.
///
/// It is written beside its target, and takes its place only in [`commit`](Destination::commit).
/// Dropped without that, it leaves nothing behind. A device or a pipe is written to directly. A
/// link stays a link: the file that it points to is written, also where that is not there yet. The
/// permissions of a file that is replaced stay as they were.
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
    /// A file. Errors: its directory is missing or cannot be written to, it is a directory itself,
    /// or it may not be written to.
    pub fn file(path: impl AsRef<Path>) -> Result<Destination> {
        Destination::with(path.as_ref(), Purpose::Single, |_, _| Ok(()))
    }

    /// A file, whose temporary name is told before there is one.
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
            // A rename would replace a file that may not be written to.
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

    /// The directory of the target, where it is a file.
    pub fn directory(&self) -> Option<PathBuf> {
        match &self.kind {
            Placement::Beside { target, .. } => Some(directory_of(target).to_owned()),
            Placement::Direct(_) => None,
        }
    }

    /// Writes to it.
    pub fn write(&mut self, write: impl FnOnce(&mut dyn Write) -> io::Result<()>) -> Result<()> {
        let file = match &mut self.kind {
            Placement::Beside { file, .. } => file.as_file(),
            Placement::Direct(file) => file,
        };
        write(file).map_err(Error::write(&self.name))
    }

    /// Lets the file take its place.
    pub fn commit(self) -> Result<()> {
        place(vec![self], None)
    }
}

/// Renames complete files to their targets.
///
/// All files are on the disk before the first rename, and signals wait until the last one. If a
/// rename fails, the journal and its temporary files stay, and the next run finishes the renames.
fn place(mut files: Vec<Destination>, mut journal: Option<Journal>) -> Result<()> {
    for Destination { name, kind } in &files {
        if let Placement::Beside { file, .. } = kind {
            file.sync().map_err(Error::write(name))?;
        }
    }
    let mut live = temporary::live();
    if let Some(journal) = &mut journal {
        // From here on a signal waits: what the journal says now must not be undone in part.
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
    // The names are on the disk, too, where the system can promise that.
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
    // A file that is dropped takes the list.
    drop(live);
    placed.and(settled)
}

/// Files that take their places together, and what they must not replace.
///
/// Each is claimed before anything is read ([`claim`](Outputs::claim)), so that none replaces a
/// file that is read, or another output. [`commit`](Outputs::commit) puts all of them in place once
/// all are complete; dropped without that, it leaves nothing behind.
#[must_use]
#[derive(Debug, Default)]
pub struct Outputs {
    read: Vec<PathBuf>,
    claimed: Vec<(String, PathBuf)>,
    files: Vec<Destination>,
    journal: Option<Journal>,
}

impl Outputs {
    /// No files yet.
    pub fn new() -> Outputs {
        Outputs::default()
    }

    /// No files yet, for a run of a routine that will write so many of them.
    ///
    /// If an earlier run was ended while it put its files in place, this puts the rest in place.
    /// What such a run only began to write is removed. Several files get a journal beside the
    /// routine, unless its directory cannot be written to. A single file needs no journal.
    ///
    /// Errors: another process is running the routine; files of the earlier run cannot be put in
    /// place.
    pub fn of_routine(routine: impl AsRef<Path>, files: usize) -> Result<Outputs> {
        let path = journal::path_of(routine.as_ref());
        journal::settle(&path)?;
        let journal = if files > 1 { Journal::create(path)? } else { None };
        Ok(Outputs { journal, ..Outputs::default() })
    }

    /// These files are read, and no output may replace them.
    pub fn protect(&mut self, files: impl IntoIterator<Item = PathBuf>) {
        self.read.extend(files.into_iter().map(file_of));
    }

    /// Says that a file will be written; `what` is what goes there, in words. The same
    /// claim may be made twice.
    ///
    /// Errors: it is a file that is read, or one that is claimed for something else, however it is
    /// spelled.
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

    /// Whether any file was claimed or is written.
    pub fn is_empty(&self) -> bool {
        self.claimed.is_empty() && self.files.is_empty()
    }

    /// A file of the set, to be written and handed to [`add`](Outputs::add).
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

    /// Takes a file that is complete.
    pub fn add(&mut self, file: Destination) {
        self.files.push(file);
    }

    /// Puts all files in place.
    pub fn commit(self) -> Result<()> {
        place(self.files, self.journal)
    }
}

/// Whether both paths name the same regular file, or would once it is there.
fn is_same(one: &Path, other: &Path) -> bool {
    let regular = |path: &Path| fs::metadata(path).map_or(true, |about| about.is_file());
    regular(one) && regular(other) && identity(one) == identity(other)
}

/// What tells a file from all others, however its path is spelled.
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

/// The full path of the file that is written for a path: that which a link points to.
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
