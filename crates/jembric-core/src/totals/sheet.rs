//! From cells to the answer: which rows and columns there are, what stands in each, and the account.

use super::{
    Asked, Each, MOST_COLUMNS, MOST_ROWS, Scope, Totals, What,
    cells::{Cells, Groups, Keys, Spot, Timed, first_part, part_count, sources},
    figures::{Place, Source},
    suffixes,
};
use crate::{
    axis::Axis,
    calendar::{Grain, MONTH_NAMES, Periods, Range, Weekday},
    entities::{Entities, Missing},
    error::{Error, Result},
    exact::ExactSum,
    ledger::{Fates, Ledger, Outcome, Reason, Reconciled, Warning},
    operation::Context,
    shape::Named,
    table::{Table, ordered_field},
};
use arrow_array::{Array, ArrayRef, Int64Array, StringViewArray, UInt32Array, cast::AsArray, new_null_array};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::{DataType, Field};
use arrow_select::concat::concat;
use std::{collections::BTreeMap, sync::Arc};

/// What the row over all rows is called.
const TOTAL_ROW: &str = "(total)";
/// What the column is called that has all that stands side by side.
const TOTAL_COLUMN: &str = "total";
/// What the column is called of rows that have no value in the column side by side.
const MISSING_COLUMN: &str = "(missing)";

/// The rows that count by one column of dates, or by none.
struct Dated {
    timed: Timed,
    used: BooleanBuffer,
    undated: BooleanBuffer,
    outside: BooleanBuffer,
    /// The first and last period.
    ends: Option<(i32, i32)>,
    cells: Cells,
}

struct Sheet<'a> {
    totals: &'a Totals,
    table: &'a Table,
    asked: Vec<Asked>,
    sources: Vec<Source>,
    dates: Vec<Named>,
    by_date: Vec<Dated>,
    groups: Groups,
    /// Where each row of the answer stands, but for the total.
    rows: Vec<Spot>,
}

pub(super) fn of(totals: &Totals, table: &Table, context: &Context) -> Result<Outcome> {
    let sheet = Sheet::of(totals, table, context)?;
    let (ledger, set_aside) = sheet.account(context)?;
    Ok(Outcome { table: sheet.answer()?, ledger, set_aside })
}

