//! Rows as structs and tuples of a program, and tables made of them, through serde.

use crate::{
    calendar::Day,
    cell_text::CellText,
    decimal::Decimal,
    error::{Error, Result},
    table::Table,
};
use arrow_array::{Array, cast::AsArray, types::*};
use arrow_schema::DataType;
use serde::{
    Serialize,
    de::{
        self, DeserializeOwned, IntoDeserializer, Visitor,
        value::{MapDeserializer, SeqDeserializer},
    },
    forward_to_deserialize_any,
    ser::{self, Impossible},
};
use std::fmt;

/// Why a row does not fit a record, or a record does not fit a table.
#[derive(Clone, Debug)]
struct Misfit(String);

impl fmt::Display for Misfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for Misfit {}

impl de::Error for Misfit {
    fn custom<T: fmt::Display>(problem: T) -> Misfit {
        Misfit(problem.to_string())
    }
}

impl ser::Error for Misfit {
    fn custom<T: fmt::Display>(problem: T) -> Misfit {
        Misfit(problem.to_string())
    }
}

/// A value of a cell.
#[derive(Clone, Debug, PartialEq)]
enum Cell {
    Nothing,
    Truth(bool),
    Number(i64),
    Float(f64),
    Text(String),
    Day(Day),
    Decimal(Decimal),
}

impl Cell {
    fn of_column(text: &CellText<'_>, row: usize) -> Cell {
        let array = text.array;
        if text.is_missing(row) {
            return Cell::Nothing;
        }
        match array.data_type() {
            DataType::Boolean => Cell::Truth(array.as_boolean().value(row)),
            DataType::Int64 => Cell::Number(array.as_primitive::<Int64Type>().value(row)),
            DataType::Float64 => Cell::Float(array.as_primitive::<Float64Type>().value(row)),
            // Everything else is a text of its own type: dates, periods, moments, decimals.
            _ => Cell::Text(text.text(row)),
        }
    }
}

impl<'de> IntoDeserializer<'de, Misfit> for Cell {
    type Deserializer = Cell;

    fn into_deserializer(self) -> Cell {
        self
    }
}

impl<'de> de::Deserializer<'de> for Cell {
    type Error = Misfit;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> std::result::Result<V::Value, Misfit> {
        match self {
            Cell::Nothing => visitor.visit_none(),
            Cell::Truth(truth) => visitor.visit_bool(truth),
            Cell::Number(number) => visitor.visit_i64(number),
            Cell::Float(number) => visitor.visit_f64(number),
            Cell::Text(text) => visitor.visit_string(text),
            Cell::Day(day) => visitor.visit_string(day.to_string()),
            Cell::Decimal(decimal) => visitor.visit_string(decimal.to_string()),
        }
    }

    fn deserialize_option<V: Visitor<'de>>(
        self,
        visitor: V,
    ) -> std::result::Result<V::Value, Misfit> {
        match self {
            Cell::Nothing => visitor.visit_none(),
            cell => visitor.visit_some(cell),
        }
    }

    /// A decimal may be read as a float.
    fn deserialize_f64<V: Visitor<'de>>(self, visitor: V) -> std::result::Result<V::Value, Misfit> {
        match &self {
            Cell::Text(text) => match text.parse() {
                Ok(number) => visitor.visit_f64(number),
                Err(_) => self.deserialize_any(visitor),
            },
            _ => self.deserialize_any(visitor),
        }
    }

    fn deserialize_newtype_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        visitor: V,
    ) -> std::result::Result<V::Value, Misfit> {
        visitor.visit_newtype_struct(self)
    }

    fn deserialize_enum<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: &'static [&'static str],
        visitor: V,
    ) -> std::result::Result<V::Value, Misfit> {
        match self {
            Cell::Text(text) => visitor.visit_enum(text.into_deserializer()),
            cell => cell.deserialize_any(visitor),
        }
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 char str string bytes byte_buf unit
        unit_struct seq tuple tuple_struct map struct identifier ignored_any
    }
}

/// A row, with the names of its columns.
struct Row<'a> {
    names: &'a [String],
    cells: Vec<Cell>,
}

