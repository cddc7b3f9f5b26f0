//! [`Table`]: named columns of a few types. `origin` tells where its rows come from.

mod origin;
mod packed;

pub use origin::{Numbering, Origin};

use crate::{
    calendar::{Day, MICROS_PER_DAY, Periods},
    cell_text::CellText,
    error::{Error, Result},
    kind::{GRAIN, Type},
    parallel,
    role::{ROLE, Role},
    shape::{ColumnShape, Named, Shape, new_names},
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Float64Array, PrimitiveArray, RecordBatch,
    RecordBatchOptions, TimestampMicrosecondArray, UInt32Array,
    cast::AsArray,
    types::{Date32Type, Float64Type},
};
use arrow_buffer::BooleanBuffer;
use arrow_cast::{CastOptions, cast_with_options};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use arrow_select::filter::FilterBuilder;
use std::{
    collections::{HashMap, HashSet},
    ops::Range,
    sync::Arc,
};

/// Named columns of equal length.
///
/// Columns are booleans, 64-bit integers, decimals, 64-bit floats (NaN becomes missing and −0
/// becomes 0), text views, days, times of day or moments in microseconds. Cloning is cheap, because
/// the columns are shared.
#[derive(Clone, Debug)]
pub struct Table {
    batch: RecordBatch,
    not_numbers: u64,
    origin: Option<Arc<Origin>>,
    /// The number of the first row among those of the whole table, if this is a part of a result.
    first_row: u64,
}

impl<'a> CellText<'a> {
    /// For each column of a table, in order.
    pub fn for_columns(table: &'a Table) -> Vec<CellText<'a>> {
        let periods = |kind: Option<Type>| kind.and_then(Type::periods).unwrap_or(Periods::DAYS);
        let kinds =
            table.shape().columns().iter().map(|column| periods(column.kind)).collect::<Vec<_>>();
        table
            .columns()
            .iter()
            .zip(kinds)
            .map(|(array, periods)| CellText { array, periods })
            .collect()
    }
}

/// Tables are equal if their columns have equal names, types and values. Their origin and the
/// roles of their columns do not matter.
impl PartialEq for Table {
    fn eq(&self, other: &Table) -> bool {
        let plain = |table: &Table| table.with_roles(|_| None).batch;
        plain(self) == plain(other)
    }
}

impl TryFrom<RecordBatch> for Table {
    type Error = Error;

