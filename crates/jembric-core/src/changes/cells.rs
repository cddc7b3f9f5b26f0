//! [`Cells`]: makes the rows of the result from the cells that differ.

use super::{Compared, Records};
use crate::{
    cell_text::CellText,
    error::Result,
    kind::{Type, period_field},
    number::{Number, Numbers, in_one_type},
    number_text::{decimal_text, float},
    table::Table,
    within::keys::Pair,
};
use arrow_array::{
    Array, ArrayRef, Decimal128Array, Float64Array, Int64Array, StringViewArray,
    builder::StringViewBuilder, cast::AsArray, new_null_array, types::*,
};
use arrow_buffer::BooleanBuffer;
use arrow_cast::cast;
use arrow_ord::sort::{SortColumn, lexsort_to_indices};
use arrow_schema::{DataType, Field, SortOptions};
use arrow_select::interleave::interleave;
use std::sync::Arc;

/// The type of values before and now: that of all columns, or text.
pub(super) fn common_type(kinds: &[(Type, Type)]) -> Type {
    let mut all = kinds.iter().flat_map(|(now, before)| [*now, *before]);
    let mut some = all.clone().filter(|kind| *kind != Type::Nothing);
    match (all.next(), some.next()) {
        (Some(_), Some(first)) if some.all(|kind| kind == first) => first,
        (Some(first), None) => first,
        _ => Type::Text,
    }
}

/// The type of the differences: that of the numbers, or whole days. Text if some numbers are floats
/// and others are not, because no type of numbers holds both.
pub(super) fn difference_type(kinds: &[(Type, Type)]) -> Type {
    let numbers = kinds.iter().filter(|kinds| are_numbers(**kinds));
    let numbers = numbers.flat_map(|(now, before)| [*now, *before]);
    let common =
        numbers.filter(|kind| *kind != Type::Nothing).reduce(|all, kind| match (all, kind) {
            (all, kind) if all == kind => all,
            (Type::Float | Type::Text, _) | (_, Type::Float) => Type::Text,
            (Type::Decimal { places: one }, Type::Decimal { places: other }) => {
                Type::Decimal { places: one.max(other) }
            }
            (Type::Decimal { places }, _) | (_, Type::Decimal { places }) => {
                Type::Decimal { places }
            }
            _ => Type::Integer,
        });
    common.unwrap_or(Type::Integer)
}

fn are_numbers((now, before): (Type, Type)) -> bool {
    now.is_number() && before.is_number()
}

/// The cells that differ, and the records on one side only.
pub(super) struct ChangedCells<'a> {
    pub(super) pairs: &'a [Pair],
    pub(super) compared: &'a [Compared],
    pub(super) now: &'a Table,
    pub(super) before: &'a Table,
    pub(super) records: &'a Records,
    /// For each column, the records of both sides whose cells differ.
    pub(super) differing: Vec<BooleanBuffer>,
}

/// Columns with their fields.
type Columns = Vec<(Field, ArrayRef)>;

/// A row of the result.
#[derive(Clone, Copy)]
struct Row {
    now: Option<u32>,
    before: Option<u32>,
    /// The column that changed, by its place among those compared.
    column: Option<usize>,
}

impl<'a> ChangedCells<'a> {
    /// For each record of both sides, whether it differs.
    pub(super) fn changed(&self) -> Vec<bool> {
        let mut changed = vec![false; self.records.both.len()];
        for differing in &self.differing {
            differing.set_indices().for_each(|record| changed[record] = true);
        }
        changed
    }

    /// The number of cells that differ.
    pub(super) fn cells(&self) -> u64 {
        self.differing.iter().map(|differing| differing.count_set_bits() as u64).sum()
    }

    /// The number of rows of the result.
    pub(super) fn rows(&self) -> u64 {
        self.cells() + (self.records.appeared.len() + self.records.gone.len()) as u64
    }

    fn kinds(&self) -> Vec<(Type, Type)> {
        let kinds =
            |column: &Compared| (self.now.kind(column.now), self.before.kind(column.before));
        self.compared.iter().map(kinds).collect()
    }

