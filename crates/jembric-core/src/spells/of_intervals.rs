//! Spells of intervals: the intervals of each entity are sorted by start and joined in one scan.

use super::{Piece, SpellsPlan};
use crate::{
    calendar::{Day, Periods},
    context::Context,
    entities::Entities,
    error::Result,
    intervals::{EndDay, Intervals, RowStatus, Rules, with_no_key},
    kind::period_field,
    ledger::{Outcome, RowMasks},
    parallel,
    table::Table,
    timeline::GroupedByEntity,
};
use arrow_array::{ArrayRef, Date32Array, Int64Array, UInt32Array};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use std::sync::Arc;

/// The entities that a thread takes at a time.
const ENTITIES_A_THREAD: usize = 1 << 12;

/// A stretch of time of an entity.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Spell {
    entity: u32,
    first: i32,
    last: i32,
    /// Whether one of its intervals has no end.
    open: bool,
    records: u64,
}

/// A value of each spell.
fn of_each<T: Copy + Default + Send>(
    parts: &[Vec<Spell>],
    value: impl Fn(&Spell) -> T + Sync,
) -> Vec<T> {
    let mut values = vec![T::default(); parts.iter().map(Vec::len).sum()];
    let (mut work, mut rest) = (Vec::new(), &mut values[..]);
    for part in parts {
        let (own, others) = rest.split_at_mut(part.len());
        work.push((part, own));
        rest = others;
    }
    parallel::of_parts(work, |_, (part, own)| {
        own.iter_mut().zip(part).for_each(|(own, spell)| *own = value(spell));
    });
    values
}

impl SpellsPlan {
    pub(super) fn of_table_intervals(
        &self,
        table: &Table,
        rules: &Rules,
        entities: &Entities,
        piece: Option<Piece<'_, Spell>>,
        context: &Context,
    ) -> Result<Outcome> {
        let per = &self.per;
        let intervals = Intervals::closed_at(table, rules, self.newest, context)?;
        let all_active = intervals.all_active();
        let used = |row: usize| all_active || intervals.statuses[row] == RowStatus::Active;
        let interval =
            |row: usize| (intervals.first[row], intervals.last[row], intervals.is_closed(row));
        let parts = GroupedByEntity::group(entities.ids(), entities.count(), used, interval);
        let spells: Vec<Vec<Spell>> = match piece {
            Some(Piece { left, are_last }) => {
                let (mut sorted, mut spells) = (parts.values, Vec::new());
                let last = self.join(0, &mut sorted, left.take(), &mut spells);
                *left = if !are_last { last } else { None };
                if are_last && !self.idle {
                    spells.extend(last);
                }
                vec![spells]
            }
            None => {
                let of_entities = |_, entities: &[usize]| {
                    let (mut sorted, mut spells) = (Vec::new(), Vec::new());
                    for &entity in entities {
                        sorted.clear();
                        sorted.extend_from_slice(parts.of_entity(entity));
                        let last = self.join(entity as u32, &mut sorted, None, &mut spells);
                        if !self.idle {
                            spells.extend(last);
                        }
                    }
                    spells
                };
                let order = self.order(table, entities)?;
                parallel::of_parts(order.chunks(ENTITIES_A_THREAD), of_entities)
            }
        };

        let (mut kept, mut dropped, mut set_aside) = intervals.masks();
        if let Some(keyed) = entities.rows_with_one() {
            kept = &kept & &keyed;
            with_no_key(&mut dropped, &mut set_aside, &keyed);
        }
        let cut = intervals.cut_in(&kept);
        let open = intervals.closed_in(&kept) - cut;
        let (mut ledger, aside) = RowMasks { kept, dropped, set_aside }.account(
            self.step.clone(),
            table,
            &self.accounting,
        )?;
        let count: usize = spells.iter().map(Vec::len).sum();
        ledger.counts.insert(0, (if self.idle { "gaps" } else { "spells" }.into(), count as u64));
        ledger.note("without an end", open);
        ledger.note("not ended by the as-of date", cut);
        ledger.as_of = intervals.closed_on;
        ledger.zone = intervals.instants.then(|| context.zone.to_string());

        let first_rows = entities.first_rows();
        let mut columns: Vec<(Field, ArrayRef)> = Vec::new();
        if !per.is_empty() {
            let rows = of_each(&spells, |spell| first_rows[spell.entity as usize]);
            columns.extend(table.select(per)?.take(&UInt32Array::from(rows))?.fields());
        }
        columns.extend(self.spell_columns(&spells, rules.end_day));
        Ok(Outcome { table: Table::of_fields(columns)?, ledger, set_aside: aside })
    }

    /// The columns of spells behind their keys.
    fn spell_columns(&self, spells: &[Vec<Spell>], end_day: EndDay) -> Vec<(Field, ArrayRef)> {
        // The end has the meaning of the intervals' ends.
        let free = i32::from(end_day == EndDay::Exclusive);
        let starts = Date32Array::from(of_each(spells, |spell| spell.first));
        // An open spell has no end; its days are counted up to the day that replaces missing ends.
        let end = |spell: &Spell| (spell.last + free).min(Day::MAX.number());
        let ends = of_each(spells, |spell| if spell.open { 0 } else { end(spell) });
        let has_end = BooleanBuffer::from(of_each(spells, |spell| !spell.open));
        let is_any_open = has_end.count_set_bits() < has_end.len();
        let ends = Date32Array::new(ends.into(), is_any_open.then(|| NullBuffer::new(has_end)));
        let integers = |name: &str, of: fn(&Spell) -> i64| {
            let array: ArrayRef = Arc::new(Int64Array::from(of_each(spells, of)));
            (Field::new(name, DataType::Int64, true), array)
        };
        let mut columns: Vec<(Field, ArrayRef)> = vec![
            (period_field("start", Periods::DAYS), Arc::new(starts)),
            (period_field("end", Periods::DAYS), Arc::new(ends)),
            integers("days", |spell| i64::from(spell.last) - i64::from(spell.first) + 1),
        ];
        if !self.idle {
            columns.push(integers("records", |spell| spell.records as i64));
        }
        columns
    }

    /// Adds the spells of an entity but the last one, or the gaps between them. The last spell may
    /// go on, as the one that is left of earlier intervals may. Returns it.
    fn join(
        &self,
        entity: u32,
        intervals: &mut [(i32, i32, bool)],
        left: Option<Spell>,
        spells: &mut Vec<Spell>,
    ) -> Option<Spell> {
        if !intervals.is_sorted() {
            intervals.sort_unstable();
        }
        let gap = i64::from(self.join_gaps) + 1;
        let mut intervals = intervals.iter().copied();
        let of_first = |(first, last, open)| Spell { entity, first, last, open, records: 1 };
        let mut spell = left.or_else(|| intervals.next().map(of_first))?;
        for (first, last, open) in intervals {
            if i64::from(first) <= i64::from(spell.last) + gap {
                spell.last = spell.last.max(last);
                spell.open |= open;
                spell.records += 1;
                continue;
            }
            let hole =
                Spell { entity, first: spell.last + 1, last: first - 1, open: false, records: 0 };
            spells.push(if self.idle { hole } else { spell });
            spell = Spell { entity, first, last, open, records: 1 };
        }
        Some(spell)
    }
}
