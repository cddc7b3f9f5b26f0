//! [`Cells`]: one cell for each entity and period, and the row that belongs to it.

use super::{Dated, Extent, FilledPlan};
use crate::{
    axis::Axis,
    calendar::{Day, Grain, Range},
    dates::Dates,
    entities::{Entities, Missing},
    error::{Error, Places, Result, Smaller},
    gather::{NONE, of_stretches, stretched},
    ordering::entities_in_order,
    parallel,
    table::Table,
    timeline::{GroupedByEntity, Timeline, in_order},
};
use arrow_array::{
    ArrayRef, BooleanArray, Date32Array, TimestampMicrosecondArray, UInt32Array, cast::AsArray,
};
use arrow_buffer::BooleanBuffer;
use arrow_select::filter::filter;
use std::{ops, sync::Arc};

/// The cells of a batch.
const BATCH: u64 = 1 << 16;

/// The bits at the places of a mask.
fn only(bits: &BooleanBuffer, places: &BooleanBuffer) -> Result<BooleanBuffer> {
    let [bits, places] = [bits, places].map(|bits| BooleanArray::new(bits.clone(), None));
    Ok(filter(&bits, &places)?.as_boolean().values().clone())
}

/// The cells of all entities, in the order of their keys.
pub(super) struct SeriesCells {
    /// The records with a key and a date, under their new names.
    pub(super) table: Table,
    pub(super) ids: Vec<u32>,
    dates: Dates,
    pub(super) date_column: usize,
    pub(super) key_columns: Vec<usize>,
    axis: Axis,
    /// The period of each record.
    numbers: Vec<i32>,
    pub(super) mark: Option<String>,
    dated: Dated,
    /// The range of the result, if one is given.
    stated: Option<Range>,
    /// The key columns of each entity, in order.
    pub(super) keys: Table,
    /// The numbers of the entities, in the order of their keys.
    order: Vec<usize>,
    /// The place of each entity's records, both of those in the range and of all, and the order of
    /// the rows unless they are sorted already.
    spans: Vec<ops::Range<u32>>,
    all_spans: Vec<ops::Range<u32>>,
    records: Option<DatedRows>,
    /// The first period of each entity in order, and the number of cells before it.
    first: Vec<i32>,
    before: Vec<u64>,
    pub(super) without_record: u64,
    pub(super) named_twice: u64,
    pub(super) without_key: u64,
}

/// The cells of a group of entities.
pub(super) struct Laid {
    /// The first of these entities, by its place in the order.
    pub(super) entity: usize,
    /// The first cell of each entity.
    pub(super) starts: Vec<u32>,
    /// The record of each cell, or [`NONE`]; empty if no column needs them.
    pub(super) rows: Vec<u32>,
    /// The date of each cell, as a number in the order of time.
    pub(super) dates: ArrayRef,
}

/// The spans of the records in the range. The records of an entity are sorted by date: first those
/// before the range, then those in it, then those after it. So each record before the range moves
/// the start of the span by one, and each one in it the end. No search is needed.
fn spans_in_range(
    spans: &[ops::Range<u32>],
    records: &Option<Vec<(i64, u32)>>,
    before: &BooleanBuffer,
    in_range: &BooleanBuffer,
) -> Vec<ops::Range<u32>> {
    let row =
        |at: u32| records.as_ref().map_or(at as usize, |records| records[at as usize].1 as usize);
    let count = |span: &ops::Range<u32>, rows: &BooleanBuffer| {
        span.clone().filter(|&at| rows.value(row(at))).count() as u32
    };
    let in_range_of = |span: &ops::Range<u32>| {
        let first = span.start + count(span, before);
        first..first + count(span, in_range)
    };
    spans.iter().map(in_range_of).collect()
}

