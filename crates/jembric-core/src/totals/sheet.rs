//! Lays out the cells as a result: its rows and columns, the figure in each, and the ledger.

use super::{
    Each, Scope, TotalsPlan,
    cells::{Keys, Spot, TotalCells},
    figures::FigureSource,
    partial::{PartialDatedTotals, PartialTotals},
};
use crate::{
    axis::Axis,
    calendar::{Month, Periods, Range, Weekday},
    context::Context,
    entities::{Entities, Missing},
    error::{Error, Result, Smaller},
    ledger::{Ledger, Outcome, Reconciled, Warning},
    parallel,
    table::{Table, ordered_field},
};
use arrow_array::{
    Array, ArrayRef, Int64Array, StringViewArray, UInt32Array, cast::AsArray, new_null_array,
};
use arrow_schema::{DataType, Field};
use arrow_select::concat::concat;
use std::{borrow::Cow, sync::Arc};

/// The name of the row over all rows.
const TOTAL_ROW: &str = "(total)";
/// The name of the column over all columns side by side.
pub(super) const TOTAL_COLUMN: &str = "total";
/// The name of the column for rows with a missing value in the column side by side.
const MISSING_COLUMN: &str = "(missing)";

struct Sheet<'a> {
    totals: &'a TotalsPlan,
    part: &'a PartialTotals,
    /// The spot of each row of the result, except for the total.
    rows: Cow<'a, [Spot]>,
}

/// The result for the cells of a part, and the rows set aside.
pub(super) fn outcome(
    totals: &TotalsPlan,
    part: PartialTotals,
    set_aside: Table,
    context: &Context,
) -> Result<Outcome> {
    let most = totals.most_side_by_side;
    if let Some(named) = totals.side.first()
        && part.groups.sides.count as u64 > most
    {
        let (column, values) = (named.column.clone(), part.groups.sides.count as u64);
        return Err(Error::TooManyColumns { column, values, most });
    }
    let part = if totals.every_combination {
        with_every_combination(part, totals.most_rows)?
    } else {
        part
    };
    let mut sheet = Sheet { totals, part: &part, rows: Cow::Borrowed(&[]) };
    sheet.rows = sheet.rows(context)?;
    let ledger = sheet.ledger(context)?;
    Ok(Outcome { table: sheet.answer()?, ledger, set_aside })
}

/// The same cells, with every value of each key combined with every value of the others.
fn with_every_combination(part: PartialTotals, most: u64) -> Result<PartialTotals> {
    let mut values = Vec::new();
    for column in part.groups.entities.values.fields() {
        values.push(Keys::of_values(Table::of_known([column])?)?.values);
    }
    let rows = values.iter().fold(1_u64, |rows, values| rows.saturating_mul(values.rows() as u64));
    if rows > most {
        let advice = Smaller::FewerKeys;
        return Err(Error::TooManyRows { rows, most, widest: None, advice });
    }
    // The combinations are the digits of a number: the last key changes with every row, the one
    // before it once for all of its values, and so on.
    let mut repeats = rows;
    let mut columns = Vec::new();
    for values in &values {
        let count = values.rows() as u64;
        repeats /= count.max(1);
        let rows: UInt32Array =
            (0..rows).map(|row| Some((row / repeats.max(1) % count) as u32)).collect();
        columns.extend(values.take(&rows)?.fields());
    }
    let all = Keys::in_order(Table::of_known(columns)?);
    let (entities, of_part, _) = Keys::merged(&part.groups.entities, &all)?;
    let sides: Vec<u32> = (0..part.groups.sides.count as u32).collect();
    let mut part = part.moved(&of_part, &sides)?;
    part.groups.entities = entities;
    Ok(part)
}

impl<'a> Sheet<'a> {
    fn axis(&self) -> Option<&Axis> {
        self.part.by_date.first().and_then(|dated| dated.axis.as_ref())
    }

