//! The settings for reading a file, which can be serialized.

use super::reading::Reading;
use crate::error::{Error, Result};
use jembric_core::calendar::notation::Order;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// The settings for reading a file, as in a routine or on the command line; see [`Reading`].
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ReadingSettings {
    /// The format of each column, by its name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub read: BTreeMap<String, String>,
    /// The first of the hundred years for two-digit years.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub century: Option<i16>,
    /// The order of day and month in dates with slashes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date_order: Option<DateOrder>,
    /// The texts that mean a missing value.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<String>,
    /// The separator, or `tab`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub separator: Option<String>,
    /// The encoding.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// Whether numbers have a decimal comma.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub decimal_comma: bool,
    /// Whether the first line is data.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_header: bool,
    /// Whether quotes are ordinary characters.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_quotes: bool,
    /// The query that is read from a database, or the file of one as `@overdue.sql`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// The column by whose ranges the rows of a PostgreSQL database are shared out to several
    /// processes, and in whose order they are read.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub by_ranges_of: Option<String>,
    /// The limit on what the file may unpack to or need in memory, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_unpacked: Option<u64>,
    /// The limit on columns.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_columns: Option<u64>,
}

/// The order of day and month in dates with slashes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    /// The day first.
    Dmy,
    /// The month first.
    Mdy,
    /// Only dates that begin with the year are dates.
    Ymd,
}

impl ReadingSettings {
    /// The names of the settings in a routine.
    pub(crate) const NAMES: [&str; 13] = [
        "read",
        "century",
        "date-order",
        "missing",
        "separator",
        "encoding",
        "decimal-comma",
        "no-header",
        "no-quotes",
        "query",
        "by-ranges-of",
        "most-unpacked",
        "most-columns",
    ];

    /// Converts the settings to a reading.
    ///
    /// Errors: the separator is not one character.
    pub fn reading(&self) -> Result<Reading> {
        let mut reading = Reading::new()
            .missing(self.missing.iter().cloned())
            .decimal_comma(self.decimal_comma)
            .no_header(self.no_header)
            .no_quotes(self.no_quotes);
        for (column, format) in &self.read {
            reading = reading.read(column, format);
        }
        if let Some(century) = self.century {
            reading = reading.century(century);
        }
        if let Some(text) = &self.separator {
            reading = reading.separator(separator(text)?);
        }
        if let Some(encoding) = &self.encoding {
            reading = reading.encoding(encoding);
        }
        if let Some(query) = &self.query {
            reading = reading.query(query);
        }
        if let Some(column) = &self.by_ranges_of {
            reading = reading.by_ranges_of(column);
        }
        if let Some(most) = self.most_unpacked {
            reading = reading.most_unpacked(most);
        }
        if let Some(most) = self.most_columns {
            reading = reading.most_columns(most);
        }
        Ok(match self.date_order {
            Some(DateOrder::Dmy) => reading.date_order(Order::DayFirst),
            Some(DateOrder::Mdy) => reading.date_order(Order::MonthFirst),
            Some(DateOrder::Ymd) => reading.year_first_only(true),
            None => reading,
        })
    }
}

/// Parses a separator.
fn separator(text: &str) -> Result<u8> {
    match text.as_bytes() {
        b"tab" | b"\\t" | b"\t" => Ok(b'\t'),
        [byte] if byte.is_ascii() && !matches!(byte, b'"' | b'\n' | b'\r') => Ok(*byte),
        _ => Err(Error::Setting {
            setting: "separator",
            value: format!("`{text}`"),
            expected: "one character such as ; or |, or the word tab".to_owned(),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_setting_is_named() {
        let unknown = serde_json::json!({ "x": 1 });
        let error = serde_json::from_value::<ReadingSettings>(unknown).unwrap_err().to_string();
        let names: Vec<&str> = error.split('`').skip(3).step_by(2).collect();
        assert_eq!(names, ReadingSettings::NAMES, "{error}");
    }
}
