//! [`Content`]: the marks of a picture with their values, before they have a place on the paper.

use crate::{kinds::Form, time::Span};

/// All that a picture shows.
#[derive(Clone, Debug)]
pub(crate) struct Content {
    pub(crate) form: Form,
    pub(crate) along: Along,
    pub(crate) up: Up,
    /// The name of the vertical axis.
    pub(crate) up_name: String,
    /// The name of the horizontal axis.
    pub(crate) along_name: String,
    /// The names of the series, which have a colour each.
    pub(crate) series: Vec<String>,
    /// The columns whose values are the series.
    pub(crate) series_of: String,
    pub(crate) panels: Vec<Panel>,
    /// The column that marks filled rows, if such rows are drawn.
    pub(crate) marked: Option<String>,
    /// Whether an interval has no end.
    pub(crate) has_open: bool,
    /// Whether all values are whole numbers.
    pub(crate) is_whole: bool,
    /// The number of rows that are drawn.
    pub(crate) drawn: u64,
}

impl Content {
    /// Whether there is no mark.
    pub(crate) fn is_empty(&self) -> bool {
        self.panels.iter().all(|panel| match &panel.marks {
            Marks::Points(series) => series.iter().all(Vec::is_empty),
            Marks::Extremes(series) => {
                series.iter().all(|series| series.parts.iter().all(|(low, high)| low > high))
            }
            Marks::Cells(series) => series.iter().all(|series| !series.filled.contains(&true)),
            Marks::Bars(bars) => bars.is_empty(),
            Marks::Intervals(intervals) => intervals.is_empty(),
            Marks::Days(days) => days.is_empty(),
        })
    }
}

/// The horizontal axis. Places on it are numbers: microseconds from the start of a span of time,
/// numbers, or the places of classes.
#[derive(Clone, Debug)]
pub(crate) enum Along {
    Time(Span),
    Numbers { low: f64, high: f64 },
    Classes(Vec<String>),
}

impl Along {
    /// The least and the greatest place.
    pub(crate) fn range(&self) -> (f64, f64) {
        match self {
            Along::Time(span) => (0.0, span.length()),
            Along::Numbers { low, high } => (*low, *high),
            Along::Classes(names) => (0.0, names.len() as f64),
        }
    }
}

/// The vertical axis.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Up {
    Numbers {
        low: f64,
        high: f64,
    },
    /// A row for each name of the panel.
    Rows,
    /// None: a calendar. The range is that of the shades.
    Shades {
        low: f64,
        high: f64,
    },
}

/// One of the small pictures, or the only one.
#[derive(Clone, Debug, Default)]
pub(crate) struct Panel {
    /// Its name; empty if it is the only one.
    pub(crate) name: String,
    /// The names of its rows, if it has rows.
    pub(crate) rows: Vec<String>,
    /// What each row holds, if its marks are too many to tell each one's value.
    pub(crate) row_titles: Vec<String>,
    pub(crate) marks: Marks,
}

/// The marks of a panel.
#[derive(Clone, Debug)]
pub(crate) enum Marks {
    /// The points of each series, in order.
    Points(Vec<Vec<Point>>),
    /// The extremes of each series, in equal parts of the horizontal axis.
    Extremes(Vec<Extremes>),
    /// Whether a series has a point in each cell of a grid.
    Cells(Vec<CalendarCells>),
    Bars(Vec<Bar>),
    Intervals(Vec<Interval>),
    Days(Vec<DayCell>),
}

impl Default for Marks {
    fn default() -> Marks {
        Marks::Points(Vec::new())
    }
}

/// A value at a date.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Point {
    /// The start and the end of its day or period; equal for moments and numbers.
    pub(crate) from: f64,
    pub(crate) to: f64,
    /// The value, or the row.
    pub(crate) value: f64,
    /// Where a state ends: at the next date, or at a gap.
    pub(crate) until: f64,
    /// Whether a gap separates it from the point before.
    pub(crate) after_gap: bool,
    pub(crate) is_marked: bool,
    pub(crate) title: String,
}

impl Point {
    /// A value stands in the middle of its day or period.
    pub(crate) fn middle(&self) -> f64 {
        self.from + (self.to - self.from) / 2.0
    }
}

/// The least and greatest values of a series in each part of the horizontal axis; the least is
/// above the greatest in a part without values.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Extremes {
    pub(crate) series: usize,
    pub(crate) is_marked: bool,
    pub(crate) parts: Vec<(f64, f64)>,
}

/// The cells of a grid that have a point, column by column.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct CalendarCells {
    pub(crate) series: usize,
    pub(crate) columns: usize,
    pub(crate) rows: usize,
    pub(crate) filled: Vec<bool>,
}

/// A figure over a period or a class.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Bar {
    pub(crate) series: usize,
    pub(crate) from: f64,
    pub(crate) to: f64,
    pub(crate) value: f64,
    pub(crate) is_marked: bool,
    pub(crate) title: String,
}

/// An interval in a row.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Interval {
    pub(crate) row: usize,
    pub(crate) series: usize,
    pub(crate) from: f64,
    pub(crate) to: f64,
    /// Whether its end is missing.
    pub(crate) is_open: bool,
    pub(crate) is_marked: bool,
    pub(crate) title: String,
}

/// A day of a calendar.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct DayCell {
    /// The day's number.
    pub(crate) day: i32,
    pub(crate) value: f64,
    pub(crate) is_marked: bool,
    pub(crate) title: String,
}
