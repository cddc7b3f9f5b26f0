//! Temporary files and directories with their owning processes. They are removed when they are
//! dropped, on a signal, and after the death of the process by the next one that writes to the same
//! directory.

use super::process::Process;
use std::{
    collections::BTreeSet,
    fs, io,
    path::{Path, PathBuf},
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

const PREFIX: &str = ".jembric-";

/// The purpose of a temporary file, which is the end of its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// A single file. Any later process may remove it once its own process is dead.
    Single,
    /// A file of a set, whose journal decides what to do with it.
    OfASet,
    /// A directory of files that only this process reads.
    Scratch,
}

impl Purpose {
    fn ending(self) -> &'static str {
        match self {
            Purpose::Single => ".part",
            Purpose::OfASet => ".set",
            Purpose::Scratch => ".scratch",
        }
    }
}

/// The temporary files of this process, and the journals that list some of them.
pub(crate) struct Live {
    files: BTreeSet<PathBuf>,
    directories: BTreeSet<PathBuf>,
    pub(crate) journals: BTreeSet<PathBuf>,
}

static LIVE: Mutex<Live> = Mutex::new(Live {
    files: BTreeSet::new(),
    directories: BTreeSet::new(),
    journals: BTreeSet::new(),
});
/// The directories that this process has searched for files of dead processes.
static CLEANED: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// The list of this process's files. While it is locked, a signal waits.
pub(crate) fn live() -> MutexGuard<'static, Live> {
    LIVE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Removes all files of this process that are not in place, and prevents any more from being put in
/// place. This is for a process that is about to end.
///
/// It waits for files that are being put in place, unless `wait` is false. In that case this thread
/// may be the one that does so, and the next run removes what is left.
pub fn abandon_files(wait: bool) {
    let live = if wait { Some(live()) } else { LIVE.try_lock().ok() };
    if let Some(live) = live {
        // Journals come last, so that the next run finds the rest if this is interrupted.
        live.files.iter().chain(&live.journals).for_each(|path| drop(fs::remove_file(path)));
        live.directories.iter().for_each(|path| drop(fs::remove_dir_all(path)));
        // The lock is never released, so that nothing is put in place after this.
        std::mem::forget(live);
    }
}

/// A unique name, from the process and a counter.
pub(crate) fn name(purpose: Purpose) -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    format!("{PREFIX}{}-{}{}", Process::this(), NEXT.fetch_add(1, Relaxed), purpose.ending())
}

/// The process that owns a single file or a directory with this name.
fn owner(name: &str) -> Option<Process> {
    let name = name.strip_prefix(PREFIX)?;
    let single = name.strip_suffix(Purpose::Single.ending());
    let name = single.or_else(|| name.strip_suffix(Purpose::Scratch.ending()))?;
    name.rsplit_once('-')?.0.parse().ok()
}

/// Removes what dead processes left in a directory.
fn clean(directory: &Path) {
    let mut cleaned = CLEANED.lock().unwrap_or_else(PoisonError::into_inner);
    if !cleaned.insert(directory.to_owned()) {
        return;
    }
    for entry in fs::read_dir(directory).into_iter().flatten().flatten() {
        let owner = entry.file_name().to_str().and_then(owner);
        if owner.is_some_and(|owner| owner.is_dead()) {
            let is_directory = entry.file_type().is_ok_and(|kind| kind.is_dir());
            let _ = if is_directory {
                fs::remove_dir_all(entry.path())
            } else {
                fs::remove_file(entry.path())
            };
        }
    }
}

/// A file with a temporary name. If it is dropped, it is removed.
#[derive(Debug)]
pub(crate) struct Temporary {
    path: PathBuf,
    file: fs::File,
    /// It is in place, or left for another process.
    done: bool,
}

impl Temporary {
    /// Creates a file in a directory, with the permissions of the file that it will replace.
    pub(crate) fn create(
        directory: &Path,
        name: &str,
        permissions: Option<fs::Permissions>,
    ) -> io::Result<Temporary> {
        clean(directory);
        let path = directory.join(name);
        let mut live = live();
        let file = fs::OpenOptions::new().write(true).create_new(true).open(&path)?;
        live.files.insert(path.clone());
        drop(live);
        let temporary = Temporary { path, file, done: false };
        if let Some(permissions) = permissions {
            temporary.file.set_permissions(permissions)?;
        }
        Ok(temporary)
    }

    /// Its temporary name.
    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    pub(crate) fn as_file(&mut self) -> &mut fs::File {
        &mut self.file
    }

    /// Writes everything to the disk.
    pub(crate) fn sync(&self) -> io::Result<()> {
        self.file.sync_all()
    }

    /// Renames the file.
    pub(crate) fn rename(&mut self, target: &Path, live: &mut Live) -> io::Result<()> {
        fs::rename(&self.path, target)?;
        self.leave(live);
        Ok(())
    }

    /// Leaves the file under its temporary name, for another process to put in place.
    pub(crate) fn leave(&mut self, live: &mut Live) {
        live.files.remove(&self.path);
        self.done = true;
    }
}

impl Drop for Temporary {
    fn drop(&mut self) {
        if !self.done {
            let _ = fs::remove_file(&self.path);
            live().files.remove(&self.path);
        }
    }
}

/// A private directory for the files of this process. If it is dropped, it is removed with them.
#[derive(Debug)]
pub(crate) struct TemporaryDirectory(PathBuf);

impl TemporaryDirectory {
    /// Creates a directory in another one, which no other user may read.
    pub(crate) fn create(parent: &Path) -> io::Result<TemporaryDirectory> {
        clean(parent);
        let path = parent.join(name(Purpose::Scratch));
        let mut live = live();
        let mut builder = fs::DirBuilder::new();
        #[cfg(unix)]
        std::os::unix::fs::DirBuilderExt::mode(&mut builder, 0o700);
        builder.create(&path)?;
        live.directories.insert(path.clone());
        Ok(TemporaryDirectory(path))
    }

    pub(crate) fn path(&self) -> &Path {
        &self.0
    }
}

impl Drop for TemporaryDirectory {
    fn drop(&mut self) {
        let _ = fs::remove_dir_all(&self.0);
        live().directories.remove(&self.0);
    }
}
