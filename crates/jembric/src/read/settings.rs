//! How a file is read, as settings that can be written down.

use super::reading::Reading;
use crate::error::{Error, Result};
use jembric_core::calendar::notation::Order;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// How a file is read, as it stands in a routine or was typed; see [`Reading`].
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
#[non_exhaustive]
pub struct ReadingSettings {
    /// The format of a column, by its name.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub read: BTreeMap<String, String>,
    /// The first of the hundred years that two-digit years stand for.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub century: Option<i16>,
    /// Which comes first in dates with slashes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub date_order: Option<DateOrder>,
    /// Texts that mean "no value".
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub missing: Vec<String>,
    /// The character between cells, or `tab`.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub separator: Option<String>,
    /// The file's encoding.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
    /// Numbers are written `3,5`.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub decimal_comma: bool,
    /// The first line is a row.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_header: bool,
    /// Quotes are ordinary characters.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub no_quotes: bool,
    /// What a file may unpack to or stand for, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_unpacked: Option<u64>,
    /// How many columns a file may have.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub most_columns: Option<u64>,
}

/// Which comes first in dates with slashes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum DateOrder {
    /// The day.
    Dmy,
    /// The month.
    Mdy,
    /// Only dates that begin with the year are dates.
    Ymd,
}

impl ReadingSettings {
    /// The reading that they describe.
    ///
    /// Errors: a separator that is not one character.
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

/// The character between cells that a text names.
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
