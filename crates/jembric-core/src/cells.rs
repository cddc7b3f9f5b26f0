//! [`Cells`]: the values of a column as Rust values, and [`TableBuilder`]: tables made of Rust
//! values.

use crate::{
    calendar::{Day, Moment},
    decimal::Decimal,
    error::{Error, Result},
    kind::Type,
    table::Table,
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array,
    StringViewArray, TimestampMicrosecondArray, cast::AsArray, types::*,
};
use arrow_buffer::NullBuffer;
use arrow_schema::{DECIMAL128_MAX_PRECISION, DataType};
use std::{fmt, ops::Range, sync::Arc};

/// The values of a column; none for a missing one. See [`Table::cells`].
pub struct Cells<'a, T> {
    value: Box<dyn Fn(usize) -> T + Send + Sync + 'a>,
    nulls: Option<NullBuffer>,
    rows: Range<usize>,
}

impl<T> fmt::Debug for Cells<'_, T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Cells").field("rows", &self.rows).finish_non_exhaustive()
    }
}

impl<T> Cells<'_, T> {
    /// The value in a row; none if it is missing, or if there is no such row.
    pub fn get(&self, row: usize) -> Option<T> {
        let is_there = row < self.rows.end && self.nulls.as_ref().is_none_or(|n| n.is_valid(row));
        is_there.then(|| (self.value)(row))
    }
}

impl<T> Iterator for Cells<'_, T> {
    type Item = Option<T>;

    fn next(&mut self) -> Option<Option<T>> {
        self.rows.next().map(|row| self.get(row))
    }

    fn size_hint(&self) -> (usize, Option<usize>) {
        self.rows.size_hint()
    }
}

impl<T> ExactSizeIterator for Cells<'_, T> {}

mod sealed {
    pub trait Sealed {}
}

/// A Rust type for the cells of a column: `&str` or `String` for text, `bool`, `i64`, `f64`,
/// [`Decimal`], [`Day`] for dates and the first days of periods, and [`Moment`].
pub trait CellValue<'a>: sealed::Sealed + Sized {
    /// The Rust type, for messages.
    #[doc(hidden)]
    const NAME: &'static str;

    /// The value in each row that has one; none if the column has another type.
    #[doc(hidden)]
    fn values(array: &'a ArrayRef) -> Option<Box<dyn Fn(usize) -> Self + Send + Sync + 'a>>;
}

macro_rules! cell_values {
    ($($rust:ty, $name:literal, $array:ident => { $($kind:pat => $value:expr,)+ })*) => {$(
        #[allow(clippy::extra_unused_lifetimes)]
        impl<'a> sealed::Sealed for $rust {}

        impl<'a> CellValue<'a> for $rust {
            const NAME: &'static str = $name;

            fn values(
                $array: &'a ArrayRef,
            ) -> Option<Box<dyn Fn(usize) -> Self + Send + Sync + 'a>> {
                match $array.data_type() {
                    $($kind => Some(Box::new($value)),)+
                    _ => None,
                }
            }
        }
    )*};
}

cell_values! {
    &'a str, "&str", array => {
        DataType::Utf8View => {
            let texts = array.as_string_view();
            |row| texts.value(row)
        },
    }
    String, "String", array => {
        DataType::Utf8View => {
            let texts = array.as_string_view();
            |row| texts.value(row).to_owned()
        },
    }
    bool, "bool", array => {
        DataType::Boolean => {
            let values = array.as_boolean();
            |row| values.value(row)
        },
    }
    i64, "i64", array => {
        DataType::Int64 => {
            let values = array.as_primitive::<Int64Type>();
            |row| values.value(row)
        },
    }
    f64, "f64", array => {
        DataType::Float64 => {
            let values = array.as_primitive::<Float64Type>();
            |row| values.value(row)
        },
    }
    Decimal, "Decimal", array => {
        DataType::Decimal64(_, places) => {
            let (values, places) = (array.as_primitive::<Decimal64Type>(), *places);
            move |row| Decimal::of_column(values.value(row).into(), places)
        },
        DataType::Decimal128(_, places) => {
            let (values, places) = (array.as_primitive::<Decimal128Type>(), *places);
            move |row| Decimal::of_column(values.value(row), places)
        },
    }
    Day, "Day", array => {
        DataType::Date32 => {
            let days = array.as_primitive::<Date32Type>();
            |row| Day::clamped(days.value(row))
        },
    }
    Moment, "Moment", array => {
        DataType::Timestamp(..) => {
            let micros = array.as_primitive::<TimestampMicrosecondType>();
            |row| Moment::clamped(micros.value(row))
        },
    }
}

