//! [`Frame`]: a picture as the outputs need it: its marks, its settings, and the texts around them.

use crate::{content::Content, draw::Draw};

/// The marks of a picture, its settings, its title and its account of the rows.
#[derive(Clone, Debug)]
pub(crate) struct Frame<'a> {
    pub(crate) content: &'a Content,
    pub(crate) draw: &'a Draw,
    pub(crate) title: String,
    pub(crate) account: String,
}
