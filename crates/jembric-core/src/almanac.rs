//! [`Almanac`]: a calendar that covers exactly what the data covers, one row a day.

use crate::{
    calendar::{Day, Grain, Month, Periods, Range, Weekday, Workdays},
    context::Context,
    error::{Error, Result, in_setting, refuse},
    kind::{Type, period_field},
    ledger::{Entry, Ledger, Outcome, Reason},
    packed::{packed, unpacked},
    plan::{FoldBatches, Inputs, Kind, NumberedRows, Plan, Prepared, Roles, State},
    role::Role,
    shape::{Named, Shape},
    table::{Table, ordered_field},
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Int64Array, StringViewArray, UInt32Array,
};
use arrow_schema::Field;
use arrow_select::take::take;
use borsh::{BorshDeserialize, BorshSerialize};
use serde::Serialize;
use std::{any::Any, sync::Arc};

/// Makes a calendar with one row for every day from the least to the greatest date of the covered
/// columns.
///
/// The columns: `date`; `year`, `quarter`, `month`, `month_name`, `day`; `year_quarter`,
/// `year_month` (a quarter and a month); `iso_year`, `iso_week`, `weekday`, `weekday_number` (1 =
/// Monday); `day_of_year`; `month_start`, `month_end` (the first and last day of the month);
/// `fiscal_year`, `fiscal_quarter` (if a start of the year is set; a fiscal year has the number of
/// the year in which it ends); `is_workday`; `covered` (between the first and last date of the
/// data); `records_COL` (the number of records of each covered column on that day);
/// `days_from_as_of` (if there is an as-of date; negative before it).
///
/// The rows of the ledger are the dates of the covered columns. Kept rows are counted in
/// `records_COL`. Dropped rows have no date, or lie outside the range.
///
/// Errors: no column to cover and no range; a column is missing, holds no dates, or holds months or
/// longer periods, which have no days; no column has a date; two columns have the same name. Cost:
/// one pass over the covered columns, and one write of the days.
///
/// ```
/// use jembric_core::{Almanac, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_009]));
/// let lifts = Table::from_columns([("lifted_on", day)])?;
///
/// let calendar = Almanac::new().covering(&lifts, ["lifted_on"])?.make()?;
/// assert_eq!(calendar.table.rows(), 10);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, Serialize, jembric_derive::Settings)]
#[settings(
    name = "almanac",
    does = "Make a calendar of all days that the data covers",
    answers = "Which days does the data cover, and which of them are workdays?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Almanac {
    /// Cover exactly these days or whole periods: 2025-01-01..2025-03-31, 2025.
    #[setting(text = "A..B")]
    pub range: Option<Range>,
    /// Extend the calendar to whole years, which begin in January or in the month of `year-start`.
    #[setting(yes)]
    pub whole_years: bool,
    /// Begin fiscal years in this month, and add fiscal_year and fiscal_quarter.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
    /// Read holidays from this file, with one date on each line or in the first column.
    #[setting(days)]
    pub holidays: Workdays,
    #[serde(skip)]
    covered: Vec<(Table, Vec<String>)>,
}

impl Almanac {
    /// Creates an almanac that covers nothing yet.
    pub fn new() -> Almanac {
        Almanac::default()
    }

    /// Covers these columns of a table as well. `COLUMN as NAME` gives the column of records
    /// another name.
    ///
    /// Errors: the errors of [`prepare`](Almanac::prepare) for such a column.
    pub fn covering<N: Into<String>>(
        mut self,
        table: &Table,
        columns: impl IntoIterator<Item = N>,
    ) -> Result<Almanac> {
        let columns: Vec<String> = columns.into_iter().map(Into::into).collect();
        covered(&[(&table.shape(), &columns)]).map_err(|error| table.explained(error))?;
        self.covered.push((table.clone(), columns));
        Ok(self)
    }

