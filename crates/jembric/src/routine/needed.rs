//! Which columns of each file the steps of a routine need, so that the others need not be read.
//!
//! From the last step back to the first: an answer that is shown or written is needed whole, that
//! of a step in between as far as later steps go. Each step's plan tells which columns of its
//! tables it needs for those of its answer. Where there is no plan, since a table cannot be looked
//! into before it is read, all columns are needed.

use super::{Input, Routine};
use crate::{Plan, Shape};
use std::collections::{BTreeSet, HashMap};

/// Names of columns; none where all are needed.
pub(super) type Names = Option<BTreeSet<String>>;

/// Which columns of each of its tables a step needs for those of its answer.
fn needed(plan: Option<&Plan>, answer: &Names, tables: &[Option<Shape>]) -> Vec<Names> {
    let Some(plan) = plan else { return vec![None; tables.len()] };
    let named = |(shape, places): (&Option<Shape>, Vec<usize>)| {
        let columns = shape.as_ref()?.columns();
        Some(places.into_iter().map(|place| columns[place].name.clone()).collect())
    };
    tables.iter().zip(plan.needed(answer.as_ref())).map(named).collect()
}

impl Routine {
    /// Which columns of each file are needed to run the steps of these places, of whose tables the
    /// shapes and of which the plans are known. What is needed at any rate is named beside.
    pub(super) fn columns_of_files(
        &self,
        places: impl DoubleEndedIterator<Item = usize>,
        until: usize,
        (tables, plans): (&[Vec<Option<Shape>>], &[Option<Plan>]),
        at_any_rate: &[String],
    ) -> HashMap<&str, Names> {
        let mut of_answers: Vec<Names> = vec![Some(BTreeSet::new()); self.steps.len()];
        let mut of_files: HashMap<&str, Names> = HashMap::new();
        for place in places.rev() {
            let planned = &self.steps[place];
            if place == until || planned.write.is_some() {
                of_answers[place] = None;
            }
            let needed = needed(plans[place].as_ref(), &of_answers[place], &tables[place]);
            for (input, mut names) in planned.inputs.iter().zip(needed) {
                if let Some(names) = &mut names {
                    names.extend(at_any_rate.iter().cloned());
                }
                let all = match input {
                    Input::Step(earlier) => &mut of_answers[*earlier],
                    Input::File(file, _) => {
                        of_files.entry(file).or_insert_with(|| Some(BTreeSet::new()))
                    }
                };
                *all = all.take().zip(names).map(|(all, more)| &all | &more);
            }
        }
        of_files
    }
}