impl<'de> de::Deserializer<'de> for Row<'_> {
    type Error = Misfit;

    fn deserialize_any<V: Visitor<'de>>(self, visitor: V) -> std::result::Result<V::Value, Misfit> {
        let named = self.names.iter().map(String::as_str).zip(self.cells);
        visitor.visit_map(MapDeserializer::new(named))
    }

    fn deserialize_seq<V: Visitor<'de>>(self, visitor: V) -> std::result::Result<V::Value, Misfit> {
        visitor.visit_seq(SeqDeserializer::new(self.cells.into_iter()))
    }

    fn deserialize_tuple<V: Visitor<'de>>(
        self,
        _: usize,
        visitor: V,
    ) -> std::result::Result<V::Value, Misfit> {
        self.deserialize_seq(visitor)
    }

    fn deserialize_tuple_struct<V: Visitor<'de>>(
        self,
        _: &'static str,
        _: usize,
        visitor: V,
    ) -> std::result::Result<V::Value, Misfit> {
        self.deserialize_seq(visitor)
    }

    forward_to_deserialize_any! {
        bool i8 i16 i32 i64 i128 u8 u16 u32 u64 u128 f32 f64 char str string bytes byte_buf option
        unit unit_struct newtype_struct map struct enum identifier ignored_any
    }
}

impl Table {
    /// The rows as structs or maps by the names of the columns, or as tuples by their order.
    ///
    /// Missing values are none, so their fields are an `Option`. Dates and the first days of
    /// periods are [`Day`]s or texts, decimals [`Decimal`]s, floats or texts, moments texts.
    ///
    /// Errors, for each row: a field without a column or with another type; a missing value in a
    /// field that is no `Option`. The message names the row. Cost: one allocation for each text.
    ///
    /// ```
    /// use jembric_core::{Decimal, Table, calendar::Day};
    /// use serde::{Deserialize, Serialize};
    ///
    /// #[derive(Debug, PartialEq, Serialize, Deserialize)]
    /// struct Survey {
    ///     vessel: String,
    ///     surveyed_on: Option<Day>,
    ///     hull_mm: Decimal,
    /// }
    ///
    /// let surveys = vec![Survey {
    ///     vessel: "MS Anvil".to_owned(),
    ///     surveyed_on: Some("2025-03-05".parse()?),
    ///     hull_mm: "12.5".parse()?,
    /// }];
    /// let table = Table::from_records(&surveys)?;
    /// let back = table.records::<Survey>().collect::<Result<Vec<_>, _>>()?;
    /// assert_eq!(back, surveys);
    /// # Ok::<(), jembric_core::Error>(())
    /// ```
    pub fn records<T: DeserializeOwned>(&self) -> impl Iterator<Item = Result<T>> + '_ {
        let names: Vec<String> = self.names().map(str::to_owned).collect();
        let texts = CellText::for_columns(self);
        (0..self.rows()).map(move |row| {
            let cells = texts.iter().map(|text| Cell::of_column(text, row)).collect();
            T::deserialize(Row { names: &names, cells }).map_err(|misfit| Error::OtherRecord {
                row: self.place(row),
                problem: misfit.to_string(),
            })
        })
    }

    /// A table of structs or maps, whose fields are its columns.
    ///
    /// Fields are texts, whole numbers, floats, `bool`, [`Day`], [`Decimal`], or an `Option` of
    /// these. No record makes a table without columns.
    ///
    /// Errors: a record that is no struct or map, or has other fields than the first one; a field
    /// of another type, or of different types; a whole number beyond 64 bits.
    pub fn from_records<T: Serialize>(records: impl IntoIterator<Item = T>) -> Result<Table> {
        let misfit = |row: usize, problem: String| Error::OtherRecord {
            row: format!("record {}", row + 1),
            problem,
        };
        let mut columns: Vec<(String, Vec<Cell>)> = Vec::new();
        for (row, record) in records.into_iter().enumerate() {
            let fields = record.serialize(RecordSerializer).map_err(|m| misfit(row, m.0))?;
            if row == 0 {
                columns = fields.iter().map(|(name, _)| (name.clone(), Vec::new())).collect();
            }
            let has_same = columns.iter().map(|(name, _)| name).eq(fields.iter().map(|(n, _)| n));
            if !has_same {
                return Err(misfit(row, "its fields are not those of the first record".to_owned()));
            }
            columns.iter_mut().zip(fields).for_each(|((_, cells), (_, cell))| cells.push(cell));
        }
        let builder = columns
            .into_iter()
            .try_fold(Table::builder(), |builder, (name, cells)| column_of(builder, &name, cells));
        builder?.build()
    }
}

