//! Replaces Arrow files and streams in a build without the feature `arrow-files`.

use super::{
    BatchWriter, Choose, Columnar, Input, Made, Parts, Room, Unread,
    scan::{Stopped, TakeBatches},
};
use crate::arrow::schema::SchemaRef;
use std::io;

/// Why such a file cannot be read or written, whatever the error says.
pub(super) const LEFT_OUT: Option<&str> = Some(
    "this build does not include Arrow files. Build the library with the \
    feature `arrow-files`, or the command with `--features full`",
);

pub(super) fn parts(
    _: Columnar,
    _: Input,
    _: Option<&Choose<'_>>,
    _: &mut Room,
) -> Result<Parts, Unread> {
    Err(Unread::Damaged(String::new()))
}

pub(super) fn count(_: Columnar, _: Input, _: &Room) -> Result<u64, Unread> {
    Err(Unread::Damaged(String::new()))
}

pub(super) fn each(
    _: Columnar,
    _: Input,
    _: &[usize],
    _: (u64, &Room),
    _: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    Err(Unread::Damaged(String::new()).into())
}

pub(super) fn writer(_: Columnar, _: &Made, _: &SchemaRef) -> io::Result<Box<dyn BatchWriter>> {
    Err(io::Error::new(io::ErrorKind::Unsupported, LEFT_OUT.unwrap_or_default()))
}
