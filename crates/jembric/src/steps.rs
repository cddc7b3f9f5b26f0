//! The operations by their names: what each answers and is asked with, what it reads, and from settings to a [`Step`] that runs.
//!
//! The command line and saved routines know operations through this list alone.

use crate::{
    Active, Add, Almanac, Columns, Context, CoreError, Earliest, Elapsed, EntityList, Filled, Filter, Latest,
    Operation, Outcome, Recent, Result, Running, Setting, Shape, Sink, Sort, Spells, Stack, Table, Takes,
    Totals, Type, Within,
    error::Error,
    io::{Reading, entities_of, entities_reading, holidays_of, holidays_reading},
};
use serde::de::DeserializeOwned;
use serde_json::{Map, Value};
use std::path::{Path, PathBuf};

/// An operation as it is known by its name.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Described {
    /// Its name.
    pub name: &'static str,
    /// What it answers, in a sentence.
    pub answers: &'static str,
    /// Its settings.
    pub settings: &'static [Setting],
    /// What it reads.
    pub reads: Reads,
}

/// What an operation reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Reads {
    /// One table.
    OneTable,
    /// Several, which become one.
    SeveralTables,
    /// Events and windows.
    EventsAndWindows,
    /// Columns of tables that are named with them.
    Covering,
}

macro_rules! described {
    ($($operation:ident $reads:ident),* $(,)?) => { [$(Described {
        name: $operation::NAME,
        answers: $operation::ANSWERS,
        settings: $operation::SETTINGS,
        reads: Reads::$reads,
    }),*] };
}

/// All operations, in the order of the help.
pub const OPERATIONS: [Described; 16] = described![
    Latest OneTable,
    Earliest OneTable,
    Active OneTable,
    Spells OneTable,
    Within EventsAndWindows,
    Elapsed OneTable,
    Running OneTable,
    Filled OneTable,
    Totals OneTable,
    Recent OneTable,
    Almanac Covering,
    Filter OneTable,
    Add OneTable,
    Sort OneTable,
    Columns OneTable,
    Stack SeveralTables,
];

/// The operation of this name.
pub fn described(name: &str) -> Option<&'static Described> {
    OPERATIONS.iter().find(|operation| operation.name == name)
}

/// Where tables come from.
pub trait Files {
    /// The table in a file.
    fn table(&self, file: &str, reading: &Reading) -> Result<Table>;

    /// What its header tells; none where it cannot be looked into before it is read.
    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>>;

    /// What its first rows suggest beside.
    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        self.shape(file, reading)
    }
}

/// The files of a directory, and those with a path of their own.
#[derive(Clone, Debug, Default)]
pub struct Disk {
    /// What paths are relative to; the working directory where it is empty.
    pub directory: PathBuf,
}

impl Files for Disk {
    fn table(&self, file: &str, reading: &Reading) -> Result<Table> {
        reading.file(self.directory.join(file))
    }

    fn shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        reading.shape(self.directory.join(file)).map(Some)
    }

    fn guessed_shape(&self, file: &str, reading: &Reading) -> Result<Option<Shape>> {
        reading.guessed_shape(self.directory.join(file)).map(Some)
    }
}

/// A file and its columns, of `FILE:COL,…`.
pub fn file_and_columns(setting: &'static str, text: &str) -> Result<(String, Vec<String>)> {
    let parts = text.rsplit_once(':').filter(|(file, columns)| !file.is_empty() && !columns.is_empty());
    let (file, columns) = parts.ok_or_else(|| Error::Setting {
        setting,
        value: format!("`{text}`"),
        expected: "a file and its columns, such as `stays.csv:arrived,left`".to_owned(),
    })?;
    Ok((file.to_owned(), columns.split(',').map(|column| column.trim().to_owned()).collect()))
}

/// Settings in which files of holidays and entities have been read.
pub fn resolved(
    described: &Described,
    settings: &Map<String, Value>,
    files: &dyn Files,
) -> Result<Map<String, Value>> {
    let mut resolved = settings.clone();
    for setting in described.settings {
        let Some(Value::String(text)) = settings.get(setting.name) else { continue };
        let value = match setting.takes {
            Takes::Days => {
                let days = holidays_of(&files.table(text, &holidays_reading())?)?;
                days.iter().map(|day| Value::from(day.to_string())).collect()
            }
            Takes::Entities => {
                let (file, columns) = file_and_columns(setting.name, text)?;
                let list: EntityList =
                    entities_of(&files.table(&file, &entities_reading(&columns))?, &columns)?;
                serde_json::json!(list)
            }
            _ => continue,
        };
        resolved.insert(setting.name.to_owned(), value);
    }
    Ok(resolved)
}

/// An operation with its settings.
pub struct Step(Kind);

enum Kind {
    OneTable(Box<dyn Operation>),
    Stack(Stack),
    Within(Box<Within>),
    Almanac(Box<Almanac>, Vec<Vec<String>>),
}

