//! [`Part`]: the cells of some rows and their account. Parts of different rows can be merged.
//!
//! A part of one batch refers to the batch's rows. Before it is merged it is made compact: figures
//! then refer only to the values they need, and sums of floats become long integers, which can be
//! added whatever their units were.

use super::{
    TotalsPlan, What,
    cells::{Groups, Keys, PeriodsOfRows, Spot, TotalCells, sources},
    figures::{FigureSource, Figures, Places},
};
use crate::{
    axis::Axis,
    calendar::{Grain, Range},
    context::Context,
    error::{Result, refuse},
    exact::ExactSum,
    ledger::{Reason, Reconciled, RowMasks, Tally},
    shape::Named,
    table::Table,
};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use borsh::{BorshDeserialize, BorshSerialize};
use std::collections::BTreeMap;

/// The cells of some rows.
pub(super) struct PartialTotals {
    pub(super) groups: Groups,
    pub(super) sources: Vec<FigureSource>,
    pub(super) by_date: Vec<PartialDatedTotals>,
    pub(super) tally: Tally,
    /// The number of rows with a missing value, for each column by its place.
    pub(super) missing: BTreeMap<usize, u64>,
    /// The range for the columns of dates: whole months for columns of months.
    pub(super) range: Option<Range>,
    is_compact: bool,
}

/// The cells by one column of dates, or by none.
pub(super) struct PartialDatedTotals {
    pub(super) axis: Option<Axis>,
    /// Whether the dates are points in time, which were converted to days.
    pub(super) instants: bool,
    /// The first and last period.
    pub(super) ends: Option<(i32, i32)>,
    pub(super) cells: TotalCells,
    pub(super) undated: u64,
    pub(super) outside: u64,
    /// The sums over the rows of each fate, for each figure that is a sum, by its place.
    pub(super) sums: Vec<(usize, Reconciled)>,
}

/// What of a part does not follow from the plan, for another process.
#[derive(BorshSerialize, BorshDeserialize)]
pub(super) struct PackedPart {
    entities: Table,
    sides: Table,
    /// The values that figures refer to, each as a column.
    values: Vec<Option<Table>>,
    by_date: Vec<PackedDates>,
    tally: Tally,
    missing: BTreeMap<usize, u64>,
}

#[derive(BorshSerialize, BorshDeserialize)]
struct PackedDates {
    ends: Option<(i32, i32)>,
    spots: Vec<Spot>,
    figures: Vec<Figures>,
    undated: u64,
    outside: u64,
    sums: Vec<(usize, Reconciled)>,
}

/// The rows of one batch by one column of dates.
pub(super) struct DatedRows {
    pub(super) timed: PeriodsOfRows,
    instants: bool,
    pub(super) used: BooleanBuffer,
    undated: BooleanBuffer,
    outside: BooleanBuffer,
}

impl PartialTotals {
    /// The cells of a table's rows, and the rows without any of the dates.
    pub(super) fn compute(
        totals: &TotalsPlan,
        table: &Table,
        groups: Groups,
        context: &Context,
    ) -> Result<(PartialTotals, Table)> {
        let sources = sources(&totals.requested, table)?;
        let by_date = DatedRows::by_date(totals, table, context)?;
        // A row is kept if it counts at any of its dates, and set aside if it has none of them.
        let used = over(&by_date, |dated| &dated.used, |one, other| one | other);
        // Among several dates, a row without one of them still counts at the others.
        let undated = over(&by_date, |dated| &dated.undated, |one, other| one & other);
        let outside = &!&used & &!&undated;
        let masks = RowMasks {
            kept: used.clone(),
            dropped: vec![(Reason::OutsideRange, outside)],
            set_aside: vec![(Reason::NoDate, undated)],
        };
        let (tally, set_aside) = masks.tally(table, &totals.accounting)?;
        // A missing cell is counted once, even if several figures use it.
        let requested = totals.requested.iter().zip(&sources);
        let missing = requested.filter_map(|(requested, source)| {
            Some((requested.place?, source.missing(|row| used.value(row), table.rows())))
        });
        let part = PartialTotals {
            missing: missing.collect(),
            range: totals.range.map(|range| whole_range(totals, table, range)),
            by_date: by_date
                .into_iter()
                .map(|dated| dated.cells(totals, table, &groups, &sources))
                .collect::<Result<_>>()?,
            groups,
            sources,
            tally,
            is_compact: false,
        };
        Ok((part, set_aside))
    }

    /// The number of cells.
    pub(super) fn cells(&self) -> usize {
        self.by_date.iter().map(|dated| dated.cells.spots.len()).sum()
    }

    /// The bytes that it takes in memory.
    pub(super) fn bytes(&self) -> u64 {
        let keys = self.groups.entities.values.bytes() + self.groups.sides.values.bytes();
        let sources: u64 = self.sources.iter().map(FigureSource::bytes).sum();
        keys + sources + self.by_date.iter().map(|dated| dated.cells.bytes()).sum::<u64>()
    }

