//! Replaces pictures if their feature is off: no step draws.

use crate::{arguments::AnswerFormat, screen::Screen};
use jembric::{Result, draw::Picture};
use std::{io, path::Path};

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ShownPicture {}

impl ShownPicture {
    pub(crate) fn choose(
        _: Option<AnswerFormat>,
        _: Option<&Path>,
        _: bool,
    ) -> Result<ShownPicture> {
        Err(jembric::Error::Settings("pictures need the feature `draw`".to_owned()))
    }

    pub(crate) fn write(self, _: &Picture, _: &mut dyn io::Write) -> io::Result<()> {
        match self {}
    }

    pub(crate) fn show(self, _: &Picture, _: &mut Screen) -> Result<()> {
        match self {}
    }
}
