//! The state at the end of every period: each entity's latest record at that time.
//!
//! Of an entity's records in a period only the latest can be a state, and it remains one until the
//! entity's next record. The rows of the result can therefore be counted from the periods with a
//! record, before any row is made.

use super::best::{Chosen, mask};
use crate::{
    calendar::{Day, Grain, Periods},
    context::Context,
    dates::{Dates, check_grain},
    entities::Entities,
    error::{Error, Result, Smaller},
    timeline::Timeline,
};
use arrow_array::{Date32Array, UInt32Array};
use arrow_buffer::BooleanBuffer;

/// The column with the date of each state.
pub(super) const STATE_ON: &str = "state_on";

pub(super) struct States {
    periods: Periods,
    /// The day of each row.
    days: Vec<i32>,
    as_of: Option<Day>,
    /// The last period with a record, if the rows are only a part of all.
    last: Option<i32>,
    most: u64,
}

impl States {
    /// Errors: the periods are finer than those of the column.
    pub(super) fn of(
        grain: Grain,
        most: u64,
        date: &str,
        dates: &Dates,
        context: &Context,
    ) -> Result<States> {
        check_grain(date, dates, grain)?;
        let days = dates.day_numbers(&context.zone).into_owned();
        Ok(States { periods: grain.into(), days, as_of: context.as_of, last: None, most })
    }

    /// The same, up to the last period of all rows.
    pub(super) fn until(self, last: Option<i32>) -> States {
        States { last, ..self }
    }

    /// The first and last period of some rows.
    pub(super) fn ends(&self, rows: &BooleanBuffer) -> Option<(i32, i32)> {
        let days = || rows.set_indices().map(|row| self.days[row]);
        let period = |day: i32| self.periods.number(Day::clamped(day));
        Some((period(days().min()?), period(days().max()?)))
    }

    fn period(&self, row: u32) -> i32 {
        self.periods.number(Day::clamped(self.days[row as usize]))
    }

    /// The latest records of each entity in each period.
    pub(super) fn latest_each(
        &self,
        entities: &Entities,
        dates: &Dates,
        considered: &BooleanBuffer,
    ) -> Chosen {
        let timeline = Timeline::new(entities, dates, considered);
        let (mut chosen, mut best) = (Chosen::default(), Vec::new());
        for rows in timeline.entities().filter(|rows| !rows.is_empty()) {
            chosen.entities += 1;
            for of_period in rows.chunk_by(|&one, &other| self.period(one) == self.period(other)) {
                let newest = of_period.last().map(|&row| dates.sortable(row as usize));
                let before =
                    of_period.partition_point(|&row| Some(dates.sortable(row as usize)) < newest);
                best.extend_from_slice(&of_period[before..]);
                if of_period.len() - before > 1 {
                    chosen.ties.push(&of_period[before..]);
                }
            }
        }
        chosen.best = mask(considered.len(), best.into_iter());
        chosen
    }

    /// The rows that are states at the end of each period, sorted by period and entity, and the
    /// dates of these states.
    pub(super) fn at_ends(
        &self,
        timeline: &Timeline,
        order: &[usize],
    ) -> Result<(UInt32Array, Date32Array)> {
        let of_entities: Vec<&[u32]> = timeline.entities().collect();
        let rows = || of_entities.iter().flat_map(|rows| rows.iter());
        let newest = rows().map(|&row| self.period(row)).max();
        let as_of = self.as_of.map(|day| self.periods.number(day));
        let first = rows().map(|&row| self.period(row)).min();
        let (Some(first), Some(last)) = (first, as_of.or(self.last).or(newest)) else {
            return Ok((
                UInt32Array::from(Vec::<u32>::new()),
                Date32Array::from(Vec::<i32>::new()),
            ));
        };
        // The records of an entity by period, with the first period in which each is no longer the
        // state.
        let stretches = || {
            order.iter().enumerate().flat_map(|(rank, &entity)| {
                let mut groups = of_entities
                    .get(entity)
                    .copied()
                    .unwrap_or_default()
                    .chunk_by(|&one, &other| self.period(one) == self.period(other))
                    .peekable();
                std::iter::from_fn(move || {
                    let group = groups.next()?;
                    let until = groups.peek().map_or(last + 1, |next| self.period(next[0]));
                    Some((rank, group, self.period(group[0]), until))
                })
            })
        };
        let count: u64 = stretches()
            .map(|(_, group, from, until)| group.len() as u64 * (until - from) as u64)
            .sum();
        if count > self.most {
            let advice = Smaller::LongerGrain;
            return Err(Error::TooManyRows { rows: count, most: self.most, widest: None, advice });
        }
        if count >= u32::MAX.into() {
            return Err(Error::TableTooLong { rows: count as usize });
        }
        // First the number of rows of each period, then the place of its first row.
        let mut places = vec![0_u32; (last - first + 2) as usize];
        for (_, group, from, until) in stretches() {
            (from..until)
                .for_each(|period| places[(period - first + 1) as usize] += group.len() as u32);
        }
        for period in 1..places.len() {
            places[period] += places[period - 1];
        }
        let (mut states, mut days) = (vec![0_u32; count as usize], vec![0_i32; count as usize]);
        for (_, group, from, until) in stretches() {
            for period in from..until {
                let place = &mut places[(period - first) as usize];
                let end = self.periods.numbered(period).last();
                let end = self.as_of.map_or(end, |as_of| end.min(as_of)).number();
                for &row in group {
                    (states[*place as usize], days[*place as usize]) = (row, end);
                    *place += 1;
                }
            }
        }
        Ok((states.into(), days.into()))
    }
}
