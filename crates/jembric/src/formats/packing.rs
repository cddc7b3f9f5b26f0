//! How a file is compressed, and the limit on its unpacked size.

/// How a file is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Packing {
    Gzip,
    Zstd,
}

/// The default limit on the unpacked size: this many times the size of the file, but at least this
/// many bytes.
const TIMES: u64 = 200;
const AT_LEAST: u64 = 1 << 29;
/// The least memory of a cell.
pub(crate) const CELL: u64 = 8;
/// The default limit on columns.
pub(crate) const MOST_COLUMNS: u64 = 20_000;

/// The default limit for a file of this size.
pub(crate) fn most_unpacked(packed: u64, said: Option<u64>) -> u64 {
    said.unwrap_or_else(|| AT_LEAST.max(TIMES.saturating_mul(packed)))
}

impl Packing {
    /// Recognizes the compression by the first bytes.
    pub(crate) fn recognize(first: &[u8]) -> Option<Packing> {
        match first {
            [0x1F, 0x8B, ..] => Some(Packing::Gzip),
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Some(Packing::Zstd),
            _ => None,
        }
    }
}