impl SeriesCells {
    pub(super) fn lay_out(
        filled: &FilledPlan,
        table: &Table,
        [usable, kept, before]: [&BooleanBuffer; 3],
        axis: Axis,
    ) -> Result<SeriesCells> {
        let per = &filled.per;
        let used = table.filter(usable)?;
        let rows = used.rows();
        let dates = used.dates_at(filled.date);
        // From here on rows are those with a key and a date, and the masks refer to them.
        let in_range =
            if kept == usable { BooleanBuffer::new_set(rows) } else { only(kept, usable)? };
        let keys = match (per.is_empty(), filled.entities.is_empty()) {
            (false, false) => filled.entities.after(&used, per)?,
            _ => used.select(per)?,
        };
        let names = keys.all_named();
        // The whole table is one entity, even if it has no rows.
        let one = || Entities::from_ids(vec![0; rows], 1);
        let mut entities = match one().filter(|_| names.is_empty()) {
            Some(one) => one,
            None => Entities::of_columns(keys.columns(), keys.rows(), Missing::NoEntity)?,
        };
        // The result is sorted by key, so the entities are put in that order once.
        let (mut order, mut keys_in_order) = (vec![0], keys.clone());
        if !names.is_empty() {
            order = entities_in_order(&keys, &names, &entities)?;
            let firsts = entities.first_rows();
            let firsts = UInt32Array::from_iter_values(order.iter().map(|&entity| firsts[entity]));
            keys_in_order = keys.take(&firsts)?;
        }
        // The listed entities were numbered after the rows. Count those without a key and the
        // duplicates for the ledger, and then forget them: their numbers stay, without records.
        let named = &entities.ids()[rows..];
        let without_key = named.iter().filter(|&&id| id == Entities::NONE).count() as u64;
        let mut seen = vec![false; entities.count()];
        let named_twice = named
            .iter()
            .filter(|&&id| id != Entities::NONE && std::mem::replace(&mut seen[id as usize], true))
            .count() as u64;
        entities.truncate(rows);

        // The records of each entity are a span in the order of entity and date.
        let (all_spans, records) = by_entity(&entities, &dates);
        let spans = if in_range.count_set_bits() == rows {
            all_spans.clone()
        } else {
            spans_in_range(&all_spans, &records, &only(before, usable)?, &in_range)
        };
        let numbers = axis.numbers(&dates);
        let mut cells = SeriesCells {
            date_column: filled.date,
            key_columns: per.iter().map(|named| named.place).collect(),
            ids: entities.into_ids(),
            table: used,
            dated: Dated::First,
            stated: filled.stated(&dates),
            mark: filled.mark.clone(),
            without_record: all_spans.iter().filter(|span| span.is_empty()).count() as u64,
            dates,
            axis,
            numbers,
            keys: keys_in_order,
            order,
            spans,
            all_spans,
            records,
            first: Vec::new(),
            before: Vec::new(),
            named_twice,
            without_key,
        };
        // The order matters: cells can be numbered only once no two records share one.
        cells.refuse_taken(table, usable)?;
        cells.number(filled)?;
        cells.dated = filled.dated.unwrap_or_else(|| cells.dated_as_the_data_is(filled, &in_range));
        Ok(cells)
    }

    /// The records of the entity at this place in the order, by date.
    fn records(&self, place: usize) -> impl DoubleEndedIterator<Item = usize> + ExactSizeIterator {
        self.spans[self.order[place]].clone().map(|at| self.record(at))
    }

    /// The row of the record at a place among all records.
    fn record(&self, at: u32) -> usize {
        self.records.as_ref().map_or(at as usize, |records| records[at as usize].1 as usize)
    }

    /// An entity's records outside the range: those before it, the newest first, and those after
    /// it, the oldest first.
    pub(super) fn beside(
        &self,
        place: usize,
    ) -> (impl Iterator<Item = usize> + '_, impl Iterator<Item = usize> + '_) {
        let (all, own) = (&self.all_spans[self.order[place]], &self.spans[self.order[place]]);
        let row = |at: u32| self.record(at);
        ((all.start..own.start).rev().map(row), (own.end..all.end).map(row))
    }

