//! [`SuggestedReading`]: how a column could be read as dates or numbers, found from its cells.
//!
//! A suggestion is made only if it works: every cell of the column is then a date or a number, or
//! is marked as missing.

use crate::calendar::{Directives, Grain, loose_label};
use arrow_array::{Array, Int64Array, StringViewArray};
use std::collections::BTreeSet;

/// Cells on which a format is tried before it is tried on all of them.
const SAMPLE: usize = 200;
/// Different texts that are suggested to be marked as missing.
const MOST_MARKS: usize = 3;
/// Days since 1899-12-30 that are taken for dates: those from 1927 to 2119.
const SERIALS: std::ops::Range<i64> = 10_000..80_000;

/// How a column could be read, so that all of its cells can be used.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
#[non_exhaustive]
pub struct SuggestedReading {
    /// The format of its cells.
    pub format: Option<String>,
    /// The first of the hundred years that its years of two digits stand for.
    pub century: Option<i16>,
    /// The texts that mean that there is no value.
    pub missing: Vec<String>,
    /// Whether its numbers have a decimal comma.
    pub decimal_comma: bool,
}

impl SuggestedReading {
    /// For a column of texts of which fewer than half are dates in a notation that is found by
    /// itself: the format that most cells have.
    pub(super) fn of_dates(cells: &StringViewArray) -> Option<SuggestedReading> {
        let texts = || cells.iter().flatten();
        let read = |format: &Directives| {
            texts().take(SAMPLE).filter(|text| fits(format, text.trim())).count()
        };
        // Of formats that read equally many cells, the first counts.
        let century = century(texts().take(SAMPLE));
        let formats = formats().filter_map(|format| Directives::new(&format, Some(century)));
        let mut best: Option<(usize, Directives)> = None;
        for format in formats {
            let read = read(&format);
            if read > best.as_ref().map_or(0, |(most, _)| *most) {
                best = Some((read, format));
            }
        }
        let sample = texts().take(SAMPLE).count();
        let (_, format) = best.filter(|(read, _)| read * 2 > sample)?;
        Some(SuggestedReading {
            missing: marks(texts().filter(|text| !fits(&format, text.trim())))?,
            century: format.two_digit_years().then_some(century),
            format: Some(format.text().to_owned()),
            decimal_comma: false,
        })
    }

    /// For a column of whole numbers that are to be dates: `20250630`, `202506` or days since
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

    /// For a column of which these cells are not numbers.
    pub(crate) fn of_numbers<'a>(
        bad: impl Iterator<Item = &'a str> + Clone,
        good: impl Iterator<Item = &'a str>,
    ) -> Option<SuggestedReading> {
        let has_comma = |text: &str| {
            let parts = text.trim().split_once(',');
            parts.is_some_and(|(whole, part)| is_digits(whole.trim_start_matches('-')) && is_digits(part))
        };
        // With a decimal comma, a point would stand between groups of digits.
        let comma = bad.clone().all(has_comma) && !good.into_iter().any(|text| text.contains('.'));
        if comma {
            return Some(SuggestedReading { decimal_comma: true, ..SuggestedReading::default() });
        }
        Some(SuggestedReading { missing: marks(bad)?, ..SuggestedReading::default() })
    }

    /// For a column of dates of which these cells are none.
    pub(super) fn of_marks<'a>(bad: impl Iterator<Item = &'a str>) -> Option<SuggestedReading> {
        let missing = marks(bad).filter(|marks| !marks.is_empty())?;
        Some(SuggestedReading { missing, ..SuggestedReading::default() })
    }
}

fn is_digits(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit())
}

/// Whether a text is in a format. A year of two digits is not one of four.
fn fits(format: &Directives, text: &str) -> bool {
    let digits = text.split(|c: char| !c.is_ascii_digit()).map(str::len).max().unwrap_or(0);
    (format.two_digit_years() || digits >= 4) && format.reads(text.as_bytes())
}

/// The different texts, if they are few enough to be marked as missing, and can be listed between
/// commas.
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

/// The first of the hundred years for years of two digits: 1900 or 2000 if all of them are in one
/// half of a century, and 1950 if they are in both.
fn century<'a>(texts: impl Iterator<Item = &'a str>) -> i16 {
    // The last or first two digits of a date, whichever stand alone, are its year.
    let year = |text: &str| {
        let date = text.split_whitespace().next().unwrap_or_default();
        let numbers: Vec<&str> = date.split(|c: char| !c.is_ascii_digit()).collect();
        numbers.last().filter(|number| number.len() == 2).and_then(|year| year.parse::<u8>().ok())
    };
    let years: Vec<u8> = texts.filter_map(year).collect();
    let early = years.iter().any(|&year| year < 50);
    let late = years.iter().any(|&year| year >= 50);
    match (early, late) {
        (true, true) => 1950,
        (false, true) => 1900,
        _ => 2000,
    }
}

/// The formats that are tried, the more usual first.
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
