//! Small tables for tests, written as text: `who:text day:date n:number`, then one row on each
//! line; `-` is a missing value.

use crate::{Table, calendar::Period, kind::period_field};
use arrow_array::{
    Array, ArrayRef, Date32Array, StringViewArray, cast::AsArray, types::TimestampMicrosecondType,
};
use arrow_cast::cast;
use arrow_schema::{DataType, Field, TimeUnit};
use std::sync::Arc;

/// Parses such a table. The types are text, date (or the label of a period), moment, instant,
/// number, float, and money with two decimal places.
pub(crate) fn table(text: &str) -> Table {
    let mut lines = text.trim().lines().map(str::trim);
    let header = lines.next().unwrap();
    let rows: Vec<Vec<&str>> = lines.map(|line| line.split_whitespace().collect()).collect();
    let columns = header.split_whitespace().enumerate().map(|(n, named)| {
        let (name, kind) = named.split_once(':').unwrap();
        let cells: StringViewArray =
            rows.iter().map(|row| Some(row[n]).filter(|cell| *cell != "-")).collect();
        let to = |kind: DataType| cast(&cells, &kind).unwrap();
        let array: ArrayRef = match kind {
            "text" => Arc::new(cells.clone()),
            "date" => {
                let periods: Vec<Option<Period>> =
                    cells.iter().map(|cell| cell?.parse().ok()).collect();
                let days =
                    periods.iter().map(|period| period.map(|period| period.first().number()));
                let cut = periods.iter().flatten().next().map(|period| period.periods());
                let days: ArrayRef = Arc::new(days.collect::<Date32Array>());
                let field = cut.map_or(Field::new(name, DataType::Date32, true), |cut| {
                    period_field(name, cut)
                });
                return (field, days);
            }
            "moment" => to(DataType::Timestamp(TimeUnit::Microsecond, None)),
            "instant" => {
                let moments = to(DataType::Timestamp(TimeUnit::Microsecond, Some("+00:00".into())));
                Arc::new(
                    moments.as_primitive::<TimestampMicrosecondType>().clone().with_timezone("UTC"),
                )
            }
            "float" => to(DataType::Float64),
            "money" => to(DataType::Decimal64(18, 2)),
            _ => to(DataType::Int64),
        };
        (Field::new(name, array.data_type().clone(), true), array)
    });
    Table::of_fields(columns).unwrap()
}

/// The rows of a table in the same form, without the header.
pub(crate) fn shown(table: &Table) -> Vec<String> {
    let names: Vec<String> = table.names().map(str::to_owned).collect();
    let cell = |name: &String, row: usize| {
        let missing =
            table.column(name).unwrap().logical_nulls().is_some_and(|nulls| nulls.is_null(row));
        if missing { "-".to_owned() } else { table.cell_text(name, row).unwrap() }
    };
    let row = |row| names.iter().map(|name| cell(name, row)).collect::<Vec<_>>().join(" ");
    (0..table.rows()).map(row).collect()
}
