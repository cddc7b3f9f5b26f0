//! [`Almanac`]: a calendar that covers exactly what the data covers, one row a day.

use crate::{
    calendar::{Day, Grain, MONTH_NAMES, Periods, Range, Weekday, Workdays, month_of_year},
    error::{Error, Result},
    ledger::{Entry, Ledger, Outcome, Reason},
    operation::{Context, Setting, Takes},
    shape::Type,
    table::{Table, ordered_field, period_field},
};
use arrow_array::{Array, ArrayRef, BooleanArray, Date32Array, Int64Array, StringViewArray, UInt32Array};
use arrow_schema::Field;
use arrow_select::take::take;
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// One row for every day, without holes, from the least to the greatest date of the columns that it covers.
///
/// The columns: `date`; `year`, `quarter`, `month`, `month_name`, `day`; `year_quarter`, `year_month` (a quarter and a month);
/// `iso_year`, `iso_week`, `weekday`, `weekday_number` (1 = Monday); `day_of_year`; `month_start`, `month_end` (the first and
/// the last day of its month); `fiscal_year`, `fiscal_quarter` (where years were said to begin in another month; a fiscal
/// year is named by the year it ends in); `is_workday`; `covered` (between the data's first and last date); `records_COL` (how
/// many records each covered column has that day); `days_from_as_of` (where there is an as-of date; negative before it).
///
/// The ledger's rows are the dates of the covered columns: kept are those that are counted in `records_COL`, dropped those
/// that are missing or outside a stated range.
///
/// Errors: nothing to cover and no range; a column is missing, holds no dates, or holds months or longer periods, of which days
/// cannot be told; no date in any column; two columns of one name. Costs one pass over the covered columns, and one write of
/// the days.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Almanac {
    /// These days, whatever the data covers.
    #[serde(default)]
    pub range: Option<Range>,
    /// Grow to whole years, which begin in January or as `year_start` says.
    #[serde(default)]
    pub whole_years: bool,
    /// The month in which fiscal years begin, by its name or number.
    #[serde(default)]
    pub year_start: Option<String>,
    /// The days that are no workdays, beside Saturdays and Sundays.
    #[serde(default)]
    pub holidays: Workdays,
    #[serde(skip)]
    covered: Vec<Covered>,
}

/// A column whose dates are covered.
#[derive(Clone, Debug)]
struct Covered {
    table: Table,
    column: String,
    shown_as: String,
}

/// What a covered column holds: how many records on each day from the first on.
struct Records {
    name: String,
    first: i32,
    days: Vec<i64>,
    missing: u64,
}

