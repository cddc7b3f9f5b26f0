//! [`Recent`]: keeps the rows of the last months, of this quarter, of the two quarters before it,
//! or of a range.

use crate::{
    calendar::{Day, Grain, Month, Periods, Range, Span, ValueError, Weekday},
    context::Context,
    dates::Dates,
    error::{Error, Result, excludes, in_setting, needs, refuse},
    kind::Type,
    ledger::{Accounting, Cause, Outcome, Reason, RowMasks, Warning},
    operation::{Operation, callable},
    plan::{
        Apply, DiscardedRows, Division, FoldBatches, InParts, Inputs, Kind, Overall, Plan,
        Prepared, Selection, SelectionState, State,
    },
    settings::from_given_text,
    shape::Shape,
    table::Table,
};
use arrow_array::BooleanArray;
use arrow_buffer::BooleanBuffer;
use serde::Serialize;
use std::{fmt, str::FromStr, sync::Arc};

/// Keeps the rows of a range of time, which follows from the as-of date or is given.
///
/// * [`last`](Recent::last): from the day after (as-of − span) to the as-of date. `1 day` is the
///   as-of date itself, `7 days` are seven days, `9 months` are nine months. `both_ends` adds the
///   day (as-of − span).
/// * [`this`](Recent::this): the whole week, month, quarter or year that contains the as-of date,
///   including its days after that date.
/// * [`previous`](Recent::previous): this number of whole periods before that one.
/// * [`range`](Recent::range): from one day to another, both inclusive.
///
/// Without an as-of date, the newest date of the column is used. In a column of months or longer
/// periods, the as-of date and the ends of a range are first converted to their periods.
///
/// Rows keep their order. Set aside: rows without a date. Dropped: rows before and after the range.
/// Points in time are converted to days in [`Context::zone`].
///
/// Errors: the column is missing or holds no dates; none or several of the four settings are given;
/// a span or grain is finer than the column's periods; the range leaves the calendar; there is no
/// as-of date and the column has no date. Cost: one pass over the dates, and one read and write of
/// the rows that are kept.
///
/// ```
/// use jembric_core::{Recent, Table, arrow::{ArrayRef, Date32Array}};
/// use std::sync::Arc;
///
/// let day: ArrayRef = Arc::new(Date32Array::from(vec![20_000, 20_094, 20_100]));
/// let lifts = Table::from_columns([("lifted_on", day)])?;
///
/// let outcome = Recent::last("lifted_on", "7 days".parse()?).apply(&lifts)?;
/// assert_eq!(outcome.table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Clone, Debug, PartialEq, Eq, Serialize, jembric_derive::Settings)]
#[settings(
    name = "recent",
    does = "Keep the rows of a recent period",
    answers = "What was lifted in the last nine months, or in the quarter before this one?"
)]
#[serde(rename_all = "kebab-case")]
#[non_exhaustive]
pub struct Recent {
    /// The column of dates, moments or periods.
    #[setting(column, required)]
    pub date: String,
    /// Keep this span up to the as-of date: `9 months`, `7 days`, P9M; `1 day` is that date itself.
    #[setting(text = "SPAN", plain)]
    pub last: Option<Span>,
    /// Keep the whole week, month, quarter or year that contains the as-of date.
    #[setting(text = "GRAIN", plain)]
    pub this: Option<Grain>,
    /// Keep this number of whole periods before the one that contains the as-of date: `2 quarters`.
    #[setting(text = "N GRAIN", plain)]
    pub previous: Option<Whole>,
    /// Keep this range of days or periods, both inclusive: 2025-01-01..2025-03-31,
    /// 2025-01..2025-06.
    #[setting(text = "A..B", plain)]
    pub range: Option<Range>,
    /// Add the day at the far end of `last`.
    #[setting(yes)]
    pub both_ends: bool,
    /// Keep all rows, and add a column with this name that is true for rows in the range.
    #[setting(name)]
    pub mark: Option<String>,
    /// Begin weeks on this weekday, for `this` and `previous`. The default is Monday.
    #[setting(text = "WEEKDAY")]
    pub week_start: Option<Weekday>,
    /// Begin years in this month, for `this` and `previous`. The default is January.
    #[setting(text = "MONTH")]
    pub year_start: Option<Month>,
}

/// Whole periods: `2 quarters`, or `month` for one.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Whole {
    /// The number of periods, at least 1.
    pub count: u32,
    /// The length of the periods.
    pub grain: Grain,
}

impl fmt::Display for Whole {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let unit = if self.count == 1 { self.grain.word() } else { self.grain.plural() };
        write!(f, "{} {unit}", self.count)
    }
}

impl FromStr for Whole {
    type Err = ValueError;

