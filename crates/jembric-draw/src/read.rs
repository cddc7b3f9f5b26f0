//! Reads the marks of a picture from a table.
//!
//! Every row has a series and a small picture, by the numbers of its key columns. Up to
//! [`MOST_MARKS`] marks are kept one by one, each with its value as text. With more, one pass keeps
//! the least and the greatest value of each part of the axis (about one pixel), so peaks survive
//! (`many`). Both ways do not depend on the order of the rows.

mod along;
mod bars;
mod days;
mod intervals;
mod many;
mod points;

use crate::{
    chosen::{Chosen, Column, MOST_SERIES},
    content::{Along, Content, Panel, Up},
    draw::Draw,
    kinds::Form,
};
use along::{Places, places_of};
use arrow_array::{Array, UInt32Array};
use arrow_buffer::BooleanBuffer;
use jembric_core::{
    CellText, Context, Entities, Error, Missing, Reason, Result, RowsLeftOut, Sort, Table,
    calendar::Day,
};
use std::borrow::Cow;

/// The most marks that are drawn one by one. Their titles take about 120 bytes each.
const MOST_MARKS: usize = 7_000;
/// The most rows of intervals in a small picture.
const MOST_ROWS: usize = 5_000;
/// The most small pictures.
const MOST_PANELS: usize = 60;
/// The most characters of a name in the title of a mark, of which there may be many.
const MOST_OF_A_NAME: usize = 60;
/// The key of a row of totals, as `totals` writes it.
const TOTAL: &str = "(total)";

/// What is read, and what becomes of every row.
pub(crate) struct Reading<'a> {
    pub(crate) draw: &'a Draw,
    pub(crate) chosen: Chosen,
    pub(crate) table: &'a Table,
    pub(crate) context: &'a Context,
    pub(crate) panels: Groups,
    pub(crate) series: Groups,
    pub(crate) rows_left_out: RowsLeftOut,
    /// The rows that are not drawn.
    pub(crate) left_out: BooleanBuffer,
}

/// The marks of a picture, and what becomes of every row.
///
/// Errors: too many series, rows or small pictures.
pub(crate) fn content(
    draw: &Draw,
    chosen: Chosen,
    table: &Table,
    context: &Context,
) -> Result<(RowsLeftOut, Content)> {
    let mut reading = Reading {
        draw,
        table,
        context,
        panels: Groups::default(),
        series: Groups::default(),
        rows_left_out: RowsLeftOut::default(),
        left_out: BooleanBuffer::new_unset(table.rows()),
        chosen,
    };
    reading.drop_totals();
    reading.panels = reading.groups(reading.chosen.apart.as_slice())?;
    reading.expect_few("apart", reading.panels.count(), MOST_PANELS, "small pictures")?;
    let mut content = match reading.chosen.form {
        Form::Intervals => intervals::content(&mut reading)?,
        Form::Calendar => days::content(&mut reading)?,
        Form::Bars => bars::content(&mut reading)?,
        Form::Lines | Form::Steps | Form::Dots => points::content(&mut reading)?,
    };
    let Reading { chosen, mut rows_left_out, panels, left_out, .. } = reading;
    content.drawn = (table.rows() - left_out.count_set_bits()) as u64;
    for (panel, name) in content.panels.iter_mut().zip(panels.names) {
        panel.name = name;
    }
    let form = content.form;
    let of: Vec<&str> = chosen.of.iter().map(|column| column.name.as_str()).collect();
    let mut step = format!("draw {form}");
    if !of.is_empty() {
        step.push_str(&format!(" of {}", of.join(", ")));
    }
    if let Some(along) = &chosen.along {
        step.push_str(&format!(" along {}", along.name));
    }
    if let (Some(from), Some(to)) = (&chosen.from, &chosen.to) {
        step.push_str(&format!(" from {} to {}", from.name, to.name));
    }
    if !chosen.per.is_empty() {
        step.push_str(&format!(" per {}", names(&chosen.per)));
    }
    if let Some(apart) = &chosen.apart {
        step.push_str(&format!(", apart by {}", apart.name));
    }
    if !chosen.guessed.is_empty() {
        step.push_str(&format!(" (guessed from types: {})", chosen.guessed.join(", ")));
    }
    rows_left_out.step = step;
    Ok((rows_left_out, content))
}

/// A name for the title of a mark.
pub(crate) fn short(name: &str) -> Cow<'_, str> {
    match name.char_indices().nth(MOST_OF_A_NAME) {
        Some((end, _)) => Cow::Owned(format!("{}…", &name[..end])),
        None => Cow::Borrowed(name),
    }
}

fn names(columns: &[Column]) -> String {
    columns.iter().map(|column| column.name.as_str()).collect::<Vec<_>>().join(", ")
}

