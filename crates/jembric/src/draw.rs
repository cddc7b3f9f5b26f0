//! Pictures of results: SVG, PNG, and text for a terminal.
//!
//! Every result knows what its columns are for, so a picture of it needs no settings. As a step of
//! a routine, `draw` writes its picture to a file.
//!
//! ```
//! use jembric::{Draw, Totals, calendar::Grain, draw::{Form, write_picture}, io};
//! # let file = concat!(env!("CARGO_MANIFEST_DIR"), "/../../demo/dues.csv");
//!
//! let monthly = Totals::new().date(["issued"]).grain(Grain::Month).per(["class"]).sum(["amount"]);
//! let dues = monthly.apply(&io::read(file)?)?;
//! let picture = Draw::new().stacked().picture(&dues.table)?.after([&dues.ledger]);
//!
//! assert_eq!(picture.form(), Form::Bars);
//! assert_eq!(picture.account(), "dues.csv: 133 rows read · 70 rows drawn · none set aside");
//! write_picture(&picture, std::env::temp_dir().join("jembric-dues.svg"))?;
//! # Ok::<(), jembric::Error>(())
//! ```

pub use jembric_draw::{Draw, Form, Ink, Level, Paper, Picture, Size, TextPicture, page_style};

use crate::{
    Context, CoreError, Outcome, Result, Shape, Table, error::Error, routine::Planned, steps::Step,
    write::destination::Destination,
};
use std::{io, path::Path};

/// The format of a picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PictureFormat {
    /// Scalable, with text and the values on hover.
    Svg,
    /// Pixels.
    Png,
}

impl PictureFormat {
    /// The format for a file extension.
    ///
    /// Errors: the extension is not `svg` or `png`.
    pub fn from_path(path: &Path) -> Result<PictureFormat> {
        let ending = path.extension().map(|ending| ending.to_string_lossy().to_lowercase());
        match ending.as_deref() {
            Some("svg") => Ok(PictureFormat::Svg),
            Some("png") => Ok(PictureFormat::Png),
            _ => Err(Error::Setting {
                setting: "write",
                value: format!("`{}` has no file extension of a picture", path.display()),
                expected: "a name that ends in .svg or .png".to_owned(),
            }),
        }
    }

    /// Writes a picture to a stream.
    ///
    /// Errors: those of the stream; a PNG that is too large for memory.
    pub fn write(self, picture: &Picture, to: &mut dyn io::Write) -> io::Result<()> {
        match self {
            PictureFormat::Svg => to.write_all(picture.svg().as_bytes()),
            PictureFormat::Png => to.write_all(&picture.png().map_err(io::Error::other)?),
        }
    }
}

/// Writes a picture to a file that ends in `.svg` or `.png`, completely or not at all.
///
/// Errors: another extension; the file cannot be written.
pub fn write_picture(picture: &Picture, path: impl AsRef<Path>) -> Result<()> {
    let format = PictureFormat::from_path(path.as_ref())?;
    let mut file = Destination::file(path)?;
    file.write(|to| format.write(picture, to))?;
    file.commit()
}

/// The picture of a table that the report page shows.
pub(crate) fn picture_of(
    table: &Table,
    context: &Context,
) -> std::result::Result<Picture, CoreError> {
    Draw::new().picture_with(table, context)
}

/// Errors: tables of this shape cannot be drawn.
pub(crate) fn expect_drawable(
    shape: &Shape,
    context: &Context,
) -> std::result::Result<(), CoreError> {
    Draw::new().prepare(shape, context).map(drop)
}

/// The size of a picture on a narrow screen.
const NARROW: Size = Size { width: 400, height: 400 };

/// The SVG elements of a picture on the report page: for a wide and for a narrow screen.
pub(crate) fn pictures_on_page(picture: &Picture, ids: &str) -> [(&'static str, String); 2] {
    [
        ("wide", picture.svg_on_page(&format!("{ids}wide-"))),
        ("narrow", picture.resized(NARROW).svg_on_page(&format!("{ids}narrow-"))),
    ]
}

impl Step {
    /// The result and the picture of a step that draws; none for any other step.
    pub(crate) fn drawn(
        &self,
        tables: &[(String, Table)],
        context: &Context,
    ) -> Option<std::result::Result<(Outcome, Picture), CoreError>> {
        let draw = self.draw()?;
        let (_, table) = tables.first()?;
        Some(draw.draw(table, context))
    }
}

impl Planned {
    /// Moves the file of a picture to its place: a step that draws writes pictures, and tables only
    /// beside them.
    pub(crate) fn with_picture_placed(mut self) -> Planned {
        let is_picture = |file: &String| PictureFormat::from_path(Path::new(file)).is_ok();
        if self.operation.draws() && self.picture.is_none() {
            self.picture = self.write.take_if(|file| is_picture(file));
        }
        self
    }
}
