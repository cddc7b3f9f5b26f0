//! Files that are compressed with gzip or zstd.

use super::packing::Packing;
use crate::error::{Error, Result};
use std::io::{self, Read, Write};

/// The bytes that contain a header.
const BEGINNING: u64 = 1 << 20;

/// Unpacks a file. A file that unpacks to more than the limit is refused.
pub(crate) fn unpacked(packing: Packing, name: &str, packed: &[u8], most: u64) -> Result<Vec<u8>> {
    let failed = Error::read(name);
    let mut bytes = Vec::new();
    let decoder = unpacking(packing, packed).map_err(&failed)?;
    let read = decoder.take(most.saturating_add(1)).read_to_end(&mut bytes);
    if read.map_err(&failed)? as u64 > most {
        Err(Error::Unpacks { file: name.to_owned(), packed: packed.len() as u64, most })
    } else {
        Ok(bytes)
    }
}

/// Unpacks a stream while it is read.
pub(crate) fn unpacking<'a>(
    packing: Packing,
    packed: impl Read + 'a,
) -> io::Result<Box<dyn Read + 'a>> {
    Ok(match packing {
        Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(packed)),
        Packing::Zstd => Box::new(zstd::Decoder::new(packed)?),
    })
}

/// Unpacks the beginning of a file: enough for a header.
pub(crate) fn beginning(packing: Packing, packed: impl Read) -> io::Result<Vec<u8>> {
    let mut bytes = Vec::new();
    unpacking(packing, packed)?.take(BEGINNING).read_to_end(&mut bytes)?;
    Ok(bytes)
}

/// Compresses what is written.
pub(crate) enum Packer {
    Gzip(flate2::write::GzEncoder<Vec<u8>>),
    Zstd(zstd::Encoder<'static, Vec<u8>>),
}

impl Packer {
    pub(crate) fn new(packing: Packing) -> io::Result<Packer> {
        Ok(match packing {
            Packing::Gzip => Packer::Gzip(flate2::write::GzEncoder::new(
                Vec::new(),
                flate2::Compression::default(),
            )),
            Packing::Zstd => Packer::Zstd(zstd::Encoder::new(Vec::new(), 0)?),
        })
    }

    /// The output so far.
    pub(crate) fn ready(&mut self) -> Vec<u8> {
        match self {
            Packer::Gzip(encoder) => std::mem::take(encoder.get_mut()),
            Packer::Zstd(encoder) => std::mem::take(encoder.get_mut()),
        }
    }

    /// The rest of the output.
    pub(crate) fn finish(self) -> io::Result<Vec<u8>> {
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
