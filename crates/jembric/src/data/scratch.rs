//! [`Scratch`]: the private directory for temporary files, and the space on its disk.

use crate::{
    disk::temporary::TemporaryDirectory,
    error::{Error, Result},
};
use std::{
    fs::File,
    io,
    path::{Path, PathBuf},
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
};

/// The space that is left free on the disk.
const RESERVE: u64 = 64 << 20;
/// The space is checked again after this many bytes.
const STEP: u64 = 32 << 20;

/// A directory for temporary files, which is created when the first one is.
#[derive(Debug, Default)]
pub(crate) struct Scratch {
    parent: PathBuf,
    directory: Mutex<Option<TemporaryDirectory>>,
    next: AtomicU64,
    written: AtomicU64,
}

impl Scratch {
    pub(crate) fn in_directory(parent: PathBuf) -> Scratch {
        Scratch { parent, ..Scratch::default() }
    }

    /// The bytes that were written.
    pub(crate) fn written(&self) -> u64 {
        self.written.load(Relaxed)
    }

    /// The name of the directory that has the private one.
    fn parent(&self) -> &Path {
        if self.parent.as_os_str().is_empty() { Path::new(".") } else { &self.parent }
    }

    /// The error of a temporary file.
    pub(crate) fn failed(&self, source: io::Error) -> Error {
        Error::Scratch { directory: self.parent().display().to_string(), source }
    }

    /// Creates a file.
    pub(crate) fn create(&self) -> Result<(PathBuf, File)> {
        let mut directory = self.directory.lock().unwrap_or_else(PoisonError::into_inner);
        let path = match &*directory {
            Some(directory) => directory.path().to_owned(),
            None => {
                let made = TemporaryDirectory::create(self.parent());
                let made = made.map_err(|source| self.failed(source))?;
                let path = made.path().to_owned();
                *directory = Some(made);
                path
            }
        };
        drop(directory);
        let path = path.join(self.next.fetch_add(1, Relaxed).to_string());
        let mut options = File::options();
        options.read(true).write(true).create_new(true);
        let file = options.open(&path).map_err(|source| self.failed(source))?;
        self.expect_space(0)?;
        Ok((path, file))
    }

    /// Tells that bytes are about to be written.
    ///
    /// Errors: the disk has too little space for them.
    pub(crate) fn claim(&self, bytes: u64) -> Result<()> {
        let before = self.written.fetch_add(bytes, Relaxed);
        if before / STEP == (before + bytes) / STEP { Ok(()) } else { self.expect_space(bytes) }
    }

    #[cfg(unix)]
    fn expect_space(&self, bytes: u64) -> Result<()> {
        // A file system that does not report its space is trusted.
        let Ok(about) = rustix::fs::statvfs(self.parent()) else { return Ok(()) };
        let free = about.f_bavail.saturating_mul(about.f_frsize);
        if free >= bytes.saturating_add(RESERVE) {
            Ok(())
        } else {
            let free = free >> 20;
            let problem = format!("only {free} MiB are free for temporary files");
            Err(self.failed(io::Error::new(io::ErrorKind::StorageFull, problem)))
        }
    }

    #[cfg(not(unix))]
    fn expect_space(&self, _: u64) -> Result<()> {
        Ok(())
    }
}
