//! The report page: one HTML file with the sentences, pictures, tables and ledgers of a routine,
//! which needs nothing from elsewhere.
//!
//! `outline` is the plan of the page, made when the routine is checked: the steps that it shows and
//! the figures of its sentences (`sentence`, `figures`). `collected` takes what it shows from each
//! step that has run. `sources` tells the files that were read. `html` writes the page, with the
//! texts of `texts`; `tables` and `accounts` are its tables and ledgers.
//!
//! The page has one style (`page.css` and that of the pictures) and one script (`page.js`). A
//! content security policy names their hashes and forbids everything else. Values from data are
//! texts of elements, and never part of the style, the script or a link's scheme.

mod accounts;
mod collected;
mod figures;
mod html;
mod marked;
mod marks;
mod outline;
mod sentence;
mod sources;
mod tables;
mod texts;

pub(crate) use collected::{Collected, Taken};
pub(crate) use html::Page;
pub(crate) use outline::Outline;
pub(crate) use sentence::Sentence;
pub(crate) use sources::Sources;

use crate::{Error, Result};
use std::path::Path;

/// The most rows of a table on the page.
pub(crate) const MOST_ROWS: usize = 10_000;

/// Errors: the name of a page does not end in `.html`.
pub(crate) fn expect_page_name(name: &str) -> Result<()> {
    let ending = Path::new(name).extension().map(|ending| ending.to_string_lossy().to_lowercase());
    match ending.as_deref() {
        Some("html" | "htm") => Ok(()),
        _ => Err(Error::Setting {
            setting: "page",
            value: format!("`{name}` has no file extension of a page"),
            expected: "a name that ends in .html".to_owned(),
        }),
    }
}
