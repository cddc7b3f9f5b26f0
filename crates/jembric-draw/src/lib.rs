//! Pictures of tables: lines, steps, bars, dots, intervals and calendars, as SVG, PNG, or text for
//! a terminal.
//!
//! [`Draw`] has the settings. All of them have defaults that follow from the table: the results of
//! operations know the [`Role`](jembric_core::Role) of each column, and for other tables the
//! columns are guessed from their types. [`Draw::picture`] makes a [`Picture`], which knows every
//! mark and its value, and accounts for every row.
//!
//! | file | does |
//! | --- | --- |
//! | `draw`, `kinds` | the settings, and their values |
//! | `drawing` | from the settings and a table to a picture |
//! | `chosen` | finds the form and the columns |
//! | `read` | reads the marks from the table, in one pass if there are many |
//! | `content`, `frame` | the marks of a picture before it has a size; the texts around them |
//! | `scale`, `time` | the axes: positions and ticks |
//! | `forms` | the marks of each form as SVG |
//! | `layout` | title, legend, small pictures, foot line |
//! | `plot` | the axes of the marks, in pixels |
//! | `canvas`, `style` | SVG elements, with escaped text; their colours and dashes |
//! | `palette`, `font` | colours, and the width of texts |
//! | `png`, `text` | the other outputs |
#![forbid(unsafe_code)]

mod account;
mod canvas;
mod chosen;
mod content;
mod draw;
mod drawing;
mod font;
mod forms;
mod frame;
mod kinds;
mod layout;
mod numbers;
mod palette;
mod picture;
mod plot;
#[cfg_attr(not(feature = "png"), path = "png/disabled.rs")]
mod png;
mod read;
mod scale;
mod style;
mod text;
mod time;

pub use draw::Draw;
pub use kinds::{Form, Level, Paper, Size};
pub use picture::{Picture, page_style};
pub use text::{Ink, TextPicture};

// The names that the derived settings use.
use jembric_core::{Setting, Takes, settings};
