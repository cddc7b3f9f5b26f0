//! The values of settings: [`Form`], [`Paper`], [`Size`], [`Level`].

use crate::settings::{FromGiven, Given, refused};
use jembric_core::{Error, Result, Setting};
use serde::{Serialize, Serializer};
use std::{fmt, str::FromStr};

/// The form of a picture.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, jembric_derive::Words)]
pub enum Form {
    /// Readings over time. A line breaks at a gap.
    Lines,
    /// Values that hold until the next one.
    Steps,
    /// Figures per period or class.
    Bars,
    /// Single events or measurements.
    Dots,
    /// One bar for each interval, in a row for each entity.
    Intervals,
    /// One cell for each day, shaded by its value, in a block for each month.
    Calendar,
}

/// The paper that a picture is drawn on.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, jembric_derive::Words)]
pub enum Paper {
    /// Light or dark, as the viewer of an SVG prefers. A PNG is light.
    #[default]
    Viewer,
    /// Light.
    Light,
    /// Dark.
    Dark,
}

/// The size of a picture in pixels, such as `960x540`. A picture with many rows grows in height.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Size {
    /// The width, from 160 to 10,000.
    pub width: u32,
    /// The height, from 120 to 10,000.
    pub height: u32,
}

impl Size {
    /// The size of a picture if nothing else is set.
    pub const DEFAULT: Size = Size { width: 960, height: 540 };
}

impl Default for Size {
    fn default() -> Size {
        Size::DEFAULT
    }
}

impl FromStr for Size {
    type Err = Error;

    fn from_str(text: &str) -> Result<Size> {
        let parts = text.trim().split_once(['x', 'X', '×']);
        let number = |part: &str| part.trim().parse::<u32>().ok();
        let size = parts.and_then(|(width, height)| {
            Some(Size { width: number(width)?, height: number(height)? })
        });
        let fits = |size: &Size| {
            (160..=10_000).contains(&size.width) && (120..=10_000).contains(&size.height)
        };
        size.filter(fits).ok_or_else(|| Error::Setting {
            setting: "size",
            value: format!("`{text}`"),
            expected: "a width and a height in pixels, from 160x120 to 10000x10000, such as \
                960x540"
                .into(),
        })
    }
}

impl fmt::Display for Size {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}x{}", self.width, self.height)
    }
}

/// A reference line at a value: `3.2`, or with its name `3.2 = flood warning`.
#[derive(Clone, Debug, PartialEq)]
pub struct Level {
    /// The value.
    pub value: f64,
    /// Its name; the value itself if it is empty.
    pub label: String,
}

impl FromStr for Level {
    type Err = Error;

    fn from_str(text: &str) -> Result<Level> {
        let (value, label) = text.split_once('=').unwrap_or((text, ""));
        let number = value.trim().parse::<f64>().ok().filter(|value| value.is_finite());
        let level = number.map(|value| Level { value, label: label.trim().to_owned() });
        level.ok_or_else(|| Error::Setting {
            setting: "level",
            value: format!("`{text}`"),
            expected: "a number, with its name if you like, such as '3.2 = flood warning'".into(),
        })
    }
}

impl fmt::Display for Level {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.label.is_empty() {
            write!(f, "{}", self.value)
        } else {
            write!(f, "{} = {}", self.value, self.label)
        }
    }
}

macro_rules! from_text {
    ($($kind:ty),*) => {$(
        impl FromGiven for $kind {
            fn from_given(given: &Given, setting: &Setting) -> Result<$kind> {
                match given {
                    Given::Text(text) => text.parse(),
                    Given::Number(number) => number.to_string().parse(),
                    other => refused(other, setting),
                }
            }
        }

        impl Serialize for $kind {
            fn serialize<S: Serializer>(
                &self,
                serializer: S,
            ) -> std::result::Result<S::Ok, S::Error> {
                serializer.collect_str(self)
            }
        }
    )*};
}
from_text!(Size, Level);
