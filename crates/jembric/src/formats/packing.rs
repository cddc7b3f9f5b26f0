//! How a file is packed, and what it may unpack to.

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Packing {
    Gzip,
    Zstd,
}

/// What a file may unpack to if nothing is said: so many times its size, but at least so many
/// bytes.
const TIMES: u64 = 200;
const AT_LEAST: u64 = 1 << 29;
/// Bytes that a cell takes in memory at least.
pub(crate) const CELL: u64 = 8;
/// Columns that a file may have, if nothing is said.
pub(crate) const MOST_COLUMNS: u64 = 20_000;

/// What so many packed bytes may unpack to, where nothing else is said.
pub(crate) fn most_unpacked(packed: u64, said: Option<u64>) -> u64 {
    said.unwrap_or_else(|| AT_LEAST.max(TIMES.saturating_mul(packed)))
}

impl Packing {
    /// As the first bytes tell.
    pub(crate) fn of(first: &[u8]) -> Option<Packing> {
        match first {
            [0x1F, 0x8B, ..] => Some(Packing::Gzip),
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Some(Packing::Zstd),
            _ => None,
        }
    }
}
