//! [`Table`]: columns by name, in the few types that the operations know; [`Shape`]: what is known of them without the
//! data; and the search for the name that was meant.

use crate::{
    calendar::{Day, MICROS_PER_DAY},
    error::{Error, Result},
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Float64Array, PrimitiveArray, RecordBatch,
    RecordBatchOptions, TimestampMicrosecondArray, UInt32Array, cast::AsArray, types::Float64Type,
};
use arrow_buffer::BooleanBuffer;
use arrow_cast::{CastOptions, cast_with_options};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use arrow_select::filter::FilterBuilder;
use std::{collections::HashSet, fmt, sync::Arc};

/// What a column holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Type {
    /// No value in any row, so that it can stand for any type.
    Nothing,
    /// True or false.
    Boolean,
    /// Whole numbers.
    Integer,
    /// Exact decimals with so many places.
    Decimal {
        /// Digits behind the point.
        places: i8,
    },
    /// Numbers in floating point.
    Float,
    /// Text.
    Text,
    /// Calendar days.
    Date,
    /// Times of day.
    Time,
    /// Days with a time of day.
    Moment {
        /// Whether each is a point in time (it had an offset) and not a reading of some clock.
        instant: bool,
    },
}

impl Type {
    fn of(data_type: &DataType) -> Type {
        match data_type {
            DataType::Boolean => Type::Boolean,
            DataType::Int64 => Type::Integer,
            DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => {
                Type::Decimal { places: *places }
            }
            DataType::Float64 => Type::Float,
            DataType::Utf8View => Type::Text,
            DataType::Date32 => Type::Date,
            DataType::Time64(_) => Type::Time,
            DataType::Timestamp(_, zone) => Type::Moment { instant: zone.is_some() },
            _ => Type::Nothing,
        }
    }

    /// Whether the column can be used as dates.
    pub fn is_dated(self) -> bool {
        matches!(self, Type::Date | Type::Moment { .. } | Type::Nothing)
    }

    /// Whether the column can be summed.
    pub fn is_number(self) -> bool {
        matches!(self, Type::Integer | Type::Decimal { .. } | Type::Float | Type::Nothing)
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Type::Nothing => "no values",
            Type::Boolean => "true or false",
            Type::Integer => "whole numbers",
            Type::Decimal { places: 1 } => "decimals, 1 place",
            Type::Decimal { places } => return f.pad(&format!("decimals, {places} places")),
            Type::Float => "numbers",
            Type::Text => "text",
            Type::Date => "dates",
            Type::Time => "times of day",
            Type::Moment { instant: false } => "moments",
            Type::Moment { instant: true } => "moments, UTC",
        })
    }
}

/// The names of a table's columns and what is known of their types: all that can be checked without the data.
///
/// A file's header gives the names alone; reading all of it gives the types.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Shape {
    file: Option<String>,
    columns: Vec<ColumnShape>,
}

/// One column of a [`Shape`].
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ColumnShape {
    /// Its name.
    pub name: String,
    /// Its type, where that is known.
    pub kind: Option<Type>,
}

impl Shape {
    /// Columns of which only the names are known.
    pub fn of_names<N: Into<String>>(names: impl IntoIterator<Item = N>) -> Shape {
        let columns = names.into_iter().map(|name| ColumnShape { name: name.into(), kind: None }).collect();
        Shape { file: None, columns }
    }

    /// The same, saying from which file it came.
    pub fn from_file(mut self, file: impl Into<String>) -> Shape {
        self.file = Some(file.into());
        self
    }

    /// The columns, in their order.
    pub fn columns(&self) -> &[ColumnShape] {
        &self.columns
    }

    /// The column of this name; otherwise an error with the nearest right names.
    pub fn find(&self, name: &str) -> Result<&ColumnShape> {
        self.columns.iter().find(|column| column.name == name).ok_or_else(|| self.no_such_column(name))
    }

