//! Converts typed options: how to read files, output formats, and the as-of date.

use crate::{
    Failure,
    arguments::{AnswerFormat, DateOrder, ReadArguments},
};
use jembric::{
    Error,
    calendar::{Day, Moment, Zone},
    io::{self, Format, ReadingSettings, Writing},
};
use std::path::Path;

/// Whether a result is shown as a table or written in a format.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shown {
    AsTable,
    As(Writing),
}

impl ReadArguments {
    /// The settings for reading, in the form of a routine.
    pub(crate) fn settings(self) -> Result<ReadingSettings, Failure> {
        let mut settings = ReadingSettings::default();
        for text in &self.read {
            let (column, format) = text.rsplit_once('=').ok_or_else(|| Error::Setting {
                setting: "read",
                value: format!("`{text}`"),
                expected: "a column and its format, such as `day=%d.%m.%Y`".to_owned(),
            })?;
            settings.read.insert(column.to_owned(), format.to_owned());
        }
        settings.date_order = self.date_order.map(|order| match order {
            DateOrder::Dmy => io::DateOrder::Dmy,
            DateOrder::Mdy => io::DateOrder::Mdy,
            DateOrder::Ymd => io::DateOrder::Ymd,
        });
        settings.century = self.century;
        settings.missing = self.missing;
        settings.separator = self.separator;
        settings.encoding = self.encoding;
        settings.decimal_comma = self.decimal_comma;
        settings.no_header = self.no_header;
        settings.no_quotes = self.no_quotes;
        settings.by_ranges_of = self.by_ranges_of;
        settings.most_unpacked = self.most_unpacked;
        settings.most_columns = self.most_columns;
        // The text is part of the steps, so that a saved routine has it as well.
        settings.query =
            match self.query.as_deref().map(|query| (query.strip_prefix('@'), query)) {
                None => None,
                Some((None, query)) => Some(query.to_owned()),
                Some((Some(file), _)) => Some(std::fs::read_to_string(file).map_err(|source| {
                    Error::Read { file: file.to_owned(), source, nearest: None }
                })?),
            };
        Ok(settings)
    }
}

impl Shown {
    /// The stated format, else the one of the file extension, else a table on a terminal and CSV in
    /// a pipe.
    pub(crate) fn choose(
        said: Option<AnswerFormat>,
        file: Option<&Path>,
        is_terminal: bool,
    ) -> jembric::Result<Shown> {
        Ok(match (said, file) {
            (Some(AnswerFormat::Table), _) => Shown::AsTable,
            (Some(AnswerFormat::Csv), _) => Shown::As(Writing::new()),
            (Some(AnswerFormat::Jsonl), _) => Shown::As(Writing::new().format(Format::JsonLines)),
            (Some(AnswerFormat::Markdown), _) => Shown::As(Writing::new().format(Format::Markdown)),
            (Some(AnswerFormat::Parquet), _) => Shown::As(Writing::new().format(Format::Parquet)),
            // Without a file the result goes through a pipe, which needs the streaming format.
            (Some(AnswerFormat::Arrow), None) => {
                Shown::As(Writing::new().format(Format::ArrowStream))
            }
            (Some(AnswerFormat::Arrow), Some(_)) => Shown::As(Writing::new().format(Format::Arrow)),
            (Some(AnswerFormat::Svg | AnswerFormat::Png | AnswerFormat::Text), _) => {
                return Err(Error::Setting {
                    setting: "format",
                    value: "a format of pictures, but the last step does not draw".to_owned(),
                    expected: "a format of tables, or a last step that draws: + draw".to_owned(),
                });
            }
            (Some(AnswerFormat::Xlsx), _) => Shown::As(Writing::new().format(Format::Xlsx)),
            (None, Some(file)) => Shown::As(Writing::for_path(file)?),
            (None, None) if is_terminal => Shown::AsTable,
            (None, None) => Shown::As(Writing::new()),
        })
    }
}

/// Today's date, in a time zone or in that of the machine.
pub fn today(zone: Option<&Zone>) -> Day {
    let now = jiff::Timestamp::now();
    let here = || {
        let date = now.to_zoned_datetime(jiff::tz::TimeZone::system()).date();
        Day::from_ymd(date.year().into(), date.month() as u32, date.day() as u32)
    };
    let day = match zone {
        Some(zone) => Moment::from_micros(zone.reading(now.as_microsecond())).map(Moment::day),
        None => here(),
    };
    day.unwrap_or(Day::MIN)
}
