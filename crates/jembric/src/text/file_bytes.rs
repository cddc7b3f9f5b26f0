//! Bytes that can be read in pieces, in any order and on any thread: a file, or memory.

use super::spool::Spool;
use crate::{
    data::memory::Memory,
    disk::read_at::read_at,
    error::{Error, Result},
    uri::shown_name,
};
use encoding_rs::{Decoder, DecoderResult, Encoding, UTF_8, UTF_16BE, UTF_16LE};
use memchr::memchr;
use std::{
    fs::File,
    io::{self, Read, Seek},
    path::Path,
    time::SystemTime,
};

/// UTF-8 bytes, without a byte-order mark.
#[derive(Debug)]
pub(crate) struct FileBytes {
    pub(crate) name: String,
    bytes: Bytes,
    len: u64,
    /// The bytes before the first one that counts.
    skip: u64,
}

#[derive(Debug)]
enum Bytes {
    File(File),
    Memory(Vec<u8>),
}

impl FileBytes {
    /// Opens a file. A pipe, or a file that is not UTF-8, is read into memory.
    pub(crate) fn file(path: &Path, encoding: Option<&'static Encoding>) -> Result<FileBytes> {
        let name = shown_name(&path.display().to_string());
        let failed =
            |source| Error::Read { file: name.clone(), source, nearest: nearest_file(path) };
        let file = File::open(path).map_err(&failed)?;
        let about = file.metadata().map_err(&failed)?;
        if about.is_dir() {
            return Err(Error::Directory { file: name });
        }
        if !about.is_file() {
            return FileBytes::stream(name, file, encoding);
        }
        FileBytes::open(&name, file, encoding, None)
    }

    /// A file that can be read as it is; none if it is not UTF-8, or ends lines with carriage
    /// returns.
    pub(crate) fn as_utf8(
        path: &Path,
        encoding: Option<&'static Encoding>,
    ) -> Result<Option<FileBytes>> {
        let name = path.display().to_string();
        let failed = Error::read(&name);
        let file = File::open(path).map_err(&failed)?;
        let len = file.metadata().map_err(&failed)?.len();
        let mut first = [0; FIRST];
        let found = read_at(&file, 0, &mut first).map_err(&failed)?;
        let (first, mark) = (&first[..found], Encoding::for_bom(&first[..found]));
        let found = encoding.or(mark.map(|(marked, _)| marked)).or_else(|| without_mark(first));
        let others = found.into_iter().chain(mark.map(|(marked, _)| marked));
        if others.into_iter().any(|encoding| encoding != UTF_8) {
            return Ok(None);
        }
        let skip = mark.map_or(0, |(_, len)| len as u64);
        let source = FileBytes { name, bytes: Bytes::File(file), len, skip };
        Ok((!source.ends_lines_with_returns()?).then_some(source))
    }

    /// Reads an open file in pieces. If it is not UTF-8, or ends lines with carriage returns, it is
    /// converted in memory; or in a temporary file if it is large and memory is limited.
    pub(crate) fn open(
        name: &str,
        file: File,
        encoding: Option<&'static Encoding>,
        memory: Option<&Memory>,
    ) -> Result<FileBytes> {
        let name = name.to_owned();
        let failed = Error::read(&name);
        let len = file.metadata().map_err(&failed)?.len();
        let memory = memory.filter(|memory| len > memory.whole());
        let mut first = [0; FIRST];
        let found = read_at(&file, 0, &mut first).map_err(&failed)?;
        let (first, mark) = (&first[..found], Encoding::for_bom(&first[..found]));
        let found = encoding.or(mark.map(|(marked, _)| marked)).or_else(|| without_mark(first));
        if found.is_some_and(|encoding| encoding != UTF_8)
            || mark.is_some_and(|(marked, _)| marked != UTF_8)
        {
            let Some(memory) = memory else { return FileBytes::stream(name, file, found) };
            let encoding = found.unwrap_or(UTF_8);
            let source = FileBytes::converted(name, file, (encoding, false), memory)?;
            return match (source.ends_lines_with_returns()?, source.bytes) {
                (true, Bytes::File(file)) => {
                    FileBytes::converted(source.name, file, (UTF_8, true), memory)
                }
                (_, bytes) => Ok(FileBytes { bytes, ..source }),
            };
        }
        let skip = mark.map_or(0, |(_, len)| len as u64);
        let source = FileBytes { name, bytes: Bytes::File(file), len, skip };
        if !source.ends_lines_with_returns()? {
            return Ok(source);
        }
        match (memory, source.bytes) {
            (Some(memory), Bytes::File(file)) => {
                FileBytes::converted(source.name, file, (UTF_8, true), memory)
            }
            (_, bytes) => {
                let source = FileBytes { bytes, ..source };
                Ok(source.with_line_feeds(source.bytes(0, source.len(), &mut Vec::new())?))
            }
        }
    }