    fn no_such_column(&self, name: &str) -> Error {
        Error::NoSuchColumn {
            file: self.file.clone(),
            column: name.to_owned(),
            nearest: nearest(name, self.columns.iter().map(|column| column.name.as_str())),
            columns: self.columns.iter().map(|column| column.name.clone()).collect(),
        }
    }

    /// An error where the column is missing or is known to hold no dates.
    pub fn expect_dates(&self, name: &str) -> Result<()> {
        self.expect(name, "dates", Type::is_dated)
    }

    /// An error where the column is missing or is known to hold no numbers.
    pub fn expect_numbers(&self, name: &str) -> Result<()> {
        self.expect(name, "numbers", Type::is_number)
    }

    fn expect(&self, name: &str, expected: &'static str, fits: impl Fn(Type) -> bool) -> Result<()> {
        match self.find(name)?.kind {
            Some(found) if !fits(found) => {
                Err(Error::WrongType { file: self.file.clone(), column: name.to_owned(), expected, found })
            }
            _ => Ok(()),
        }
    }

    /// What each of a list of columns means: a column's name, or `COLUMN as NAME`, which renames it in the answer.
    pub fn named(&self, list: &[String]) -> Result<Vec<Named>> {
        let one = |text: &String| {
            let (column, shown_as) = match text.split_once(" as ") {
                Some((column, name)) if self.find(text).is_err() => (column.trim(), name.trim()),
                _ => (text.as_str(), text.as_str()),
            };
            self.find(column)?;
            Ok(Named { column: column.to_owned(), shown_as: shown_as.to_owned() })
        };
        list.iter().map(one).collect()
    }

    /// The shape with columns renamed; an error where two would have one name.
    pub fn renamed(&self, names: &[Named]) -> Result<Shape> {
        let mut shape = self.clone();
        for (column, name) in shape
            .columns
            .iter_mut()
            .zip(new_names(self.columns.iter().map(|column| column.name.as_str()), names)?)
        {
            column.name = name;
        }
        Ok(shape)
    }

    /// The shape with one more column; an error where there is one of that name.
    pub fn with(&self, name: &str, kind: Type) -> Result<Shape> {
        if self.columns.iter().any(|column| column.name == name) {
            return Err(Error::NameTaken { name: name.to_owned() });
        }
        let mut shape = self.clone();
        shape.columns.push(ColumnShape { name: name.to_owned(), kind: Some(kind) });
        Ok(shape)
    }
}

/// A column of a list, and what it is called in the answer.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Named {
    /// The column.
    pub column: String,
    /// Its name in the answer.
    pub shown_as: String,
}

fn new_names<'a>(names: impl Iterator<Item = &'a str>, renamed: &[Named]) -> Result<Vec<String>> {
    let new = |name: &'a str| {
        renamed.iter().find(|named| named.column == name).map_or(name, |named| &named.shown_as).to_owned()
    };
    let names: Vec<String> = names.map(new).collect();
    let mut seen = HashSet::new();
    match names.iter().find(|name| !seen.insert(name.as_str())) {
        Some(name) => Err(Error::NameTaken { name: name.clone() }),
        None => Ok(names),
    }
}

/// The names nearest to one that does not exist: alike but for case and blanks, or a few letters off, or a part.
fn nearest<'a>(wanted: &str, names: impl Iterator<Item = &'a str>) -> Vec<String> {
    let plain = |name: &str| {
        name.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect::<String>()
    };
    let target = plain(wanted);
    let allowed = 1 + target.chars().count() / 4;
    let mut near: Vec<(usize, &str)> = names
        .filter_map(|name| {
            let candidate = plain(name);
            let distance = strsim::damerau_levenshtein(&target, &candidate);
            let part = target.len() >= 3 && (candidate.contains(&target) || target.contains(&candidate));
            (distance <= allowed || part && !candidate.is_empty()).then_some((distance, name))
        })
        .collect();
    near.sort_by_key(|&(distance, _)| distance);
    if near.first().is_some_and(|&(distance, _)| distance == 0) {
        near.truncate(1);
    }
    near.into_iter().take(3).map(|(_, name)| name.to_owned()).collect()
}

