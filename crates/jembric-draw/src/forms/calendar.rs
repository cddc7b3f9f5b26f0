//! A calendar: a block for each month, a row for each week, a cell for each day.

use crate::{
    canvas::{Anchor, Canvas},
    content::{Content, DayCell, Marks, Panel, Up},
    font,
    palette::SHADES,
    plot::Room,
    time::weekdays,
};
use jembric_core::calendar::{Day, Grain, Month, Periods};

/// The least and the greatest side of a day's cell, and the room between months, in pixels.
const SIDES: (f64, f64) = (11.0, 36.0);
const APART: f64 = 14.0;
/// The room above the days of a month: its name, and the weekdays.
const HEAD: f64 = 30.0;
/// The room above the months of a small calendar: its name.
const NAME: f64 = 20.0;

/// Draws a calendar for each panel, and returns where they end.
pub(crate) fn draw(body: &mut Canvas, content: &Content, room: Room) -> f64 {
    let days = content.panels.iter().flat_map(|panel| cells(panel).iter().map(|cell| cell.day));
    let (Some(first), Some(last)) = (days.clone().min(), days.max()) else { return room.top };
    let month = |number: i32| Day::from_number(number).map_or(0, Day::month_number);
    let months = (month(last) - month(first) + 1) as usize;
    let side = side(content.panels.len(), months, &room);
    let width = 7.0 * side + APART;
    let columns = (((room.width() + APART) / width).floor() as usize).clamp(1, months);
    let height = HEAD + 6.0 * side + APART;
    let mut top = room.top;
    for panel in &content.panels {
        body.open("panel");
        if content.panels.len() > 1 {
            let shown = font::bold_shortened(&panel.name, 12.0, room.width());
            body.text("ink name", (room.left, top + 12.0), Anchor::Start, &shown, &panel.name);
            top += NAME;
        }
        for number in 0..months {
            let left = room.left + (number % columns) as f64 * width;
            let top = top + (number / columns) as f64 * height;
            block(body, content, cells(panel), month(first) + number as i32, side, (left, top));
        }
        top += months.div_ceil(columns) as f64 * height;
        body.close();
    }
    top
}

fn cells(panel: &Panel) -> &[DayCell] {
    match &panel.marks {
        Marks::Days(days) => days,
        _ => &[],
    }
}

/// The largest side of a cell with which all months fit into the room, if there is one.
fn side(panels: usize, months: usize, room: &Room) -> f64 {
    let fits = |side: f64| {
        let columns = ((room.width() + APART) / (7.0 * side + APART)).floor().max(1.0);
        let columns = columns.min(months as f64);
        let lines = (months as f64 / columns).ceil();
        let height = lines * (HEAD + 6.0 * side + APART) + NAME;
        height * panels as f64 <= room.bottom - room.top
    };
    let (least, most) = SIDES;
    let mut side = most;
    while side > least && !fits(side) {
        side -= 1.0;
    }
    // The smallest picture is narrower than a month.
    side.min((room.width() / 7.0).max(4.0))
}

/// Draws a month.
fn block(
    body: &mut Canvas,
    content: &Content,
    cells: &[DayCell],
    month: i32,
    side: f64,
    (left, top): (f64, f64),
) {
    let year = month.div_euclid(12);
    let Some(first) = Day::from_ymd(year, month.rem_euclid(12) as u32 + 1, 1) else { return };
    let name = Month::ALL.get(month.rem_euclid(12) as usize).map_or("", |month| month.name());
    let title = format!("{name} {year:04}");
    // The year must stay, so a long name of a month gives way.
    let short = format!("{} {year:04}", name.get(..3).unwrap_or(name));
    let fits = font::width(&title, 11.0) <= 7.0 * side;
    let shown = font::shortened(if fits { &title } else { &short }, 11.0, 7.0 * side);
    body.text("ink", (left, top + 11.0), Anchor::Start, &shown, &title);
    for (column, letter) in weekdays().enumerate() {
        let x = left + (column as f64 + 0.5) * side;
        body.text("muted", (x, top + 25.0), Anchor::Middle, letter, "");
    }
    let last = Periods::from(Grain::Month).containing(first).last();
    // The cells are in order of days.
    let from = cells.partition_point(|cell| cell.day < first.number());
    let mut of_month = cells[from..].iter().peekable();
    for day in first.number()..=last.number() {
        let Some(date) = Day::from_number(day) else { continue };
        let weekday = date.weekday().number() as i32 - 1;
        let before = first.weekday().number() as i32 - 1;
        let week = (day - first.number() + before) / 7;
        let x = left + f64::from(weekday) * side;
        let y = top + HEAD + f64::from(week) * side;
        let corners = ((x + 0.75, y + 0.75), (x + side - 0.75, y + side - 0.75));
        match of_month.next_if(|cell| cell.day == day) {
            Some(cell) => {
                let shade = shade(cell.value, content.up);
                let class = if cell.is_marked {
                    format!("hollow s{shade} r{shade}")
                } else {
                    format!("s{shade}")
                };
                body.rectangle(&class, corners.0, corners.1, "", &cell.title);
            }
            None => {
                let title = format!("{date}: no value");
                let inset = side / 2.0 - 1.5;
                let small = ((x + inset, y + inset), (x + side - inset, y + side - inset));
                body.rectangle("blank", small.0, small.1, "", &title);
            }
        }
    }
}

/// The shade of a value: the range of values is divided into equal parts.
fn shade(value: f64, up: Up) -> usize {
    let Up::Shades { low, high } = up else { return 0 };
    if high > low {
        (((value - low) / (high - low) * SHADES as f64) as usize).min(SHADES - 1)
    } else {
        SHADES / 2
    }
}
