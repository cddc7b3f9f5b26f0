//! Text comes back as it was written, from memory or from a temporary file.

use super::*;
use proptest::prelude::*;
use std::fs;

fn all(bytes: &FileBytes) -> Vec<u8> {
    bytes.bytes(0, bytes.len(), &mut Vec::new()).unwrap().to_vec()
}

proptest! {
    #[test]
    fn a_text_is_the_same_wherever_it_is(
        pieces in prop::collection::vec("[a-z\n]{0,40}", 0..12),
        budget in 1..2_000_u64,
    ) {
        let directory = tempfile::tempdir().unwrap();
        let memory = Memory::limited(budget, directory.path());
        let mut text = LongText::new(&memory);
        pieces.iter().try_for_each(|piece| text.write(piece.as_bytes())).unwrap();
        let written = pieces.concat();
        let bytes = text.finish("stays.jsonl").unwrap();
        prop_assert_eq!(all(&bytes), written.as_bytes());
        prop_assert_eq!(bytes.name.as_str(), "stays.jsonl");
        let fits = written.len() as u64 <= memory.buffers();
        prop_assert_eq!(memory.spilled(), if fits { 0 } else { written.len() as u64 });
    }
}

#[test]
fn without_a_limit_nothing_is_written() {
    let memory = Memory::unlimited();
    let mut text = LongText::new(&memory);
    (0..1_000).try_for_each(|_| text.write(&[b'a'; 1_000])).unwrap();
    assert_eq!(text.finish("stays").unwrap().len(), 1_000_000);
    assert_eq!(memory.spilled(), 0);
}

#[test]
fn a_stream_is_written_as_it_is_and_leaves_nothing_behind() {
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1, directory.path());
    let text = "a\r\nb\u{fc}".repeat(300_000);
    let mut file = spooled("pipe", text.as_bytes(), &memory).unwrap();
    let mut read = String::new();
    file.read_to_string(&mut read).unwrap();
    assert!(read == text, "{} and {} bytes", read.len(), text.len());
    drop((file, memory));
    assert_eq!(fs::read_dir(directory.path()).unwrap().count(), 0);
}

#[test]
fn a_stream_that_breaks_off_is_an_error_of_its_source() {
    struct Broken;
    impl Read for Broken {
        fn read(&mut self, _: &mut [u8]) -> io::Result<usize> {
            Err(io::ErrorKind::ConnectionReset.into())
        }
    }
    let directory = tempfile::tempdir().unwrap();
    let memory = Memory::limited(1, directory.path());
    let error = spooled("pipe", (&b"a\n1\n"[..]).chain(Broken), &memory).unwrap_err();
    assert!(error.to_string().starts_with("pipe: "), "{error}");
    let error = Spool::create(&Memory::limited(1, directory.path().join("none"))).map(drop);
    assert!(matches!(error, Err(Error::Scratch { .. })), "{error:?}");
}
