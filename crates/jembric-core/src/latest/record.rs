//! [`RecordPlan`]: how the rows of a table are divided into records that are kept, dropped and set
//! aside.

use super::{
    Ties,
    best::{Chosen, except, mask, one_each},
    dated_rows,
    states::{STATE_ON, States},
    ties::{Decided, TieBreak},
};
use crate::{
    calendar::{Grain, Periods},
    context::Context,
    dates::Dates,
    entities::{Entities, Missing},
    error::Result,
    kind::period_field,
    ledger::{Accounting, Outcome, Reason, RowMasks, Warning},
    ordering::entities_in_order,
    plan::{DiscardedRows, Selection},
    shape::{Named, Shape},
    table::Table,
    timeline::Timeline,
};
use arrow_array::BooleanArray;
use arrow_buffer::{BooleanBuffer, NullBuffer};
use std::sync::Arc;

/// The operation, with its columns resolved.
#[derive(Clone)]
pub(super) struct RecordPlan {
    /// The shape that the plan was prepared for.
    pub(super) shape: Shape,
    pub(super) step: String,
    pub(super) date_name: String,
    pub(super) date: usize,
    pub(super) per: Vec<Named>,
    pub(super) then: Vec<Named>,
    /// Both, under their names in the result.
    pub(super) names: Vec<Named>,
    pub(super) ties: Ties,
    /// The number of dates of each entity.
    pub(super) several: u32,
    pub(super) mark: Option<String>,
    pub(super) earliest: bool,
    pub(super) at_each: Option<(Grain, u64)>,
    /// The last period with a record, if the rows are only a part of all.
    pub(super) last_period: Option<i32>,
    pub(super) accounting: Accounting,
}

/// The rows of a table, as the plan divides them.
pub(super) struct Rows {
    pub(super) dates: Dates,
    pub(super) entities: Entities,
    dated: BooleanBuffer,
    keyed: BooleanBuffer,
    /// Those with a date and a key.
    usable: BooleanBuffer,
    after: BooleanBuffer,
    /// Those to choose from.
    pub(super) considered: BooleanBuffer,
    pub(super) states: Option<States>,
}

impl RecordPlan {
    pub(super) fn rows(&self, table: &Table, context: &Context) -> Result<Rows> {
        let keys = table.columns_at(&self.per);
        let entities = Entities::of_columns(&keys, table.rows(), Missing::NoEntity)?;
        self.rows_of(table, entities, context)
    }

    /// The rows of entities that are numbered already.
    pub(super) fn rows_of(
        &self,
        table: &Table,
        entities: Entities,
        context: &Context,
    ) -> Result<Rows> {
        let rows = table.rows();
        let dates = table.dates_at(self.date);
        let dated = dated_rows(&dates, rows);
        let keyed = entities.rows_with_one().unwrap_or_else(|| BooleanBuffer::new_set(rows));
        let usable = &dated & &keyed;
        let after = context.as_of.map_or_else(
            || BooleanBuffer::new_unset(rows),
            |day| &dates.after(day, &context.zone) & &usable,
        );
        let considered = except(&usable, &after);
        let states = match self.at_each {
            Some((grain, most)) => {
                let states = States::new(grain, most, &self.date_name, &dates, context)?;
                Some(states.until(self.last_period))
            }
            None => None,
        };
        Ok(Rows { dates, entities, dated, keyed, usable, after, considered, states })
    }

    /// The records with the best dates, and the groups of them that tie.
    fn chosen(&self, rows: &Rows) -> Chosen {
        match (&rows.states, self.several) {
            (Some(states), _) => states.latest_each(&rows.entities, &rows.dates, &rows.considered),
            (None, 1) => one_each(self.earliest, &rows.entities, &rows.dates, &rows.considered),
            (None, several) => self.several_dates_each(several, rows),
        }
    }