    /// Converts a file to UTF-8 in a temporary file. With `feeds`, carriage returns become line
    /// feeds.
    fn converted(
        name: String,
        mut file: File,
        (encoding, feeds): (&'static Encoding, bool),
        memory: &Memory,
    ) -> Result<FileBytes> {
        let failed = Error::read(&name);
        file.rewind().map_err(&failed)?;
        let mut bytes = vec![0; STEP];
        let mut filled = 0;
        let mut spool = Spool::create(memory)?;
        let mut converter = Converter::new(&name, encoding);
        let mut converted = Vec::new();
        loop {
            let read = file.read(&mut bytes[filled..]).map_err(&failed)?;
            filled += read;
            if filled < bytes.len() && read > 0 {
                continue;
            }
            converter.convert(&bytes[..filled], read == 0, &mut converted)?;
            if feeds {
                let returns = converted.iter_mut().filter(|byte| **byte == b'\r');
                returns.for_each(|byte| *byte = b'\n');
            }
            spool.write(&converted)?;
            converted.clear();
            filled = 0;
            if read == 0 {
                break;
            }
        }
        let file = spool.finish()?;
        let len = file.metadata().map_err(|source| memory.scratch().failed(source))?.len();
        Ok(FileBytes { name, bytes: Bytes::File(file), len, skip: 0 })
    }

    /// Reads a stream into memory.
    pub(crate) fn stream(
        name: String,
        mut stream: impl Read,
        encoding: Option<&'static Encoding>,
    ) -> Result<FileBytes> {
        let mut bytes = Vec::new();
        stream.read_to_end(&mut bytes).map_err(|source| Error::Read {
            file: name.clone(),
            source,
            nearest: None,
        })?;
        let (marked, mark) =
            Encoding::for_bom(&bytes).map_or((None, 0), |(encoding, len)| (Some(encoding), len));
        let unmarked = || without_mark(&bytes[..bytes.len().min(FIRST)]);
        let encoding = encoding.or(marked).or_else(unmarked).unwrap_or(UTF_8);
        let mut mark = if marked == Some(encoding) { mark } else { 0 };
        if encoding != UTF_8 {
            let mut text = Vec::new();
            Converter::new(&name, encoding).convert(&bytes, true, &mut text)?;
            bytes = text;
            mark = 0;
        }
        let source = FileBytes {
            name,
            len: bytes.len() as u64,
            bytes: Bytes::Memory(bytes),
            skip: mark as u64,
        };
        match (source.ends_lines_with_returns()?, &source.bytes) {
            (true, Bytes::Memory(bytes)) => Ok(source.with_line_feeds(&bytes[mark..])),
            _ => Ok(source),
        }
    }

    /// Whether lines end in carriage returns only: the text has one, and no line feed.
    ///
    /// If there is a line feed near the beginning, the rest is not searched.
    fn ends_lines_with_returns(&self) -> Result<bool> {
        let (mut from, mut step, mut buffer, mut returns) = (0, 1 << 14, Vec::new(), false);
        while from < self.len() {
            let to = self.len().min(from + step);
            let bytes = self.bytes(from, to, &mut buffer)?;
            if memchr(b'\n', bytes).is_some() {
                return Ok(false);
            }
            returns |= memchr(b'\r', bytes).is_some();
            (from, step) = (to, 1 << 20);
        }
        Ok(returns)
    }

    /// The same text with line feeds for carriage returns, in memory.
    fn with_line_feeds(&self, text: &[u8]) -> FileBytes {
        let bytes = text.iter().map(|&byte| if byte == b'\r' { b'\n' } else { byte }).collect();
        FileBytes::memory(self.name.clone(), bytes)
    }

    /// Reads an open file of UTF-8 in pieces.
    pub(crate) fn as_it_is(name: &str, file: File) -> Result<FileBytes> {
        let name = name.to_owned();
        match file.metadata() {
            Ok(about) => {
                Ok(FileBytes { name, len: about.len(), bytes: Bytes::File(file), skip: 0 })
            }
            Err(source) => Err(Error::Read { file: name, source, nearest: None }),
        }
    }

    /// Bytes in memory, all of which count.
    pub(crate) fn memory(name: String, bytes: Vec<u8>) -> FileBytes {
        FileBytes { name, len: bytes.len() as u64, bytes: Bytes::Memory(bytes), skip: 0 }
    }

    /// The bytes, if they are in memory.
    pub(crate) fn into_memory(self) -> Vec<u8> {
        match self.bytes {
            Bytes::Memory(bytes) => bytes,
            Bytes::File(_) => Vec::new(),
        }
    }

    /// The size and the time of the last change, if it is a file.
    pub(crate) fn stamp(&self) -> Result<Option<Stamp>> {
        let Bytes::File(file) = &self.bytes else { return Ok(None) };
        stamp_of(file).map(Some).map_err(|source| Error::Read {
            file: self.name.clone(),
            source,
            nearest: None,
        })
    }

    /// The number of bytes.
    pub(crate) fn len(&self) -> u64 {
        self.len - self.skip
    }

    /// The place of a byte in the file itself, from 1.
    pub(crate) fn place(&self, offset: u64) -> u64 {
        offset + self.skip + 1
    }

    /// The bytes between two places, read into the buffer unless they are in memory.
    pub(crate) fn bytes<'a>(
        &'a self,
        from: u64,
        to: u64,
        buffer: &'a mut Vec<u8>,
    ) -> Result<&'a [u8]> {
        let (from, to) = (from + self.skip, to + self.skip);
        match &self.bytes {
            Bytes::Memory(bytes) => Ok(&bytes[from as usize..to as usize]),
            Bytes::File(file) => {
                let len = (to - from) as usize;
                if buffer.len() < len {
                    buffer.resize(len, 0);
                }
                let read = read_at(file, from, &mut buffer[..len]).and_then(|read| {
                    if read == len {
                        Ok(())
                    } else {
                        Err(io::Error::new(
                            io::ErrorKind::UnexpectedEof,
                            "the file became shorter while it was read",
                        ))
                    }
                });
                read.map_err(|source| Error::Read {
                    file: self.name.clone(),
                    source,
                    nearest: None,
                })?;
                Ok(&buffer[..len])
            }
        }
    }
}

