//! [`behind`]: writes to a file on a thread of its own, while the next bytes are made.

use std::{
    io::{self, Write},
    mem,
    panic::resume_unwind,
    sync::mpsc::{SyncSender, sync_channel},
    thread,
};

/// The bytes that are handed over at a time, at least.
const CHUNK: usize = 1 << 18;
/// The most chunks that wait.
const WAITING: usize = 4;

/// Writes the bytes that a function makes.
///
/// Errors: the error of the file. If there is none, the error of the function.
pub(super) fn behind(
    file: &mut (impl Write + Send),
    make: impl FnOnce(&mut dyn Write) -> io::Result<()>,
) -> io::Result<()> {
    let (send, receive) = sync_channel::<Vec<u8>>(WAITING);
    thread::scope(|scope| {
        let writer =
            scope.spawn(move || receive.into_iter().try_for_each(|chunk| file.write_all(&chunk)));
        let mut to = Behind { send, pending: Vec::new() };
        let made = make(&mut to).and_then(|()| to.flush());
        // The writer ends when nothing more can come.
        drop(to);
        let written = writer.join().unwrap_or_else(|panic| resume_unwind(panic));
        written.and(made)
    })
}

struct Behind {
    send: SyncSender<Vec<u8>>,
    pending: Vec<u8>,
}

impl Write for Behind {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.pending.extend_from_slice(bytes);
        if self.pending.len() >= CHUNK {
            self.flush()?;
        }
        Ok(bytes.len())
    }

    /// Hands the bytes over.
    fn flush(&mut self) -> io::Result<()> {
        let chunk = mem::replace(&mut self.pending, Vec::with_capacity(CHUNK));
        let stopped = |_| io::Error::other("the file could not be written");
        if chunk.is_empty() { Ok(()) } else { self.send.send(chunk).map_err(stopped) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A file that has room for some bytes.
    struct Room(Vec<u8>, usize);

    impl Write for Room {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            if self.0.len() + bytes.len() > self.1 {
                return Err(io::ErrorKind::StorageFull.into());
            }
            self.0.extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[rstest]
    #[case::nothing(0, 10)]
    #[case::short(3, 10)]
    #[case::long(10 * CHUNK + 7, 1_000)]
    #[case::large_pieces(10 * CHUNK + 7, 3 * CHUNK)]
    fn all_bytes_are_written_in_order(#[case] bytes: usize, #[case] at_once: usize) {
        let all: Vec<u8> = (0..bytes).map(|n| (n % 251) as u8).collect();
        let mut file = Room(Vec::new(), usize::MAX);
        behind(&mut file, |to| all.chunks(at_once).try_for_each(|bytes| to.write_all(bytes)))
            .unwrap();
        assert!(file.0 == all);
    }

    #[test]
    fn an_error_of_the_file_is_returned() {
        let mut file = Room(Vec::new(), 3 * CHUNK);
        let written = behind(&mut file, |to| {
            (0..1_000).try_for_each(|_| to.write_all(&[0; CHUNK])).map_err(io::Error::other)
        });
        assert_eq!(written.unwrap_err().kind(), io::ErrorKind::StorageFull);
    }

    #[test]
    fn an_error_of_what_makes_the_bytes_is_returned() {
        let mut file = Room(Vec::new(), usize::MAX);
        let written = behind(&mut file, |to| {
            to.write_all(b"some")?;
            Err(io::ErrorKind::InvalidData.into())
        });
        assert_eq!(written.unwrap_err().kind(), io::ErrorKind::InvalidData);
    }
}
