//! Converts typed options: how to read files, output formats, and the as-of date.

use crate::arguments::AnswerFormat;
use jembric::{
    Error,
    calendar::{Day, Moment, Zone},
    io::{Format, Writing},
};
use std::path::Path;

/// Whether a result is shown as a table or written in a format.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Shown {
    AsTable,
    As(Writing),
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