    /// Makes the almanac without an as-of date, with days of UTC.
    ///
    /// Errors: those of [`prepare`](Almanac::prepare); no column has a date.
    pub fn make(&self) -> Result<Outcome> {
        self.make_with(&Context::new())
    }

    /// Makes the almanac in a context.
    ///
    /// Errors: those of [`prepare`](Almanac::prepare); no column has a date.
    pub fn make_with(&self, context: &Context) -> Result<Outcome> {
        let shapes: Vec<Shape> = self.covered.iter().map(|(table, _)| table.shape()).collect();
        let columns =
            shapes.iter().zip(&self.covered).map(|(shape, (_, columns))| (shape, &columns[..]));
        let plan = self.prepare(&columns.collect::<Vec<_>>(), context)?;
        plan.apply(&self.covered.iter().map(|(table, _)| table).collect::<Vec<_>>())
    }

    /// Prepares the almanac for tables of these shapes, and the columns to cover of each.
    ///
    /// Errors: no column to cover and no range; a column is missing, is known to hold no dates, or
    /// holds periods longer than days; two columns have the same name.
    pub fn prepare(&self, tables: &[(&Shape, &[String])], context: &Context) -> Result<Plan> {
        let covered = covered(tables)?;
        if covered.is_empty() && self.range.is_none() {
            return refuse(
                "covering",
                "not given",
                "at least one column of dates to cover, or a `range`",
            );
        }
        let uses = covered.iter().map(|covered| (covered.table, covered.place));
        let uses = uses.fold(Inputs::new(), |uses, (table, place)| uses.using_of(table, [place]));
        let covered_names: Vec<String> = covered.iter().map(Covered::records_name).collect();
        let plan = AlmanacPlan {
            range: self.range,
            whole_years: self.whole_years,
            year_start: self.year_start,
            holidays: self.holidays.clone(),
            covered,
        };
        // Every day has the same columns, so one day shows the shape.
        let one_day =
            Range::new(Day::MIN, Day::MIN).ok_or(Error::NoNewest { column: String::new() })?;
        let context_of_one_day =
            if context.as_of_follows { context.clone().as_of(Day::MIN) } else { context.clone() };
        let nothing = vec![Records::default(); plan.covered.len()];
        let result = plan.table(one_day, None, &nothing, &context_of_one_day)?.shape();
        let shapes: Vec<&Shape> = tables.iter().map(|(shape, _)| *shape).collect();
        let first = result.columns().first().map(|column| column.name.clone()).unwrap_or_default();
        let roles = Roles::default().with(first, Role::Period);
        let roles =
            covered_names.into_iter().fold(roles, |roles, name| roles.with(name, Role::Measure));
        let (kind, prepared) = (Kind::OnePass(None), Prepared::folded(Arc::new(plan)));
        let plan = Plan::new(&shapes, context, (result, uses, kind), prepared);
        Ok(plan.with_roles(roles))
    }
}

/// Finds the columns to cover in their tables.
fn covered(tables: &[(&Shape, &[String])]) -> Result<Vec<Covered>> {
    let mut covered = Vec::new();
    for (table, (shape, columns)) in tables.iter().enumerate() {
        for Named { column, shown_as, place } in in_setting("covering", || shape.named(columns))? {
            in_setting("covering", || shape.expect_dates(&column))?;
            if let Some(Type::Date(periods)) = shape.kind(place)
                && periods != Periods::DAYS
            {
                let (grain, requested) = (periods.grain(), "days".to_owned());
                return Err(Error::TooFine { column, grain, requested }.of_setting("covering"));
            }
            let file = shape.file.as_ref().map(|file| format!("{file}:")).unwrap_or_default();
            let full_name = format!("{file}{column}");
            covered.push(Covered { table, place, column, shown_as, full_name });
        }
    }
    Ok(covered)
}

/// A column to cover.
#[derive(Clone, Debug)]
struct Covered {
    /// The table, and the place of the column in it.
    table: usize,
    place: usize,
    column: String,
    shown_as: String,
    /// The name of the column, with that of its file.
    full_name: String,
}