impl Reading<'_> {
    /// Errors: there are more of something than a picture can show.
    pub(crate) fn expect_few(
        &self,
        setting: &str,
        found: usize,
        most: usize,
        what: &str,
    ) -> Result<()> {
        if found <= most {
            return Ok(());
        }
        let (columns, apart) = match setting {
            "apart" => (names(self.chosen.apart.as_slice()), None),
            _ => (names(&self.chosen.per), self.chosen.per.first()),
        };
        let each = if columns.is_empty() { String::new() } else { format!(" by {columns}") };
        let apart =
            if self.chosen.apart.is_none() && self.panels.count() == 1 { apart } else { None };
        Err(Error::TooMuchToDraw {
            found: format!("{} {what}{each}", jembric_core::grouped(found)),
            most: most as u64,
            apart: apart.map(|column| column.name.clone()),
        })
    }

    /// The values of these columns in the rows that are drawn.
    pub(crate) fn groups(&self, columns: &[Column]) -> Result<Groups> {
        Groups::number(self.table, columns, &self.left_out)
    }

    /// The small pictures with the keys that occur in each as its rows, and the row of each key.
    pub(crate) fn rows_of_panels(
        &self,
        drawn: &[usize],
        keys: &Groups,
    ) -> (Vec<Panel>, Vec<Vec<Option<usize>>>) {
        let mut panels = vec![Panel::default(); self.panels.count()];
        let mut rows_of = vec![vec![None; keys.count()]; panels.len()];
        drawn.iter().for_each(|&row| rows_of[self.panels.group(row)][keys.group(row)] = Some(0));
        for (panel, rows) in panels.iter_mut().zip(&mut rows_of) {
            for (key, row) in rows.iter_mut().enumerate().filter(|(_, row)| row.is_some()) {
                *row = Some(panel.rows.len());
                panel.rows.push(keys.names[key].clone());
            }
        }
        (panels, rows_of)
    }

    /// Numbers the series by the values of these columns, and by figures if there are several.
    pub(crate) fn number_series(&mut self, per: &[Column]) -> Result<()> {
        self.series = self.groups(per)?;
        let figures = self.chosen.of.len().max(1);
        self.expect_few("per", self.series.count() * figures, MOST_SERIES, "series")
    }

    /// The name of each series: its key, its figure, or both.
    pub(crate) fn series_names(&self) -> Vec<String> {
        let figures: Vec<&str> = match self.chosen.of.len() {
            0 | 1 => vec![""],
            _ => self.chosen.of.iter().map(|column| column.name.as_str()).collect(),
        };
        let named = |key: &String| {
            let key = key.clone();
            figures.iter().map(move |figure| match (key.as_str(), *figure) {
                ("", figure) => figure.to_owned(),
                (key, "") => key.to_owned(),
                (key, figure) => format!("{key} · {figure}"),
            })
        };
        self.series.names.iter().flat_map(named).collect()
    }

    /// The series of a row and a figure.
    pub(crate) fn series_of(&self, row: usize, figure: usize) -> usize {
        self.series.group(row) * self.chosen.of.len().max(1) + figure
    }

    /// Drops the rows of totals, which would stand beside their own parts.
    fn drop_totals(&mut self) {
        if !self.chosen.has_roles {
            return;
        }
        let keys = self.chosen.per.iter().chain(&self.chosen.along).chain(&self.chosen.apart);
        let mut totals = BooleanBuffer::new_unset(self.table.rows());
        for key in keys {
            let cells = &self.table.columns()[key.place];
            let Some(cells) = arrow_array::cast::AsArray::as_string_view_opt(cells.as_ref()) else {
                continue;
            };
            let is_total = |row: usize| cells.is_valid(row) && cells.value(row) == TOTAL;
            totals = &totals | &BooleanBuffer::collect_bool(cells.len(), is_total);
        }
        // Totals of periods alone have no period.
        let shape = self.table.shape();
        let period = shape
            .columns()
            .iter()
            .position(|column| column.role == Some(jembric_core::Role::Period));
        if let Some(period) = period
            && let Some(nulls) = self.table.columns()[period].nulls()
        {
            totals = &totals | &!nulls.inner();
        }
        self.drop(Reason::TotalRow, totals);
    }

    /// Leaves these rows out because the settings say so.
    pub(crate) fn drop(&mut self, reason: Reason, rows: BooleanBuffer) {
        let rows = &rows & &!&self.left_out;
        self.left_out = &self.left_out | &rows;
        self.rows_left_out.dropped.push((reason, rows));
    }

    /// Leaves these rows out because they cannot be drawn.
    pub(crate) fn set_aside(&mut self, reason: Reason, rows: BooleanBuffer) {
        let rows = &rows & &!&self.left_out;
        self.left_out = &self.left_out | &rows;
        self.rows_left_out.set_aside.push((reason, rows));
    }

    pub(crate) fn is_drawn(&self, row: usize) -> bool {
        !self.left_out.value(row)
    }

    pub(crate) fn note(&mut self, name: &str, count: usize) {
        if count > 0 {
            self.rows_left_out.counts.push((name.to_owned(), count as u64));
        }
    }

    /// Whether the values of a row were filled and not measured.
    pub(crate) fn is_marked(&self, row: usize) -> bool {
        let Some(mark) = &self.chosen.mark else { return false };
        let cells = &self.table.columns()[mark.place];
        let cells = arrow_array::cast::AsArray::as_boolean_opt(cells.as_ref());
        cells.is_some_and(|cells| cells.is_valid(row) && cells.value(row))
    }

    /// The column of filled rows, if a row that is drawn is one.
    pub(crate) fn marked(&self) -> Option<String> {
        let mark = self.chosen.mark.as_ref()?;
        let is_any = (0..self.table.rows()).any(|row| self.is_drawn(row) && self.is_marked(row));
        is_any.then(|| mark.name.clone())
    }

    /// The texts of the cells of a column.
    pub(crate) fn cells(&self, column: &Column) -> CellText<'_> {
        CellText::for_columns(self.table).swap_remove(column.place)
    }

    /// Whether all values are whole numbers.
    fn is_whole(&self) -> bool {
        let mut columns = self.chosen.of.iter().map(|of| &self.table.columns()[of.place]);
        columns.all(|column| *column.data_type() == arrow_schema::DataType::Int64)
    }

    /// A picture without marks.
    pub(crate) fn nothing(&self, form: Form, along: Along, up: Up) -> Content {
        let name = |column: Option<&Column>| column.map_or("", |column| &column.name).to_owned();
        let figures: Cow<'_, str> = match &self.chosen.of[..] {
            [one] => Cow::Borrowed(&one.name),
            _ => Cow::Borrowed(""),
        };
        Content {
            form,
            along,
            up,
            up_name: figures.into_owned(),
            along_name: name(self.chosen.along.as_ref()),
            series: self.series_names(),
            series_of: names(&self.chosen.per),
            panels: vec![Panel::default(); self.panels.count().max(1)],
            marked: self.marked(),
            has_open: false,
            is_whole: self.is_whole(),
            drawn: 0,
        }
    }
}

