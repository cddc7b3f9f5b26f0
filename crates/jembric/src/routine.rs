//! Saved lists of steps: a report that can run again next month.
//!
//! ```toml
//! title = "Inspections that are due on {as-of}"
//! as-of = "2025-06-30"
//!
//! [[step]]
//! name = "current"
//! read = "inspections.csv"
//! latest = { per = ["vessel"], date = "inspected_on" }
//!
//! [[step]]
//! elapsed = { from = "inspected_on", to = "as-of" }
//!
//! [[step]]
//! filter = "elapsed_days > 180"
//! write = "overdue.csv"
//! ```
//!
//! A step works on its input (`read`: a file, or a table with `file` and reading settings), on a
//! named earlier step (`from`), or on the step before. Second tables (`within = { windows = … }`,
//! `stack = […]`) are earlier steps or files.
//!
//! `parse` converts the text to steps and marks mistakes; `patterns` finds the files that match a
//! pattern; `dependencies` are the files and steps that the steps use. `mistakes` marks errors in
//! the text, and `save` writes the text. [`run`](crate::run) checks and runs the steps.
//!
//! With `page = "harbour.html"` above the steps, a run also writes one HTML page. A step with a
//! `heading` begins a section of it, with a sentence (`say`), a picture and a table (`show`).

mod dependencies;
mod mistakes;
mod parse;
mod patterns;
mod save;

pub use crate::error::Mistaken;
pub(crate) use dependencies::Uses;

use crate::{
    Advised, Error, Result, Takes, Words,
    data::size::Size,
    databases::existing::Existing,
    read::reading::Reading,
    settings::{Given, GivenSettings},
    steps::{Described, Disk, Reads},
    uri::shown_name,
};
use std::{fmt, ops::Range, path::Path, sync::Arc};

/// A saved list of steps.
#[derive(Clone, Default)]
#[non_exhaustive]
pub struct Routine {
    /// The title, in which `{as-of}` is replaced by the as-of date.
    pub title: Option<String>,
    /// The as-of date: a date, `today`, or `newest:COLUMN`, plus or minus a span.
    pub as_of: Option<String>,
    /// The time zone that converts points in time to days.
    pub zone: Option<String>,
    /// The file for the report page, in whose name `{as-of}` is replaced by the as-of date.
    pub page: Option<String>,
    /// The memory for tables. What does not fit is written to temporary files.
    pub memory: Option<Size>,
    /// The steps, in order.
    pub steps: Vec<Planned>,
    pub(crate) text: Option<Arc<Text>>,
    /// Whether an error names its step. A chain has no text in which its place could be marked.
    pub(crate) names_steps: bool,
    /// The places of the title, the as-of date, the zone and the page in the text.
    pub(crate) title_at: Range<usize>,
    pub(crate) as_of_at: Range<usize>,
    pub(crate) zone_at: Range<usize>,
    pub(crate) page_at: Range<usize>,
}

/// Names of files may have passwords, so only what has none is shown.
impl fmt::Debug for Routine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Routine { title, as_of, zone, memory, steps, .. } = self;
        let mut debug = f.debug_struct("Routine");
        debug.field("title", title).field("as_of", as_of).field("zone", zone);
        debug.field("memory", memory).field("steps", steps).finish_non_exhaustive()
    }
}

/// The text of the routine, for messages.
pub(crate) struct Text {
    pub(crate) file: String,
    pub(crate) text: String,
}

/// One step of a routine.
#[derive(Clone)]
#[non_exhaustive]
pub struct Planned {
    /// The name by which later steps refer to it.
    pub name: Option<String>,
    /// The tables that it works on, the main one first.
    pub inputs: Vec<Input>,
    /// Its operation.
    pub operation: &'static Described,
    /// The settings of the operation. Files of holidays and entities are given by name.
    pub settings: GivenSettings,
    /// The columns of each table that an almanac covers.
    pub covered: Vec<Vec<String>>,
    /// The file for the result, in whose name `{as-of}` is replaced by the as-of date.
    pub write: Option<String>,
    /// What to do if that is a table of a database that exists already.
    pub existing: Existing,
    /// The file for the picture of a step that draws, in whose name `{as-of}` is replaced by the
    /// as-of date.
    pub picture: Option<String>,
    /// The columns that identify a row of its result, for what changed since an earlier date. The
    /// default is those that its operation groups by.
    pub key: Option<Vec<String>>,
    /// What the report page shows of it.
    pub page: OnPage,
    /// All grains of totals with several, the first of which is that of the result. The report page
    /// shows the figures of each.
    pub grains: Vec<String>,
    /// The place of the step in the text, and those of its settings and files.
    at: Range<usize>,
    settings_at: Vec<(String, Range<usize>)>,
}