    /// The first and last period of the result.
    fn ends(&self) -> Option<(i32, i32)> {
        let axis = self.axis()?;
        if let Some(range) = self.totals.range {
            return Some(axis.range(range));
        }
        // A part of the rows has the periods of all rows, so that all parts have the same ones.
        if let Some(all) = &self.totals.of_all {
            return all.overall.periods;
        }
        let ends = self.part.by_date.iter().filter_map(|dated| dated.ends);
        ends.reduce(|one, other| (one.0.min(other.0), one.1.max(other.1)))
    }

    /// The spots of the result's rows.
    fn rows(&self, context: &Context) -> Result<Cow<'a, [Spot]>> {
        let TotalsPlan { dates, per, dense, side, .. } = self.totals;
        // All rows belong to the last one, which is not a spot.
        if self.totals.only_last_row {
            return Ok(Cow::Borrowed(&[]));
        }
        if dates.is_empty() && per.is_empty() {
            return Ok(vec![Spot::default()].into());
        }
        // With one date and no columns side by side, the cells are the rows, in their order.
        if let ([dated], true, false) = (&self.part.by_date[..], side.is_empty(), dense) {
            return Ok(Cow::Borrowed(&dated.cells.spots));
        }
        if !dense {
            let spots = self.part.by_date.iter().flat_map(|dated| &dated.cells.spots);
            // Every date has cells of its own, and a row has all columns side by side.
            let mut rows: Vec<Spot> = spots.map(|spot| Spot { side: 0, ..*spot }).collect();
            rows.sort_unstable();
            rows.dedup();
            return Ok(rows.into());
        }
        let (first, last) = match self.axis() {
            // Without a record there is no period, and no row.
            Some(_) => self.ends().unwrap_or((0, -1)),
            None => (0, 0),
        };
        let (parts, entities) = (self.part.groups.parts, self.part.groups.entities.count as u32);
        let periods = (i64::from(last) - i64::from(first) + 1) as u64;
        let rows = periods * u64::from(parts) * u64::from(entities);
        let most = self.totals.most_rows;
        if rows > most {
            let widest = self.axis().map(|axis| {
                let plural = axis.periods().grain().plural();
                format!("{} to {} are {periods} {plural}", axis.text(first), axis.text(last))
            });
            let advice = Smaller::LongerGrainOrRange;
            return Err(Error::TooManyRows { rows, most, widest, advice });
        }
        // A spot, the keys, and each figure in each column.
        let figures = (self.totals.requested.len()
            * self.part.by_date.len()
            * self.part.groups.sides.count.max(1)) as u64;
        let row_bytes = 24 + self.part.groups.entities.values.row_bytes() + 32 * figures;
        context.expect_room(rows, row_bytes, Smaller::LongerGrainOrRange)?;
        let spot = |period, part, entity| Spot { period, part, entity, side: 0 };
        let of_period = |period| {
            (0..parts)
                .flat_map(move |part| (0..entities).map(move |entity| spot(period, part, entity)))
        };
        Ok((first..=last).flat_map(of_period).collect::<Vec<Spot>>().into())
    }

    fn answer(&self) -> Result<Table> {
        let mut columns = self.key_columns()?;
        let dates = &self.totals.suffixes;
        for ((requested, source), figure) in
            self.totals.requested.iter().zip(&self.part.sources).zip(0..)
        {
            for (dated, suffix) in self.part.by_date.iter().zip(dates) {
                let name = format!("{}{suffix}", requested.name);
                match self.totals.side.first() {
                    Some(_) => columns.extend(self.side_by_side(dated, source, figure, &name)?),
                    None => {
                        let array = self.column(source, &dated.cells, figure, &self.rows)?;
                        let one = std::slice::from_ref(source);
                        let over_all =
                            || dated.cells.only(figure).put_together(one, |_| Spot::default());
                        let array = self.with_total(source, array, over_all, 0)?;
                        columns.push(figure_column(source, name, array));
                    }
                }
            }
        }
        columns.extend(self.beside(dates)?);
        Table::of_known(columns)
    }

    fn column(
        &self,
        source: &FigureSource,
        cells: &TotalCells,
        figure: usize,
        spots: &[Spot],
    ) -> Result<ArrayRef> {
        source.column(&cells.figures[figure], &cells.places(spots))
    }

    /// A column, with the figure over all rows at its end if there is a row of totals.
    fn with_total<C: std::borrow::Borrow<TotalCells>>(
        &self,
        source: &FigureSource,
        array: ArrayRef,
        over_rows: impl FnOnce() -> C,
        side: u32,
    ) -> Result<ArrayRef> {
        if !self.totals.has_last_row() {
            return Ok(array);
        }
        let total =
            self.column(source, over_rows().borrow(), 0, &[Spot { side, ..Spot::default() }])?;
        Ok(concat(&[array.as_ref(), total.as_ref()])?)
    }

    /// A figure for each value of the column side by side, and one over all of them.
    fn side_by_side(
        &self,
        dated: &PartialDatedTotals,
        source: &FigureSource,
        figure: usize,
        name: &str,
    ) -> Result<Vec<(Field, ArrayRef)>> {
        // A column has the name of its value; if there are several figures, that of the figure
        // comes first.
        let several = self.totals.requested.len() * self.part.by_date.len() > 1;
        let named =
            |value: &str| if several { format!("{name}_{value}") } else { value.to_owned() };
        let values = &self.part.groups.sides.values;
        let Some((_, array)) = values.fields().next() else { return Ok(Vec::new()) };
        let nulls = array.logical_nulls();
        let is_used = match self.totals.shown_sides(&self.part.groups.sides)? {
            Some(shown) => shown,
            None => {
                let mut is_used = vec![self.totals.dense; self.part.groups.sides.count];
                let spots = self.part.by_date.iter().flat_map(|dated| &dated.cells.spots);
                spots.for_each(|spot| is_used[spot.side as usize] = true);
                is_used
            }
        };
        let sources = std::slice::from_ref(source);
        let own = dated.cells.only(figure);
        let over_rows = |cells: &TotalCells| {
            cells.put_together(sources, |spot| Spot { side: spot.side, ..Spot::default() })
        };
        let column = |cells: &TotalCells, totals: &TotalCells, side: u32| {
            let spots: Vec<Spot> = self.rows.iter().map(|spot| Spot { side, ..*spot }).collect();
            self.with_total(source, self.column(source, cells, 0, &spots)?, || totals, side)
        };
        let totals = over_rows(&own);
        let mut columns = Vec::new();
        // A value that no counted row has is shown only with `dense`.
        for side in (0..is_used.len()).filter(|&side| is_used[side]) {
            let value = if nulls.as_ref().is_some_and(|nulls| nulls.is_null(side)) {
                MISSING_COLUMN.to_owned()
            } else {
                values.cell_text_at(0, side)?
            };
            columns.push(figure_column(source, named(&value), column(&own, &totals, side as u32)?));
        }
        if self.totals.margins {
            let over_sides = own.put_together(sources, |spot| Spot { side: 0, ..spot });
            columns.push(figure_column(
                source,
                named(TOTAL_COLUMN),
                column(&over_sides, &over_rows(&over_sides), 0)?,
            ));
        }
        Ok(columns)
    }

    /// The same figures over longer periods, or over all values of a key.
    fn beside(&self, dates: &[String]) -> Result<Vec<(Field, ArrayRef)>> {
        let mut columns = Vec::new();
        for scope in &self.totals.scopes {
            let to =
                if self.totals.only_last_row { Box::new(|spot| spot) } else { self.wider(scope)? };
            let together: Vec<TotalCells> = self
                .part
                .by_date
                .iter()
                .map(|dated| dated.cells.put_together(&self.part.sources, &to))
                .collect();
            let wider: Vec<Spot> = self.rows.iter().map(|&spot| to(spot)).collect();
            for ((requested, source), figure) in
                self.totals.requested.iter().zip(&self.part.sources).zip(0..)
            {
                for ((dated, together), suffix) in
                    self.part.by_date.iter().zip(&together).zip(dates)
                {
                    let share = requested.share.as_ref().map(|share| format!("{share}{suffix}"));
                    let (name, share) =
                        scope.names(&format!("{}{suffix}", requested.name), share.as_deref());
                    let (mut own, mut whole) =
                        (dated.cells.places(&self.rows), together.places(&wider));
                    if self.totals.has_last_row() {
                        own.push_blank();
                        whole.push_blank();
                    }
                    let array = source.column(&together.figures[figure], &whole)?;
                    columns.push(figure_column(source, name, array));
                    if let Some(name) = share {
                        let both = [&dated.cells.figures[figure], &together.figures[figure]];
                        let array = source.share(both, [&own, &whole]);
                        columns.push((Field::new(name, DataType::Float64, true), array));
                    }
                }
            }
        }
        Ok(columns)
    }

    /// The place of a cell in a wider scope.
    fn wider(&self, scope: &Scope) -> Result<Box<dyn Fn(Spot) -> Spot + '_>> {
        Ok(match scope {
            Scope::All => Box::new(|spot| Spot { period: 0, part: 0, ..spot }),
            Scope::Periods(longer) => {
                let (longer, axis) = (*longer, self.axis());
                Box::new(move |spot| {
                    let first = axis.map(|axis| axis.first_day(spot.period));
                    Spot { period: first.map_or(0, |day| longer.number(day)), part: 0, ..spot }
                })
            }
            Scope::Every { key, .. } => {
                let values = &self.part.groups.entities.values;
                let others = (0..values.columns().len()).filter(|place| place != key);
                let others: Vec<ArrayRef> = others.map(|place| values.at(place).clone()).collect();
                let ids = if others.is_empty() {
                    vec![0; values.rows()]
                } else {
                    Entities::of_columns(&others, values.rows(), Missing::IsAKey)?.into_ids()
                };
                Box::new(move |spot| Spot { entity: ids[spot.entity as usize], ..spot })
            }
        })
    }

    /// The period, the part and the keys of each row.
    fn key_columns(&self) -> Result<Vec<(Field, ArrayRef)>> {
        let mut columns = Vec::new();
        if let Some(axis) = self.axis() {
            columns.push(
                axis.column(
                    &self.totals.period_name,
                    parallel::map(&self.rows, |spot| spot.period),
                ),
            );
        }
        if let Some(each) = self.totals.each {
            columns.push(part_column(self.totals, each, &self.rows));
        }
        if !self.totals.per.is_empty() {
            let entities = UInt32Array::from(parallel::map(&self.rows, |spot| spot.entity));
            let keys = if self.totals.only_last_row {
                self.totals.empty_table()?.select(&self.totals.per)?
            } else {
                self.part.groups.entities.values.take(&entities)?
            };
            columns.extend(keys.fields());
        }
        if self.totals.has_last_row() {
            let mut is_named = false;
            for (_, array) in &mut columns {
                let total: ArrayRef = match array.as_string_view_opt() {
                    Some(_) if !is_named => {
                        is_named = true;
                        Arc::new(StringViewArray::from(vec![TOTAL_ROW]))
                    }
                    _ => new_null_array(array.data_type(), 1),
                };
                *array = concat(&[array.as_ref(), total.as_ref()])?;
            }
        }
        Ok(columns)
    }

    fn ledger(&self, context: &Context) -> Result<Ledger> {
        let mut ledger = self.part.tally.clone().ledger(self.totals.step.clone());
        let instants = self.part.by_date.iter().any(|dated| dated.instants);
        ledger.zone = instants.then(|| context.zone.to_string());
        if let (Some(axis), Some((first, last))) = (self.axis(), self.ends()) {
            let own = Range::new(axis.first_day(first), axis.last_day(last));
            ledger.view = self.part.range.or(own);
            ledger.warnings.extend(self.periods_in_part(axis.periods()));
            if !self.totals.dense {
                let shown = match &self.totals.of_all {
                    Some(all) => all.overall.with_record.len(),
                    None => {
                        // The rows are sorted by period, so each period is one chunk.
                        let periods = self.rows.chunk_by(|one, other| one.period == other.period);
                        periods.count()
                    }
                };
                let all = (i64::from(last) - i64::from(first) + 1) as u64;
                let empty = if self.totals.counts_once() { all - shown as u64 } else { 0 };
                ledger.note(format!("empty {} not shown", axis.periods().grain().plural()), empty);
            }
        }
        if let Some(range) = self.totals.range {
            ledger.warnings.extend(self.totals.dates.iter().filter_map(|named| {
                let periods = self.totals.shape.kind(named.place)?.periods()?;
                Warning::of_whole_periods(range, &named.column, periods)
            }));
        }
        let last_row = self.totals.margins && self.totals.counts_once();
        let rows_out = self.rows.len() as u64 + u64::from(last_row);
        ledger.counts.insert(0, ("rows in the result".into(), rows_out));
        if self.totals.dates.len() > 1 {
            for (named, dated) in self.totals.dates.iter().zip(&self.part.by_date) {
                ledger.note(format!("rows without {}", named.column), dated.undated);
                ledger.note(format!("values of {} outside the range", named.column), dated.outside);
            }
        }
        ledger.note("missing values skipped", self.part.missing.values().sum());
        if let Some(list) = &self.totals.entities {
            ledger
                .note("entities named without a key", (list.len() - list.complete().len()) as u64);
        }
        self.compare_sums(&mut ledger)?;
        Ok(ledger)
    }

    /// Warns of periods that the range covers only in part.
    fn periods_in_part(&self, periods: Periods) -> Vec<Warning> {
        let Some(range) = self.part.range else { return Vec::new() };
        let mut warnings: Vec<Warning> =
            Warning::of_periods_in_part(range, periods, None).into_iter().collect();
        for scope in &self.totals.scopes {
            let Scope::Periods(longer) = scope else { continue };
            for requested in &self.totals.requested {
                let (name, _) = scope.names(&requested.name, None);
                warnings.extend(Warning::of_periods_in_part(
                    range,
                    *longer,
                    Some(format!("`{name}`")),
                ));
            }
        }
        warnings
    }

    /// The sums over the rows, and those over the cells of the result.
    fn compare_sums(&self, ledger: &mut Ledger) -> Result<()> {
        for (figure, source) in self.part.sources.iter().enumerate() {
            for (n, dated) in self.part.by_date.iter().enumerate() {
                let Some((_, sums)) = dated.sums.iter().find(|(of, _)| *of == figure) else {
                    continue;
                };
                let column = match self.totals.dates.len() {
                    0 | 1 => sums.column.clone(),
                    _ => format!("{} by {}", sums.column, self.totals.dates[n].column),
                };
                let in_answer = Some(dated.sum_of_cells(source, figure)?);
                ledger.reconciled.retain(|sums| sums.column != column);
                ledger.reconciled.push(Reconciled { column, in_answer, ..sums.clone() });
            }
        }
        Ok(())
    }
}

