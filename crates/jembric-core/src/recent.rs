//! [`Recent`]: the rows of the last months, of this quarter, of the two quarters before it, or of a stated range.

use crate::{
    calendar::{Day, Grain, Periods, Range, Span, Weekday},
    dates::Dates,
    error::{Error, Result},
    ledger::{Fates, Outcome, Reason},
    operation::{Context, Operation, Setting, Takes, called_alone, told_of_periods},
    rows::check_reconciled,
    shape::{Shape, Type},
    table::Table,
};
use arrow_array::BooleanArray;
use arrow_buffer::{BooleanBuffer, NullBuffer};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr, sync::Arc};

/// The rows of a stretch of time that is told from the as-of date, or outright.
///
/// * [`last`](Recent::last): from the day after (as-of − span) to the as-of date: `1 day` is the as-of date itself, `7 days`
///   are seven days, `9 months` are nine months. With `both_ends` the day at the far end belongs to it too.
/// * [`this`](Recent::this): the whole week, month, quarter or year that holds the as-of date, with what of it is still to come.
/// * [`previous`](Recent::previous): so many whole periods before that one.
/// * [`range`](Recent::range): both days included.
///
/// Without an as-of date it is the newest date of the column itself. In a column of months or longer periods the as-of date
/// is first taken to its period, and so are the ends of a range.
///
/// Rows come out in the order they came in. Set aside: rows without a date. Dropped: rows before and after what is in view.
/// Points in time are cut into days of [`Context::zone`].
///
/// Errors: the column is missing or holds no dates; none or several of the four are given; a span or grain that is finer
/// than the column's periods; a span that leads out of the calendar; no as-of date and no date in the column. Costs one pass
/// over the dates, and one read and write of what is kept.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields)]
#[non_exhaustive]
pub struct Recent {
    /// The column of dates or moments.
    pub date: String,
    /// Up to the as-of date, as long as this span.
    #[serde(default)]
    pub last: Option<Span>,
    /// The period that holds the as-of date.
    #[serde(default)]
    pub this: Option<Grain>,
    /// Whole periods before that which holds the as-of date.
    #[serde(default)]
    pub previous: Option<Whole>,
    /// The days, or whole periods, from one to another.
    #[serde(default)]
    pub range: Option<Range>,
    /// The day at the far end of `last` belongs to it too.
    #[serde(default)]
    pub both_ends: bool,
    /// Keep all rows, and tell in a column of this name which are in view. It is missing where the date is.
    #[serde(default)]
    pub mark: Option<String>,
    /// The day on which weeks begin, for `this` and `previous`; Monday if not said.
    #[serde(default)]
    pub week_start: Option<Weekday>,
    /// The month in which years begin, for `this` and `previous`, by its name or number; January if not said.
    #[serde(default)]
    pub year_start: Option<String>,
}

/// Whole periods: `2 quarters`, or `month` for one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Whole {
    /// How many, from 1.
    pub count: u32,
    /// Of which size.
    pub grain: Grain,
}

impl fmt::Display for Whole {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = if self.count == 1 { self.grain.word() } else { self.grain.plural() };
        write!(f, "{} {unit}", self.count)
    }
}

impl FromStr for Whole {
    type Err = Error;

    fn from_str(text: &str) -> Result<Whole> {
        let (count, grain) = match text.trim().split_once(char::is_whitespace) {
            Some((count, grain)) => (count.parse().ok().filter(|&count| count > 0), grain),
            None => (Some(1), text),
        };
        let count = count.ok_or_else(|| Error::Malformed {
            what: "a number of periods",
            text: text.to_owned(),
            expected: "a number from 1 and a grain, such as `2 quarters`",
        })?;
        Ok(Whole { count, grain: grain.parse()? })
    }
}

crate::calendar::serialized_as_text!(Whole);
called_alone!(Recent);
told_of_periods!(Recent);

