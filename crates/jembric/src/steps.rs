//! The operations by name: what each does, its settings and inputs, and the conversion of settings
//! to a [`Step`] that is prepared for its tables.
//!
//! The command line and routines know operations only through this list. It is for programs that
//! build another interface; others use [`Chain`](crate::Chain).

mod files;

pub use files::{Contents, Disk, Files, FilesOnce};

use crate::{
    Active, Add, Almanac, Changes, Columns, Context, CoreError, Earliest, Elapsed, EntityList,
    Filled, Filter, Latest, Operation, Outcome, Plan, Recent, Result, Running, Setting, Shape,
    Sink, Sort, Spells, Stack, Table, Takes, Totals, Within,
    databases::name::table_of,
    error::Error,
    open::{
        entities::{entities_of, entities_reading},
        holidays::{holidays_of, holidays_reading},
    },
    settings::{Given, GivenSettings, Settings},
};
#[cfg(feature = "draw")]
use jembric_draw::Draw;
use serde::Serialize;
use std::path::Path;

/// An operation, as it is known by its name.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Described {
    /// Its name.
    pub name: &'static str,
    /// What it does, as a phrase that begins with a verb.
    pub does: &'static str,
    /// The question that it answers.
    pub answers: &'static str,
    /// An example: the words of a command, with files of the demo harbour.
    pub example: &'static str,
    /// Its settings.
    pub settings: &'static [Setting],
    /// Its inputs.
    pub reads: Reads,
    special: Special,
    /// Makes the operation from its settings, and for an almanac from the columns to cover of each
    /// table.
    make: fn(&GivenSettings, Vec<Vec<String>>) -> std::result::Result<Step, CoreError>,
}

/// The inputs of an operation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Reads {
    /// One table.
    OneTable,
    /// Several tables, which become one.
    SeveralTables,
    /// Events and windows.
    EventsAndWindows,
    /// A table now and one before, or one table at two dates.
    NowAndBefore,
    /// The columns of tables that are named with them.
    Covering,
}

impl Reads {
    /// The most tables that it can work on; none if any number.
    pub(crate) fn most_inputs(self) -> Option<usize> {
        match self {
            Reads::OneTable => Some(1),
            Reads::EventsAndWindows | Reads::NowAndBefore => Some(2),
            Reads::SeveralTables | Reads::Covering => None,
        }
    }

    /// The key of a routine that names the tables besides the first.
    pub(crate) fn further(self) -> Option<&'static str> {
        match self {
            Reads::OneTable => None,
            Reads::SeveralTables => Some("files"),
            Reads::EventsAndWindows => Some("windows"),
            Reads::NowAndBefore => Some("before"),
            Reads::Covering => Some("covering"),
        }
    }
}

/// What a step with an operation can do besides making a table.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Special {
    Nothing,
    /// It draws a picture, which may have a file of its own.
    #[cfg_attr(not(feature = "draw"), allow(dead_code))]
    Draws,
    /// It may have several grains in a routine.
    SeveralGrains,
}

impl Described {
    /// Makes the operation from these settings, and an almanac also from the columns to cover of
    /// each table.
    ///
    /// Errors: a setting is invalid. The error knows the setting.
    pub fn step(
        &self,
        given: &GivenSettings,
        covered: Vec<Vec<String>>,
    ) -> std::result::Result<Step, CoreError> {
        (self.make)(given, covered)
    }

    /// Whether the operation draws a picture, which may have a file of its own.
    pub fn draws(&self) -> bool {
        self.special == Special::Draws
    }

    /// Whether a step may have several grains.
    pub(crate) fn has_several_grains(&self) -> bool {
        self.special == Special::SeveralGrains
    }

    /// The setting of this name.
    pub fn setting(&self, name: &str) -> Option<&'static Setting> {
        self.settings.iter().find(|setting| setting.name == name)
    }
}

