//! Parses the text of a routine: TOML, with every key checked.

use super::{Input, OnPage, Planned, Routine, Show, Text, stands_alone};
use crate::{
    Result,
    data::{memory::Memory, size::Size},
    databases::existing::Existing,
    read::reading::Reading,
    settings::{Given, GivenSettings},
    steps::{Described, OPERATIONS, Reads, described, file_and_columns},
    uri::{shown_name, with_table},
};
use serde_json::Value;
use std::{ops::Range, sync::Arc};
use toml::{
    Spanned,
    de::{DeString, DeTable, DeValue},
};

/// The keys of a step besides its operation.
const OF_A_STEP: [&str; 8] = ["name", "read", "from", "write", "key", "heading", "say", "show"];
/// The keys that name an input or output.
const OF_A_NAME: [&str; 3] = ["file", "url", "table"];
const OF_A_ROUTINE: [&str; 6] = ["title", "as-of", "zone", "page", "memory", "step"];

impl Routine {
    /// Parses a routine; `file` is its name for messages.
    ///
    /// Errors: invalid TOML; an unknown key, with the nearest known one; a step without an
    /// operation or with two; a step that does not exist or comes later. Each message marks its
    /// line.
    pub fn parse(file: &str, text: &str) -> Result<Routine> {
        let whole = Arc::new(Text { file: file.to_owned(), text: text.to_owned() });
        let table = DeTable::parse(text).map_err(|error| {
            whole.error(error.span().unwrap_or(0..0), error.message().to_owned(), "")
        })?;
        let parser = Parser { text: &whole, names: names_of(table.get_ref()) };
        let mut routine = Routine { text: Some(whole.clone()), ..Routine::default() };
        for (key, value) in table.get_ref() {
            match key.get_ref().as_ref() {
                "title" => {
                    (routine.title, routine.title_at) =
                        (Some(parser.text_of(value)?), value.span());
                }
                "as-of" => {
                    (routine.as_of, routine.as_of_at) =
                        (Some(parser.text_of(value)?), value.span());
                }
                "zone" => {
                    (routine.zone, routine.zone_at) = (Some(parser.text_of(value)?), value.span())
                }
                "page" => {
                    (routine.page, routine.page_at) = (Some(parser.text_of(value)?), value.span());
                }
                "memory" => {
                    let size = parser.text_of(value)?.parse::<Size>();
                    let size = size.and_then(|size| Memory::expect_enough(size).map(|()| size));
                    routine.memory = Some(size.map_err(|error| {
                        whole.error(value.span(), error.rendered(&super::routine_words), "")
                    })?);
                }
                "step" => {
                    for step in parser.list_of(value)? {
                        let planned = parser.step(step, &routine.steps)?;
                        routine.steps.push(planned);
                    }
                }
                name => {
                    return Err(parser.unknown(
                        "a key of a routine",
                        name,
                        key.span(),
                        &OF_A_ROUTINE,
                    ));
                }
            }
        }
        if routine.steps.is_empty() {
            return Err(whole.error(
                0..0,
                "the routine has no steps",
                "begin a step with [[step]]",
            ));
        }
        Ok(routine)
    }
}

/// The names of all steps.
fn names_of(table: &DeTable<'_>) -> Vec<String> {
    let steps = table.get("step").map(|steps| json(steps.get_ref()));
    let names = steps.as_ref().and_then(Value::as_array).into_iter().flatten();
    names.filter_map(|step| Some(step.get("name")?.as_str()?.to_owned())).collect()
}

struct Parser<'a> {
    text: &'a Arc<Text>,
    names: Vec<String>,
}

/// A value with its place in the text.
type Placed<'a> = Spanned<DeValue<'a>>;

/// The keys of a step.
#[derive(Default)]
struct StepParts<'a> {
    name: Option<String>,
    write: Option<String>,
    existing: Existing,
    page: OnPage,
    key: Option<Vec<String>>,
    /// The first input.
    first: Option<Input>,
    /// The operation, its place and its settings.
    operation: Option<(&'static Described, Range<usize>, &'a Placed<'a>)>,
    /// The places of keys and files in the text.
    places: Vec<(String, Range<usize>)>,
}