    fn from_str(text: &str) -> std::result::Result<Whole, ValueError> {
        let (count, grain) = match text.trim().split_once(char::is_whitespace) {
            Some((count, grain)) => (count.parse().ok().filter(|&count| count > 0), grain),
            None => (Some(1), text),
        };
        let count = count.ok_or_else(|| ValueError::Malformed {
            what: "a number of periods",
            text: text.to_owned(),
            expected: "a number from 1 and a grain, such as `2 quarters`",
        })?;
        Ok(Whole { count, grain: grain.parse()? })
    }
}

crate::calendar::serialized_as_text!(Whole);
from_given_text!(Whole);
callable!(Recent);

impl Recent {
    fn with_defaults(date: impl Into<String>) -> Recent {
        Recent { date: date.into(), ..Recent::default() }
    }

    /// Keeps the rows from the day after (as-of − span) up to the as-of date.
    pub fn last(date: impl Into<String>, span: Span) -> Recent {
        Recent { last: Some(span), ..Recent::with_defaults(date) }
    }

    /// Keeps the rows of the whole period that contains the as-of date.
    pub fn this(date: impl Into<String>, grain: Grain) -> Recent {
        Recent { this: Some(grain), ..Recent::with_defaults(date) }
    }

    /// Keeps the rows of this number of whole periods before the one that contains the as-of date.
    pub fn previous(date: impl Into<String>, count: u32, grain: Grain) -> Recent {
        Recent { previous: Some(Whole { count, grain }), ..Recent::with_defaults(date) }
    }

    /// Keeps the rows from the first day of the range to its last.
    pub fn range(date: impl Into<String>, range: Range) -> Recent {
        Recent { range: Some(range), ..Recent::with_defaults(date) }
    }

    /// The periods of a grain, with the set start of weeks and years.
    fn periods(&self, grain: Grain) -> Periods {
        Periods::cut(grain, self.week_start, self.year_start)
    }

    /// The range of the rows to keep, which follows from the as-of date or is given.
    fn view(&self) -> Result<View> {
        let whole = |setting, grain, back| match grain {
            Grain::Hour => refuse(setting, "hour", "days or longer periods"),
            _ => Ok(View::Whole { periods: self.periods(grain), back }),
        };
        let view = match (self.last, self.this, self.previous, self.range) {
            (None, None, None, None) => {
                return refuse(
                    "last",
                    "not given",
                    "one of `last`, `this`, `previous` and `range`",
                );
            }
            (Some(span), None, None, None) => {
                if span.month_count() < 0 || span.day_count() < 0 || span == Span::default() {
                    return refuse("last", span.to_string(), "a span of at least a day");
                }
                View::Last { span, both_ends: self.both_ends }
            }
            (None, Some(grain), None, None) => whole("this", grain, 0)?,
            (None, None, Some(Whole { count, grain }), None) => whole("previous", grain, count)?,
            (None, None, None, Some(range)) => View::Stated(range),
            (Some(_), Some(_), ..) => return excludes("last", "`this`"),
            (Some(_), _, Some(_), _) => return excludes("last", "`previous`"),
            (Some(_), .., Some(_)) => return excludes("last", "`range`"),
            (_, Some(_), Some(_), _) => return excludes("this", "`previous`"),
            (_, Some(_), _, Some(_)) => return excludes("this", "`range`"),
            (.., Some(_), Some(_)) => return excludes("previous", "`range`"),
        };
        match (self.both_ends, &view) {
            (false, _) | (true, View::Last { .. }) => Ok(view),
            (true, _) => needs("both-ends", "`last`"),
        }
    }

    fn step(&self) -> String {
        let what = match (self.last, self.this, self.previous) {
            (Some(span), ..) => {
                format!("last {span}{}", if self.both_ends { ", both ends" } else { "" })
            }
            (_, Some(grain), _) => format!("this {grain}"),
            (_, _, Some(previous)) => format!("previous {previous}"),
            _ => "range".to_owned(),
        };
        format!("recent by {}, {what}", self.date)
    }
}

