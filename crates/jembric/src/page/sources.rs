//! [`Sources`]: the files that a routine reads, with their sizes and checksums.

use crate::{
    Error, Result,
    error::Error::Changed,
    steps::{Contents, Files},
    uri::shown_name,
};
use sha2::{Digest, Sha256};
use std::{
    fs,
    io::{self, Read},
    path::{Path, PathBuf},
    time::SystemTime,
};

/// The files that a routine reads.
#[derive(Debug)]
pub(crate) struct Sources(pub(super) Vec<Source>);

/// A file that a routine reads.
#[derive(Debug)]
pub(super) struct Source {
    /// Its name in the routine, without a password.
    pub(super) name: String,
    /// Its size in bytes and its SHA-256; none for a stream, which cannot be read twice.
    pub(super) bytes: Option<(u64, String)>,
    /// The rows that were read, if it is a table of records.
    pub(super) rows: Option<usize>,
    /// The file and the time of its last change.
    file: Option<(PathBuf, u64, Option<SystemTime>)>,
}

impl Sources {
    /// Computes the checksums of files. Cost: one pass over their bytes.
    ///
    /// Errors: a file cannot be read.
    pub(crate) fn from_files<'a>(
        names: impl Iterator<Item = &'a str>,
        files: &dyn Files,
    ) -> Result<Sources> {
        let mut sources: Vec<Source> = Vec::new();
        for name in names {
            let shown = shown_name(name);
            if sources.iter().any(|source| source.name == shown) {
                continue;
            }
            // A stream cannot be read twice.
            let contents = if name == "-" { None } else { files.contents(name) };
            let (bytes, file) = match contents {
                Some(Contents::File(path)) => {
                    let failed = |source| Error::Read {
                        file: path.display().to_string(),
                        source,
                        nearest: None,
                    };
                    let about = fs::metadata(&path).map_err(failed)?;
                    // A pipe or a device has no bytes of its own.
                    if about.is_file() {
                        let sum = fs::File::open(&path).and_then(checksum).map_err(failed)?;
                        let (length, modified) = (about.len(), about.modified().ok());
                        (Some((length, sum)), Some((path, length, modified)))
                    } else {
                        (None, None)
                    }
                }
                Some(Contents::Bytes(bytes)) => {
                    let sum = checksum(&*bytes).map_err(|source| Error::Read {
                        file: name.to_owned(),
                        source,
                        nearest: None,
                    })?;
                    (Some((bytes.len() as u64, sum)), None)
                }
                None => (None, None),
            };
            sources.push(Source { name: shown, bytes, rows: None, file });
        }
        Ok(Sources(sources))
    }

    /// Adds the rows that were read from a file.
    pub(crate) fn read(&mut self, name: &str, rows: usize) {
        let name = shown_name(name);
        if let Some(source) = self.0.iter_mut().find(|source| source.name == name) {
            source.rows = Some(rows);
        }
    }

    /// Errors: a file has changed since its checksum was computed.
    pub(crate) fn expect_unchanged(&self) -> Result<()> {
        for (path, length, modified) in self.0.iter().filter_map(|source| source.file.as_ref()) {
            let about = fs::metadata(path).ok();
            let is_same = about
                .is_some_and(|about| about.len() == *length && about.modified().ok() == *modified);
            if !is_same {
                return Err(Changed { file: path.display().to_string() });
            }
        }
        Ok(())
    }
}

/// The SHA-256 of some bytes, as hexadecimal digits.
fn checksum(mut from: impl Read) -> io::Result<String> {
    let mut sum = Sha256::new();
    let mut buffer = vec![0; 1 << 16];
    loop {
        match from.read(&mut buffer)? {
            0 => return Ok(sum.finalize().iter().map(|byte| format!("{byte:02x}")).collect()),
            count => sum.update(&buffer[..count]),
        }
    }
}

/// The URL of a file relative to the page's directory. Its special characters are escaped, so that
/// no name can be a scheme.
pub(super) fn link(file: &Path, page: &Path) -> Option<String> {
    use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
    const KEPT: AsciiSet =
        NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~').remove(b'/');
    let directory = std::path::absolute(page).ok()?.parent()?.to_owned();
    let path = pathdiff::diff_paths(std::path::absolute(file).ok()?, directory)?;
    let path = path.to_string_lossy().replace('\\', "/");
    Some(utf8_percent_encode(&path, &KEPT).to_string())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::steps::Disk;
    use rstest::rstest;

    #[test]
    fn a_file_has_its_size_and_checksum_and_must_not_change() {
        let directory = tempfile::tempdir().unwrap();
        fs::write(directory.path().join("a.csv"), "abc").unwrap();
        let files = Disk::in_directory(directory.path());
        let sources = Sources::from_files(["a.csv", "-", "a.csv"].into_iter(), &files).unwrap();
        let [file, stream] = &sources.0[..] else { panic!("a file is listed once") };
        // The example of FIPS 180-2, section B.1.
        let sum = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(file.bytes, Some((3, sum.to_owned())));
        assert_eq!(stream.bytes, None);
        sources.expect_unchanged().unwrap();
        fs::write(directory.path().join("a.csv"), "abcd").unwrap();
        let error = sources.expect_unchanged().unwrap_err().to_string();
        assert!(error.contains("a.csv: the file changed while it was in use"), "{error}");
    }

    #[rstest]
    #[case("out/a b.csv", "out/a%20b.csv")]
    #[case("javascript:alert(1)", "javascript%3Aalert%281%29")]
    #[case("../up.csv", "../up.csv")]
    #[case("a?b#c.csv", "a%3Fb%23c.csv")]
    fn a_link_is_relative_and_has_no_scheme(#[case] file: &str, #[case] url: &str) {
        let directory = Path::new("/reports");
        assert_eq!(link(&directory.join(file), &directory.join("r.html")).unwrap(), url);
    }
}
