//! [`Type`]: the types of columns, and the fields of Arrow that hold them.

use crate::calendar::{Grain, Periods};
use arrow_schema::{DataType, Field, TimeUnit};
use std::{collections::HashMap, fmt};

/// The type of a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Type {
    /// No value in any row. It fits every type.
    Nothing,
    /// True or false.
    Boolean,
    /// Whole numbers.
    Integer,
    /// Exact decimals with this number of places.
    Decimal {
        /// Decimal places.
        places: i8,
    },
    /// Floating-point numbers.
    Float,
    /// Text.
    Text,
    /// Calendar days, or the first days of longer periods.
    Date(Periods),
    /// Times of day.
    Time,
    /// Days with a time of day.
    Moment {
        /// Whether each is a point in time (with an offset), and not the reading of some clock.
        instant: bool,
    },
}

impl Type {
    /// Calendar days.
    pub const DAYS: Type = Type::Date(Periods::DAYS);

    pub(crate) fn from_field(field: &Field) -> Type {
        match field.data_type() {
            DataType::Boolean => Type::Boolean,
            DataType::Int64 => Type::Integer,
            DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => {
                Type::Decimal { places: *places }
            }
            DataType::Float64 => Type::Float,
            DataType::Utf8View => Type::Text,
            DataType::Date32 => Type::Date(periods_of(field)),
            DataType::Time64(_) => Type::Time,
            DataType::Timestamp(_, zone) => Type::Moment { instant: zone.is_some() },
            _ => Type::Nothing,
        }
    }

    /// A column of this type.
    pub(crate) fn field(self, name: &str) -> Field {
        let data_type = match self {
            Type::Nothing => DataType::Null,
            Type::Boolean => DataType::Boolean,
            Type::Integer => DataType::Int64,
            Type::Decimal { places } => DataType::Decimal128(38, places),
            Type::Float => DataType::Float64,
            Type::Text => DataType::Utf8View,
            Type::Date(periods) => return period_field(name, periods),
            Type::Time => DataType::Time64(TimeUnit::Microsecond),
            Type::Moment { instant } => {
                DataType::Timestamp(TimeUnit::Microsecond, instant.then(|| "UTC".into()))
            }
        };
        Field::new(name, data_type, true)
    }

    /// Whether the column can be used as dates.
    pub fn is_dated(self) -> bool {
        matches!(self, Type::Date(_) | Type::Moment { .. } | Type::Nothing)
    }

    /// How the days of a column of dates are grouped.
    pub fn periods(self) -> Option<Periods> {
        match self {
            Type::Date(periods) => Some(periods),
            _ => None,
        }
    }

    /// Whether the column can be summed.
    pub fn is_number(self) -> bool {
        matches!(self, Type::Integer | Type::Decimal { .. } | Type::Float | Type::Nothing)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match *self {
            Type::Nothing => "no values",
            Type::Boolean => "true or false",
            Type::Integer => "whole numbers",
            Type::Decimal { places: 1 } => "decimals, 1 place",
            Type::Decimal { places } => return f.pad(&format!("decimals, {places} places")),
            Type::Float => "numbers",
            Type::Text => "text",
            Type::Date(periods) if periods == Periods::DAYS => "dates",
            Type::Date(periods) if periods == periods.grain().into() => periods.grain().plural(),
            Type::Date(periods) => {
                return f.pad(&periods.to_string().replacen(
                    periods.grain().word(),
                    periods.grain().plural(),
                    1,
                ));
            }
            Type::Time => "times of day",
            Type::Moment { instant: false } => "moments",
            Type::Moment { instant: true } => "moments, UTC",
        })
    }
}

/// The keys of the metadata for the grain of a column, and for the order of its texts, one on each
/// line.
pub(crate) const GRAIN: &str = "jembric.grain";

/// A column of the first days of periods.
pub(crate) fn period_field(name: &str, periods: Periods) -> Field {
    let field = Field::new(name, DataType::Date32, true);
    match periods.grain() {
        Grain::Day | Grain::Hour => field,
        _ => field.with_metadata(HashMap::from([(GRAIN.to_owned(), periods.to_string())])),
    }
}

pub(crate) fn periods_of(field: &Field) -> Periods {
    field.metadata().get(GRAIN).and_then(|text| text.parse().ok()).unwrap_or(Periods::DAYS)
}