impl Operation for Recent {
    fn prepare(&self, shape: &Shape, context: &Context) -> Result<Plan> {
        let view = self.view()?;
        let date = in_setting("date", || shape.place_of_dates(&self.date))?;
        if let Some(periods) = shape.kind(date).and_then(Type::periods) {
            view.expect_to_fit(&self.date, periods)?;
        }
        let accounting = Accounting::prepare(shape, context)?
            .warning_of([Cause::NoDate { column: self.date.clone() }, Cause::OutsideRange]);
        let result = match &self.mark {
            None => shape.clone(),
            Some(name) => in_setting("mark", || shape.with(name, Type::Boolean))?,
        };
        let uses = Inputs::passing(shape).using([date]).accounting(&accounting);
        let kind = match (&view, context.as_of, &self.mark) {
            (View::Stated(_), ..) | (_, Some(_), _) => Kind::ByRow,
            // The newest date of the whole column decides. Once it is known, each row can be
            // processed separately.
            (_, None, None) => Kind::OnePass(Some(Division::Rows)),
            (_, None, Some(_)) => Kind::Divided(Division::Rows),
        };
        let newest_decides = kind != Kind::ByRow;
        let plan = RecentPlan {
            shape: shape.clone(),
            step: self.step(),
            date_name: self.date.clone(),
            date,
            view,
            mark: self.mark.clone(),
            folds: matches!(kind, Kind::OnePass(_)),
            newest_decides,
            newest: None,
            accounting,
        };
        Ok(Plan::new(&[shape], context, (result, uses, kind), plan.prepared()))
    }
}

/// The range of the rows to keep.
#[derive(Clone, Copy)]
enum View {
    /// This span up to the as-of date.
    Last {
        span: Span,
        both_ends: bool,
    },
    /// The period that contains the as-of date, or a number of periods before it.
    Whole {
        periods: Periods,
        back: u32,
    },
    Stated(Range),
}

impl View {
    /// Errors: it is finer than the periods of the column.
    fn expect_to_fit(&self, column: &str, periods: Periods) -> Result<()> {
        let grain = periods.grain();
        let (fits, requested) = match *self {
            View::Stated(_) => return Ok(()),
            View::Last { span, .. } => (span.fits(grain), span.to_string()),
            // A week can lie in two months, so it is not part of either.
            View::Whole { periods, .. } => {
                (periods.grain().holds(grain), periods.grain().plural().to_owned())
            }
        };
        if fits {
            Ok(())
        } else {
            Err(Error::TooFine { column: column.to_owned(), grain, requested })
        }
    }

    /// The range for an as-of date, in a column of these periods.
    fn days(&self, column: Periods, as_of: Day) -> Result<Range> {
        let range = match *self {
            View::Stated(range) => return Ok(range.to_whole(column)),
            View::Last { span, both_ends } => {
                // The last period is that of the as-of date; the first is the one after the period
                // that lies the span before.
                let last = column.containing(as_of);
                let far = column.containing(span.negated().after(last.first())?);
                let first = if both_ends { far } else { far.plus(1) };
                Range::new(first.first(), last.last())
            }
            View::Whole { periods, back } => {
                let this = periods.containing(as_of);
                let range = match i32::try_from(back) {
                    Ok(0) => Range::new(this.first(), this.last()),
                    Ok(back) => Range::new(this.plus(-back).first(), this.plus(-1).last()),
                    Err(_) => None,
                };
                range.map(|range| range.to_whole(column))
            }
        };
        // The span is at least a day, so the first day is never after the last.
        let span = if let View::Last { span, .. } = *self { span } else { Span::default() };
        Ok(range.ok_or(ValueError::BeyondCalendar { from: as_of, span })?)
    }
}

#[derive(Clone)]
struct RecentPlan {
    /// The shape of the tables that it was prepared for.
    shape: Shape,
    step: String,
    date_name: String,
    date: usize,
    view: View,
    mark: Option<String>,
    folds: bool,
    /// Whether the newest date of all rows decides.
    newest_decides: bool,
    /// That date, or none if no row has a date, if the rows are only a part of all.
    newest: Option<Option<Day>>,
    accounting: Accounting,
}

impl RecentPlan {
    /// The as-of date, if it is needed, and the range; none for a table without dates.
    fn in_view(
        &self,
        table: &Table,
        dates: &Dates,
        context: &Context,
    ) -> Result<(Option<Day>, Option<Range>)> {
        if let View::Stated(range) = self.view {
            return Ok((None, Some(range.to_whole(dates.periods()))));
        }
        let as_of = match (context.as_of, self.newest) {
            (None, Some(newest)) => newest,
            (None, None) => self.newest_of(table, dates, context)?,
            (as_of, _) => as_of,
        };
        let Some(as_of) = as_of else { return Ok((None, None)) };
        Ok((Some(as_of), Some(self.view.days(dates.periods(), as_of)?)))
    }

    /// The newest date; none if no row has a date.
    fn newest_of(&self, table: &Table, dates: &Dates, context: &Context) -> Result<Option<Day>> {
        let nothing_dated = dates.nulls().is_some_and(|nulls| nulls.null_count() == table.rows());
        if nothing_dated || table.rows() == 0 {
            return Ok(None);
        }
        let newest = dates.newest(&context.zone);
        newest.map(Some).ok_or_else(|| Error::NoNewest { column: self.date_name.clone() })
    }
}

