//! Settings as they are given in a routine, on the command line or in a file: names with values,
//! which become the fields of an operation's struct.
//!
//! All interfaces use [`GivenSettings`], so that each accepts and refuses the same values and
//! states the same facts. The structs derive [`Settings`] with `jembric_derive::Settings`.

#[doc(hidden)]
pub use crate::error::Result;
use crate::{calendar::Day, error::Error, message::nearest};
use serde::{Deserialize, Deserializer, Serialize, Serializer, de, ser::SerializeMap};
use std::{collections::BTreeMap, fmt};

/// A struct of settings.
pub trait Settings: Sized {
    /// Reads the settings from the given names and values.
    ///
    /// Errors: an unknown name; a required setting is missing; a value is invalid. Each error names
    /// its setting.
    fn from_given(given: &GivenSettings) -> Result<Self>;

    /// Checks the ranges of all numbers.
    fn check_ranges(&self) -> Result<()>;
}

/// The description of a setting, from the field of the struct.
#[derive(Clone, Copy, Debug)]
#[non_exhaustive]
pub struct Setting {
    /// The name, with hyphens.
    pub name: &'static str,
    /// The values it takes.
    pub takes: Takes,
    /// Whether it is required.
    pub required: bool,
    /// The least number that it accepts, for numbers.
    pub least: u64,
    /// What it does, in one sentence. Other settings are named in backticks.
    pub help: &'static str,
    /// The default, as text.
    pub default: Option<&'static str>,
}

impl Setting {
    /// For the derive macro.
    #[doc(hidden)]
    pub const fn new(
        name: &'static str,
        takes: Takes,
        required: bool,
        least: u64,
        help: &'static str,
        default: Option<&'static str>,
    ) -> Setting {
        Setting { name, takes, required, least, help, default }
    }
}

/// The kind of values of a [`Setting`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub enum Takes {
    /// The name of a column.
    Column,
    /// The names of several columns.
    Columns,
    /// The name of a new column.
    Name,
    /// A whole number, not less than the setting's least.
    Number,
    /// One of these words.
    OneOf(&'static [&'static str]),
    /// A flag, which is set or not.
    Yes,
    /// A text of some kind, which this word stands for: a date, a span, a range.
    Text(&'static str),
    /// Whole numbers.
    Numbers,
    /// Texts of some kind, which this word stands for.
    Texts(&'static str),
    /// The days in a file of dates.
    Days,
    /// The entities in the columns of a file.
    Entities,
    /// The formats of columns, by their names.
    Formats,
    /// An expression. On the command line it is positional.
    Expression,
    /// Several texts, which this word stands for. On the command line they are positional.
    Several(&'static str),
    /// A list with commas, which this word stands for. On the command line it is positional.
    List(&'static str),
}

/// A given value.
#[derive(Clone, Debug, PartialEq)]
pub enum Given {
    /// A missing value in a list.
    Nothing,
    /// Yes or no.
    Truth(bool),
    /// A whole number.
    Number(i64),
    /// Any other value, as text.
    Text(String),
    /// Several values.
    List(Vec<Given>),
    /// Values by name.
    Map(BTreeMap<String, Given>),
}

/// Given settings, by name.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct GivenSettings(BTreeMap<String, Given>);

impl GivenSettings {
    /// Sets a value.
    pub fn insert(&mut self, name: impl Into<String>, value: impl Into<Given>) {
        self.0.insert(name.into(), value.into());
    }

    /// The value of a setting.
    pub fn get(&self, name: &str) -> Option<&Given> {
        self.0.get(name)
    }

    /// The settings and their values, in the order of their names.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Given)> {
        self.0.iter().map(|(name, value)| (name.as_str(), value))
    }

    /// Errors: a name is not one of these settings, or a required setting is missing.
    #[doc(hidden)]
    pub fn expect_known(&self, operation: &str, settings: &[Setting]) -> Result<()> {
        if let Some(name) =
            self.0.keys().find(|name| settings.iter().all(|known| known.name != **name))
        {
            let names = || settings.iter().map(|known| known.name);
            return Err(Error::NoSuchSetting {
                operation: operation.to_owned(),
                setting: name.clone(),
                nearest: nearest(name, names()),
                settings: names().map(str::to_owned).collect(),
            });
        }
        match settings.iter().find(|setting| setting.required && !self.0.contains_key(setting.name))
        {
            Some(setting) => refused_value("not given".to_owned(), setting),
            None => Ok(()),
        }
    }

    /// The value of a setting in its type, if it was given.
    #[doc(hidden)]
    pub fn value<T: FromGiven>(&self, setting: &Setting) -> Result<Option<T>> {
        let given = self.0.get(setting.name).filter(|given| **given != Given::Nothing);
        given
            .map(|given| {
                T::from_given(given, setting).map_err(|error| error.of_setting(setting.name))
            })
            .transpose()
    }
}

/// A type for the field of a setting.
#[doc(hidden)]
pub trait FromGiven: Sized {
    /// Reads the value. The error need not name the setting.
    fn from_given(given: &Given, setting: &Setting) -> Result<Self>;
}

/// The error for an invalid value of a setting.
#[doc(hidden)]
pub fn refused<T>(given: &Given, setting: &Setting) -> Result<T> {
    let value = match given {
        Given::Text(text) => format!("`{}`", crate::message::shortened(text)),
        other => crate::message::shortened(&other.to_string()),
    };
    refused_value(value, setting)
}

fn refused_value<T>(value: String, setting: &Setting) -> Result<T> {
    Err(Error::Setting {
        setting: setting.name,
        value,
        expected: TakesInWords(setting).to_string().into(),
    })
}

/// The valid values of a setting, as text.
struct TakesInWords<'a>(&'a Setting);

impl fmt::Display for TakesInWords<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.0.takes {
            Takes::Column => f.write_str("the name of a column"),
            Takes::Columns => f.write_str("names of columns"),
            Takes::Name => f.write_str("a name"),
            Takes::Number => write!(f, "a whole number from {}", self.0.least),
            Takes::Numbers => f.write_str("whole numbers"),
            Takes::Yes => f.write_str("true or false"),
            Takes::OneOf(words) => write!(f, "one of {}", words.join(", ")),
            Takes::Days => f.write_str("days"),
            Takes::Entities => f.write_str("the values of key columns"),
            Takes::Formats => f.write_str("a column and its format, such as `day=%d.%m.%Y`"),
            Takes::Expression => f.write_str("an expression"),
            Takes::Text(word) | Takes::Texts(word) | Takes::Several(word) | Takes::List(word) => {
                f.write_str(word)
            }
        }
    }
}

