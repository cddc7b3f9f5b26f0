//! Converts steps to the text of a routine.

use super::{Input, Planned, Routine, stands_alone};
use crate::{
    Error, Result, Takes, databases::existing::Existing, settings::Given, steps::Reads,
    uri::shown_name,
};
use toml::{Table, Value as Toml};

impl Routine {
    /// The text of the routine, which can be parsed to the same steps. `path` converts the name of
    /// a file to its name in the routine.
    ///
    /// Errors: a step reads standard input, which cannot be read again.
    pub fn to_text(&self, path: impl Fn(&str) -> String) -> Result<String> {
        let mut whole = Table::new();
        let texts = [
            ("title", &self.title),
            ("as-of", &self.as_of),
            ("zone", &self.zone),
            ("page", &self.page),
            ("memory", &self.memory.map(|size| size.to_string())),
        ];
        for (key, text) in texts {
            if let Some(text) = text {
                whole.insert(key.to_owned(), text.clone().into());
            }
        }
        let mut text = toml::to_string(&whole).unwrap_or_default();
        for (n, step) in self.steps.iter().enumerate() {
            text.push_str("\n[[step]]\n");
            text.push_str(&self.step_text(n, step, &path)?);
        }
        Ok(text)
    }

    fn step_text(
        &self,
        n: usize,
        step: &Planned,
        path: &impl Fn(&str) -> String,
    ) -> Result<String> {
        // A password does not belong in a file.
        let path = &|file: &str| shown_name(&path(file));
        let input = |input: &Input| -> Result<Toml> {
            match input {
                Input::Step(earlier) => Ok(self.steps[*earlier].title().into()),
                Input::File(file, _) if file == "-" => Err(Error::Setting {
                    setting: "save-routine",
                    value: "standard input, which will not be there again".to_owned(),
                    expected: "a file to read".to_owned(),
                }),
                Input::File(file, settings) => {
                    let mut table = Table::try_from(settings).unwrap_or_default();
                    if table.is_empty() {
                        return Ok(path(file).into());
                    }
                    table.insert("file".to_owned(), path(file).into());
                    Ok(table.into())
                }
            }
        };
        let mut keys: Vec<(&str, Toml)> = Vec::new();
        if let Some(name) = &step.name {
            keys.push(("name", name.clone().into()));
        }
        let (first, further) = match step.operation.reads {
            Reads::Covering => (None, &step.inputs[..]),
            _ => (step.inputs.first(), step.inputs.get(1..).unwrap_or_default()),
        };
        if let Some(columns) = &step.key {
            keys.push(("key", columns.clone().into()));
        }
        for (key, text) in [("heading", &step.page.heading), ("say", &step.page.say)] {
            keys.extend(text.as_ref().map(|text| (key, Toml::from(text.clone()))));
        }
        if let Some(show) = &step.page.show {
            let words: Vec<&str> = show.iter().map(|show| show.word()).collect();
            keys.push(("show", words.into()));
        }
        match first {
            Some(Input::Step(earlier)) if earlier + 1 == n => {}
            Some(first @ Input::Step(_)) => keys.push(("from", input(first)?)),
            Some(first) => keys.push(("read", input(first)?)),
            None => {}
        }
        let mut settings = Table::new();
        for (name, value) in step.settings.iter() {
            settings.insert(name.to_owned(), self.setting(step, name, value, path));
        }
        if !step.grains.is_empty() {
            settings.insert("grain".to_owned(), step.grains.clone().into());
        }
        further_inputs(step, further, &input, &mut settings)?;
        if let Some(picture) = &step.picture {
            settings.insert("write".to_owned(), picture.clone().into());
        }
        let alone = if settings.len() == 1 { settings.iter().next() } else { None };
        let alone = alone.filter(|(name, _)| {
            step.operation.setting(name).is_some_and(|setting| stands_alone(setting.takes))
        });
        let asked = alone.map(|(_, value)| value.clone());
        let asked = asked.unwrap_or_else(|| settings.into());
        keys.push((step.operation.name, asked));
        keys.extend(step.write.as_ref().map(|file| ("write", output(file, step.existing))));
        // One line for each key, with inner tables in braces.
        Ok(keys.into_iter().map(|(key, value)| format!("{key} = {value}\n")).collect())
    }

    /// The value of a setting, with the names of its files as in the routine.
    fn setting(
        &self,
        step: &Planned,
        name: &str,
        value: &Given,
        path: &impl Fn(&str) -> String,
    ) -> Toml {
        let takes = step.operation.setting(name).map(|setting| setting.takes);
        match (takes, value) {
            (Some(Takes::Days), Given::Text(file)) => path(file).into(),
            (Some(Takes::Entities), Given::Text(text)) => match text.rsplit_once(':') {
                Some((file, columns)) => format!("{}:{columns}", path(file)).into(),
                None => text.clone().into(),
            },
            _ => Toml::try_from(value).unwrap_or_else(|_| value.to_string().into()),
        }
    }
}

/// Adds the tables besides the first to the settings of a step.
fn further_inputs(
    step: &Planned,
    further: &[Input],
    input: &dyn Fn(&Input) -> Result<Toml>,
    settings: &mut Table,
) -> Result<()> {
    let Some(key) = step.operation.reads.further() else { return Ok(()) };
    match step.operation.reads {
        Reads::SeveralTables => {
            let files = further.iter().map(input).collect::<Result<Vec<_>>>()?;
            settings.insert(key.to_owned(), files.into());
        }
        Reads::Covering => {
            let covering = further.iter().zip(&step.covered).map(|(one, columns)| {
                let name = match input(one)? {
                    Toml::String(name) => name,
                    _ => {
                        return Err(Error::Setting {
                            setting: "save-routine",
                            value: "an almanac of a file that is read in a way of its own"
                                .to_owned(),
                            expected: "a file that needs none, or a step that reads it".to_owned(),
                        });
                    }
                };
                Ok(Toml::from(format!("{name}:{}", columns.join(","))))
            });
            settings.insert(key.to_owned(), covering.collect::<Result<Vec<_>>>()?.into());
        }
        Reads::OneTable | Reads::EventsAndWindows | Reads::NowAndBefore => {
            if let Some(second) = further.first() {
                settings.insert(key.to_owned(), input(second)?);
            }
        }
    }
    Ok(())
}

/// The output of a step, with what to do if it is a table that exists.
fn output(file: &str, existing: Existing) -> Toml {
    let name = shown_name(file);
    let word = match existing {
        Existing::Refuse => return name.into(),
        Existing::Replace => "replace",
        Existing::Append => "append",
    };
    let mut output = Table::new();
    output.insert("file".to_owned(), name.into());
    output.insert(word.to_owned(), true.into());
    output.into()
}