impl Step {
    /// The operation with these settings, of which an almanac's have the columns that each table is covered by.
    ///
    /// An error says what a setting should have been.
    pub fn of(
        described: &Described,
        settings: Map<String, Value>,
        covered: Vec<Vec<String>>,
    ) -> std::result::Result<Step, serde_json::Error> {
        fn one<T: Operation + DeserializeOwned + 'static>(
            settings: Value,
        ) -> std::result::Result<Box<dyn Operation>, serde_json::Error> {
            Ok(Box::new(serde_json::from_value::<T>(settings)?))
        }
        let settings = Value::Object(settings);
        let operation = match described.name {
            Stack::NAME => return Ok(Step(Kind::Stack(serde_json::from_value(settings)?))),
            Within::NAME => return Ok(Step(Kind::Within(Box::new(serde_json::from_value(settings)?)))),
            Almanac::NAME => {
                return Ok(Step(Kind::Almanac(Box::new(serde_json::from_value(settings)?), covered)));
            }
            Latest::NAME => one::<Latest>(settings),
            Earliest::NAME => one::<Earliest>(settings),
            Active::NAME => one::<Active>(settings),
            Spells::NAME => one::<Spells>(settings),
            Elapsed::NAME => one::<Elapsed>(settings),
            Running::NAME => one::<Running>(settings),
            Filled::NAME => one::<Filled>(settings),
            Totals::NAME => one::<Totals>(settings),
            Recent::NAME => one::<Recent>(settings),
            Filter::NAME => one::<Filter>(settings),
            Add::NAME => one::<Add>(settings),
            Sort::NAME => one::<Sort>(settings),
            _ => one::<Columns>(settings),
        };
        operation.map(|operation| Step(Kind::OneTable(operation)))
    }

    /// All that can be wrong without the data, given what is known of its tables; otherwise what is known of the answer.
    pub fn check(
        &self,
        shapes: &[Option<Shape>],
        context: &Context,
    ) -> std::result::Result<Option<Shape>, CoreError> {
        if let (Kind::Within(within), [Some(events), Some(windows)]) = (&self.0, shapes) {
            return within.check_with(events, windows, context).map(Some);
        }
        let known = shapes.iter().map(Option::as_ref);
        match &self.0 {
            Kind::OneTable(step) => {
                let answer =
                    known.flatten().next().map(|shape| step.check_with(shape, context)).transpose()?;
                Ok(answer.filter(|_| !step.answers_with_columns_of_the_data()))
            }
            // One of the tables cannot be looked into before it is there.
            Kind::Within(_) => Ok(None),
            Kind::Stack(stack) => {
                if let Some(source) = &stack.source {
                    known.clone().flatten().try_for_each(|shape| shape.with(source, Type::Text).map(drop))?;
                }
                let Some(shapes) = known.collect::<Option<Vec<&Shape>>>() else { return Ok(None) };
                let mut names: Vec<&str> = Vec::new();
                for column in shapes.iter().flat_map(|shape| shape.columns()) {
                    if !names.contains(&column.name.as_str()) {
                        names.push(&column.name);
                    }
                }
                names.extend(stack.source.as_deref());
                Ok(Some(Shape::of_names(names)))
            }
            Kind::Almanac(almanac, columns) => {
                almanac.check(columns.iter().map(Vec::len).sum())?;
                let known = known.zip(columns).filter_map(|(shape, columns)| Some((shape?, columns)));
                known.into_iter().try_for_each(|(shape, columns)| shape.named(columns).map(drop))?;
                Ok(None)
            }
        }
    }

    /// Whether stretches of its table can be answered one after the other.
    pub fn is_row_by_row(&self, shape: &Shape, context: &Context) -> bool {
        matches!(&self.0, Kind::OneTable(step) if step.is_row_by_row(shape, context))
    }

    /// Hands the answer over in batches; what is returned has the account.
    pub fn apply_into(
        &self,
        tables: &[(String, Table)],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> std::result::Result<Outcome, CoreError> {
        match (&self.0, tables) {
            (Kind::OneTable(step), [(_, table), ..]) => return step.apply_into(table, context, sink),
            (Kind::Within(within), [(_, events), (_, windows), ..]) => {
                return within.apply_into(events, windows, context, sink);
            }
            _ => {}
        }
        let outcome = self.apply(tables, context)?;
        sink(&outcome.table).map_err(CoreError::Sink)?;
        Ok(outcome)
    }

    /// The answer whole.
    pub fn apply(
        &self,
        tables: &[(String, Table)],
        context: &Context,
    ) -> std::result::Result<Outcome, CoreError> {
        let empty = Table::from_columns(Vec::<(&str, crate::arrow::ArrayRef)>::new())?;
        let table = |n: usize| tables.get(n).map_or(&empty, |(_, table)| table);
        match &self.0 {
            Kind::OneTable(step) => step.apply_with(table(0), context),
            Kind::Within(within) => within.apply_with(table(0), table(1), context),
            Kind::Stack(stack) => {
                let stem = |name: &str| {
                    let stem = Path::new(name).file_stem();
                    stem.map_or_else(|| name.to_owned(), |stem| stem.to_string_lossy().into_owned())
                };
                let names: Vec<String> = tables.iter().map(|(name, _)| stem(name)).collect();
                let named: Vec<(&str, &Table)> =
                    names.iter().map(String::as_str).zip(tables.iter().map(|(_, table)| table)).collect();
                stack.apply_with(&named, context)
            }
            Kind::Almanac(almanac, columns) => {
                let covering = |almanac: Almanac, ((_, table), columns): (&(String, Table), &Vec<String>)| {
                    almanac.covering(table, columns)
                };
                tables.iter().zip(columns).try_fold((**almanac).clone(), covering)?.make_with(context)
            }
        }
    }
}
