//! Reads bytes at any place of a file, without moving its position.

use std::{fs::File, io};

/// Fills the buffer from a place in the file; less only at its end.
pub(crate) fn read_at(file: &File, mut offset: u64, mut buffer: &mut [u8]) -> io::Result<usize> {
    let mut total = 0;
    while !buffer.is_empty() {
        #[cfg(unix)]
        let read = std::os::unix::fs::FileExt::read_at(file, buffer, offset);
        #[cfg(windows)]
        let read = std::os::windows::fs::FileExt::seek_read(file, buffer, offset);
        match read {
            Ok(0) => break,
            Ok(n) => {
                total += n;
                offset += n as u64;
                buffer = &mut buffer[n..];
            }
            Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
            Err(error) => return Err(error),
        }
    }
    Ok(total)
}
