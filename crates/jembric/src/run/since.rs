//! Runs a routine for an earlier date as well, and finds what changed in the results that have a
//! key.

use super::{
    Ran,
    checked::{Checked, RunSettings},
};
use crate::{
    Changes, Context, CoreError, Error, Result, Role, Table,
    arrow::{ArrayRef, StringViewArray},
    calendar::Day,
    compared::StepChanges,
    formats::text::CellText,
    routine::Planned,
    write::destination::Outputs,
};
use jembric_core::Places;
use std::sync::Arc;

/// The results of the earlier date.
pub(super) struct Earlier {
    pub(super) day: Day,
    results: Vec<Option<Table>>,
}

/// What changed in the result of a step; or why it cannot be compared.
pub(crate) type Comparison = std::result::Result<StepChanges, String>;

impl Planned {
    /// Whether what changed in the result is of interest: it has a name.
    pub(super) fn is_compared(&self) -> bool {
        self.name.is_some() && !self.operation.draws()
    }
}

impl Checked<'_> {
    /// Whether the results of steps are compared with those of an earlier date.
    pub(super) fn compares(&self, place: usize) -> bool {
        self.compares_any() && self.routine.steps[place].is_compared()
    }

    /// Whether any result is compared with that of an earlier date.
    pub(super) fn compares_any(&self) -> bool {
        self.running.since.is_some() || self.running.keeps_results
    }

    /// Runs the steps for the earlier date, if there is one. Nothing is written.
    ///
    /// Errors: those of the steps; the date is not before the as-of date, or there is none.
    pub(super) fn earlier(&self, context: &Context) -> Result<Option<Earlier>> {
        let Checked { routine, running, .. } = self;
        let Some(day) = running.since else { return Ok(None) };
        let refused = |value: String| {
            let expected = "a date before the as-of date of the routine".to_owned();
            Err(Error::Setting { setting: "since", value, expected })
        };
        match context.as_of {
            None => return refused("the routine has no as-of date".to_owned()),
            Some(as_of) if day >= as_of => {
                return refused(format!("{day} is not before the as-of date {as_of}"));
            }
            Some(_) => {}
        }
        let older = (*routine).clone().instead(Some(day.to_string()), None);
        let mut run = RunSettings::without_today(running.files);
        run.today = running.today;
        run.cancel = running.cancel.clone();
        run.upto = running.upto;
        run.memory = running.memory;
        run.scratch.clone_from(&running.scratch);
        run.keeps_results = true;
        run.exchange = running.exchange;
        let checked = older.check(&run)?;
        let mut results: Vec<Option<Table>> = vec![None; routine.steps.len()];
        checked.run_into(&mut Outputs::new(), &mut |_| Ok(()), &mut |ran| {
            if ran.step.is_compared() {
                results[ran.place] = Some(ran.outcome.table.clone());
            }
            Ok(())
        })?;
        Ok(Some(Earlier { day, results }))
    }
}

impl Earlier {
    /// What changed in the result of a step; none if it has no name.
    ///
    /// Errors: a column of a given key is missing, or the key occurs twice.
    pub(super) fn changes(
        &self,
        checked: &Checked<'_>,
        ran: &Ran<'_>,
    ) -> Result<Option<Comparison>> {
        let Ran { step, place, context, .. } = *ran;
        let (routine, now) = (checked.routine, &ran.outcome.table);
        let Some(before) = self.results[place].as_ref().filter(|_| step.is_compared()) else {
            return Ok(None);
        };
        // What is followed and reconciled is accounted for by the steps.
        let plain = Context::new().zone(context.zone.clone());
        // Totals have a group for missing keys.
        let changes = |key: &[String]| Changes::per(key).missing_keys();
        let compared = |key: &[String]| changes(key).apply_with(now, Some(before), &plain);
        let found = match &step.key {
            Some(key) => {
                let outcome = compared(key).map_err(|error| {
                    let at = routine.place_in_text(step, "key");
                    routine.marked(at, error)
                })?;
                Some((key.clone(), outcome))
            }
            None => {
                let (mut found, mut problem) = (None, "no column is a key".to_owned());
                for key in keys_of(now) {
                    match compared(&key) {
                        Ok(outcome) => found = Some((key, outcome)),
                        // The columns do not identify a row.
                        Err(CoreError::Places(Places::DuplicateKeys { side, named, .. })) => {
                            let (key, named) = (key.join(", "), named.join(", "));
                            problem = format!("`{key}` occurs more than once {side}: {named}");
                            continue;
                        }
                        Err(error) => return Err(routine.error_at_step(step, error)),
                    }
                    break;
                }
                let Some(found) = found else {
                    return Ok(Some(Err(format!(
                        "the result of `{}` is not compared, because {problem}. Name the columns \
                            that identify a row: key = [\"…\"]",
                        step.title()
                    ))));
                };
                Some(found)
            }
        };
        Ok(found.map(|(key, mut outcome)| {
            let name = step.title();
            outcome.ledger.step =
                format!("changes of {name} since {} per {}", self.day, key.join(", "));
            Ok(StepChanges { place, key, outcome, before: before.clone() })
        }))
    }
}

/// The keys that a result may have: the columns of its key and its period, and those with its date.
fn keys_of(table: &Table) -> Vec<Vec<String>> {
    let shape = table.shape();
    let with = |roles: &[Role]| -> Vec<String> {
        let has = shape
            .columns()
            .iter()
            .filter(|column| column.role.is_some_and(|role| roles.contains(&role)));
        has.map(|column| column.name.clone()).collect()
    };
    let key = with(&[Role::Key, Role::Period]);
    let dated = with(&[Role::Key, Role::Period, Role::Date, Role::Event, Role::Start]);
    let mut keys = vec![key, dated];
    keys.retain(|key| !key.is_empty());
    keys.dedup();
    keys
}

/// The changes of all steps as one table: the step, the key as text, and what changed.
pub(super) fn all_changes(routine: &[Planned], changes: &[StepChanges]) -> Result<Table> {
    const COLUMNS: [&str; 5] = ["change", "column", "before", "now", "difference"];
    let mut columns: Vec<Vec<Option<String>>> = vec![Vec::new(); COLUMNS.len() + 2];
    for StepChanges { place, key, outcome, .. } in changes {
        let table = &outcome.table;
        let texts = CellText::for_columns(table);
        let shape = table.shape();
        let places = COLUMNS.map(|name| shape.place(name));
        for row in 0..table.rows() {
            let cell =
                |place: usize| (!texts[place].is_missing(row)).then(|| texts[place].text(row));
            columns[0].push(Some(routine[*place].title().to_owned()));
            let key: Vec<String> =
                (0..key.len()).map(|place| cell(place).unwrap_or_default()).collect();
            columns[1].push(Some(key.join(", ")));
            for (column, place) in columns[2..].iter_mut().zip(&places) {
                column.push(place.as_ref().ok().and_then(|place| cell(*place)));
            }
        }
    }
    let names = ["step", "key"].into_iter().chain(COLUMNS);
    let arrays = columns
        .into_iter()
        .map(|cells| Arc::new(cells.into_iter().collect::<StringViewArray>()) as ArrayRef);
    Ok(Table::from_columns(names.zip(arrays))?)
}