impl<'a> Sheet<'a> {
    fn of(totals: &'a Totals, table: &'a Table, context: &Context) -> Result<Sheet<'a>> {
        let shape = table.shape();
        let (dates, per) = (shape.named(&totals.date)?, shape.named(&totals.per)?);
        let side: Vec<Named> = shape.named(totals.side_by_side.as_slice())?;
        let listed = totals.entities.as_ref().map(|list| list.complete().after(table, &per)).transpose()?;
        let groups = Groups {
            entities: Keys::of(table, &per, listed.as_ref())?,
            sides: Keys::of(table, &side, None)?,
            parts: part_count(totals.each),
        };
        let most = totals.most_side_by_side.unwrap_or(MOST_COLUMNS);
        if let Some(named) = side.first().filter(|_| groups.sides.count as u64 > most) {
            let (column, values) = (named.column.clone(), groups.sides.count as u64);
            return Err(Error::TooManyColumns { column, values, most });
        }
        let asked = totals.asked(&shape)?;
        let sources = sources(&asked, table)?;
        let mut by_date = Vec::new();
        for named in &dates {
            by_date.push(Dated::of(totals, table, named, &groups, &sources, context)?);
        }
        if dates.is_empty() {
            let (all, none) = (BooleanBuffer::new_set(table.rows()), BooleanBuffer::new_unset(table.rows()));
            let cells = Cells::of(&groups, &Timed::less(), &all, &sources)?;
            by_date.push(Dated {
                timed: Timed::less(),
                used: all,
                undated: none.clone(),
                outside: none,
                ends: None,
                cells,
            });
        }
        one_kind_of_hours(totals, &by_date)?;
        let mut sheet = Sheet { totals, table, asked, sources, dates, by_date, groups, rows: Vec::new() };
        sheet.rows = sheet.rows(context)?;
        Ok(sheet)
    }

    fn axis(&self) -> Option<&Axis> {
        self.by_date.first().and_then(|dated| dated.timed.axis.as_ref())
    }

    /// The first and last period that are looked at.
    fn ends(&self) -> Option<(i32, i32)> {
        let axis = self.axis()?;
        if let Some(range) = self.totals.range {
            return Some(axis.range(range));
        }
        let ends = self.by_date.iter().filter_map(|dated| dated.ends);
        ends.reduce(|one, other| (one.0.min(other.0), one.1.max(other.1)))
    }

    /// Where the rows of the answer stand.
    fn rows(&self, context: &Context) -> Result<Vec<Spot>> {
        let Totals { date, per, dense, .. } = self.totals;
        if date.is_empty() && per.is_empty() {
            return Ok(vec![Spot::default()]);
        }
        if !dense {
            let spots = self.by_date.iter().flat_map(|dated| &dated.cells.spots);
            let mut rows: Vec<Spot> = spots.map(|spot| Spot { side: 0, ..*spot }).collect();
            if self.by_date.len() > 1 || self.totals.side_by_side.is_some() {
                rows.sort_unstable();
                rows.dedup();
            }
            return Ok(rows);
        }
        let (first, last) = match self.axis() {
            Some(_) => self.ends().unwrap_or((0, -1)),
            None => (0, 0),
        };
        let (parts, entities) = (self.groups.parts, self.groups.entities.count as u32);
        let periods = (i64::from(last) - i64::from(first) + 1) as u64;
        let rows = periods * u64::from(parts) * u64::from(entities);
        let most = self.totals.most_rows.unwrap_or(MOST_ROWS);
        if rows > most {
            let widest = self.axis().map(|axis| {
                let plural = axis.periods().grain().plural();
                format!("{} to {} are {periods} {plural}", axis.text(first), axis.text(last))
            });
            let advice = "Ask for a longer grain or a shorter range";
            return Err(Error::Flood { rows, most, widest, advice });
        }
        // A place, the keys, and each figure in each column.
        let figures = (self.asked.len() * self.by_date.len() * self.groups.sides.count.max(1)) as u64;
        let row_bytes = 24 + self.groups.entities.values.row_bytes() + 32 * figures;
        context.expect_room(rows, row_bytes, "Ask for a longer grain or a shorter range")?;
        let spot = |period, part, entity| Spot { period, part, entity, side: 0 };
        let of_period = |period| {
            (0..parts).flat_map(move |part| (0..entities).map(move |entity| spot(period, part, entity)))
        };
        Ok((first..=last).flat_map(of_period).collect())
    }

    fn answer(&self) -> Result<Table> {
        let mut columns = self.key_columns()?;
        let dates = suffixes(&self.dates);
        for ((asked, source), figure) in self.asked.iter().zip(&self.sources).zip(0..) {
            for (dated, suffix) in self.by_date.iter().zip(&dates) {
                let name = format!("{}{suffix}", asked.name);
                match &self.totals.side_by_side {
                    Some(_) => columns.extend(self.side_by_side(dated, source, figure, &name, asked)?),
                    None => {
                        let array = self.column(source, &dated.cells, figure, &self.rows)?;
                        let one = std::slice::from_ref(source);
                        let over_all = || dated.cells.only(figure).put_together(one, |_| Spot::default());
                        let array = self.with_total(source, array, over_all, 0)?;
                        columns.push(self.figure(asked, name, array));
                    }
                }
            }
        }
        columns.extend(self.beside(&dates)?);
        Table::of_known(columns)
    }

    fn column(&self, source: &Source, cells: &Cells, figure: usize, spots: &[Spot]) -> Result<ArrayRef> {
        source.column(&cells.figures[figure], &cells.places(spots))
    }

    /// A column with the figure over all rows at its end, if there is to be such a row.
    fn with_total<C: std::borrow::Borrow<Cells>>(
        &self,
        source: &Source,
        array: ArrayRef,
        over_rows: impl FnOnce() -> C,
        side: u32,
    ) -> Result<ArrayRef> {
        if !self.totals.margins {
            return Ok(array);
        }
        let total = self.column(source, over_rows().borrow(), 0, &[Spot { side, ..Spot::default() }])?;
        Ok(concat(&[array.as_ref(), total.as_ref()])?)
    }

    /// A figure as a column of the answer.
    fn figure(&self, asked: &Asked, name: String, array: ArrayRef) -> (Field, ArrayRef) {
        let field = match asked.what {
            What::Min | What::Max => self.table.field(&asked.column),
            _ => None,
        };
        let plain = || Field::new("", array.data_type().clone(), true);
        (field.unwrap_or_else(plain).with_name(name), array)
    }

    /// A figure for each value of the column side by side, and for all of them.
    fn side_by_side(
        &self,
        dated: &Dated,
        source: &Source,
        figure: usize,
        name: &str,
        asked: &Asked,
    ) -> Result<Vec<(Field, ArrayRef)>> {
        let several = self.asked.len() * self.by_date.len() > 1;
        let named = |value: &str| if several { format!("{name}_{value}") } else { value.to_owned() };
        let values = &self.groups.sides.values;
        let Some((field, array)) = values.fields().next() else { return Ok(Vec::new()) };
        let nulls = array.logical_nulls();
        let mut is_used = vec![self.totals.dense; self.groups.sides.count];
        let spots = self.by_date.iter().flat_map(|dated| &dated.cells.spots);
        spots.for_each(|spot| is_used[spot.side as usize] = true);
        let sources = std::slice::from_ref(source);
        let own = dated.cells.only(figure);
        let over_rows =
            |cells: &Cells| cells.put_together(sources, |spot| Spot { side: spot.side, ..Spot::default() });
        let column = |cells: &Cells, totals: &Cells, side: u32| {
            let spots: Vec<Spot> = self.rows.iter().map(|spot| Spot { side, ..*spot }).collect();
            self.with_total(source, self.column(source, cells, 0, &spots)?, || totals, side)
        };
        let totals = over_rows(&own);
        let mut columns = Vec::new();
        // A value that no row has which counts is shown only where everything is.
        for side in (0..is_used.len()).filter(|&side| is_used[side]) {
            let value = match nulls.as_ref().is_some_and(|nulls| nulls.is_null(side)) {
                true => MISSING_COLUMN.to_owned(),
                false => values.cell_text(field.name(), side)?,
            };
            columns.push(self.figure(asked, named(&value), column(&own, &totals, side as u32)?));
        }
        if self.totals.margins {
            let over_sides = own.put_together(sources, |spot| Spot { side: 0, ..spot });
            columns.push(self.figure(
                asked,
                named(TOTAL_COLUMN),
                column(&over_sides, &over_rows(&over_sides), 0)?,
            ));
        }
        Ok(columns)
    }

    /// The same figures over longer periods, or over all values of a key.
    fn beside(&self, dates: &[String]) -> Result<Vec<(Field, ArrayRef)>> {
        let mut columns = Vec::new();
        for scope in self.totals.scopes(&self.table.shape())? {
            let to = self.wider(&scope)?;
            let together: Vec<Cells> =
                self.by_date.iter().map(|dated| dated.cells.put_together(&self.sources, &to)).collect();
            let wider: Vec<Spot> = self.rows.iter().map(|&spot| to(spot)).collect();
            for ((asked, source), figure) in self.asked.iter().zip(&self.sources).zip(0..) {
                for ((dated, together), suffix) in self.by_date.iter().zip(&together).zip(dates) {
                    let share = asked.share.as_ref().map(|share| format!("{share}{suffix}"));
                    let (name, share) = scope.names(&format!("{}{suffix}", asked.name), share.as_deref());
                    let (mut own, mut whole) = (dated.cells.places(&self.rows), together.places(&wider));
                    if self.totals.margins {
                        own.push(Place::Blank);
                        whole.push(Place::Blank);
                    }
                    let array = source.column(&together.figures[figure], &whole)?;
                    columns.push(self.figure(asked, name, array));
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

    /// Where a cell goes in a wider scope.
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
            Scope::Every { shown_as, .. } => {
                let values = &self.groups.entities.values;
                let others: Vec<&str> = values.names().filter(|name| name != shown_as).collect();
                let ids = match others.is_empty() {
                    true => vec![0; values.rows()],
                    false => Entities::number(values, &others, Missing::IsAKey)?.into_ids(),
                };
                Box::new(move |spot| Spot { entity: ids[spot.entity as usize], ..spot })
            }
        })
    }

    /// The period, its part and the keys of each row.
    fn key_columns(&self) -> Result<Vec<(Field, ArrayRef)>> {
        let mut columns = Vec::new();
        if let Some(axis) = self.axis() {
            let name = self.totals.name.as_deref().unwrap_or(axis.periods().grain().word());
            columns.push(axis.column(name, self.rows.iter().map(|spot| spot.period).collect()));
        }
        if let Some(each) = self.totals.each {
            columns.push(part_column(self.totals, each, &self.rows)?);
        }
        if !self.totals.per.is_empty() {
            let entities = UInt32Array::from_iter_values(self.rows.iter().map(|spot| spot.entity));
            columns.extend(self.groups.entities.values.take(&entities)?.fields());
        }
        if self.totals.margins {
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

    /// The ledger, and the rows that have none of the dates.
    fn account(&self, context: &Context) -> Result<(Ledger, Table)> {
        let over = |of: fn(&Dated) -> &BooleanBuffer,
                    both: fn(&BooleanBuffer, &BooleanBuffer) -> BooleanBuffer| {
            let masks = self.by_date.iter().map(of).cloned();
            masks
                .reduce(|one, other| both(&one, &other))
                .unwrap_or_else(|| BooleanBuffer::new_unset(self.table.rows()))
        };
        let used = over(|dated| &dated.used, |one, other| one | other);
        let undated = over(|dated| &dated.undated, |one, other| one & other);
        let outside = &!&used & &!&undated;
        let fates = Fates {
            kept: used.clone(),
            dropped: vec![(Reason::OutsideRange, outside)],
            set_aside: vec![(Reason::NoDate, undated)],
        };
        let (mut ledger, set_aside) = fates.account(self.totals.step(), self.table, context)?;
        let instants = self.by_date.iter().any(|dated| dated.timed.instants);
        ledger.zone = Some(context.zone.to_string()).filter(|_| instants);
        if let (Some(axis), Some((first, last))) = (self.axis(), self.ends()) {
            ledger.view = self.range()?.or_else(|| Range::new(axis.first_day(first), axis.last_day(last)));
            ledger.warnings.extend(self.periods_in_part(axis.periods())?);
            if !self.totals.dense {
                let mut shown: Vec<i32> = self.rows.iter().map(|spot| spot.period).collect();
                shown.dedup();
                let all = (i64::from(last) - i64::from(first) + 1) as u64;
                ledger.note(
                    format!("empty {} not shown", axis.periods().grain().plural()),
                    all - shown.len() as u64,
                );
            }
        }
        let rows_out = self.rows.len() as u64 + u64::from(self.totals.margins);
        ledger.counts.insert(0, ("rows out".into(), rows_out));
        if self.dates.len() > 1 {
            for (named, dated) in self.dates.iter().zip(&self.by_date) {
                ledger.note(format!("without {}", named.column), dated.undated.count_set_bits() as u64);
                let outside = dated.outside.count_set_bits() as u64;
                ledger.note(format!("{} outside the range", named.column), outside);
            }
        }
        // A cell that is missing is counted once, however many figures are made of it.
        let missing: BTreeMap<&str, u64> = (self.asked.iter().zip(&self.sources))
            .map(|(asked, source)| {
                (asked.column.as_str(), source.missing(|row| used.value(row), self.table.rows()))
            })
            .collect();
        ledger.note("missing values passed over", missing.into_values().sum());
        if let Some(list) = &self.totals.entities {
            ledger.note("entities named without a key", (list.len() - list.complete().len()) as u64);
        }
        self.compare_sums(&mut ledger)?;
        Ok((ledger, set_aside))
    }

    /// The range as it is for the columns of dates: of a column of months it holds whole months.
    fn range(&self) -> Result<Option<Range>> {
        let Some(range) = self.totals.range else { return Ok(None) };
        let mut finest: Option<Range> = None;
        for named in &self.dates {
            let own = range.to_whole(self.table.dates(&named.column)?.periods());
            finest = Some(finest.filter(|finest| finest.days() <= own.days()).unwrap_or(own));
        }
        Ok(finest)
    }

    /// Warns of the periods that the range covers only in part.
    fn periods_in_part(&self, periods: Periods) -> Result<Vec<Warning>> {
        let Some(range) = self.range()? else { return Ok(Vec::new()) };
        let mut warnings: Vec<Warning> =
            Warning::of_periods_in_part(range, periods, None).into_iter().collect();
        for scope in self.totals.scopes(&self.table.shape())? {
            let Scope::Periods(longer) = &scope else { continue };
            for asked in &self.asked {
                let (name, _) = scope.names(&asked.name, None);
                warnings.extend(Warning::of_periods_in_part(range, *longer, Some(format!("`{name}`"))));
            }
        }
        Ok(warnings)
    }

    /// Sums over the rows beside those over the answer's cells.
    fn compare_sums(&self, ledger: &mut Ledger) -> Result<()> {
        for ((asked, source), figure) in self.asked.iter().zip(&self.sources).zip(0..) {
            if asked.what != What::Sum {
                continue;
            }
            for (n, dated) in self.by_date.iter().enumerate() {
                let sum = |rows: &BooleanBuffer| ExactSum::of(self.table, &asked.column, rows);
                let places: Vec<Place> = (0..dated.cells.spots.len()).map(Place::Cell).collect();
                let cells = source.column(&dated.cells.figures[figure], &places)?;
                let all = BooleanBuffer::new_set(places.len());
                let cells = Table::from_columns([("cells", cells)])?;
                let column = match self.dates.len() {
                    0 | 1 => asked.column.clone(),
                    _ => format!("{} by {}", asked.column, self.dates[n].column),
                };
                ledger.reconciled.retain(|sums| sums.column != column);
                ledger.reconciled.push(Reconciled {
                    column,
                    came_in: sum(&BooleanBuffer::new_set(self.table.rows()))?,
                    kept: sum(&dated.used)?,
                    dropped: sum(&dated.outside)?,
                    set_aside: sum(&dated.undated)?,
                    in_answer: Some(ExactSum::of(&cells, "cells", &all)?),
                });
            }
        }
        Ok(())
    }
}

impl Dated {
    fn of(
        totals: &Totals,
        table: &Table,
        named: &Named,
        groups: &Groups,
        sources: &[Source],
        context: &Context,
    ) -> Result<Dated> {
        let dates = table.dates(&named.column)?;
        let timed = Timed::of(totals, &named.column, &dates, context)?;
        let dated =
            dates.nulls().map_or_else(|| BooleanBuffer::new_set(table.rows()), NullBuffer::into_inner);
        let outside = match totals.range {
            Some(range) => {
                let [before, after] = dates.outside(range.to_whole(dates.periods()), &context.zone);
                &dated & &(&before | &after)
            }
            None => BooleanBuffer::new_unset(table.rows()),
        };
        let used = &dated & &!&outside;
        let cells = Cells::of(groups, &timed, &used, sources)?;
        Ok(Dated { ends: timed.ends(&used), timed, used, undated: !&dated, outside, cells })
    }
}

/// An error where hours are asked of points in time and of clocks' readings together.
fn one_kind_of_hours(totals: &Totals, by_date: &[Dated]) -> Result<()> {
    let mut kinds = by_date.iter().map(|dated| dated.timed.instants);
    let first = kinds.next().unwrap_or_default();
    if totals.grain == Some(Grain::Hour) && kinds.any(|kind| kind != first) {
        let value = format!("`{}`", totals.date.join(","));
        let expected = "moments of one kind for hours, all with an offset or all without";
        return Err(Error::Setting { setting: "date", value, expected });
    }
    Ok(())
}

/// The part of each row, in its own order.
fn part_column(totals: &Totals, each: Each, rows: &[Spot]) -> Result<(Field, ArrayRef)> {
    let names: &[&str] = match each {
        Each::Weekday => &Weekday::NAMES,
        Each::MonthOfYear => &MONTH_NAMES,
        Each::DayOfMonth | Each::HourOfDay => {
            let from = i64::from(each == Each::DayOfMonth);
            let numbers: Int64Array = rows.iter().map(|spot| Some(i64::from(spot.part) + from)).collect();
            return Ok((Field::new(each.column(), DataType::Int64, true), Arc::new(numbers)));
        }
    };
    let mut names = names.to_vec();
    names.rotate_left(first_part(totals)? as usize);
    let texts: StringViewArray = rows.iter().map(|spot| Some(names[spot.part as usize])).collect();
    Ok((ordered_field(each.column(), &names), Arc::new(texts)))
}
