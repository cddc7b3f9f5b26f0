//! [`Places`]: where each row stands on the horizontal axis.

use crate::{content::Along, numbers::Numbers, time::Span};
use arrow_array::{Array, Date32Array, TimestampMicrosecondArray, cast::AsArray};
use arrow_buffer::{BooleanBuffer, NullBuffer};
use arrow_schema::DataType;
use jembric_core::{
    Context, Table,
    calendar::{Day, MICROS_PER_DAY, Periods, Zone},
};

/// A column that gives each row a place.
#[derive(Clone, Debug)]
pub(crate) enum Places<'a> {
    Days(&'a Date32Array, Periods),
    /// Moments, with the time zone if they are points in time.
    Moments(&'a TimestampMicrosecondArray, Option<&'a Zone>),
    Numbers(Numbers<'a>),
    /// Any other column, or none.
    Classes,
    /// A column without any value.
    Nothing,
}

/// The places of the rows by a column.
pub(crate) fn places_of<'a>(
    table: &'a Table,
    place: Option<usize>,
    context: &'a Context,
) -> Places<'a> {
    let Some(place) = place else { return Places::Classes };
    let column = &table.columns()[place];
    let shape = table.shape();
    let kind = shape.columns()[place].kind;
    match column.data_type() {
        DataType::Date32 => {
            let periods = kind.and_then(|kind| kind.periods()).unwrap_or(Periods::DAYS);
            Places::Days(column.as_primitive(), periods)
        }
        DataType::Timestamp(_, zone) => {
            Places::Moments(column.as_primitive(), zone.as_ref().map(|_| &context.zone))
        }
        DataType::Null => Places::Nothing,
        DataType::Utf8View | DataType::Boolean | DataType::Time64(_) => Places::Classes,
        _ => Places::Numbers(Numbers::from_array(column)),
    }
}

impl Places<'_> {
    pub(crate) fn is_time(&self) -> bool {
        matches!(self, Places::Days(..) | Places::Moments(..))
    }

    /// The rows without a date. Numbers and classes have none.
    pub(crate) fn missing(&self, rows: usize) -> BooleanBuffer {
        let nulls: Option<&NullBuffer> = match self {
            Places::Days(days, _) => days.nulls(),
            Places::Moments(moments, _) => moments.nulls(),
            Places::Nothing => return BooleanBuffer::new_set(rows),
            _ => None,
        };
        nulls.map_or_else(|| BooleanBuffer::new_unset(rows), |nulls| !nulls.inner())
    }

    /// The first microsecond of a row's date and the one after it, equal for a moment. The row has
    /// a date.
    pub(crate) fn extent(&self, row: usize) -> (i64, i64) {
        match self {
            Places::Days(days, periods) => day_extent(days.value(row), *periods),
            Places::Moments(moments, _) => (moments.value(row), moments.value(row)),
            _ => (0, 0),
        }
    }

    /// A number that rises by one from each day or period to the next, or the microsecond of a
    /// moment. The row has a date.
    pub(crate) fn number(&self, row: usize) -> i64 {
        match self {
            Places::Days(days, periods) => match Day::from_number(days.value(row)) {
                Some(day) => periods.number(day).into(),
                None => 0,
            },
            Places::Moments(moments, _) => moments.value(row),
            _ => 0,
        }
    }

    /// The span of the dates of rows; none if there are no dates.
    pub(crate) fn span(&self, rows: impl Iterator<Item = usize>) -> Option<Span> {
        let extents = rows.map(|row| self.extent(row));
        let both = |(low, high): (i64, i64), (from, to): (i64, i64)| (low.min(from), high.max(to));
        let (low, high) = extents.fold((i64::MAX, i64::MIN), both);
        (low <= high).then(|| self.span_of(low, high))
    }

    /// The span between two microseconds.
    pub(crate) fn span_of(&self, low: i64, high: i64) -> Span {
        match self {
            Places::Days(_, periods) => Span::new(low, high, None, Some(*periods)),
            Places::Moments(_, zone) => Span::new(low, high, zone.cloned(), None),
            _ => Span::new(low, high, None, None),
        }
    }

    /// The axis of a picture without any mark.
    pub(crate) fn empty(&self) -> Along {
        match self {
            Places::Numbers(_) => Along::Numbers { low: 0.0, high: 1.0 },
            Places::Classes => Along::Classes(Vec::new()),
            _ => Along::Time(self.span_of(0, MICROS_PER_DAY)),
        }
    }
}

/// The first microsecond of a day or period, and the one after it.
pub(crate) fn day_extent(number: i32, periods: Periods) -> (i64, i64) {
    let micros = |day: i32| i64::from(day) * MICROS_PER_DAY;
    match Day::from_number(number) {
        Some(day) if periods != Periods::DAYS => {
            let period = periods.containing(day);
            (micros(period.first().number()), micros(period.last().number() + 1))
        }
        _ => (micros(number), micros(number + 1)),
    }
}

/// The axis for the places of these rows; none if there are no rows.
pub(super) fn along_of(
    places: &Places<'_>,
    mut rows: impl Iterator<Item = usize>,
) -> Option<Along> {
    match places {
        Places::Numbers(_) => {
            rows.next().map(|_| Along::Numbers { low: f64::INFINITY, high: f64::NEG_INFINITY })
        }
        _ => places.span(rows).map(Along::Time),
    }
}