/// Where a table came from: its file, and the line of each of its rows.
#[derive(Clone, Debug, Default)]
pub struct Origin {
    file: String,
    first_line: u64,
    /// Rows that do not stand on the line after the row before them, each with its line, in order.
    jumps: Vec<(u32, u64)>,
    notations: Vec<(String, String)>,
}

impl Origin {
    /// A file whose first row stands on this line and each further row on the next one.
    pub fn new(file: impl Into<String>, first_line: u64) -> Origin {
        Origin { file: file.into(), first_line, ..Origin::default() }
    }

    /// Says that this row, and with it those that follow, stands on this line. Rows are to be named in order.
    pub fn jump(&mut self, row: u32, line: u64) {
        self.jumps.push((row, line));
    }

    /// Says in which notation a column's dates were written.
    pub fn notation(&mut self, column: &str, notation: String) {
        self.notations.push((column.to_owned(), notation));
    }

    /// The file's name.
    pub fn file(&self) -> &str {
        &self.file
    }

    /// The line on which a row begins, from 1.
    pub fn line(&self, row: usize) -> u64 {
        let before = self.jumps.partition_point(|&(jump, _)| jump as usize <= row);
        let (from, line) = if before == 0 { (0, self.first_line) } else { self.jumps[before - 1] };
        line + (row as u64 - u64::from(from))
    }

    /// The notation in which a column's dates were written.
    pub fn notation_of(&self, column: &str) -> Option<&str> {
        self.notations.iter().find(|(name, _)| name == column).map(|(_, notation)| notation.as_str())
    }
}

/// Named columns of equal length.
///
/// Columns are booleans, 64-bit integers, decimals, 64-bit floats (NaN has become missing, −0 has become 0), text views,
/// days, times of day or moments in microseconds. Cloning one is cheap: the columns are shared.
#[derive(Clone, Debug)]
pub struct Table {
    batch: RecordBatch,
    not_numbers: u64,
    origin: Option<Arc<Origin>>,
}

