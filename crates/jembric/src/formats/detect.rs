//! Recognizes formats other than CSV by the first bytes.

use super::{batches::Columnar, json_lines, packing::Packing, sheet};
use crate::error::{Error, Result};
use std::{
    fs::File,
    io::{Read, Seek},
    path::Path,
};

/// The bytes that are needed to recognize a format.
pub(crate) const FIRST: u64 = 64;

/// The formats other than CSV.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Special {
    Packed(Packing),
    Columnar(Columnar),
    Workbook,
    JsonLines,
}

impl Special {
    pub(crate) fn recognize(first: &[u8]) -> Option<Special> {
        match (Packing::recognize(first), Columnar::recognize(first)) {
            (Some(packing), _) => Some(Special::Packed(packing)),
            (None, Some(format)) => Some(Special::Columnar(format)),
            _ if sheet::is_likely(first) => Some(Special::Workbook),
            _ if json_lines::is_likely(first) => Some(Special::JsonLines),
            _ => None,
        }
    }
}

/// The format of a file, if it is not CSV. A pipe cannot be inspected and then read from its
/// beginning, so it counts as CSV.
pub(crate) fn special(path: &Path) -> Result<Option<(File, Special)>> {
    // A pipe is not even opened, because its writer would lose its reader.
    let Some(mut file) = path.is_file().then(|| File::open(path).ok()).flatten() else {
        return Ok(None);
    };
    let failed = Error::read(&path.display().to_string());
    let mut first = Vec::new();
    file.by_ref().take(FIRST).read_to_end(&mut first).map_err(&failed)?;
    file.rewind().map_err(&failed)?;
    Ok(Special::recognize(&first).map(|kind| (file, kind)))
}