/// The distinct values of some columns, in their order, and the place of each row's among them.
#[derive(Clone, Debug, Default)]
pub(crate) struct Groups {
    /// The number of each row, and its place in order; none if all rows are in one group.
    ids: Option<(Entities, Vec<u32>)>,
    /// The values as text, in order. Without columns it is one empty text.
    pub(crate) names: Vec<String>,
}

impl Groups {
    /// Rows that are left out belong to no group, unless another row has their values. Cost: one
    /// pass over the columns, and a sort of their distinct values.
    fn number(table: &Table, columns: &[Column], left_out: &BooleanBuffer) -> Result<Groups> {
        if columns.is_empty() {
            return Ok(Groups { ids: None, names: vec![String::new()] });
        }
        let keys: Vec<&str> = columns.iter().map(|column| column.name.as_str()).collect();
        let ids = Entities::number(table, &keys, Missing::IsAKey)?;
        let mut occurs = vec![left_out.count_set_bits() == 0; ids.count()];
        if occurs.contains(&false) {
            let drawn = (0..table.rows()).filter(|&row| !left_out.value(row));
            drawn.for_each(|row| occurs[ids.ids()[row] as usize] = true);
        }
        let first_rows = ids.first_rows().into_iter().zip(0_i64..);
        let first_rows = first_rows.filter(|(_, id)| occurs[*id as usize]);
        let (first_rows, numbers): (Vec<u32>, Vec<i64>) = first_rows.unzip();
        let distinct = table.take(&UInt32Array::from(first_rows))?;
        // The number of each value before the sort, to find its place after it.
        let number = "number of the value, for the sort";
        let numbers = arrow_array::Int64Array::from(numbers);
        let distinct = distinct.with_column(number, std::sync::Arc::new(numbers))?;
        let sorted = Sort::new(keys.iter().copied()).apply(&distinct)?.table;
        let before = arrow_array::cast::AsArray::as_primitive::<arrow_array::types::Int64Type>(
            sorted.column(number)?.as_ref(),
        );
        let mut places = vec![0; ids.count()];
        for (place, &id) in before.values().iter().enumerate() {
            places[id as usize] = place as u32;
        }
        let cells = CellText::for_columns(&sorted);
        let name = |row: usize| {
            let part = |column: &Column| match &cells[column.place] {
                cell if cell.is_missing(row) => "(missing)".to_owned(),
                cell => match cell.text(row) {
                    text if text.trim().is_empty() => "(empty)".to_owned(),
                    text => text,
                },
            };
            columns.iter().map(part).collect::<Vec<_>>().join(" · ")
        };
        let names = (0..sorted.rows()).map(name).collect();
        Ok(Groups { ids: Some((ids, places)), names })
    }

    pub(crate) fn count(&self) -> usize {
        self.names.len()
    }

    /// The group of a row.
    pub(crate) fn group(&self, row: usize) -> usize {
        self.ids.as_ref().map_or(0, |(ids, places)| places[ids.ids()[row] as usize] as usize)
    }
}

/// The as-of date as the microsecond after it, in the unit of the dates.
pub(crate) fn after(day: Day, context: &Context, is_instant: bool) -> i64 {
    let next = i64::from(day.number()) + 1;
    let micros = next * jembric_core::calendar::MICROS_PER_DAY;
    if is_instant { context.zone.instant(micros) } else { micros }
}
