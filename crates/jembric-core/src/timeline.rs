//! [`Timeline`]: the rows of each entity in date order, for what one pass over the rows cannot answer.

use crate::{dates::Dates, entities::Entities};
use arrow_buffer::BooleanBuffer;

/// The rows of each entity, ordered by date and then by row.
#[derive(Clone, Debug)]
pub struct Timeline {
    rows: Vec<u32>,
    starts: Vec<u32>,
}

impl Timeline {
    /// Orders the rows of a mask, all of which have an entity and a date (as a number that sorts in time).
    ///
    /// Rows are dealt out to their entities in one pass, and each entity's rows are sorted on their own, which the dealing
    /// leaves undone where they came in order. Costs a random access a row, and n log n within an entity.
    pub(crate) fn new(entities: &Entities, dates: &Dates<'_>, rows: &BooleanBuffer) -> Timeline {
        let ids = entities.ids();
        let mut starts = vec![0_u32; entities.count() + 1];
        rows.set_indices().for_each(|row| starts[ids[row] as usize + 1] += 1);
        for entity in 1..starts.len() {
            starts[entity] += starts[entity - 1];
        }
        let mut next = starts.clone();
        let mut dated = vec![(0_i64, 0_u32); starts.last().map_or(0, |&all| all as usize)];
        for row in rows.set_indices() {
            let place = &mut next[ids[row] as usize];
            dated[*place as usize] = (dates.sortable(row), row as u32);
            *place += 1;
        }
        for bounds in starts.windows(2) {
            let entity = &mut dated[bounds[0] as usize..bounds[1] as usize];
            if !entity.is_sorted() {
                entity.sort_unstable();
            }
        }
        Timeline { rows: dated.into_iter().map(|(_, row)| row).collect(), starts }
    }

    /// The rows of each entity, the entities in order of their numbers.
    pub fn entities(&self) -> impl Iterator<Item = &[u32]> {
        self.starts.windows(2).map(|bounds| &self.rows[bounds[0] as usize..bounds[1] as usize])
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Missing, Table};
    use arrow_array::{ArrayRef, Date32Array, Int64Array};
    use proptest::prelude::*;
    use std::sync::Arc;

    proptest! {
        #[test]
        fn each_entity_has_its_rows_in_order_of_date_and_then_of_row(
            rows in prop::collection::vec((0_i64..4, 0_i32..6, any::<bool>()), 0..60),
        ) {
            let table = Table::from_columns([
                ("entity", Arc::new(rows.iter().map(|row| Some(row.0)).collect::<Int64Array>()) as ArrayRef),
                ("day", Arc::new(rows.iter().map(|row| Some(row.1)).collect::<Date32Array>())),
            ]).unwrap();
            let entities = Entities::number(&table, &["entity"], Missing::NoEntity).unwrap();
            let used = BooleanBuffer::collect_bool(rows.len(), |row| rows[row].2);
            let timeline = Timeline::new(&entities, &table.dates("day").unwrap(), &used);
            let mut expected = vec![Vec::new(); entities.count()];
            for row in used.set_indices() {
                expected[entities.ids()[row] as usize].push(row as u32);
            }
            for of_entity in &mut expected {
                of_entity.sort_by_key(|&row| (rows[row as usize].1, row));
            }
            prop_assert_eq!(timeline.entities().map(<[u32]>::to_vec).collect::<Vec<_>>(), expected);
        }
    }
}