/// An operation in types, which is also known by its name.
pub trait TypedOperation: Settings + Serialize + Default + 'static {
    /// The operation, as it is known by its name.
    const DESCRIBED: Described;

    /// The settings that differ from the defaults.
    fn given(&self) -> GivenSettings {
        let values = |operation: &Self| {
            let value = serde_json::to_value(operation).unwrap_or_default();
            serde_json::from_value::<GivenSettings>(value).unwrap_or_default()
        };
        let (own, default) = (values(self), values(&Self::default()));
        let mut given = GivenSettings::default();
        for (name, value) in own.iter().filter(|(name, value)| default.get(name) != Some(value)) {
            given.insert(name, value.clone());
        }
        given
    }
}

/// An operation on one table, which is a step of a [`Chain`](crate::Chain).
pub trait OnOneTable: TypedOperation {}

/// An operation on further tables besides the first.
pub trait OnMoreTables: TypedOperation {}

macro_rules! described {
    (@special) => { Special::Nothing };
    (@special $special:ident) => { Special::$special };
    (@on OneTable $operation:ident) => { impl OnOneTable for $operation {} };
    (@on SeveralTables $operation:ident) => { impl OnMoreTables for $operation {} };
    (@on EventsAndWindows $operation:ident) => { impl OnMoreTables for $operation {} };
    (@on NowAndBefore $operation:ident) => {
        impl OnOneTable for $operation {}
        impl OnMoreTables for $operation {}
    };
    (@on Covering $operation:ident) => {};
    (@kind) => { |operation, _| AnyOperation::OneTable(Box::new(operation)) };
    (@kind $kind:expr) => { $kind };
    ($(#[$about:meta])* $list:ident: $(
        $(#[$on:meta])? $operation:ident $reads:ident $(+ $special:ident)? $example:literal
        $(=> $kind:expr)?
    ),* $(,)?) => {
        $(#[$about])*
        pub const $list: &[Described] =
            &[$($(#[$on])? <$operation as TypedOperation>::DESCRIBED),*];

        $(
            $(#[$on])?
            impl TypedOperation for $operation {
                const DESCRIBED: Described = Described {
                    name: $operation::NAME,
                    does: $operation::DOES,
                    answers: $operation::ANSWERS,
                    example: $example,
                    settings: $operation::SETTINGS,
                    reads: Reads::$reads,
                    special: described!(@special $($special)?),
                    make: |given, covered| {
                        let kind: fn($operation, Vec<Vec<String>>) -> AnyOperation =
                            described!(@kind $($kind)?);
                        Ok(Step(kind($operation::from_given(given)?, covered)))
                    },
                };
            }

            $(#[$on])?
            described!(@on $reads $operation);
        )*
    };
}

described! {
    /// All operations, in the order of the help.
    OPERATIONS:
    Latest OneTable
        "latest inspections.csv --per vessel --date inspected_on",
    Earliest OneTable
        "earliest inspections.csv --per vessel --date inspected_on",
    Active OneTable
        "active stays.csv --start arrived --end left --grain month --count",
    Spells OneTable
        "spells stays.csv --per berth --start arrived --end left --idle",
    Within EventsAndWindows
        "within lifts.csv stays.csv --match vessel --date lifted_on --window arrived..left"
        => |operation, _| AnyOperation::Within(Box::new(operation)),
    Changes NowAndBefore
        "changes inspections.csv --per vessel --date inspected_on --between \
            2025-05-31..2025-06-30 --ties first"
        => |operation, _| AnyOperation::Changes(Box::new(operation)),
    Elapsed OneTable
        "elapsed dues.csv --from due --to paid --bands 0,1,15,30",
    Running OneTable
        "running gauge.csv --per gauge --date day --max level_m --mark-highs is_high --missing -",
    Filled OneTable
        "filled gauge.csv --per gauge --date day --carry level_m --mark was_added --missing -",
    Totals OneTable + SeveralGrains
        "totals dues.csv --date issued --each weekday --sum amount --side-by-side class --margins",
    Recent OneTable
        "recent lifts.csv --date lifted_on --last '7 days'",
    Almanac Covering
        "almanac --covering stays.csv:arrived,left --whole-years --year-start April --out \
            calendar.csv"
        => |operation, covered| AnyOperation::Almanac(Box::new(operation), covered),
    Filter OneTable
        "filter gauge.csv 'level_m > 3.2 and weekday(day) in (tue, thu)' --missing -",
    Add OneTable
        "add dues.csv 'days_late = paid - due' 'fee = amount * 0.075'",
    Sort OneTable
        "sort lifts.csv tons:down,lifted_on",
    Columns OneTable
        "columns stays.csv 'vessel, arrived as came, left as went'",
    Stack SeveralTables
        "stack fuel_in.csv fuel_out.csv --source book"
        => |operation, _| AnyOperation::Stack(operation),
    #[cfg(feature = "draw")]
    Draw OneTable + Draws
        "draw gauge.csv --missing - --write gauge.svg"
        => |operation, _| AnyOperation::Draw(Box::new(operation)),
}

/// The operation with this name.
pub fn described(name: &str) -> Option<&'static Described> {
    OPERATIONS.iter().find(|operation| operation.name == name)
}

/// Splits `FILE:COL,…` into a file and its columns.
pub fn file_and_columns(setting: &'static str, text: &str) -> Result<(String, Vec<String>)> {
    let parts =
        text.rsplit_once(':').filter(|(file, columns)| !file.is_empty() && !columns.is_empty());
    let (file, columns) = parts.ok_or_else(|| Error::Setting {
        setting,
        value: format!("`{text}`"),
        expected: "a file and its columns, such as `stays.csv:arrived,left`".to_owned(),
    })?;
    Ok((file.to_owned(), columns.split(',').map(|column| column.trim().to_owned()).collect()))
}

/// Replaces the files of holidays and entities in settings by their contents.
///
/// Errors: such a file cannot be read; the error knows the setting.
pub fn resolved(
    described: &Described,
    settings: &GivenSettings,
    files: &dyn Files,
) -> Result<GivenSettings> {
    let mut resolved = settings.clone();
    for setting in described.settings {
        let Some(Given::Text(text)) = settings.get(setting.name) else { continue };
        let value: Given = match setting.takes {
            Takes::Days => {
                let table = files.table(text, &holidays_reading());
                let days = table.and_then(|table| holidays_of(&table));
                let days = days.map_err(|error| error.of_setting(setting.name))?;
                days.iter().map(ToString::to_string).collect()
            }
            Takes::Entities => {
                let (file, columns) = file_and_columns(setting.name, text)?;
                let reading = entities_reading(&columns);
                // Only these columns are read, so a missing one is looked for among all names.
                let known = files.shape(&file, &reading).and_then(|shape| {
                    let missing = |shape: &Shape| {
                        columns.iter().try_for_each(|column| shape.find(column).map(drop))
                    };
                    Ok(shape.as_ref().map_or(Ok(()), missing)?)
                });
                known.map_err(|error| error.of_setting(setting.name))?;
                let table = files.table(&file, &reading);
                let list = table.and_then(|table| entities_of(&table, &columns));
                Given::from(&list.map_err(|error| error.of_setting(setting.name))? as &EntityList)
            }
            _ => continue,
        };
        resolved.insert(setting.name, value);
    }
    Ok(resolved)
}

/// An operation with its settings.
#[derive(Debug)]
pub struct Step(AnyOperation);

#[derive(Debug)]
enum AnyOperation {
    OneTable(Box<dyn Operation>),
    Stack(Stack),
    Within(Box<Within>),
    Changes(Box<Changes>),
    Almanac(Box<Almanac>, Vec<Vec<String>>),
    #[cfg(feature = "draw")]
    Draw(Box<Draw>),
}

/// The name of a table in ledgers: that of its file, without the extension, or of the table of a
/// database.
fn stem(name: &str) -> String {
    if let Some(table) = table_of(name) {
        return table;
    }
    let stem = Path::new(name).file_stem();
    stem.map_or_else(|| name.to_owned(), |stem| stem.to_string_lossy().into_owned())
}

impl Step {
    /// The settings of a picture, if the step draws one.
    #[cfg(feature = "draw")]
    pub(crate) fn draw(&self) -> Option<&Draw> {
        match &self.0 {
            AnyOperation::Draw(draw) => Some(draw),
            _ => None,
        }
    }

    /// Prepares the operation for tables of these shapes, each with its name; none if a shape that
    /// is needed is unknown.
    ///
    /// Errors: everything that can be wrong without the data.
    pub fn prepare(
        &self,
        tables: &[(String, Option<Shape>)],
        context: &Context,
    ) -> std::result::Result<Option<Plan>, CoreError> {
        let Some(shapes) =
            tables.iter().map(|(_, shape)| shape.as_ref()).collect::<Option<Vec<&Shape>>>()
        else {
            return Ok(None);
        };
        let names: Vec<String> = tables.iter().map(|(name, _)| stem(name)).collect();
        match (&self.0, &shapes[..]) {
            (AnyOperation::OneTable(step), [shape, ..]) => step.prepare(shape, context),
            #[cfg(feature = "draw")]
            (AnyOperation::Draw(draw), [shape, ..]) => draw.prepare(shape, context),
            #[cfg(feature = "draw")]
            (AnyOperation::Draw(_), _) => return Ok(None),
            (AnyOperation::Within(within), [events, windows, ..]) => {
                within.prepare(events, windows, context)
            }
            (AnyOperation::Changes(changes), [now, older @ ..]) => {
                changes.prepare(now, older.first().copied(), context)
            }
            (AnyOperation::Stack(stack), shapes) => {
                let named: Vec<(&str, &Shape)> =
                    names.iter().map(String::as_str).zip(shapes.iter().copied()).collect();
                stack.prepare(&named, context)
            }
            (AnyOperation::Almanac(almanac, columns), shapes) => {
                let covered: Vec<(&Shape, &[String])> =
                    shapes.iter().copied().zip(columns.iter().map(Vec::as_slice)).collect();
                almanac.prepare(&covered, context)
            }
            // A step without its tables is refused when it is parsed.
            (AnyOperation::OneTable(_) | AnyOperation::Within(_) | AnyOperation::Changes(_), _) => {
                return Ok(None);
            }
        }
        .map(Some)
    }

    /// Prepares the operation for these tables, each with its name. Errors name the cells that
    /// cause them.
    ///
    /// Errors: everything that can be wrong without the data.
    pub fn prepare_for(
        &self,
        tables: &[(String, Table)],
        context: &Context,
    ) -> std::result::Result<Plan, CoreError> {
        match (&self.0, tables) {
            (AnyOperation::OneTable(step), [(_, table), ..]) => {
                return step.prepare_for(table, context);
            }
            (AnyOperation::Within(within), [(_, events), (_, windows), ..]) => {
                return within.prepare_for(events, windows, context);
            }
            (AnyOperation::Changes(changes), [(_, now), older @ ..]) => {
                let older = older.first().map(|(_, older)| older);
                return changes.prepare_for(now, older, context);
            }
            _ => {}
        }
        let shapes: Vec<(String, Option<Shape>)> =
            tables.iter().map(|(name, table)| (name.clone(), Some(table.shape()))).collect();
        let plan = self.prepare(&shapes, context).map_err(|error| match tables {
            [(_, table), ..] => table.explained(error),
            [] => error,
        })?;
        plan.ok_or_else(|| CoreError::Broken { invariant: "a step has no input" })
    }

    /// Delivers the result in batches, and returns the account.
    ///
    /// Errors: those of [`prepare_for`](Step::prepare_for), of the data, and of the sink.
    pub fn apply_into(
        &self,
        tables: &[(String, Table)],
        context: &Context,
        sink: &mut Sink<'_>,
    ) -> std::result::Result<Outcome, CoreError> {
        self.prepare_for(tables, context)?.apply_into(&unnamed(tables), sink)
    }

    /// Applies the operation to these tables.
    ///
    /// Errors: those of [`prepare_for`](Step::prepare_for), and of the data.
    pub fn apply(
        &self,
        tables: &[(String, Table)],
        context: &Context,
    ) -> std::result::Result<Outcome, CoreError> {
        self.prepare_for(tables, context)?.apply(&unnamed(tables))
    }
}

/// The tables without their names.
fn unnamed(tables: &[(String, Table)]) -> Vec<&Table> {
    tables.iter().map(|(_, table)| table).collect()
}
