//! [`Journal`]: the files that a run is about to put in place, so that the next run can finish it.
//!
//! It is a JSON Lines file beside the routine, locked by the process that writes it. The first line
//! names the process. A line with a temporary file and its target is written before each temporary
//! file. The line `{"placing":true}` follows once all of them are complete and on the disk. Whoever
//! finds the journal of a dead process therefore knows what to do: with that last line, rename the
//! files that still have temporary names; without it, remove the temporary files, and all targets
//! are unchanged.

use crate::{
    disk::{
        process::Process,
        temporary::{Live, live},
    },
    error::{Error, Result},
};
use serde::{Deserialize, Serialize};
use std::{
    fs,
    io::{self, Read, Write},
    path::{Path, PathBuf},
};

#[derive(Debug)]
pub(super) struct Journal {
    path: PathBuf,
    pub(super) file: fs::File,
    is_done: bool,
}

#[derive(Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", untagged, deny_unknown_fields)]
enum Line {
    Process { process: String },
    File { temporary: PathBuf, target: PathBuf },
    Placing { placing: bool },
}

/// The journal of a routine.
pub(super) fn path_of(routine: &Path) -> PathBuf {
    let name = routine.file_name().unwrap_or_default().to_string_lossy();
    let path = routine.with_file_name(format!(".{name}.jembric-journal"));
    std::path::absolute(&path).unwrap_or(path)
}

impl Journal {
    /// Starts a journal; none if its directory is not writable. What a dead process has left is
    /// settled before.
    pub(super) fn create(path: PathBuf) -> Result<Option<Journal>> {
        let file = match locked(&path, true) {
            Err(error) if may_be_without(&error) => return Ok(None),
            found => found.map_err(Error::write(path.display()))?,
        };
        let Lock::Held(file) = file else { return Err(in_use(&path)) };
        settle_lines(&file, &path)?;
        file.set_len(0).map_err(Error::write(path.display()))?;
        live().journals.insert(path.clone());
        let mut journal = Journal { path, file, is_done: false };
        journal.line(&Line::Process { process: Process::this().to_string() })?;
        Ok(Some(journal))
    }

    fn line(&mut self, line: &Line) -> Result<()> {
        let written = serde_json::to_vec(line).map_err(io::Error::from).and_then(|mut text| {
            text.push(b'\n');
            self.file.write_all(&text)?;
            self.file.sync_data()
        });
        written.map_err(Error::write(self.path.display()))
    }

    /// Records that a temporary file will be made for a target.
    pub(super) fn begin(&mut self, temporary: &Path, target: &Path) -> Result<()> {
        // The next run may start in another directory.
        let full = |path: &Path| std::path::absolute(path).unwrap_or_else(|_| path.to_owned());
        self.line(&Line::File { temporary: full(temporary), target: full(target) })
    }

    /// Records that all files are complete and on the disk.
    pub(super) fn placing(&mut self) -> Result<()> {
        self.line(&Line::Placing { placing: true })
    }

    /// Removes the journal once all files have their names.
    pub(super) fn remove(mut self, live: &mut Live) -> Result<()> {
        self.is_done = true;
        live.journals.remove(&self.path);
        fs::remove_file(&self.path).map_err(Error::write(self.path.display()))
    }

    /// Leaves the journal for the next run, which puts the other files in place.
    pub(super) fn leave(mut self, live: &mut Live) {
        self.is_done = true;
        live.journals.remove(&self.path);
    }
}

impl Drop for Journal {
    fn drop(&mut self) {
        if !self.is_done {
            let _ = fs::remove_file(&self.path);
            live().journals.remove(&self.path);
        }
    }
}

fn may_be_without(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem)
}

fn in_use(path: &Path) -> Error {
    Error::Settings(format!(
        "{}: another process is running this routine. Wait until it is done; if it runs on \
            another machine and is known to have \
         ended, remove this file",
        path.display()
    ))
}

/// A journal that was opened.
enum Lock {
    /// No other process has it.
    Held(fs::File),
    /// Another process has it.
    OfAnother,
}

/// Opens the journal and locks it until it is closed, so that two processes never share it.
fn locked(path: &Path, create: bool) -> io::Result<Lock> {
    loop {
        let file = fs::OpenOptions::new().read(true).append(true).create(create).open(path)?;
        match file.try_lock() {
            Err(fs::TryLockError::WouldBlock) => return Ok(Lock::OfAnother),
            // On file systems without locks, the process in the journal decides alone.
            Err(fs::TryLockError::Error(error)) if error.kind() != io::ErrorKind::Unsupported => {
                return Err(error);
            }
            _ => {}
        }
        // The process that had it may have removed it since it was opened.
        let ours = same_file::Handle::from_file(file.try_clone()?)?;
        match same_file::Handle::from_path(path) {
            Ok(there) if there == ours => return Ok(Lock::Held(file)),
            Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
}

/// Finishes or undoes the work of a dead process.
pub(super) fn settle(path: &Path) -> Result<()> {
    match locked(path, false) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
        Err(source) => Err(Error::Read { file: path.display().to_string(), source, nearest: None }),
        Ok(Lock::OfAnother) => Err(in_use(path)),
        Ok(Lock::Held(file)) => {
            settle_lines(&file, path)?;
            fs::remove_file(path).map_err(Error::write(path.display()))
        }
    }
}

/// Finishes or undoes what the lines of a journal say.
fn settle_lines(mut file: &fs::File, path: &Path) -> Result<()> {
    let mut text = String::new();
    let unread = Error::read(&path.display().to_string());
    file.read_to_string(&mut text).map_err(unread)?;
    // Ignore an incomplete last line, because its work had not begun.
    let lines: Vec<Line> = text.lines().map_while(|line| serde_json::from_str(line).ok()).collect();
    let owner = lines.iter().find_map(|line| match line {
        Line::Process { process } => process.parse::<Process>().ok(),
        _ => None,
    });
    if owner.is_some_and(|owner| !owner.is_dead()) {
        return Err(in_use(path));
    }
    let is_complete = lines.iter().any(|line| matches!(line, Line::Placing { placing: true }));
    for line in &lines {
        let Line::File { temporary, target } = line else { continue };
        let settled =
            if is_complete { fs::rename(temporary, target) } else { fs::remove_file(temporary) };
        match settled {
            // It was renamed before the process ended, or had not been begun.
            Err(error) if error.kind() == io::ErrorKind::NotFound => {}
            settled => settled.map_err(Error::write(target.display()))?,
        }
    }
    Ok(())
}