/// The Rust type for the cells of a column.
fn rust_type(kind: Type) -> &'static str {
    match kind {
        Type::Boolean => "bool",
        Type::Integer => "i64",
        Type::Decimal { .. } => "Decimal",
        Type::Float => "f64",
        Type::Date(_) => "Day",
        Type::Moment { .. } => "Moment",
        Type::Text | Type::Time | Type::Nothing => "&str",
    }
}

impl Table {
    /// The values of a column as Rust values; none where a value is missing.
    ///
    /// A column without any value has every type. Decimals are of one Rust type, however many bits
    /// a column needs.
    ///
    /// Errors: there is no such column; it has another type. The message names the right one. Cost:
    /// none before the values are read.
    ///
    /// ```
    /// use jembric_core::{Decimal, Table, calendar::Day};
    ///
    /// let surveys = Table::builder()
    ///     .column("vessel", ["MS Anvil", "MS Birch"])
    ///     .column("surveyed_on", [Some(Day::MIN), None])
    ///     .column("hull_mm", ["12.5".parse::<Decimal>()?, 11.into()])
    ///     .build()?;
    ///
    /// let days: Vec<Option<Day>> = surveys.cells("surveyed_on")?.collect();
    /// assert_eq!(days, [Some(Day::MIN), None]);
    /// let hulls = surveys.cells::<Decimal>("hull_mm")?;
    /// for (vessel, hull) in surveys.cells::<&str>("vessel")?.zip(hulls) {
    ///     println!("{vessel:?} {hull:?}");
    /// }
    /// let error = surveys.cells::<f64>("hull_mm").unwrap_err().to_string();
    /// assert_eq!(error, "column `hull_mm` holds decimals, 1 place: read its cells as Decimal, \
    ///     and not as f64");
    /// # Ok::<(), jembric_core::Error>(())
    /// ```
    pub fn cells<'a, T: CellValue<'a>>(&'a self, column: &str) -> Result<Cells<'a, T>> {
        let array = self.column(column)?;
        let place = self.shape().place(column)?;
        let (rows, nulls) = (0..self.rows(), array.logical_nulls());
        if let Some(value) = T::values(array) {
            return Ok(Cells { value, nulls, rows });
        }
        // No row of such a column has a value, so none is read.
        if array.null_count() == array.len() || self.kind(place) == Type::Nothing {
            let value = Box::new(|_| unreachable!("no row has a value"));
            return Ok(Cells { value, nulls: Some(NullBuffer::new_null(self.rows())), rows });
        }
        let kind = self.kind(place);
        Err(Error::WrongCells {
            column: column.to_owned(),
            kind,
            right: rust_type(kind),
            requested: T::NAME,
        })
    }

    /// Begins a table of columns of Rust values.
    pub fn builder() -> TableBuilder {
        TableBuilder::default()
    }
}

/// A table that is made of columns of Rust values.
///
/// ```
/// use jembric_core::{Table, calendar::Day};
///
/// let calls = [("MS Anvil", "2025-03-05", Some(3)), ("MS Birch", "2025-03-06", None)];
/// let day = |text: &str| text.parse::<Day>();
/// let table = Table::builder()
///     .column("vessel", calls.iter().map(|call| call.0))
///     .column("day", calls.iter().map(|call| day(call.1)).collect::<Result<Vec<_>, _>>()?)
///     .column("tons", calls.iter().map(|call| call.2.map(i64::from)))
///     .build()?;
/// assert_eq!(table.rows(), 2);
/// # Ok::<(), jembric_core::Error>(())
/// ```
#[derive(Debug, Default)]
#[must_use]
pub struct TableBuilder {
    columns: Vec<(String, ArrayRef)>,
}

impl TableBuilder {
    /// Adds a column of values: `&str`, `String`, `bool`, `i64`, `f64`, [`Decimal`], [`Day`] or
    /// [`Moment`], or an `Option` of these, in which none is a missing value.
    pub fn column<V: IntoCell>(
        mut self,
        name: impl Into<String>,
        values: impl IntoIterator<Item = V>,
    ) -> TableBuilder {
        let cells = values.into_iter().map(IntoCell::into_cell);
        self.columns.push((name.into(), <V::Value as IntoColumn>::column(cells)));
        self
    }

    /// The table.
    ///
    /// Errors: two columns of one name; columns of different lengths.
    pub fn build(self) -> Result<Table> {
        Table::from_columns(self.columns)
    }
}

/// A value that a column can be made of.
pub trait IntoColumn: sealed::Sealed + Sized {
    /// The column of these values.
    #[doc(hidden)]
    fn column(values: impl Iterator<Item = Option<Self>>) -> ArrayRef;
}

/// A value, or an `Option` of one.
pub trait IntoCell {
    /// The value.
    type Value: IntoColumn;

    /// The value, unless it is missing.
    fn into_cell(self) -> Option<Self::Value>;
}

impl<T: IntoColumn> IntoCell for Option<T> {
    type Value = T;