    /// The same, without its rows.
    pub(super) fn compact(mut self) -> Result<PartialTotals> {
        if self.is_compact {
            return Ok(self);
        }
        let mut sources = Vec::new();
        for (n, source) in std::mem::take(&mut self.sources).into_iter().enumerate() {
            sources.push(source.compact(figures_of(&mut self.by_date, n))?);
        }
        self.groups.entities.forget_rows();
        self.groups.sides.forget_rows();
        Ok(PartialTotals { sources, is_compact: true, ..self })
    }

    pub(super) fn packed(self) -> Result<PackedPart> {
        let part = self.compact()?;
        let dates = part.by_date.into_iter().map(|dated| PackedDates {
            ends: dated.ends,
            spots: dated.cells.spots,
            figures: dated.cells.figures,
            undated: dated.undated,
            outside: dated.outside,
            sums: dated.sums,
        });
        Ok(PackedPart {
            by_date: dates.collect(),
            values: part.sources.iter().map(FigureSource::compact_values).collect::<Result<_>>()?,
            entities: part.groups.entities.values,
            sides: part.groups.sides.values,
            tally: part.tally,
            missing: part.missing,
        })
    }

    /// Makes these the cells of a part that has none, whose figures are compact.
    pub(super) fn unpack(&mut self, packed: PackedPart) -> Result<()> {
        let PackedPart { entities, sides, values, by_date, tally, missing } = packed;
        self.groups.entities = Keys::in_order(entities);
        self.groups.sides = Keys::in_order(sides);
        for (source, values) in self.sources.iter_mut().zip(values) {
            source.refer_to(values)?;
        }
        for (dated, packed) in self.by_date.iter_mut().zip(by_date) {
            let PackedDates { ends, spots, figures, undated, outside, sums } = packed;
            (dated.ends, dated.undated, dated.outside) = (ends, undated, outside);
            (dated.cells, dated.sums) = (TotalCells { spots, figures }, sums);
        }
        (self.tally, self.missing) = (tally, missing);
        Ok(())
    }

    /// The same cells for entities and columns with other numbers: those at these places.
    pub(super) fn moved(self, entities: &[u32], sides: &[u32]) -> Result<PartialTotals> {
        let mut part = self.compact()?;
        let new = |numbers: &[u32], number: u32| numbers.get(number as usize).copied().unwrap_or(0);
        for dated in &mut part.by_date {
            dated.cells = dated.cells.put_together(&part.sources, |spot| Spot {
                entity: new(entities, spot.entity),
                side: new(sides, spot.side),
                ..spot
            });
        }
        Ok(part)
    }

    /// Merges the cells of both, whose entities and columns have the same numbers.
    pub(super) fn merged(self, other: PartialTotals) -> Result<PartialTotals> {
        let (mut one, mut other) = (self.compact()?, other.compact()?);
        // The figures refer to values of their own part. They are redirected to the merged ones
        // before the cells are merged.
        let mut sources = Vec::new();
        let pairs =
            std::mem::take(&mut one.sources).into_iter().zip(std::mem::take(&mut other.sources));
        for (n, (source, more)) in pairs.enumerate() {
            let figures = [figures_of(&mut one.by_date, n), figures_of(&mut other.by_date, n)];
            sources.push(FigureSource::merged(source, more, figures)?);
        }
        let by_date = one.by_date.into_iter().zip(other.by_date).map(|(dated, more)| {
            let ends = [dated.ends, more.ends].into_iter().flatten();
            let mut sums = dated.sums;
            sums.iter_mut().zip(&more.sums).for_each(|((_, sums), (_, more))| sums.add(more));
            PartialDatedTotals {
                ends: ends.reduce(|one, other| (one.0.min(other.0), one.1.max(other.1))),
                cells: TotalCells::merged(dated.cells, more.cells, &sources),
                axis: dated.axis,
                instants: dated.instants,
                undated: dated.undated + more.undated,
                outside: dated.outside + more.outside,
                sums,
            }
        });
        let by_date: Vec<PartialDatedTotals> = by_date.collect();
        let mut missing = one.missing;
        for (place, cells) in other.missing {
            *missing.entry(place).or_default() += cells;
        }
        let cells =
            by_date.iter().map(|dated: &PartialDatedTotals| dated.cells.spots.len()).sum::<usize>();
        // Values that are no cell's least or greatest any more are forgotten from time to time.
        // Each compaction halves the values at least, so the work for each value is constant.
        let is_compact = sources.iter().all(|source| source.extremes() <= 2 * cells);
        let part = PartialTotals {
            groups: other.groups,
            sources,
            by_date,
            tally: one.tally.plus(&other.tally),
            missing,
            range: one.range,
            is_compact,
        };
        part.compact()
    }
}

/// The figures of one kind for each date.
fn figures_of(by_date: &mut [PartialDatedTotals], figure: usize) -> Vec<&mut Figures> {
    by_date.iter_mut().map(|dated| &mut dated.cells.figures[figure]).collect()
}