impl FromGiven for String {
    fn from_given(given: &Given, setting: &Setting) -> Result<String> {
        match given {
            Given::Text(text) => Ok(text.clone()),
            Given::Number(number) if matches!(setting.takes, Takes::Text(_)) => {
                Ok(number.to_string())
            }
            _ => refused(given, setting),
        }
    }
}

impl FromGiven for bool {
    fn from_given(given: &Given, setting: &Setting) -> Result<bool> {
        match given {
            Given::Truth(truth) => Ok(*truth),
            _ => refused(given, setting),
        }
    }
}

/// A whole number, or a text that is one.
fn number(given: &Given) -> Option<i128> {
    match given {
        Given::Number(number) => Some((*number).into()),
        Given::Text(text) => text
            .trim()
            .parse::<i64>()
            .map(i128::from)
            .or_else(|_| text.trim().parse::<u64>().map(i128::from))
            .ok(),
        _ => None,
    }
}

macro_rules! numbers_from_given {
    ($($kind:ty),*) => {$(
        impl FromGiven for $kind {
            fn from_given(given: &Given, setting: &Setting) -> Result<$kind> {
                let Some(number) = number(given) else { return refused(given, setting) };
                let most = i128::from(<$kind>::MAX);
                if number > most {
                    return Err(Error::Setting {
                        setting: setting.name,
                        value: number.to_string(),
                        expected: format!("a whole number from {} to {most}", setting.least).into(),
                    });
                }
                let Ok(value) = <$kind>::try_from(number) else {
                    return refused_value(number.to_string(), setting);
                };
                check_range(setting, &value).map(|()| value)
            }
        }
    )*};
}
numbers_from_given!(i16, u32, u64, i64);

/// A number whose range can be checked.
#[doc(hidden)]
pub trait Ranged {
    /// The number as text, if it is below the least one.
    fn below(&self, least: u64) -> Option<String>;
}

macro_rules! ranged {
    ($($kind:ty),*) => {$(
        impl Ranged for $kind {
            fn below(&self, least: u64) -> Option<String> {
                (i128::from(*self) < i128::from(least)).then(|| self.to_string())
            }
        }
    )*};
}
ranged!(i16, u32, u64, i64);