impl RecentPlan {
    fn prepared(self) -> Prepared {
        let plan = Arc::new(self);
        let prepared = if plan.folds {
            Prepared::folded(plan.clone())
        } else {
            Prepared::applied(plan.clone())
        };
        prepared.in_parts(plan)
    }
}

impl Apply for RecentPlan {
    fn apply(&self, tables: &[&Table], context: &Context) -> Result<Outcome> {
        self.select(tables[0], DiscardedRows::default(), context)
    }
}

impl InParts for RecentPlan {
    fn survey(&self, table: &Table, context: &Context) -> Result<Option<Overall>> {
        if !self.newest_decides {
            return Ok(None);
        }
        let newest = self.newest_of(table, &table.dates_at(self.date), context)?;
        Ok(Some(Overall { newest: newest.map(Day::number), ..Overall::default() }))
    }

    fn for_parts(&self, overall: Overall) -> Prepared {
        let newest = Some(overall.newest.map(Day::clamped));
        RecentPlan { newest, ..self.clone() }.prepared()
    }
}

impl FoldBatches for RecentPlan {
    fn begin(self: Arc<Self>, context: &Context) -> Box<dyn State> {
        SelectionState::begin(self, context)
    }
}

impl Selection for RecentPlan {
    fn candidates(&self, table: &Table, context: &Context) -> Result<RowMasks> {
        let dates = table.dates_at(self.date);
        // The newest date so far leads out of the calendar, but a later one may not.
        let (_, view) = self.in_view(table, &dates, context).unwrap_or((None, None));
        let mut masks = masks(&dates, table.rows(), view, context);
        // A later date moves the range forward: rows after it may come into it, but rows before it
        // never do.
        let after =
            std::mem::replace(&mut masks.dropped[1].1, BooleanBuffer::new_unset(table.rows()));
        masks.kept = &masks.kept | &after;
        if view.is_none() {
            let undated = &masks.set_aside[0].1;
            masks.kept = !undated;
        }
        Ok(masks)
    }

    fn select(&self, table: &Table, gone: DiscardedRows, context: &Context) -> Result<Outcome> {
        let dates = table.dates_at(self.date);
        let (as_of, view) = self.in_view(table, &dates, context)?;
        let masks = masks(&dates, table.rows(), view, context);
        let kept = masks.kept.clone();
        let mut outcome = match &self.mark {
            None => {
                let (tally, set_aside) = masks.tally(table, &self.accounting)?;
                let (tally, set_aside) = gone.with(tally, set_aside)?;
                Outcome {
                    table: table.filter(&kept)?,
                    ledger: tally.ledger(self.step.clone()),
                    set_aside,
                }
            }
            Some(name) => {
                let step = self.step.clone();
                let (mut ledger, set_aside) =
                    masks.account_of_all_kept(step, table, &self.accounting)?;
                ledger.counts.insert(0, ("rows marked".into(), kept.count_set_bits() as u64));
                let marks = Arc::new(BooleanArray::new(kept, dates.nulls()));
                Outcome { table: table.with_column(name, marks)?.anonymous(), ledger, set_aside }
            }
        };
        outcome.ledger.as_of = as_of;
        outcome.ledger.view = view;
        if let View::Stated(range) = self.view {
            let name = table.names().nth(self.date).unwrap_or_default();
            let whole = Warning::of_whole_periods(range, name, dates.periods());
            outcome.ledger.warnings.extend(whole);
        }
        outcome.ledger.zone = dates.are_instants().then(|| context.zone.to_string());
        Ok(outcome)
    }

    fn accounting(&self) -> &Accounting {
        &self.accounting
    }

    fn shape(&self) -> &Shape {
        &self.shape
    }
}

/// The rows in the range, those before and after it, and those without a date. Without a range no
/// row is in it.
fn masks(dates: &Dates, rows: usize, view: Option<Range>, context: &Context) -> RowMasks {
    let undated =
        dates.nulls().map_or_else(|| BooleanBuffer::new_unset(rows), |nulls| !nulls.inner());
    let [before, after] = match view {
        Some(view) => dates.outside(view, &context.zone).map(|rows| &rows & &!&undated),
        None => [(); 2].map(|()| BooleanBuffer::new_unset(rows)),
    };
    let kept = match view {
        Some(_) => !&(&(&before | &after) | &undated),
        None => BooleanBuffer::new_unset(rows),
    };
    RowMasks {
        kept,
        dropped: vec![(Reason::BeforeView, before), (Reason::AfterView, after)],
        set_aside: vec![(Reason::NoDate, undated)],
    }
}

#[cfg(test)]
mod tests;