impl Covered {
    /// The name of the column with the number of its records.
    fn records_name(&self) -> String {
        format!("records_{}", self.shown_as)
    }
}

/// The number of records on each day of a covered column, from its first day.
#[derive(Clone, Debug, Default, BorshSerialize, BorshDeserialize)]
struct Records {
    first: i32,
    days: Vec<i64>,
    missing: u64,
    instants: bool,
}

struct AlmanacPlan {
    range: Option<Range>,
    whole_years: bool,
    year_start: Option<Month>,
    holidays: Workdays,
    covered: Vec<Covered>,
}

impl FoldBatches for AlmanacPlan {
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State> {
        let (context, records) = (context.clone(), vec![Records::default(); self.covered.len()]);
        Box::new(AlmanacState { plan: self, context, records })
    }
}

/// The records of each covered column in the batches so far.
struct AlmanacState {
    plan: Arc<AlmanacPlan>,
    context: Context,
    records: Vec<Records>,
}

impl State for AlmanacState {
    fn take(&mut self, place: usize, batch: &Table, _: u64) -> Result<()> {
        let columns = self.plan.covered.iter().zip(&mut self.records);
        for (covered, records) in columns.filter(|(covered, _)| covered.table == place) {
            records.add(&Records::count(batch, covered.place, &self.context));
        }
        Ok(())
    }

    fn merge(&mut self, other: Box<dyn Any>) -> Result<()> {
        if let Ok(other) = other.downcast::<AlmanacState>() {
            self.records
                .iter_mut()
                .zip(&other.records)
                .for_each(|(records, more)| records.add(more));
        }
        Ok(())
    }

    fn packed(&mut self) -> Result<Vec<u8>> {
        packed(&self.records)
    }

    fn merge_packed(&mut self, bytes: &[u8]) -> Result<()> {
        let others: Vec<Records> = unpacked(bytes)?;
        self.records.iter_mut().zip(&others).for_each(|(records, more)| records.add(more));
        Ok(())
    }

    /// There is a number for each day at most.
    fn bytes(&self) -> u64 {
        0
    }

    fn set_aside(&mut self) -> Option<&mut NumberedRows> {
        None
    }

    fn finish(self: Box<Self>) -> Result<Outcome> {
        self.plan.outcome(&self.records, &self.context)
    }

    fn into_any(self: Box<Self>) -> Box<dyn Any> {
        self
    }
}

impl AlmanacPlan {
    fn outcome(&self, records: &[Records], context: &Context) -> Result<Outcome> {
        let data = records.iter().filter_map(Records::range).reduce(|one, other| {
            Range::new(one.first().min(other.first()), one.last().max(other.last())).unwrap_or(one)
        });
        let range = match self.range.or(data) {
            Some(range) if self.whole_years => {
                let month = self.year_start.unwrap_or(Month::January).number();
                range.to_whole(Periods::from(Grain::Year).year_start(month))
            }
            Some(range) => range,
            None => {
                let columns: Vec<&str> =
                    self.covered.iter().map(|covered| covered.column.as_str()).collect();
                return Err(Error::NoNewest { column: columns.join("` and `") });
            }
        };
        let table = self.table(range, data, records, context)?;
        let ledger = self.ledger(records, range, context, table.rows());
        let nothing: [(&str, ArrayRef); 0] = [];
        Ok(Outcome { table, ledger, set_aside: Table::from_columns(nothing)? })
    }

