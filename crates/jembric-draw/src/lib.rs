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
//! | `draw` | the settings |
//! | `chosen` | finds the form and the columns |
//! | `read` | reads the marks from the table, in one pass if there are many |
//! | `content` | the marks of a picture, before it has a size |
//! | `scale`, `time` | the axes: positions and ticks |
//! | `forms` | the marks of each form as SVG |
//! | `layout` | title, legend, small pictures, foot line |
//! | `canvas` | SVG elements, with escaped text |
//! | `palette`, `font` | colours, and the width of texts |
//! | `png`, `text` | the other outputs |
#![forbid(unsafe_code)]

mod account;
mod canvas;
mod chosen;
mod content;
mod draw;
mod font;
mod forms;
mod layout;
mod numbers;
mod palette;
mod picture;
mod png;
mod read;
mod scale;
mod text;
mod time;

pub use draw::{Draw, Form, Level, Paper, Size};
pub use picture::Picture;
pub use text::{Ink, TextPicture};

// The names that the derived settings use.
use jembric_core::{Result, Setting, Takes, settings};
