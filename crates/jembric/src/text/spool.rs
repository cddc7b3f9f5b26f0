//! Temporary files that are written from their beginning to their end, and then read.

use super::file_bytes::FileBytes;
use crate::{
    data::memory::Memory,
    error::{Error, Result},
};
use std::{
    fs::File,
    io::{self, Read, Seek, Write},
};

/// The bytes that are copied at a time.
const STEP: usize = 1 << 20;

/// A temporary file.
pub(crate) struct Spool<'a> {
    memory: &'a Memory,
    file: File,
}

impl<'a> Spool<'a> {
    pub(crate) fn create(memory: &'a Memory) -> Result<Spool<'a>> {
        let (path, file) = memory.scratch().create()?;
        // Where a file may be removed while it is open, it goes with its handle. Elsewhere it goes
        // with the directory.
        let _ = std::fs::remove_file(path);
        Ok(Spool { memory, file })
    }

    pub(crate) fn write(&mut self, bytes: &[u8]) -> Result<()> {
        self.memory.scratch().claim(bytes.len() as u64)?;
        self.file.write_all(bytes).map_err(|source| self.memory.scratch().failed(source))
    }

    /// The file at its beginning.
    pub(crate) fn finish(mut self) -> Result<File> {
        self.file.rewind().map_err(|source| self.memory.scratch().failed(source))?;
        Ok(self.file)
    }
}

/// Writes a stream to a temporary file, and returns the file at its beginning.
pub(crate) fn spooled(name: &str, mut stream: impl Read, memory: &Memory) -> Result<File> {
    let mut spool = Spool::create(memory)?;
    let mut buffer = vec![0; STEP];
    loop {
        let read = match stream.read(&mut buffer) {
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            read => read.map_err(Error::read(name))?,
        };
        if read == 0 {
            return spool.finish();
        }
        spool.write(&buffer[..read])?;
    }
}

/// Text that is kept in memory while it is short, and in a temporary file when it is long.
pub(crate) struct LongText<'a> {
    memory: &'a Memory,
    kept: Vec<u8>,
    spool: Option<Spool<'a>>,
}

impl<'a> LongText<'a> {
    pub(crate) fn new(memory: &'a Memory) -> LongText<'a> {
        LongText { memory, kept: Vec::new(), spool: None }
    }

    /// Adds text.
    ///
    /// Errors: the temporary file cannot be written.
    pub(crate) fn write(&mut self, bytes: &[u8]) -> Result<()> {
        if let Some(spool) = &mut self.spool {
            return spool.write(bytes);
        }
        if (self.kept.len() + bytes.len()) as u64 <= self.memory.buffers() {
            self.kept.extend_from_slice(bytes);
            return Ok(());
        }
        let spool = self.spool.insert(Spool::create(self.memory)?);
        spool.write(&std::mem::take(&mut self.kept))?;
        spool.write(bytes)
    }

    /// The whole text; `name` is that of its source.
    pub(crate) fn finish(self, name: &str) -> Result<FileBytes> {
        let memory = self.memory;
        match self.spool {
            None => Ok(FileBytes::memory(name.to_owned(), self.kept)),
            Some(spool) => {
                FileBytes::as_it_is(name, spool.finish()?).map_err(|source: Error| match source {
                    Error::Read { source, .. } => memory.scratch().failed(source),
                    other => other,
                })
            }
        }
    }
}

#[cfg(test)]
mod tests;
