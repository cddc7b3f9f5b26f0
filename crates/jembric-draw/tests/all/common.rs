//! Reads the marks of an SVG back, as a viewer sees them.

#![allow(dead_code, reason = "each test file uses some of it")]

use jembric_core::{
    Context, Table,
    arrow::{ArrayRef, BooleanArray, Date32Array, Float64Array, StringViewArray},
    calendar::{Day, Grain},
};
use jembric_draw::{Draw, Picture};
use roxmltree::{Document, Node};
use std::sync::Arc;

/// The number of a day.
pub(crate) fn day(text: &str) -> i32 {
    text.parse::<Day>().unwrap().number()
}

pub(crate) fn days<'a>(texts: impl IntoIterator<Item = &'a str>) -> ArrayRef {
    let days = texts.into_iter().map(|text| (!text.is_empty()).then(|| day(text)));
    Arc::new(days.collect::<Date32Array>())
}

pub(crate) fn numbers(values: impl IntoIterator<Item = f64>) -> ArrayRef {
    let values = values.into_iter().map(|value| Some(value).filter(|value| !value.is_nan()));
    Arc::new(values.collect::<Float64Array>())
}

pub(crate) fn texts<'a>(texts: impl IntoIterator<Item = &'a str>) -> ArrayRef {
    let texts = texts.into_iter().map(|text| Some(text).filter(|text| !text.is_empty()));
    Arc::new(texts.collect::<StringViewArray>())
}

pub(crate) fn truths(truths: impl IntoIterator<Item = bool>) -> ArrayRef {
    Arc::new(truths.into_iter().map(Some).collect::<BooleanArray>())
}

pub(crate) fn table<const N: usize>(columns: [(&str, ArrayRef); N]) -> Table {
    Table::from_columns(columns).unwrap()
}

/// A table with a column of first days of months.
pub(crate) fn monthly<const N: usize>(columns: [(&str, ArrayRef); N], month: &str) -> Table {
    table(columns).with_periods(month, Grain::Month).unwrap()
}

pub(crate) fn drawn(draw: &Draw, table: &Table) -> Picture {
    draw.picture_with(table, &Context::new()).unwrap_or_else(|error| panic!("{error}"))
}

/// A picture that was read back.
pub(crate) struct Seen {
    svg: String,
}

impl Seen {
    pub(crate) fn of(picture: &Picture) -> Seen {
        Seen { svg: picture.svg() }
    }

    /// The SVG as XML. It is valid, and fetches nothing.
    pub(crate) fn document(&self) -> Document<'_> {
        let document = Document::parse(&self.svg).expect("an SVG is valid XML");
        for node in document.descendants().filter(Node::is_element) {
            assert!(node.tag_name().name() != "script");
            for attribute in node.attributes() {
                let value = attribute.value();
                assert!(!value.contains("http") && !value.starts_with("data:"), "{value}");
                assert!(!attribute.name().starts_with("on"), "{attribute:?}");
            }
        }
        document
    }
}

/// The elements with this tag that have a class.
pub(crate) fn with_class<'a, 'd>(
    document: &'a Document<'d>,
    tag: &'a str,
    class: &'a str,
) -> Vec<Node<'a, 'd>> {
    document.descendants().filter(|node| node.has_tag_name(tag) && has(node, class)).collect()
}

pub(crate) fn has(node: &Node<'_, '_>, class: &str) -> bool {
    node.attribute("class").is_some_and(|all| all.split(' ').any(|one| one == class))
}

/// The elements inside a group with this class.
pub(crate) fn inside<'a, 'd>(
    document: &'a Document<'d>,
    group: &'a str,
    tag: &'a str,
) -> Vec<Node<'a, 'd>> {
    let is_inside = |node: &Node<'_, '_>| node.ancestors().any(|outer| has(&outer, group));
    document.descendants().filter(|node| node.has_tag_name(tag) && is_inside(node)).collect()
}

pub(crate) fn number(node: &Node<'_, '_>, attribute: &str) -> f64 {
    let text = node.attribute(attribute).unwrap_or_else(|| panic!("no {attribute}: {node:?}"));
    text.parse().unwrap()
}

/// The title of a mark, which is shown on hover.
pub(crate) fn title<'a>(node: &Node<'a, '_>) -> &'a str {
    node.children()
        .find(|child| child.has_tag_name("title"))
        .and_then(|title| title.text())
        .unwrap_or("")
}

/// The text of an element itself.
pub(crate) fn text<'a>(node: &Node<'a, '_>) -> &'a str {
    node.text().unwrap_or("")
}

/// The places of a path: `M1 2L3 4`.
pub(crate) fn places(d: &str) -> Vec<(f64, f64)> {
    let places = d.split(['M', 'L']).filter(|part| !part.is_empty());
    places
        .map(|place| {
            let (x, y) = place.trim_end_matches('Z').split_once(' ').unwrap();
            (x.parse().unwrap(), y.parse().unwrap())
        })
        .collect()
}

/// The vertical scale, from two labels of the axis: converts pixels back to values.
pub(crate) fn values_of(document: &Document<'_>) -> impl Fn(f64) -> f64 + use<> {
    let ticks: Vec<(f64, f64)> = inside(document, "up", "text")
        .iter()
        .filter(|node| has(node, "tick"))
        .map(|node| (number(node, "y") - 4.0, text(node).replace(',', "").parse().unwrap()))
        .collect();
    let (first, last) = (ticks[0], ticks[ticks.len() - 1]);
    move |y| first.1 + (y - first.0) / (last.0 - first.0) * (last.1 - first.1)
}

/// The horizontal scale of days, from two ticks: converts pixels back to day numbers.
pub(crate) fn days_of(document: &Document<'_>) -> impl Fn(f64) -> f64 + use<> {
    let ticks: Vec<(f64, f64)> = with_class(document, "path", "tick")
        .iter()
        .map(|node| {
            let x = places(node.attribute("d").unwrap())[0].0;
            (x, f64::from(day(title(node).get(..10).unwrap())))
        })
        .collect();
    let (first, last) = (ticks[0], ticks[ticks.len() - 1]);
    assert!(last.0 > first.0, "one tick is not enough to read dates back");
    move |x| first.1 + (x - first.0) / (last.0 - first.0) * (last.1 - first.1)
}

/// The lines of a series: each is the places of one path.
pub(crate) fn lines(document: &Document<'_>, series: usize) -> Vec<Vec<(f64, f64)>> {
    let class = format!("l{series}");
    inside(document, "marks", "path")
        .iter()
        .filter(|node| has(node, &class) && has(node, "line"))
        .map(|node| places(node.attribute("d").unwrap()))
        .collect()
}
