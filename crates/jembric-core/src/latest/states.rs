//! The state at the end of every period: each entity's latest record at that time.
//!
//! Of an entity's records in a period only the latest can be a state, and it remains one until the
//! entity's next record. The rows of the result can therefore be counted from the periods with a
//! record, before any row is made.

use super::best::{Chosen, Groups, mask};
use crate::{
    calendar::{Day, Grain, Periods},
    context::Context,
    dates::{Dates, check_grain},
    entities::Entities,
    error::{Error, Result, Smaller},
    gather::of_stretches,
    parallel,
    timeline::Timeline,
};
use arrow_array::{Date32Array, UInt32Array};
use arrow_buffer::BooleanBuffer;
use std::ops::Range;

/// The entities that a thread takes at a time.
const ENTITIES_AT_ONCE: usize = 1 << 10;

/// The column with the date of each state.
pub(super) const STATE_ON: &str = "state_on";

pub(super) struct States {
    periods: Periods,
    /// The period of each row.
    numbers: Vec<i32>,
    as_of: Option<Day>,
    /// The last period with a record, if the rows are only a part of all.
    last: Option<i32>,
    most: u64,
}

impl States {
    /// Errors: the periods are finer than those of the column.
    pub(super) fn new(
        grain: Grain,
        most: u64,
        date: &str,
        dates: &Dates,
        context: &Context,
    ) -> Result<States> {
        check_grain(date, dates, grain)?;
        let periods = Periods::from(grain);
        let number = |day: i32| periods.number(Day::clamped(day));
        let numbers = parallel::map(&dates.day_numbers(&context.zone), number);
        Ok(States { periods, numbers, as_of: context.as_of, last: None, most })
    }

    /// The same, up to the last period of all rows.
    pub(super) fn until(self, last: Option<i32>) -> States {
        States { last, ..self }
    }

    /// The first and last period of some rows.
    pub(super) fn ends(&self, rows: &BooleanBuffer) -> Option<(i32, i32)> {
        parallel::ends(rows.len(), |row| rows.value(row).then(|| self.numbers[row]))
    }

    fn period(&self, row: u32) -> i32 {
        self.numbers[row as usize]
    }

    /// An entity's records by period.
    fn by_period<'r>(&self, rows: &'r [u32]) -> impl Iterator<Item = &'r [u32]> {
        rows.chunk_by(|&one, &other| self.period(one) == self.period(other))
    }

    /// The latest records of each entity in each period.
    pub(super) fn latest_each(
        &self,
        entities: &Entities,
        dates: &Dates,
        considered: &BooleanBuffer,
    ) -> Chosen {
        let timeline = Timeline::new(entities, dates, considered);
        let of_some = |entities: Range<usize>| {
            let (mut ties, mut best, mut with_rows) = (Groups::default(), Vec::new(), 0);
            for rows in entities.map(|entity| timeline.of_entity(entity)) {
                with_rows += u64::from(!rows.is_empty());
                for of_period in self.by_period(rows) {
                    let newest = of_period.last().map(|&row| dates.sortable(row as usize));
                    let is_before = |&row: &u32| Some(dates.sortable(row as usize)) < newest;
                    let latest = &of_period[of_period.partition_point(is_before)..];
                    best.extend_from_slice(latest);
                    if latest.len() > 1 {
                        ties.push(latest);
                    }
                }
            }
            (ties, best, with_rows)
        };
        let parts = parallel::of_stretches(entities.count(), ENTITIES_AT_ONCE, of_some);
        let mut chosen = Chosen::default();
        for (ties, _, with_rows) in &parts {
            ties.iter().for_each(|group| chosen.ties.push(group));
            chosen.entities += with_rows;
        }
        let best = parts.into_iter().flat_map(|(_, best, _)| best);
        chosen.best = mask(considered.len(), best);
        chosen
    }

    /// The rows that are states at the end of each period, sorted by period and entity, and the
    /// dates of these states.
    pub(super) fn at_ends(
        &self,
        timeline: &Timeline,
        order: &[usize],
    ) -> Result<(UInt32Array, Date32Array)> {
        let as_of = self.as_of.map(|day| self.periods.number(day));
        let rows = timeline.rows();
        let ends = parallel::ends(rows.len(), |place| Some(self.period(rows[place])));
        let Some((first, newest)) = ends else {
            return Ok((vec![0_u32; 0].into(), vec![0_i32; 0].into()));
        };
        let last = as_of.or(self.last).unwrap_or(newest);
        let periods = (last - first + 1) as usize;
        // Each thread takes some of the entities, in order. There is a place for each thread and
        // period, so these must be few compared with the records.
        let threads = rayon::current_num_threads().min(rows.len() / periods.max(1)).max(1);
        let ranks: Vec<Range<usize>> = (0..threads)
            .map(|n| order.len() * n / threads..order.len() * (n + 1) / threads)
            .collect();
        // The records of an entity by period, with the periods in which they are the state.
        let stretches = |ranks: Range<usize>| {
            order[ranks].iter().flat_map(|&entity| {
                let mut groups = self.by_period(timeline.of_entity(entity)).peekable();
                std::iter::from_fn(move || {
                    let group = groups.next()?;
                    let until = groups.peek().map_or(last + 1, |next| self.period(next[0]));
                    let places = |period: i32| (period - first) as usize;
                    Some((group, places(self.period(group[0]))..places(until)))
                })
            })
        };
        // First count the rows of each period, for each thread.
        let counts = parallel::of_parts(ranks.clone(), |_, ranks| {
            let mut counts = vec![0_u32; periods];
            for (group, own) in stretches(ranks) {
                counts[own].iter_mut().for_each(|count| *count += group.len() as u32);
            }
            counts
        });
        let count: u64 = counts.iter().flatten().map(|&count| u64::from(count)).sum();
        if count > self.most {
            let advice = Smaller::LongerGrain;
            return Err(Error::TooManyRows { rows: count, most: self.most, widest: None, advice });
        }
        if count >= u32::MAX.into() {
            return Err(Error::TableTooLong { rows: count as usize });
        }
        // Then divide the result into the room of each thread in each period.
        let mut states = vec![0_u32; count as usize];
        let mut rooms: Vec<Vec<&mut [u32]>> = ranks.iter().map(|_| Vec::new()).collect();
        let (mut rest, mut starts) = (&mut states[..], vec![0]);
        for period in 0..periods {
            for (rooms, counts) in rooms.iter_mut().zip(&counts) {
                let (room, others) = rest.split_at_mut(counts[period] as usize);
                rooms.push(room);
                rest = others;
            }
            starts.push(count as u32 - rest.len() as u32);
        }
        parallel::of_parts(ranks.into_iter().zip(rooms), |_, (ranks, mut rooms)| {
            for (group, own) in stretches(ranks) {
                for room in &mut rooms[own] {
                    let (here, others) = std::mem::take(room).split_at_mut(group.len());
                    here.copy_from_slice(group);
                    *room = others;
                }
            }
        });
        let days = of_stretches(&starts, |n, own| {
            let end = self.periods.numbered(first + n as i32).last();
            let end = self.as_of.map_or(end, |as_of| end.min(as_of));
            own.repeat(end.number(), own.len());
        });
        Ok((states.into(), days.into()))
    }
}