    /// The period of a record, and its date as a number in the order of time.
    pub(super) fn period(&self, row: usize) -> i32 {
        self.numbers[row]
    }

    pub(super) fn date(&self, row: usize) -> i64 {
        self.dates.sortable(row)
    }

    /// The first period of the entity at a place.
    pub(super) fn first_period(&self, place: usize) -> i32 {
        self.first[place]
    }

    /// Errors: several records belong to one cell.
    fn refuse_taken(&self, table: &Table, usable: &BooleanBuffer) -> Result<()> {
        let is_taken = |place: usize| {
            // The records of an entity are sorted by date, so two that share a period are
            // neighbours.
            let mut last = None;
            self.records(place)
                .any(|row| last.replace(self.numbers[row]) == Some(self.numbers[row]))
        };
        if !parallel::any(self.order.len(), is_taken) {
            return Ok(());
        }
        // There is an error, so time no longer matters: count all cells and describe the first
        // three.
        let (mut cells, mut named) = (0, Vec::new());
        for place in (0..self.order.len()).filter(|&place| is_taken(place)) {
            let rows: Vec<usize> = self.records(place).collect();
            for cell in rows.chunk_by(|&one, &next| self.numbers[one] == self.numbers[next]) {
                if cell.len() < 2 {
                    continue;
                }
                cells += 1;
                if named.len() < 3 {
                    // Row numbers of the input, before unusable rows were removed.
                    let mut came_in: Vec<usize> = cell
                        .iter()
                        .take(3)
                        .filter_map(|&row| usable.set_indices().nth(row))
                        .collect();
                    came_in.sort_unstable();
                    let more = if cell.len() > came_in.len() { ", …" } else { "" };
                    let places: Vec<String> =
                        came_in.into_iter().map(|row| table.place(row)).collect();
                    let (entity, period) =
                        (self.entity_text(place)?, self.axis.text(self.numbers[cell[0]]));
                    named.push(format!("{entity}{period} ({}{more})", places.join(", ")));
                }
            }
        }
        Err(Places::CellTaken { cells, grain: self.axis.periods().grain(), named }.into())
    }

    /// The name of an entity, followed by a separator; empty if the whole table is one entity.
    pub(super) fn entity_text(&self, place: usize) -> Result<String> {
        let cells = self.keys.names().map(|name| self.keys.cell_text(name, place));
        Ok(cells.collect::<Result<Vec<_>>>()?.into_iter().map(|text| format!("{text}, ")).collect())
    }

    /// The first cell of each entity.
    fn number(&mut self, filled: &FilledPlan) -> Result<()> {
        let ends = |place: usize| {
            let mut numbers = self.records(place).map(|row| self.numbers[row]);
            let first = numbers.next()?;
            Some((first, numbers.next_back().unwrap_or(first)))
        };
        let wider = |one: (i32, i32), other: (i32, i32)| (one.0.min(other.0), one.1.max(other.1));
        // The first and last period of all entities, unless each entity has its own.
        let overall = match filled.extent {
            Extent::Each => None,
            Extent::Data => match &filled.overall {
                Some(overall) => overall.periods,
                None => (0..self.order.len()).filter_map(ends).reduce(wider),
            },
            Extent::Stated(range) => Some(self.axis.range(range)),
        };
        let (mut all, mut widest) = (0_u64, (0_u64, 0));
        let (mut first, mut before) = (Vec::new(), Vec::with_capacity(self.order.len() + 1));
        for place in 0..self.order.len() {
            let of_entity = if filled.extent == Extent::Each { ends(place) } else { overall };
            // An entity without a record has no range of its own, and so no cells.
            let (from, to) = of_entity.unwrap_or((0, -1));
            let cells = (i64::from(to) - i64::from(from) + 1) as u64;
            if cells > widest.0 {
                widest = (cells, place);
            }
            first.push(from);
            before.push(all);
            all += cells;
        }
        before.push(all);
        (self.first, self.before) = (first, before);
        // The number of cells is known before any is made, so a result that is too long costs
        // nothing.
        let most = filled.most_rows;
        if all > most {
            let ((cells, place), periods) = (widest, self.axis.periods().grain().plural());
            let last = self.first[place] + cells as i32 - 1;
            let entities = self.order.len();
            let widest = format!(
                "{} to {} are {cells} {periods}, for {} of {entities} {}",
                self.axis.text(self.first[place]),
                self.axis.text(last),
                if filled.extent == Extent::Each { "the longest" } else { "each" },
                if entities == 1 { "entity" } else { "entities" },
            );
            let advice = Smaller::LongerGrainOrRange;
            return Err(Error::TooManyRows { rows: all, most, widest: Some(widest), advice });
        }
        Ok(())
    }