    /// The days of a range, and the range that the data covers.
    fn table(
        &self,
        range: Range,
        data: Option<Range>,
        records: &[Records],
        context: &Context,
    ) -> Result<Table> {
        let mut columns = self.calendar(range);
        let day_numbers = || range.first().number()..=range.last().number();
        let is_covered = |day: i32| data.is_some_and(|data| data.contains(Day::clamped(day)));
        columns.push(plain(
            "covered",
            Arc::new(BooleanArray::from_iter(day_numbers().map(|day| Some(is_covered(day))))),
        ));
        for (covered, records) in self.covered.iter().zip(records) {
            let counts = Int64Array::from_iter_values(day_numbers().map(|day| records.on(day)));
            columns.push(plain(&covered.records_name(), Arc::new(counts)));
        }
        if let Some(as_of) = context.as_of {
            let from = Int64Array::from_iter_values(
                day_numbers().map(|day| i64::from(day - as_of.number())),
            );
            columns.push(plain("days_from_as_of", Arc::new(from)));
        }
        Table::of_fields(columns)
    }

    /// The columns that follow from the calendar alone.
    fn calendar(&self, range: Range) -> Vec<(Field, ArrayRef)> {
        let days: Vec<Day> =
            (range.first().number()..=range.last().number()).map(Day::clamped).collect();
        let integers = |name: &str, tell: &dyn Fn(Day) -> i64| {
            plain(name, Arc::new(Int64Array::from_iter_values(days.iter().map(|&day| tell(day)))))
        };
        let dates = |name: &str, periods: Periods, tell: &dyn Fn(Day) -> Day| {
            let array: ArrayRef =
                Arc::new(Date32Array::from_iter_values(days.iter().map(|&day| tell(day).number())));
            (period_field(name, periods), array)
        };
        let names = |name: &str, names: &[&str], tell: &dyn Fn(Day) -> u32| {
            let index = UInt32Array::from_iter_values(days.iter().map(|&day| tell(day)));
            let array = take(&StringViewArray::from_iter_values(names), &index, None);
            (ordered_field(name, names), array.expect("a month or weekday has its name"))
        };
        let quarter = |day: Day| i64::from(day.ymd().1 - 1) / 3 + 1;
        let month = Periods::from(Grain::Month);
        let mut columns = vec![
            dates("date", Periods::DAYS, &|day| day),
            integers("year", &|day| day.ymd().0.into()),
            integers("quarter", &quarter),
            integers("month", &|day| day.ymd().1.into()),
            names("month_name", &Month::NAMES, &|day| day.ymd().1 - 1),
            integers("day", &|day| day.ymd().2.into()),
            dates("year_quarter", Grain::Quarter.into(), &|day| {
                Periods::from(Grain::Quarter).first_day(day)
            }),
            dates("year_month", month, &|day| month.first_day(day)),
            integers("iso_year", &|day| day.iso_week().0.into()),
            integers("iso_week", &|day| day.iso_week().1.into()),
            names("weekday", &Weekday::NAMES, &|day| day.weekday().number() - 1),
            integers("weekday_number", &|day| day.weekday().number().into()),
            integers("day_of_year", &|day| day.of_year().into()),
            dates("month_start", Periods::DAYS, &|day| month.first_day(day)),
            dates("month_end", Periods::DAYS, &|day| month.containing(day).last()),
        ];
        if let Some(year_start) = self.year_start {
            let year_start = year_start.number();
            // The months since the fiscal year began.
            let since = |day: Day| (day.month_number() + 1 - year_start as i32).rem_euclid(12);
            let ends_in = |day: Day| (day.month_number() + 11 - since(day)).div_euclid(12);
            columns.push(integers("fiscal_year", &|day| ends_in(day).into()));
            columns.push(integers("fiscal_quarter", &|day| i64::from(since(day) / 3 + 1)));
        }
        let worked = days.iter().map(|&day| Some(self.holidays.contains(day)));
        columns.push(plain("is_workday", Arc::new(worked.collect::<BooleanArray>())));
        columns
    }