impl<T: Ranged> Ranged for Option<T> {
    fn below(&self, least: u64) -> Option<String> {
        self.as_ref().and_then(|value| value.below(least))
    }
}

/// Errors: the number is less than the setting's least.
#[doc(hidden)]
pub fn check_range(setting: &Setting, value: &impl Ranged) -> Result<()> {
    match value.below(setting.least).filter(|_| setting.least > 0) {
        Some(value) => refused_value(value, setting),
        None => Ok(()),
    }
}

impl<T: FromGiven> FromGiven for Option<T> {
    fn from_given(given: &Given, setting: &Setting) -> Result<Option<T>> {
        T::from_given(given, setting).map(Some)
    }
}

impl<T: FromGiven> FromGiven for Vec<T> {
    /// A text stands for a list of the parts between its commas, except for expressions.
    fn from_given(given: &Given, setting: &Setting) -> Result<Vec<T>> {
        match given {
            Given::List(values) => {
                values.iter().map(|value| T::from_given(value, setting)).collect()
            }
            Given::Text(text) if !matches!(setting.takes, Takes::Several(_) | Takes::Entities) => {
                let parts = text.split(',').map(str::trim).filter(|part| !part.is_empty());
                parts.map(|part| T::from_given(&Given::Text(part.to_owned()), setting)).collect()
            }
            one => Ok(vec![T::from_given(one, setting)?]),
        }
    }
}

impl FromGiven for BTreeMap<String, String> {
    /// Texts such as `day=%d.%m.%Y` stand for a name and its value.
    fn from_given(given: &Given, setting: &Setting) -> Result<BTreeMap<String, String>> {
        let pair = |given: &Given| match given {
            Given::Text(text) => match text.rsplit_once('=') {
                Some((name, value)) => Ok((name.to_owned(), value.to_owned())),
                None => refused(given, setting),
            },
            other => refused(other, setting),
        };
        match given {
            Given::Map(values) => values
                .iter()
                .map(|(name, value)| Ok((name.clone(), String::from_given(value, setting)?)))
                .collect(),
            Given::List(texts) => texts.iter().map(pair).collect(),
            one => Ok([pair(one)?].into()),
        }
    }
}

/// Types that are parsed from text.
macro_rules! from_given_text {
    ($($kind:ty),* $(,)?) => {$(
        impl $crate::settings::FromGiven for $kind {
            fn from_given(
                given: &$crate::settings::Given,
                setting: &$crate::Setting,
            ) -> $crate::Result<$kind> {
                match given {
                    $crate::settings::Given::Text(text) => {
                        text.parse().map_err($crate::Error::from)
                    }
                    $crate::settings::Given::Number(number) => {
                        number.to_string().parse().map_err($crate::Error::from)
                    }
                    other => $crate::settings::refused(other, setting),
                }
            }
        }
    )*};
}
pub(crate) use from_given_text;

from_given_text!(
    crate::decimal::Decimal,
    Day,
    crate::calendar::Grain,
    crate::calendar::Month,
    crate::calendar::Span,
    crate::calendar::Range,
    crate::calendar::Weekday
);

impl FromGiven for crate::calendar::Workdays {
    fn from_given(given: &Given, setting: &Setting) -> Result<Self> {
        Vec::<Day>::from_given(given, setting).map(Into::into)
    }
}

/// The value of an enum for its word. Errors: the nearest word.
#[doc(hidden)]
pub fn one_of<T: Copy>(
    given: &Given,
    setting: &Setting,
    words: &[&str],
    values: &[T],
) -> Result<T> {
    let Given::Text(text) = given else { return refused(given, setting) };
    let place = words.iter().position(|word| word == text);
    place.and_then(|place| values.get(place).copied()).map_or_else(|| refused(given, setting), Ok)
}

impl fmt::Display for Given {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Given::Nothing => f.write_str("nothing"),
            Given::Truth(truth) => truth.fmt(f),
            Given::Number(number) => number.fmt(f),
            Given::Text(text) => f.write_str(text),
            Given::List(values) => {
                f.write_str("[")?;
                for (n, value) in values.iter().enumerate() {
                    write!(f, "{}{value}", if n == 0 { "" } else { ", " })?;
                }
                f.write_str("]")
            }
            Given::Map(values) => {
                f.write_str("{")?;
                for (n, (name, value)) in values.iter().enumerate() {
                    write!(f, "{}{name} = {value}", if n == 0 { " " } else { ", " })?;
                }
                f.write_str(" }")
            }
        }
    }
}