    /// On the last day, if all records are on the last days of their periods.
    fn dated_as_the_data_is(&self, filled: &FilledPlan, in_range: &BooleanBuffer) -> Dated {
        let own = self.dates.periods();
        let any =
            filled.overall.as_ref().map_or(in_range.count_set_bits() > 0, |all| all.any_in_range);
        if filled.grain.is_none_or(|grain| grain <= own.grain()) || !any {
            return Dated::First;
        }
        if let Some(overall) = &filled.overall {
            return if overall.not_on_last_days { Dated::First } else { Dated::Last };
        }
        let days = self.dates.day_numbers(self.axis.zone());
        // A single record on another day shows that the data is not dated on last days.
        let is_last = |row: usize| {
            own.containing(Day::clamped(days[row])).last() == self.axis.last_day(self.numbers[row])
        };
        if in_range.set_indices().all(is_last) { Dated::Last } else { Dated::First }
    }

    /// Whether a column is the date or part of the key.
    pub(super) fn is_key_or_date(&self, column: usize) -> bool {
        column == self.date_column || self.key_columns.contains(&column)
    }

    /// The number of the entity at a place in the order.
    pub(super) fn entity(&self, place: usize) -> usize {
        self.order[place]
    }

    /// The place of an entity in the order.
    pub(super) fn place(&self, entity: usize) -> usize {
        self.order.iter().position(|&other| other == entity).unwrap_or_default()
    }

    pub(super) fn count(&self) -> u64 {
        self.before.last().copied().unwrap_or(0)
    }

    pub(super) fn entities(&self) -> usize {
        self.order.len()
    }

    /// The first and last day of the cells.
    pub(super) fn view(&self) -> Option<Range> {
        let cells = |place: usize| (self.before[place + 1] - self.before[place]) as i32;
        let places = || (0..self.order.len()).filter(|&place| cells(place) > 0);
        let first = places().map(|place| self.first[place]).min()?;
        let last = places().map(|place| self.first[place] + cells(place) - 1).max()?;
        Range::new(self.axis.first_day(first), self.axis.last_day(last))
    }

    /// Groups of entities with about this many cells each.
    pub(super) fn stretches(&self) -> Vec<ops::Range<usize>> {
        let (mut stretches, mut from) = (Vec::new(), 0);
        for place in 0..self.order.len() {
            // An entity is never split, because carrying and interpolation need all of its cells.
            if self.before[place + 1] - self.before[from] >= BATCH || place + 1 == self.order.len()
            {
                stretches.push(from..place + 1);
                from = place + 1;
            }
        }
        stretches
    }

    /// The cells of some entities, with their records if a column needs them.
    pub(super) fn laid(&self, places: ops::Range<usize>, needs_rows: bool) -> Result<Laid> {
        let base = self.before[places.start];
        let all = self.before[places.end] - base;
        if all >= NONE.into() {
            return Err(Error::TableTooLong { rows: all as usize });
        }
        let starts: Vec<u32> = self.before[places.start..=places.end]
            .iter()
            .map(|&before| (before - base) as u32)
            .collect();
        let dates = self.dates_of(places.start, &starts);
        let rows = if needs_rows { self.rows_of(places.start, &starts) } else { Vec::new() };
        Ok(Laid { entity: places.start, starts, rows, dates })
    }

