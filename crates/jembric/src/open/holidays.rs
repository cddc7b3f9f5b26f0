//! Files of holidays, with one date on each line or in the first column of a table.

use crate::{
    Table,
    error::{Error, Result},
    read::reading::Reading,
};
use arrow_array::{cast::AsArray, types::Date32Type};
use jembric_core::calendar::{
    Day,
    notation::{Order, read},
};
use std::path::Path;

/// Reads the days of a file that has one date on each line or in its first column, with or without
/// a header.
///
/// Dates may have any of the known notations. Errors: a line without a date, or with an ambiguous
/// one; the message names file, line and text.
pub fn holidays(path: impl AsRef<Path>) -> Result<Vec<Day>> {
    holidays_of(&holidays_reading().file(path)?)
}

/// The name of the first column of a file that is read without a header.
const ONLY: &str = "c1";

/// How a table of holidays is read: as text, with or without a header.
pub fn holidays_reading() -> Reading {
    // A table with names of its own has its dates in the first column, which is then the only one
    // to be read.
    Reading::new().no_header().read(ONLY, "text").one_of_several().only([ONLY])
}

/// The days in a table that was read in this way; see [`holidays`].
pub fn holidays_of(table: &Table) -> Result<Vec<Day>> {
    let file = table.origin().map(|origin| origin.file().to_owned()).unwrap_or_default();
    let Some((name, column)) = table.into_iter().next() else { return Ok(Vec::new()) };
    if let Some(dates) = column.as_primitive_opt::<Date32Type>() {
        // A missing date is an error, as an empty line is.
        let day = |(row, day): (usize, Option<i32>)| {
            day.and_then(Day::from_number).ok_or_else(|| {
                bad_line(&file, table, row, None, "a date such as 2025-12-25".to_owned())
            })
        };
        return dates.iter().enumerate().map(day).collect();
    }
    let Some(cells) = column.as_string_view_opt() else {
        return Err(Error::Setting {
            setting: "holidays",
            value: format!("{file}: the first column, `{name}`, has no dates"),
            expected: "a table whose first column has dates".to_owned(),
        });
    };
    let mut days = Vec::new();
    for (row, text) in cells.iter().enumerate() {
        let written = text.and_then(|text| read(text.as_bytes()).ok());
        let both =
            written.map(|written| (written.day(Order::DayFirst), written.day(Order::MonthFirst)));
        match both {
            Some((Some(one), Some(other))) if one != other => {
                let expected = format!("an unambiguous date, such as {one} or {other}");
                return Err(bad_line(&file, table, row, text, expected));
            }
            Some((Some(day), _) | (None, Some(day))) => days.push(day),
            // A first line without a date is the header, unless it has a digit and so is a wrong
            // date.
            _ if row == 0
                && name == ONLY
                && !text.is_some_and(|text| text.contains(|c: char| c.is_ascii_digit())) => {}
            _ => {
                return Err(bad_line(
                    &file,
                    table,
                    row,
                    text,
                    "a date such as 2025-12-25".to_owned(),
                ));
            }
        }
    }
    Ok(days)
}

fn bad_line(file: &str, table: &Table, row: usize, text: Option<&str>, expected: String) -> Error {
    let place = table.place(row);
    Error::Setting {
        setting: "holidays",
        value: format!("{file}: {place} has `{}`", text.unwrap_or_default()),
        expected,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use std::io::Write;

    #[rstest]
    #[case("2025-12-25\n26.12.2025\n", Ok(2))]
    #[case("day,name\n2025-12-25,Christmas\n", Ok(1))]
    #[case("2025-12-25\n\n2025-12-25", Ok(2))]
    #[case("day\n", Ok(0))]
    #[case("day\n2025-12-25\nsoon\n", Err("line 3 has `soon`"))]
    #[case("2025-12-25\n2025-02-30\n", Err("line 2 has `2025-02-30`"))]
    #[case("2025-12-25\n03/04/2025\n", Err("line 2 has `03/04/2025`"))]
    #[case("2025-05-O1\n2025-12-25\n", Err("line 1 has `2025-05-O1`"))]
    #[case("day,name\n,Christmas\n", Err("line 2 has ``"))]
    fn a_date_a_line_or_an_error_that_names_the_line(
        #[case] text: &str,
        #[case] expected: std::result::Result<usize, &str>,
    ) {
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(text.as_bytes()).unwrap();
        match (holidays(file.path()), expected) {
            (Ok(days), Ok(count)) => assert_eq!(days.len(), count),
            (Err(error), Err(part)) => assert!(error.to_string().contains(part), "{error}"),
            (got, expected) => panic!("{got:?} instead of {expected:?}"),
        }
    }
}