/// Adds a column of the cells' common type.
fn column_of(
    builder: crate::cells::TableBuilder,
    name: &str,
    cells: Vec<Cell>,
) -> Result<crate::cells::TableBuilder> {
    let first = cells.iter().find(|cell| **cell != Cell::Nothing).cloned();
    macro_rules! column {
        ($($kind:ident)*) => {
            match first {
                $(Some(Cell::$kind(_)) => {
                    let value = |(row, cell)| match cell {
                        Cell::$kind(value) => Ok(Some(value)),
                        Cell::Nothing => Ok(None),
                        _ => Err(Error::OtherRecord {
                            row: format!("record {}", row + 1),
                            problem: format!("`{name}` has another type than before"),
                        }),
                    };
                    let values = cells.into_iter().enumerate().map(value);
                    Ok(builder.column(name, values.collect::<Result<Vec<_>>>()?))
                })*
                Some(Cell::Nothing) | None => {
                    Ok(builder.column(name, cells.iter().map(|_| None::<String>)))
                }
            }
        };
    }
    column!(Truth Number Float Text Day Decimal)
}

/// Serializes a record to its fields.
struct RecordSerializer;

/// Serializes a field to a cell.
struct CellSerializer;

/// The fields of a record so far.
#[derive(Default)]
struct Fields {
    fields: Vec<(String, Cell)>,
    key: Option<String>,
}

impl ser::SerializeStruct for Fields {
    type Ok = Vec<(String, Cell)>;
    type Error = Misfit;

    fn serialize_field<T: Serialize + ?Sized>(
        &mut self,
        name: &'static str,
        value: &T,
    ) -> std::result::Result<(), Misfit> {
        self.fields.push((name.to_owned(), value.serialize(CellSerializer)?));
        Ok(())
    }

    fn end(self) -> std::result::Result<Self::Ok, Misfit> {
        Ok(self.fields)
    }
}

impl ser::SerializeMap for Fields {
    type Ok = Vec<(String, Cell)>;
    type Error = Misfit;

    fn serialize_key<T: Serialize + ?Sized>(&mut self, key: &T) -> std::result::Result<(), Misfit> {
        match key.serialize(CellSerializer)? {
            Cell::Text(name) => self.key = Some(name),
            _ => return Err(Misfit("the key of a map is no text".to_owned())),
        }
        Ok(())
    }

    fn serialize_value<T: Serialize + ?Sized>(
        &mut self,
        value: &T,
    ) -> std::result::Result<(), Misfit> {
        let name = self.key.take().unwrap_or_default();
        self.fields.push((name, value.serialize(CellSerializer)?));
        Ok(())
    }

    fn end(self) -> std::result::Result<Self::Ok, Misfit> {
        Ok(self.fields)
    }
}

/// Refuses the types that a serializer does not take.
macro_rules! refused {
    ($problem:literal: $($method:ident($($kind:ty),*))*) => {$(
        fn $method(self, $(_: $kind),*) -> std::result::Result<Self::Ok, Misfit> {
            Err(Misfit($problem.to_owned()))
        }
    )*};
}

/// The parts of a serializer for compound values, all of which are refused.
macro_rules! no_compounds {
    ($problem:literal) => {
        type SerializeSeq = Impossible<Self::Ok, Misfit>;
        type SerializeTuple = Impossible<Self::Ok, Misfit>;
        type SerializeTupleStruct = Impossible<Self::Ok, Misfit>;
        type SerializeTupleVariant = Impossible<Self::Ok, Misfit>;
        type SerializeStructVariant = Impossible<Self::Ok, Misfit>;

        fn serialize_seq(
            self,
            _: Option<usize>,
        ) -> std::result::Result<Self::SerializeSeq, Misfit> {
            Err(Misfit($problem.to_owned()))
        }

        fn serialize_tuple(self, _: usize) -> std::result::Result<Self::SerializeTuple, Misfit> {
            Err(Misfit($problem.to_owned()))
        }

        fn serialize_tuple_struct(
            self,
            _: &'static str,
            _: usize,
        ) -> std::result::Result<Self::SerializeTupleStruct, Misfit> {
            Err(Misfit($problem.to_owned()))
        }

        fn serialize_tuple_variant(
            self,
            _: &'static str,
            _: u32,
            _: &'static str,
            _: usize,
        ) -> std::result::Result<Self::SerializeTupleVariant, Misfit> {
            Err(Misfit($problem.to_owned()))
        }

        fn serialize_struct_variant(
            self,
            _: &'static str,
            _: u32,
            _: &'static str,
            _: usize,
        ) -> std::result::Result<Self::SerializeStructVariant, Misfit> {
            Err(Misfit($problem.to_owned()))
        }

        fn serialize_newtype_variant<T: Serialize + ?Sized>(
            self,
            _: &'static str,
            _: u32,
            _: &'static str,
            _: &T,
        ) -> std::result::Result<Self::Ok, Misfit> {
            Err(Misfit($problem.to_owned()))
        }
    };
}