/// Names of files may have passwords, so only what has none is shown.
impl fmt::Debug for Planned {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Planned { name, inputs, operation, grains, .. } = self;
        let mut debug = f.debug_struct("Planned");
        debug.field("name", name).field("inputs", inputs).field("operation", &operation.name);
        debug.field("grains", grains).finish_non_exhaustive()
    }
}

/// What the report page shows of a step.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct OnPage {
    /// The heading of a section that begins with this step.
    pub heading: Option<String>,
    /// A sentence with computed values.
    pub say: Option<String>,
    /// What is shown of the result. The default is the table, and for a step that draws its picture
    /// as well.
    pub show: Option<Vec<Show>>,
}

impl OnPage {
    /// Whether the step says nothing about the page.
    pub fn is_empty(&self) -> bool {
        *self == OnPage::default()
    }
}

/// A way to show a result on the report page.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Show {
    /// A picture.
    Picture,
    /// A table.
    Table,
}

impl Show {
    /// All of them.
    pub const ALL: [Show; 2] = [Show::Picture, Show::Table];

    /// The word for it in a routine.
    pub const fn word(self) -> &'static str {
        match self {
            Show::Picture => "picture",
            Show::Table => "table",
        }
    }
}

/// The input of a step.
#[derive(Clone, PartialEq, Eq)]
pub enum Input {
    /// A file, and how it is read.
    File(String, Box<Reading>),
    /// The result of an earlier step, by its place.
    Step(usize),
}

impl fmt::Debug for Input {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Input::File(name, settings) => {
                f.debug_tuple("File").field(&shown_name(name)).field(settings).finish()
            }
            Input::Step(place) => f.debug_tuple("Step").field(place).finish(),
        }
    }
}

impl Input {
    /// The place of the earlier step, if it is one.
    pub(crate) fn step(&self) -> Option<usize> {
        match self {
            Input::Step(place) => Some(*place),
            Input::File(..) => None,
        }
    }
}

impl Planned {
    /// A step with an operation, its settings and its inputs.
    pub fn new(
        operation: &'static Described,
        settings: GivenSettings,
        inputs: Vec<Input>,
    ) -> Planned {
        Planned {
            name: None,
            inputs,
            operation,
            settings,
            covered: Vec::new(),
            write: None,
            existing: Existing::Refuse,
            picture: None,
            key: None,
            page: OnPage::default(),
            grains: Vec::new(),
            at: 0..0,
            settings_at: Vec::new(),
        }
    }

    /// The columns of each table that an almanac covers.
    #[must_use]
    pub fn covering(mut self, columns: Vec<Vec<String>>) -> Planned {
        self.covered = columns;
        self
    }

    /// The files that the step writes.
    pub fn files_written(&self) -> impl Iterator<Item = &str> {
        self.write.iter().chain(&self.picture).map(String::as_str)
    }

    /// Gives the files that the step reads and writes other names.
    pub(crate) fn rename_files(&mut self, renamed: &dyn Fn(&str) -> String) {
        for input in &mut self.inputs {
            if let Input::File(name, _) = input
                && name != "-"
            {
                *name = renamed(name);
            }
        }
        for name in self.write.iter_mut().chain(&mut self.picture) {
            *name = renamed(name);
        }
        for setting in self.operation.settings {
            let Some(Given::Text(text)) = self.settings.get(setting.name) else { continue };
            let text = match (setting.takes, text.rsplit_once(':')) {
                (Takes::Days, _) => renamed(text),
                (Takes::Entities, Some((file, columns))) => format!("{}:{columns}", renamed(file)),
                _ => continue,
            };
            self.settings.insert(setting.name, text);
        }
    }

    /// The title of a step without a name.
    pub fn title(&self) -> &str {
        self.name.as_deref().unwrap_or(self.operation.name)
    }

    /// The least number of tables that it works on.
    fn least_inputs(&self) -> usize {
        match self.operation.reads {
            Reads::OneTable | Reads::SeveralTables | Reads::NowAndBefore => 1,
            Reads::EventsAndWindows => 2,
            Reads::Covering => 0,
        }
    }
}

