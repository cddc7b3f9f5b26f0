//! Replaces gzip and zstd in a build without the feature `packed`.

use super::packing::Packing;
use crate::error::Result;
use std::io::{self, Read, Write};

fn left_out() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "this build does not include gzip and zstd. Build the library with the feature `packed`, \
            or the command with `--features full`",
    )
}

pub(crate) fn unpacked(_: Packing, name: &str, _: &[u8], _: u64) -> Result<Vec<u8>> {
    Err(crate::Error::read(name)(left_out()))
}

pub(crate) fn unpacking<'a>(_: Packing, _: impl Read + 'a) -> io::Result<Box<dyn Read + 'a>> {
    Err(left_out())
}

pub(crate) fn beginning(_: Packing, _: impl Read) -> io::Result<Vec<u8>> {
    Err(left_out())
}

/// No file counts as compressed.
pub(crate) enum Packer {}

impl Packer {
    pub(crate) fn new(_: Packing) -> io::Result<Packer> {
        Err(left_out())
    }

    pub(crate) fn ready(&mut self) -> Vec<u8> {
        match *self {}
    }

    pub(crate) fn finish(self) -> io::Result<Vec<u8>> {
        match self {}
    }
}

impl Write for Packer {
    fn write(&mut self, _: &[u8]) -> io::Result<usize> {
        match *self {}
    }

    fn flush(&mut self) -> io::Result<()> {
        match *self {}
    }
}
