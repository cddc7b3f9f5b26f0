//! Which columns the steps of a routine use, so that the others need not be read.
//!
//! From the last step back to the first: an answer that is shown or written is needed whole, that of a step in between as
//! far as later steps go. A step uses the columns that its settings mention, and those that its answer passes on and that are
//! needed of it. Where it is not sure, all columns are needed.

use super::{Input, Planned, Routine};
use crate::{
    Active, Add, Almanac, Columns, Earliest, Elapsed, Filled, Filter, Latest, Recent, Running, Shape, Sort,
    Spells, Stack, Totals, Within,
};
use serde_json::Value;
use std::collections::{BTreeSet, HashMap};

/// Names of columns; none where all are needed.
pub(super) type Names = Option<BTreeSet<String>>;

/// What a step's answer has of its table's columns.
enum Passes {
    /// None but those that the settings mention.
    Nothing,
    /// Its columns as they are, and some more.
    Columns,
    /// The events' columns, and the windows' under names of their own.
    EventsAndWindows,
    /// All columns are looked at.
    Everything,
}

impl Planned {
    fn passes(&self) -> Passes {
        let says = |name: &str| self.settings.get(name).is_some_and(|value| *value != Value::Bool(false));
        match self.operation.name {
            Totals::NAME | Spells::NAME | Almanac::NAME | Columns::NAME => Passes::Nothing,
            Active::NAME if says("count") => Passes::Nothing,
            // Whole rows decide which of two on one date comes first.
            Running::NAME if says("row-by-row") => Passes::Everything,
            Within::NAME if !says("pick") => Passes::EventsAndWindows,
            Latest::NAME
            | Earliest::NAME
            | Active::NAME
            | Elapsed::NAME
            | Running::NAME
            | Filled::NAME
            | Recent::NAME
            | Filter::NAME
            | Add::NAME
            | Sort::NAME
            | Stack::NAME => Passes::Columns,
            _ => Passes::Everything,
        }
    }

    /// Whether the settings name a column, as far as their texts tell.
    fn mentions(&self, column: &str) -> bool {
        let in_text = |value: &Value| value.as_str().is_some_and(|text| has_word(text, column));
        let in_settings = self.settings.values().any(|value| match value {
            Value::Array(values) => values.iter().any(in_text),
            value => in_text(value),
        });
        in_settings || self.covered.iter().flatten().any(|name| name == column)
    }

    /// Which columns of each of its tables are needed for those of its answer.
    fn uses(&self, answer: &Names, tables: &[Option<Shape>]) -> Vec<Names> {
        let known: Option<Vec<&Shape>> = tables.iter().map(Option::as_ref).collect();
        let passes = self.passes();
        let of_answer = |name: &str| answer.as_ref().is_none_or(|answer| answer.contains(name));
        let is_used = |table: usize, name: &str| match passes {
            Passes::Everything => true,
            Passes::Nothing => false,
            Passes::Columns => of_answer(name),
            // A column of the windows gets another name if the events have one that is called so: both must be there.
            Passes::EventsAndWindows => {
                of_answer(&format!("{name}_window")) || (of_answer(name) && (table == 0 || !self.brings()))
            }
        };
        let of_table = |(table, shape): (usize, &&Shape)| {
            let names = shape.columns().iter().map(|column| column.name.clone());
            Some(names.filter(|name| is_used(table, name) || self.mentions(name)).collect())
        };
        match known {
            Some(known) => known.iter().enumerate().map(of_table).collect(),
            None => vec![None; tables.len()],
        }
    }

    /// Whether it says which of the windows' columns are brought along.
    fn brings(&self) -> bool {
        self.settings.contains_key("bring")
    }
}

/// Whether a name stands in a text, and not as a part of a longer one.
fn has_word(text: &str, name: &str) -> bool {
    let is_part = |c: Option<char>| c.is_some_and(|c| c.is_alphanumeric() || c == '_');
    let (first, last) = (is_part(name.chars().next()), is_part(name.chars().next_back()));
    // In an expression a double quote within a name is written twice.
    name.contains('"')
        || text.match_indices(name).any(|(at, _)| {
            let before = is_part(text[..at].chars().next_back());
            let behind = is_part(text[at + name.len()..].chars().next());
            !(first && before || last && behind)
        })
}

impl Routine {
    /// Which columns of each file are needed to run the steps of these places, of whose tables the shapes are known. What
    /// is needed at any rate is named beside.
    pub(super) fn columns_of_files(
        &self,
        places: impl DoubleEndedIterator<Item = usize>,
        until: usize,
        tables: &[Vec<Option<Shape>>],
        at_any_rate: &[String],
    ) -> HashMap<&str, Names> {
        let mut of_answers: Vec<Names> = vec![Some(BTreeSet::new()); self.steps.len()];
        let mut of_files: HashMap<&str, Names> = HashMap::new();
        for place in places.rev() {
            let planned = &self.steps[place];
            if place == until || planned.write.is_some() {
                of_answers[place] = None;
            }
            let used = planned.uses(&of_answers[place], &tables[place]);
            for (input, mut names) in planned.inputs.iter().zip(used) {
                if let Some(names) = &mut names {
                    names.extend(at_any_rate.iter().cloned());
                }
                let all = match input {
                    Input::Step(earlier) => &mut of_answers[*earlier],
                    Input::File(file, _) => of_files.entry(file).or_insert_with(|| Some(BTreeSet::new())),
                };
                *all = all.take().zip(names).map(|(all, more)| &all | &more);
            }
        }
        of_files
    }
}
