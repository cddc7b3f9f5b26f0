//! [`SuggestedReading`]: how a column could be read as dates or numbers, found from its cells.
//!
//! A suggestion is made only if it works: every cell of the column then is a date or a number, or
//! is marked as missing.

use crate::{
    calendar::{Directives, Grain, loose_label},
    error::SuggestedReading,
};
use arrow_array::{Array, Int64Array, StringViewArray};
use std::collections::BTreeSet;

/// The cells that a format is tried on first.
const SAMPLE: usize = 200;
/// The most texts that a suggestion marks as missing.
const MOST_MARKS: usize = 3;
/// Whole numbers that may be days since 1899-12-30: those of the years 1927 to 2119.
const SERIALS: std::ops::Range<i64> = 10_000..80_000;

impl SuggestedReading {
    /// The format that most cells have, for a column of texts of which fewer than half are in a
    /// known notation.
    pub(super) fn of_dates(cells: &StringViewArray) -> Option<SuggestedReading> {
        let texts = || cells.iter().flatten();
        let all = texts().take(SAMPLE).count();
        let sample: Vec<Cell<'_>> = texts().take(SAMPLE).filter_map(Cell::new).collect();
        // The first of the formats that read the most cells.
        let mut best: Option<Directives> = None;
        let mut needed = all / 2 + 1;
        for format in formats() {
            if needed > sample.len() {
                break;
            }
            // Whether weekdays are right depends on the century.
            let centuries: &[i16] = if format.contains("%y") { &CENTURIES } else { &[0] };
            for &century in centuries {
                if let Some(format) = Directives::new(&format, Some(century))
                    && let Some(read) = read_by(&format, &sample, needed)
                {
                    needed = read + 1;
                    best = Some(format);
                }
            }
        }
        let (mut format, most) = (best?, needed - 1);
        if format.two_digit_years() {
            let years = texts().take(SAMPLE).filter_map(|text| format.day(text.trim().as_bytes()));
            let usual = century(years.map(|day| day.ymd().0.rem_euclid(100)));
            let usual = Directives::new(format.text(), Some(usual))?;
            format = if read_by(&usual, &sample, most).is_some() { usual } else { format };
        }
        Some(SuggestedReading {
            missing: marks(
                texts().filter(|text| !Cell::new(text).is_some_and(|c| c.fits(&format))),
            )?,
            century: format.century(),
            format: Some(format.text().to_owned()),
            decimal_comma: false,
        })
    }

    /// The format of whole numbers that are used as dates: `20250630`, `202506`, or days since
    /// 1899-12-30.
    pub(super) fn of_whole_numbers(numbers: &Int64Array) -> Option<SuggestedReading> {
        let all = |is: &dyn Fn(i64) -> bool| {
            numbers.null_count() < numbers.len() && numbers.iter().flatten().all(is)
        };
        let compact = Directives::new("%Y%m%d", None)?;
        let format = if all(&|n| compact.reads(n.to_string().as_bytes())) {
            "%Y%m%d"
        } else if all(&|n| loose_label(n.to_string().as_bytes(), Grain::Month).is_some()) {
            "month"
        } else if all(&|n| SERIALS.contains(&n)) {
            "serial"
        } else {
            return None;
        };
        Some(SuggestedReading { format: Some(format.to_owned()), ..SuggestedReading::default() })
    }

    /// How to read a column with these cells that are not numbers.
    pub(crate) fn of_numbers<'a>(
        bad: impl Iterator<Item = &'a str> + Clone,
        good: impl Iterator<Item = &'a str>,
    ) -> Option<SuggestedReading> {
        let has_comma = |text: &str| {
            let parts = text.trim().split_once(',');
            parts.is_some_and(|(whole, part)| {
                is_digits(whole.trim_start_matches('-')) && is_digits(part)
            })
        };
        // If the comma is a decimal one, a point could only group digits, and no cell may have one.
        let comma = bad.clone().all(has_comma) && !good.into_iter().any(|text| text.contains('.'));
        if comma {
            return Some(SuggestedReading { decimal_comma: true, ..SuggestedReading::default() });
        }
        Some(SuggestedReading { missing: marks(bad)?, ..SuggestedReading::default() })
    }

    /// How to read a column of dates with these cells that are not dates.
    pub(super) fn of_marks<'a>(bad: impl Iterator<Item = &'a str>) -> Option<SuggestedReading> {
        let missing = marks(bad).filter(|marks| !marks.is_empty())?;
        Some(SuggestedReading { missing, ..SuggestedReading::default() })
    }
}

