//! Replaces Parquet in a build without the feature `parquet`.

use super::{
    BatchWriter, Choose, Input, Made, Parts, Room, Unread,
    scan::{Stopped, TakeBatches},
};
use crate::{arrow::schema::SchemaRef, data::exchange::Portion};
use std::io;

/// Why such a file cannot be read or written, whatever the error says.
pub(super) const LEFT_OUT: Option<&str> = Some(
    "this build does not include Parquet. Build the library with the feature \
    `parquet`, or the command with `--features full`",
);

pub(super) fn parts(_: Input, _: Option<&Choose<'_>>, _: &mut Room) -> Result<Parts, Unread> {
    Err(Unread::Damaged(String::new()))
}

pub(super) fn count(_: Input, _: Portion) -> Result<(u64, u64), Unread> {
    Err(Unread::Damaged(String::new()))
}

pub(super) fn each(
    _: Input,
    _: Portion,
    _: &[usize],
    _: u64,
    _: &mut TakeBatches<'_>,
) -> Result<(), Stopped> {
    Err(Unread::Damaged(String::new()).into())
}

pub(super) fn writer(_: &Made, _: &SchemaRef) -> io::Result<Box<dyn BatchWriter>> {
    Err(io::Error::new(io::ErrorKind::Unsupported, LEFT_OUT.unwrap_or_default()))
}