    fn tie_break<'a>(&'a self, table: &'a Table, rows: &'a Rows, ties: Ties) -> TieBreak<'a> {
        TieBreak {
            table,
            entities: &rows.entities,
            dates: &rows.dates,
            per: &self.per,
            then: &self.then,
            ties,
            date: &self.date_name,
            earliest: self.earliest,
        }
    }

    fn masks(&self, rows: &Rows, chosen: &Chosen, decided: &Decided) -> RowMasks {
        let count = rows.considered.len();
        let tied_out = mask(count, decided.tied_out.iter().copied());
        let superseded = mask(count, decided.superseded.iter().copied());
        let kept = except(&except(&chosen.best, &superseded), &tied_out);
        self.masks_of(rows, kept, tied_out)
    }

    /// The reason of rows whose date is not the best.
    pub(super) fn superseded(&self) -> Reason {
        if self.earliest { Reason::Preceded } else { Reason::Superseded }
    }

    /// The fates of all rows if these are kept.
    pub(super) fn masks_of(
        &self,
        rows: &Rows,
        kept: BooleanBuffer,
        tied_out: BooleanBuffer,
    ) -> RowMasks {
        RowMasks {
            dropped: vec![
                (self.superseded(), except(&except(&rows.considered, &kept), &tied_out)),
                (Reason::TiedWithTheOneKept, tied_out),
                (Reason::AfterAsOf, rows.after.clone()),
            ],
            set_aside: vec![
                (Reason::NoDate, !&rows.dated),
                (Reason::NoKey, except(&rows.dated, &rows.keyed)),
            ],
            kept,
        }
    }

    /// The records of several dates of each entity, from the timeline.
    fn several_dates_each(&self, several: u32, rows: &Rows) -> Chosen {
        let Rows { dates, entities, considered, .. } = rows;
        let timeline = Timeline::new(entities, dates, considered);
        let (mut chosen, mut best) = (Chosen::default(), Vec::new());
        for rows in timeline.entities().filter(|rows| !rows.is_empty()) {
            chosen.entities += 1;
            let by_date =
                || rows.chunk_by(|&a, &b| dates.sortable(a as usize) == dates.sortable(b as usize));
            let mut take = |same_date: &[u32]| {
                best.extend_from_slice(same_date);
                if same_date.len() > 1 {
                    chosen.ties.push(same_date);
                }
            };
            if self.earliest {
                by_date().take(several as usize).for_each(&mut take);
            } else {
                by_date().rev().take(several as usize).for_each(&mut take);
            }
        }
        chosen.best = mask(considered.len(), best.into_iter());
        chosen
    }

    /// The states at the ends of periods, sorted by period and entity.
    fn states_at_ends(
        &self,
        table: &Table,
        rows: &Rows,
        states: &States,
        kept: &BooleanBuffer,
    ) -> Result<Table> {
        let order = if self.per.is_empty() {
            (0..rows.entities.count()).collect()
        } else {
            entities_in_order(table, &self.per, &rows.entities)?
        };
        let timeline = Timeline::new(&rows.entities, &rows.dates, kept);
        let (of_states, state_on) = states.at_ends(&timeline, &order)?;
        let answer = table.take(&of_states)?.renamed(&self.names)?;
        answer.with_field(period_field(STATE_ON, Periods::DAYS), Arc::new(state_on))
    }
}

impl Selection for RecordPlan {
    fn candidates(&self, table: &Table, context: &Context) -> Result<RowMasks> {
        let rows = self.rows(table, context)?;
        let chosen = self.chosen(&rows);
        // Which of the tied records comes first or last is known only after the last batch.
        let decided = self.tie_break(table, &rows, Ties::All).decide(&chosen.ties)?;
        Ok(self.masks(&rows, &chosen, &decided))
    }

    fn select(&self, table: &Table, gone: DiscardedRows, context: &Context) -> Result<Outcome> {
        let rows = self.rows(table, context)?;
        let chosen = self.chosen(&rows);
        let decided = self.tie_break(table, &rows, self.ties).decide(&chosen.ties)?;
        let masks = self.masks(&rows, &chosen, &decided);
        let kept = masks.kept.clone();
        let step = self.step.clone();
        let mut outcome = if let Some(name) = &self.mark {
            let (mut ledger, set_aside) =
                masks.account_of_all_kept(step, table, &self.accounting)?;
            ledger.counts.insert(0, ("rows marked".into(), kept.count_set_bits() as u64));
            let marks = BooleanArray::new(kept, Some(NullBuffer::new(rows.usable.clone())));
            let answer = table.renamed(&self.names)?.with_column(name, Arc::new(marks))?;
            Outcome { table: answer.anonymous(), ledger, set_aside }
        } else {
            let (tally, set_aside) = masks.tally(table, &self.accounting)?;
            let (tally, set_aside) = gone.with(tally, set_aside)?;
            let mut ledger = tally.ledger(step);
            let answer = match &rows.states {
                Some(states) => {
                    let answer = self.states_at_ends(table, &rows, states, &kept)?;
                    ledger.counts.insert(0, ("rows in the result".into(), answer.rows() as u64));
                    answer
                }
                None => table.filter(&kept)?.renamed(&self.names)?,
            };
            Outcome { table: answer, ledger, set_aside }
        };
        let ledger = &mut outcome.ledger;
        ledger.as_of = context.as_of;
        let cut = context.as_of.is_some() || self.at_each.is_some();
        ledger.zone = (cut && rows.dates.are_instants()).then(|| context.zone.to_string());
        ledger.counts.insert(0, ("entities".into(), chosen.entities));
        ledger.note("tied records", decided.records);
        if decided.records > 0 && self.ties == Ties::All {
            let (date, entities, records) =
                (self.date_name.clone(), decided.entities, decided.records);
            ledger.warnings.push(Warning::Tied { date, entities, records });
        }
        Ok(outcome)
    }

    fn accounting(&self) -> &Accounting {
        &self.accounting
    }

    fn shape(&self) -> &Shape {
        &self.shape
    }
}
