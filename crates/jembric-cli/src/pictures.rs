//! Shows pictures: text on a terminal, SVG in a pipe, and files.

use crate::{arguments::AnswerFormat, screen::Screen};
use anstyle::{AnsiColor, Style};
use jembric::{
    Error, Result,
    draw::{Ink, Picture, PictureFormat},
    visible,
};
use std::{io, path::Path};

/// How the picture of the last step is shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ShownPicture {
    Text,
    As(PictureFormat),
}

/// The columns and lines of a text picture that does not go to a terminal.
const SIZE: (u16, u16) = (100, 24);

impl ShownPicture {
    /// The stated format, else the one of the file extension, else text on a terminal and SVG in a
    /// pipe.
    ///
    /// Errors: the format is not one of a picture.
    pub(crate) fn choose(
        said: Option<AnswerFormat>,
        file: Option<&Path>,
        is_terminal: bool,
    ) -> Result<ShownPicture> {
        Ok(match (said, file) {
            (Some(AnswerFormat::Svg), _) => ShownPicture::As(PictureFormat::Svg),
            (Some(AnswerFormat::Png), _) => ShownPicture::As(PictureFormat::Png),
            (Some(AnswerFormat::Text), _) => ShownPicture::Text,
            (Some(_), _) => {
                return Err(Error::Setting {
                    setting: "format",
                    value: "a format of tables, but the last step draws".to_owned(),
                    expected: "svg, png or text".to_owned(),
                });
            }
            (None, Some(file)) => {
                let format = PictureFormat::from_path(file).map_err(|_| Error::Setting {
                    setting: "out",
                    value: format!("`{}`, but the last step draws a picture", file.display()),
                    expected: "a name that ends in .svg or .png".to_owned(),
                })?;
                ShownPicture::As(format)
            }
            (None, None) if is_terminal => ShownPicture::Text,
            (None, None) => ShownPicture::As(PictureFormat::Svg),
        })
    }

    /// Writes the picture to a file.
    pub(crate) fn write(self, picture: &Picture, to: &mut dyn io::Write) -> io::Result<()> {
        match self {
            ShownPicture::Text => to.write_all(picture.text(SIZE.0, SIZE.1).to_string().as_bytes()),
            ShownPicture::As(format) => format.write(picture, to),
        }
    }

    /// Shows the picture where results go.
    pub(crate) fn show(self, picture: &Picture, screen: &mut Screen) -> Result<()> {
        if let ShownPicture::As(format) = self {
            return screen.answer(|to| format.write(picture, to));
        }
        let width = screen.width.unwrap_or(SIZE.0);
        // The command and its ledger stay visible as well.
        let height = screen.height.map_or(SIZE.1, |height| height.saturating_sub(8).clamp(12, 40));
        let mut text = String::new();
        for line in picture.text(width, height).lines() {
            for (piece, ink) in line {
                let style = style(*ink);
                text.push_str(&format!("{style}{}{style:#}", visible(piece)));
            }
            text.push('\n');
        }
        screen.words(&text)
    }
}

/// The colours of the terminal's own palette, which fit its background.
fn style(ink: Ink) -> Style {
    use AnsiColor::{
        Blue, BrightBlue, BrightCyan, BrightGreen, BrightMagenta, BrightYellow, Cyan, Green,
        Magenta, Red, White, Yellow,
    };
    // The first ones are legible on light and on dark backgrounds.
    const SERIES: [AnsiColor; 12] = [
        Green,
        Magenta,
        Red,
        Blue,
        Cyan,
        Yellow,
        BrightGreen,
        BrightMagenta,
        BrightBlue,
        BrightCyan,
        BrightYellow,
        White,
    ];
    match ink {
        Ink::Plain => Style::new(),
        Ink::Muted => Style::new().dimmed(),
        Ink::Series(series) => SERIES[series % SERIES.len()].on_default(),
    }
}
