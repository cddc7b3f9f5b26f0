//! Tables of the page: plain HTML with all rows, which the script sorts, searches and divides into
//! pages.
//!
//! A column's head has the rank of each row's value, so that the script sorts by value and needs to
//! know nothing of types.

use super::{marks::Marks, texts};
use crate::{
    Table, Type,
    arrow::{Array, ArrayRef, Float64Array, cast::AsArray, types::Float64Type},
    formats::text::CellText,
    rounded, visible,
};
use arrow_ord::rank::rank;
use maud::{Markup, html};

/// The most digits behind the decimal point that are padded.
const MOST_PADDED: usize = 12;

/// A table with more columns is printed small.
const MANY: usize = 12;

/// The most columns that fit on paper. `page.css` hides those behind them.
const MOST_PRINTED: usize = 24;

/// A table with its caption, the number of all its rows, and a link to a file with all of them.
pub(super) struct Shown<'a> {
    pub(super) table: &'a Table,
    pub(super) rows: usize,
    pub(super) caption: &'a str,
    /// The name and the URL of the file.
    pub(super) file: Option<(&'a str, &'a str)>,
    /// What changed since an earlier date.
    pub(super) marks: Option<&'a Marks>,
}

impl Shown<'_> {
    pub(super) fn markup(&self) -> Markup {
        let Shown { table, rows, caption, file, marks } = self;
        let columns = columns_of(table);
        let is_beyond = columns.len() > MOST_PRINTED;
        let class = if is_beyond { "many beyond" } else { "many" };
        let class = (columns.len() > MANY).then_some(class);
        html! {
            div class="table" data-rows=(rows) {
                div class="scroll" tabindex="0" role="group"
                    aria-label={ (texts::TABLE) ": " (visible(caption)) } {
                    table class=[class] {
                        caption { (visible(caption)) }
                        thead {
                            tr {
                                @for column in &columns {
                                    th scope="col" class=[column.class] data-ranks=[&column.ranks] {
                                        (broken(&column.name))
                                    }
                                }
                            }
                        }
                        tbody {
                            @for row in 0..table.rows() {
                                @let is_new = marks.is_some_and(|marks| marks.appeared(row));
                                tr class=[is_new.then_some("new")] {
                                    @for (n, column) in columns.iter().enumerate() {
                                        @let cell = &column.cells[row];
                                        @let before = marks.and_then(|marks| {
                                            marks.before(row, &column.column)
                                        });
                                        @if let Some(before) = before {
                                            (changed(column, cell, before))
                                        } @else {
                                            td class=[column.class_of(cell)] {
                                                @if is_new && n == 0 {
                                                    span class="sign" aria-hidden="true" { "+ " }
                                                }
                                                (cell.text)
                                                @if is_new && n == 0 {
                                                    span class="hidden" { (texts::APPEARED) }
                                                }
                                            }
                                        }
                                    }
                                }
                            }
                        }
                    }
                }
                @if is_beyond {
                    p class="note printed" { (texts::printed(MOST_PRINTED, columns.len())) }
                }
                @if *rows == 0 {
                    p class="note" { (texts::NO_ROWS) }
                }
                @if *rows > table.rows() {
                    p class="note" { (texts::shortened(table.rows(), *rows)) }
                }
                @if let Some((name, url)) = file {
                    p class="note" { (texts::FILE) " " a href=(url) { (visible(name)) } }
                }
            }
        }
    }
}

/// A cell that changed, with its earlier value on hover.
fn changed(column: &ShownColumn, cell: &Cell, before: &str) -> Markup {
    let before = texts::before(&visible(before));
    let class = column.class_of(cell).unwrap_or_default();
    html! {
        td class={ (class) " changed" } title=(before) {
            span class="sign" aria-hidden="true" { "• " }
            (cell.text)
            span class="hidden" { " (" (before) ")" }
        }
    }
}

/// A name that may be broken after an underscore.
fn broken(name: &str) -> Markup {
    html! {
        @for (n, part) in name.split_inclusive('_').enumerate() {
            @if n > 0 { wbr; }
            (part)
        }
    }
}

/// A column with its cells as texts.
struct ShownColumn {
    /// The name of the column, and as it is shown.
    column: String,
    name: String,
    class: Option<&'static str>,
    /// The rank of each value; empty for a missing one.
    ranks: Option<String>,
    cells: Vec<Cell>,
}

struct Cell {
    text: String,
    /// The class that aligns a float on its decimal point.
    pad: Option<String>,
}

