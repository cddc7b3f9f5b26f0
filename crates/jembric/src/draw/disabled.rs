//! Replaces pictures if their feature is off.

use crate::{
    Context, CoreError, Ledger, Outcome, Result, Shape, Table, routine::Planned, steps::Step,
};
use std::{io, path::Path};

/// A picture, of which there is none without the feature `draw`.
#[derive(Clone, Debug)]
pub struct Picture(());

impl Picture {
    pub(crate) fn after<'a>(self, _: impl IntoIterator<Item = &'a Ledger>) -> Picture {
        self
    }
}

/// The format of a picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct PictureFormat(());

impl PictureFormat {
    pub(crate) fn from_path(_: &Path) -> Result<PictureFormat> {
        Err(crate::Error::Settings("pictures need the feature `draw`".to_owned()))
    }

    pub(crate) fn write(self, _: &Picture, _: &mut dyn io::Write) -> io::Result<()> {
        Err(io::ErrorKind::Unsupported.into())
    }
}

pub(crate) fn picture_of(_: &Table, _: &Context) -> std::result::Result<Picture, CoreError> {
    Err(needs_feature())
}

pub(crate) fn expect_drawable(_: &Shape, _: &Context) -> std::result::Result<(), CoreError> {
    Err(needs_feature())
}

fn needs_feature() -> CoreError {
    CoreError::Sink("pictures need the feature `draw`".into())
}

pub(crate) fn page_style() -> String {
    String::new()
}

pub(crate) fn pictures_on_page(_: &Picture, _: &str) -> [(&'static str, String); 2] {
    [("wide", String::new()), ("narrow", String::new())]
}

impl Step {
    pub(crate) fn drawn(
        &self,
        _: &[(String, Table)],
        _: &Context,
    ) -> Option<std::result::Result<(Outcome, Picture), CoreError>> {
        None
    }
}

impl Planned {
    pub(crate) fn with_picture_placed(self) -> Planned {
        self
    }
}