impl ser::Serializer for RecordSerializer {
    type Ok = Vec<(String, Cell)>;
    type Error = Misfit;
    type SerializeStruct = Fields;
    type SerializeMap = Fields;

    no_compounds!("a record is a struct or a map");
    refused!("a record is a struct or a map":
        serialize_bool(bool) serialize_i8(i8) serialize_i16(i16) serialize_i32(i32)
        serialize_i64(i64) serialize_u8(u8) serialize_u16(u16) serialize_u32(u32)
        serialize_u64(u64) serialize_f32(f32) serialize_f64(f64) serialize_char(char)
        serialize_str(&str) serialize_bytes(&[u8]) serialize_none() serialize_unit()
        serialize_unit_struct(&'static str) serialize_unit_variant(&'static str, u32, &'static str)
    );

    fn serialize_some<T: Serialize + ?Sized>(
        self,
        value: &T,
    ) -> std::result::Result<Self::Ok, Misfit> {
        value.serialize(self)
    }

    fn serialize_newtype_struct<T: Serialize + ?Sized>(
        self,
        _: &'static str,
        value: &T,
    ) -> std::result::Result<Self::Ok, Misfit> {
        value.serialize(self)
    }

    fn serialize_map(self, _: Option<usize>) -> std::result::Result<Fields, Misfit> {
        Ok(Fields::default())
    }

    fn serialize_struct(self, _: &'static str, _: usize) -> std::result::Result<Fields, Misfit> {
        Ok(Fields::default())
    }
}

/// Cells of whole numbers and floats.
macro_rules! cells_of {
    ($($method:ident($kind:ty) => $cell:expr;)*) => {$(
        fn $method(self, value: $kind) -> std::result::Result<Cell, Misfit> {
            let cell: fn($kind) -> Cell = $cell;
            Ok(cell(value))
        }
    )*};
}

impl ser::Serializer for CellSerializer {
    type Ok = Cell;
    type Error = Misfit;
    type SerializeStruct = Impossible<Cell, Misfit>;
    type SerializeMap = Impossible<Cell, Misfit>;

    no_compounds!("a field is a single value");
    refused!("a field is a single value": serialize_bytes(&[u8]));
    cells_of! {
        serialize_bool(bool) => Cell::Truth;
        serialize_i8(i8) => |value| Cell::Number(value.into());
        serialize_i16(i16) => |value| Cell::Number(value.into());
        serialize_i32(i32) => |value| Cell::Number(value.into());
        serialize_i64(i64) => Cell::Number;
        serialize_u8(u8) => |value| Cell::Number(value.into());
        serialize_u16(u16) => |value| Cell::Number(value.into());
        serialize_u32(u32) => |value| Cell::Number(value.into());
        serialize_f32(f32) => |value| Cell::Float(value.into());
        serialize_f64(f64) => Cell::Float;
        serialize_char(char) => |value| Cell::Text(value.into());
        serialize_str(&str) => |value| Cell::Text(value.to_owned());
    }

    fn serialize_u64(self, value: u64) -> std::result::Result<Cell, Misfit> {
        let number = i64::try_from(value);
        number.map(Cell::Number).map_err(|_| Misfit(format!("{value} has more than 63 bits")))
    }

    fn serialize_none(self) -> std::result::Result<Cell, Misfit> {
        Ok(Cell::Nothing)
    }

    fn serialize_unit(self) -> std::result::Result<Cell, Misfit> {
        Ok(Cell::Nothing)
    }

    fn serialize_unit_struct(self, _: &'static str) -> std::result::Result<Cell, Misfit> {
        Ok(Cell::Nothing)
    }

    fn serialize_unit_variant(
        self,
        _: &'static str,
        _: u32,
        variant: &'static str,
    ) -> std::result::Result<Cell, Misfit> {
        Ok(Cell::Text(variant.to_owned()))
    }

    fn serialize_some<T: Serialize + ?Sized>(self, value: &T) -> std::result::Result<Cell, Misfit> {
        value.serialize(self)
    }

    /// The types of this crate serialize as texts that know their type.
    fn serialize_newtype_struct<T: Serialize + ?Sized>(
        self,
        name: &'static str,
        value: &T,
    ) -> std::result::Result<Cell, Misfit> {
        let cell = value.serialize(CellSerializer)?;
        let typed = match (&cell, name) {
            (Cell::Text(text), "Day") => text.parse().ok().map(Cell::Day),
            (Cell::Text(text), "Decimal") => text.parse().ok().map(Cell::Decimal),
            _ => None,
        };
        Ok(typed.unwrap_or(cell))
    }

