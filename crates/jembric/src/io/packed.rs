//! Files that are packed with gzip or zstd.

use crate::error::{Error, Result};
use std::io::{self, Read, Write};

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Packing {
    Gzip,
    Zstd,
}

/// What a file may unpack to if nothing is said: so many times its size, but at least so many bytes.
const TIMES: u64 = 200;
const AT_LEAST: u64 = 1 << 28;
const BEGINNING: u64 = 1 << 20;

/// What so many packed bytes may unpack to, where nothing else is said.
pub(super) fn most_unpacked(packed: usize, said: Option<u64>) -> u64 {
    said.unwrap_or_else(|| AT_LEAST.max(TIMES * packed as u64))
}

impl Packing {
    /// As the first bytes tell.
    pub(super) fn of(first: &[u8]) -> Option<Packing> {
        match first {
            [0x1F, 0x8B, ..] => Some(Packing::Gzip),
            [0x28, 0xB5, 0x2F, 0xFD, ..] => Some(Packing::Zstd),
            _ => None,
        }
    }

    /// What a packed file holds. One that unpacks to more than this is refused.
    pub(super) fn unpack(self, name: &str, packed: &[u8], most: u64) -> Result<Vec<u8>> {
        let failed = |source| Error::Read { file: name.to_owned(), source, nearest: None };
        let mut bytes = Vec::new();
        let read = match self {
            Packing::Gzip => flate2::read::MultiGzDecoder::new(packed).take(most + 1).read_to_end(&mut bytes),
            Packing::Zstd => {
                let decoder = zstd::Decoder::new(packed).map_err(failed)?;
                decoder.take(most + 1).read_to_end(&mut bytes)
            }
        };
        match read.map_err(failed)? as u64 > most {
            true => Err(Error::Unpacks { file: name.to_owned(), packed: packed.len() as u64, most }),
            false => Ok(bytes),
        }
    }
}

/// What the beginning of a packed file holds: enough for a header.
pub(super) fn beginning(packing: Packing, packed: impl Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    match packing {
        Packing::Gzip => flate2::read::MultiGzDecoder::new(packed).take(BEGINNING).read_to_end(&mut bytes)?,
        Packing::Zstd => zstd::Decoder::new(packed)?.take(BEGINNING).read_to_end(&mut bytes)?,
    };
    Ok(bytes)
}

/// Packs what is written.
pub(super) enum Packer {
    Gzip(flate2::write::GzEncoder<Vec<u8>>),
    Zstd(zstd::Encoder<'static, Vec<u8>>),
}

impl Packer {
    pub(super) fn new(packing: Packing) -> io::Result<Packer> {
        Ok(match packing {
            Packing::Gzip => {
                Packer::Gzip(flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default()))
            }
            Packing::Zstd => Packer::Zstd(zstd::Encoder::new(Vec::new(), 0)?),
        })
    }

    /// What is packed by now.
    pub(super) fn ready(&mut self) -> Vec<u8> {
        match self {
            Packer::Gzip(encoder) => std::mem::take(encoder.get_mut()),
            Packer::Zstd(encoder) => std::mem::take(encoder.get_mut()),
        }
    }

    /// The rest.
    pub(super) fn finish(self) -> io::Result<Vec<u8>> {
        match self {
            Packer::Gzip(encoder) => encoder.finish(),
            Packer::Zstd(encoder) => encoder.finish(),
        }
    }
}

impl Write for Packer {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self {
            Packer::Gzip(encoder) => encoder.write(bytes),
            Packer::Zstd(encoder) => encoder.write(bytes),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}
