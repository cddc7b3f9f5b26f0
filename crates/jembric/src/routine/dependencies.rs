//! What steps depend on: files and earlier steps.

use super::{Input, Planned, Routine};
use crate::{Ledger, Takes, settings::Given};

impl Routine {
    /// The files that the steps read, with their names in the routine: tables, holidays and
    /// entities.
    pub fn files_read(&self) -> impl Iterator<Item = &str> {
        self.steps.iter().flat_map(|step| {
            let tables = step.inputs.iter().filter_map(|input| match input {
                Input::File(file, _) => Some(file.as_str()),
                Input::Step(_) => None,
            });
            let named = step.operation.settings.iter().filter_map(|setting| {
                let Given::Text(text) = step.settings.get(setting.name)? else { return None };
                let text = text.as_str();
                match setting.takes {
                    Takes::Days => Some(text),
                    Takes::Entities => text.rsplit_once(':').map(|(file, _)| file),
                    _ => None,
                }
            });
            tables.chain(named)
        })
    }

    /// The steps that are needed for the one at this place: itself, its inputs, and those that
    /// write a file or are on the page.
    pub(crate) fn needed(&self, until: usize, page: impl Fn(usize) -> bool) -> Vec<bool> {
        let is_needed =
            |(place, step): (usize, &Planned)| page(place) || step.files_written().next().is_some();
        let mut needed: Vec<bool> = self.steps.iter().enumerate().map(is_needed).collect();
        needed[until] = true;
        for place in (0..=until).rev() {
            if needed[place] {
                for input in &self.steps[place].inputs {
                    if let Input::Step(earlier) = input {
                        needed[*earlier] = true;
                    }
                }
            }
        }
        needed
    }

    /// The ledgers of the steps that the result of a step depends on, in order.
    pub(crate) fn accounts_behind<'a>(
        &self,
        place: usize,
        accounts: &'a [Option<Ledger>],
    ) -> impl Iterator<Item = &'a Ledger> + use<'a> {
        self.behind(place).into_iter().filter_map(|place| accounts[place].as_ref())
    }

    /// The places of the steps that the result of a step depends on, in order.
    pub(crate) fn behind(&self, place: usize) -> Vec<usize> {
        let mut behind = vec![false; self.steps.len()];
        behind[place] = true;
        // A step depends on earlier ones only.
        for later in (0..=place).rev() {
            let inputs = self.steps[later].inputs.iter().filter(|_| behind[later]);
            let earlier: Vec<usize> = inputs.filter_map(Input::step).collect();
            earlier.into_iter().for_each(|earlier| behind[earlier] = true);
        }
        (0..place).filter(|&place| behind[place]).collect()
    }

    /// For each step, the later ones (up to a place) that use its result.
    pub(crate) fn uses(&self, until: usize) -> Vec<Uses> {
        let mut uses = vec![Uses::default(); self.steps.len()];
        for (place, step) in self.steps.iter().enumerate().take(until + 1) {
            for input in &step.inputs {
                if let Input::Step(earlier) = input {
                    uses[*earlier].steps += usize::from(uses[*earlier].last != place);
                    uses[*earlier].last = place;
                }
            }
        }
        uses
    }
}

/// The steps that use a result.
#[derive(Clone, Copy, Default)]
pub(crate) struct Uses {
    /// Their number, and the place of the last one.
    pub(crate) steps: usize,
    pub(crate) last: usize,
}