/// The rows of a mask of each column of dates, together.
pub(super) fn over(
    by_date: &[DatedRows],
    of: fn(&DatedRows) -> &BooleanBuffer,
    both: fn(&BooleanBuffer, &BooleanBuffer) -> BooleanBuffer,
) -> BooleanBuffer {
    let masks = by_date.iter().map(of).cloned();
    masks.reduce(|one, other| both(&one, &other)).unwrap_or_else(|| BooleanBuffer::new_unset(0))
}

impl DatedRows {
    /// The rows by each column of dates; all rows if there is none.
    pub(super) fn by_date(
        totals: &TotalsPlan,
        table: &Table,
        context: &Context,
    ) -> Result<Vec<DatedRows>> {
        let of_date = |named| DatedRows::new(totals, table, named, context);
        let mut by_date: Vec<DatedRows> =
            totals.dates.iter().map(of_date).collect::<Result<_>>()?;
        if by_date.is_empty() {
            by_date.push(DatedRows::all(table));
        }
        one_kind_of_hours(totals, &by_date)?;
        Ok(by_date)
    }

    fn new(
        totals: &TotalsPlan,
        table: &Table,
        named: &Named,
        context: &Context,
    ) -> Result<DatedRows> {
        let dates = table.dates_at(named.place);
        let timed = PeriodsOfRows::new(totals, &named.column, &dates, context)?;
        let dated = dates
            .nulls()
            .map_or_else(|| BooleanBuffer::new_set(table.rows()), NullBuffer::into_inner);
        let outside = match totals.range {
            Some(range) => {
                let [before, after] = dates.outside(range.to_whole(dates.periods()), &context.zone);
                &dated & &(&before | &after)
            }
            None => BooleanBuffer::new_unset(table.rows()),
        };
        let used = &dated & &!&outside;
        Ok(DatedRows { timed, instants: dates.are_instants(), used, undated: !&dated, outside })
    }

    /// All rows, without dates.
    fn all(table: &Table) -> DatedRows {
        let none = BooleanBuffer::new_unset(table.rows());
        let used = BooleanBuffer::new_set(table.rows());
        DatedRows {
            timed: PeriodsOfRows::without_dates(),
            instants: false,
            used,
            undated: none.clone(),
            outside: none,
        }
    }

    fn cells(
        self,
        totals: &TotalsPlan,
        table: &Table,
        groups: &Groups,
        sources: &[FigureSource],
    ) -> Result<PartialDatedTotals> {
        let DatedRows { timed, instants, used, undated, outside } = self;
        let all = BooleanBuffer::new_set(table.rows());
        let sums = totals
            .requested
            .iter()
            .enumerate()
            .filter(|(_, requested)| requested.what == What::Sum);
        let sums = sums.filter_map(|(figure, requested)| {
            let column = table.at(requested.place?);
            let sum = |rows: &BooleanBuffer| ExactSum::of_column(column, rows);
            let reconciled = Reconciled {
                column: requested.column.clone(),
                came_in: sum(&all),
                kept: sum(&used),
                dropped: sum(&outside),
                set_aside: sum(&undated),
                in_answer: None,
            };
            Some((figure, reconciled))
        });
        Ok(PartialDatedTotals {
            sums: sums.collect(),
            ends: timed.axis.is_some().then(|| timed.ends(&used)).flatten(),
            cells: TotalCells::compute(groups, &timed, &used, sources)?,
            axis: timed.axis,
            instants,
            undated: undated.count_set_bits() as u64,
            outside: outside.count_set_bits() as u64,
        })
    }
}

impl PartialDatedTotals {
    /// The sum of a figure over all cells.
    pub(super) fn sum_of_cells(&self, source: &FigureSource, figure: usize) -> Result<ExactSum> {
        let count = self.cells.spots.len();
        let cells = source.column(&self.cells.figures[figure], &Places::EachCell(count))?;
        Ok(ExactSum::of_column(&cells, &BooleanBuffer::new_set(count)))
    }
}

/// The range for the columns of dates; the shortest if they differ.
fn whole_range(totals: &TotalsPlan, table: &Table, range: Range) -> Range {
    let ranges =
        totals.dates.iter().map(|named| range.to_whole(table.dates_at(named.place).periods()));
    ranges
        .reduce(|finest, own| if finest.days() <= own.days() { finest } else { own })
        .unwrap_or(range)
}

/// Errors: hours of both points in time and readings of clocks.
fn one_kind_of_hours(totals: &TotalsPlan, by_date: &[DatedRows]) -> Result<()> {
    let mut kinds = by_date.iter().map(|dated| dated.instants);
    let first = kinds.next().unwrap_or_default();
    let hours = totals.periods.is_some_and(|periods| periods.grain() == Grain::Hour);
    if hours && kinds.any(|kind| kind != first) {
        let columns: Vec<&str> = totals.dates.iter().map(|named| named.column.as_str()).collect();
        let expected = "moments of one kind for hours, all with an offset or all without";
        return refuse("date", format!("`{}`", columns.join(",")), expected);
    }
    Ok(())
}
