//! From what was typed to what was meant: readings, formats and the as-of date.

use crate::{
    Failure,
    arguments::{AnswerArguments, AnswerFormat, DateOrder, ReadArguments},
};
use jembric::{
    Context, Error, Table,
    calendar::{AsOf, Day, Moment, Zone},
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

/// Which day a chain of steps speaks of, and in which zone days are cut.
pub(crate) struct Asked {
    as_of: Option<AsOf>,
    zone: Option<Zone>,
    today: Day,
}

impl AnswerArguments {
    /// What was said of the as-of date and the zone, with the clock's day in that zone, or else the machine's.
    pub(crate) fn asked(&self) -> jembric::Result<Asked> {
        let zone = self.zone.as_deref().map(str::parse::<Zone>).transpose()?;
        let as_of = self.as_of.as_deref().map(str::parse::<AsOf>).transpose()?;
        Ok(Asked { as_of, today: today(zone.as_ref()), zone })
    }
}

impl Asked {
    /// What is known before any data is read.
    pub(crate) fn context(&self) -> jembric::Result<Context> {
        let context = Context::new().zone(self.zone.clone().unwrap_or_default()).today(self.today);
        Ok(match &self.as_of {
            None => context,
            Some(as_of) if as_of.needs_data() => context.as_of_follows(),
            Some(as_of) => context.as_of(as_of.resolve(self.today, |_| Ok(self.today))?),
        })
    }

    /// What is known once the first table is read.
    pub(crate) fn context_with(&self, context: Context, table: Option<&Table>) -> jembric::Result<Context> {
        match (&self.as_of, table) {
            (Some(as_of), Some(table)) if as_of.needs_data() => {
                let zone = context.zone.clone();
                Ok(context.as_of(as_of.resolve(self.today, |column| table.newest(column, &zone))?))
            }
            (Some(as_of), None) if as_of.needs_data() => Err(Error::Setting {
                setting: "as-of",
                value: format!("`{as_of}`, where no file is read"),
                expected: "a date or `today`".to_owned(),
            }),
            _ => Ok(context),
        }
    }
}

/// The day that the clock shows, in a zone or in the machine's own.
fn today(zone: Option<&Zone>) -> Day {
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
