//! Temporary files by the process that owns them: removed when they are dropped, on a signal, and
//! after the death of their process by the next one that writes to the same directory.

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

/// What a temporary file is for, which its name ends with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Purpose {
    /// One file alone. Any later process may remove it once its own process is dead.
    Single,
    /// One of a set with a journal, which alone says what becomes of it.
    OfASet,
}

impl Purpose {
    fn ending(self) -> &'static str {
        match self {
            Purpose::Single => ".part",
            Purpose::OfASet => ".set",
        }
    }
}

/// The temporary files of this process, and the journals that tell of some of them.
pub(super) struct Live {
    files: BTreeSet<PathBuf>,
    pub(super) journals: BTreeSet<PathBuf>,
}

static LIVE: Mutex<Live> = Mutex::new(Live { files: BTreeSet::new(), journals: BTreeSet::new() });
/// The directories in which this process has looked for files of dead ones.
static CLEANED: Mutex<BTreeSet<PathBuf>> = Mutex::new(BTreeSet::new());

/// The list of this process's files. While it is held, a signal waits.
pub(super) fn live() -> MutexGuard<'static, Live> {
    LIVE.lock().unwrap_or_else(PoisonError::into_inner)
}

/// Removes all files of this process that are not in their places, and lets no more be put there:
/// for a process that is about to end.
///
/// Files that are being put in place at this moment are waited for, unless `wait` says otherwise:
/// then the thread itself may be the one that does so, and the next run removes what is left.
pub fn abandon_files(wait: bool) {
    let live = if wait { Some(live()) } else { LIVE.try_lock().ok() };
    if let Some(live) = live {
        // Journals come last, so that the next run finds what is left if this is cut short.
        live.files.iter().chain(&live.journals).for_each(|path| drop(fs::remove_file(path)));
        // The lock is never given back, so that nothing is put in place after this.
        std::mem::forget(live);
    }
}

/// A name that no other file has: it tells the process and counts its files.
pub(super) fn name(purpose: Purpose) -> String {
    static NEXT: AtomicU64 = AtomicU64::new(0);
    format!("{PREFIX}{}-{}{}", Process::this(), NEXT.fetch_add(1, Relaxed), purpose.ending())
}

/// The process that owns a file of this name, if it is one that stands alone.
fn owner(name: &str) -> Option<Process> {
    let name = name.strip_prefix(PREFIX)?.strip_suffix(Purpose::Single.ending())?;
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
            let _ = fs::remove_file(entry.path());
        }
    }
}

/// A file under a temporary name. Dropped, it is removed.
#[derive(Debug)]
pub(super) struct Temporary {
    path: PathBuf,
    file: fs::File,
    /// It is in its place, or left for another process.
    done: bool,
}

impl Temporary {
    /// A new file in a directory, with the permissions of the file that it will replace.
    pub(super) fn create(
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

    pub(super) fn as_file(&mut self) -> &mut fs::File {
        &mut self.file
    }

    /// Has all of it on the disk.
    pub(super) fn sync(&self) -> io::Result<()> {
        self.file.sync_all()
    }

    /// Gives it its name.
    pub(super) fn rename(&mut self, target: &Path, live: &mut Live) -> io::Result<()> {
        fs::rename(&self.path, target)?;
        self.leave(live);
        Ok(())
    }

    /// Leaves it under its temporary name, for another process to put in place.
    pub(super) fn leave(&mut self, live: &mut Live) {
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