    /// Whether values are shown as text because columns have different types.
    pub(super) fn is_text(&self) -> bool {
        let kinds = self.kinds();
        common_type(&kinds) == Type::Text
            && kinds
                .iter()
                .any(|(now, before)| [now, before].iter().any(|kind| **kind != Type::Text))
    }

    /// The result, and the number of differences that do not fit into its column.
    pub(super) fn table(&self) -> Result<(Table, u64)> {
        let (keys, rows) = self.in_order()?;
        let change = |row: &Row| match (row.now, row.before) {
            (Some(_), Some(_)) => "changed",
            (Some(_), None) => "appeared",
            _ => "gone",
        };
        let change: StringViewArray = rows.iter().map(|row| Some(change(row))).collect();
        let name = |row: &Row| row.column.map(|column| self.compared[column].name.as_str());
        let column: StringViewArray = rows.iter().map(name).collect();
        let text = |name| Field::new(name, DataType::Utf8View, true);
        let (differences, too_large) = self.differences(&rows)?;
        let values = [
            (text("change"), Arc::new(change) as ArrayRef),
            (text("column"), Arc::new(column)),
            self.values("before", &rows, false)?,
            self.values("now", &rows, true)?,
            differences,
        ];
        Ok((Table::of_known(keys.into_iter().chain(values))?, too_large))
    }

    /// The rows in the order of their keys and columns, with the columns of keys.
    fn in_order(&self) -> Result<(Columns, Vec<Row>)> {
        // The records that have rows, each with its rows and columns in order.
        let changed = self.changed();
        let both = self.records.both.iter().enumerate().filter(|(record, _)| changed[*record]);
        let both = both.map(|(record, (now, before))| (Some(*now), Some(*before), Some(record)));
        let appeared = self.records.appeared.iter().map(|now| (Some(*now), None, None));
        let gone = self.records.gone.iter().map(|before| (None, Some(*before), None));
        let found: Vec<(Option<u32>, Option<u32>, Option<usize>)> =
            both.chain(appeared).chain(gone).collect();
        let at: Vec<(usize, usize)> = found
            .iter()
            .map(|(now, before, _)| match (now, before) {
                (Some(now), _) => (0, *now as usize),
                (None, before) => (1, before.unwrap_or_default() as usize),
            })
            .collect();
        let mut sides = Vec::new();
        for pair in self.pairs {
            sides.push(in_one_type(self.now.at(pair.of_events), self.before.at(pair.of_windows))?);
        }
        let options = Some(SortOptions { descending: false, nulls_first: false });
        let mut columns = Vec::new();
        for (one, other) in &sides {
            if *one.data_type() != DataType::Null {
                columns.push(SortColumn { values: interleave(&[one, other], &at)?, options });
            }
        }
        // Columns without values have at most one key, the missing one.
        let order: Vec<usize> = if columns.is_empty() {
            (0..found.len()).collect()
        } else {
            let order = lexsort_to_indices(&columns, None)?;
            order.values().iter().map(|place| *place as usize).collect()
        };
        let (mut rows, mut places) = (Vec::new(), Vec::new());
        for place in order {
            let (now, before, record) = found[place];
            match record {
                None => rows.push(Row { now, before, column: None }),
                Some(record) => {
                    let differs = |column: &usize| self.differing[*column].value(record);
                    let columns = (0..self.compared.len()).filter(differs);
                    rows.extend(columns.map(|column| Row { now, before, column: Some(column) }));
                }
            }
            places.resize(rows.len(), at[place]);
        }
        let mut keys = Vec::new();
        for (pair, (one, other)) in self.pairs.iter().zip(&sides) {
            let field = self.now.field_at(pair.of_events);
            let array = if *one.data_type() == DataType::Null {
                new_null_array(&DataType::Null, rows.len())
            } else {
                interleave(&[one, other], &places)?
            };
            keys.push((field.clone().with_data_type(array.data_type().clone()), array));
        }
        Ok((keys, rows))
    }

