//! Dates in expressions: their parts, differences, spans added to them, and comparisons of
//! different grains.

use super::{ast::Function, types::TermType, value::Value};
use crate::{
    calendar::{
        Day, Grain, Hours, MICROS_PER_DAY, MICROS_PER_HOUR, Moment, Periods, Span, ValueError,
        Zone, common_periods,
    },
    dates::Dates,
    error::Result,
    kind::Type,
    parallel,
};
use arrow_array::{
    Array, ArrayRef, Date32Array, Int64Array, Time64MicrosecondArray, TimestampMicrosecondArray,
    cast::AsArray,
    types::{Int64Type, Time64MicrosecondType},
};
use arrow_buffer::ScalarBuffer;
use arrow_schema::DataType;
use std::sync::Arc;

/// A value as dates.
fn dates(value: &Value) -> Dates {
    match (value.kind, value.array.data_type()) {
        (TermType::Of(Type::Date(periods)), DataType::Date32) => {
            Dates::Days(value.array.as_primitive().clone(), periods)
        }
        (_, DataType::Timestamp(..)) => Dates::Moments(value.array.as_primitive().clone()),
        _ => Dates::Missing(value.array.len()),
    }
}

/// The reading of the clock at each moment.
fn readings(value: &Value, zone: &Zone) -> ScalarBuffer<i64> {
    match dates(value) {
        Dates::Moments(moments) if moments.timezone().is_some() && !zone.is_utc() => {
            zone.readings(moments.values()).collect()
        }
        Dates::Moments(moments) => moments.values().clone(),
        Dates::Days(days, _) => {
            days.values().iter().map(|&day| i64::from(day) * MICROS_PER_DAY).collect()
        }
        Dates::Missing(rows) => vec![0; rows].into(),
    }
}

/// A number for each day. The values behind missing cells are arbitrary, and so are their results.
fn of_days<T: Copy + Default + Send>(days: &[i32], tell: impl Fn(Day) -> T + Sync) -> Vec<T> {
    parallel::map(days, |day| tell(Day::clamped(day)))
}

/// `year(date)` and similar functions, `date(moment)`, `time(moment)`, `hour` and `minute`.
pub(super) fn part(function: Function, value: &Value, zone: &Zone) -> Result<Value> {
    let nulls = value.array.logical_nulls();
    let integers = |numbers: Vec<i64>| -> ArrayRef {
        Arc::new(Int64Array::new(numbers.into(), nulls.clone()))
    };
    let days = || dates(value).day_numbers(zone).into_owned();
    let time_of_day = || -> Vec<i64> {
        match value.array.data_type() {
            DataType::Time64(_) => {
                value.array.as_primitive::<Time64MicrosecondType>().values().to_vec()
            }
            _ => readings(value, zone)
                .iter()
                .map(|micros| micros.rem_euclid(MICROS_PER_DAY))
                .collect(),
        }
    };
    let integer = TermType::Of(Type::Integer);
    // Each function has its own loop, so that it is inlined.
    macro_rules! numbers {
        ($tell:expr) => {
            integers(of_days(&dates(value).day_numbers(zone), $tell))
        };
    }
    Ok(match function {
        Function::Year => value.with(integer, numbers!(|day| day.ymd().0.into())),
        Function::Quarter => value.with(integer, numbers!(|day| day.ymd().1.div_ceil(3).into())),
        Function::Month => value.with(integer, numbers!(|day| day.ymd().1.into())),
        Function::Day => value.with(integer, numbers!(|day| day.ymd().2.into())),
        Function::Week => value.with(integer, numbers!(|day| day.iso_week().1.into())),
        Function::Weekday => {
            value.with(TermType::Weekday, numbers!(|day| day.weekday().number().into()))
        }
        Function::Hour => value.with(
            integer,
            integers(time_of_day().iter().map(|time| time / MICROS_PER_HOUR).collect()),
        ),
        Function::Minute => value.with(
            integer,
            integers(time_of_day().iter().map(|time| time / 60_000_000 % 60).collect()),
        ),
        Function::Time => {
            let times = Time64MicrosecondArray::new(time_of_day().into(), nulls);
            value.with(TermType::Of(Type::Time), Arc::new(times))
        }
        // `date`, the only function that is left.
        _ => value.with(TermType::Of(Type::DAYS), Arc::new(Date32Array::new(days().into(), nulls))),
    })
}

/// `period(date, grain)`: a column of that grain. For moments and the hour, it is the full hour of
/// each moment.
pub(super) fn period(value: &Value, grain: Grain, zone: &Zone) -> Result<Value> {
    let nulls = value.array.logical_nulls();
    if grain == Grain::Hour {
        let Dates::Moments(moments) = dates(value) else { return Ok(value.clone()) };
        let hours = if moments.timezone().is_some() { Hours::new(zone) } else { Hours::default() };
        let hours =
            moments.values().iter().map(|&micros| hours.start(hours.tick(micros))).collect();
        let array =
            TimestampMicrosecondArray::new(hours, nulls).with_timezone_opt(moments.timezone());
        return Ok(value.with(value.kind, Arc::new(array)));
    }
    let periods = Periods::from(grain);
    let firsts = of_days(&dates(value).day_numbers(zone), |day| periods.first_day(day).number());
    Ok(value
        .with(TermType::Of(Type::Date(periods)), Arc::new(Date32Array::new(firsts.into(), nulls))))
}

