//! Nothing that is written covers anything else, at any size.

use crate::{draw::Draw, font};
use jembric_core::{
    Table,
    arrow::{ArrayRef, Date32Array, Float64Array, StringViewArray},
};
use proptest::prelude::*;
use roxmltree::{Document, Node};
use std::sync::Arc;

/// The box of a text, from its place, anchor and size.
fn box_of(node: &Node<'_, '_>) -> (f64, f64, f64, f64) {
    let number = |name: &str| node.attribute(name).unwrap().parse::<f64>().unwrap();
    let class = node.attribute("class").unwrap_or_default();
    let text = node.text().unwrap_or_default();
    let is_foot = node.ancestors().any(|outer| outer.attribute("class") == Some("foot"));
    let (size, width) = match () {
        () if class.contains("title") => (15.0, font::bold_width(text, 15.0)),
        () if class.contains("name") => (12.0, font::bold_width(text, 12.0)),
        () if is_foot => (10.5, font::width(text, 10.5)),
        () => (11.0, font::width(text, 11.0)),
    };
    let x = number("x");
    let left = match node.attribute("text-anchor") {
        Some("end") => x - width,
        Some("middle") => x - width / 2.0,
        _ => x,
    };
    let baseline = number("y");
    (left, baseline - size * 0.75, left + width, baseline + size * 0.2)
}

/// Errors: two texts overlap, or one leaves the paper.
fn expect_apart(svg: &str) -> Result<(), TestCaseError> {
    let document = Document::parse(svg).unwrap();
    let root = document.root_element();
    let size = |name: &str| root.attribute(name).unwrap().parse::<f64>().unwrap();
    let (width, height) = (size("width"), size("height"));
    let texts = document.descendants().filter(|node| node.has_tag_name("text"));
    // A reference line is named above the line, where marks may be as well.
    let texts = texts.filter(|node| !node.attribute("class").unwrap_or_default().contains("halo"));
    let boxes: Vec<_> =
        texts.map(|node| (box_of(&node), node.text().unwrap_or_default())).collect();
    for (n, (one, text)) in boxes.iter().enumerate() {
        prop_assert!(
            one.0 >= -1.0 && one.2 <= width + 1.0 && one.1 >= 0.0 && one.3 <= height,
            "`{text}` leaves the paper: {one:?} of {width}x{height}"
        );
        for (other, other_text) in &boxes[..n] {
            let apart =
                one.2 <= other.0 || other.2 <= one.0 || one.3 <= other.1 || other.3 <= one.1;
            prop_assert!(apart, "`{text}` covers `{other_text}`");
        }
    }
    Ok(())
}

fn table(rows: &[(i32, f64, String)]) -> Table {
    let day: ArrayRef = Arc::new(Date32Array::from_iter(rows.iter().map(|row| Some(row.0))));
    let until = rows.iter().map(|row| Some(row.0 + row.1.abs() as i32 % 50));
    let until: ArrayRef = Arc::new(Date32Array::from_iter(until));
    let value: ArrayRef = Arc::new(Float64Array::from_iter(rows.iter().map(|row| Some(row.1))));
    let name: ArrayRef =
        Arc::new(StringViewArray::from_iter(rows.iter().map(|row| Some(row.2.as_str()))));
    Table::from_columns([("day", day), ("until", until), ("value", value), ("name", name)]).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn no_two_texts_overlap(
        rows in prop::collection::vec(
            (-700_000_i32..2_900_000, -1e7_f64..1e7, "[A-Za-z ]{1,40}"), 1..12),
        narrow in any::<bool>(),
        form in 0_usize..6,
        width in 320_u32..2_400,
        height in 200_u32..1_400,
        apart in any::<bool>(),
    ) {
        // Either any dates of the calendar, or a few days.
        let rows: Vec<_> = rows.into_iter().map(|(day, value, name)| {
            (if narrow { day.rem_euclid(40) } else { day.clamp(-700_000, 2_900_000) }, value, name)
        }).collect();
        let form = crate::kinds::Form::WORDS[form];
        let mut draw = Draw::new().size(crate::kinds::Size { width, height });
        draw.form = crate::kinds::Form::WORDS.iter().position(|word| *word == form).map(|n| {
            use crate::kinds::Form::*;
            [Lines, Steps, Bars, Dots, Intervals, Calendar][n]
        });
        if apart {
            draw = draw.apart("name");
        } else if form != "calendar" {
            draw = draw.per(["name"]);
        }
        if form != "intervals" {
            draw = draw.along("day").of(["value"]);
        }
        match draw.picture(&table(&rows)) {
            Ok(picture) => expect_apart(&picture.svg())?,
            Err(error) => prop_assert!(error.to_string().contains("limit"), "{error}"),
        }
        // Classes along the axis.
        if form == "bars" && !apart {
            let classes = Draw::new().form(crate::kinds::Form::Bars).along("name").of(["value"]);
            let classes = classes.size(crate::kinds::Size { width, height });
            expect_apart(&classes.picture(&table(&rows)).unwrap().svg())?;
        }
    }
}