impl Recent {
    /// The word for it on the command line and in files.
    pub const NAME: &'static str = "recent";
    /// What it answers, in a sentence.
    pub const ANSWERS: &'static str =
        "Which records are of the last months, of this quarter, of the newest day?";
    /// Its settings, described.
    pub const SETTINGS: &'static [Setting] = &[
        Setting::new("date", Takes::Column, "The column of dates, moments or periods").required(),
        Setting::new(
            "last",
            Takes::Text("SPAN"),
            "Up to the as-of date, as long as this: `9 months`, `7 days`, P9M; `1 day` is that date itself",
        ),
        Setting::new(
            "this",
            Takes::Text("GRAIN"),
            "The whole week, month, quarter or year that holds the as-of date",
        ),
        Setting::new(
            "previous",
            Takes::Text("N GRAIN"),
            "So many whole periods before that which holds the as-of date: `2 quarters`",
        ),
        Setting::new(
            "range",
            Takes::Text("A..B"),
            "From one day or period to another, both included: 2025-01-01..2025-03-31, 2025-01..2025-06",
        ),
        Setting::new("both-ends", Takes::Yes, "The day at the far end of --last belongs to it too"),
        Setting::new(
            "mark",
            Takes::Name,
            "Keep all rows, and tell in a column of this name which are in view",
        ),
        Setting::new(
            "week-start",
            Takes::Text("WEEKDAY"),
            "The day on which weeks begin, for --this and --previous [default: Monday]",
        ),
        Setting::new(
            "year-start",
            Takes::Text("MONTH"),
            "The month in which years begin, for --this and --previous [default: January]",
        ),
    ];

    fn of(date: impl Into<String>) -> Recent {
        let date = date.into();
        let (last, this, previous, range, mark, week_start, year_start) =
            (None, None, None, None, None, None, None);
        Recent { date, last, this, previous, range, both_ends: false, mark, week_start, year_start }
    }

    /// From the day after (as-of − span) up to the as-of date.
    pub fn last(date: impl Into<String>, span: Span) -> Recent {
        Recent { last: Some(span), ..Recent::of(date) }
    }

    /// The whole period that holds the as-of date.
    pub fn this(date: impl Into<String>, grain: Grain) -> Recent {
        Recent { this: Some(grain), ..Recent::of(date) }
    }

    /// So many whole periods before that which holds the as-of date.
    pub fn previous(date: impl Into<String>, count: u32, grain: Grain) -> Recent {
        Recent { previous: Some(Whole { count, grain }), ..Recent::of(date) }
    }

    /// From the first day of the range to its last.
    pub fn range(date: impl Into<String>, range: Range) -> Recent {
        Recent { range: Some(range), ..Recent::of(date) }
    }

    /// The day at the far end of `last` belongs to it too.
    pub fn both_ends(mut self, both: bool) -> Recent {
        self.both_ends = both;
        self
    }

    /// Keep all rows, and tell in a column of this name which are in view.
    pub fn mark(mut self, name: impl Into<String>) -> Recent {
        self.mark = Some(name.into());
        self
    }

    /// The periods of a grain, as weeks and years were said to begin.
    fn periods(&self, grain: Grain) -> Result<Periods> {
        Periods::cut(grain, self.week_start, self.year_start.as_deref())
    }

    fn check_settings(&self) -> Result<()> {
        let given = [self.last.is_some(), self.this.is_some(), self.previous.is_some(), self.range.is_some()];
        let refused = |setting, value: &str, expected| {
            Err(Error::Setting { setting, value: value.to_owned(), expected })
        };
        match given.iter().filter(|given| **given).count() {
            0 => return refused("last", "not given", "one of `last`, `this`, `previous` and `range`"),
            1 => {}
            _ => {
                return refused(
                    "last",
                    "given with another",
                    "one alone of `last`, `this`, `previous` and `range`",
                );
            }
        }
        if self.both_ends && self.last.is_none() {
            return refused("both-ends", "given", "`last` beside it: all others have both ends");
        }
        if let Some(span) = self.last
            && (span.month_count() < 0 || span.day_count() < 0 || span == Span::default())
        {
            return Err(Error::Setting {
                setting: "last",
                value: span.to_string(),
                expected: "a span of at least a day",
            });
        }
        for grain in [self.this, self.previous.map(|previous| previous.grain)].into_iter().flatten() {
            if grain == Grain::Hour {
                return refused("this", "hour", "days or longer periods");
            }
            self.periods(grain)?;
        }
        Ok(())
    }

    /// The days in view, given the as-of date where it is needed, for a column of these periods.
    fn view(&self, column: Periods, as_of: impl FnOnce() -> Result<Day>) -> Result<(Option<Day>, Range)> {
        let too_fine =
            |asked: String| Error::TooFine { column: self.date.clone(), grain: column.grain(), asked };
        let whole = |range: Range| range.to_whole(column);
        if let Some(range) = self.range {
            return Ok((None, whole(range)));
        }
        let as_of = as_of()?;
        let range = if let Some(span) = self.last {
            if !span.fits(column.grain()) {
                return Err(too_fine(span.to_string()));
            }
            // The period of the as-of date is the last; the first is the one after that which lies the span before.
            let last = column.of(as_of);
            let far = column.of(span.negated().after(last.first())?);
            let first = if self.both_ends { far } else { far.plus(1) };
            Range::new(first.first(), last.last())
        } else {
            let (grain, back) = match (self.this, self.previous) {
                (Some(grain), _) => (grain, 0),
                (None, Some(Whole { count, grain })) => (grain, count),
                (None, None) => (Grain::Day, 0),
            };
            // A week can lie in two months: it is not part of either.
            if !grain.holds(column.grain()) {
                return Err(too_fine(grain.plural().to_owned()));
            }
            let this = self.periods(grain)?.of(as_of);
            match i32::try_from(back) {
                Ok(0) => Range::new(this.first(), this.last()),
                Ok(back) => Range::new(this.plus(-back).first(), this.plus(-1).last()),
                Err(_) => None,
            }
            .map(whole)
        };
        // The span is at least a day, so that the first day is never after the last.
        let view = range
            .ok_or_else(|| Error::BeyondCalendar { from: as_of, span: self.last.unwrap_or_default() })?;
        Ok((Some(as_of), view))
    }

    fn step(&self) -> String {
        let what = match (self.last, self.this, self.previous) {
            (Some(span), ..) => format!("last {span}{}", if self.both_ends { ", both ends" } else { "" }),
            (_, Some(grain), _) => format!("this {grain}"),
            (_, _, Some(previous)) => format!("previous {previous}"),
            _ => "range".to_owned(),
        };
        format!("recent by {}, {what}", self.date)
    }
}