    /// The record of each cell, or [`NONE`].
    fn rows_of(&self, entity: usize, starts: &[u32]) -> Vec<u32> {
        stretched(starts, |n, own: &mut [u32]| {
            // Mark all cells as empty, and then enter the records. Records are few or many, but
            // each cell is written at most twice.
            own.fill(NONE);
            self.of_entity(entity + n).for_each(|(cell, row)| own[cell] = row as u32);
        })
    }

    /// The cells of an entity that have a record, in order, with their records.
    pub(super) fn of_entity(&self, place: usize) -> impl Iterator<Item = (usize, usize)> {
        let first = self.first[place];
        self.records(place).map(move |row| ((self.numbers[row] - first) as usize, row))
    }

    /// The date of each cell: that of its record, or the day on which an added row is dated.
    fn dates_of(&self, entity: usize, starts: &[u32]) -> ArrayRef {
        let own = self.dates.periods();
        let last = self.dated == Dated::Last;
        // Of a period that the range covers in part, the first or last day of the part.
        let (from, to) =
            self.stated.map_or((Day::MIN, Day::MAX), |range| (range.first(), range.last()));
        let day = |number: i32| {
            own.first_day(if last {
                self.axis.last_day(number).min(to)
            } else {
                self.axis.first_day(number).max(from)
            })
        };
        if let Dates::Moments(moments) = &self.dates {
            let from = self.stated.map_or(i64::MIN, |range| self.axis.midnight(range.first()));
            let added = |number| {
                if last {
                    self.axis.midnight(day(number))
                } else {
                    self.axis.start(number).max(from)
                }
            };
            let dates = stretched(starts, |n, own| {
                // Date every cell as if it were added, and then replace the dates of records by
                // their own.
                let numbers = self.first[entity + n]..;
                own.iter_mut().zip(numbers).for_each(|(date, number)| *date = added(number));
                self.of_entity(entity + n).for_each(|(cell, row)| own[cell] = moments.value(row));
            });
            let dates = TimestampMicrosecondArray::from(dates);
            return Arc::new(if self.axis.instants { dates.with_timezone("UTC") } else { dates });
        }
        if self.axis.periods().grain() == Grain::Day {
            // The number of a day is also the number of its cell.
            let dates = of_stretches(starts, |n, own| own.extend(self.first[entity + n]..));
            return Arc::new(Date32Array::from(dates));
        }
        let dates = stretched(starts, |n, own| {
            let numbers = own.iter_mut().zip(self.first[entity + n]..);
            numbers.for_each(|(date, number)| *date = day(number).number());
            if let Dates::Days(days, _) = &self.dates {
                self.of_entity(entity + n).for_each(|(cell, row)| own[cell] = days.value(row));
            }
        });
        Arc::new(Date32Array::from(dates))
    }
}

/// The date and the row of each record.
type DatedRows = Vec<(i64, u32)>;

/// The place of each entity's records, and the records sorted by entity and date; none if the rows
/// are in that order.
fn by_entity(entities: &Entities, dates: &Dates) -> (Vec<ops::Range<u32>>, Option<DatedRows>) {
    if let Some(bounds) = in_order(entities.ids(), entities.count(), dates) {
        let mut spans = vec![0..0; entities.count()];
        for bounds in bounds.windows(2) {
            spans[entities.ids()[bounds[0] as usize] as usize] = bounds[0]..bounds[1];
        }
        return (spans, None);
    }
    let all = BooleanBuffer::new_set(entities.ids().len());
    let GroupedByEntity { starts, values } = Timeline::dated(entities, dates, &all);
    (starts.windows(2).map(|bounds| bounds[0]..bounds[1]).collect(), Some(values))
}