impl Parser<'_> {
    /// Reads one key of a step.
    fn part<'a>(
        &self,
        key: &Spanned<DeString<'a>>,
        value: &'a Placed<'a>,
        before: &[Planned],
        parts: &mut StepParts<'a>,
    ) -> Result<()> {
        match key.get_ref().as_ref() {
            "name" => {
                let text = self.text_of(value)?;
                if before.iter().any(|other| other.name.as_ref() == Some(&text)) {
                    return Err(self.text.error(
                        value.span(),
                        format!("two steps are named `{text}`"),
                        "rename one",
                    ));
                }
                parts.name = Some(text);
            }
            "write" => {
                let (name, what) = self.written(value)?;
                (parts.write, parts.existing) = (Some(name), what);
                parts.places.push(("write".to_owned(), value.span()));
            }
            key_name @ ("heading" | "say") => {
                let text = Some(self.text_of(value)?);
                match key_name {
                    "heading" => parts.page.heading = text,
                    _ => parts.page.say = text,
                }
                parts.places.push((key_name.to_owned(), value.span()));
            }
            "key" => {
                let columns = self.list_of(value)?.into_iter().map(|one| self.text_of(one));
                parts.key = Some(columns.collect::<Result<Vec<_>>>()?);
                parts.places.push(("key".to_owned(), value.span()));
            }
            "show" => {
                let shown = self.list_of(value)?.into_iter().map(|one| self.show(one));
                parts.page.show = Some(shown.collect::<Result<_>>()?);
                parts.places.push(("show".to_owned(), value.span()));
            }
            key_name @ ("read" | "from") => {
                if parts.first.is_some() {
                    return Err(self.text.error(
                        key.span(),
                        "a step has both `read` and `from`",
                        "choose one",
                    ));
                }
                if let Ok(Input::File(file, _)) = self.file(value) {
                    parts.places.push((file, value.span()));
                }
                parts.first = Some(match key_name {
                    "read" => self.file(value)?,
                    _ => Input::Step(self.earlier(&self.text_of(value)?, value.span(), before)?),
                });
            }
            word => {
                let operation = self.operation(word, key.span())?;
                if let Some((other, ..)) = parts.operation.replace((operation, key.span(), value)) {
                    let problem =
                        format!("a step has two operations, `{}` and `{word}`", other.name);
                    return Err(self.text.error(key.span(), problem, "write two steps"));
                }
            }
        }
        Ok(())
    }

    fn step(&self, step: &Placed<'_>, before: &[Planned]) -> Result<Planned> {
        let DeValue::Table(keys) = step.get_ref() else {
            return Err(self.text.error(
                step.span(),
                "a step is a table",
                "write [[step]] above its keys",
            ));
        };
        let mut parts = StepParts::default();
        for (key, value) in keys {
            self.part(key, value, before, &mut parts)?;
        }
        let StepParts { name, write, existing, page, key, first, operation, places } = parts;
        let Some((operation, at, value)) = operation else {
            let operations: Vec<&str> = OPERATIONS.iter().map(|operation| operation.name).collect();
            let advice = format!("one of {}", operations.join(", "));
            return Err(self.text.error(step.span(), "a step has no operation", advice));
        };
        let inputs = match (first, before.len()) {
            (Some(first), _) => vec![first],
            (None, 0) => Vec::new(),
            (None, steps) => vec![Input::Step(steps - 1)],
        };
        let mut planned = Planned {
            name,
            write,
            existing,
            key,
            page,
            at: at.clone(),
            ..Planned::new(operation, GivenSettings::default(), inputs)
        };
        planned.settings_at = places;
        self.settings(value, &mut planned, before)?;
        let planned = planned.with_picture_placed();
        if planned.inputs.len() < planned.least_inputs() {
            let (problem, advice) = match operation.reads {
                Reads::EventsAndWindows if !planned.inputs.is_empty() => (
                    "the step has no windows",
                    "add windows = \"stays.csv\", or the name of a step",
                ),
                _ => (
                    "the step has no input, and there is no step before it",
                    "read = \"stays.csv\"",
                ),
            };
            return Err(self.text.error(at, problem, advice));
        }
        Ok(planned)
    }

    /// The operation that a key of a step names.
    fn operation(&self, word: &str, at: Range<usize>) -> Result<&'static Described> {
        described(word).ok_or_else(|| {
            let operations = OPERATIONS.iter().map(|operation| operation.name);
            let known: Vec<&str> = OF_A_STEP.into_iter().chain(operations).collect();
            self.unknown("a key of a step", word, at, &known)
        })
    }

    /// The settings of an operation.
    fn settings(
        &self,
        value: &Placed<'_>,
        planned: &mut Planned,
        before: &[Planned],
    ) -> Result<()> {
        let operation = planned.operation;
        let DeValue::Table(keys) = value.get_ref() else {
            return self.short(value, planned, before);
        };
        for (key, value) in keys {
            let name = key.get_ref().as_ref();
            match name {
                _ if operation.reads.further() == Some(name) => {
                    self.further_tables(value, planned, before)?;
                }
                "write" if operation.draws() => {
                    planned.picture = Some(self.text_of(value)?);
                    planned.settings_at.push(("write".to_owned(), value.span()));
                }
                "grain"
                    if operation.has_several_grains()
                        && matches!(value.get_ref(), DeValue::Array(_)) =>
                {
                    self.grains(value, planned)?;
                }
                _ => {
                    if operation.setting(name).is_some() {
                        let Some(given) = given(value.get_ref()) else {
                            let problem = format!("`{name}` is a table");
                            return Err(self.text.error(
                                value.span(),
                                problem,
                                "write one value or a list",
                            ));
                        };
                        planned.settings.insert(name, given);
                        planned.settings_at.push((name.to_owned(), value.span()));
                        continue;
                    }
                    let known: Vec<&str> = operation
                        .settings
                        .iter()
                        .map(|setting| setting.name)
                        .chain(operation.reads.further())
                        .chain(operation.draws().then_some("write"))
                        .collect();
                    return Err(self.unknown(
                        &format!("a setting of {}", operation.name),
                        name,
                        key.span(),
                        &known,
                    ));
                }
            }
        }
        Ok(())
    }

    /// The tables of a step besides the first.
    fn further_tables(
        &self,
        value: &Placed<'_>,
        planned: &mut Planned,
        before: &[Planned],
    ) -> Result<()> {
        match planned.operation.reads {
            Reads::SeveralTables => {
                for one in self.list_of(value)? {
                    self.further(one, planned, before)?;
                }
            }
            Reads::Covering => {
                planned.inputs.clear();
                for one in self.list_of(value)? {
                    let (file, columns) = file_and_columns("covering", &self.text_of(one)?)
                        .map_err(|error| self.text.error(one.span(), error.to_string(), ""))?;
                    planned.inputs.push(self.named(&file, one.span(), before)?);
                    planned.settings_at.push((file, one.span()));
                    planned.covered.push(columns);
                }
            }
            Reads::OneTable | Reads::EventsAndWindows | Reads::NowAndBefore => {
                self.further(value, planned, before)?;
            }
        }
        Ok(())
    }

    /// The short form of operations with one main setting: `filter = "level > 3"`,
    /// `stack = ["a.csv", "b.csv"]`.
    fn short(&self, value: &Placed<'_>, planned: &mut Planned, before: &[Planned]) -> Result<()> {
        if planned.operation.reads == Reads::SeveralTables {
            return self.further_tables(value, planned, before);
        }
        let setting = planned.operation.settings.iter().find(|setting| stands_alone(setting.takes));
        let Some(setting) = setting else {
            let problem = format!("the settings of {} are a table", planned.operation.name);
            let advice = format!("{} = {{ … }}", planned.operation.name);
            return Err(self.text.error(value.span(), problem, advice));
        };
        let Some(given) = given(value.get_ref()) else { return Ok(()) };
        planned.settings.insert(setting.name, given);
        planned.settings_at.push((setting.name.to_owned(), value.span()));
        Ok(())
    }

    /// A way to show a result on the report page.
    fn show(&self, value: &Placed<'_>) -> Result<Show> {
        let word = self.text_of(value)?;
        Show::ALL.into_iter().find(|show| show.word() == word).ok_or_else(|| {
            let known = Show::ALL.map(Show::word);
            self.unknown("a way to show a result", &word, value.span(), &known)
        })
    }

    /// The grains of totals with several. The first one is that of the result.
    fn grains(&self, value: &Placed<'_>, planned: &mut Planned) -> Result<()> {
        let mut grains: Vec<String> = Vec::new();
        for one in self.list_of(value)? {
            let grain = self.text_of(one)?;
            if grains.contains(&grain) {
                let problem = format!("the grain `{grain}` is listed twice");
                return Err(self.text.error(one.span(), problem, "remove one"));
            }
            grains.push(grain);
        }
        let Some(first) = grains.first() else {
            let advice = "list the grains: [\"year\", \"month\"]";
            return Err(self.text.error(value.span(), "the list of grains is empty", advice));
        };
        planned.settings.insert("grain", Given::Text(first.clone()));
        planned.settings_at.push(("grain".to_owned(), value.span()));
        planned.grains = if grains.len() > 1 { grains } else { Vec::new() };
        Ok(())
    }

    /// A file, given by its name or with reading settings.
    fn file(&self, value: &Placed<'_>) -> Result<Input> {
        let DeValue::Table(keys) = value.get_ref() else {
            return Ok(Input::File(self.text_of(value)?, Box::default()));
        };
        let settings = Reading::SETTINGS.iter().map(|setting| setting.name);
        let known: Vec<&str> = OF_A_NAME.into_iter().chain(settings).collect();
        self.expect_known("a setting of an input", keys, &known)?;
        let mut settings = json(value.get_ref());
        let file = self.named_in(&mut settings, value.span())?;
        match serde_json::from_value(settings) {
            Ok(settings) => Ok(Input::File(file, Box::new(settings))),
            Err(error) => Err(self.text.error(value.span(), error.to_string(), "")),
        }
    }

    /// Errors: a table has a key that is not one of these.
    fn expect_known(&self, what: &str, keys: &DeTable<'_>, known: &[&str]) -> Result<()> {
        match keys.keys().find(|key| !known.contains(&key.get_ref().as_ref())) {
            None => Ok(()),
            Some(key) => Err(self.unknown(what, key.get_ref().as_ref(), key.span(), known)),
        }
    }

    /// Takes the name of a file or database, and of its table, out of the settings of an input or
    /// output.
    fn named_in(&self, settings: &mut Value, at: Range<usize>) -> Result<String> {
        let mut take = |key: &str| settings.as_object_mut()?.remove(key);
        let name = match (take("file"), take("url")) {
            (Some(Value::String(name)), None) | (None, Some(Value::String(name))) => name,
            (Some(_), Some(_)) => {
                return Err(self.text.error(
                    at,
                    "the table names a file and a URL",
                    "choose one of `file` and `url`",
                ));
            }
            _ => {
                return Err(self.text.error(
                    at,
                    "the table does not name a file",
                    "file = \"stays.csv\", or url = \"postgresql://localhost/harbour\"",
                ));
            }
        };
        match take("table") {
            None => Ok(name),
            Some(Value::String(table)) => Ok(with_table(&name, &table)),
            Some(other) => {
                let problem = format!("{other} is not the name of a table");
                Err(self.text.error(at, problem, "write it in quotes"))
            }
        }
    }

    /// The output of a step: a file, or a table of a database with what to do if it exists.
    fn written(&self, value: &Placed<'_>) -> Result<(String, Existing)> {
        let DeValue::Table(keys) = value.get_ref() else {
            return Ok((self.text_of(value)?, Existing::Refuse));
        };
        let known: Vec<&str> = OF_A_NAME.into_iter().chain(["replace", "append"]).collect();
        self.expect_known("a setting of an output", keys, &known)?;
        let mut settings = json(value.get_ref());
        let name = self.named_in(&mut settings, value.span())?;
        let is_set = |key: &str| match settings.get(key) {
            None | Some(Value::Bool(false)) => Ok(false),
            Some(Value::Bool(true)) => Ok(true),
            Some(other) => {
                let problem = format!("`{key}` is {other}");
                Err(self.text.error(value.span(), problem, "write true or false"))
            }
        };
        match (is_set("replace")?, is_set("append")?) {
            (true, true) => Err(self.text.error(
                value.span(),
                "the table is to be replaced, and rows are to be added to it",
                "choose one of `replace` and `append`",
            )),
            (true, false) => Ok((name, Existing::Replace)),
            (false, true) => Ok((name, Existing::Append)),
            (false, false) => Ok((name, Existing::Refuse)),
        }
    }

    /// A further table of a step.
    fn further(&self, value: &Placed<'_>, planned: &mut Planned, before: &[Planned]) -> Result<()> {
        let input = self.table(value, before)?;
        if let Input::File(file, _) = &input {
            planned.settings_at.push((file.clone(), value.span()));
        }
        planned.inputs.push(input);
        Ok(())
    }

    /// An earlier step, or a file.
    fn table(&self, value: &Placed<'_>, before: &[Planned]) -> Result<Input> {
        match value.get_ref() {
            DeValue::Table(_) => self.file(value),
            _ => self.named(&self.text_of(value)?, value.span(), before),
        }
    }

    /// The earlier step with this name, or the file.
    fn named(&self, text: &str, at: Range<usize>, before: &[Planned]) -> Result<Input> {
        if before.iter().any(|step| step.name.as_deref() == Some(text))
            || self.names.iter().any(|name| name == text)
        {
            self.earlier(text, at, before).map(Input::Step)
        } else {
            Ok(Input::File(text.to_owned(), Box::default()))
        }
    }

    fn earlier(&self, name: &str, at: Range<usize>, before: &[Planned]) -> Result<usize> {
        let step = before.iter().position(|step| step.name.as_deref() == Some(name));
        step.ok_or_else(|| {
            if self.names.iter().any(|other| other == name) {
                let problem =
                    format!("`{name}` is this step or a later one, which would be a cycle");
                return self.text.error(at, problem, "a step can only use earlier steps");
            }
            let names: Vec<&str> = before.iter().filter_map(|step| step.name.as_deref()).collect();
            let known = if names.is_empty() {
                "no earlier step has a name".to_owned()
            } else {
                format!("the earlier steps are {}", names.join(", "))
            };
            let meant = jembric_core::nearest_name(name, names.into_iter());
            let advice = meant.map_or(known, |meant| format!("did you mean `{meant}`?"));
            let problem = format!("no earlier step is named `{}`", shown_name(name));
            self.text.error(at, problem, advice)
        })
    }

    fn text_of(&self, value: &Placed<'_>) -> Result<String> {
        match json(value.get_ref()) {
            Value::String(text) => Ok(text),
            other => Err(self.text.error(
                value.span(),
                format!("{other} is not a string"),
                "write it in quotes",
            )),
        }
    }

    fn list_of<'v>(&self, value: &'v Placed<'v>) -> Result<Vec<&'v Placed<'v>>> {
        match value.get_ref() {
            DeValue::Array(values) => Ok(values.iter().collect()),
            _ => Err(self.text.error(
                value.span(),
                "this is not a list",
                "write it in brackets: [\"…\"]",
            )),
        }
    }

    fn unknown(&self, what: &str, name: &str, at: Range<usize>, known: &[&str]) -> crate::Error {
        let meant = jembric_core::nearest_name(name, known.iter().copied());
        let advice = match meant {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => format!("there are {}", known.join(", ")),
        };
        self.text.error(at, format!("`{}` is not {what}", shown_name(name)), advice)
    }
}