fn is_digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}

/// A cell that may be a date.
struct Cell<'a> {
    text: &'a str,
    /// The length of its longest run of digits.
    digits: usize,
}

impl<'a> Cell<'a> {
    /// None if no format can match it: hundreds are tried, so most cells are not tried with any.
    fn new(text: &'a str) -> Option<Cell<'a>> {
        // No date of these formats is longer.
        const LONGEST: usize = 64;
        let text = text.trim();
        let runs = text.as_bytes().split(|byte| !byte.is_ascii_digit());
        let digits = runs.map(<[u8]>::len).max().unwrap_or(0);
        (text.len() <= LONGEST && digits > 0).then_some(Cell { text, digits })
    }

    /// Whether it matches a format. A year of two digits does not match one of four.
    fn fits(&self, format: &Directives) -> bool {
        (format.two_digit_years() || self.digits >= 4) && format.reads(self.text.as_bytes())
    }
}

/// The number of cells that match a format, if there are this many.
fn read_by(format: &Directives, cells: &[Cell<'_>], needed: usize) -> Option<usize> {
    let mut misses_left = cells.len().checked_sub(needed)?;
    for cell in cells {
        if !cell.fits(format) {
            misses_left = misses_left.checked_sub(1)?;
        }
    }
    Some(needed + misses_left)
}

/// The distinct texts, if they are few enough to be marked as missing and contain no comma.
fn marks<'a>(texts: impl Iterator<Item = &'a str>) -> Option<Vec<String>> {
    let mut marks = BTreeSet::new();
    for text in texts {
        let text = text.trim();
        if marks.insert(text) && marks.len() > MOST_MARKS || text.contains(',') || text.len() > 40 {
            return None;
        }
    }
    Some(marks.into_iter().map(str::to_owned).collect())
}

/// The centuries to try, the more common first.
const CENTURIES: [i16; 3] = [2000, 1900, 1950];

/// The usual century of two-digit years: 1900 if all are from 50 on, 2000 if all are below 50, and
/// 1950 if there are both.
fn century(years: impl Iterator<Item = i32>) -> i16 {
    let (mut early, mut late) = (false, false);
    for year in years {
        early |= year < 50;
        late |= year >= 50;
    }
    match (early, late) {
        (true, true) => 1950,
        (false, true) => 1900,
        _ => 2000,
    }
}

/// The formats to try, the more common first.
fn formats() -> impl Iterator<Item = String> {
    let with_marks = |order: [&'static str; 3]| {
        ["/", ".", "-", " "].into_iter().map(move |mark| order.join(mark))
    };
    let orders = [
        ["%d", "%m", "%Y"],
        ["%m", "%d", "%Y"],
        ["%Y", "%m", "%d"],
        ["%d", "%m", "%y"],
        ["%m", "%d", "%y"],
        ["%y", "%m", "%d"],
        ["%d", "%b", "%Y"],
        ["%d", "%b", "%y"],
        ["%d", "%B", "%Y"],
        ["%d", "%B", "%y"],
        ["%b", "%d", "%Y"],
        ["%Y", "%b", "%d"],
    ];
    let plain = ["%b %d, %Y", "%B %d, %Y", "%d. %B %Y", "%d. %b %Y", "%Y%m%d", "%d%m%Y", "%d%b%Y"];
    let dates: Vec<String> = orders
        .into_iter()
        .flat_map(with_marks)
        .chain(plain.into_iter().map(str::to_owned))
        .collect();
    let times = ["", " %H:%M", " %H:%M:%S", " %I:%M %p", " %I:%M:%S %p", "T%H:%M:%S", " %H.%M"];
    let weekdays = ["", "%a, ", "%a ", "%A, ", "%A "];
    weekdays.into_iter().flat_map(move |weekday| {
        let dates = dates.clone();
        dates.into_iter().flat_map(move |date| {
            times.into_iter().map(move |time| format!("{weekday}{date}{time}"))
        })
    })
}

#[cfg(test)]
mod tests;
