//! Stands for gzip and zstd in a build without the feature `packed`.

use super::packing::Packing;
use crate::error::Result;
use std::io::{self, Read, Write};

fn left_out() -> io::Error {
    io::Error::new(
        io::ErrorKind::Unsupported,
        "this build leaves gzip and zstd out; they are the feature `packed`",
    )
}

pub(super) fn unpacked(_: Packing, name: &str, _: &[u8], _: u64) -> Result<Vec<u8>> {
    Err(super::special::unread(name)(left_out()))
}

pub(super) fn beginning(_: Packing, _: impl Read) -> io::Result<Vec<u8>> {
    Err(left_out())
}

/// Nothing is packed.
pub(super) enum Packer {}

impl Packer {
    pub(super) fn new(_: Packing) -> io::Result<Packer> {
        Err(left_out())
    }

    pub(super) fn ready(&mut self) -> Vec<u8> {
        match *self {}
    }

    pub(super) fn finish(self) -> io::Result<Vec<u8>> {
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
