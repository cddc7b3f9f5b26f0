//! Finds the columns of each file that the steps of a routine need, so that the others are not
//! read.
//!
//! From the last step back to the first: a result that is shown or written is needed in full, and
//! one between steps only as far as later steps use it. The plan of each step tells which columns
//! of its tables it needs for the columns of its result. Without a plan (if a table cannot be
//! inspected before it is read) all columns are needed.

use crate::{
    Plan, Shape,
    routine::{Input, Routine},
};
use std::collections::{BTreeSet, HashMap};

/// The names of the needed columns; none if all are.
pub(super) type Names = Option<BTreeSet<String>>;

/// The columns of each of its tables that a step needs for these columns of its result.
fn needed(plan: Option<&Plan>, answer: &Names, tables: &[Option<Shape>]) -> Vec<Names> {
    let Some(plan) = plan else { return vec![None; tables.len()] };
    let named = |(shape, places): (&Option<Shape>, Vec<usize>)| {
        let columns = shape.as_ref()?.columns();
        Some(places.into_iter().map(|place| columns[place].name.clone()).collect())
    };
    tables.iter().zip(plan.needed(answer.as_ref())).map(named).collect()
}

impl Routine {
    /// The columns of each file that are needed to run the steps at these places, from their shapes
    /// and plans, and columns that are always needed. One of the results is shown.
    pub(super) fn columns_of_files(
        &self,
        places: impl DoubleEndedIterator<Item = usize>,
        shown: Option<usize>,
        (tables, plans): (&[Vec<Option<Shape>>], &[Option<Plan>]),
        at_any_rate: &[String],
    ) -> HashMap<&str, Names> {
        let mut of_answers: Vec<Names> = vec![Some(BTreeSet::new()); self.steps.len()];
        let mut of_files: HashMap<&str, Names> = HashMap::new();
        for place in places.rev() {
            let planned = &self.steps[place];
            if shown == Some(place) || planned.write.is_some() {
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