    fn ledger(&self, records: &[Records], range: Range, context: &Context, days: usize) -> Ledger {
        let (first, last) = (range.first().number(), range.last().number());
        let sum = |inside: &dyn Fn(i32) -> bool| -> u64 {
            let of_one = |records: &Records| -> i64 {
                (records.first..)
                    .zip(&records.days)
                    .filter(|(day, _)| inside(*day))
                    .map(|(_, count)| count)
                    .sum()
            };
            records.iter().map(of_one).sum::<i64>() as u64
        };
        let dropped = [
            (Reason::NoDate, records.iter().map(|records| records.missing).sum()),
            (Reason::BeforeView, sum(&|day| day < first)),
            (Reason::AfterView, sum(&|day| day > last)),
        ];
        let kept = sum(&|day| (first..=last).contains(&day));
        let named: Vec<&str> =
            self.covered.iter().map(|covered| covered.full_name.as_str()).collect();
        let instants = records.iter().any(|records| records.instants);
        let step = if named.is_empty() {
            "almanac".to_owned()
        } else {
            format!("almanac covering {}", named.join(", "))
        };
        let entry = |(reason, rows)| Entry::new(reason, rows, Vec::new());
        Ledger {
            step,
            from: None,
            as_of: context.as_of,
            view: Some(range),
            zone: instants.then(|| context.zone.to_string()),
            rows_in: kept + dropped.iter().map(|(_, rows)| rows).sum::<u64>(),
            kept,
            dropped: dropped.into_iter().filter(|(_, rows)| *rows > 0).map(entry).collect(),
            set_aside: Vec::new(),
            counts: vec![("days in the result".into(), days as u64)],
            noted: Vec::new(),
            warnings: Vec::new(),
            reconciled: Vec::new(),
            followed: None,
            other_side: None,
        }
    }
}

fn plain(name: &str, array: ArrayRef) -> (Field, ArrayRef) {
    (Field::new(name, array.data_type().clone(), true), array)
}

impl Records {
    /// Counts the records of the column at a place.
    fn count(table: &Table, place: usize, context: &Context) -> Records {
        let dates = table.dates_at(place);
        let nulls = dates.nulls();
        let numbers = dates.day_numbers(&context.zone);
        let valid = || {
            let rows = numbers.iter().enumerate();
            rows.filter(|(row, _)| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(*row)))
                .map(|(_, &day)| day)
        };
        let (first, last) =
            valid().fold((i32::MAX, i32::MIN), |(a, z), day| (a.min(day), z.max(day)));
        let mut days =
            vec![0; usize::try_from(i64::from(last) - i64::from(first) + 1).unwrap_or(0)];
        valid().for_each(|day| days[(day - first) as usize] += 1);
        let missing = nulls.map_or(0, |nulls| nulls.null_count()) as u64;
        Records { first, days, missing, instants: dates.are_instants() }
    }

    /// Adds the records of other rows.
    fn add(&mut self, more: &Records) {
        self.missing += more.missing;
        self.instants |= more.instants;
        if self.days.is_empty() {
            (self.first, self.days) = (more.first, more.days.clone());
            return;
        }
        if more.days.is_empty() {
            return;
        }
        let end = |records: &Records| records.first + records.days.len() as i32;
        let (first, end) = (self.first.min(more.first), end(self).max(end(more)));
        let mut days = vec![0; (end - first) as usize];
        for records in [&*self, more] {
            let from = (records.first - first) as usize;
            days[from..].iter_mut().zip(&records.days).for_each(|(sum, count)| *sum += count);
        }
        (self.first, self.days) = (first, days);
    }

    fn range(&self) -> Option<Range> {
        let last = i32::try_from(self.days.len()).ok()?.checked_sub(1)?.checked_add(self.first)?;
        Range::new(Day::from_number(self.first)?, Day::from_number(last)?)
    }

    fn on(&self, day: i32) -> i64 {
        let index = i64::from(day) - i64::from(self.first);
        usize::try_from(index).ok().and_then(|index| self.days.get(index)).copied().unwrap_or(0)
    }
}

#[cfg(test)]
mod tests;
