//! [`Draw`]: the settings of a picture.

use crate::kinds::{Form, Level, Paper, Size};
use serde::Serialize;

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
    /// Write this title above the picture. The default is the names of the columns.
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
