//! Text values of a setting as values of a column. [`EntityList`]: a list of entities.

use crate::{
    calendar::Period,
    error::{Error, Result},
    kind::{Type, periods_of},
    settings::{FromGiven, Given, Setting, refused},
    shape::Named,
    table::Table,
};
use arrow_array::{Array, ArrayRef, Date32Array, StringViewArray};
use arrow_cast::cast;
use arrow_schema::{DataType, Field};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

/// Converts texts to values of a column; missing ones stay missing.
///
/// Errors: the first text that is not a value of the column's type. A column without any value
/// keeps the texts.
pub(crate) fn read_as(
    setting: &'static str,
    field: &Field,
    texts: StringViewArray,
) -> Result<ArrayRef> {
    let read: ArrayRef = match field.data_type() {
        DataType::Utf8View | DataType::Null => return Ok(Arc::new(texts)),
        DataType::Date32 => {
            let periods = periods_of(field);
            let of_its_kind =
                |period: &Period| period.periods() == periods || period.first() == period.last();
            let day = |text: &str| {
                let period = text.parse::<Period>().ok().filter(of_its_kind)?;
                Some(periods.first_day(period.first()).number())
            };
            Arc::new(texts.iter().map(|text| day(text?)).collect::<Date32Array>())
        }
        kind => cast(&texts, kind)?,
    };
    let lost = |row: &usize| {
        let places = match field.data_type() {
            DataType::Decimal64(_, places) | DataType::Decimal128(_, places) => *places as usize,
            _ => usize::MAX,
        };
        let digits = texts
            .value(*row)
            .trim_end_matches('0')
            .split_once('.')
            .map_or(0, |(_, part)| part.len());
        texts.is_valid(*row) && (read.is_null(*row) || digits > places)
    };
    match (0..texts.len()).find(lost) {
        None => Ok(read),
        Some(row) => Err(Error::NotAValue {
            setting,
            text: texts.value(row).to_owned(),
            column: field.name().clone(),
            kind: Type::from_field(field),
        }),
    }
}

/// A list of entities, given by the values of their key columns, which need not have records.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct EntityList(Vec<Vec<Option<String>>>);

impl FromGiven for EntityList {
    fn from_given(given: &Given, setting: &Setting) -> Result<EntityList> {
        let cell = |cell: &Given| match cell {
            Given::Nothing => Ok(None),
            Given::Text(text) => Ok(Some(text.clone())),
            _ => refused(cell, setting),
        };
        let keys = |keys: &Given| match keys {
            Given::List(cells) => cells.iter().map(cell).collect(),
            _ => refused(keys, setting),
        };
        match given {
            Given::List(all) => Ok(EntityList(all.iter().map(keys).collect::<Result<_>>()?)),
            _ => refused(given, setting),
        }
    }
}

impl From<&EntityList> for Given {
    fn from(list: &EntityList) -> Given {
        list.0.iter().map(|keys| keys.iter().cloned().collect::<Given>()).collect()
    }
}

impl EntityList {
    /// The entities in these columns of a table.
    ///
    /// Errors: a column is missing.
    pub fn from_table<N: AsRef<str>>(table: &Table, columns: &[N]) -> Result<EntityList> {
        let cells = |row| {
            let cell = |name: &N| {
                let name = name.as_ref();
                table.column(name)?.is_valid(row).then(|| table.cell_text(name, row)).transpose()
            };
            columns.iter().map(cell).collect()
        };
        columns.iter().try_for_each(|name| table.column(name.as_ref()).map(drop))?;
        Ok(EntityList((0..table.rows()).map(cells).collect::<Result<_>>()?))
    }

    /// The number of entries, including those without a key and duplicates.
    pub fn len(&self) -> usize {
        self.0.len()
    }

    /// Whether the list is empty.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The entries whose numbers fulfil a condition.
    pub(crate) fn only(&self, is: impl Fn(usize) -> bool) -> EntityList {
        let kept = self.0.iter().enumerate().filter(|(n, _)| is(*n));
        EntityList(kept.map(|(_, keys)| keys.clone()).collect())
    }

    /// The list without the entries that lack a key.
    pub(crate) fn complete(&self) -> EntityList {
        EntityList(self.0.iter().filter(|keys| keys.iter().all(Option::is_some)).cloned().collect())
    }