impl Table {
    /// A table of named columns.
    ///
    /// Arrow's other integer, float, decimal, text, dictionary, date and timestamp types are widened to those that tables
    /// hold. Errors: two columns of one name, columns of unequal length, a nested type, a date outside the years 0001 to
    /// 9999, more than 4 294 967 294 rows. Costs a pass over float and date columns, and a copy of what is widened.
    pub fn from_columns<N: Into<String>>(columns: impl IntoIterator<Item = (N, ArrayRef)>) -> Result<Table> {
        let mut names = HashSet::new();
        let (mut fields, mut arrays, mut not_numbers) = (Vec::new(), Vec::new(), 0);
        for (name, array) in columns {
            let name = name.into();
            if !names.insert(name.clone()) {
                return Err(Error::TwoColumnsOfOneName { file: None, name });
            }
            let expected = arrays.first().map_or(array.len(), |first: &ArrayRef| first.len());
            if array.len() != expected {
                return Err(Error::UnequalLengths { name, rows: array.len(), expected });
            }
            let array = widen(&name, array, &mut not_numbers)?;
            fields.push(Field::new(name, array.data_type().clone(), true));
            arrays.push(array);
        }
        let rows = arrays.first().map_or(0, |first| first.len());
        if rows >= u32::MAX as usize {
            return Err(Error::TooManyRows { rows });
        }
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &options)?;
        Ok(Table { batch, not_numbers, origin: None })
    }

    /// The table of an Arrow record batch; see [`Table::from_columns`].
    pub fn from_batch(batch: &RecordBatch) -> Result<Table> {
        let names = batch.schema_ref().fields().iter().map(|field| field.name().clone());
        Table::from_columns(names.zip(batch.columns().iter().cloned()))
    }

    /// Says where the table came from, so that messages can name file and line.
    pub fn with_origin(mut self, origin: Origin) -> Table {
        self.origin = Some(Arc::new(origin));
        self
    }

    /// The columns as an Arrow record batch.
    pub fn batch(&self) -> &RecordBatch {
        &self.batch
    }

    /// Where the table came from. An answer, whose rows are no longer those of a file, has none.
    pub fn origin(&self) -> Option<&Origin> {
        self.origin.as_deref()
    }

    /// How many rows it has.
    pub fn rows(&self) -> usize {
        self.batch.num_rows()
    }

    /// How many cells of its number columns were NaN, and are missing now.
    pub fn not_numbers(&self) -> u64 {
        self.not_numbers
    }

    /// The names of its columns, in their order.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> {
        self.batch.schema_ref().fields().iter().map(|field| field.name().as_str())
    }

    /// The columns, in their order.
    pub fn columns(&self) -> &[ArrayRef] {
        self.batch.columns()
    }

    /// The names and types of its columns.
    pub fn shape(&self) -> Shape {
        let columns =
            self.batch.schema_ref().fields().iter().map(|field| ColumnShape {
                name: field.name().clone(),
                kind: Some(Type::of(field.data_type())),
            });
        Shape { file: self.origin().map(|origin| origin.file.clone()), columns: columns.collect() }
    }

    /// The column of this name; otherwise an error with the nearest right names.
    pub fn column(&self, name: &str) -> Result<&ArrayRef> {
        self.batch.column_by_name(name).ok_or_else(|| self.shape().no_such_column(name))
    }

    /// The rows with these numbers, in that order. Costs one read and one write of each.
    pub fn take(&self, rows: &UInt32Array) -> Result<Table> {
        let columns = arrow_select::take::take_arrays(self.columns(), rows, None)?;
        self.with_columns(columns, rows.len())
    }

    /// The rows of a mask, in their order. Costs one read of the columns and one write of what stays.
    pub(crate) fn filter(&self, rows: &BooleanBuffer) -> Result<Table> {
        let kept = rows.count_set_bits();
        if kept == self.rows() {
            return Ok(Table { origin: None, ..self.clone() });
        }
        let filter = FilterBuilder::new(&BooleanArray::new(rows.clone(), None)).optimize().build();
        let columns = self.columns().iter().map(|column| filter.filter(column));
        self.with_columns(columns.collect::<std::result::Result<_, _>>()?, kept)
    }

    /// The first rows, without a copy.
    pub fn head(&self, rows: usize) -> Table {
        let batch = self.batch.slice(0, rows.min(self.rows()));
        Table { batch, not_numbers: self.not_numbers, origin: self.origin.clone() }
    }

    /// The table with one more column; an error where there is one of that name.
    pub fn with_column(&self, name: &str, column: ArrayRef) -> Result<Table> {
        self.shape().with(name, Type::Nothing)?;
        let columns = self.names().map(str::to_owned).zip(self.columns().iter().cloned());
        let table = Table::from_columns(columns.chain([(name.to_owned(), column)]))?;
        Ok(Table { origin: self.origin.clone(), ..table })
    }

    /// The table with columns renamed; an error where two would have one name.
    pub(crate) fn renamed(&self, names: &[Named]) -> Result<Table> {
        let names = new_names(self.names(), names)?;
        if self.names().eq(names.iter().map(String::as_str)) {
            return Ok(self.clone());
        }
        Table::from_columns(names.into_iter().zip(self.columns().iter().cloned()))
    }

    /// The table without this column, where it has one of that name.
    pub(crate) fn without(&self, name: &str) -> Result<Table> {
        let columns = self.names().zip(self.columns()).filter(|(column, _)| *column != name);
        Table::from_columns(columns.map(|(name, column)| (name, column.clone())))
    }

    fn with_columns(&self, columns: Vec<ArrayRef>, rows: usize) -> Result<Table> {
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(self.batch.schema(), columns, &options)?;
        Ok(Table { batch, not_numbers: 0, origin: None })
    }
}