    /// See [`Table::from_batch`].
    fn try_from(batch: RecordBatch) -> Result<Table> {
        Table::from_batch(&batch)
    }
}

impl From<Table> for RecordBatch {
    fn from(table: Table) -> RecordBatch {
        table.batch
    }
}

/// The columns with their names, in order.
impl<'a> IntoIterator for &'a Table {
    type Item = (&'a str, &'a ArrayRef);
    type IntoIter = std::iter::Zip<
        std::iter::Map<
            std::slice::Iter<'a, arrow_schema::FieldRef>,
            fn(&'a arrow_schema::FieldRef) -> &'a str,
        >,
        std::slice::Iter<'a, ArrayRef>,
    >;

    fn into_iter(self) -> Self::IntoIter {
        let name: fn(&'a arrow_schema::FieldRef) -> &'a str = |field| field.name();
        self.batch.schema_ref().fields().iter().map(name).zip(self.batch.columns())
    }
}

impl Table {
    /// Makes a table of named columns.
    ///
    /// Other Arrow types of integers, floats, decimals, text, dictionaries, dates and timestamps
    /// are widened to those of tables. Errors: two columns with the same name; columns of unequal
    /// length; a nested type; a date outside the years 0001 to 9999; more than 4 294 967 294 rows.
    /// Cost: one pass over float and date columns, and a copy of widened columns.
    pub fn from_columns<N: Into<String>>(
        columns: impl IntoIterator<Item = (N, ArrayRef)>,
    ) -> Result<Table> {
        let plain = |(name, array): (N, ArrayRef)| {
            (Field::new(name.into(), array.data_type().clone(), true), array)
        };
        Table::of_fields(columns.into_iter().map(plain))
    }

    /// Makes a table of an Arrow record batch; see [`Table::from_columns`].
    ///
    /// The metadata of a field adds what its Arrow type cannot express: `jembric.grain` is the
    /// grain of a column of first days of periods (`month`, `week from Sunday`), and
    /// `jembric.order` is the order of a column of texts, one text on each line. `jembric.role` is
    /// what a column is for ([`Role`]). Errors: also an
    /// unknown grain, and a date that is not the first day of its period.
    pub fn from_batch(batch: &RecordBatch) -> Result<Table> {
        let fields = batch.schema_ref().fields().iter().map(|field| {
            let ours = field
                .metadata()
                .iter()
                .filter(|(key, _)| [GRAIN, ORDER, ROLE].contains(&key.as_str()));
            Field::new(field.name(), field.data_type().clone(), true).with_metadata(
                ours.map(|(key, value)| (key.clone(), value.clone())).collect::<HashMap<_, _>>(),
            )
        });
        let table = Table::of_fields(fields.zip(batch.columns().iter().cloned()))?;
        for (field, column) in table.batch.schema_ref().fields().iter().zip(table.columns()) {
            if let Some(grain) = field.metadata().get(GRAIN) {
                let periods = grain.parse().map_err(|_| Error::NoSuchGrain {
                    column: field.name().clone(),
                    grain: grain.clone(),
                })?;
                begins_periods(field.name(), column, periods)?;
            }
        }
        Ok(table)
    }

    /// Makes a table of columns of any Arrow types, each with its field.
    pub(crate) fn of_fields(columns: impl IntoIterator<Item = (Field, ArrayRef)>) -> Result<Table> {
        let mut not_numbers = 0;
        let widened = columns.into_iter().map(|(field, array)| {
            let array = widen(field.name(), array, &mut not_numbers)?;
            Ok((field.with_data_type(array.data_type().clone()), array))
        });
        let table = Table::of_known(widened.collect::<Result<Vec<_>>>()?)?;
        Ok(Table { not_numbers, ..table })
    }

    /// Makes a table of columns that come from tables and need no check.
    pub(crate) fn of_known(columns: impl IntoIterator<Item = (Field, ArrayRef)>) -> Result<Table> {
        let (fields, arrays): (Vec<Field>, Vec<ArrayRef>) = columns.into_iter().unzip();
        let mut names = HashSet::new();
        if let Some(field) = fields.iter().find(|field| !names.insert(field.name().as_str())) {
            return Err(Error::TwoColumnsOfOneName { file: None, name: field.name().clone() });
        }
        let rows = arrays.first().map_or(0, |first| first.len());
        if let Some((field, array)) =
            fields.iter().zip(&arrays).find(|(_, array)| array.len() != rows)
        {
            return Err(Error::UnequalLengths {
                name: field.name().clone(),
                rows: array.len(),
                expected: rows,
            });
        }
        if rows >= u32::MAX as usize {
            return Err(Error::TableTooLong { rows });
        }
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch =
            RecordBatch::try_new_with_options(Arc::new(Schema::new(fields)), arrays, &options)?;
        Ok(Table { batch, not_numbers: 0, origin: None, first_row: 0 })
    }

    /// The columns with their fields.
    pub(crate) fn fields(&self) -> impl Iterator<Item = (Field, ArrayRef)> {
        let fields = self.batch.schema_ref().fields().iter();
        fields.zip(self.batch.columns()).map(|(field, array)| (Field::clone(field), array.clone()))
    }

    /// Sets the origin, so that messages can name file and line.
    #[must_use]
    pub fn with_origin(mut self, origin: Origin) -> Table {
        self.origin = Some(Arc::new(origin));
        self
    }

    /// The same columns, with the knowledge about their cells and origin of another table.
    pub(crate) fn with_facts(self, not_numbers: u64, origin: Option<Origin>) -> Table {
        Table { not_numbers, origin: origin.map(Arc::new), ..self }
    }

    /// Converts the table to an Arrow record batch.
    pub fn batch(&self) -> &RecordBatch {
        &self.batch
    }

    /// The origin of the table. A result has none, because its rows are not those of a file.
    pub fn origin(&self) -> Option<&Origin> {
        self.origin.as_deref()
    }

    /// The table, as a part of a result whose first row has this number, from 0.
    #[must_use]
    pub fn with_first_row(self, first_row: u64) -> Table {
        Table { first_row, ..self }
    }

    /// The place of a row, for messages: its line in the file, or its number from 1 among the rows
    /// of the whole table.
    pub fn place(&self, row: usize) -> String {
        if let Some(origin) = self.origin() {
            return origin.place(row);
        }
        let numbers = (0..2).find_map(|place| self.row_numbers(place));
        let number =
            numbers.map_or(self.first_row + row as u64, |numbers| numbers.value(row) as u64);
        format!("row {}", number + 1)
    }

    /// The number of rows.
    pub fn rows(&self) -> usize {
        self.batch.num_rows()
    }

    /// The number of cells in number columns that were NaN and are missing now.
    pub fn not_numbers(&self) -> u64 {
        self.not_numbers
    }

    /// The names of the columns, in order.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> {
        self.batch.schema_ref().fields().iter().map(|field| field.name().as_str())
    }

    /// An empty table of this shape. A column of unknown type becomes one without values.
    pub(crate) fn without_rows(shape: &Shape) -> Result<Table> {
        Table::of_known(shape.columns().iter().map(|column| {
            let field = column.kind.unwrap_or(Type::Nothing).field(&column.name);
            let array = arrow_array::new_empty_array(field.data_type());
            (field, array)
        }))
    }

    /// The columns, in order.
    pub fn columns(&self) -> &[ArrayRef] {
        self.batch.columns()
    }

    /// The names and types of the columns.
    pub fn shape(&self) -> Shape {
        let columns = self.batch.schema_ref().fields().iter().map(|field| ColumnShape {
            name: field.name().clone(),
            kind: Some(Type::from_field(field)),
            role: Role::from_field(field),
        });
        Shape {
            file: self.origin().map(|origin| origin.file().to_owned()),
            columns: columns.collect(),
        }
    }

    /// The column with this name. Errors: the nearest names.
    pub fn column(&self, name: &str) -> Result<&ArrayRef> {
        self.batch.column_by_name(name).ok_or_else(|| self.shape().no_such_column(name))
    }

    /// The column at a place. A plan knows the places of its columns.
    pub(crate) fn at(&self, place: usize) -> &ArrayRef {
        self.batch.column(place)
    }

    /// The type of the column at a place.
    pub(crate) fn kind(&self, place: usize) -> Type {
        Type::from_field(self.batch.schema_ref().field(place))
    }

    /// The field of the column at a place.
    pub(crate) fn field_at(&self, place: usize) -> &Field {
        self.batch.schema_ref().field(place)
    }

    /// The columns at these places.
    pub(crate) fn columns_at(&self, named: &[Named]) -> Vec<ArrayRef> {
        named.iter().map(|named| self.at(named.place).clone()).collect()
    }

    /// The rows with these numbers, in that order. Cost: one read and one write of each.
    pub fn take(&self, rows: &UInt32Array) -> Result<Table> {
        let taken = |_, column: &ArrayRef| arrow_select::take::take(column, rows, None);
        let columns = parallel::of_parts(self.columns(), taken).into_iter();
        self.with_columns(columns.collect::<std::result::Result<_, _>>()?, rows.len())
    }

    /// The same, with their places in the file.
    pub fn take_with_origin(&self, rows: &UInt32Array) -> Result<Table> {
        let line = |origin: &Origin| {
            origin.only(rows.values().iter().map(|&row| origin.line(row as usize)).collect())
        };
        let origin = self.origin().map(line);
        Ok(self.take(rows)?.with_facts(self.not_numbers(), origin))
    }

    /// The rows of a mask, in order. Cost: one read of the columns and one write of the rows that
    /// are kept.
    pub(crate) fn filter(&self, rows: &BooleanBuffer) -> Result<Table> {
        let kept = rows.count_set_bits();
        if kept == self.rows() {
            return Ok(self.clone().anonymous());
        }
        let filter = FilterBuilder::new(&BooleanArray::new(rows.clone(), None)).optimize().build();
        let columns = parallel::of_parts(self.columns(), |_, column| filter.filter(column));
        self.with_columns(columns.into_iter().collect::<std::result::Result<_, _>>()?, kept)
    }

    /// The bytes of a row, except for texts of more than twelve bytes, which rows may share.
    pub fn row_bytes(&self) -> u64 {
        self.columns()
            .iter()
            .map(|column| column.data_type().primitive_width().unwrap_or(16) as u64)
            .sum()
    }

    /// The bytes of all rows, with their texts.
    pub fn bytes(&self) -> u64 {
        const SHORT: u32 = 12;
        let texts = self.columns().iter().filter_map(|column| column.as_string_view_opt());
        let long = texts.map(|texts| -> u64 {
            let lengths = texts.views().iter().map(|view| *view as u32);
            lengths.filter(|length| *length > SHORT).map(u64::from).sum()
        });
        self.row_bytes() * self.rows() as u64 + long.sum::<u64>()
    }

    /// The same rows, which keep no texts of other rows in memory if those take more than their
    /// own.
    pub fn without_others_texts(&self) -> Result<Table> {
        let columns = self.columns().iter().map(without_others_texts).collect();
        let table = self.with_columns(columns, self.rows())?;
        Ok(table.with_facts(self.not_numbers, self.origin().cloned()))
    }

    /// The same rows, with their own texts together in memory. Rows of many batches otherwise refer
    /// to the texts of each batch, and rows of a selection to those of all rows.
    ///
    /// Cost: a copy of the texts.
    pub fn with_own_texts(&self) -> Result<Table> {
        let own = |column: &ArrayRef| -> ArrayRef {
            match column.as_string_view_opt() {
                Some(texts) if !texts.data_buffers().is_empty() => Arc::new(texts.gc()),
                _ => column.clone(),
            }
        };
        let table = self.with_columns(self.columns().iter().map(own).collect(), self.rows())?;
        Ok(table.with_facts(self.not_numbers, self.origin().cloned()))
    }

    /// The column at a place as a table, with its origin.
    pub(crate) fn alone(&self, place: usize) -> Result<Table> {
        Ok(Table {
            batch: self.batch.project(&[place])?,
            first_row: self.first_row,
            not_numbers: 0,
            origin: self.origin.clone(),
        })
    }

    /// The first rows, without a copy.
    #[must_use]
    pub fn head(&self, rows: usize) -> Table {
        self.slice(0, rows)
    }

    /// A number of rows from this one on, or as many as there are. The columns are shared.
    #[must_use]
    pub fn slice(&self, first: usize, rows: usize) -> Table {
        let first = first.min(self.rows());
        let moved = |origin: &Arc<Origin>| match first {
            0 => origin.clone(),
            _ => Arc::new(origin.after(first)),
        };
        Table {
            batch: self.batch.slice(first, rows.min(self.rows() - first)),
            // The NaN cells of the table are reported with its first rows.
            not_numbers: if first == 0 { self.not_numbers } else { 0 },
            origin: self.origin.as_ref().map(moved),
            first_row: self.first_row + first as u64,
        }
    }

    /// The table with one more column. Errors: the name is taken.
    pub fn with_column(&self, name: &str, column: ArrayRef) -> Result<Table> {
        self.with_field(Field::new(name, column.data_type().clone(), true), column)
    }

    /// The table with one more column, given with its field.
    pub(crate) fn with_field(&self, field: Field, column: ArrayRef) -> Result<Table> {
        self.shape().with(field.name(), Type::Nothing)?;
        let mut not_numbers = self.not_numbers;
        let column = widen(field.name(), column, &mut not_numbers)?;
        let field = field.with_data_type(column.data_type().clone());
        let table = Table::of_known(self.fields().chain([(field, column)]))?;
        let (origin, first_row) = (self.origin.clone(), self.first_row);
        Ok(Table { origin, not_numbers, first_row, ..table })
    }

    /// The table with columns renamed. Errors: two have the same name.
    pub(crate) fn renamed(&self, names: &[Named]) -> Result<Table> {
        let names = new_names(self.names(), names)?;
        if self.names().eq(names.iter().map(String::as_str)) {
            return Ok(self.clone());
        }
        Table::of_fields(
            self.fields().zip(names).map(|((field, array), name)| (field.with_name(name), array)),
        )
    }

    /// The table without this column, if it has one of that name.
    pub(crate) fn without(&self, name: &str) -> Result<Table> {
        Table::of_known(self.fields().filter(|(field, _)| field.name() != name))
    }

    /// Only these columns, under their new names and without an origin.
    pub(crate) fn select(&self, named: &[Named]) -> Result<Table> {
        let one = |named: &Named| {
            let field = Field::clone(self.batch.schema_ref().field(named.place));
            (field.with_name(&named.shown_as), self.at(named.place).clone())
        };
        Table::of_known(named.iter().map(one))
    }

    /// The same columns with these roles, by their names.
    pub(crate) fn with_roles(&self, role: impl Fn(&str) -> Option<Role>) -> Table {
        let with_role = |field: &arrow_schema::FieldRef| {
            let role = role(field.name());
            if Role::from_field(field) == role
                && (role.is_some() || !field.metadata().contains_key(ROLE))
            {
                return field.clone();
            }
            let mut metadata = field.metadata().clone();
            metadata.remove(ROLE);
            metadata.extend(role.map(|role| (ROLE.to_owned(), role.word().to_owned())));
            Arc::new(Field::clone(field).with_metadata(metadata))
        };
        let fields = self.batch.schema_ref().fields().iter().map(with_role);
        let schema = Arc::new(Schema::new(fields.collect::<arrow_schema::Fields>()));
        let options = RecordBatchOptions::new().with_row_count(Some(self.rows()));
        let columns = self.columns().to_vec();
        // The schema differs in metadata only, so it fits the columns.
        let batch = RecordBatch::try_new_with_options(schema, columns, &options);
        Table { batch: batch.unwrap_or_else(|_| self.batch.clone()), ..self.clone() }
    }

    /// The same rows as a result, which has no origin.
    pub(crate) fn anonymous(self) -> Table {
        Table { origin: None, first_row: 0, ..self }
    }

    /// All of its columns, under their own names.
    pub(crate) fn all_named(&self) -> Vec<Named> {
        let named = |(place, name): (usize, &str)| Named::unrenamed(place, name);
        self.names().enumerate().map(named).collect()
    }

    /// The order of the texts in the column at a place, if they have one: the first is the least.
    pub(crate) fn order_at(&self, place: usize) -> Option<Vec<&str>> {
        Some(self.batch.schema_ref().field(place).metadata().get(ORDER)?.lines().collect())
    }

    pub(crate) fn with_columns(&self, columns: Vec<ArrayRef>, rows: usize) -> Result<Table> {
        let options = RecordBatchOptions::new().with_row_count(Some(rows));
        let batch = RecordBatch::try_new_with_options(self.batch.schema(), columns, &options)?;
        Ok(Table { batch, not_numbers: 0, origin: None, first_row: 0 })
    }
}

/// The same values without the texts of other values, if those take more memory than their own.
/// A column of selected values otherwise keeps all texts of the column that they come from.
pub(crate) fn without_others_texts(column: &ArrayRef) -> ArrayRef {
    let Some(texts) = column.as_string_view_opt() else { return column.clone() };
    let held: usize = texts.data_buffers().iter().map(|buffer| buffer.len()).sum();
    if held > 2 * texts.total_buffer_bytes_used() { Arc::new(texts.gc()) } else { column.clone() }
}

const ORDER: &str = "jembric.order";

/// A column of texts that have an order of their own.
pub(crate) fn ordered_field(name: &str, order: &[impl AsRef<str>]) -> Field {
    let order: Vec<&str> = order.iter().map(AsRef::as_ref).collect();
    Field::new(name, DataType::Utf8View, true)
        .with_metadata(HashMap::from([(ORDER.to_owned(), order.join("\n"))]))
}

pub(crate) fn begins_periods(name: &str, column: &ArrayRef, periods: Periods) -> Result<()> {
    let Some(days) = column.as_primitive_opt::<Date32Type>() else {
        return Ok(());
    };
    let begins = |day: Option<Day>| day.is_none_or(|day| periods.first_day(day) == day);
    match days.iter().position(|day| !begins(day.and_then(Day::from_number))) {
        None => Ok(()),
        Some(row) => Err(Error::NotAFirstDay {
            column: name.to_owned(),
            row: row + 1,
            day: Day::from_number(days.value(row)).unwrap_or(Day::MIN),
            grain: periods.grain(),
        }),
    }
}

/// Converts a column to one of the types of tables.
fn widen(name: &str, array: ArrayRef, not_numbers: &mut u64) -> Result<ArrayRef> {
    let wider = match array.data_type() {
        DataType::Int8 | DataType::Int16 | DataType::Int32 => Some(DataType::Int64),
        DataType::UInt8 | DataType::UInt16 | DataType::UInt32 | DataType::UInt64 => {
            Some(DataType::Int64)
        }
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
            return Err(Error::Unsupported {
                column: name.to_owned(),
                data_type: other.to_string(),
            });
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
    inside: impl Fn(&T::Native) -> bool + Sync,
) -> Result<()> {
    let values = dates.values();
    // Without a branch for each value.
    let of_stretch = |rows: Range<usize>| values[rows].iter().fold(true, |all, v| all & inside(v));
    let are_inside = parallel::of_stretches(values.len(), parallel::STRETCH, of_stretch);
    if are_inside.into_iter().all(|are| are) {
        return Ok(());
    }
    // The value behind a missing cell has no meaning.
    match dates.iter().position(|date| date.is_some_and(|date| !inside(&date))) {
        Some(row) => Err(Error::DateBeyondYears { column: column.to_owned(), row: row + 1 }),
        None => Ok(()),
    }
}

/// Replaces NaN by a missing value and −0 by 0, and counts the NaNs. A column without either is
/// returned unchanged.
fn plain_floats(array: ArrayRef, not_numbers: &mut u64) -> ArrayRef {
    let floats: &Float64Array = array.as_primitive::<Float64Type>();
    let odd = |value: &f64| value.is_nan() || (*value == 0.0 && value.is_sign_negative());
    if !parallel::any(floats.len(), |row| odd(&floats.values()[row])) {
        return array;
    }
    let missing = floats.null_count();
    let plain: Float64Array = floats
        .iter()
        .map(|value| value.filter(|value| !value.is_nan()).map(|value| value + 0.0))
        .collect();
    *not_numbers += (plain.null_count() - missing) as u64;
    Arc::new(plain)
}

#[cfg(test)]
mod tests;
