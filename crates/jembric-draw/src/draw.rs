//! [`Draw`]: the settings of a picture.

use crate::{
    chosen::Chosen,
    picture::Picture,
    read,
    settings::{FromGiven, Given, refused},
};
use jembric_core::{
    Context, Error, Judged, Operation, Outcome, Plan, Result, Setting, Shape, Table,
};
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
        match self.label.is_empty() {
            true => write!(f, "{}", self.value),
            false => write!(f, "{} = {}", self.value, self.label),
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

/// Draws a picture of a table.
///
/// Without settings, the form and the columns follow from the table. The results of operations know
/// what each column is for ([`Role`](jembric_core::Role)). For other tables, the columns are
/// guessed from their types, and the ledger tells what was chosen.
///
/// | form | default for |
/// | --- | --- |
/// | [`Lines`](Form::Lines) | a column of dates and a number for each |
/// | [`Steps`](Form::Steps) | running figures, counts, states, carried values |
/// | [`Bars`](Form::Bars) | totals, bands |
/// | [`Dots`](Form::Dots) | events, two columns of numbers |
/// | [`Intervals`](Form::Intervals) | spells, tables with a start and an end |
/// | [`Calendar`](Form::Calendar) | none |
///
/// As a step, its result is its table, without the rows that could not be drawn. Set aside: rows
/// without a date, intervals without a start, reversed intervals. Dropped: rows of totals. Missing
/// values are gaps, and are counted.
///
/// Errors: a column is missing or of the wrong type; no column fits; more than 12 series or 5,000
/// rows of intervals; a calendar of more than 20 years. Cost: up to 7,000 marks are drawn one by
/// one. With more, one pass keeps the least and the greatest value of each pixel column.
///
/// ```
/// use jembric_core::{Table, arrow::{ArrayRef, Date32Array, Float64Array}};
/// use jembric_draw::{Draw, Form};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_001, 20_003]));
/// let level: ArrayRef = Arc::new(Float64Array::from(vec![3.0, 3.4, 2.9]));
/// let gauge = Table::from_columns([("day", day), ("level", level)])?;
///
/// let picture = Draw::new().title("The level").picture(&gauge)?;
/// assert_eq!(picture.form(), Form::Lines);
/// assert!(picture.svg().starts_with("<svg"));
/// assert!(picture.ledger().balances());
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "draw",
    does = "Draw a picture: lines, steps, bars, dots, intervals or a calendar",
    answers = "What does it look like?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Draw {
    /// Draw this form. The default is the one that fits the table.
    #[setting(one_of)]
    pub form: Option<Form>,
    /// Use this column of dates, numbers or classes for the horizontal axis. The default is the
    /// date, the period or the class.
    #[setting(column)]
    pub along: Option<String>,
    /// Draw these columns of numbers. The default is the figures of the step before.
    #[setting(columns)]
    pub of: Vec<String>,
    /// Draw a colour or a row for each value of these columns. The default is the key.
    #[setting(columns)]
    pub per: Vec<String>,
    /// Draw a small picture for each value of this column, all with the same scales.
    #[setting(column)]
    pub apart: Option<String>,
    /// Begin intervals at this column of dates or moments.
    #[setting(column)]
    pub from: Option<String>,
    /// End intervals at this column of dates or moments.
    #[setting(column)]
    pub to: Option<String>,
    /// Stack bars on each other instead of side by side.
    #[setting(yes)]
    pub stacked: bool,
    /// Draw a reference line at this value: '3.2 = flood warning'; may be repeated.
    #[setting(texts = "VALUE = LABEL")]
    pub level: Vec<Level>,
    /// Draw the rows where this column is true hollow, because they were filled and not measured.
    #[setting(column)]
    pub mark: Option<String>,
    /// Write this title above the picture. The default names the columns.
    #[setting(text = "TEXT")]
    pub title: Option<String>,
    /// Make the picture this large, in pixels. The default is 960x540.
    #[setting(text = "WIDTHxHEIGHT", default = Size::DEFAULT)]
    pub size: Size,
    /// Draw on light or dark paper; `viewer` lets the viewer of an SVG decide. The default is
    /// `viewer`.
    #[setting(one_of)]
    pub paper: Paper,
}

impl Draw {
    /// Draws the form that fits the table.
    pub fn new() -> Draw {
        Draw::default()
    }

    /// Draws a picture of a table, without an as-of date and with days of UTC.
    ///
    /// Errors: the settings do not fit the table; the picture would be too large.
    pub fn picture(&self, table: &Table) -> Result<Picture> {
        self.picture_with(table, &Context::new())
    }

    /// Draws a picture of a table in a context: as-of date, time zone.
    ///
    /// Errors: the settings do not fit the table; the picture would be too large.
    pub fn picture_with(&self, table: &Table, context: &Context) -> Result<Picture> {
        Ok(self.draw(table, context)?.1)
    }

    /// Draws a picture of a table, and returns the rows that were drawn as well.
    ///
    /// Errors: as for [`picture_with`](Draw::picture_with).
    pub fn draw(&self, table: &Table, context: &Context) -> Result<(Outcome, Picture)> {
        let (judged, content) = self.read(table, context)?;
        let outcome = judged.outcome(table, context)?;
        let picture = Picture::new(self.clone(), content, outcome.ledger.clone());
        Ok((outcome, picture))
    }

    fn read(&self, table: &Table, context: &Context) -> Result<(Judged, crate::content::Content)> {
        let shape = table.shape();
        let chosen = Chosen::of(self, &shape, Some(table));
        let chosen = chosen.map_err(|error| table.explained(error))?;
        // A table knows the type of every column, so its columns can be chosen.
        let chosen = chosen.ok_or(Error::NothingToDraw { setting: "along", needs: "a column" })?;
        read::content(self, chosen, table, context)
    }

    /// Applies the settings to a table without drawing it: the rows that can be drawn, and the
    /// ledger.
    ///
    /// Errors: as for [`picture`](Draw::picture).
    pub fn apply(&self, table: &Table) -> Result<Outcome> {
        self.apply_with(table, &Context::new())
    }

    /// Prepares the settings for tables of a shape.
    ///
    /// Errors: a column is missing, or is known to have the wrong type.
    pub fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        Operation::prepare(self, shape, context)
    }
}

impl Operation for Draw {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        // What is guessed depends on the data, so only a plan whose columns are all known can name
        // the columns that it needs.
        let used: Vec<usize> = match Chosen::of(self, shape, None)? {
            Some(chosen) => chosen.places().collect(),
            None => (0..shape.columns().len()).collect(),
        };
        let draw = self.clone();
        Plan::judging(shape, context, used, move |table, context| Ok(draw.read(table, context)?.0))
    }
}