/// A column in one of the types that tables hold.
fn widen(name: &str, array: ArrayRef, not_numbers: &mut u64) -> Result<ArrayRef> {
    let wider = match array.data_type() {
        DataType::Int8 | DataType::Int16 | DataType::Int32 => Some(DataType::Int64),
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => Some(DataType::Int64),
        DataType::Float16 | DataType::Float32 => Some(DataType::Float64),
        DataType::Decimal32(_, places) if *places >= 0 => Some(DataType::Decimal64(18, *places)),
        DataType::Decimal32(..) => Some(DataType::Decimal64(18, 0)),
        DataType::Decimal64(_, places) if *places < 0 => Some(DataType::Decimal128(38, 0)),
        DataType::Decimal128(_, places) if *places < 0 => Some(DataType::Decimal128(38, 0)),
        DataType::Utf8 | DataType::LargeUtf8 => Some(DataType::Utf8View),
        DataType::Date64 => Some(DataType::Date32),
        DataType::Time32(_) | DataType::Time64(TimeUnit::Nanosecond) => {
            Some(DataType::Time64(TimeUnit::Microsecond))
        }
        DataType::Timestamp(TimeUnit::Microsecond, None) => None,
        DataType::Timestamp(_, zone) => {
            Some(DataType::Timestamp(TimeUnit::Microsecond, zone.as_ref().map(|_| "UTC".into())))
        }
        DataType::Dictionary(_, values) => {
            let unpacked = cast_with_options(&array, values, &strict())?;
            return widen(name, unpacked, not_numbers);
        }
        DataType::Null
        | DataType::Boolean
        | DataType::Int64
        | DataType::Float64
        | DataType::Decimal64(..)
        | DataType::Decimal128(..)
        | DataType::Utf8View
        | DataType::Date32
        | DataType::Time64(_) => None,
        other => {
            return Err(Error::Unsupported { column: name.to_owned(), data_type: other.to_string() });
        }
    };
    let array = match wider {
        Some(wider) if wider != *array.data_type() => cast_with_options(&array, &wider, &strict())?,
        _ => array,
    };
    match array.data_type() {
        DataType::Float64 => Ok(plain_floats(array, not_numbers)),
        DataType::Date32 => {
            let days: &Date32Array = array.as_primitive();
            within_years(name, days, |&day| Day::from_number(day).is_some()).map(|()| array)
        }
        DataType::Timestamp(..) => {
            let moments: &TimestampMicrosecondArray = array.as_primitive();
            let (first, last) = (Day::MIN.number() as i64, Day::MAX.number() as i64 + 1);
            let years = first * MICROS_PER_DAY..last * MICROS_PER_DAY;
            within_years(name, moments, |micros| years.contains(micros)).map(|()| array)
        }
        _ => Ok(array),
    }
}

fn strict() -> CastOptions<'static> {
    CastOptions { safe: false, ..CastOptions::default() }
}

fn within_years<T: arrow_array::ArrowPrimitiveType>(
    column: &str,
    dates: &PrimitiveArray<T>,
    inside: impl Fn(&T::Native) -> bool,
) -> Result<()> {
    if dates.values().iter().fold(true, |all, date| all & inside(date)) {
        return Ok(());
    }
    // What stands in a missing cell does not matter.
    match dates.iter().position(|date| date.is_some_and(|date| !inside(&date))) {
        Some(row) => Err(Error::DateBeyondYears { column: column.to_owned(), row: row + 1 }),
        None => Ok(()),
    }
}

/// NaN as missing and −0 as 0, counting the NaNs. The column itself where it has neither.
fn plain_floats(array: ArrayRef, not_numbers: &mut u64) -> ArrayRef {
    let floats: &Float64Array = array.as_primitive::<Float64Type>();
    let odd = |value: &f64| value.is_nan() || (*value == 0.0 && value.is_sign_negative());
    if !floats.values().iter().any(odd) {
        return array;
    }
    let missing = floats.null_count();
    let plain: Float64Array =
        floats.iter().map(|value| value.filter(|value| !value.is_nan()).map(|value| value + 0.0)).collect();
    *not_numbers += (plain.null_count() - missing) as u64;
    Arc::new(plain)
}

#[cfg(test)]
mod tests;
