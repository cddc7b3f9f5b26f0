//! The types of PostgreSQL's columns, and those that they become.

use super::connect::Connection;
use crate::{Result, Type, calendar::Periods};
use postgres::types::{Kind, Type as ServerType};
use std::collections::HashMap;

/// What the comment on a column begins with that has the first days of periods. The grain follows.
pub(super) const GRAIN_COMMENT: &str = "jembric.grain: ";

/// The binary form of a column.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Wire {
    Boolean,
    Int2,
    Int4,
    Int8,
    /// An object number.
    Unsigned4,
    Float4,
    Float8,
    /// With the digits and places that the column declares, if any.
    Numeric(Option<(u8, i8)>),
    /// Text, also of enumerations.
    Text,
    /// A version byte, and text.
    JsonBinary,
    Uuid,
    Date,
    Time,
    Moment {
        instant: bool,
    },
    /// Of dates or moments, which become two columns.
    Range(Box<Wire>),
    /// A type that tables do not have.
    Refused {
        problem: String,
        advice: String,
    },
}

/// A column of a query.
#[derive(Clone, Debug)]
pub(super) struct WireColumn {
    pub(super) name: String,
    pub(super) wire: Wire,
    /// The periods whose first days it has.
    pub(super) periods: Option<Periods>,
}

impl WireColumn {
    /// The names and types of the columns that it becomes. A `numeric` without declared places has
    /// no type before its values are read.
    pub(super) fn shapes(&self) -> Vec<(String, Option<Type>)> {
        match &self.wire {
            Wire::Range(bounds) => {
                ["start", "end"].map(|end| (format!("{}_{end}", self.name), bounds.kind())).to_vec()
            }
            wire => {
                let kind = match (wire, self.periods) {
                    (Wire::Date, Some(periods)) => Some(Type::Date(periods)),
                    _ => wire.kind(),
                };
                vec![(self.name.clone(), kind)]
            }
        }
    }
}

impl Wire {
    fn kind(&self) -> Option<Type> {
        Some(match self {
            Wire::Boolean => Type::Boolean,
            Wire::Int2 | Wire::Int4 | Wire::Int8 | Wire::Unsigned4 => Type::Integer,
            Wire::Float4 | Wire::Float8 => Type::Float,
            Wire::Numeric(declared) => Type::Decimal { places: (*declared)?.1 },
            Wire::Text | Wire::JsonBinary | Wire::Uuid => Type::Text,
            Wire::Date => Type::DAYS,
            Wire::Time => Type::Time,
            Wire::Moment { instant } => Type::Moment { instant: *instant },
            Wire::Range(_) | Wire::Refused { .. } => return None,
        })
    }

    fn from_server_type(column: &str, server: &ServerType, modifier: i32) -> Wire {
        match *server {
            ServerType::BOOL => Wire::Boolean,
            ServerType::INT2 => Wire::Int2,
            ServerType::INT4 => Wire::Int4,
            ServerType::INT8 => Wire::Int8,
            ServerType::OID => Wire::Unsigned4,
            ServerType::FLOAT4 => Wire::Float4,
            ServerType::FLOAT8 => Wire::Float8,
            ServerType::NUMERIC => Wire::Numeric(declared_digits(modifier)),
            ServerType::TEXT
            | ServerType::VARCHAR
            | ServerType::BPCHAR
            | ServerType::NAME
            | ServerType::JSON
            | ServerType::XML => Wire::Text,
            ServerType::JSONB => Wire::JsonBinary,
            ServerType::UUID => Wire::Uuid,
            ServerType::DATE => Wire::Date,
            ServerType::TIME => Wire::Time,
            ServerType::TIMESTAMP => Wire::Moment { instant: false },
            ServerType::TIMESTAMPTZ => Wire::Moment { instant: true },
            _ => match server.kind() {
                Kind::Enum(_) => Wire::Text,
                // A domain has the form of its type.
                Kind::Domain(inner) => Wire::from_server_type(column, inner, modifier),
                Kind::Range(inner) => match Wire::from_server_type(column, inner, -1) {
                    bounds @ (Wire::Date | Wire::Moment { .. }) => Wire::Range(Box::new(bounds)),
                    _ => Wire::refused(column, server),
                },
                // The text type without regard to case, which is an extension.
                Kind::Simple if server.name() == "citext" => Wire::Text,
                _ => Wire::refused(column, server),
            },
        }
    }

    fn refused(column: &str, server: &ServerType) -> Wire {
        let quoted = super::quoted(column);
        let instead = match (server.kind(), server.name()) {
            (_, "money") => format!("{quoted}::numeric"),
            (_, "interval") => format!("extract(epoch from {quoted})"),
            (_, "bytea") => format!("encode({quoted}, 'hex')"),
            (Kind::Array(_), _) => format!("array_to_string({quoted}, ', ')"),
            _ => format!("{quoted}::text"),
        };
        let shown = match server.kind() {
            Kind::Array(of) => format!("{}[]", of.name()),
            _ => server.name().to_owned(),
        };
        Wire::Refused {
            problem: format!(
                "column `{column}` has the type {shown}, which is not a type of tables"
            ),
            advice: format!("Leave the column out, or convert it in a query: {instead}"),
        }
    }
}

/// The digits and places of a declared `numeric`.
fn declared_digits(modifier: i32) -> Option<(u8, i8)> {
    // The server adds 4 to the modifier, and stores the places in its lower 11 bits.
    let packed = modifier.checked_sub(4).filter(|packed| *packed >= 0)?;
    let (digits, places) = (packed >> 16, ((packed & 0x7FF) ^ 0x400) - 0x400);
    let digits = u8::try_from(digits).ok().filter(|digits| *digits <= 38)?;
    Some((digits, i8::try_from(places).ok().filter(|places| (0..=38).contains(places))?))
}

/// The columns of a query.
pub(super) fn columns(connection: &mut Connection, sql: &str) -> Result<Vec<WireColumn>> {
    let statement = connection.prepare(sql)?;
    let tables: Vec<u32> =
        statement.columns().iter().filter_map(postgres::Column::table_oid).collect();
    let comments = connection.query(
        "select objoid, objsubid, description from pg_catalog.pg_description where classoid = \
            'pg_catalog.pg_class'::regclass and objsubid > 0 and objoid = any($1) and \
            starts_with(description, $2)",
        &[&tables, &GRAIN_COMMENT],
    )?;
    let comments: HashMap<(u32, i32), String> =
        comments.into_iter().map(|row| ((row.get(0), row.get(1)), row.get(2))).collect();
    let column = |column: &postgres::Column| {
        let place = column.table_oid().zip(column.column_id().map(i32::from));
        let comment = place.and_then(|place| comments.get(&place));
        let periods = comment.and_then(|comment| {
            comment[GRAIN_COMMENT.len()..].lines().next()?.trim().parse::<Periods>().ok()
        });
        WireColumn {
            name: column.name().to_owned(),
            wire: Wire::from_server_type(column.name(), column.type_(), column.type_modifier()),
            periods,
        }
    };
    Ok(statement.columns().iter().map(column).collect())
}