impl Almanac {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "almanac";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str = "What is the calendar of the days that the data covers?";
    /// Its settings, described. What it covers comes beside them.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new(
            "range",
            Takes::Text("A..B"),
            "These days or whole periods, whatever the data covers: 2025-01-01..2025-03-31, 2025",
        ),
        Setting::new(
            "whole-years",
            Takes::Yes,
            "Grow to whole years, which begin in January or as --year-start says",
        ),
        Setting::new(
            "year-start",
            Takes::Text("MONTH"),
            "The month in which fiscal years begin; adds fiscal_year and fiscal_quarter",
        ),
        Setting::new(
            "holidays",
            Takes::Days,
            "A file with one date a line (or in its first column) on which nobody works",
        ),
    ];

    /// An almanac that covers nothing yet.
    pub fn new() -> Almanac {
        Almanac::default()
    }

    /// Covers these columns of a table as well; `COLUMN as NAME` names the column of records otherwise.
    pub fn covering<N: Into<String>>(
        mut self,
        table: &Table,
        columns: impl IntoIterator<Item = N>,
    ) -> Result<Almanac> {
        let columns: Vec<String> = columns.into_iter().map(Into::into).collect();
        for named in table.shape().named(&columns)? {
            table.dates(&named.column)?;
            if let Some(Type::Date(periods)) = table.shape().find(&named.column)?.kind
                && periods != Periods::DAYS
            {
                let asked = "days".to_owned();
                return Err(Error::TooFine { column: named.column, grain: periods.grain(), asked });
            }
            self.covered.push(Covered {
                table: table.clone(),
                column: named.column,
                shown_as: named.shown_as,
            });
        }
        Ok(self)
    }

    /// These days, whatever the data covers.
    pub fn range(mut self, range: Range) -> Almanac {
        self.range = Some(range);
        self
    }

    /// Grow to whole years.
    pub fn whole_years(mut self, whole: bool) -> Almanac {
        self.whole_years = whole;
        self
    }

    /// The month in which fiscal years begin, by its name or number.
    pub fn year_start(mut self, month: impl Into<String>) -> Almanac {
        self.year_start = Some(month.into());
        self
    }

    /// The days that are no workdays, beside Saturdays and Sundays.
    pub fn holidays(mut self, holidays: impl Into<Workdays>) -> Almanac {
        self.holidays = holidays.into();
        self
    }

    /// Everything that can be wrong without the data, for so many columns to cover.
    pub fn check(&self, columns: usize) -> Result<()> {
        self.year_start.as_deref().map_or(Ok(1), month_of_year)?;
        if columns == 0 && self.range.is_none() {
            let expected = "at least one column of dates to cover, or a `range`";
            return Err(Error::Setting { setting: "covering", value: "not given".to_owned(), expected });
        }
        Ok(())
    }

    /// The almanac, without an as-of date and with days of UTC.
    pub fn make(&self) -> Result<Outcome> {
        self.make_with(&Context::new())
    }

    /// The almanac.
    pub fn make_with(&self, context: &Context) -> Result<Outcome> {
        self.check(self.covered.len())?;
        let year_start = self.year_start.as_deref().map_or(Ok(1), month_of_year)?;
        let records =
            self.covered.iter().map(|covered| covered.records(context)).collect::<Result<Vec<_>>>()?;
        let data = records.iter().filter_map(Records::range).reduce(|one, other| {
            Range::new(one.first().min(other.first()), one.last().max(other.last())).unwrap_or(one)
        });
        let range = match self.range.or(data) {
            Some(range) if self.whole_years => {
                range.to_whole(Periods::from(Grain::Year).year_start(year_start))
            }
            Some(range) => range,
            None => {
                let columns: Vec<&str> = self.covered.iter().map(|covered| covered.column.as_str()).collect();
                return Err(Error::NoNewest { column: columns.join("` and `") });
            }
        };
        let mut columns = self.calendar(range, year_start);
        let day_numbers = || range.first().number()..=range.last().number();
        let is_covered = |day: i32| data.is_some_and(|data| data.contains(Day::clamped(day)));
        columns.push(plain(
            "covered",
            Arc::new(BooleanArray::from_iter(day_numbers().map(|day| Some(is_covered(day))))),
        ));
        for records in &records {
            let counts = Int64Array::from_iter_values(day_numbers().map(|day| records.on(day)));
            columns.push(plain(&format!("records_{}", records.name), Arc::new(counts)));
        }
        if let Some(as_of) = context.as_of {
            let from = Int64Array::from_iter_values(day_numbers().map(|day| i64::from(day - as_of.number())));
            columns.push(plain("days_from_as_of", Arc::new(from)));
        }
        let table = Table::of_fields(columns)?;
        let ledger = self.ledger(&records, range, context, table.rows());
        let nothing: [(&str, ArrayRef); 0] = [];
        Ok(Outcome { table, ledger, set_aside: Table::from_columns(nothing)? })
    }

    /// What the calendar itself tells of each day.
    fn calendar(&self, range: Range, year_start: u32) -> Vec<(Field, ArrayRef)> {
        let days: Vec<Day> = (range.first().number()..=range.last().number()).map(Day::clamped).collect();
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
            names("month_name", &MONTH_NAMES, &|day| day.ymd().1 - 1),
            integers("day", &|day| day.ymd().2.into()),
            dates("year_quarter", Grain::Quarter.into(), &|day| Periods::from(Grain::Quarter).first_day(day)),
            dates("year_month", month, &|day| month.first_day(day)),
            integers("iso_year", &|day| day.iso_week().0.into()),
            integers("iso_week", &|day| day.iso_week().1.into()),
            names("weekday", &Weekday::NAMES, &|day| day.weekday().number() - 1),
            integers("weekday_number", &|day| day.weekday().number().into()),
            integers("day_of_year", &|day| day.of_year().into()),
            dates("month_start", Periods::DAYS, &|day| month.first_day(day)),
            dates("month_end", Periods::DAYS, &|day| month.of(day).last()),
        ];
        if self.year_start.is_some() {
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
        let named: Vec<String> = self.covered.iter().map(Covered::full_name).collect();
        let instants = self
            .covered
            .iter()
            .any(|covered| covered.table.dates(&covered.column).is_ok_and(|dates| dates.are_instants()));
        let step = if named.is_empty() {
            "almanac".to_owned()
        } else {
            format!("almanac covering {}", named.join(", "))
        };
        let entry = |(reason, rows)| Entry { reason, rows, lines: Vec::new() };
        Ledger {
            step,
            from: None,
            as_of: context.as_of,
            view: Some(range),
            zone: Some(context.zone.to_string()).filter(|_| instants),
            rows_in: kept + dropped.iter().map(|(_, rows)| rows).sum::<u64>(),
            kept,
            dropped: dropped.into_iter().filter(|(_, rows)| *rows > 0).map(entry).collect(),
            set_aside: Vec::new(),
            counts: vec![("days made".into(), days as u64)],
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

impl Covered {
    fn full_name(&self) -> String {
        let file = self.table.origin().map(|origin| format!("{}:", origin.file())).unwrap_or_default();
        format!("{file}{}", self.column)
    }

    fn records(&self, context: &Context) -> Result<Records> {
        let dates = self.table.dates(&self.column)?;
        let nulls = dates.nulls();
        let numbers = dates.day_numbers(&context.zone);
        let valid = || {
            let rows = numbers.iter().enumerate();
            rows.filter(|(row, _)| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(*row)))
                .map(|(_, &day)| day)
        };
        let (first, last) = valid().fold((i32::MAX, i32::MIN), |(a, z), day| (a.min(day), z.max(day)));
        let mut days = vec![0; usize::try_from(i64::from(last) - i64::from(first) + 1).unwrap_or(0)];
        valid().for_each(|day| days[(day - first) as usize] += 1);
        let missing = nulls.map_or(0, |nulls| nulls.null_count()) as u64;
        Ok(Records { name: self.shown_as.clone(), first, days, missing })
    }
}

impl Records {
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