/// A value as a given setting, with dates as text. A table is not a value.
fn given(value: &DeValue<'_>) -> Option<Given> {
    Some(match value {
        DeValue::String(text) => Given::Text(text.to_string()),
        // A number beyond 64 bits becomes a text with all its digits. A setting for texts takes it
        // as it is, and one for numbers refuses it.
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
            .map_or_else(|_| Given::Text(number.to_string()), Given::Number),
        DeValue::Float(number) => Given::Text(number.as_str().to_owned()),
        DeValue::Boolean(truth) => Given::Truth(*truth),
        DeValue::Datetime(date) => Given::Text(date.to_string()),
        DeValue::Array(values) => values
            .iter()
            .map(|value| given(value.get_ref()))
            .collect::<Option<Vec<_>>>()
            .map(Given::List)?,
        DeValue::Table(_) => return None,
    })
}

/// A value for deserializing settings, with dates as text.
fn json(value: &DeValue<'_>) -> Value {
    match value {
        DeValue::String(text) => Value::from(text.as_ref()),
        // A number beyond 64 bits becomes a text with all its digits. A setting for texts takes it
        // as it is, and one for numbers refuses it.
        DeValue::Integer(number) => i64::from_str_radix(number.as_str(), number.radix())
            .map_or_else(|_| Value::from(number.to_string()), Value::from),
        DeValue::Float(number) => Value::from(number.as_str()),
        DeValue::Boolean(truth) => Value::from(*truth),
        DeValue::Datetime(date) => Value::from(date.to_string()),
        DeValue::Array(values) => values.iter().map(|value| json(value.get_ref())).collect(),
        DeValue::Table(table) => Value::Object(
            table
                .iter()
                .map(|(key, value)| (key.get_ref().to_string(), json(value.get_ref())))
                .collect(),
        ),
    }
}