impl ShownColumn {
    fn class_of(&self, cell: &Cell) -> Option<String> {
        match (self.class, &cell.pad) {
            (Some(class), Some(pad)) => Some(format!("{class} {pad}")),
            (Some(class), None) => Some(class.to_owned()),
            (None, _) => None,
        }
    }
}

fn columns_of(table: &Table) -> Vec<ShownColumn> {
    let shape = table.shape();
    let columns = shape.columns().iter().zip(table.columns()).zip(CellText::for_columns(table));
    let shown = columns.map(|((about, array), text)| {
        let class = match about.kind {
            Some(Type::Integer | Type::Decimal { .. } | Type::Float) => Some("n"),
            Some(Type::Text) | None => None,
            // Dates and times are never broken.
            Some(_) => Some("d"),
        };
        let plain = |row| Cell { text: visible(&text.text(row)).into_owned(), pad: None };
        let cells = match about.kind {
            Some(Type::Float) => on_the_point(array.as_primitive::<Float64Type>()),
            _ => (0..table.rows()).map(plain).collect(),
        };
        let name = visible(&about.name).into_owned();
        ShownColumn { column: about.name.clone(), name, class, ranks: ranks_of(array), cells }
    });
    shown.collect()
}

/// The ranks of a column's values; none if there is nothing to sort.
fn ranks_of(array: &ArrayRef) -> Option<String> {
    if array.len() < 2 || array.logical_null_count() == array.len() {
        return None;
    }
    let ranks = rank(array, None).ok()?;
    let text = |(row, rank): (usize, &u32)| {
        if array.is_null(row) { String::new() } else { rank.to_string() }
    };
    Some(ranks.iter().enumerate().map(text).collect::<Vec<_>>().join(","))
}

/// Floats with at most six significant digits, padded so that their decimal points align.
fn on_the_point(floats: &Float64Array) -> Vec<Cell> {
    let texts: Vec<String> = floats.iter().map(|n| n.map(rounded).unwrap_or_default()).collect();
    let places = |text: &str| {
        if text.contains(['e', 'n']) {
            None
        } else {
            Some(text.split_once('.').map_or(0, |(_, places)| places.len()))
        }
    };
    let most = texts.iter().filter_map(|text| places(text)).max().unwrap_or(0).min(MOST_PADDED);
    let cell = |text: String| {
        let missing = places(&text).filter(|_| !text.is_empty()).unwrap_or(most);
        let missing = most.saturating_sub(missing);
        let point = if text.contains('.') { "" } else { " w" };
        Cell { pad: (missing > 0).then(|| format!("p{missing}{point}")), text }
    };
    texts.into_iter().map(cell).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::arrow::{Decimal128Array, StringViewArray};
    use rstest::rstest;
    use std::sync::Arc;

    #[rstest]
    #[case::numbers(Arc::new(Float64Array::from(vec![Some(10.0), Some(9.5), None])), "2,1,")]
    #[case::decimals(
        Arc::new(Decimal128Array::from(vec![100, 20, 100])),
        "3,1,3"
    )]
    #[case::texts(Arc::new(StringViewArray::from(vec![Some("b"), None, Some("a")])), "2,,1")]
    fn ranks_follow_the_values(#[case] array: ArrayRef, #[case] ranks: &str) {
        // The places of missing values do not count.
        let text = ranks_of(&array).unwrap();
        let order = |text: &str| {
            let ranks: Vec<Option<u32>> = text.split(',').map(|rank| rank.parse().ok()).collect();
            let mut rows: Vec<usize> =
                (0..ranks.len()).filter(|row| ranks[*row].is_some()).collect();
            rows.sort_by_key(|row| ranks[*row]);
            (rows, ranks.iter().filter(|rank| rank.is_none()).count())
        };
        assert_eq!(order(&text), order(ranks), "{text}");
    }

    #[test]
    fn one_row_and_missing_values_have_nothing_to_sort() {
        let one: ArrayRef = Arc::new(Float64Array::from(vec![1.0]));
        let missing: ArrayRef = Arc::new(Float64Array::from(vec![None, None]));
        assert_eq!([one, missing].map(|array| ranks_of(&array)), [None, None]);
    }

    #[test]
    fn decimal_points_are_aligned_by_classes() {
        let floats = Float64Array::from(vec![Some(1.25), Some(22.0), None, Some(0.5)]);
        let pads: Vec<Option<String>> =
            on_the_point(&floats).into_iter().map(|cell| cell.pad).collect();
        assert_eq!(pads, [None, Some("p2 w".into()), None, Some("p1".into())]);
    }
}
