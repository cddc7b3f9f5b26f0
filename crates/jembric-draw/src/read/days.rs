//! Reads the days of a calendar.

use super::{Places, Reading};
use crate::{
    content::{Along, Content, DayCell, Marks, Up},
    kinds::Form,
    numbers::{Numbers, shown},
};
use jembric_core::{
    Error, Reason, Result,
    calendar::{Day, Grain, MICROS_PER_DAY, Periods},
};
use std::collections::BTreeMap;

/// The longest calendar: 20 years.
const MOST_MONTHS: i32 = 240;

/// The sum, the number of values and of rows, and whether a row was filled, for each day.
type Days = BTreeMap<i32, (f64, usize, usize, bool)>;

/// The cells of the days with a value.
fn cells_of(days: Days, name: &str) -> Vec<DayCell> {
    let cells = days.into_iter().filter(|(_, cell)| cell.1 > 0);
    let cell = |(day, (value, _, _, is_marked)): (i32, (f64, usize, usize, bool))| {
        let date = Day::from_number(day).map(|day| day.to_string()).unwrap_or_default();
        let filled = if is_marked { " (filled)" } else { "" };
        let title = format!("{name}, {date}: {}{filled}", shown(value));
        DayCell { day, value, is_marked, title }
    };
    cells.map(cell).collect()
}

pub(super) fn content(reading: &mut Reading<'_>) -> Result<Content> {
    let (table, context) = (reading.table, reading.context);
    let along = reading.chosen.along.clone();
    let places = super::places_of(table, along.as_ref().map(|column| column.place), context);
    let column = along.map(|along| along.name).unwrap_or_default();
    match &places {
        Places::Days(_, periods) if *periods != Periods::DAYS && periods.grain() != Grain::Hour => {
            let (grain, asked) = (periods.grain(), "days".to_owned());
            return Err(Error::TooFine { column, grain, requested: asked }.of_setting("along"));
        }
        Places::Numbers(_) | Places::Classes => {
            return Err(Error::NothingToDraw { setting: "along", needs: "a column of dates" });
        }
        Places::Moments(_, Some(zone)) => reading.rows_left_out.zone = Some(zone.to_string()),
        _ => {}
    }
    reading.set_aside(Reason::NoDate, places.missing(table.rows()));
    let empty = |reading: &Reading<'_>| {
        let axis = Along::Time(places.span_of(0, MICROS_PER_DAY));
        reading.nothing(Form::Calendar, axis, Up::Shades { low: 0.0, high: 1.0 })
    };
    reading.series = reading.groups(&[])?;
    let of = reading.chosen.of.first().cloned();
    let numbers = of.as_ref().map(|of| Numbers::from_array(&table.columns()[of.place]));
    let day = |row: usize| {
        let micros = match &places {
            Places::Moments(moments, Some(zone)) => zone.reading(moments.value(row)),
            _ => places.extent(row).0,
        };
        micros.div_euclid(MICROS_PER_DAY) as i32
    };
    let mut panels: Vec<Days> = vec![Days::new(); reading.panels.count()];
    let (mut missing, mut infinite) = (0, 0);
    for row in (0..table.rows()).filter(|&row| reading.is_drawn(row)) {
        let value = numbers.as_ref().map_or(1.0, |numbers| numbers.value(row));
        missing += usize::from(value.is_nan());
        infinite += usize::from(value.is_infinite());
        let cell = panels[reading.panels.group(row)].entry(day(row)).or_default();
        if value.is_finite() {
            (cell.0, cell.1) = (cell.0 + value, cell.1 + 1);
        }
        cell.2 += 1;
        cell.3 |= reading.is_marked(row);
    }
    if numbers.is_some() {
        let several = panels.iter().flat_map(BTreeMap::values).map(|cell| cell.2);
        let several = several.filter(|rows| *rows > 1).sum();
        reading.note("rows added up with others of their day", several);
    }
    reading.note("missing values, days left empty", missing);
    reading.note("infinite values, days left empty", infinite);
    let days = panels.iter().flat_map(BTreeMap::keys);
    let (Some(first), Some(last)) = (days.clone().min().copied(), days.max().copied()) else {
        return Ok(empty(reading));
    };
    let months = |number: i32| Day::from_number(number).map_or(0, Day::month_number);
    let found = months(last) - months(first) + 1;
    if found > MOST_MONTHS {
        return Err(Error::TooMuchToDraw {
            found: format!("{} months of a calendar", jembric_core::grouped(found)),
            most: MOST_MONTHS as u64,
            apart: None,
        });
    }
    let name = of.map_or_else(|| "rows".to_owned(), |of| of.name);
    let cells: Vec<Vec<DayCell>> = panels.into_iter().map(|days| cells_of(days, &name)).collect();
    let values = cells.iter().flatten().map(|cell| cell.value);
    let (low, high) = values.fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| {
        (low.min(value), high.max(value))
    });
    let micros = |day: i32| i64::from(day) * MICROS_PER_DAY;
    let span = crate::time::Span::new(micros(first), micros(last + 1), None, Some(Periods::DAYS));
    let up = Up::Shades { low, high };
    let mut content = reading.nothing(Form::Calendar, Along::Time(span), up);
    content.up_name = name;
    content.series_of = String::new();
    for (panel, cells) in content.panels.iter_mut().zip(cells) {
        panel.marks = Marks::Days(cells);
    }
    Ok(content)
}