impl From<&str> for Given {
    fn from(text: &str) -> Given {
        Given::Text(text.to_owned())
    }
}

impl From<String> for Given {
    fn from(text: String) -> Given {
        Given::Text(text)
    }
}

impl From<bool> for Given {
    fn from(truth: bool) -> Given {
        Given::Truth(truth)
    }
}

impl From<i64> for Given {
    fn from(number: i64) -> Given {
        Given::Number(number)
    }
}

impl<T: Into<Given>> From<Option<T>> for Given {
    fn from(value: Option<T>) -> Given {
        value.map_or(Given::Nothing, Into::into)
    }
}

impl<T: Into<Given>> From<Vec<T>> for Given {
    fn from(values: Vec<T>) -> Given {
        Given::List(values.into_iter().map(Into::into).collect())
    }
}

impl<T: Into<Given>> FromIterator<T> for Given {
    fn from_iter<I: IntoIterator<Item = T>>(values: I) -> Given {
        Given::List(values.into_iter().map(Into::into).collect())
    }
}

impl Serialize for Given {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        match self {
            Given::Nothing => serializer.serialize_none(),
            Given::Truth(truth) => serializer.serialize_bool(*truth),
            Given::Number(number) => serializer.serialize_i64(*number),
            Given::Text(text) => serializer.serialize_str(text),
            Given::List(values) => values.serialize(serializer),
            Given::Map(values) => values.serialize(serializer),
        }
    }
}

impl<'de> Deserialize<'de> for Given {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> std::result::Result<Given, D::Error> {
        struct Reader;

        impl<'de> de::Visitor<'de> for Reader {
            type Value = Given;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a text, a whole number, true or false, or a list or table of these")
            }

            fn visit_unit<E>(self) -> std::result::Result<Given, E> {
                Ok(Given::Nothing)
            }

            fn visit_none<E>(self) -> std::result::Result<Given, E> {
                Ok(Given::Nothing)
            }

            fn visit_some<D: Deserializer<'de>>(
                self,
                deserializer: D,
            ) -> std::result::Result<Given, D::Error> {
                Given::deserialize(deserializer)
            }

            fn visit_bool<E>(self, truth: bool) -> std::result::Result<Given, E> {
                Ok(Given::Truth(truth))
            }

            fn visit_i64<E>(self, number: i64) -> std::result::Result<Given, E> {
                Ok(Given::Number(number))
            }

            fn visit_u64<E>(self, number: u64) -> std::result::Result<Given, E> {
                Ok(i64::try_from(number)
                    .map_or_else(|_| Given::Text(number.to_string()), Given::Number))
            }

            fn visit_f64<E>(self, number: f64) -> std::result::Result<Given, E> {
                Ok(Given::Text(number.to_string()))
            }

            fn visit_str<E>(self, text: &str) -> std::result::Result<Given, E> {
                Ok(Given::Text(text.to_owned()))
            }

            fn visit_seq<A: de::SeqAccess<'de>>(
                self,
                mut values: A,
            ) -> std::result::Result<Given, A::Error> {
                let mut list = Vec::new();
                while let Some(value) = values.next_element()? {
                    list.push(value);
                }
                Ok(Given::List(list))
            }

            fn visit_map<A: de::MapAccess<'de>>(
                self,
                mut values: A,
            ) -> std::result::Result<Given, A::Error> {
                let mut map = BTreeMap::new();
                while let Some((name, value)) = values.next_entry()? {
                    map.insert(name, value);
                }
                Ok(Given::Map(map))
            }
        }

        deserializer.deserialize_any(Reader)
    }
}

impl Serialize for GivenSettings {
    fn serialize<S: Serializer>(&self, serializer: S) -> std::result::Result<S::Ok, S::Error> {
        let mut map = serializer.serialize_map(Some(self.0.len()))?;
        self.0.iter().try_for_each(|(name, value)| map.serialize_entry(name, value))?;
        map.end()
    }
}

impl<'de> Deserialize<'de> for GivenSettings {
    fn deserialize<D: Deserializer<'de>>(
        deserializer: D,
    ) -> std::result::Result<GivenSettings, D::Error> {
        BTreeMap::deserialize(deserializer).map(GivenSettings)
    }
}

#[cfg(test)]
mod tests;