/// The size of a file and the time of its last change, if the system reports it.
pub(crate) type Stamp = (u64, Option<SystemTime>);

pub(crate) fn stamp_of(file: &File) -> io::Result<Stamp> {
    let about = file.metadata()?;
    Ok((about.len(), about.modified().ok()))
}

/// The bytes that are converted at a time.
const STEP: usize = 1 << 20;
/// The bytes that show an encoding without a mark.
const FIRST: usize = 256;

/// UTF-16 without a byte-order mark: in text with mostly Latin letters every second byte is 0, and
/// the others never are. A complete text has an even number of bytes.
fn without_mark(first: &[u8]) -> Option<&'static Encoding> {
    let (pairs, odd) = first.as_chunks::<2>();
    if !odd.is_empty() {
        return None;
    }
    let count = |place: usize| pairs.iter().filter(|pair| pair[place] == 0).count();
    match (count(0), count(1)) {
        (0, high) if pairs.len() > 1 && 2 * high > pairs.len() => Some(UTF_16LE),
        (high, 0) if pairs.len() > 1 && 2 * high > pairs.len() => Some(UTF_16BE),
        _ => None,
    }
}

/// Converts text to UTF-8, piece by piece.
struct Converter<'a> {
    name: &'a str,
    decoder: Decoder,
    /// The bytes before the piece, and the line on which it begins.
    before: u64,
    line: u64,
}