/// The days between two dates, or the periods between two columns of periods.
pub(super) fn difference(left: &Value, right: &Value, zone: &Zone) -> Result<Value> {
    let periods = dates(left).periods();
    let numbered = |value: &Value| {
        let days = dates(value).day_numbers(zone).into_owned();
        let numbers: ScalarBuffer<i64> = match periods.grain() {
            Grain::Day => days.into_iter().map(i64::from).collect(),
            _ => days.into_iter().map(|day| periods.number(Day::clamped(day)).into()).collect(),
        };
        let array = Int64Array::new(numbers, value.array.logical_nulls());
        value.with(TermType::Of(Type::Integer), Arc::new(array))
    };
    super::exact::arithmetic(
        super::ast::Arithmetic::Minus,
        &numbered(left),
        &numbered(right),
        &mut 0,
    )
}

/// Adds a span to each date. Points in time move by the clocks of the time zone.
pub(super) fn shifted(value: &Value, span: Span, zone: &Zone) -> Result<Value> {
    let beyond = |day: Day| ValueError::BeyondCalendar { from: day, span };
    let array: ArrayRef = match dates(value) {
        Dates::Days(days, _) => {
            let mut failed = None;
            let shift = |day: i32| {
                let day = Day::clamped(day);
                span.after(day).unwrap_or_else(|_| {
                    failed = Some(day);
                    day
                })
            };
            let shifted = shift_valid(&days, shift);
            if let Some(day) = failed {
                return Err(beyond(day).into());
            }
            Arc::new(shifted)
        }
        Dates::Moments(moments) => {
            let instants = moments.timezone().is_some();
            let mut shifted = Vec::with_capacity(moments.len());
            for (row, &reading) in readings(value, zone).iter().enumerate() {
                let day = reading.div_euclid(MICROS_PER_DAY) as i32;
                if moments.is_null(row) {
                    shifted.push(0);
                    continue;
                }
                let day = span.after(Day::clamped(day))?;
                let reading =
                    i64::from(day.number()) * MICROS_PER_DAY + reading.rem_euclid(MICROS_PER_DAY);
                let micros = if instants { zone.instant(reading) } else { reading };
                shifted
                    .push(Moment::from_micros(micros).map(|_| micros).ok_or_else(|| beyond(day))?);
            }
            let array = TimestampMicrosecondArray::new(shifted.into(), moments.nulls().cloned());
            Arc::new(array.with_timezone_opt(moments.timezone()))
        }
        Dates::Missing(_) => value.array.clone(),
    };
    Ok(value.with(value.kind, array))
}

fn shift_valid(days: &Date32Array, mut shift: impl FnMut(i32) -> Day) -> Date32Array {
    let shifted = days.iter().map(|day| day.map_or(0, |day| shift(day).number())).collect();
    Date32Array::new(shifted, days.nulls().cloned())
}

/// Converts two dates to their common grain: a day to its month beside a month, a moment to its day
/// beside a day.
pub(super) fn comparable(left: &Value, right: &Value, zone: &Zone) -> Result<(Value, Value)> {
    match (left.kind, right.kind) {
        (one, other) if one == other => Ok((left.clone(), right.clone())),
        (TermType::Of(Type::Moment { .. }), TermType::Of(Type::Moment { .. })) => {
            // One is a point in time and the other a reading of the clock, so both become readings.
            let read = |value: &Value| {
                let readings = readings(value, zone);
                let array = TimestampMicrosecondArray::new(readings, value.array.logical_nulls());
                value.with(TermType::Of(Type::Moment { instant: false }), Arc::new(array))
            };
            Ok((read(left), read(right)))
        }
        _ => {
            let (one, other) = (dates(left).periods(), dates(right).periods());
            let periods = common_periods(one, other).unwrap_or(one);
            let at = |value: &Value| {
                let days = dates(value).day_numbers(zone).into_owned();
                let firsts = if dates(value).periods() == periods {
                    days
                } else {
                    of_days(&days, |day| periods.first_day(day).number())
                };
                let array = Date32Array::new(firsts.into(), value.array.logical_nulls());
                value.with(TermType::Of(Type::Date(periods)), Arc::new(array))
            };
            Ok((at(left), at(right)))
        }
    }
}

/// `date(year, month, day)`, and the number of rows in which this is not a date.
pub(super) fn dates_of(parts: &[ArrayRef]) -> (Date32Array, u64) {
    let [years, months, days] = [0, 1, 2].map(|part| parts[part].as_primitive::<Int64Type>());
    let mut no_such = 0;
    let array = (0..years.len())
        .map(|row| {
            if years.is_null(row) || months.is_null(row) || days.is_null(row) {
                return None;
            }
            let month_and_day =
                u32::try_from(months.value(row)).ok().zip(u32::try_from(days.value(row)).ok());
            let year = i32::try_from(years.value(row)).ok();
            let day = year
                .zip(month_and_day)
                .and_then(|(year, (month, day))| Day::from_ymd(year, month, day));
            no_such += u64::from(day.is_none());
            day.map(Day::number)
        })
        .collect();
    (array, no_such)
}