/// A figure as a column of the result. Least and greatest values keep the type of their column.
fn figure_column(source: &FigureSource, name: String, array: ArrayRef) -> (Field, ArrayRef) {
    let plain = || Field::new("", array.data_type().clone(), true);
    (source.field().cloned().unwrap_or_else(plain).with_name(name), array)
}

impl TotalsPlan {
    /// An empty table of the plan's columns.
    pub(super) fn empty_table(&self) -> Result<Table> {
        Table::without_rows(&self.shape)
    }
}

/// The part of each row, with the order of parts.
fn part_column(totals: &TotalsPlan, each: Each, rows: &[Spot]) -> (Field, ArrayRef) {
    let names: &[&str] = match each {
        Each::Weekday => &Weekday::NAMES,
        Each::MonthOfYear => &Month::NAMES,
        Each::DayOfMonth | Each::HourOfDay => {
            let from = i64::from(each == Each::DayOfMonth);
            let numbers: Int64Array =
                rows.iter().map(|spot| Some(i64::from(spot.part) + from)).collect();
            return (Field::new(each.column(), DataType::Int64, true), Arc::new(numbers));
        }
    };
    let mut names = names.to_vec();
    names.rotate_left(totals.first_part as usize);
    let texts: StringViewArray = rows.iter().map(|spot| Some(names[spot.part as usize])).collect();
    (ordered_field(each.column(), &names), Arc::new(texts))
}
