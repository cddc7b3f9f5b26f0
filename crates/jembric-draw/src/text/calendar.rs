//! A calendar in text: the months side by side, a day in two columns.

use super::{TextPicture, muted, of_series};
use crate::{
    content::{Content, DayCell, Up},
    time::weekdays,
};
use jembric_core::calendar::{Day, Grain, Month, Periods};
use ratatui_core::{buffer::Buffer, layout::Rect, style::Style};

/// The columns of a month with the room beside it, and its lines.
const WIDTH: u16 = 16;
const HEIGHT: u16 = 9;
/// From the least to the greatest value.
const SHADES: [&str; 4] = ["░░", "▒▒", "▓▓", "██"];

pub(super) fn draw(text: &mut TextPicture, content: &Content, days: &[DayCell], width: u16) {
    let ends = days.first().zip(days.last());
    let Some((first, last)) =
        ends.and_then(|(first, last)| Day::from_number(first.day).zip(Day::from_number(last.day)))
    else {
        return;
    };
    let months = (last.month_number() - first.month_number() + 1) as u16;
    let columns = (width / WIDTH).clamp(1, months);
    let height = months.div_ceil(columns) * HEIGHT;
    let mut buffer = Buffer::empty(Rect::new(0, 0, columns * WIDTH, height));
    for number in 0..months {
        let (left, top) = (number % columns * WIDTH, number / columns * HEIGHT);
        let month = first.month_number() + i32::from(number);
        block(&mut buffer, content, days, month, (left, top));
    }
    text.buffer(&buffer);
}

fn block(
    buffer: &mut Buffer,
    content: &Content,
    days: &[DayCell],
    month: i32,
    (left, top): (u16, u16),
) {
    let of_year = month.rem_euclid(12);
    let Some(first) = Day::from_ymd(month.div_euclid(12), of_year as u32 + 1, 1) else { return };
    let name = Month::ALL.get(of_year as usize).map_or("", |month| month.name());
    buffer.set_string(left, top, format!("{name} {:04}", month.div_euclid(12)), Style::new());
    for (column, letter) in (0..).zip(weekdays()) {
        buffer.set_string(left + column * 2, top + 1, letter, muted());
    }
    let last = Periods::from(Grain::Month).containing(first).last();
    let before = first.weekday().number() as i32 - 1;
    let from = days.partition_point(|cell| cell.day < first.number());
    let mut of_month = days[from..].iter().peekable();
    for day in first.number()..=last.number() {
        let place = day - first.number() + before;
        let (x, y) = (left + place as u16 % 7 * 2, top + 2 + place as u16 / 7);
        let (symbol, style) = match of_month.next_if(|cell| cell.day == day) {
            Some(cell) if cell.is_marked => ("()", of_series(0)),
            Some(cell) => (shade(cell.value, content.up), of_series(0)),
            None => ("· ", muted()),
        };
        buffer.set_string(x, y, symbol, style);
    }
}

fn shade(value: f64, up: Up) -> &'static str {
    let Up::Shades { low, high } = up else { return SHADES[0] };
    let share = if high > low { (value - low) / (high - low) } else { 0.5 };
    SHADES[((share * SHADES.len() as f64) as usize).min(SHADES.len() - 1)]
}
