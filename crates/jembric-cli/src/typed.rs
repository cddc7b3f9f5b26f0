//! From what was typed to what was meant: readings, formats and the as-of date.

use crate::{
    Failure,
    arguments::{AnswerFormat, DateOrder, ReadArguments},
};
use jembric::{
    Error, Table,
    calendar::{AsOf, Day},
    io::{Format, Order, Reading},
};
use std::path::Path;

/// How a table is shown or written.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shown {
    AsTable,
    As(Format),
}

impl ReadArguments {
    pub(crate) fn reading(&self) -> Result<Reading, Failure> {
        let mut reading = Reading::new()
            .missing(self.missing.iter().cloned())
            .decimal_comma(self.decimal_comma)
            .no_header(self.no_header)
            .no_quotes(self.no_quotes);
        for text in &self.read {
            let (column, format) = text.rsplit_once('=').ok_or_else(|| Error::Setting {
                setting: "read",
                value: format!("`{text}`"),
                expected: "a column and its format, such as `day=%d.%m.%Y`".to_owned(),
            })?;
            reading = reading.read(column, format);
        }
        if let Some(century) = self.century {
            reading = reading.century(century);
        }
        if let Some(separator) = self.separator {
            reading = reading.separator(separator);
        }
        if let Some(encoding) = &self.encoding {
            reading = reading.encoding(encoding);
        }
        Ok(match self.date_order {
            Some(DateOrder::Dmy) => reading.date_order(Order::DayFirst),
            Some(DateOrder::Mdy) => reading.date_order(Order::MonthFirst),
            Some(DateOrder::Ymd) => reading.year_first_only(true),
            None => reading,
        })
    }
}

impl Shown {
    /// What was said outright, else what a file's ending tells, else a table for a person and CSV for a program.
    pub(crate) fn of(
        said: Option<AnswerFormat>,
        file: Option<&Path>,
        is_terminal: bool,
    ) -> jembric::Result<Shown> {
        Ok(match (said, file) {
            (Some(AnswerFormat::Table), _) => Shown::AsTable,
            (Some(AnswerFormat::Csv), _) => Shown::As(Format::Csv),
            (Some(AnswerFormat::Jsonl), _) => Shown::As(Format::JsonLines),
            (Some(AnswerFormat::Markdown), _) => Shown::As(Format::Markdown),
            (None, Some(file)) => Shown::As(Format::of(file)?),
            (None, None) if is_terminal => Shown::AsTable,
            (None, None) => Shown::As(Format::Csv),
        })
    }
}

/// The day that an as-of date means, given the clock's day and the table that is asked about.
pub(crate) fn as_of(text: &str, today: Day, table: &Table) -> jembric::Result<Day> {
    Ok(text.parse::<AsOf>()?.resolve(today, |column| table.newest(column))?)
}

/// The machine's day, in its own time zone.
pub(crate) fn today() -> Day {
    let date = jiff::ZonedDateTime::now().date();
    Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32).unwrap_or(Day::MIN)
}