    fn into_cell(self) -> Option<T> {
        self
    }
}

macro_rules! into_columns {
    ($($rust:ty, $values:ident => $array:expr;)*) => {$(
        #[allow(clippy::extra_unused_lifetimes)]
        impl<'a> IntoColumn for $rust {
            fn column($values: impl Iterator<Item = Option<Self>>) -> ArrayRef {
                Arc::new($array)
            }
        }

        #[allow(clippy::extra_unused_lifetimes)]
        impl<'a> IntoCell for $rust {
            type Value = $rust;

            fn into_cell(self) -> Option<$rust> {
                Some(self)
            }
        }
    )*};
}

into_columns! {
    &'a str, values => values.collect::<StringViewArray>();
    String, values => values.collect::<StringViewArray>();
    bool, values => values.collect::<BooleanArray>();
    i64, values => values.collect::<Int64Array>();
    f64, values => values.collect::<Float64Array>();
    Day, values => values.map(|day| day.map(Day::number)).collect::<Date32Array>();
    Moment, values => {
        values.map(|moment| moment.map(Moment::micros)).collect::<TimestampMicrosecondArray>()
    };
    Decimal, values => decimals(&values.collect::<Vec<_>>());
}

/// A column of decimals, with as many places as the longest one.
fn decimals(values: &[Option<Decimal>]) -> Decimal128Array {
    let places = values.iter().flatten().map(|value| value.places()).max().unwrap_or(0);
    let units = |value: &Decimal| {
        value.units().checked_mul(10_i128.pow(u32::from(places - value.places())))
    };
    let units = values.iter().map(|value| value.as_ref().and_then(units));
    let data_type = DataType::Decimal128(DECIMAL128_MAX_PRECISION, places as i8);
    units.collect::<Decimal128Array>().with_data_type(data_type)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// A column, read as it was made.
    fn round<T>(values: &[Option<T>]) -> Vec<Option<T>>
    where
        T: for<'a> CellValue<'a> + IntoColumn + Clone,
    {
        let table = Table::builder().column("c", values.to_vec()).build().unwrap();
        table.cells::<T>("c").unwrap().collect()
    }

    proptest! {
        #[test]
        fn values_come_back_as_they_were(
            numbers in prop::collection::vec(prop::option::of(any::<i64>()), 0..20),
        ) {
            prop_assert_eq!(round(&numbers), numbers.clone());
            let texts: Vec<_> = numbers.iter().map(|n| n.map(|n| n.to_string())).collect();
            prop_assert_eq!(round(&texts), texts);
            let truths: Vec<_> = numbers.iter().map(|n| n.map(|n| n > 0)).collect();
            prop_assert_eq!(round(&truths), truths);
            let day = |n: i64| Day::from_number((n % 10_000) as i32);
            let days: Vec<_> = numbers.iter().map(|n| n.and_then(day)).collect();
            prop_assert_eq!(round(&days), days);
            let moment = |n: i64| Moment::from_micros(n % 1_000_000_007);
            let moments: Vec<_> = numbers.iter().map(|n| n.and_then(moment)).collect();
            prop_assert_eq!(round(&moments), moments);
        }

        /// Decimals keep their value. A column has the places of its longest decimal.
        #[test]
        fn decimals_are_exact(
            units in prop::collection::vec(any::<i32>(), 1..20),
            places in prop::collection::vec(0..6_u8, 20),
        ) {
            let decimal = |(units, places): (&i32, &u8)| {
                Decimal::new(i128::from(*units), *places).unwrap()
            };
            let values: Vec<Option<Decimal>> =
                units.iter().zip(&places).map(decimal).map(Some).collect();
            for (own, back) in values.iter().flatten().zip(round(&values).into_iter().flatten()) {
                let ten = 10_i128.pow(u32::from(back.places() - own.places()));
                prop_assert_eq!(own.units() * ten, back.units());
            }
        }
    }

    #[test]
    fn a_column_without_values_has_every_type() {
        let none: Vec<Option<i64>> = vec![None, None];
        let table = Table::builder().column("n", none).build().unwrap();
        assert_eq!(table.cells::<Day>("n").unwrap().collect::<Vec<_>>(), [None, None]);
        assert_eq!(table.cells::<&str>("n").unwrap().get(1), None);
    }

    #[test]
    fn a_missing_column_and_a_wrong_type_are_errors() {
        let table = Table::builder().column("vessel", ["a"]).build().unwrap();
        let missing = table.cells::<&str>("vesel").unwrap_err();
        assert!(matches!(missing, Error::NoSuchColumn { .. }), "{missing}");
        let wrong = table.cells::<i64>("vessel").unwrap_err().to_string();
        assert_eq!(wrong, "column `vessel` holds text: read its cells as &str, and not as i64");
    }
}
