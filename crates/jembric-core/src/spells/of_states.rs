//! Spells of dated states: a state holds until the entity's next one, and neighbours with equal
//! values are one spell.

use super::{Piece, SpellsPlan};
use crate::{
    calendar::{Day, Periods},
    context::Context,
    dates::Dates,
    entities::{Entities, Missing},
    error::Result,
    kind::period_field,
    ledger::{Outcome, Reason, RowMasks},
    ordering::WholeRows,
    shape::Named,
    table::Table,
    timeline::Timeline,
};
use arrow_array::{ArrayRef, Date32Array, Int64Array, UInt32Array};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use std::sync::Arc;

impl SpellsPlan {
    pub(super) fn of_dated_states(
        &self,
        table: &Table,
        date: usize,
        value: &[Named],
        piece: Option<Piece<'_, (Table, StateSpell)>>,
        context: &Context,
    ) -> Result<Outcome> {
        let entities = &self.entities(table)?;
        let dates = table.dates_at(date);
        let all = || BooleanBuffer::new_set(table.rows());
        let dated = dates.nulls().map_or_else(all, NullBuffer::into_inner);
        let keyed = entities.rows_with_one().unwrap_or_else(all);
        let usable = &dated & &keyed;
        let after = context.as_of.map_or_else(
            || BooleanBuffer::new_unset(table.rows()),
            |day| &dates.after(day, &context.zone) & &usable,
        );
        let kept = &usable & &!&after;
        let timeline = Timeline::new(entities, &dates, &kept);
        let by_entity: Vec<&[u32]> = timeline.entities().collect();
        let (mut spells, mut counts) = (Vec::new(), (0, 0));
        let mut all = table.clone();
        match piece {
            Some(Piece { left, are_last }) => {
                let own = by_entity.first().copied().unwrap_or_default();
                let mut rows = own.to_vec();
                if let Some((row, spell)) = left.take() {
                    // The row of the spell that is left comes first.
                    all = Table::joined(&row, &[table.clone().anonymous()])?;
                    rows.iter_mut().for_each(|row| *row += 1);
                    spells.push(spell);
                }
                let states = States::from_table(&all, &all.dates_at(date), value, context)?;
                states.join(&rows, 0, &mut spells, &mut counts);
                if let Some(spell) = spells.pop_if(|_| !are_last) {
                    let row = all.slice(spell.row as usize, 1).anonymous();
                    *left = Some((row.without_others_texts()?, StateSpell { row: 0, ..spell }));
                }
            }
            None => {
                let states = States::from_table(table, &dates, value, context)?;
                for entity in self.order(table, entities)? {
                    let rows = by_entity.get(entity).copied().unwrap_or_default();
                    let first = spells.len();
                    states.join(rows, first, &mut spells, &mut counts);
                }
            }
        }

        let statuses = RowMasks {
            kept,
            dropped: vec![(Reason::AfterAsOf, after)],
            set_aside: vec![(Reason::NoDate, !&dated), (Reason::NoKey, &dated & &!&keyed)],
        };
        let (mut ledger, set_aside) =
            statuses.account(self.step.clone(), table, &self.accounting)?;
        ledger.as_of = context.as_of;
        ledger.zone = dates.are_instants().then(|| context.zone.to_string());
        ledger.counts.insert(0, ("spells".into(), spells.len() as u64));
        ledger.note("records replaced on the same day", counts.0);
        ledger.note("ties decided by the greatest value", counts.1);

        let rows = UInt32Array::from_iter_values(spells.iter().map(|spell| spell.row));
        let mut columns: Vec<(Field, ArrayRef)> =
            all.select(&[&self.per[..], value].concat())?.take(&rows)?.fields().collect();
        columns.extend(spell_columns(&spells, dates.periods(), context.as_of));
        Ok(Outcome { table: Table::of_fields(columns)?, ledger, set_aside })
    }
}

/// The columns of spells behind their keys and values.
fn spell_columns(
    spells: &[StateSpell],
    periods: Periods,
    as_of: Option<Day>,
) -> [(Field, ArrayRef); 4] {
    let starts = Date32Array::from_iter_values(spells.iter().map(|spell| spell.first));
    let ends: Date32Array = spells.iter().map(|spell| spell.end).collect();
    let days = spells.iter().map(|spell| {
        let last = match spell.end {
            Some(end) => Some(periods.containing(Day::clamped(end)).last()),
            None => as_of,
        };
        last.map(|last| i64::from(last.number() - spell.first + 1))
    });
    let records = Int64Array::from_iter_values(spells.iter().map(|spell| spell.records));
    [
        (period_field("start", periods), Arc::new(starts)),
        (period_field("end", periods), Arc::new(ends)),
        (Field::new("days", DataType::Int64, true), Arc::new(days.collect::<Int64Array>())),
        (Field::new("records", DataType::Int64, true), Arc::new(records)),
    ]
}

/// A stretch in which a state does not change.
pub(super) struct StateSpell {
    /// A row with its key and values.
    row: u32,
    first: i32,
    end: Option<i32>,
    records: i64,
}

/// The state and the day of each row.
struct States {
    days: Vec<i32>,
    periods: Periods,
    /// Rows with equal values have equal numbers.
    values: Entities,
    compare: WholeRows,
    times: Vec<i64>,
}

impl States {
    fn from_table(
        table: &Table,
        dates: &Dates,
        value: &[Named],
        context: &Context,
    ) -> Result<States> {
        let is_valid = dates.nulls();
        let valid = |row: usize| is_valid.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        Ok(States {
            days: dates.day_numbers(&context.zone).into_owned(),
            periods: dates.periods(),
            values: Entities::of_columns(&table.columns_at(value), table.rows(), Missing::IsAKey)?,
            compare: WholeRows::new(&table.select(value)?)?,
            times: (0..table.rows())
                .map(|row| if valid(row) { dates.sortable(row) } else { 0 })
                .collect(),
        })
    }

    /// Joins an entity's rows, sorted by date, and counts those that were replaced on their day and
    /// those that tie. The spells of the entity begin with the `first`.
    fn join(
        &self,
        rows: &[u32],
        first: usize,
        spells: &mut Vec<StateSpell>,
        (overtaken, tied): &mut (u64, u64),
    ) {
        for of_day in rows.chunk_by(|&a, &b| self.days[a as usize] == self.days[b as usize]) {
            let latest = of_day.iter().map(|&row| self.times[row as usize]).max().unwrap_or(0);
            let last: Vec<u32> =
                of_day.iter().copied().filter(|&row| self.times[row as usize] == latest).collect();
            let Some(row) = last.iter().copied().reduce(|best, row| {
                if self.compare.compare(best, row).is_lt() { row } else { best }
            }) else {
                continue;
            };
            let value = self.values.ids()[row as usize];
            let others =
                last.iter().filter(|&&other| self.values.ids()[other as usize] != value).count()
                    as u64;
            *overtaken += (of_day.len() - last.len()) as u64;
            *tied += others;
            let (day, records) = (self.days[row as usize], of_day.len() as i64);
            match spells[first..].last_mut() {
                Some(spell) if self.values.ids()[spell.row as usize] == value => {
                    spell.records += records
                }
                last => {
                    let ends = self.periods.containing(Day::clamped(day)).plus(-1).first().number();
                    if let Some(spell) = last {
                        spell.end = Some(ends);
                    }
                    spells.push(StateSpell { row, first: day, end: None, records });
                }
            }
        }
    }
}