impl Routine {
    /// The words of its text for settings that an error or a warning suggests
    /// ([`Error::rendered`](crate::Error::rendered),
    /// [`Ledger::rendered`](crate::Ledger::rendered)); none for a routine without a text.
    pub fn words(&self) -> Option<Words<'static>> {
        self.text.as_ref().map(|_| -> Words<'static> { &routine_words })
    }
}

/// The words of a routine for suggested settings.
pub(crate) fn routine_words(advised: &Advised<'_>) -> String {
    let value = |value: &str| match value.parse::<i64>() {
        Ok(_) => value.to_owned(),
        Err(_) => toml_text(value),
    };
    let reading = |setting: String| format!("`read = {{ file = \"…\", {setting} }}`");
    match advised {
        Advised::Setting(name, text) => format!("`{name} = {}`", value(text)),
        Advised::Named(name) => format!("`{name}`"),
        Advised::Reading("missing", Some(marks)) => {
            let marks: Vec<String> = marks.split(',').map(toml_text).collect();
            reading(format!("missing = [{}]", marks.join(", ")))
        }
        Advised::Reading(name, Some(text)) => reading(format!("{name} = {}", value(text))),
        Advised::Reading(name @ ("no-quotes" | "decimal-comma"), None) => {
            reading(format!("{name} = true"))
        }
        Advised::Reading("read", None) => reading("read = { COLUMN = \"FORMAT\" }".to_owned()),
        Advised::Reading(name, None) => reading(format!("{name} = [\"…\"]")),
        Advised::Column(column, format) => {
            reading(format!("read = {{ {} = {} }}", key(column), toml_text(format)))
        }
        Advised::Writing(word) => {
            format!("`write = {{ file = \"…\", table = \"…\", {word} = true }}`")
        }
        Advised::AsOf(date) => format!("`as-of = \"{date}\"` above the steps"),
        Advised::Running("memory", size) => format!("`memory = \"{size}\"` above the steps"),
        Advised::Running(name, value) => format!("`--{name} {value}`"),
        other => other.in_rust(),
    }
}

/// A value as a TOML string.
fn toml_text(text: &str) -> String {
    toml::Value::from(text).to_string()
}

/// A name as a TOML key.
fn key(name: &str) -> String {
    let is_bare = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-';
    if !name.is_empty() && name.chars().all(is_bare) {
        name.to_owned()
    } else {
        format!("{name:?}")
    }
}

/// Whether this setting alone may stand for the operation: `filter = "level > 3"`.
fn stands_alone(takes: Takes) -> bool {
    matches!(takes, Takes::Expression | Takes::Several(_) | Takes::List(_))
}

impl Routine {
    /// A routine of these steps.
    pub fn from_steps(steps: Vec<Planned>) -> Routine {
        Routine { steps, ..Routine::default() }
    }

    /// Reads the file of a routine. Its paths are relative to that file, so run it on
    /// [`Routine::files_beside`]. Where a step stacks files, a pattern such as `lifts-*.csv` stands
    /// for all files that match it, in the order of their names.
    ///
    /// Errors: the file cannot be read, or is not a valid routine; no file matches a pattern. The
    /// message marks the place.
    pub fn file(path: impl AsRef<Path>) -> Result<Routine> {
        let path = path.as_ref();
        let file = path.display().to_string();
        match std::fs::read_to_string(path) {
            Ok(text) => Routine::parse(&file, &text)?.with_matching_files(path),
            Err(source) => Err(Error::Read {
                file,
                source,
                nearest: crate::text::file_bytes::nearest_file(path),
            }),
        }
    }

    /// Replaces the as-of date and the time zone, if they are given.
    #[must_use]
    pub fn instead(mut self, as_of: Option<String>, zone: Option<String>) -> Routine {
        if as_of.is_some() {
            (self.as_of, self.as_of_at) = (as_of, 0..0);
        }
        if zone.is_some() {
            (self.zone, self.zone_at) = (zone, 0..0);
        }
        self
    }

    /// The files relative to a routine's file.
    pub fn files_beside(path: impl AsRef<Path>) -> Disk {
        Disk::in_directory(path.as_ref().parent().map(Path::to_owned).unwrap_or_default())
    }
}