    /// The cells of one side.
    fn values(&self, name: &str, rows: &[Row], is_now: bool) -> Result<(Field, ArrayRef)> {
        let table = if is_now { self.now } else { self.before };
        let place = |column: &Compared| if is_now { column.now } else { column.before };
        let cell = |row: &Row| {
            let side = if is_now { row.now } else { row.before };
            row.column.zip(side)
        };
        let common = common_type(&self.kinds());
        if common == Type::Text {
            let texts = CellText::for_columns(table);
            let mut cells = StringViewBuilder::with_capacity(rows.len());
            for row in rows {
                let found =
                    cell(row).map(|(column, row)| (&texts[place(&self.compared[column])], row));
                match found.filter(|(text, row)| !text.is_missing(*row as usize)) {
                    Some((text, row)) => cells.append_value(text.text(row as usize)),
                    None => cells.append_null(),
                }
            }
            return Ok((Field::new(name, DataType::Utf8View, true), Arc::new(cells.finish())));
        }
        let arrays: Vec<&ArrayRef> =
            self.compared.iter().map(|column| table.at(place(column))).collect();
        // Decimals of one kind may have 64 or 128 bits, and a column may have no values.
        let both = self
            .compared
            .iter()
            .flat_map(|column| [self.now.at(column.now), self.before.at(column.before)]);
        let data_type = both
            .map(|array| array.data_type())
            .filter(|of| **of != DataType::Null)
            .max_by_key(|of| matches!(of, DataType::Decimal128(..)))
            .cloned()
            .unwrap_or(DataType::Null);
        if data_type == DataType::Null {
            return Ok((
                Field::new(name, DataType::Null, true),
                new_null_array(&data_type, rows.len()),
            ));
        }
        let mut cast_arrays =
            arrays.iter().map(|array| Ok(cast(array, &data_type)?)).collect::<Result<Vec<_>>>()?;
        cast_arrays.push(new_null_array(&data_type, 1));
        let none = (cast_arrays.len() - 1, 0);
        let places: Vec<(usize, usize)> = rows
            .iter()
            .map(|row| cell(row).map_or(none, |(column, row)| (column, row as usize)))
            .collect();
        let arrays: Vec<&dyn Array> = cast_arrays.iter().map(|array| &**array).collect();
        let array = interleave(&arrays, &places)?;
        let field = match common {
            Type::Date(periods) => period_field(name, periods),
            _ => Field::new(name, data_type, true),
        };
        Ok((field, array))
    }