    /// The keys of a table's rows, followed by those of the list.
    ///
    /// Errors: an entry does not have one value for each key column, or a value is not of its
    /// column's type.
    pub(crate) fn after(&self, table: &Table, per: &[Named]) -> Result<Table> {
        if let Some(keys) = self.0.iter().find(|keys| keys.len() != per.len()) {
            return Err(Error::Setting {
                setting: "entities",
                value: format!("{} columns", keys.len()),
                expected: "as many columns as `per` has, in the same order".into(),
            });
        }
        let keys = table.select(per)?;
        let mut columns = Vec::new();
        for (n, (field, array)) in keys.fields().enumerate() {
            let texts: StringViewArray = self.0.iter().map(|keys| keys[n].as_deref()).collect();
            let listed = read_as("entities", &field, texts)?;
            let array = if *array.data_type() == DataType::Null {
                cast(&array, listed.data_type())?
            } else {
                array
            };
            let both = arrow_select::concat::concat(&[array.as_ref(), listed.as_ref()])?;
            columns.push((field.with_data_type(both.data_type().clone()), both));
        }
        Table::of_known(columns)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sample::{shown, table};
    use rstest::rstest;

    #[rstest]
    #[case("k:number", "-12", "-12")]
    #[case("k:money", "3.5", "3.50")]
    #[case("k:money", "3.500", "3.50")]
    #[case("k:float", "1e3", "1000.0")]
    #[case("k:text", "0417", "0417")]
    #[case("k:date\n2025-06-30", "2024-02-29", "2024-02-29")]
    #[case("k:date\n2025-06", "2024-02", "2024-02")]
    #[case("k:date\n2025-06", "2024-02-29", "2024-02")]
    #[case("k:moment", "2024-02-29T10:30:00", "2024-02-29T10:30")]
    fn a_text_is_a_value_of_its_column(
        #[case] column: &str,
        #[case] text: &str,
        #[case] value: &str,
    ) {
        let table = table(column);
        let field = table.field_at(0).clone();
        let array = read_as("set", &field, StringViewArray::from(vec![Some(text), None])).unwrap();
        assert_eq!(shown(&Table::of_known([(field, array)]).unwrap()), [value, "-"]);
    }

    #[rstest]
    #[case("k:number", "3.5", "whole numbers")]
    #[case("k:money", "0.125", "decimals, 2 places")]
    #[case("k:date\n2025-06-30", "2025-06", "dates")]
    #[case("k:date\n2025-06", "2025-Q2", "months")]
    #[case("k:date\n2025-06-30", "2025-02-29", "dates")]
    #[case("k:moment", "noon", "moments")]
    fn what_is_no_value_of_it_is_named(
        #[case] column: &str,
        #[case] text: &str,
        #[case] kind: &str,
    ) {
        let field = table(column).field_at(0).clone();
        let error =
            read_as("set", &field, StringViewArray::from(vec![text])).unwrap_err().to_string();
        assert_eq!(
            error,
            format!("`set`: `{text}` is not a value of column `k`, which holds {kind}")
        );
    }

    #[test]
    fn listed_keys_come_after_those_of_the_rows_in_their_types() {
        let list =
            EntityList::from_table(&table("v:text m:date\nPetrel 2025-06\n- 2025-07"), &["v", "m"])
                .unwrap();
        assert_eq!((list.len(), list.complete().len(), list.is_empty()), (2, 1, false));
        let rows = table("when:date vessel:text\n2024-12 Wend");
        let per = rows.shape().named(&["vessel as ship".to_owned(), "when".to_owned()]).unwrap();
        let keys = list.after(&rows, &per).unwrap();
        assert_eq!(keys.names().collect::<Vec<_>>(), ["ship", "when"]);
        assert_eq!(shown(&keys), ["Wend 2024-12", "Petrel 2025-06", "- 2025-07"]);
        // The written text is read back unchanged.
        let text = serde_json::to_string(&list).unwrap();
        assert_eq!(
            (text.as_str(), serde_json::from_str::<EntityList>(&text).unwrap()),
            (r#"[["Petrel","2025-06"],[null,"2025-07"]]"#, list)
        );
    }
}