impl Operation for Recent {
    fn check_with(&self, shape: &Shape, context: &Context) -> Result<Shape> {
        self.check_settings()?;
        shape.expect_dates(&self.date)?;
        check_reconciled(shape, context)?;
        self.mark.as_ref().map_or_else(|| Ok(shape.clone()), |name| shape.with(name, Type::Boolean))
    }

    fn is_row_by_row(&self, _: &Shape, context: &Context) -> bool {
        // Without an as-of date it goes by the newest of the whole column.
        self.range.is_some() || context.as_of.is_some()
    }

    fn apply_with(&self, table: &Table, context: &Context) -> Result<Outcome> {
        self.check_with(&table.shape(), context).map_err(|error| table.explain(error))?;
        let dates = table.dates(&self.date)?;
        let newest = || table.newest(&self.date, &context.zone);
        // A table without any date has none in view, whatever that is.
        let nothing_dated =
            dates.nulls().is_some_and(|nulls| nulls.null_count() == table.rows()) || table.rows() == 0;
        let (as_of, view) = match (context.as_of, nothing_dated && self.range.is_none()) {
            (None, true) => (None, None),
            (given, _) => {
                let (as_of, view) = self.view(dates.periods(), || given.map_or_else(newest, Ok))?;
                (as_of, Some(view))
            }
        };
        let fates = fates(&dates, table.rows(), view, context);
        let kept = fates.kept.clone();
        let mut outcome = match &self.mark {
            None => {
                let (ledger, set_aside) = fates.account(self.step(), table, context)?;
                Outcome { table: table.filter(&kept)?, ledger, set_aside }
            }
            Some(name) => {
                let (mut ledger, set_aside) = fates.account_of_all_kept(self.step(), table, context)?;
                ledger.counts.insert(0, ("marked".into(), kept.count_set_bits() as u64));
                let marks = Arc::new(BooleanArray::new(kept, dates.nulls()));
                Outcome { table: table.with_column(name, marks)?.anonymous(), ledger, set_aside }
            }
        };
        outcome.ledger.as_of = as_of;
        outcome.ledger.view = view;
        outcome.ledger.zone = Some(context.zone.to_string()).filter(|_| dates.are_instants());
        Ok(outcome)
    }
}

fn fates(dates: &Dates, rows: usize, view: Option<Range>, context: &Context) -> Fates {
    let Some(view) = view else {
        let set_aside = vec![(Reason::NoDate, BooleanBuffer::new_set(rows))];
        return Fates { kept: BooleanBuffer::new_unset(rows), dropped: Vec::new(), set_aside };
    };
    let [mut before, mut after] = dates.outside(view, &context.zone);
    let mut set_aside = Vec::new();
    let mut kept = !&(&before | &after);
    if let Some(dated) = dates.nulls().map(NullBuffer::into_inner) {
        (before, after, kept) = (&before & &dated, &after & &dated, &kept & &dated);
        set_aside.push((Reason::NoDate, !&dated));
    }
    Fates { kept, dropped: vec![(Reason::BeforeView, before), (Reason::AfterView, after)], set_aside }
}

#[cfg(test)]
mod tests;