    fn serialize_map(
        self,
        _: Option<usize>,
    ) -> std::result::Result<Impossible<Cell, Misfit>, Misfit> {
        Err(Misfit("a field is a single value".to_owned()))
    }

    fn serialize_struct(
        self,
        _: &'static str,
        _: usize,
    ) -> std::result::Result<Impossible<Cell, Misfit>, Misfit> {
        Err(Misfit("a field is a single value".to_owned()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;
    use serde::Deserialize;
    use std::collections::BTreeMap;

    #[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
    struct Call {
        vessel: String,
        day: Option<Day>,
        tons: Option<i32>,
        fee: Decimal,
        late: bool,
        ratio: f64,
    }

    fn call() -> impl Strategy<Value = Call> {
        let day = prop::option::of(0..30_000_i32);
        ("[a-z]{0,3}", day, any::<Option<i32>>(), any::<i32>(), any::<bool>(), -9_i32..9).prop_map(
            |(vessel, day, tons, fee, late, ratio)| Call {
                vessel,
                day: day.and_then(Day::from_number),
                tons,
                fee: Decimal::new(fee.into(), 2).unwrap(),
                late,
                ratio: f64::from(ratio) / 4.0,
            },
        )
    }

    proptest! {
        #[test]
        fn records_come_back_as_they_were(calls in prop::collection::vec(call(), 1..20)) {
            let table = Table::from_records(&calls).unwrap();
            let back: Result<Vec<Call>> = table.records().collect();
            prop_assert_eq!(back.unwrap(), calls.clone());
            // The columns have their types, unless no row has a value.
            if calls.iter().any(|call| call.day.is_some()) {
                prop_assert!(table.cells::<Day>("day").is_ok());
            }
            prop_assert!(table.cells::<Decimal>("fee").is_ok());
            prop_assert!(table.cells::<f64>("ratio").is_ok());
        }
    }

    #[test]
    fn rows_are_tuples_and_maps_as_well() {
        let table = Table::builder()
            .column("vessel", ["a", "b"])
            .column("tons", [Some(3), None::<i64>])
            .build()
            .unwrap();
        let tuples: Vec<(String, Option<u8>)> = table.records().map(Result::unwrap).collect();
        assert_eq!(tuples, [("a".to_owned(), Some(3)), ("b".to_owned(), None)]);
        let maps: Vec<_> = table.records::<BTreeMap<String, Option<String>>>().collect();
        assert!(maps[0].is_err(), "a number is no text");
        assert_eq!(maps[1].as_ref().unwrap()["tons"], None);
        let again = Table::from_records(table.records::<Call>().filter_map(Result::ok)).unwrap();
        assert_eq!(again.rows(), 0);
    }

    #[rstest]
    #[case::missing("fee", "missing field `fee`")]
    #[case::no_value("vessel", "record 1: invalid type: Option value, expected a string")]
    fn what_does_not_fit_is_told(#[case] without: &str, #[case] expected: &str) {
        let table = Table::builder().column("vessel", [None::<String>]);
        let table = if without == "vessel" { table.column("n", [1_i64]) } else { table };
        let table = table.build().unwrap();
        #[derive(Debug, Deserialize)]
        #[allow(dead_code)]
        struct Fee {
            fee: i64,
        }
        let error = match without {
            "fee" => table.records::<Fee>().next().unwrap().map(drop),
            _ => table.records::<(String, i64)>().next().unwrap().map(drop),
        };
        let error = error.unwrap_err().to_string();
        let expected = expected.trim_start_matches("record 1: ");
        assert!(error.contains(expected), "{error}");
    }

    #[test]
    fn records_have_the_same_fields_and_types() {
        let maps = |pairs: &[(&str, i64)]| {
            pairs.iter().map(|(k, v)| ((*k).to_owned(), *v)).collect::<BTreeMap<_, _>>()
        };
        let error = Table::from_records([maps(&[("a", 1)]), maps(&[("b", 2)])]).unwrap_err();
        assert_eq!(error.to_string(), "record 2: its fields are not those of the first record");
        assert!(Table::from_records([3]).unwrap_err().to_string().contains("a struct or a map"));
        let none: [Call; 0] = [];
        assert_eq!(Table::from_records(none).unwrap().names().len(), 0);
    }
}