    /// The values of a column that have a difference.
    fn operands(&self, column: &Compared, kinds: (Type, Type)) -> Option<Operands<'a>> {
        let arrays = [self.now.at(column.now), self.before.at(column.before)];
        let values = match kinds {
            (Type::Date(_), Type::Date(_)) => {
                Values::Days(arrays.map(|array| &**array.as_primitive::<Date32Type>().values()))
            }
            kinds if are_numbers(kinds) => {
                let [one, other] = arrays.map(Numbers::from_array);
                let places = |kind| match kind {
                    Type::Decimal { places } => Some(places),
                    Type::Float => None,
                    _ => Some(0),
                };
                let most = places(kinds.0).zip(places(kinds.1)).map(|(one, other)| one.max(other));
                Values::Numbers([one?, other?], most)
            }
            _ => return None,
        };
        Some(Operands { arrays, values })
    }

    /// The differences of numbers, and of dates in days; and how many are left out, because they
    /// do not fit into the column.
    fn differences(&self, rows: &[Row]) -> Result<((Field, ArrayRef), u64)> {
        let kinds = self.kinds();
        let kind = difference_type(&kinds);
        let operands = self.compared.iter().zip(&kinds);
        let operands: Vec<Option<Operands<'_>>> =
            operands.map(|(column, kinds)| self.operands(column, *kinds)).collect();
        let of = |row: &Row| -> Option<Difference> {
            let (column, now, before) = (row.column?, row.now?, row.before?);
            operands[column].as_ref()?.difference(now as usize, before as usize)
        };
        let array: ArrayRef = match kind {
            Type::Float => {
                let floats = rows.iter().map(|row| of(row)?.float());
                Arc::new(floats.collect::<Float64Array>())
            }
            Type::Text => {
                let texts = rows.iter().map(|row| of(row)?.text());
                Arc::new(texts.collect::<StringViewArray>())
            }
            Type::Decimal { places } => {
                let units = rows.iter().map(|row| of(row)?.units(places));
                Arc::new(units.collect::<Decimal128Array>().with_precision_and_scale(38, places)?)
            }
            _ => {
                let whole = rows.iter().map(|row| i64::try_from(of(row)?.units(0)?).ok());
                Arc::new(whole.collect::<Int64Array>())
            }
        };
        let are_there = |row: &Row| {
            let (column, now, before) = (row.column?, row.now?, row.before?);
            let (compared, _) = (&self.compared[column], operands[column].as_ref()?);
            let has = |table: &Table, place, row| table.at(place).is_valid(row as usize);
            Some(has(self.now, compared.now, now) && has(self.before, compared.before, before))
        };
        let expected = rows.iter().filter(|row| are_there(row) == Some(true)).count();
        let too_large = expected.saturating_sub(array.len() - array.null_count());
        Ok(((Field::new("difference", array.data_type().clone(), true), array), too_large as u64))
    }
}

/// The values of a column on both sides, for their differences.
struct Operands<'a> {
    arrays: [&'a ArrayRef; 2],
    values: Values<'a>,
}

enum Values<'a> {
    Days([&'a [i32]; 2]),
    /// With the decimal places of their differences; none if one side has floats.
    Numbers([Numbers<'a>; 2], Option<i8>),
}

/// The difference of two values.
enum Difference {
    Days(i64),
    /// With the decimal places that it is shown with.
    Exact(Number, Option<i8>),
    /// The difference of two floats of very different size.
    Rounded(f64),
}

impl Operands<'_> {
    /// None if a value is missing, or if the difference is too large.
    fn difference(&self, now: usize, before: usize) -> Option<Difference> {
        let [one, other] = self.arrays;
        if one.is_null(now) || other.is_null(before) {
            return None;
        }
        Some(match &self.values {
            Values::Days([one, other]) => {
                Difference::Days(i64::from(one[now]) - i64::from(other[before]))
            }
            Values::Numbers([one, other], places) => match one.at(now).minus(other.at(before)) {
                Some(difference) => Difference::Exact(difference, *places),
                None => {
                    let float = one.at(now).to_float() - other.at(before).to_float();
                    Difference::Rounded(places.is_none().then_some(float)?)
                }
            },
        })
    }
}

impl Difference {
    fn float(self) -> Option<f64> {
        match self {
            Difference::Days(days) => Some(days as f64),
            Difference::Exact(number, _) => Some(number.to_float()),
            Difference::Rounded(float) => Some(float).filter(|float| !float.is_nan()),
        }
    }

    /// In units of a decimal place. None if it has more than 38 digits.
    fn units(self, places: i8) -> Option<i128> {
        const MOST: i128 = 10_i128.pow(38) - 1;
        let units = match self {
            Difference::Days(days) => Number::of_units(days.into(), 0).units(places),
            Difference::Exact(number, _) => number.units(places),
            Difference::Rounded(_) => None,
        };
        units.filter(|units| (-MOST..=MOST).contains(units))
    }

    fn text(self) -> Option<String> {
        match self {
            Difference::Days(days) => Some(days.to_string()),
            Difference::Exact(number, places) => Some(
                places
                    .and_then(|places| Some(decimal_text(number.units(places)?, places)))
                    .unwrap_or_else(|| number.to_string()),
            ),
            Difference::Rounded(_) => self.float().map(|value| {
                let mut text = String::new();
                float(&mut text, value);
                text
            }),
        }
    }
}