impl<'a> Converter<'a> {
    fn new(name: &'a str, encoding: &'static Encoding) -> Converter<'a> {
        Converter { name, decoder: encoding.new_decoder_with_bom_removal(), before: 0, line: 1 }
    }

    /// Adds the text of a piece.
    ///
    /// Errors: bytes that are not text in the encoding.
    fn convert(&mut self, piece: &[u8], is_last: bool, text: &mut Vec<u8>) -> Result<()> {
        let start = text.len();
        let most = self.decoder.max_utf8_buffer_length_without_replacement(piece.len());
        text.resize(start + most.unwrap_or(piece.len() * 3 + 16), 0);
        let (result, read, written) =
            self.decoder.decode_to_utf8_without_replacement(piece, &mut text[start..], is_last);
        text.truncate(start + written);
        self.line += memchr::memchr_iter(b'\n', &text[start..]).count() as u64;
        let bad = match result {
            DecoderResult::InputEmpty => {
                self.before += piece.len() as u64;
                return Ok(());
            }
            // The bad bytes may have begun in the piece before.
            DecoderResult::Malformed(len, behind) => {
                read as i64 - i64::from(len) - i64::from(behind)
            }
            DecoderResult::OutputFull => read as i64,
        };
        let value = usize::try_from(bad).ok().and_then(|bad| piece.get(bad));
        Err(Error::NotText {
            file: self.name.to_owned(),
            line: self.line,
            byte: (self.before as i64 + bad + 1) as u64,
            value: value.copied().unwrap_or_default(),
            encoding: self.decoder.encoding().name(),
        })
    }
}

/// A file with a similar name in the same directory.
pub(crate) fn nearest_file(path: &Path) -> Option<String> {
    let wanted = path.file_name()?.to_string_lossy().into_owned();
    if wanted.len() > 255 {
        return None;
    }
    let directory =
        path.parent().filter(|parent| !parent.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let names = directory
        .read_dir()
        .ok()?
        .filter_map(|entry| Some(entry.ok()?.file_name().to_string_lossy().into_owned()));
    let distances = names.map(|name| {
        (strsim::damerau_levenshtein(&wanted.to_lowercase(), &name.to_lowercase()), name)
    });
    distances.filter(|(distance, _)| (1..=2).contains(distance)).min().map(|(_, name)| name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain(b"abcdef", None, "abcdef")]
    #[case::marked(b"\xef\xbb\xbfabcdef", None, "abcdef")]
    #[case::marked_and_said(b"\xef\xbb\xbfabcdef", Some("utf-8"), "abcdef")]
    #[case::utf_16(b"\xfe\xff\0a\0b", None, "ab")]
    #[case::utf_16_without_a_mark(b"a\0,\0\xf6\0", None, "a,\u{f6}")]
    #[case::utf_16_the_other_way(b"\0a\0,\0b\x20\xac", None, "a,b\u{20ac}")]
    #[case::returns_alone(b"a\rb\r", None, "a\nb\n")]
    #[case::returns_and_feeds(b"a\rb\n", None, "a\rb\n")]
    #[case::windows(b"M\xf6we", Some("windows-1252"), "M\u{f6}we")]
    #[case::not_a_mark_there(b"\xef\xbb\xbf", Some("windows-1252"), "\u{ef}\u{bb}\u{bf}")]
    fn a_file_and_a_stream_give_the_same_bytes(
        #[case] bytes: &[u8],
        #[case] encoding: Option<&str>,
        #[case] text: &str,
    ) {
        let encoding = encoding.and_then(|name| Encoding::for_label(name.as_bytes()));
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), bytes).unwrap();
        for source in [
            FileBytes::file(file.path(), encoding).unwrap(),
            FileBytes::stream("t".to_owned(), bytes, encoding).unwrap(),
        ] {
            let mut buffer = Vec::new();
            assert_eq!(source.bytes(0, source.len(), &mut buffer).unwrap(), text.as_bytes());
            assert_eq!(source.bytes(1, 2, &mut buffer).unwrap(), &text.as_bytes()[1..2]);
        }
    }

    #[test]
    fn a_file_that_shrinks_is_an_error_and_not_less_data() {
        let file = tempfile::NamedTempFile::new().unwrap();
        std::fs::write(file.path(), "a,b\n1,2\n").unwrap();
        let source = FileBytes::file(file.path(), None).unwrap();
        std::fs::write(file.path(), "a,b\n").unwrap();
        let error = source.bytes(0, source.len(), &mut Vec::new()).unwrap_err().to_string();
        assert!(error.ends_with("the file became shorter while it was read"), "{error}");
    }

    #[cfg(unix)]
    #[test]
    fn a_pipe_with_a_name_is_read_to_its_end() {
        let directory = tempfile::tempdir().unwrap();
        let path = directory.path().join("pipe");
        assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
        let writing = path.clone();
        let writer = std::thread::spawn(move || std::fs::write(writing, "a\n1\n").unwrap());
        assert_eq!(crate::io::read(&path).unwrap().rows(), 1);
        writer.join().unwrap();
    }
}
